//! What was published about packages, and which of our packages it is about.
//!
//! Advisories are held against each package once, and not against each image: findings are of packages, and images have
//! them by their packages.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::{Read as _, Write as _};

use larder_core::advisory::{
    Advisory, Severity, Statement, ecosystem_of, judge, matched_name, read_advisory,
};
use larder_core::version::Ecosystem;

use super::findings::{FINDINGS, finding, packages_named, word};
use super::moments::TouchedNames;
use super::rows::{Cell, ask, insert};
use crate::error::StoreError;
use crate::sql::{Connection, Optional as _, Result, params};
use crate::store::Store;

/// Advisories that were imported together, and are replaced together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Feed {
    pub name: String,
    /// The files that it came from, as they were named.
    pub origin: String,
    /// Of what was read.
    pub digest: String,
    /// In milliseconds since 1970.
    pub imported_at: i64,
    /// When the newest of it was changed, in milliseconds since 1970. 0: it has none.
    pub newest: i64,
    pub advisories: u64,
    /// Those that name no package of an ecosystem that we know.
    pub unmatched: u64,
    /// Whether what its statements hide counts as hidden.
    pub is_trusted: bool,
}

/// What became of advisories that were taken in.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct TakenAdvisories {
    pub new: u64,
    /// Those that were changed since.
    pub changed: u64,
    /// Those that were here as they are, or newer.
    pub same: u64,
    /// Those that were withdrawn; they are here no more.
    pub withdrawn: u64,
}

impl TakenAdvisories {
    /// And what became of others.
    pub fn add(&mut self, more: Self) {
        self.new += more.new;
        self.changed += more.changed;
        self.same += more.same;
        self.withdrawn += more.withdrawn;
    }

    /// All of them together.
    pub fn sum(&self) -> u64 {
        self.new + self.changed + self.same + self.withdrawn
    }
}

/// An advisory with the feed that it is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FeedAdvisory {
    pub feed: String,
    pub advisory: Advisory,
    /// Since when it is known here as it is, in milliseconds since 1970: taken in, or made more severe.
    pub known_at: i64,
}

/// An advisory as a list has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedAdvisory {
    pub feed: String,
    pub name: String,
    /// In milliseconds since 1970.
    pub modified: i64,
    pub severity: Severity,
    /// How many of our packages it is about, each version counted.
    pub packages: u64,
    /// How many images have one of them.
    pub images: u64,
}

/// The largest body that is read, in bytes.
const LARGEST: u64 = 64 * 1024 * 1024;

/// Written down, compressed.
fn pack<T: serde::Serialize>(value: &T) -> Vec<u8> {
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    // Neither can fail: it is written to memory, and its keys are texts.
    let written = serde_json::to_vec(value).is_ok_and(|json| packed.write_all(&json).is_ok());
    packed.finish().ok().filter(|_| written).unwrap_or_default()
}

pub(super) fn inflated(packed: &[u8]) -> Option<Vec<u8>> {
    let mut json = Vec::new();
    flate2::read::GzDecoder::new(packed).take(LARGEST).read_to_end(&mut json).ok()?;
    Some(json)
}

pub(super) fn unpack(packed: &[u8]) -> Option<Advisory> {
    read_advisory(&inflated(packed)?).ok()
}

/// The packages that an advisory names, of ecosystems that we know: each once.
pub(super) fn named(advisory: &Advisory) -> BTreeSet<(Ecosystem, String)> {
    let packages = advisory.affected.iter().filter_map(|one| one.package.as_ref());
    let known = packages.filter_map(|package| {
        let ecosystem = ecosystem_of(&package.ecosystem)?;
        Some((ecosystem, matched_name(ecosystem, &package.name)))
    });
    known.collect()
}

/// An advisory that is here: its number, when it was changed, and its body.
struct Held {
    id: i64,
    modified: i64,
    severity: i64,
    known_at: i64,
    body: Vec<u8>,
}

/// Since when an advisory is known, in a statement about `a`. An earlier program does not write it down.
pub(super) const KNOWN_AT: &str = "CASE WHEN a.first_at > 0 THEN a.first_at ELSE a.taken_at END";

fn held(connection: &Connection, feed: &str, names: &[&str]) -> Result<HashMap<String, Held>> {
    let sql = |places: &str| {
        format!(
            "SELECT a.name, a.id, a.modified, a.severity, {KNOWN_AT}, a.body FROM advisories a
             WHERE a.feed = $1 AND a.name IN ({places})"
        )
    };
    let read = |row: &crate::sql::Row<'_>| {
        let held = Held {
            id: row.get(1)?,
            modified: row.get(2)?,
            severity: row.get(3)?,
            known_at: row.get(4)?,
            body: row.get(5)?,
        };
        Ok((row.get::<String>(0)?, held))
    };
    Ok(ask(connection, sql, &feed, names, read)?.into_iter().collect())
}

/// Takes an advisory away with all that hangs on it.
fn forget(connection: &Connection, id: i64, body: &[u8]) -> Result<()> {
    if let Some(old) = unpack(body) {
        let mut alias = connection
            .prepare_cached("DELETE FROM advisory_aliases WHERE alias = $1 AND advisory = $2")?;
        for name in old.names() {
            alias.execute(params![name, id])?;
        }
        let mut name = connection.prepare_cached(
            "DELETE FROM advisory_names WHERE kind = $1 AND name = $2 AND advisory = $3",
        )?;
        for (ecosystem, of) in named(&old) {
            name.execute(params![word(ecosystem), of, id])?;
        }
    } else {
        // Its number may be given again: nothing may hang on it.
        connection.execute("DELETE FROM advisory_aliases WHERE advisory = $1", params![id])?;
        connection.execute("DELETE FROM advisory_names WHERE advisory = $1", params![id])?;
    }
    connection.prepare_cached("DELETE FROM findings WHERE advisory = $1")?.execute(params![id])?;
    connection.prepare_cached("DELETE FROM advisories WHERE id = $1")?.execute(params![id])?;
    Ok(())
}

/// Takes advisories of a feed in: those that are newer than what is here.
fn take(
    connection: &Connection,
    feed: &str,
    all: Vec<Advisory>,
    at: i64,
) -> Result<TakenAdvisories> {
    let mut taken = TakenAdvisories::default();
    // Of several with one name the newest counts.
    let mut newest: BTreeMap<String, Advisory> = BTreeMap::new();
    for advisory in all {
        let known =
            newest.get(&advisory.id).is_some_and(|known| known.modified >= advisory.modified);
        if !known {
            newest.insert(advisory.id.clone(), advisory);
        }
    }
    let names: Vec<&str> = newest.keys().map(String::as_str).collect();
    let here = held(connection, feed, &names)?;
    let mut wanted: Vec<(&Advisory, i64)> = Vec::new();
    let mut touch = connection.prepare_cached(
        "UPDATE advisories SET
           first_at = CASE WHEN first_at > 0 THEN first_at ELSE taken_at END, taken_at = $1
         WHERE id = $2",
    )?;
    for (name, advisory) in &newest {
        let old = here.get(name);
        if advisory.withdrawn.is_some() {
            if let Some(old) = old {
                forget(connection, old.id, &old.body)?;
            }
            taken.withdrawn += 1;
            continue;
        }
        match old {
            Some(old) if old.modified >= advisory.modified.as_millisecond() => {
                touch.execute(params![at, old.id])?;
                taken.same += 1;
            }
            Some(old) => {
                forget(connection, old.id, &old.body)?;
                taken.changed += 1;
                // What has become worse is new in what follows from it.
                let is_worse = advisory.severity().number() > old.severity;
                wanted.push((advisory, if is_worse { at } else { old.known_at }));
            }
            None => {
                taken.new += 1;
                wanted.push((advisory, at));
            }
        }
    }
    let rows: Vec<Vec<Cell>> = wanted
        .iter()
        .map(|(one, known_at)| {
            vec![
                Cell::text(feed),
                Cell::text(&one.id),
                Cell::Integer(one.modified.as_millisecond()),
                Cell::Integer(one.severity().number()),
                Cell::Integer(at),
                Cell::Integer(*known_at),
                Cell::Bytes(pack(one)),
            ]
        })
        .collect();
    let columns = "advisories (feed, name, modified, severity, taken_at, first_at, body)";
    insert(connection, columns, 7, &rows)?;
    let wanted: Vec<&Advisory> = wanted.into_iter().map(|(one, _)| one).collect();
    let names: Vec<&str> = wanted.iter().map(|one| one.id.as_str()).collect();
    let numbered = held(connection, feed, &names)?;
    let (mut aliases, mut of_packages, mut every) = (Vec::new(), Vec::new(), BTreeSet::new());
    let mut by_name: HashMap<(Ecosystem, String), Vec<usize>> = HashMap::new();
    for (place, advisory) in wanted.iter().enumerate() {
        let Some(Held { id, .. }) = numbered.get(&advisory.id) else { continue };
        aliases.extend(
            advisory.names().into_iter().map(|name| vec![Cell::text(name), Cell::Integer(*id)]),
        );
        for key in named(advisory) {
            let row = vec![Cell::text(word(key.0)), Cell::text(&key.1), Cell::Integer(*id)];
            of_packages.push(row);
            by_name.entry(key.clone()).or_default().push(place);
            every.insert(key);
        }
    }
    insert(connection, "advisory_aliases (alias, advisory)", 2, &aliases)?;
    insert(connection, "advisory_names (kind, name, advisory)", 3, &of_packages)?;
    let mut findings = Vec::new();
    for (package, key) in packages_named(connection, &every)? {
        let about = by_name.get(&(key.ecosystem, key.name.clone()));
        for place in about.into_iter().flatten() {
            let advisory = wanted[*place];
            if let Some(Held { id, .. }) = numbered.get(&advisory.id) {
                findings.extend(finding(*id, package, judge(advisory, &key)));
            }
        }
    }
    insert(connection, FINDINGS, 4, &findings)?;
    Ok(taken)
}

fn feed_of(row: &crate::sql::Row<'_>) -> Result<Feed> {
    Ok(Feed {
        name: row.get(0)?,
        origin: row.get(1)?,
        digest: row.get(2)?,
        imported_at: row.get(3)?,
        newest: row.get(4)?,
        advisories: super::unsigned(row, 5)?,
        unmatched: super::unsigned(row, 6)?,
        is_trusted: row.get::<i64>(7)? != 0,
    })
}

impl Store {
    /// Takes advisories of a feed in, in one change, and holds them against our packages. `at` is the time of the import,
    /// by which those that are not in it can be told.
    pub async fn take_advisories(
        &self,
        feed: &str,
        advisories: Vec<Advisory>,
        at: i64,
    ) -> std::result::Result<TakenAdvisories, StoreError> {
        let feed = feed.to_owned();
        self.records
            .write(TouchedNames::Advisories, move |connection| {
                take(connection, &feed, advisories, at).map_err(StoreError::ledger("be written"))
            })
            .await
    }

    /// Takes statements of a feed in, beside those that it has; `at` as for advisories.
    pub async fn take_statements(
        &self,
        feed: &str,
        statements: Vec<Statement>,
        at: i64,
    ) -> std::result::Result<(), StoreError> {
        let feed = feed.to_owned();
        self.records
            .write(TouchedNames::Advisories, move |connection| {
                let take = || -> Result<()> {
                    let mut same = connection.prepare_cached(
                        "DELETE FROM statements WHERE vulnerability = $1 AND feed = $2 AND body = $3",
                    )?;
                    let mut rows = Vec::new();
                    for one in &statements {
                        let body = pack(one);
                        for name in &one.vulnerabilities {
                            same.execute(params![name, feed, body])?;
                            let (feed, name) = (Cell::text(&feed), Cell::text(name));
                            rows.push(vec![feed, name, Cell::Integer(at), Cell::Bytes(body.clone())]);
                        }
                    }
                    insert(connection, "statements (feed, vulnerability, taken_at, body)", 4, &rows)
                };
                take().map_err(StoreError::ledger("be written"))
            })
            .await
    }

    /// Notes that a feed was imported. With `whole`, what was not taken in since then (in milliseconds since 1970) is
    /// taken away. Tells how many that were.
    pub async fn finish_feed(
        &self,
        feed: Feed,
        whole: Option<i64>,
    ) -> std::result::Result<u64, StoreError> {
        self.records
            .write(TouchedNames::Advisories, move |connection| {
                let finish = || -> Result<u64> {
                    let mut gone = 0;
                    if let Some(since) = whole {
                        connection.execute(
                            "DELETE FROM statements WHERE feed = $1 AND taken_at < $2",
                            params![feed.name, since],
                        )?;
                        let old: Vec<(i64, Vec<u8>)> = connection
                            .prepare_cached(
                                "SELECT id, body FROM advisories WHERE feed = $1 AND taken_at < $2",
                            )?
                            .query_map(params![feed.name, since], |row| {
                                Ok((row.get(0)?, row.get(1)?))
                            })?
                            .collect::<Result<_>>()?;
                        for (id, body) in old {
                            forget(connection, id, &body)?;
                            gone += 1;
                        }
                    }
                    connection
                        .prepare_cached(
                            "INSERT INTO feeds (name, origin, digest, imported_at, newest, advisories, unmatched, trusted)
                             VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
                             ON CONFLICT (name) DO UPDATE SET origin = excluded.origin, digest = excluded.digest,
                               imported_at = excluded.imported_at, newest = excluded.newest,
                               unmatched = excluded.unmatched, trusted = excluded.trusted",
                        )?
                        .execute(params![
                            feed.name,
                            feed.origin,
                            feed.digest,
                            feed.imported_at,
                            feed.newest,
                            0_i64,
                            i64::try_from(feed.unmatched).unwrap_or(i64::MAX),
                            i64::from(feed.is_trusted),
                        ])?;
                    connection.execute(
                        "UPDATE feeds SET advisories =
                           (SELECT COUNT(*) FROM advisories a WHERE a.feed = feeds.name),
                         newest = (SELECT COALESCE(MAX(a.modified), 0) FROM advisories a WHERE a.feed = feeds.name)
                         WHERE name = $1",
                        params![feed.name],
                    )?;
                    Ok(gone)
                };
                finish().map_err(StoreError::ledger("be written"))
            })
            .await
    }

    /// The feeds that were imported, by name.
    pub async fn feeds(&self) -> std::result::Result<Vec<Feed>, StoreError> {
        self.records
            .rows(
                "SELECT name, origin, digest, imported_at, newest, advisories, unmatched, trusted
                 FROM feeds ORDER BY name",
                (),
                feed_of,
            )
            .await
    }

    /// Takes a feed away with all that it has. False: there is none of that name.
    pub async fn drop_feed(&self, name: &str) -> std::result::Result<bool, StoreError> {
        let name = name.to_owned();
        self.records
            .write(TouchedNames::Advisories, move |connection| {
                let gone = || -> Result<bool> {
                    let old: Vec<(i64, Vec<u8>)> = connection
                        .prepare_cached("SELECT id, body FROM advisories WHERE feed = $1")?
                        .query_map(params![name], |row| Ok((row.get(0)?, row.get(1)?)))?
                        .collect::<Result<_>>()?;
                    for (id, body) in old {
                        forget(connection, id, &body)?;
                    }
                    connection.execute("DELETE FROM statements WHERE feed = $1", params![name])?;
                    let sql = "DELETE FROM feeds WHERE name = $1";
                    Ok(connection.execute(sql, params![name])? > 0)
                };
                gone().map_err(StoreError::ledger("be written"))
            })
            .await
    }

    /// The advisories of a name, which may be one of their aliases, with their numbers.
    pub async fn advisories_called(
        &self,
        name: &str,
    ) -> std::result::Result<Vec<(i64, FeedAdvisory)>, StoreError> {
        let name = name.to_owned();
        let found: Vec<(i64, String, i64, Vec<u8>)> = self
            .records
            .read(move |connection| {
                connection
                    .prepare_cached(&format!(
                        "SELECT a.id, a.feed, {KNOWN_AT}, a.body FROM advisory_aliases n
                         JOIN advisories a ON a.id = n.advisory
                         WHERE n.alias = $1 ORDER BY a.name, a.feed"
                    ))?
                    .query_map(params![name], |row| {
                        Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
                    })?
                    .collect()
            })
            .await?;
        let read = |(id, feed, known_at, body): (i64, String, i64, Vec<u8>)| {
            Some((id, FeedAdvisory { feed, advisory: unpack(&body)?, known_at }))
        };
        Ok(found.into_iter().filter_map(read).collect())
    }

    /// Advisories by their numbers.
    pub async fn advisories_numbered(
        &self,
        numbers: Vec<i64>,
    ) -> std::result::Result<HashMap<i64, FeedAdvisory>, StoreError> {
        self.records
            .read(move |connection| {
                let sql =
                    format!("SELECT a.feed, {KNOWN_AT}, a.body FROM advisories a WHERE a.id = $1");
                let mut ask = connection.prepare_cached(&sql)?;
                let mut found = HashMap::new();
                for number in numbers {
                    let read = |row: &crate::sql::Row<'_>| {
                        Ok((row.get::<String>(0)?, row.get::<i64>(1)?, row.get::<Vec<u8>>(2)?))
                    };
                    let one = ask.query_row(params![number], read).optional()?;
                    if let Some((feed, known_at, body)) = one
                        && let Some(advisory) = unpack(&body)
                    {
                        found.insert(number, FeedAdvisory { feed, advisory, known_at });
                    }
                }
                Ok(found)
            })
            .await
    }

    /// At most `limit` advisories, the newest first, with how many of our packages and images they are
    /// about; with a feed, only those of it.
    pub async fn list_advisories(
        &self,
        feed: Option<String>,
        least: Severity,
        touching: bool,
        limit: usize,
    ) -> std::result::Result<Vec<ListedAdvisory>, StoreError> {
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let (any, feed) = (i64::from(feed.is_none()), feed.unwrap_or_default());
        self.records
            .rows(
                "SELECT a.feed, a.name, a.modified, a.severity,
                   (SELECT COUNT(*) FROM findings f WHERE f.advisory = a.id AND f.verdict = 1),
                   (SELECT COUNT(DISTINCT i.image) FROM findings f JOIN image_packages i ON i.package = f.package
                    JOIN inventories v ON v.id = i.image JOIN bodies b ON b.digest = v.manifest
                    WHERE f.advisory = a.id AND f.verdict = 1)
                 FROM advisories a
                 WHERE (CAST($1 AS BIGINT) = 1 OR a.feed = $2) AND a.severity >= $3 AND (CAST($4 AS BIGINT) = 0 OR EXISTS
                   (SELECT 1 FROM findings f JOIN image_packages i ON i.package = f.package
                    JOIN inventories v ON v.id = i.image JOIN bodies b ON b.digest = v.manifest
                    WHERE f.advisory = a.id AND f.verdict = 1))
                 ORDER BY a.modified DESC, a.name LIMIT $5",
                (any, feed, least.number(), i64::from(touching), limit),
                |row| {
                    Ok(ListedAdvisory {
                        feed: row.get(0)?,
                        name: row.get(1)?,
                        modified: row.get(2)?,
                        severity: Severity::of_number(row.get(3)?),
                        packages: super::unsigned(row, 4)?,
                        images: super::unsigned(row, 5)?,
                    })
                },
            )
            .await
    }
}
