//! A survey for people: by image, or put together otherwise.

use larder_core::shown::cut;
use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;

use super::rows::{ReferencePlace, Row, StandingWord};
use super::{Survey, SurveyGrouping};
use crate::config::Config;
use crate::deployments::{BrokenFile, PassedOver};
use crate::output::{BAD, DIM, GOOD, Output, Table, WARN, count, paint};

/// Places that are shown of each reference; `--json` has all.
const PLACES_SHOWN: usize = 6;
/// What stands for a place that belongs to nothing of the kind.
const NONE: &str = "(none)";

/// Images that have something in common.
#[derive(Serialize, JsonSchema)]
pub(super) struct Group {
    /// What: a file, a registry, a class, a cluster.
    name: String,
    images: usize,
    places: usize,
    /// How many of the images stand where.
    standings: BTreeMap<StandingWord, usize>,
    /// The references, for a file in the order of its lines.
    references: Vec<String>,
}

impl StandingWord {
    fn shown(self) -> String {
        match self {
            Self::Malformed => paint(BAD, "malformed"),
            Self::Uncovered => paint(BAD, "uncovered"),
            Self::NotLocked => paint(WARN, "not locked"),
            Self::Missing => paint(BAD, "missing"),
            Self::Locked => paint(WARN, "locked"),
            Self::Routed => paint(GOOD, "routed"),
            Self::Cached => paint(GOOD, "cached"),
            Self::Covered => paint(GOOD, "covered"),
            Self::Own => paint(GOOD, "own"),
            Self::Left => paint(DIM, "left"),
            Self::Open => paint(DIM, "open"),
            Self::Built => paint(DIM, "built"),
        }
    }
}

impl Row {
    /// Where it stands; what may be no image at all is not told as if it were one.
    fn shown(&self) -> String {
        if self.certain || matches!(self.standing, StandingWord::Open | StandingWord::Built) {
            return self.standing.shown();
        }
        let word = serde_json::to_value(self.standing).ok();
        let word =
            word.as_ref().and_then(|word| word.as_str()).unwrap_or_default().replace('-', " ");
        paint(DIM, format!("{word}?"))
    }
}

/// The images of a group by their numbers, and its places: their lines, and the image of each.
#[derive(Default)]
struct Members {
    images: BTreeSet<usize>,
    places: Vec<(usize, usize)>,
}

/// Puts the references together.
pub(super) fn groups(
    references: &[Row],
    by: SurveyGrouping,
    config: Option<&Config>,
) -> Vec<Group> {
    let mut groups: BTreeMap<String, Members> = BTreeMap::new();
    for (number, row) in references.iter().enumerate() {
        for place in &row.places {
            for name in names(row, place, by, config) {
                let members = groups.entry(name).or_default();
                members.images.insert(number);
                members.places.push((place.line, number));
            }
        }
    }
    let of = |(name, Members { images, mut places }): (String, Members)| {
        let mut standings = BTreeMap::new();
        for image in &images {
            *standings.entry(references[*image].standing).or_default() += 1;
        }
        places.sort_unstable();
        let numbers: Vec<usize> = match by {
            SurveyGrouping::File => places.iter().map(|(_, number)| *number).collect(),
            _ => images.iter().copied().collect(),
        };
        let named = numbers.into_iter().map(|number| references[number].reference.clone());
        Group {
            name,
            images: images.len(),
            places: places.len(),
            standings,
            references: named.collect(),
        }
    };
    groups.into_iter().map(of).collect()
}

/// The groups to which a place belongs.
fn names(
    row: &Row,
    place: &ReferencePlace,
    by: SurveyGrouping,
    config: Option<&Config>,
) -> Vec<String> {
    let none = || vec![NONE.to_owned()];
    match by {
        SurveyGrouping::Image => vec![row.reference.clone()],
        SurveyGrouping::File => vec![place.file.clone()],
        SurveyGrouping::Upstream => match &row.reading {
            Some(reading) => vec![reading.reference.host.to_string()],
            None => none(),
        },
        SurveyGrouping::Class => row.class.clone().map_or_else(none, |class| vec![class]),
        SurveyGrouping::Namespace => place.namespace.clone().map_or_else(none, |one| vec![one]),
        SurveyGrouping::Cluster => {
            let clusters = config.map(|config| config.clusters.as_slice()).unwrap_or_default();
            let namespace = place.namespace.as_deref();
            let its = clusters.iter().filter(|cluster| {
                namespace.is_some_and(|namespace| {
                    cluster.namespaces.iter().any(|one| one.name.get_ref() == namespace)
                })
            });
            let names: Vec<String> = its.map(|cluster| cluster.name.get_ref().clone()).collect();
            if names.is_empty() { none() } else { names }
        }
    }
}

/// Writes a survey out.
pub(super) fn survey(report: &Survey, out: &Output) {
    match report.by {
        SurveyGrouping::Image => by_image(report, out),
        SurveyGrouping::File => by_file(report, out),
        by => by_group(report, by, out),
    }
    let mut by_word: BTreeMap<StandingWord, usize> = BTreeMap::new();
    let counts = |row: &&Row| {
        row.certain || matches!(row.standing, StandingWord::Open | StandingWord::Built)
    };
    for row in report.references.iter().filter(counts) {
        *by_word.entry(row.standing).or_default() += 1;
    }
    let perhaps = report.references.iter().filter(|row| !counts(row)).count();
    let mut words = standings(&by_word);
    if perhaps > 0 {
        let comma = if words.is_empty() { "" } else { ", " };
        words.push_str(&format!("{comma}{}", paint(DIM, format!("{perhaps} perhaps"))));
    }
    let total = count(report.references.len(), "image");
    let places = report.references.iter().map(|row| row.places.len()).sum();
    let of_files = match report.files {
        0 => String::new(),
        files => format!(" of {}", count(files, "file")),
    };
    out.result(format!(
        "\n{total} in {}{of_files}{}{words}",
        count(places, "place"),
        if words.is_empty() { "" } else { ": " },
    ));
    let wrong = |test: &dyn Fn(&&Row) -> bool| report.references.iter().filter(test).count();
    let readable = |row: &Row| row.certain && row.reading.is_some();
    let told: Vec<String> = [
        (wrong(&|row| readable(row) && row.ambiguous), "ambiguous"),
        (wrong(&|row| readable(row) && row.floating), "floating"),
        (wrong(&|row| readable(row) && row.digest.is_none()), "not pinned to a digest"),
        (wrong(&|row| !row.lacks.is_empty()), "without a platform that is wanted"),
        (wrong(&|row| row.unreachable.is_some()), "unavailable"),
    ]
    .into_iter()
    .filter(|(number, _)| *number > 0)
    .map(|(number, what)| format!("{number} {what}"))
    .collect();
    if !told.is_empty() {
        out.result(paint(DIM, told.join(", ")));
    }
    match report.templates.as_slice() {
        [] => {}
        [one] => {
            out.note(format!(
                "note: {one} is a template: what it names is listed and never changed"
            ));
        }
        all => out.note(format!(
            "note: {} are templates, as {}: what they name is listed and never changed",
            count(all.len(), "file"),
            all[0]
        )),
    }
    passed_over(&report.passed_over, report.explain, out);
    for BrokenFile { file, cause } in &report.broken {
        out.note(format!("{} {file} cannot be read: {cause}", paint(BAD, "broken:")));
    }
    if by_word.contains_key(&StandingWord::Uncovered)
        || by_word.contains_key(&StandingWord::NotLocked)
    {
        out.note(
            "Next: `larder survey --missing … | larder intake add -` wants what is uncovered.",
        );
    }
}

/// What could name an image and was passed over: a line for each reason, or each with its place.
fn passed_over(all: &[PassedOver], explain: bool, out: &Output) {
    let mut kinds: BTreeMap<&str, Vec<&PassedOver>> = BTreeMap::new();
    for one in all {
        kinds.entry(one.said).or_default().push(one);
    }
    for (said, those) in &kinds {
        let more = if explain { "" } else { "; `--explain` lists them" };
        let (number, first) = (those.len(), those.first().map(|one| at(one)).unwrap_or_default());
        out.note(match number {
            1 => format!("passed over: {first}: {said}"),
            _ => format!("passed over: {number} times {said}, as {first}{more}"),
        });
        if explain && number > 1 {
            for one in those {
                out.note(format!("  {}", at(one)));
            }
        }
    }
}

fn at(one: &PassedOver) -> String {
    let line = one.line.map(|line| format!(":{line}")).unwrap_or_default();
    let text = if one.text.is_empty() { String::new() } else { format!(" ({})", safe(&one.text)) };
    format!("{}{line}{text}", one.file)
}

fn standings(of: &BTreeMap<StandingWord, usize>) -> String {
    let words: Vec<String> =
        of.iter().map(|(word, number)| format!("{number} {}", word.shown())).collect();
    words.join(", ")
}

fn safe(text: &str) -> String {
    cut(text, 300)
}

fn remarks(row: &Row) -> Vec<String> {
    let mut all: Vec<String> = row.remarks.iter().map(|remark| paint(WARN, remark)).collect();
    if !row.lacks.is_empty() {
        all.push(paint(BAD, format!("not made for {}", row.lacks.join(", "))));
    }
    all.extend(row.signed_by.iter().map(|signers| match signers.as_slice() {
        [] => paint(DIM, "signed by nobody who is named"),
        some => paint(GOOD, format!("signed by {}", some.join(", "))),
    }));
    all.extend(row.unreachable.iter().map(|why| paint(BAD, safe(why))));
    all
}

fn by_image(report: &Survey, out: &Output) {
    let mut table = Table::new(out.width(), &["STANDING", "IMAGE", "WHERE"]);
    for row in &report.references {
        let mut image = vec![safe(&row.reference)];
        image.extend(row.class.iter().map(|class| paint(DIM, format!("class {class}"))));
        image.extend(remarks(row));
        let mut places: Vec<String> =
            row.places.iter().take(PLACES_SHOWN).map(shown_place).collect();
        if row.places.len() > PLACES_SHOWN {
            places.push(format!("and {} more", row.places.len() - PLACES_SHOWN));
        }
        table.row([row.shown(), image.join("\n"), places.join("\n")]);
    }
    if !report.references.is_empty() {
        out.table(&table);
    }
}

fn by_file(report: &Survey, out: &Output) {
    let known: BTreeMap<&str, &Row> =
        report.references.iter().map(|row| (row.reference.as_str(), row)).collect();
    let mut table = Table::new(out.width(), &["FILE", "STANDING", "IMAGE"]);
    for group in &report.groups {
        for (number, reference) in group.references.iter().enumerate() {
            let file = if number == 0 { group.name.clone() } else { String::new() };
            let standing = known.get(reference.as_str()).map(|row| row.shown());
            table.row([file, standing.unwrap_or_default(), safe(reference)]);
        }
    }
    if !report.references.is_empty() {
        out.table(&table);
    }
}

fn by_group(report: &Survey, by: SurveyGrouping, out: &Output) {
    let title = match by {
        SurveyGrouping::Upstream => "UPSTREAM",
        SurveyGrouping::Class => "CLASS",
        SurveyGrouping::Namespace => "NAMESPACE",
        _ => "CLUSTER",
    };
    let mut table = Table::new(out.width(), &[title, "IMAGES", "PLACES", "WHERE THEY STAND"]);
    for group in &report.groups {
        table.row([
            group.name.clone(),
            group.images.to_string(),
            group.places.to_string(),
            standings(&group.standings),
        ]);
    }
    if !report.references.is_empty() {
        out.table(&table);
    }
}

fn shown_place(place: &ReferencePlace) -> String {
    let ReferencePlace { file, line, kind, name, container, namespace, .. } = place;
    // What lives in a cluster has no lines, and its place says already what it is.
    let object = format!(":{}/{kind}/{name}", namespace.as_deref().unwrap_or("default"));
    let mut text = match file.strip_suffix(&object) {
        Some(cluster) => cluster.to_owned(),
        None => format!("{file}:{line}"),
    };
    if !kind.is_empty() {
        let whose = match namespace {
            Some(namespace) if !name.is_empty() => format!("{namespace}/{name}"),
            _ => name.clone(),
        };
        text.push_str(&format!("  {kind} {whose}").trim_end().replace('\n', " "));
    }
    if let Some(container) = container.as_ref().filter(|container| *container != name) {
        text.push_str(&format!(" ({container})"));
    }
    safe(&text)
}
