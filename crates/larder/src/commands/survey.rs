//! `larder survey`: every image that deployments name.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;

use larder_core::lock::Lock;
use larder_core::reference::{Reading, Reference, Selector};
use larder_core::rewrite::{Access, Finding};
use larder_core::route::{Routes, Standing};
use larder_store::Store;
use serde::Serialize;

use super::files::{self, Broken, Deployment};
use crate::config::Config;
use crate::context::{Context, read_lock, read_reference, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Table, WARN, count, paint};

/// List every image that deployments name: where it stands and what is wrong with it
///
/// Exit status 1 says that something is uncovered, malformed or unreadable.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Standing: covered = the larder has it; locked = locked, not brought in yet;\n\
    cached = a cached shelf fetches it when it is asked for;\n\
    not locked = wanted, but not at this tag; uncovered = nobody brings it in;\n\
    own = it names the larder; missing = it names the larder, which does not have it;\n\
    malformed = it cannot be read."
)]
pub struct Args {
    /// Files and folders
    #[arg(default_value = ".")]
    paths: Vec<PathBuf>,
}

/// Where a reference stands, as the program says it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Word {
    Malformed,
    Uncovered,
    NotLocked,
    Missing,
    Locked,
    Cached,
    Covered,
    Own,
}

impl Word {
    fn shown(self) -> String {
        match self {
            Self::Malformed => paint(BAD, "malformed"),
            Self::Uncovered => paint(BAD, "uncovered"),
            Self::NotLocked => paint(WARN, "not locked"),
            Self::Missing => paint(BAD, "missing"),
            Self::Locked => paint(WARN, "locked"),
            Self::Cached => paint(GOOD, "cached"),
            Self::Covered => paint(GOOD, "covered"),
            Self::Own => paint(GOOD, "own"),
        }
    }
}

#[derive(Serialize)]
struct Report {
    files: usize,
    references: Vec<Row>,
    broken: Vec<Broken>,
    templates: Vec<String>,
}

/// One distinct reference.
#[derive(Serialize)]
struct Row {
    /// Its normal form; as written where it cannot be read.
    reference: String,
    standing: Word,
    class: Option<String>,
    /// Its name in this larder. None: it has no route.
    target: Option<String>,
    remarks: Vec<String>,
    places: Vec<Place>,
}

#[derive(Serialize)]
struct Place {
    file: String,
    line: usize,
    column: usize,
    kind: String,
    name: String,
    namespace: Option<String>,
    container: Option<String>,
    /// The text as written.
    written: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let (deployments, broken) = files::read(&args.paths);
    let mut rows = collect(&deployments, config.as_ref());
    if let Some(config) = &config {
        let lock = read_lock(config)?;
        let routes = config.routes();
        let store = store_if_any(config)?;
        for (reading, row) in &mut rows {
            if let Some(reading) = reading {
                row.class = config.classes.class_of(&reading.reference).map(str::to_owned);
                stand(row, &reading.reference, &routes, &lock, store.as_ref()).await?;
            }
        }
    }
    let mut references: Vec<Row> = rows.into_iter().map(|(_, row)| row).collect();
    references.sort_by(|a, b| (a.standing, &a.reference).cmp(&(b.standing, &b.reference)));
    let templates =
        deployments.iter().filter(|one| one.scan.template).map(|one| one.shown.clone()).collect();
    let report = Report { files: deployments.len(), references, broken, templates };
    if context.output.json {
        context.output.document(&report);
    } else {
        show(&report, context);
    }
    let fine = report.broken.is_empty()
        && report
            .references
            .iter()
            .all(|row| matches!(row.standing, Word::Covered | Word::Own | Word::Locked));
    Ok(if fine { Exit::Done } else { Exit::No })
}

/// One row for each distinct reference, in the order of their first places.
fn collect(deployments: &[Deployment], config: Option<&Config>) -> Vec<(Option<Reading>, Row)> {
    let mut rows: Vec<(Option<Reading>, Row)> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for deployment in deployments {
        for finding in &deployment.scan.findings {
            let (reading, row) = read(finding, config);
            let at = *known.entry(row.reference.clone()).or_insert_with(|| {
                rows.push((reading, row));
                rows.len() - 1
            });
            let row = &mut rows[at].1;
            for remark in remarks(finding, config) {
                if !row.remarks.contains(&remark) {
                    row.remarks.push(remark);
                }
            }
            row.places.push(place(&deployment.shown, finding));
        }
    }
    rows
}

fn read(finding: &Finding, config: Option<&Config>) -> (Option<Reading>, Row) {
    let reading = read_reference(&finding.text, config).ok();
    let (reference, standing) = match &reading {
        Some(reading) => (reading.reference.to_string(), Word::Uncovered),
        None => (finding.text.clone(), Word::Malformed),
    };
    (
        reading,
        Row {
            reference,
            standing,
            class: None,
            target: None,
            remarks: Vec::new(),
            places: Vec::new(),
        },
    )
}

/// What is wrong with a reference as it is written in one place.
fn remarks(finding: &Finding, config: Option<&Config>) -> Vec<String> {
    let mut remarks = Vec::new();
    match read_reference(&finding.text, config) {
        Err(malformed) => {
            remarks.push(malformed.reason.to_string());
            remarks.extend(malformed.proposal.map(|meant| format!("meant: {meant}")));
        }
        Ok(reading) => {
            if reading.ambiguous {
                remarks.push(format!("ambiguous: written as {}, without a registry", finding.text));
            }
            if reading.looks_like_host {
                remarks.push("looks like a registry with no repository after it".into());
            }
            match (&reading.reference.tag, reading.reference.is_floating()) {
                (None, true) => remarks.push("floating: no tag".into()),
                (Some(tag), true) => remarks.push(format!("floating: {tag} moves")),
                _ => {}
            }
        }
    }
    if finding.duplicate {
        remarks.push("the key `image` stands there twice".into());
    }
    if let Access::Leave(why) = finding.access {
        remarks.push(format!("cannot be rewritten: {why}"));
    }
    remarks
}

fn place(file: &str, finding: &Finding) -> Place {
    Place {
        file: file.to_owned(),
        line: finding.position.line,
        column: finding.position.column,
        kind: finding.workload.kind.clone(),
        name: finding.workload.name.clone(),
        namespace: finding.workload.namespace.clone(),
        container: finding.container.clone(),
        written: finding.text.clone(),
    }
}

/// Says where a readable reference stands.
async fn stand(
    row: &mut Row,
    reference: &Reference,
    routes: &Routes,
    lock: &Lock,
    store: Option<&Store>,
) -> Result<(), Failure> {
    row.standing = match routes.standing(reference, lock) {
        // What is not here yet is fetched when it is asked for.
        Standing::Own if routes.is_cached(reference) => Word::Own,
        Standing::Own => match holds(store, reference).await? {
            true => Word::Own,
            false => Word::Missing,
        },
        Standing::Routed { target, .. } => {
            row.target = Some(target.to_string());
            match holds(store, &target).await? {
                true => Word::Covered,
                false => Word::Locked,
            }
        }
        Standing::Cached { target } => {
            row.target = Some(target.to_string());
            Word::Cached
        }
        Standing::NotLocked { locked } => {
            let locked: Vec<&str> = locked.iter().map(larder_core::name::Tag::as_str).collect();
            row.remarks.push(match locked.is_empty() {
                true => "wanted, but nothing of it is locked".into(),
                false => format!("locked are: {}", locked.join(", ")),
            });
            Word::NotLocked
        }
        Standing::NoRoute => Word::Uncovered,
    };
    Ok(())
}

async fn holds(store: Option<&Store>, reference: &Reference) -> Result<bool, Failure> {
    let Some(store) = store else { return Ok(false) };
    let selector: Selector = reference.selector();
    let found = store.ledger.manifest(&reference.repository, &selector).await;
    Ok(found
        .map_err(|error| Failure::store("cannot tell what the larder holds", &error))?
        .is_some())
}

/// Places that are shown of each reference; `--json` has all.
const PLACES_SHOWN: usize = 6;

fn show(report: &Report, context: &Context) {
    let mut table = Table::new(context.output.width(), &["STANDING", "IMAGE", "WHERE"]);
    for row in &report.references {
        let mut image =
            vec![row.reference.chars().flat_map(char::escape_debug).collect::<String>()];
        image.extend(row.class.iter().map(|class| paint(DIM, format!("class {class}"))));
        image.extend(row.remarks.iter().map(|remark| paint(WARN, remark)));
        let mut places: Vec<String> =
            row.places.iter().take(PLACES_SHOWN).map(shown_place).collect();
        if row.places.len() > PLACES_SHOWN {
            places.push(format!("and {} more", row.places.len() - PLACES_SHOWN));
        }
        table.row([row.standing.shown(), image.join("\n"), places.join("\n")]);
    }
    if !report.references.is_empty() {
        context.output.result(table.text());
    }
    let mut by_word: BTreeMap<Word, usize> = BTreeMap::new();
    for row in &report.references {
        *by_word.entry(row.standing).or_default() += 1;
    }
    let words: Vec<String> =
        by_word.iter().map(|(word, number)| format!("{number} {}", word.shown())).collect();
    let total = count(report.references.len(), "image");
    let places = report.references.iter().map(|row| row.places.len()).sum();
    context.output.result(format!(
        "\n{total} in {} of {}{}{}",
        count(places, "place"),
        count(report.files, "file"),
        if words.is_empty() { "" } else { ": " },
        words.join(", ")
    ));
    for template in &report.templates {
        context.output.note(format!("note: {template} is a template and was not read"));
    }
    for Broken { file, cause } in &report.broken {
        context.output.note(format!("{} {file} cannot be read: {cause}", paint(BAD, "broken:")));
    }
    if by_word.contains_key(&Word::Uncovered) {
        context.output.note("Next: `larder intake add IMAGE` wants what is uncovered.");
    }
}

fn shown_place(place: &Place) -> String {
    let Place { file, line, kind, name, container, .. } = place;
    let container =
        container.as_ref().map(|container| format!(" ({container})")).unwrap_or_default();
    format!("{file}:{line}  {kind} {name}{container}")
}
