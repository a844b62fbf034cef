//! `larder help`: a command's options, or the page of a cause. An installed program has no `docs/` beside it.

use clap::CommandFactory as _;
use larder_core::diagnosis::Cause;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, STRONG, paint};

/// Say how a command is used, or what a cause of `larder why` means
///
/// `larder help why` shows a command's options; `larder help cause` lists all causes, and `larder help cause
/// NAME` prints the page of one.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A command, or `cause` and the name of one
    #[arg(value_name = "COMMAND|cause NAME")]
    words: Vec<String>,
}

macro_rules! pages {
    ($($word:literal)*) => {
        /// The pages of the causes, by their words.
        const PAGES: &[(&str, &str)] = &[
            $(($word, include_str!(concat!("../../../../docs/causes/", $word, ".md")))),*
        ];
    };
}

pages! {
    "absent-or-hidden"
    "bad-digest"
    "blank"
    "blob-corrupt"
    "blob-length"
    "blob-missing"
    "blocked"
    "captive-page"
    "certificate-early"
    "certificate-expired"
    "child-missing"
    "client-certificate"
    "connection-refused"
    "connection-reset"
    "connection-timeout"
    "digest-missing"
    "disk-full"
    "failing"
    "forbidden"
    "grant-missing"
    "image-too-large"
    "key-expired"
    "key-revoked"
    "key-unknown"
    "malformed"
    "manifest-odd"
    "manifest-too-large"
    "mirror-file"
    "mirror-not-read"
    "mirror-skipped"
    "name-service"
    "never-pulled"
    "no-credential"
    "no-image"
    "no-repository"
    "no-shelf"
    "not-brought-in"
    "not-http"
    "not-linked"
    "odd-head"
    "outside-shelf"
    "placeholder"
    "plain-http"
    "platform-missing"
    "proxy"
    "rate-limited"
    "read-only"
    "redirect-loop"
    "removed"
    "repository-missing"
    "rule-denies"
    "scheme"
    "secret-disagrees"
    "secret-elsewhere"
    "secret-host"
    "secret-missing"
    "secret-type"
    "secret-unreadable"
    "short-name"
    "snapshotter"
    "stale-served"
    "stalled"
    "strange-node"
    "stream-cut"
    "tag-missing"
    "tag-moved"
    "token-down"
    "token-odd"
    "token-refused"
    "token-without-access"
    "too-many-files"
    "unknown-authority"
    "unknown-host"
    "upper-case"
    "upstream-down"
    "wants-tls"
    "wrong-architecture"
    "wrong-credential"
    "wrong-name"
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let words: Vec<&str> = args.words.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["cause"] => Ok(causes(context)),
        ["cause", name] => cause(name, context),
        words => command(words, context),
    }
}

fn causes(context: &Context) -> Exit {
    if context.output.json {
        let all: Vec<_> = Cause::ALL
            .iter()
            .map(|one| serde_json::json!({ "cause": one.word(), "step": one.step().word(), "title": one.title() }))
            .collect();
        context.output.document(&serde_json::json!({ "causes": all }));
        return Exit::Done;
    }
    for one in Cause::ALL {
        let step = paint(DIM, format!("{:<10}", one.step().word()));
        context.output.result(format!("{step} {:<22} {}", one.word(), one.title()));
    }
    Exit::Done
}

fn cause(name: &str, context: &Context) -> Outcome {
    let Some((word, page)) = PAGES.iter().find(|(word, _)| *word == name) else {
        let words = PAGES.iter().map(|(word, _)| *word);
        let near = larder_core::nearest::nearest(name, words);
        let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        let cause = format!("there is no cause `{}`{near}", name.escape_debug());
        return Err(Failure::usage("cannot help", cause, "`larder help cause` lists them all"));
    };
    if context.output.json {
        context.output.document(&serde_json::json!({ "cause": word, "page": page }));
        return Ok(Exit::Done);
    }
    let plain = page.lines().filter(|line| !line.starts_with("Back to [")).map(|line| {
        match line.strip_prefix("# ") {
            Some(title) => paint(STRONG, title),
            None => line.replace("**", "").replace(" *", " ").replace("*.", "."),
        }
    });
    context.output.result(plain.collect::<Vec<_>>().join("\n").trim_end());
    Ok(Exit::Done)
}

fn command(words: &[&str], context: &Context) -> Outcome {
    let mut all = crate::Cli::command();
    all.build();
    let mut found = &mut all;
    for word in words {
        found = match found.find_subcommand_mut(word) {
            Some(next) => next,
            None => {
                let cause = format!("there is no command `{}`", word.escape_debug());
                return Err(Failure::usage("cannot help", cause, "`larder help` lists them all"));
            }
        };
    }
    context.output.result(found.render_long_help().to_string().trim_end());
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
