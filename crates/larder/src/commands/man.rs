//! `larder man`: the manual pages.

use std::path::{Path, PathBuf};

use clap::Command;
use clap_mangen::Man;
use larder_transfer::files::named;
use schemars::JsonSchema;
use serde::Serialize;

use super::help::configuration::{Block, PAGE, blocks, plain};
use super::help::find;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, count};

/// What the pages are of.
const MANUAL: &str = "Iron Larder";
/// The page of the configuration.
const CONFIGURATION: &str = "larder.toml.5";

/// Write the manual pages for `man`
///
/// Without a folder it prints one page: `larder man shelf drop | man -l -`. The packages have all of them in place, and
/// `larder.toml(5)` for the configuration.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The command whose page is printed; `configuration` prints larder.toml(5)
    #[arg(value_name = "COMMAND", conflicts_with = "into")]
    words: Vec<String>,
    /// Write all pages into this folder
    #[arg(long, value_name = "FOLDER")]
    into: Option<PathBuf>,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let what = || "cannot write the manual pages".to_owned();
    let fault = |error: std::io::Error| Failure::io(what(), &error);
    let Some(folder) = &args.into else {
        let page = match args.words.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
            ["configuration"] => configuration(),
            words => page(find(words)?).map_err(fault)?,
        };
        context.output.raw(&page);
        return Ok(Exit::Done);
    };
    std::fs::create_dir_all(folder)
        .map_err(|error| Failure::io(format!("cannot make {}", named(folder)), &error))?;
    let mut pages = vec![(CONFIGURATION.to_owned(), configuration())];
    for command in all(find(&[])?) {
        pages.push((format!("{}.1", name(&command)), page(command).map_err(fault)?));
    }
    pages.sort();
    for (name, text) in &pages {
        write(&folder.join(name), text)?;
    }
    let pages = pages.into_iter().map(|(name, _)| name).collect();
    context.output.tell(&ManReport { folder: folder.display().to_string(), pages });
    Ok(Exit::Done)
}

fn write(path: &Path, text: &[u8]) -> Result<(), Failure> {
    let fault = |error| Failure::io(format!("cannot write {}", named(path)), &error);
    // A page is replaced, never written through a link that somebody put there.
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(fault(error)),
        _ => {}
    }
    let mut file = std::fs::File::create_new(path).map_err(fault)?;
    std::io::Write::write_all(&mut file, text).map_err(fault)
}

/// Which pages were written.
#[derive(Serialize, JsonSchema)]
pub struct ManReport {
    folder: String,
    pages: Vec<String>,
}

impl Report for ManReport {
    const KIND: &'static str = "man";

    fn show(&self, out: &Output) {
        out.result(format!("{} written to {}", count(self.pages.len(), "page"), self.folder));
    }
}

/// A command and all below it.
fn all(command: Command) -> Vec<Command> {
    let below: Vec<Command> = command.get_subcommands().cloned().collect();
    let mut pages = vec![command];
    pages.extend(below.into_iter().flat_map(all));
    pages
}

/// The name of a command's page: `larder-shelf-drop`.
fn name(command: &Command) -> String {
    command.get_display_name().unwrap_or(command.get_name()).to_owned()
}

fn page(command: Command) -> std::io::Result<Vec<u8>> {
    let version = env!("CARGO_PKG_VERSION");
    let title = name(&command).to_uppercase();
    // A page that is made twice is the same twice, so it bears no date.
    let man = Man::new(command).title(title).manual(MANUAL).date(" ");
    let man = man.source(format!("larder {version}"));
    let mut text = Vec::new();
    man.render(&mut text)?;
    Ok(text)
}

/// The page of larder.toml.
fn configuration() -> Vec<u8> {
    let version = env!("CARGO_PKG_VERSION");
    let mut page = format!(".TH LARDER.TOML 5 \"\" \"larder {version}\" \"{MANUAL}\"\n");
    page.push_str(".SH NAME\nlarder.toml \\- the configuration of larder(1)\n.SH DESCRIPTION\n");
    for (place, part) in PAGE.split("\n## ").enumerate() {
        let (head, text) = part.split_once('\n').unwrap_or((part, ""));
        if place > 0 {
            page.push_str(&format!(".SH \"{}\"\n", escaped(&plain(head))));
        }
        for block in blocks(text) {
            match block {
                Block::Key { key, default, meaning } => {
                    let (key, default) = (escaped(&key), escaped(&default));
                    let meaning = escaped(&meaning);
                    page.push_str(&format!(".TP\n\\fB{key}\\fR ({default})\n{meaning}\n"));
                }
                Block::Code(text) => {
                    let text: Vec<String> = text.lines().map(escaped).collect();
                    page.push_str(&format!(".PP\n.nf\n{}\n.fi\n", text.join("\n")));
                }
                Block::Paragraph(text) => page.push_str(&format!(".PP\n{}\n", escaped(&text))),
            }
        }
    }
    page.push_str(".SH SEE ALSO\nlarder(1), larder\\-init(1), larder\\-check(1)\n");
    page.into_bytes()
}

/// A text that `man` shows as it is: no control line, no escape (groff(7)).
fn escaped(text: &str) -> String {
    let text = text.replace('\\', "\\e").replace('-', "\\-").replace('"', "\\(dq");
    match text.starts_with(['.', '\'']) {
        true => format!("\\&{text}"),
        false => text,
    }
}
