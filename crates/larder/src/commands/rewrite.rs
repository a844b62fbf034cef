//! `larder rewrite`: make deployments name the larder's images, and change nothing else in them.

use std::io::Read as _;
use std::path::PathBuf;

use larder_core::lock::Lock;
use larder_core::rewrite::{Access, Edit, FILE_LIMIT, Finding, scan, splice};
use larder_core::route::{Routes, Standing};
use serde::Serialize;
use similar::{ChangeTag, TextDiff};

use super::files::{self, Broken};
use crate::config::Config;
use crate::context::{Context, read_lock, read_reference};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GONE, GOOD, WARN, count, paint};

/// Make deployments name the larder's images, and change nothing else in them
///
/// Exit status 1 says that a reference has no route (it is left as it is), or with --check that
/// something would change.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Files and folders; `-` reads one file from stdin and writes it to stdout
    #[arg(required = true)]
    paths: Vec<PathBuf>,
    /// Show what would change as a unified diff (the default)
    #[arg(long, group = "mode")]
    diff: bool,
    /// Change the files
    #[arg(long, group = "mode")]
    write: bool,
    /// Say line by line what would change, and exit with 1 if anything would
    #[arg(long, group = "mode")]
    check: bool,
    /// Add the digest from the lock
    #[arg(long)]
    pin: bool,
}

/// What is to become of one finding.
#[derive(Serialize)]
struct Line {
    file: String,
    #[serde(rename = "line")]
    row: usize,
    column: usize,
    from: String,
    /// The new text. None: it is left as it is.
    to: Option<String>,
    /// Why it is left. None: it is changed, or right already.
    left: Option<String>,
    /// Whether that it is left is an answer of "no".
    #[serde(skip)]
    counts: bool,
}

struct Rewriter<'r> {
    config: &'r Config,
    routes: Routes,
    lock: Lock,
    pin: bool,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let rewriter = Rewriter { routes: config.routes(), config: &config, lock, pin: args.pin };
    if args.paths.iter().any(|path| path.as_os_str() == "-") {
        return filter(args, &rewriter, context);
    }
    let (deployments, mut broken) = files::read(&args.paths);
    let mut lines = Vec::new();
    let mut changed = 0;
    for deployment in &deployments {
        if deployment.scan.template {
            context
                .output
                .note(format!("note: {} is a template and is left alone", deployment.shown));
        }
        let (edits, found) = rewriter.decide(&deployment.shown, &deployment.scan.findings);
        lines.extend(found);
        if edits.is_empty() {
            continue;
        }
        let file = &deployment.shown;
        let new = match splice(&deployment.text, &edits) {
            Ok(new) => new,
            Err(error) => {
                broken.push(Broken {
                    file: file.clone(),
                    cause: format!("nothing was changed: {error}"),
                });
                continue;
            }
        };
        changed += 1;
        if args.write {
            if let Err(cause) = write(&deployment.path, &deployment.text, &new) {
                changed -= 1;
                broken.push(Broken { file: file.clone(), cause });
            }
        } else if !args.check && !context.output.json {
            context.output.result(unified(file, &deployment.text, &new).trim_end());
        }
    }
    if context.output.json {
        let changes: Vec<&Line> =
            lines.iter().filter(|line| line.to.is_some() || line.left.is_some()).collect();
        context.output.document(&serde_json::json!({ "files": deployments.len(), "changed": changed, "written": args.write, "references": changes, "broken": broken }));
    } else {
        show(args, &lines, deployments.len(), changed, context);
        for Broken { file, cause } in &broken {
            context.output.note(format!("{} {file}: {cause}", paint(BAD, "broken:")));
        }
    }
    let refused = !broken.is_empty() || lines.iter().any(|line| line.counts);
    let differs = args.check && lines.iter().any(|line| line.to.is_some());
    Ok(if refused || differs { Exit::No } else { Exit::Done })
}

impl Rewriter<'_> {
    /// Decides what becomes of each finding of a file.
    fn decide(&self, file: &str, findings: &[Finding]) -> (Vec<Edit>, Vec<Line>) {
        let mut edits = Vec::new();
        let mut lines = Vec::new();
        for finding in findings {
            let mut line = Line {
                file: file.to_owned(),
                row: finding.position.line,
                column: finding.position.column,
                from: finding.text.clone(),
                to: None,
                left: None,
                counts: false,
            };
            match (self.wanted(&finding.text), &finding.access) {
                (Ok(None), _) => {}
                (Ok(Some(new)), Access::Edit(slot)) => {
                    edits.push(Edit { slot: slot.clone(), text: new.clone() });
                    line.to = Some(new);
                }
                (Ok(Some(_)), Access::Leave(why)) => {
                    line.left = Some((*why).to_owned());
                    line.counts = true;
                }
                (Err(left), _) => {
                    line.counts = !left.placeholder;
                    line.left = Some(left.why);
                }
            }
            lines.push(line);
        }
        (edits, lines)
    }

    /// The new text of a reference. None: it is right already.
    fn wanted(&self, text: &str) -> Result<Option<String>, Left> {
        let reading = read_reference(text, Some(self.config)).map_err(|malformed| Left {
            placeholder: malformed.reason.word() == "placeholder",
            why: match malformed.proposal {
                Some(meant) => format!("{}; meant: {meant}", malformed.reason),
                None => malformed.reason.to_string(),
            },
        })?;
        let reference = reading.reference;
        let mut target = match self.routes.standing(&reference, &self.lock) {
            Standing::Own => reference.clone(),
            Standing::Routed { target, .. } | Standing::Cached { target } => target,
            Standing::NotLocked { locked } => {
                let locked: Vec<&str> = locked.iter().map(larder_core::name::Tag::as_str).collect();
                let why = match locked.is_empty() {
                    true => "wanted, but nothing of it is locked; `larder intake lock`".to_owned(),
                    false => format!("the lock has other tags of it: {}", locked.join(", ")),
                };
                return Err(Left { why, placeholder: false });
            }
            Standing::NoRoute => {
                let why =
                    format!("no route: nothing brings it in; `larder intake add {reference}`");
                return Err(Left { why, placeholder: false });
            }
        };
        if self.pin && target.digest.is_none() {
            target.digest = self.routes.locked_digest(&target, &self.lock);
            if target.digest.is_none() {
                let why = format!("cannot be pinned: the lock does not name {target}");
                return Err(Left { why, placeholder: false });
            }
        }
        let new = target.to_string();
        Ok((new != text).then_some(new))
    }
}

/// Why a reference is left as it is.
struct Left {
    why: String,
    /// A placeholder of a template: no fault of the file.
    placeholder: bool,
}

fn write(path: &std::path::Path, old: &str, new: &str) -> Result<(), String> {
    // Somebody may have saved the file since it was read; their version wins.
    let now = std::fs::read(path).map_err(|error| error.to_string())?;
    if now != old.as_bytes() {
        return Err("it was changed while it was read; nothing was written".into());
    }
    crate::files::replace(path, new.as_bytes()).map_err(|error| error.to_string())
}

fn filter(args: &Args, rewriter: &Rewriter<'_>, context: &Context) -> Outcome {
    let what = "cannot rewrite what comes from stdin";
    if args.paths.len() > 1 || args.write || args.check {
        return Err(Failure::usage(
            what,
            "`-` goes alone, and its result to stdout",
            "leave the other paths and options out",
        ));
    }
    let mut bytes = Vec::new();
    let read = std::io::stdin().take(FILE_LIMIT + 1).read_to_end(&mut bytes);
    read.map_err(|error| Failure::io(what, &error))?;
    if bytes.len() as u64 > FILE_LIMIT {
        return Err(Failure::usage(
            what,
            format!("it is larger than {}", crate::output::bytes(FILE_LIMIT)),
            "",
        ));
    }
    let unreadable = |cause: String| {
        Failure::usage(what, cause, "mend it first; nothing was written").ending(Exit::No)
    };
    let text = String::from_utf8(bytes).map_err(|_| unreadable("it is no UTF-8 text".into()))?;
    let found = scan(&text).map_err(|error| unreadable(error.to_string()))?;
    let (edits, lines) = rewriter.decide("stdin", &found.findings);
    let new = splice(&text, &edits).map_err(|error| unreadable(error.to_string()))?;
    context.output.raw(&new);
    report_left(&lines, context);
    Ok(if lines.iter().any(|line| line.counts) { Exit::No } else { Exit::Done })
}

fn show(args: &Args, lines: &[Line], files: usize, changed: usize, context: &Context) {
    if args.check {
        for line in lines {
            if let Some(to) = &line.to {
                context.output.result(format!(
                    "{}:{}:{}: {} -> {to}",
                    line.file, line.row, line.column, line.from
                ));
            }
        }
    }
    report_left(lines, context);
    let references = lines.iter().filter(|line| line.to.is_some()).count();
    let verb = if args.write { "changed" } else { "would change" };
    let left = lines.iter().filter(|line| line.left.is_some()).count();
    let text = match references {
        0 => format!("nothing to change in {}", count(files, "file")),
        _ => format!(
            "{} {verb} in {changed} of {}",
            count(references, "reference"),
            count(files, "file")
        ),
    };
    let left = if left > 0 { format!("; {left} left as they are") } else { String::new() };
    context.output.note(format!("{}{left}", paint(GOOD, text)));
    if references > 0 && !args.write && !args.check {
        context.output.note("`--write` changes the files.");
    }
}

fn report_left(lines: &[Line], context: &Context) {
    for line in lines {
        if let Some(why) = &line.left {
            let Line { file, row, column, from, .. } = line;
            let from: String = from.chars().flat_map(char::escape_debug).collect();
            context
                .output
                .note(format!("{} {file}:{row}:{column}: {from}: {why}", paint(WARN, "left:")));
        }
    }
}

/// A unified diff with three lines of surroundings.
fn unified(file: &str, old: &str, new: &str) -> String {
    let diff = TextDiff::from_lines(old, new);
    let mut text = format!(
        "{}\n{}\n",
        paint(DIM, format!("--- a/{file}")),
        paint(DIM, format!("+++ b/{file}"))
    );
    for hunk in diff.unified_diff().context_radius(3).iter_hunks() {
        text.push_str(&format!("{}\n", paint(DIM, hunk.header())));
        for change in hunk.iter_changes() {
            let line = change.value().trim_end_matches(['\n', '\r']);
            text.push_str(&match change.tag() {
                ChangeTag::Delete => paint(GONE, format!("-{line}")),
                ChangeTag::Insert => paint(GOOD, format!("+{line}")),
                ChangeTag::Equal => format!(" {line}"),
            });
            text.push('\n');
            if change.missing_newline() {
                text.push_str("\\ No newline at end of file\n");
            }
        }
    }
    text
}
