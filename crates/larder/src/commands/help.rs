//! `larder help`: a command's options, or the page of a cause, of a document, of a table of the configuration. An
//! installed program has no `docs/` beside it.

use clap::CommandFactory as _;
use larder_core::diagnosis::Cause;
use schemars::JsonSchema;
use serde::Serialize;

use super::documents::{ALL, DocumentKind};
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, Output, Report, STRONG, paint};
use pages::PAGES;

pub mod configuration;
mod pages;

pub use configuration::configuration_parts;

/// Say how a command is used, what a cause of `larder why` means, or what is in a JSON document
///
/// `larder help why` shows a command's options; `larder help cause` lists all causes, and `larder help cause
/// NAME` prints the page of one. `larder help json` lists the documents that `--json` prints, and `larder help json
/// KIND` prints the JSON Schema of one. `larder help configuration` lists the tables of larder.toml, and `larder help
/// configuration TABLE` says what stands in one.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A command; `cause` and the name of one; `json` and the kind of a document; `configuration` and a table
    #[arg(value_name = "COMMAND|cause NAME|json KIND|configuration TABLE")]
    words: Vec<String>,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let words: Vec<&str> = args.words.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["cause"] => Ok(causes(context)),
        ["cause", name] => cause(name, context),
        ["json"] => Ok(documents(context)),
        ["json", kind] => document(kind, context),
        ["configuration"] => Ok(configuration::all(context)),
        ["configuration", name] => configuration::one(name, context),
        words => command(words, context),
    }
}

fn documents(context: &Context) -> Exit {
    let line = |one: &DocumentKind| DocumentLine { document: one.kind, commands: one.commands };
    context.output.tell(&Documents { documents: ALL.iter().map(line).collect() });
    Exit::Done
}

/// Prints the schema of a document.
fn document(kind: &str, context: &Context) -> Outcome {
    let Some(known) = ALL.iter().find(|one| one.kind == kind) else {
        let near = larder_core::nearest::nearest(kind, ALL.iter().map(|one| one.kind));
        let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        let cause = format!("there is no document `{}`{near}", kind.escape_debug());
        return Err(Failure::usage("cannot help", cause, "`larder help json` lists them all"));
    };
    context.output.standard_document(&(known.schema)());
    Ok(Exit::Done)
}

/// All documents that `--json` prints.
#[derive(Serialize, JsonSchema)]
pub struct Documents {
    documents: Vec<DocumentLine>,
}

#[derive(Serialize, JsonSchema)]
struct DocumentLine {
    /// Its `kind`.
    document: &'static str,
    /// The commands that print it.
    commands: &'static str,
}

impl Report for Documents {
    const KIND: &'static str = "documents";

    fn show(&self, out: &Output) {
        for DocumentLine { document, commands } in &self.documents {
            out.result(format!("{document:<22} {}", paint(DIM, commands)));
        }
    }
}

fn causes(context: &Context) -> Exit {
    let one =
        |one: &Cause| CauseLine { cause: one.word(), step: one.step().word(), title: one.title() };
    context.output.tell(&Causes { causes: Cause::ALL.iter().map(one).collect() });
    Exit::Done
}

#[derive(Serialize, JsonSchema)]
pub struct Causes {
    causes: Vec<CauseLine>,
}

#[derive(Serialize, JsonSchema)]
struct CauseLine {
    cause: &'static str,
    step: &'static str,
    title: &'static str,
}

impl Report for Causes {
    const KIND: &'static str = "causes";

    fn show(&self, out: &Output) {
        for CauseLine { cause, step, title } in &self.causes {
            let step = paint(DIM, format!("{step:<10}"));
            out.result(format!("{step} {cause:<22} {title}"));
        }
    }
}

#[derive(Serialize, JsonSchema)]
pub struct CausePage {
    cause: &'static str,
    /// The page as Markdown.
    page: &'static str,
}

impl Report for CausePage {
    const KIND: &'static str = "cause";

    fn show(&self, out: &Output) {
        let lines = self.page.lines().filter(|line| !line.starts_with("Back to ["));
        let plain = lines.map(|line| match line.strip_prefix("# ") {
            Some(title) => paint(STRONG, title),
            None => line.replace("**", "").replace(" *", " ").replace("*.", "."),
        });
        out.result(plain.collect::<Vec<_>>().join("\n").trim_end());
    }
}

fn cause(name: &str, context: &Context) -> Outcome {
    let Some((word, page)) = PAGES.iter().find(|(word, _)| *word == name) else {
        let words = PAGES.iter().map(|(word, _)| *word);
        let near = larder_core::nearest::nearest(name, words);
        let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        let cause = format!("there is no cause `{}`{near}", name.escape_debug());
        return Err(Failure::usage("cannot help", cause, "`larder help cause` lists them all"));
    };
    context.output.tell(&CausePage { cause: word, page });
    Ok(Exit::Done)
}

/// The command of some words, as it is when it is called.
pub fn find(words: &[&str]) -> Result<clap::Command, Failure> {
    let mut found = crate::Cli::command();
    found.build();
    for word in words {
        let Some(next) = found.find_subcommand(word) else {
            let cause = format!("there is no command `{}`", word.escape_debug());
            return Err(Failure::usage("cannot help", cause, "`larder help` lists them all"));
        };
        found = next.clone();
    }
    Ok(found)
}

fn command(words: &[&str], context: &Context) -> Outcome {
    context.output.result(find(words)?.render_long_help().to_string().trim_end());
    Ok(Exit::Done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_cause_has_its_page() {
        for one in Cause::ALL {
            let page = PAGES.iter().find(|(word, _)| *word == one.word());
            let (_, page) = page.unwrap_or_else(|| panic!("{} has no page", one.word()));
            let head = format!("Cause `{}`, at the step *{}*.", one.word(), one.step().word());
            assert!(page.contains(&head), "{}", one.word());
            for part in ["**What the cluster shows:**", "**What it is:**", "**What to do:**"] {
                assert!(page.contains(part), "{}: {part}", one.word());
            }
        }
        assert_eq!(PAGES.len(), Cause::ALL.len());
    }
}
