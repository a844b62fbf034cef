//! `larder init`: a commented configuration to start from.

use std::io::Write as _;
use std::path::PathBuf;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};

const TEMPLATE: &str = include_str!("../../assets/larder.toml");

/// Write a commented larder.toml
///
/// A file that is there already is never touched.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Where to write it; `-` prints it
    #[arg(default_value = "larder.toml")]
    path: PathBuf,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    if args.path.as_os_str() == "-" {
        context.output.raw(TEMPLATE);
        return Ok(Exit::Done);
    }
    let what = || format!("cannot write {}", crate::files::named(&args.path));
    let mut file = match std::fs::File::create_new(&args.path) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            let remedy = "edit that one, or name another path; `larder init -` prints a fresh one";
            return Err(Failure::usage(what(), "there is such a file already", remedy));
        }
        Err(error) => return Err(Failure::io(what(), &error)),
    };
    file.write_all(TEMPLATE.as_bytes()).map_err(|error| Failure::io(what(), &error))?;
    if context.output.json {
        context.output.document(&serde_json::json!({ "written": args.path }));
    } else {
        context.output.result(format!("wrote {}", crate::files::named(&args.path)));
        context
            .output
            .note("Edit it, then `larder check` tells whether the upstreams can be reached.");
    }
    Ok(Exit::Done)
}
