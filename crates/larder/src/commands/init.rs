//! `larder init`: a commented configuration to start from.

use schemars::JsonSchema;
use serde::Serialize;
use std::io::Write as _;
use std::path::PathBuf;

use crate::config::Provenance;
use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};

const TEMPLATE: &str = include_str!("../../assets/larder.toml");

/// Write a commented larder.toml, and make its store
///
/// A file that is there already is never touched: then only the store is made, where there is none.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Where to write it; `-` prints it
    #[arg(default_value = "larder.toml")]
    path: PathBuf,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    if args.path.as_os_str() == "-" {
        context.output.raw(TEMPLATE.as_bytes());
        return Ok(Exit::Done);
    }
    let what = || format!("cannot write {}", larder_transfer::files::named(&args.path));
    let mut file = match std::fs::File::create_new(&args.path) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            if let Some(data) = make_store(&args.path)? {
                context.output.tell(&InitReport { written: None, store: Some(data) });
                return Ok(Exit::Done);
            }
            let remedy = "edit that one, or name another path; `larder init -` prints a fresh one";
            return Err(Failure::usage(what(), "there is such a file already", remedy));
        }
        Err(error) => return Err(Failure::io(what(), &error)),
    };
    file.write_all(TEMPLATE.as_bytes()).map_err(|error| Failure::io(what(), &error))?;
    let data = make_store(&args.path)?;
    context.output.tell(&InitReport { written: Some(args.path.clone()), store: data });
    Ok(Exit::Done)
}

/// Makes the store of a configuration. None: there is one already.
fn make_store(path: &std::path::Path) -> Result<Option<PathBuf>, Failure> {
    let mut config = crate::config::load(path, Provenance::Named)?;
    let data = config.data();
    if larder_store::Store::is_local(&data) {
        return Ok(None);
    }
    config.new_store = true;
    open_store(&config)?;
    Ok(Some(data))
}

#[derive(Serialize, JsonSchema)]
pub struct InitReport {
    /// The configuration that was written. None: it was there already.
    written: Option<PathBuf>,
    /// The store that was made. None: it was there already.
    store: Option<PathBuf>,
}

impl Report for InitReport {
    const KIND: &'static str = "init";

    fn show(&self, out: &Output) {
        if let Some(path) = &self.written {
            out.result(format!("wrote {}", larder_transfer::files::named(path)));
        }
        if let Some(store) = &self.store {
            out.result(format!("made the store in {}", larder_transfer::files::named(store)));
        }
        if self.written.is_some() {
            out.note(
                "Edit it, then `larder check` tells whether the upstreams can be reached. Another `data` gets its store by `larder init` again.",
            );
        }
    }
}
