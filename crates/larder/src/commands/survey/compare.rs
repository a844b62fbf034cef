//! What differs between two surveys.

use std::collections::BTreeMap;
use std::path::Path;

use larder_transfer::files::read_bounded;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Survey;
use super::rows::StandingWord;
use crate::context::Context;
use crate::failure::{Exit, Failure};
use crate::output::{BAD, DIM, GONE, GOOD, Output, Report, Table, count, paint};

/// The largest survey that is read, in bytes.
const LIMIT: usize = 256 * 1024 * 1024;

/// A survey as `--json` wrote it, as far as it is compared.
#[derive(Deserialize)]
pub(super) struct Earlier {
    references: Vec<Was>,
}

#[derive(Deserialize)]
struct Was {
    reference: String,
    standing: StandingWord,
    places: Vec<WasAt>,
}

#[derive(Deserialize)]
struct WasAt {
    file: String,
}

/// Reads a survey.
pub(super) fn read(path: &Path) -> Result<Earlier, Failure> {
    let what = || format!("cannot compare with {}", larder_transfer::files::named(path));
    let bytes = read_bounded(path, LIMIT).map_err(|error| Failure::io(what(), &error))?;
    serde_json::from_slice(&bytes).map_err(|error| {
        Failure::usage(what(), error, "name a file that `larder survey --json > FILE` wrote")
    })
}

/// One reference that differs.
#[derive(Serialize, JsonSchema)]
struct SurveyDifference {
    reference: String,
    /// `new`, `gone`, or `changed`.
    what: &'static str,
    before: Option<StandingWord>,
    now: Option<StandingWord>,
    /// The files that name it now and did not.
    added: Vec<String>,
    /// The files that named it and do not any more.
    dropped: Vec<String>,
}

/// Where a reference stands, and the files that name it.
type SeenReference = (StandingWord, Vec<String>);

fn seen(
    all: impl Iterator<Item = (String, StandingWord, Vec<String>)>,
) -> BTreeMap<String, SeenReference> {
    let mut seen = BTreeMap::new();
    for (reference, standing, mut files) in all {
        files.sort();
        files.dedup();
        seen.insert(reference, (standing, files));
    }
    seen
}

/// Says what differs.
pub(super) fn compare(earlier: &Earlier, report: &Survey, context: &Context) -> Exit {
    let before = seen(earlier.references.iter().map(|one| {
        let files = one.places.iter().map(|place| place.file.clone()).collect();
        (one.reference.clone(), one.standing, files)
    }));
    let now = seen(report.references.iter().map(|one| {
        let files = one.places.iter().map(|place| place.file.clone()).collect();
        (one.reference.clone(), one.standing, files)
    }));
    let names: std::collections::BTreeSet<&String> = before.keys().chain(now.keys()).collect();
    let mut differences = Vec::new();
    for name in names {
        let (was, is) = (before.get(name), now.get(name));
        let what = match (was, is) {
            (None, _) => "new",
            (_, None) => "gone",
            (Some(was), Some(is)) if was == is => continue,
            _ => "changed",
        };
        let files =
            |seen: Option<&SeenReference>| seen.map(|(_, files)| files.clone()).unwrap_or_default();
        let only = |these: &[String], those: &[String]| -> Vec<String> {
            these.iter().filter(|file| !those.contains(file)).cloned().collect()
        };
        let (old, new) = (files(was), files(is));
        differences.push(SurveyDifference {
            reference: name.clone(),
            what,
            before: was.map(|(word, _)| *word),
            now: is.map(|(word, _)| *word),
            added: only(&new, &old),
            dropped: only(&old, &new),
        });
    }
    let exit = if differences.is_empty() { Exit::Done } else { Exit::No };
    context.output.tell(&SurveyComparison { differences });
    exit
}

#[derive(Serialize, JsonSchema)]
pub struct SurveyComparison {
    differences: Vec<SurveyDifference>,
}

impl Report for SurveyComparison {
    const KIND: &'static str = "survey-comparison";

    fn show(&self, out: &Output) {
        show(&self.differences, out);
    }
}

fn show(differences: &[SurveyDifference], out: &Output) {
    let mut table = Table::new(out.width(), &["CHANGE", "IMAGE", "WHERE"]);
    for one in differences {
        let word = |word: Option<StandingWord>| {
            let value = word.and_then(|word| serde_json::to_value(word).ok());
            value.and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
        };
        let mut image = vec![one.reference.clone()];
        if one.before != one.now && one.what == "changed" {
            image.push(paint(DIM, format!("was {}, is {}", word(one.before), word(one.now))));
        }
        let added = one.added.iter().map(|file| paint(GOOD, format!("+ {file}")));
        let dropped = one.dropped.iter().map(|file| paint(GONE, format!("- {file}")));
        let places: Vec<String> = added.chain(dropped).collect();
        let mark = match one.what {
            "new" => paint(GOOD, "new"),
            "gone" => paint(BAD, "gone"),
            what => what.to_owned(),
        };
        table.row([mark, image.join("\n"), places.join("\n")]);
    }
    if differences.is_empty() {
        out.result("both surveys name the same images in the same files");
    } else {
        out.table(&table);
        out.result(format!("\n{} differ", count(differences.len(), "image")));
    }
}
