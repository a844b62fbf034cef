//! Which advisory is about which of our packages, and which image has which package.
//!
//! Each is held against the other when either is new, so that a question reads what was noted.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use larder_core::advisory::{PackageKey, PackageVerdict, Severity, judge};
use larder_core::digest::Digest;
use larder_core::inventory::{FACTS_FORM, purl_kind};
use larder_core::version::Ecosystem;

use super::advisories::{FeedAdvisory, KNOWN_AT, named, unpack};
use super::images::NotedSystem;
use super::rows::{Cell, ask, insert};
use crate::clock::now;
use crate::error::StoreError;
use crate::sql::{Connection, Optional as _, Result, params};
use crate::store::Store;

/// A package of an image that an advisory is about, as it was noted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotedFinding {
    /// The image's manifest.
    pub image: Digest,
    /// The number of the advisory, by which [`Store::advisories_numbered`] gives it.
    pub advisory: i64,
    pub package: PackageKey,
    /// The layer that brought it, counted from 0.
    pub layer: usize,
    pub verdict: PackageVerdict,
}

/// The same with what the records say of the advisory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TouchingFinding {
    pub finding: NotedFinding,
    pub severity: Severity,
    /// Since when it is known here, in milliseconds since 1970.
    pub known_at: i64,
    /// Its own name.
    pub name: String,
}

/// The form of facts that what is noted rests on.
fn form() -> i64 {
    i64::from(FACTS_FORM)
}

/// An image that is noted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewInventory {
    pub image: Digest,
    pub system: NotedSystem,
    pub gaps: InventoryGaps,
    /// What it has, each with its layer, which is counted from 0.
    pub packages: Vec<(PackageKey, usize)>,
}

/// What of an image was not read when it was noted.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InventoryGaps {
    /// Layers that nobody has read yet.
    pub layers: Vec<Digest>,
    /// What of the other layers could not be read.
    pub parts: usize,
}

const AFFECTED: i64 = 1;
const UNKNOWN: i64 = 2;

/// An ecosystem in the records.
pub(super) fn word(ecosystem: Ecosystem) -> &'static str {
    purl_kind(ecosystem)
}

fn ecosystem(word: &str) -> Option<Ecosystem> {
    Ecosystem::ALL.into_iter().find(|one| purl_kind(*one) == word)
}

/// What advisories say of packages, as rows.
pub(super) fn finding(advisory: i64, package: i64, verdict: PackageVerdict) -> Option<Vec<Cell>> {
    let (kind, text) = match verdict {
        PackageVerdict::NotAffected => return None,
        PackageVerdict::Affected { fixed } => (AFFECTED, fixed),
        PackageVerdict::Unknown(why) => (UNKNOWN, why),
    };
    Some(vec![
        Cell::Integer(advisory),
        Cell::Integer(package),
        Cell::Integer(kind),
        Cell::text(&text),
    ])
}

pub(super) const FINDINGS: &str = "findings (advisory, package, verdict, fixed)";

fn verdict(kind: i64, text: String) -> PackageVerdict {
    match kind {
        AFFECTED => PackageVerdict::Affected { fixed: text },
        _ => PackageVerdict::Unknown(text),
    }
}

/// What [`noted`] reads.
const NOTED: &str =
    "v.manifest, f.advisory, p.kind, p.name, p.release, p.version, i.layer, f.verdict, f.fixed";

fn noted(row: &crate::sql::Row<'_>) -> Result<Option<NotedFinding>> {
    let Some(ecosystem) = ecosystem(&row.get::<String>(2)?) else { return Ok(None) };
    let (name, release, version) = (row.get(3)?, row.get(4)?, row.get(5)?);
    Ok(Some(NotedFinding {
        image: super::checked(row, 0)?,
        advisory: row.get(1)?,
        package: PackageKey { ecosystem, name, release, version },
        layer: usize::try_from(row.get::<i64>(6)?).unwrap_or(0),
        verdict: verdict(row.get(7)?, row.get(8)?),
    }))
}

fn by_kind(names: &BTreeSet<(Ecosystem, String)>) -> BTreeMap<Ecosystem, Vec<&str>> {
    let mut by_kind: BTreeMap<Ecosystem, Vec<&str>> = BTreeMap::new();
    for (ecosystem, name) in names {
        by_kind.entry(*ecosystem).or_default().push(name);
    }
    by_kind
}

/// Our packages of these names.
pub(super) fn packages_named(
    connection: &Connection,
    names: &BTreeSet<(Ecosystem, String)>,
) -> Result<Vec<(i64, PackageKey)>> {
    let mut found = Vec::new();
    for (ecosystem, names) in by_kind(names) {
        let sql = |places: &str| {
            format!(
                "SELECT id, name, release, version FROM packages WHERE kind = $1 AND name IN ({places})"
            )
        };
        let read = |row: &crate::sql::Row<'_>| {
            let (name, release, version) = (row.get(1)?, row.get(2)?, row.get(3)?);
            Ok((row.get(0)?, PackageKey { ecosystem, name, release, version }))
        };
        let mut seen = BTreeSet::new();
        let all = ask(connection, sql, &word(ecosystem), &names, read)?;
        found.extend(all.into_iter().filter(|(id, _)| seen.insert(*id)));
    }
    Ok(found)
}

/// Advisories that name these packages, each once.
fn advisories_naming(
    connection: &Connection,
    names: &BTreeSet<(Ecosystem, String)>,
) -> Result<Vec<(i64, FeedAdvisory)>> {
    let mut found: BTreeMap<i64, (String, i64, Vec<u8>)> = BTreeMap::new();
    for (ecosystem, names) in by_kind(names) {
        let sql = |places: &str| {
            format!(
                "SELECT a.id, a.feed, {KNOWN_AT}, a.body FROM advisory_names n
                 JOIN advisories a ON a.id = n.advisory WHERE n.kind = $1 AND n.name IN ({places})"
            )
        };
        let read =
            |row: &crate::sql::Row<'_>| Ok((row.get(0)?, (row.get(1)?, row.get(2)?, row.get(3)?)));
        found.extend(ask(connection, sql, &word(ecosystem), &names, read)?);
    }
    let read = |(id, (feed, known_at, body)): (i64, (String, i64, Vec<u8>))| {
        Some((id, FeedAdvisory { feed, advisory: unpack(&body)?, known_at }))
    };
    Ok(found.into_iter().filter_map(read).collect())
}

/// The numbers of packages; those that are new are taken up, and every advisory is held against them.
fn numbers(
    connection: &Connection,
    keys: &BTreeSet<PackageKey>,
) -> Result<HashMap<PackageKey, i64>> {
    let names = keys.iter().map(|key| (key.ecosystem, key.name.clone())).collect();
    let known = |connection: &Connection| -> Result<HashMap<PackageKey, i64>> {
        let all = packages_named(connection, &names)?;
        Ok(all.into_iter().map(|(id, key)| (key, id)).collect())
    };
    let here = known(connection)?;
    let new: Vec<&PackageKey> = keys.iter().filter(|key| !here.contains_key(*key)).collect();
    if new.is_empty() {
        return Ok(here);
    }
    let rows: Vec<Vec<Cell>> = new
        .iter()
        .map(|key| {
            let texts = [word(key.ecosystem), &key.name, &key.release, &key.version];
            texts.into_iter().map(Cell::text).collect()
        })
        .collect();
    insert(connection, "packages (kind, name, release, version)", 4, &rows)?;
    let all = known(connection)?;
    let names = new.iter().map(|key| (key.ecosystem, key.name.clone())).collect();
    let advisories = advisories_naming(connection, &names)?;
    let mut findings = Vec::new();
    for key in new {
        let Some(id) = all.get(key) else { continue };
        for (number, of) in &advisories {
            findings.extend(finding(*number, *id, judge(&of.advisory, key)));
        }
    }
    insert(connection, FINDINGS, 4, &findings)?;
    Ok(all)
}

/// Notes an image without its packages, and gives its number.
fn note(connection: &Connection, one: &NewInventory) -> Result<i64> {
    let NewInventory { image, system, gaps, .. } = one;
    let number = |count: usize| i64::try_from(count).unwrap_or(i64::MAX);
    let (unread, parts) = (number(gaps.layers.len()), number(gaps.parts));
    // Somebody may have read one of them meanwhile: then it is looked at once more.
    let mut ask =
        connection.prepare_cached("SELECT 1 FROM layer_facts WHERE digest = $1 AND form = $2")?;
    let mut read_at = now();
    for layer in &gaps.layers {
        if ask.exists(params![layer.as_str(), form()])? {
            read_at = 0;
        }
    }
    let id: i64 = connection
        .prepare_cached(
            "INSERT INTO inventories (manifest, form, read_at, release, unread, parts, is_image,
               system_name, support_end)
             VALUES ($1, $2, $3, $4, $5, $6, 1, $7, $8)
             ON CONFLICT (manifest) DO UPDATE SET form = excluded.form,
               read_at = excluded.read_at, release = excluded.release,
               unread = excluded.unread, parts = excluded.parts,
               is_image = excluded.is_image, system_name = excluded.system_name,
               support_end = excluded.support_end RETURNING id",
        )?
        .query_row(
            params![
                image.as_str(),
                form(),
                read_at,
                system.release,
                unread,
                parts,
                system.name,
                system.support_end
            ],
            |row| row.get(0),
        )?;
    // What it was noted with before is not what it has.
    connection
        .prepare_cached("DELETE FROM image_packages WHERE image = $1")?
        .execute(params![id])?;
    Ok(id)
}

impl Store {
    /// What advisories say of packages, whether these are of an image of ours or not: each package with the number of the
    /// advisory and what it says.
    pub async fn findings_of(
        &self,
        keys: BTreeSet<PackageKey>,
    ) -> std::result::Result<Vec<(PackageKey, i64, FeedAdvisory, PackageVerdict)>, StoreError> {
        self.records
            .read(move |connection| {
                let names = keys.iter().map(|key| (key.ecosystem, key.name.clone())).collect();
                let advisories = advisories_naming(connection, &names)?;
                let mut by_name: HashMap<(Ecosystem, String), Vec<usize>> = HashMap::new();
                for (place, (_, of)) in advisories.iter().enumerate() {
                    for name in named(&of.advisory) {
                        by_name.entry(name).or_default().push(place);
                    }
                }
                let mut found = Vec::new();
                for key in keys {
                    let about = by_name.get(&(key.ecosystem, key.name.clone()));
                    for place in about.into_iter().flatten() {
                        let (number, of) = &advisories[*place];
                        let verdict = judge(&of.advisory, &key);
                        if verdict != PackageVerdict::NotAffected {
                            found.push((key.clone(), *number, of.clone(), verdict));
                        }
                    }
                }
                Ok(found)
            })
            .await
    }

    /// The advisories that are about packages of these images: those that are worse than `most`, or all; with `unknown`
    /// also those that nobody can rate, and packages that cannot be compared.
    pub async fn touching(
        &self,
        images: Vec<Digest>,
        most: Option<Severity>,
        unknown: bool,
    ) -> std::result::Result<Vec<TouchingFinding>, StoreError> {
        let (most, unknown) = (most.map_or(-1, Severity::number), i64::from(unknown));
        self.records
            .read(move |connection| {
                let mut ask = connection.prepare_cached(&format!(
                    "SELECT {NOTED}, a.severity, {KNOWN_AT}, a.name
                     FROM inventories v JOIN image_packages i ON i.image = v.id
                     JOIN findings f ON f.package = i.package
                     JOIN advisories a ON a.id = f.advisory
                     JOIN packages p ON p.id = i.package WHERE v.manifest = $1 AND
                       ((f.verdict = 1 AND a.severity > $2) OR (CAST($3 AS BIGINT) = 1
                         AND (a.severity = 0 OR (f.verdict <> 1 AND a.severity > $2))))"
                ))?;
                let mut found = Vec::new();
                for image in images {
                    let mut rows = ask.query(params![image.as_str(), most, unknown])?;
                    while let Some(row) = &rows.next()? {
                        let Some(finding) = noted(row)? else { continue };
                        let severity = Severity::of_number(row.get(9)?);
                        let (known_at, name) = (row.get(10)?, row.get(11)?);
                        found.push(TouchingFinding { finding, severity, known_at, name });
                    }
                }
                Ok(found)
            })
            .await
    }

    /// Which of these images have not been noted whole: each with how many layers were unread when it was noted. None: it
    /// never was.
    pub async fn unnoted(
        &self,
        images: Vec<Digest>,
    ) -> std::result::Result<Vec<(Digest, Option<usize>)>, StoreError> {
        self.records
            .read(move |connection| {
                let mut ask = connection.prepare_cached(
                    "SELECT unread FROM inventories WHERE manifest = $1 AND form = $2 AND read_at > 0",
                )?;
                let mut unnoted = Vec::new();
                for digest in images {
                    let unread = ask
                        .query_row(params![digest.as_str(), form()], |row| super::unsigned(row, 0))
                        .optional()?
                        .map(|unread| usize::try_from(unread).unwrap_or(usize::MAX));
                    if unread != Some(0) {
                        unnoted.push((digest, unread));
                    }
                }
                Ok(unnoted)
            })
            .await
    }

    /// Notes the packages of an image, each with its layer, and holds advisories against those that are new.
    pub async fn note_inventory(
        &self,
        image: &Digest,
        system: &NotedSystem,
        gaps: InventoryGaps,
        packages: Vec<(PackageKey, usize)>,
    ) -> std::result::Result<(), StoreError> {
        let (image, system) = (image.clone(), system.clone());
        self.note_inventories(vec![NewInventory { image, system, gaps, packages }]).await
    }

    /// The same of several images, with one change: rows of one package lie together, whichever image they are of.
    pub async fn note_inventories(
        &self,
        all: Vec<NewInventory>,
    ) -> std::result::Result<(), StoreError> {
        self.records
            .jot(move |connection| {
                let keys = all.iter().flat_map(|one| &one.packages);
                let keys = keys.map(|(key, _)| key.clone()).collect();
                let numbers = numbers(connection, &keys)?;
                let mut rows: Vec<[i64; 3]> = Vec::new();
                for one in &all {
                    let id = note(connection, one)?;
                    rows.extend(one.packages.iter().filter_map(|(key, layer)| {
                        let layer = i64::try_from(*layer).unwrap_or(i64::MAX);
                        Some([*numbers.get(key)?, id, layer])
                    }));
                }
                rows.sort_unstable();
                let rows: Vec<Vec<Cell>> =
                    rows.into_iter().map(|row| row.map(Cell::Integer).into()).collect();
                insert(connection, "image_packages (package, image, layer)", 3, &rows)
            })
            .await
    }

    /// The numbers of the advisories that are about packages of ours and at least so severe.
    pub async fn advisories_as_severe_as(
        &self,
        least: Severity,
    ) -> std::result::Result<Vec<i64>, StoreError> {
        self.records
            .rows(
                "SELECT a.id FROM advisories a WHERE a.severity >= $1 AND EXISTS
                   (SELECT 1 FROM findings f WHERE f.advisory = a.id AND f.verdict = 1)",
                (least.number(),),
                |row| row.get(0),
            )
            .await
    }

    /// What advisories say of packages of these images.
    pub async fn findings_in(
        &self,
        images: Vec<Digest>,
    ) -> std::result::Result<Vec<NotedFinding>, StoreError> {
        self.records
            .read(move |connection| {
                let mut ask = connection.prepare_cached(&format!(
                    "SELECT {NOTED} FROM inventories v JOIN image_packages i ON i.image = v.id
                     JOIN findings f ON f.package = i.package
                     JOIN packages p ON p.id = i.package WHERE v.manifest = $1"
                ))?;
                let mut found = Vec::new();
                for image in images {
                    let mut rows = ask.query(params![image.as_str()])?;
                    while let Some(row) = &rows.next()? {
                        found.extend(noted(row)?);
                    }
                }
                Ok(found)
            })
            .await
    }

    /// Goes through everything that advisories say of packages of our images; with numbers, of these advisories alone.
    pub async fn fold_findings<T: Send + 'static>(
        &self,
        advisories: Option<Vec<i64>>,
        mut state: T,
        mut fold: impl FnMut(&mut T, NotedFinding) + Send + 'static,
    ) -> std::result::Result<T, StoreError> {
        self.records
            .read(move |connection| {
                let sql = |which: &str| {
                    format!(
                        "SELECT {NOTED} FROM findings f JOIN packages p ON p.id = f.package
                         JOIN image_packages i ON i.package = f.package
                         JOIN inventories v ON v.id = i.image {which}"
                    )
                };
                let mut take = |rows: &mut crate::sql::Rows<'_>| -> Result<()> {
                    while let Some(row) = &rows.next()? {
                        if let Some(one) = noted(row)? {
                            fold(&mut state, one);
                        }
                    }
                    Ok(())
                };
                match advisories {
                    None => take(&mut connection.prepare(&sql(""))?.query(())?)?,
                    Some(numbers) => {
                        let mut ask = connection.prepare_cached(&sql("WHERE f.advisory = $1"))?;
                        for number in numbers {
                            take(&mut ask.query(params![number])?)?;
                        }
                    }
                }
                Ok(state)
            })
            .await
    }

    /// Forgets the packages of images that are here no more.
    pub async fn forget_inventories(&self) -> std::result::Result<(), StoreError> {
        const GONE: [&str; 4] = [
            "DELETE FROM image_packages WHERE image IN (SELECT id FROM inventories v
               WHERE NOT EXISTS (SELECT 1 FROM bodies b WHERE b.digest = v.manifest))",
            "DELETE FROM inventories
               WHERE NOT EXISTS (SELECT 1 FROM bodies b WHERE b.digest = inventories.manifest)",
            "DELETE FROM packages
               WHERE NOT EXISTS (SELECT 1 FROM image_packages i WHERE i.package = packages.id)",
            "DELETE FROM findings
               WHERE NOT EXISTS (SELECT 1 FROM packages p WHERE p.id = findings.package)",
        ];
        self.records
            .jot(|connection| GONE.iter().try_for_each(|sql| connection.execute(sql, ()).map(drop)))
            .await
    }
}
