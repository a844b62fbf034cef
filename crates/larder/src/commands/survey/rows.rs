//! One row for each distinct reference: what is wrong with it, and where it stands.

use std::collections::HashMap;

use larder_core::digest::Digest;
use larder_core::health::HealthWord;
use larder_core::lock::Lock;
use larder_core::name::Tag;
use larder_core::reference::{Reading, Reference, Selector, Unqualified};
use larder_core::rewrite::{Finding, FindingAccess, ImageRole, Nature};
use larder_core::route::{Routes, Standing};
use larder_store::{Store, StoreError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::ImageFault;
use crate::config::Config;
use crate::context::read_reference;
use crate::deployments::NamedImages;
use crate::failure::Failure;
use crate::health::{self, ImageHealth};

/// Where a reference stands, as the program says it.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum StandingWord {
    Malformed,
    Uncovered,
    NotLocked,
    Missing,
    Locked,
    Routed,
    Cached,
    Covered,
    Own,
    Left,
    Open,
    Built,
}

/// One distinct reference.
#[derive(Serialize, JsonSchema)]
pub struct Row {
    /// Its normal form; as written where it cannot be read.
    pub reference: String,
    pub(crate) standing: StandingWord,
    pub class: Option<String>,
    /// Its name in this larder. None: it has no route.
    pub target: Option<String>,
    /// What is wrong with it.
    pub remarks: Vec<String>,
    /// Whether a place names it that is an image beyond doubt.
    pub certain: bool,
    /// The registry, and the repository in it. None: it cannot be read.
    pub host: Option<String>,
    pub repository: Option<String>,
    pub tag: Option<String>,
    pub digest: Option<String>,
    /// What is wrong with a name that cannot be read, as a short stable word. None: nothing.
    pub fault: Option<&'static str>,
    /// What was meant by it, where that is clear.
    pub proposal: Option<String>,
    /// A place names it without a registry.
    pub ambiguous: bool,
    /// Tomorrow's pull may bring something else.
    pub floating: bool,
    /// Platforms that are wanted and that it does not have; empty as long as nobody asked.
    pub lacks: Vec<String>,
    /// The signers whose signatures over it hold. null: nobody asked, or no signer is named.
    pub signed_by: Option<Vec<String>>,
    /// Why it could not be asked for, or is not there. None: it is, or nobody asked.
    pub unreachable: Option<String>,
    /// It could not be asked for: whether it is there is not known.
    #[serde(skip)]
    pub unasked: bool,
    /// How the image is that this larder holds for it. null: it holds none, or nobody has taken advisories in.
    pub health: Option<ImageHealth>,
    pub places: Vec<ReferencePlace>,
    /// The reference with its tag, as an intake entry would want it. None: its tag is not known here.
    #[serde(skip)]
    pub wanted: Option<String>,
    #[serde(skip)]
    pub reading: Option<Reading>,
    #[serde(skip)]
    pub tag_elsewhere: bool,
}

/// Where a reference is written.
#[derive(Serialize, JsonSchema)]
pub struct ReferencePlace {
    pub file: String,
    pub line: usize,
    pub column: usize,
    pub dialect: &'static str,
    pub role: &'static str,
    pub kind: String,
    pub name: String,
    pub namespace: Option<String>,
    pub container: Option<String>,
    /// The first CPU architecture that its pods ask for. None: any.
    pub architecture: Option<String>,
    /// All of them; a node with one is enough.
    pub architectures: Vec<String>,
    /// The text as written.
    pub written: String,
}

impl Row {
    /// Whether it has one of the faults. What may be no image at all has none.
    pub fn has(&self, faults: &[ImageFault]) -> bool {
        self.certain
            && faults.iter().any(|fault| match fault {
                ImageFault::Uncovered => self.standing == StandingWord::Uncovered,
                ImageFault::NotLocked => self.standing == StandingWord::NotLocked,
                ImageFault::Missing => self.standing == StandingWord::Missing,
                ImageFault::Malformed => self.standing == StandingWord::Malformed,
                ImageFault::Ambiguous => self.ambiguous,
                ImageFault::Floating => self.floating,
                ImageFault::Unpinned => self.reading.is_some() && self.digest.is_none(),
                ImageFault::Platform => !self.lacks.is_empty(),
                ImageFault::Absent => self.unreachable.is_some(),
            })
    }
}

fn role(role: ImageRole) -> &'static str {
    match role {
        ImageRole::Pulled => "pulled",
        ImageRole::Likely => "likely",
        ImageRole::Doubtful => "doubtful",
        ImageRole::Open => "open",
        ImageRole::Text => "text",
        ImageRole::Built => "built",
        ImageRole::Template => "template",
    }
}

/// One row for each distinct reference, in the order of their first places.
pub(super) fn collect(named: &[NamedImages], config: Option<&Config>) -> Vec<Row> {
    let mut rows: Vec<Row> = Vec::new();
    let mut known: HashMap<(String, bool), usize> = HashMap::new();
    for file in named {
        for finding in &file.findings {
            let row = read(finding, config);
            let key = (row.reference.clone(), finding.tag_elsewhere);
            let at = *known.entry(key).or_insert_with(|| {
                rows.push(row);
                rows.len() - 1
            });
            let row = &mut rows[at];
            for remark in remarks(finding, config) {
                if !row.remarks.contains(&remark) {
                    row.remarks.push(remark);
                }
            }
            row.certain |= finding.is_certain();
            if let Ok(reading) = read_reference(&finding.text, config) {
                row.ambiguous |= reading.ambiguous;
                row.floating |= reading.reference.is_floating() && !finding.tag_elsewhere;
            }
            if finding.role != ImageRole::Built && row.standing == StandingWord::Built {
                row.standing = StandingWord::Uncovered;
            }
            row.places.push(place(&file.shown, finding));
        }
    }
    rows
}

fn read(finding: &Finding, config: Option<&Config>) -> Row {
    let read = read_reference(&finding.text, config);
    let standing = match (&read, finding.nature()) {
        (_, Nature::Made) => StandingWord::Built,
        (_, Nature::Open) => StandingWord::Open,
        (Ok(_), _) => StandingWord::Uncovered,
        (Err(_), _) => StandingWord::Malformed,
    };
    let wrong = read.as_ref().err().filter(|_| standing == StandingWord::Malformed).cloned();
    let reading = read.ok();
    let reference =
        reading.as_ref().map_or_else(|| finding.text.clone(), |one| one.reference.to_string());
    let wanted = reading.as_ref().filter(|_| !finding.tag_elsewhere).map(|reading| {
        let mut wanted = reading.reference.clone();
        if wanted.digest.is_none() && wanted.tag.is_none() {
            wanted.tag = Some(Tag::latest());
        }
        wanted.to_string()
    });
    Row {
        reference,
        standing,
        class: None,
        target: None,
        remarks: Vec::new(),
        certain: false,
        host: reading.as_ref().map(|one| one.reference.host.to_string()),
        repository: reading.as_ref().map(|one| one.reference.repository.to_string()),
        tag: reading.as_ref().and_then(|one| one.reference.tag.as_ref()).map(ToString::to_string),
        digest: reading
            .as_ref()
            .and_then(|one| one.reference.digest.as_ref())
            .map(ToString::to_string),
        fault: wrong.as_ref().map(|wrong| wrong.reason.word()),
        proposal: wrong.and_then(|wrong| wrong.proposal),
        ambiguous: false,
        floating: false,
        lacks: Vec::new(),
        signed_by: None,
        unreachable: None,
        unasked: false,
        health: None,
        places: Vec::new(),
        wanted,
        reading,
        tag_elsewhere: finding.tag_elsewhere,
    }
}

/// What is wrong with a reference as it is written in one place.
fn remarks(finding: &Finding, config: Option<&Config>) -> Vec<String> {
    let mut remarks = Vec::new();
    match read_reference(&finding.text, config) {
        Err(_) if finding.nature() == Nature::Open => {}
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
                _ if finding.tag_elsewhere => {
                    remarks.push("its tag is decided in another place".into());
                }
                (None, true) => remarks.push("floating: no tag".into()),
                (Some(tag), true) => remarks.push(format!("floating: {tag} moves")),
                _ => {}
            }
        }
    }
    if finding.duplicate {
        remarks.push("the key `image` stands there twice".into());
    }
    match finding.role {
        ImageRole::Text => remarks.push("within a text".into()),
        ImageRole::Doubtful => remarks.push("it may be no image".into()),
        _ => {}
    }
    match finding.access {
        FindingAccess::Leave(why)
            if !matches!(finding.role, ImageRole::Built | ImageRole::Template) =>
        {
            remarks.push(format!("cannot be rewritten: {why}"));
        }
        _ => {}
    }
    remarks
}

fn place(file: &str, finding: &Finding) -> ReferencePlace {
    let workload = &finding.workload;
    ReferencePlace {
        file: file.to_owned(),
        line: finding.position.line,
        column: finding.position.column,
        dialect: finding.dialect.word(),
        role: role(finding.role),
        kind: workload.kind.clone(),
        name: workload.name.clone(),
        namespace: workload.namespace.clone(),
        container: finding.container.clone(),
        architecture: workload.architectures.first().cloned(),
        architectures: workload.architectures.clone(),
        written: finding.text.clone(),
    }
}

/// Says where each readable reference stands.
pub(super) async fn stand(
    rows: &mut [Row],
    config: &Config,
    lock: &Lock,
    store: Option<&Store>,
) -> Result<(), Failure> {
    let court = config.court(lock.clone())?;
    let routes = court.routes();
    for row in rows.iter_mut() {
        let Some(reading) = row.reading.clone() else { continue };
        row.class = court.reference(&reading.reference).class.map(str::to_owned);
        if row.standing != StandingWord::Built {
            stand_one(row, &reading.reference, routes, lock, store).await?;
        }
    }
    let failed = |error| Failure::store("cannot tell how images are", &error);
    if let Some(store) = store
        && health::is_asked(store).await.map_err(failed)?
    {
        add_health(rows, routes, store).await.map_err(failed)?;
    }
    Ok(())
}

/// Says how the images are that the larder holds; a poor one is told.
async fn add_health(rows: &mut [Row], routes: &Routes, store: &Store) -> Result<(), StoreError> {
    let mut known: HashMap<Digest, Option<ImageHealth>> = HashMap::new();
    for row in rows.iter_mut().filter(|row| !row.tag_elsewhere) {
        let here = |reference: &Reference| reference.host == *routes.own();
        let read = |text: &str| Reference::read(text, &Unqualified::default()).ok();
        let target = row.target.as_deref().and_then(read).map(|read| read.reference);
        let written = row.reading.as_ref().map(|reading| reading.reference.clone());
        let Some(place) = target.or(written).filter(here) else { continue };
        let found = store.manifest_record(&place.repository, &place.selector()).await?;
        let Some(record) = found else { continue };
        let health = match known.get(&record.digest) {
            Some(health) => health.clone(),
            None => {
                let health = health::of_held(store, &record.digest).await?;
                known.insert(record.digest, health.clone());
                health
            }
        };
        if let Some(health) = health.as_ref().filter(|health| health.is() == HealthWord::Poor) {
            row.remarks.push(format!("poor: {}", health.because()));
        }
        row.health = health;
    }
    Ok(())
}

async fn stand_one(
    row: &mut Row,
    reference: &Reference,
    routes: &Routes,
    lock: &Lock,
    store: Option<&Store>,
) -> Result<(), Failure> {
    row.standing = match routes.standing(reference, lock) {
        // What is not here yet is fetched when it is asked for.
        Standing::Own if routes.is_cached(reference) => StandingWord::Own,
        Standing::Own if reference.host != *routes.own() => StandingWord::Own,
        Standing::Own => match holds(store, reference, row.tag_elsewhere).await? {
            true => StandingWord::Own,
            false => StandingWord::Missing,
        },
        Standing::Routed { target, .. } => {
            row.target = Some(target.to_string());
            match holds(store, &target, row.tag_elsewhere).await? {
                true => StandingWord::Covered,
                false => StandingWord::Locked,
            }
        }
        Standing::Told { target } => {
            row.target = Some(target.to_string());
            match target.host == *routes.own() && !routes.is_cached(&target) {
                true if !holds(store, &target, row.tag_elsewhere).await? => StandingWord::Missing,
                _ => StandingWord::Routed,
            }
        }
        Standing::Left { because } => {
            if !because.is_empty() {
                row.remarks.push(because);
            }
            StandingWord::Left
        }
        Standing::Cached { target } => {
            row.target = Some(target.to_string());
            StandingWord::Cached
        }
        Standing::NotLocked { locked } if row.tag_elsewhere && !locked.is_empty() => {
            row.target = routes.target(&reference.image()).map(|image| {
                image.with(reference.tag.clone(), reference.digest.clone()).to_string()
            });
            StandingWord::Locked
        }
        Standing::NotLocked { locked } => {
            let locked: Vec<&str> = locked.iter().map(Tag::as_str).collect();
            row.remarks.push(match locked.is_empty() {
                true => "wanted, but not locked".into(),
                false => format!("locked are: {}", locked.join(", ")),
            });
            StandingWord::NotLocked
        }
        Standing::NoRoute => StandingWord::Uncovered,
    };
    Ok(())
}

/// Whether the larder has a reference; of one whose tag is decided elsewhere, any tag.
async fn holds(
    store: Option<&Store>,
    reference: &Reference,
    any_tag: bool,
) -> Result<bool, Failure> {
    let Some(store) = store else { return Ok(false) };
    let failed = |error| Failure::store("cannot tell what the larder holds", &error);
    if any_tag {
        let tags = store.tags(&reference.repository, None, 1).await.map_err(failed)?;
        return Ok(tags.is_some_and(|tags| !tags.is_empty()));
    }
    let selector: Selector = reference.selector();
    let found = store.manifest_record(&reference.repository, &selector).await;
    Ok(found.map_err(failed)?.is_some())
}
