//! What shelves and repositories hold, each question at the cost of its answer.

use std::collections::{BTreeSet, HashMap};

use crate::sql::{Connection, Optional as _, params};
use larder_core::digest::Digest;
use larder_core::holdings::{BlobRow, HoldingRecords, ManifestRow, NeedRow, TagRow};
use larder_core::name::{RepositoryName, Tag};

use super::upkeep::known_repository;
use super::{checked, unsigned};
use crate::error::StoreError;
use crate::journal::ManifestUse;
use crate::store::Store;

/// What a shelf holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShelfTotals {
    pub shelf: String,
    /// Repositories with a manifest.
    pub repositories: u64,
    pub tags: u64,
    /// What its images take, in bytes; what several share counts once.
    pub bytes: u64,
    /// What nothing but its images uses, in bytes.
    pub alone: u64,
    /// The sizes of its tagged images added up, in bytes: without sharing.
    pub apart: u64,
    /// What was pushed and belongs to no image, in bytes.
    pub loose: u64,
    /// When a tag was last set, in milliseconds since 1970. None: never.
    pub changed: Option<i64>,
    /// When an image was last asked for, in milliseconds since 1970. None: never.
    pub pulled: Option<i64>,
    /// How often images were fetched since the day that was asked for.
    pub pulls: u64,
}

/// An image that has some content.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Holder {
    pub repository: RepositoryName,
    /// The first of its tags. None: it has none.
    pub tag: Option<Tag>,
    pub digest: Digest,
}

/// The names of a repository and of those below it: itself, and from one text up to another.
pub(super) fn range(prefix: &RepositoryName) -> (String, String, String) {
    // `0` comes right after the slash.
    (prefix.to_string(), format!("{prefix}/"), format!("{prefix}0"))
}

fn read_repository(
    connection: &Connection,
    records: &mut HoldingRecords,
    id: i64,
    name: &RepositoryName,
) -> crate::sql::Result<()> {
    let repository = records.repositories.len();
    records.repositories.push(name.clone());
    let mut query = connection.prepare_cached(
        "SELECT digest, media_type, size, subject, added FROM manifests WHERE repository = $1",
    )?;
    let mut rows = query.query(params![id])?;
    while let Some(row) = &rows.next()? {
        let subject = match row.get::<Option<String>>(3)? {
            None => None,
            Some(_) => Some(checked(row, 3)?),
        };
        records.manifests.push(ManifestRow {
            repository,
            digest: checked(row, 0)?,
            media_type: row.get(1)?,
            size: unsigned(row, 2)?,
            subject,
            added: row.get(4)?,
        });
    }
    let mut query = connection
        .prepare_cached("SELECT manifest, target, is_child FROM needs WHERE repository = $1")?;
    let mut rows = query.query(params![id])?;
    while let Some(row) = &rows.next()? {
        records.needs.push(NeedRow {
            repository,
            manifest: checked(row, 0)?,
            target: checked(row, 1)?,
            is_child: row.get::<i64>(2)? != 0,
        });
    }
    let mut query =
        connection.prepare_cached("SELECT digest, size FROM blobs WHERE repository = $1")?;
    let mut rows = query.query(params![id])?;
    while let Some(row) = &rows.next()? {
        records.blobs.push(BlobRow {
            repository,
            digest: checked(row, 0)?,
            size: unsigned(row, 1)?,
        });
    }
    let mut query = connection.prepare_cached(
        "SELECT name, digest, since FROM tags WHERE repository = $1 ORDER BY name",
    )?;
    let mut rows = query.query(params![id])?;
    while let Some(row) = &rows.next()? {
        records.tags.push(TagRow {
            repository,
            tag: checked(row, 0)?,
            digest: checked(row, 1)?,
            since: row.get(2)?,
        });
    }
    Ok(())
}

/// The contents of these repositories that an image of another one uses too.
fn used_elsewhere(
    connection: &Connection,
    records: &HoldingRecords,
    ids: &BTreeSet<i64>,
) -> crate::sql::Result<Vec<Digest>> {
    let mut elsewhere = Vec::new();
    let mut blobs = connection
        .prepare_cached("SELECT repository FROM blobs WHERE digest = $1 AND users > 0")?;
    let mut manifests =
        connection.prepare_cached("SELECT repository FROM manifests WHERE digest = $1")?;
    let own = records.manifests.iter().map(|row| &row.digest).collect::<BTreeSet<_>>();
    let named = records.blobs.iter().map(|row| &row.digest).collect::<BTreeSet<_>>();
    for digest in own.union(&named) {
        let mut is_elsewhere = false;
        for query in [&mut blobs, &mut manifests] {
            let mut rows = query.query(params![digest.as_str()])?;
            // There are as many as these repositories at most before one that is another's.
            while let Some(row) = &rows.next()? {
                if !ids.contains(&row.get(0)?) {
                    is_elsewhere = true;
                    break;
                }
            }
        }
        if is_elsewhere {
            elsewhere.push((*digest).clone());
        }
    }
    Ok(elsewhere)
}

fn holdings(
    connection: &Connection,
    names: &[RepositoryName],
) -> crate::sql::Result<HoldingRecords> {
    // One transaction: all of it is of the same moment.
    let moment = connection.moment()?;
    let mut records = HoldingRecords::default();
    let mut ids = BTreeSet::new();
    for name in names {
        if let Some(id) = known_repository(&moment, name.as_str())?
            && ids.insert(id)
        {
            read_repository(&moment, &mut records, id, name)?;
        }
    }
    records.elsewhere = used_elsewhere(&moment, &records, &ids)?;
    Ok(records)
}

/// The images whose content is, or includes, this: up from what needs it to what a tag or nothing holds.
fn holders(connection: &Connection, digest: &Digest) -> crate::sql::Result<Vec<Holder>> {
    let mut waiting: Vec<(i64, Digest)> = connection
        .prepare_cached(
            "SELECT repository, manifest FROM needs WHERE target = $1
             UNION SELECT repository, digest FROM manifests WHERE digest = $1",
        )?
        .query_map(params![digest.as_str()], |row| Ok((row.get(0)?, checked(row, 1)?)))?
        .collect::<crate::sql::Result<_>>()?;
    let mut seen: BTreeSet<(i64, String)> = BTreeSet::new();
    let mut found = Vec::new();
    let mut names: HashMap<i64, RepositoryName> = HashMap::new();
    while let Some((repository, manifest)) = waiting.pop() {
        if !seen.insert((repository, manifest.to_string())) {
            continue;
        }
        let parameters = params![manifest.as_str(), repository];
        let parents: Vec<Digest> = connection
            .prepare_cached(
                "SELECT manifest FROM needs WHERE target = $1 AND repository = $2 AND is_child = 1",
            )?
            .query_map(parameters, |row| checked(row, 0))?
            .collect::<crate::sql::Result<_>>()?;
        let tag: Option<Tag> = connection
            .prepare_cached(
                "SELECT name FROM tags WHERE digest = $1 AND repository = $2 ORDER BY name LIMIT 1",
            )?
            .query_row(parameters, |row| checked(row, 0))
            .optional()?;
        let about_none = super::any(
            connection,
            "SELECT 1 FROM manifests m WHERE m.digest = $1 AND m.repository = $2 AND NOT EXISTS
               (SELECT 1 FROM manifests s WHERE s.repository = $2 AND s.digest = m.subject)",
            parameters,
        )?;
        if tag.is_some() || (parents.is_empty() && about_none) {
            let name = match names.get(&repository) {
                Some(name) => name.clone(),
                None => {
                    let name: RepositoryName = connection
                        .prepare_cached("SELECT name FROM repositories WHERE id = $1")?
                        .query_row(params![repository], |row| checked(row, 0))?;
                    names.insert(repository, name.clone());
                    name
                }
            };
            found.push(Holder { repository: name, tag, digest: manifest.clone() });
        }
        waiting.extend(parents.into_iter().map(|parent| (repository, parent)));
    }
    found.sort();
    Ok(found)
}

/// What lies on shelves and in repositories.
impl Store {
    /// What each shelf holds, sorted by name, with its pulls counted from a day on.
    pub async fn shelf_totals(&self, from_day: i64) -> Result<Vec<ShelfTotals>, StoreError> {
        self.records
            .rows(
                "SELECT t.shelf, t.repositories, t.tags, t.bytes, t.alone, t.apart,
                   t.changed, t.pulled,
                   (SELECT CAST(COALESCE(SUM(u.pulls), 0) AS BIGINT) FROM shelf_uses u
                    WHERE u.shelf = t.shelf AND u.day >= $1), t.loose
                 FROM totals t WHERE t.shelf <> '' AND (t.repositories > 0 OR t.loose > 0) ORDER BY t.shelf",
                (from_day,),
                |row| {
                    Ok(ShelfTotals {
                        shelf: row.get(0)?,
                        repositories: unsigned(row, 1)?,
                        tags: unsigned(row, 2)?,
                        bytes: unsigned(row, 3)?,
                        alone: unsigned(row, 4)?,
                        apart: unsigned(row, 5)?,
                        changed: row.get(6)?,
                        pulled: row.get(7)?,
                        pulls: unsigned(row, 8)?,
                        loose: unsigned(row, 9)?,
                    })
                },
            )
            .await
    }

    /// At most `limit` repositories that are `prefix` or lie below it and that have a manifest, after `after`.
    pub async fn repositories_below(
        &self,
        prefix: &RepositoryName,
        after: Option<&RepositoryName>,
        limit: usize,
    ) -> Result<Vec<RepositoryName>, StoreError> {
        let (name, below, end) = range(prefix);
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT name FROM repositories
                 WHERE manifests > 0 AND name > $1 AND (name = $2 OR (name >= $3 AND name < $4))
                 ORDER BY name LIMIT $5",
                (after, name, below, end, limit),
                |row| checked(row, 0),
            )
            .await
    }

    /// Everything that is recorded of what some repositories hold, all of one moment, and which of their contents others
    /// use too.
    pub async fn holdings(&self, names: Vec<RepositoryName>) -> Result<HoldingRecords, StoreError> {
        self.records.read(move |connection| holdings(connection, &names)).await
    }

    /// The images that have some content, as a blob or as a manifest, on any shelf; sorted.
    pub async fn holders(&self, digest: &Digest) -> Result<Vec<Holder>, StoreError> {
        let digest = digest.clone();
        self.records.read(move |connection| holders(connection, &digest)).await
    }

    /// How much each manifest of a repository is used that was ever asked for, counted from a day on.
    pub async fn uses(
        &self,
        repository: &RepositoryName,
        from_day: i64,
    ) -> Result<Vec<ManifestUse>, StoreError> {
        let name = repository.clone();
        self.records
            .read(move |connection| {
                let Some(id) = known_repository(connection, name.as_str())? else {
                    return Ok(Vec::new());
                };
                connection
                    .prepare_cached(
                        "SELECT digest, CAST(SUM(CASE WHEN day >= $1 THEN pulls ELSE 0 END) AS BIGINT), MAX(last)
                         FROM uses WHERE repository = $2 GROUP BY digest ORDER BY digest",
                    )?
                    .query_map(params![from_day, id], |row| {
                        Ok(ManifestUse {
                            repository: name.clone(),
                            digest: checked(row, 0)?,
                            pulls: unsigned(row, 1)?,
                            last: row.get(2)?,
                        })
                    })?
                    .collect()
            })
            .await
    }

    /// The manifests that need a blob, in whichever repository; sorted, each once.
    pub async fn needing(&self, digest: &Digest) -> Result<Vec<Digest>, StoreError> {
        let digest = digest.to_string();
        self.records
            .rows(
                "SELECT DISTINCT manifest FROM needs WHERE target = $1 AND is_child = 0
                         ORDER BY manifest",
                (digest,),
                |row| checked(row, 0),
            )
            .await
    }
}
