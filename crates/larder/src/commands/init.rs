//! `larder init`: a commented configuration to start from.

use schemars::JsonSchema;
use serde::Serialize;
use std::io::{BufRead as _, IsTerminal as _, Write as _};
use std::path::PathBuf;

use crate::config::Provenance;
use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};

mod kubernetes;
mod surveyed;

pub use kubernetes::ManifestsReport;

const TEMPLATE: &str = include_str!("../../assets/larder.toml");

/// Write a commented larder.toml, and make its store
///
/// A file that is there already is never touched: then only the store is made, where there is none. With --survey it names
/// the registries and images that deployments name, and marks what only a person can say. On a terminal it asks for what is
/// not given.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Example:\n  larder init --survey deploy/ --name emberfall --url https://larder.emberfall.example"
)]
pub struct Args {
    /// Where to write it; `-` prints it
    #[arg(default_value = "larder.toml")]
    path: PathBuf,
    /// What the larder is called in records, parcels and figures
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// How clusters reach it
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// Write what these files and folders of deployments name: registries, classes, and an intake entry for each image
    #[arg(long, value_name = "PATH", num_args = 1..)]
    survey: Vec<PathBuf>,
    /// With --survey: a cached shelf for each registry instead of intake entries
    #[arg(long, requires = "survey")]
    cache: bool,
    #[command(flatten)]
    cluster: kubernetes::ClusterArgs,
}

/// Where the template goes on with what deployments would say.
const REST: &str = "# Where third-party images come from.";
/// What the template says where nothing is given.
const NAME: &str = "larder";
const URL: &str = "http://localhost:5080";

/// What is not given is asked for on a terminal, and is the usual otherwise.
fn answer(given: Option<&String>, question: &str, usual: &str) -> Result<String, Failure> {
    if let Some(given) = given {
        return Ok(given.clone());
    }
    if !(std::io::stdin().is_terminal() && std::io::stderr().is_terminal()) {
        return Ok(usual.to_owned());
    }
    let mut asked = std::io::stderr().lock();
    let written = write!(asked, "{question} [{usual}]: ").and_then(|()| asked.flush());
    written.map_err(|error| Failure::io("cannot ask", &error))?;
    let mut line = String::new();
    let read = std::io::stdin().lock().read_line(&mut line);
    read.map_err(|error| Failure::io("cannot read the answer", &error))?;
    let line = line.trim();
    Ok(if line.is_empty() { usual.to_owned() } else { line.to_owned() })
}

/// The text of the configuration.
fn text(args: &Args, context: &Context) -> Result<String, Failure> {
    let printed = args.path.as_os_str() == "-";
    let ask = |given: Option<&String>, question: &str, usual: &str| match printed {
        true => Ok(given.cloned().unwrap_or_else(|| usual.to_owned())),
        false => answer(given, question, usual),
    };
    let name = ask(args.name.as_ref(), "what is the larder called", NAME)?;
    let url = ask(args.url.as_ref(), "how do clusters reach it", URL)?;
    let quoted = |text: &str| toml_edit::Value::from(text).to_string();
    let mut text = TEMPLATE
        .replacen(&format!("name = \"{NAME}\" "), &format!("name = {} ", quoted(&name)), 1)
        .replacen(&format!("url = \"{URL}\" "), &format!("url = {} ", quoted(&url)), 1);
    if !args.survey.is_empty() {
        let begun = surveyed::begin(&args.survey, &url, args.cache, context)?;
        text.truncate(text.find(REST).unwrap_or(text.len()));
        text.push_str(&begun);
    }
    Ok(text)
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    if args.cluster.is_asked() {
        return kubernetes::run(&args.cluster, args.name.as_ref(), args.url.as_ref(), context);
    }
    if args.path.as_os_str() == "-" {
        context.output.raw(text(args, context)?.as_bytes());
        return Ok(Exit::Done);
    }
    let says_more = args.name.is_some() || args.url.is_some() || !args.survey.is_empty();
    if args.path.exists() && says_more {
        let what = format!("cannot write {}", larder_transfer::files::named(&args.path));
        let remedy = "edit that one, or name another path; `larder init -` prints a fresh one";
        return Err(Failure::usage(what, "there is such a file already", remedy));
    }
    let text = if args.path.exists() { String::new() } else { text(args, context)? };
    prove(&args.path, &text)?;
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
    file.write_all(text.as_bytes()).map_err(|error| Failure::io(what(), &error))?;
    let data = make_store(&args.path)?;
    context.output.tell(&InitReport { written: Some(args.path.clone()), store: data });
    Ok(Exit::Done)
}

/// What a text is as a configuration, before anything is written. None: it is empty.
fn prove(path: &std::path::Path, text: &str) -> Result<Option<ProvenNames>, Failure> {
    if text.is_empty() {
        return Ok(None);
    }
    let what = || format!("cannot write {}", larder_transfer::files::named(path));
    let io = |error: std::io::Error| Failure::io(what(), &error);
    let folder = tempfile::tempdir().map_err(io)?;
    let there = folder.path().join("larder.toml");
    std::fs::write(&there, text).map_err(io)?;
    let proven = crate::config::load(&there, Provenance::Named).map(|config| {
        let url = &config.larder.url;
        let host = url.host.to_string();
        let usual = if url.endpoint.is_https() { 443 } else { 80 };
        let port = host.rsplit_once(':').and_then(|(_, port)| port.parse().ok());
        ProvenNames { port: port.unwrap_or(usual), host }
    });
    proven.map(Some).map_err(|failure| {
        let named = larder_transfer::files::named(&there);
        let cause = format!("{}: {}", failure.what.replace(&named, "it"), failure.cause);
        Failure::usage(what(), cause.replace(&named, "it"), failure.remedy)
    })
}

/// How clusters reach a larder, by a configuration that can be read.
struct ProvenNames {
    host: String,
    port: u16,
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
