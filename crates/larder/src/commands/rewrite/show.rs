//! What `larder rewrite` says: as a diff, as lines for editors, for code hosts, as JSON.

use larder_core::shown::cut;
use serde_json::json;
use std::time::Duration;

use similar::{ChangeTag, TextDiff};

use super::{Args, Format, Line, Rewritten};
use crate::context::Context;
use crate::deployments::Broken;
use crate::output::{BAD, DIM, GONE, GOOD, WARN, count, paint};

/// What is said of all files.
pub(super) fn all(args: &Args, files: &[Rewritten], broken: &[Broken], context: &Context) {
    let lines: Vec<&Line> = files.iter().flat_map(|file| &file.lines).collect();
    let changed = files.iter().filter(|file| file.changed).count();
    if context.output.json {
        let told: Vec<&&Line> = lines.iter().filter(|line| line.is_told()).collect();
        context.output.document(&json!({
            "files": files.len(), "changed": changed, "written": args.write, "references": told, "broken": broken,
        }));
        return;
    }
    for diff in files.iter().filter_map(|file| file.diff.as_ref()) {
        context.output.result(diff.trim_end());
    }
    if args.check {
        match args.format {
            Format::Text => {
                for line in lines.iter().filter(|line| line.to.is_some()) {
                    context.output.result(format!("{}: {}", at(line), what(line)));
                }
            }
            Format::Github => github(&lines, broken, context),
            Format::Sarif => context.output.document(&sarif(&lines, broken)),
        }
    }
    left(&lines, context);
    templates(files, context);
    let of =
        |what: &str| lines.iter().filter(|line| line.to.is_some() && line.what == what).count();
    let (references, secrets) = (of("reference"), of("secret"));
    let verb = if args.write { "changed" } else { "would change" };
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
        None => format!("nothing to change in {}", count(files.len(), "file")),
        Some(told) => format!("{told} {verb} in {changed} of {}", count(files.len(), "file")),
    };
    let stay = if stay > 0 { format!("; {stay} left as they are") } else { String::new() };
    context.output.note(format!("{}{stay}", paint(GOOD, text)));
    if told.is_some() && !args.write && !args.check {
        context.output.note("`--write` changes the files.");
    }
    for Broken { file, cause } in broken {
        context.output.note(format!("{} {file}: {cause}", paint(BAD, "broken:")));
    }
}

/// One note for all templates.
fn templates(files: &[Rewritten], context: &Context) {
    let named: Vec<&str> =
        files.iter().filter(|file| file.template).map(|file| file.file.as_str()).collect();
    match named.as_slice() {
        [] => {}
        [one] => context.output.note(format!("note: {one} is a template and is left alone")),
        all => context.output.note(format!(
            "note: {} are templates and are left alone, as {}",
            count(all.len(), "file"),
            all[0]
        )),
    }
}

/// Says what is left as it is, and why.
pub(super) fn left(lines: &[&Line], context: &Context) {
    for line in lines {
        if let Some(lacks) = &line.lacks {
            let label = paint(WARN, "note:");
            context.output.note(format!("{label} {}: {}: {lacks}", at(line), safe(&line.from)));
        }
        if let Some(why) = &line.left {
            let label = if line.counts { paint(WARN, "left:") } else { paint(DIM, "left:") };
            context.output.note(format!("{label} {}: {}: {why}", at(line), safe(&line.from)));
        }
    }
}

/// A text of somebody else's file, so that it does nothing to a terminal.
fn safe(text: &str) -> String {
    cut(text, 300)
}

fn at(line: &Line) -> String {
    format!("{}:{}:{}", line.file, line.row, line.column)
}

fn what(line: &Line) -> String {
    match (&line.to, &line.left) {
        (Some(to), _) => format!("{} -> {to}", safe(&line.from)),
        (None, Some(why)) => format!("{}: {why}", safe(&line.from)),
        (None, None) => safe(&line.from),
    }
}

/// Commands that a workflow's log turns into remarks: what would change, and what counts as a "no".
fn github(lines: &[&Line], broken: &[Broken], context: &Context) {
    // As the commands want it: `%` first, and in values the signs that part them too.
    let text = |text: &str| text.replace('%', "%25").replace('\r', "%0D").replace('\n', "%0A");
    let value = |of: &str| text(of).replace(':', "%3A").replace(',', "%2C");
    for line in lines.iter().filter(|line| line.to.is_some() || line.counts) {
        let level = if line.to.is_some() { "warning" } else { "error" };
        context.output.result(format!(
            "::{level} file={},line={},col={}::{}",
            value(&line.file),
            line.row,
            line.column,
            text(&what(line))
        ));
    }
    for Broken { file, cause } in broken {
        context.output.result(format!("::error file={}::{}", value(file), text(cause)));
    }
}

/// The Static Analysis Results Interchange Format, version 2.1.0.
fn sarif(lines: &[&Line], broken: &[Broken]) -> serde_json::Value {
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
    results.extend(broken.iter().map(|Broken { file, cause }| {
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
