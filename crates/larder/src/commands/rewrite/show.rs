//! What `larder rewrite` says: as a diff, as lines for editors, for code hosts, as JSON.

use larder_core::shown::cut;
use serde_json::json;
use std::time::Duration;

use similar::{ChangeTag, TextDiff};

use super::{Args, Format, RewriteLine, RewriteReport, Rewritten};
use crate::context::Context;
use crate::deployments::BrokenFile;
use crate::output::{BAD, DIM, GONE, GOOD, Output, WARN, count, paint};

/// What people see beside the document.
#[derive(Default)]
pub(super) struct RewriteShown {
    check: bool,
    format: Format,
    /// Everything that was found, also what is right already.
    lines: Vec<RewriteLine>,
    diffs: Vec<String>,
    templates: Vec<String>,
}

/// Gives what becomes of all files.
pub(super) fn all(args: &Args, files: Vec<Rewritten>, broken: Vec<BrokenFile>, context: &Context) {
    let mut shown =
        RewriteShown { check: args.check, format: args.format, ..RewriteShown::default() };
    let (count, changed) = (files.len(), files.iter().filter(|file| file.changed).count());
    for file in files {
        shown.templates.extend(file.template.then(|| file.file.clone()));
        shown.diffs.extend(file.diff);
        shown.lines.extend(file.lines);
    }
    let references = shown.lines.iter().filter(|line| line.is_told()).cloned().collect();
    let written = args.write;
    context.output.tell(&RewriteReport {
        files: count,
        changed,
        written,
        references,
        broken,
        text: None,
        shown,
    });
}

/// Gives what becomes of a text from stdin.
pub(super) fn filtered(lines: Vec<RewriteLine>, changed: bool, text: &str, context: &Context) {
    let references = lines.iter().filter(|line| line.is_told()).cloned().collect();
    context.output.tell(&RewriteReport {
        files: 1,
        changed: usize::from(changed),
        written: false,
        references,
        broken: Vec::new(),
        text: Some(text.to_owned()),
        shown: RewriteShown { lines, ..RewriteShown::default() },
    });
}

pub(super) fn report(report: &RewriteReport, out: &Output) {
    let RewriteReport { files, changed, written, broken, text, shown, .. } = report;
    let lines: Vec<&RewriteLine> = shown.lines.iter().collect();
    if let Some(text) = text {
        out.raw(text.as_bytes());
        return left(&lines, out);
    }
    for diff in &shown.diffs {
        out.result(diff.trim_end());
    }
    if shown.check {
        match shown.format {
            Format::Text => {
                for line in lines.iter().filter(|line| line.to.is_some()) {
                    out.result(format!("{}: {}", at(line), what(line)));
                }
            }
            Format::Github => github(&lines, broken, out),
            Format::Sarif => out.standard_document(&sarif(&lines, broken)),
        }
    }
    left(&lines, out);
    templates(&shown.templates, out);
    let of =
        |what: &str| lines.iter().filter(|line| line.to.is_some() && line.what == what).count();
    let (references, secrets) = (of("reference"), of("secret"));
    let verb = if *written { "changed" } else { "would change" };
    let stay = lines.iter().filter(|line| line.left.is_some()).count();
    let told = match (references, secrets) {
        (0, 0) => None,
        (_, 0) => Some(count(references, "reference")),
        (0, _) => Some(count(secrets, "pull secret")),
        _ => Some(format!(
            "{} and {}",
            count(references, "reference"),
            count(secrets, "pull secret")
        )),
    };
    let text = match &told {
        None => format!("nothing to change in {}", count(*files, "file")),
        Some(told) => format!("{told} {verb} in {changed} of {}", count(*files, "file")),
    };
    let stay = if stay > 0 { format!("; {stay} left as they are") } else { String::new() };
    out.note(format!("{}{stay}", paint(GOOD, text)));
    if told.is_some() && !written && !shown.check {
        out.note("`--write` changes the files.");
    }
    for BrokenFile { file, cause } in broken {
        out.note(format!("{} {file}: {cause}", paint(BAD, "broken:")));
    }
}

/// One note for all templates.
fn templates(named: &[String], out: &Output) {
    match named {
        [] => {}
        [one] => out.note(format!("note: {one} is a template and is left alone")),
        all => out.note(format!(
            "note: {} are templates and are left alone, as {}",
            count(all.len(), "file"),
            all[0]
        )),
    }
}

/// Says what is left as it is, and why.
fn left(lines: &[&RewriteLine], out: &Output) {
    for line in lines {
        if let Some(lacks) = &line.lacks {
            let label = paint(WARN, "note:");
            out.note(format!("{label} {}: {}: {lacks}", at(line), safe(&line.from)));
        }
        if let Some(why) = &line.left {
            let label = if line.counts { paint(WARN, "left:") } else { paint(DIM, "left:") };
            out.note(format!("{label} {}: {}: {why}", at(line), safe(&line.from)));
        }
    }
}

/// A text of somebody else's file, so that it does nothing to a terminal.
fn safe(text: &str) -> String {
    cut(text, 300)
}

fn at(line: &RewriteLine) -> String {
    format!("{}:{}:{}", line.file, line.row, line.column)
}

fn what(line: &RewriteLine) -> String {
    match (&line.to, &line.left) {
        (Some(to), _) => format!("{} -> {to}", safe(&line.from)),
        (None, Some(why)) => format!("{}: {why}", safe(&line.from)),
        (None, None) => safe(&line.from),
    }
}

/// Commands that a workflow's log turns into remarks: what would change, and what counts as a "no".
fn github(lines: &[&RewriteLine], broken: &[BrokenFile], out: &Output) {
    // As the commands want it: `%` first, and in values the signs that part them too.
    let text = |text: &str| text.replace('%', "%25").replace('\r', "%0D").replace('\n', "%0A");
    let value = |of: &str| text(of).replace(':', "%3A").replace(',', "%2C");
    for line in lines.iter().filter(|line| line.to.is_some() || line.counts) {
        let level = if line.to.is_some() { "warning" } else { "error" };
        out.result(format!(
            "::{level} file={},line={},col={}::{}",
            value(&line.file),
            line.row,
            line.column,
            text(&what(line))
        ));
    }
    for BrokenFile { file, cause } in broken {
        out.result(format!("::error file={}::{}", value(file), text(cause)));
    }
}

/// The Static Analysis Results Interchange Format, version 2.1.0.
fn sarif(lines: &[&RewriteLine], broken: &[BrokenFile]) -> serde_json::Value {
    let place = |file: &str, region: Option<serde_json::Value>| {
        let uri: String = file
            .split('/')
            .map(|part| {
                percent_encoding::utf8_percent_encode(part, percent_encoding::NON_ALPHANUMERIC)
                    .to_string()
                    .replace("%2E", ".")
                    .replace("%2D", "-")
                    .replace("%5F", "_")
            })
            .collect::<Vec<_>>()
            .join("/");
        let mut physical = json!({ "artifactLocation": { "uri": uri } });
        if let Some(region) = region {
            physical["region"] = region;
        }
        json!([{ "physicalLocation": physical }])
    };
    let told = lines.iter().filter(|line| line.to.is_some() || line.counts);
    let mut results: Vec<serde_json::Value> = told
        .map(|line| {
            let (rule, level) = match line.to {
                Some(_) => ("names-another-registry", "warning"),
                None => ("cannot-be-rewritten", "error"),
            };
            let region = json!({ "startLine": line.row, "startColumn": line.column });
            json!({
                "ruleId": rule, "level": level, "message": { "text": what(line) },
                "locations": place(&line.file, Some(region)),
            })
        })
        .collect();
    results.extend(broken.iter().map(|BrokenFile { file, cause }| {
        json!({ "ruleId": "cannot-be-read", "level": "error", "message": { "text": cause }, "locations": place(file, None) })
    }));
    let rule = |id: &str, text: &str| json!({ "id": id, "shortDescription": { "text": text } });
    json!({
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "larder", "version": env!("CARGO_PKG_VERSION"),
                "rules": [
                    rule("names-another-registry", "A reference should name the larder's image"),
                    rule("cannot-be-rewritten", "A reference has no route, or cannot be changed where it stands"),
                    rule("cannot-be-read", "A file cannot be read"),
                ],
            }},
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

/// A unified diff with three lines of surroundings.
pub(super) fn unified(file: &str, old: &str, new: &str) -> String {
    // A file of many changes takes no longer than this; the diff is right then too, only not the shortest.
    let diff = TextDiff::configure().timeout(Duration::from_millis(500)).diff_lines(old, new);
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
