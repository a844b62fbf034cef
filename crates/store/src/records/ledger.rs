//! What repositories hold, in SQLite.

use std::collections::BTreeMap;

use crate::sql::{Connection, Optional as _, Row, params};
use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;

use super::moments::since;
use super::needs;
use super::quotas::Bringer;
use super::{any, checked, signed, unsigned};
use crate::error::StoreError;
use crate::ledger::{Demand, HeldSince, ManifestRecord, Moment, NewManifest, Referrer};
use crate::store::Store;

pub(super) fn repository_id(
    connection: &Connection,
    name: &RepositoryName,
) -> Result<i64, crate::sql::Error> {
    connection
        .prepare_cached(
            "INSERT INTO repositories (name, shelf) VALUES ($1, $2)
             ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id",
        )?
        .query_row(params![name.as_str(), name.first_component()], |row| row.get(0))
}

pub(super) fn manifest_record(row: &Row<'_>) -> Result<ManifestRecord, crate::sql::Error> {
    Ok(ManifestRecord {
        digest: checked(row, 0)?,
        media_type: row.get(1)?,
        size: unsigned(row, 2)?,
    })
}

/// What a tag or digest names, with its bytes if they are there.
pub(crate) fn manifest(
    connection: &Connection,
    name: &RepositoryName,
    selector: &Selector,
) -> crate::sql::Result<Option<(ManifestRecord, Option<Bytes>)>> {
    let (sql, value) = match selector {
        Selector::Digest(digest) => (
            "SELECT m.digest, m.media_type, m.size, b.body FROM manifests m
             JOIN repositories r ON r.id = m.repository LEFT JOIN bodies b ON b.digest = m.digest
             WHERE r.name = $1 AND m.digest = $2",
            digest.as_str(),
        ),
        Selector::Tag(tag) => (
            "SELECT m.digest, m.media_type, m.size, b.body FROM tags t
             JOIN repositories r ON r.id = t.repository
             JOIN manifests m ON m.repository = t.repository AND m.digest = t.digest
             LEFT JOIN bodies b ON b.digest = m.digest
             WHERE r.name = $1 AND t.name = $2",
            tag.as_str(),
        ),
    };
    connection
        .prepare_cached(sql)?
        .query_row(params![name.as_str(), value], |row| {
            let body: Option<Vec<u8>> = row.get(3)?;
            Ok((manifest_record(row)?, body.map(Bytes::from)))
        })
        .optional()
}

/// What lists of referrers say of a manifest: its kind, and its annotations as JSON.
pub(crate) fn described(document: &Document) -> (Option<String>, Option<String>) {
    let annotations = (!document.annotations.is_empty())
        .then(|| serde_json::to_string(&document.annotations).ok())
        .flatten();
    (document.artifact_type().map(str::to_owned), annotations)
}

/// What an image takes in its repository, each content once, in bytes: the manifest, what it lists, and their blobs as
/// far as they are there.
const VOLUME: &str = "
    WITH RECURSIVE tree (digest) AS (
        SELECT digest FROM manifests WHERE digest = $1 AND repository = $2
        UNION SELECT n.target FROM tree t JOIN needs n
            ON n.repository = $2 AND n.manifest = t.digest AND n.is_child = 1)
    SELECT CAST(COALESCE(SUM(size), 0) AS BIGINT) FROM (
        SELECT m.digest AS digest, m.size AS size FROM tree t
            JOIN manifests m ON m.repository = $2 AND m.digest = t.digest
        UNION SELECT b.digest, b.size FROM tree t
            JOIN needs n ON n.repository = $2 AND n.manifest = t.digest AND n.is_child = 0
            JOIN blobs b ON b.repository = $2 AND b.digest = n.target) AS parts";

/// Keeps right what an image takes, after something of it came or went, and what those take that list it.
pub(super) fn measure(
    connection: &Connection,
    repository: i64,
    manifest: &Digest,
) -> crate::sql::Result<()> {
    let mut all = vec![manifest.to_string()];
    let mut at = 0;
    while let Some(digest) = all.get(at).cloned() {
        at += 1;
        let volume: i64 = connection
            .prepare_cached(VOLUME)?
            .query_row(params![digest, repository], |row| row.get(0))?;
        connection
            .prepare_cached(
                "UPDATE manifests SET volume = $1
                 WHERE repository = $2 AND digest = $3 AND volume <> $1",
            )?
            .execute(params![volume, repository, digest])?;
        let above: Vec<String> = connection
            .prepare_cached(
                "SELECT manifest FROM needs WHERE target = $1 AND repository = $2 AND is_child = 1",
            )?
            .query_map(params![digest, repository], |row| row.get(0))?
            .collect::<crate::sql::Result<_>>()?;
        let new = above.into_iter().filter(|one| !all.contains(one)).collect::<Vec<_>>();
        all.extend(new);
    }
    Ok(())
}

/// Records that a repository has a blob that the store has.
///
/// # Errors
/// [`StoreError::Vanished`] when the store does not have it.
pub(super) fn link(
    connection: &Connection,
    name: &RepositoryName,
    digest: &Digest,
    at: i64,
    bringer: &Bringer,
) -> Result<u64, StoreError> {
    let failed = || StoreError::ledger("record a blob");
    // What was about to be removed stays; what is damaged is nobody's to have.
    let size: Option<u64> = connection
        .prepare_cached(
            "UPDATE contents SET state = 'here' WHERE digest = $1 AND state <> 'damaged' RETURNING size",
        )
        .and_then(|mut revive| {
            revive.query_row(params![digest.as_str()], |row| unsigned(row, 0)).optional()
        })
        .map_err(failed())?;
    let Some(size) = size else { return Err(StoreError::Vanished(digest.clone())) };
    link_of(connection, name, (digest, size), at, bringer)?;
    Ok(size)
}

/// The same of a content of so many bytes that was recorded in this change.
pub(super) fn link_of(
    connection: &Connection,
    name: &RepositoryName,
    (digest, size): (&Digest, u64),
    at: i64,
    bringer: &Bringer,
) -> Result<(), StoreError> {
    let failed = || StoreError::ledger("record a blob");
    let link = || -> Result<(), StoreError> {
        let repository = repository_id(connection, name).map_err(failed())?;
        let refreshed = connection
            .prepare_cached("UPDATE blobs SET idle = $1 WHERE repository = $2 AND digest = $3")
            .and_then(|mut refresh| refresh.execute(params![at, repository, digest.as_str()]))
            .map_err(failed())?;
        if refreshed > 0 {
            return Ok(());
        }
        bringer.check(connection, name, digest, size)?;
        let insert = || -> crate::sql::Result<()> {
            let users: Vec<Digest> =
                super::upkeep::needed_by(connection, repository, digest, false)?;
            connection
                .prepare_cached(
                    "INSERT INTO blobs (repository, digest, size, idle, users, account)
                     VALUES ($1, $2, $3, $4, $5, $6)",
                )?
                .execute(params![
                    repository,
                    digest.as_str(),
                    signed(size),
                    at,
                    signed(users.len() as u64),
                    bringer.account,
                ])?;
            for user in &users {
                measure(connection, repository, user)?;
            }
            Ok(())
        };
        insert().map_err(failed())
    };
    link()
}

pub(crate) fn record(
    connection: &Connection,
    name: &RepositoryName,
    new: &NewManifest,
) -> Result<(), StoreError> {
    // Long: one transaction: what must hold together stands together.
    let failed = || StoreError::ledger("record a manifest");
    let repository = repository_id(connection, name).map_err(failed())?;
    let mut missing = Vec::new();
    let (blobs_asked, children_asked) = match new.demand {
        Demand::All => (true, true),
        Demand::Blobs => (true, false),
        Demand::Nothing => (false, false),
    };
    let blobs = if blobs_asked { &new.blobs[..] } else { &[] };
    // An index that may lack some of what it lists says the truth of the rest.
    let children = if blobs_asked { &new.children[..] } else { &[] };
    for (parts, table, needed) in [(blobs, "blobs", true), (children, "manifests", children_asked)]
    {
        let sizes = needs::sizes(connection, table, repository, parts).map_err(failed())?;
        for (digest, said) in parts {
            match sizes.get(digest) {
                None if needed => missing.push(digest.clone()),
                Some(actual) if actual != said => {
                    let (digest, said, actual) = (digest.clone(), *said, *actual);
                    return Err(StoreError::Size { digest, said, actual });
                }
                _ => {}
            }
        }
    }
    if !missing.is_empty() {
        return Err(StoreError::Missing(missing));
    }
    if let Some(tag) = new.tag.as_ref().filter(|_| new.immutable) {
        let before: Option<Digest> = connection
            .prepare_cached("SELECT digest FROM tags WHERE repository = $1 AND name = $2")
            .and_then(|mut ask| {
                ask.query_row(params![repository, tag.as_str()], |row| checked(row, 0)).optional()
            })
            .map_err(failed())?;
        if let Some(digest) = before.filter(|before| *before != new.record.digest) {
            return Err(StoreError::Immutable { tag: tag.clone(), digest });
        }
    }
    let there = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
    let there = super::any(connection, there, params![repository, new.record.digest.as_str()]);
    if !there.map_err(failed())? {
        new.bringer.check(connection, name, &new.record.digest, new.record.size)?;
    }
    let write = || -> Result<(), crate::sql::Error> {
        let digest = new.record.digest.as_str();
        connection
            .prepare_cached(
                "INSERT INTO manifests
                   (repository, digest, media_type, size, subject, added, artifact_type, annotations, account)
                 VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
                 ON CONFLICT (repository, digest) DO UPDATE SET media_type = excluded.media_type",
            )?
            .execute(params![
                repository,
                digest,
                new.record.media_type,
                signed(new.record.size),
                new.subject.as_ref().map(Digest::as_str),
                new.at,
                new.described.0,
                new.described.1,
                new.bringer.account,
            ])?;
        // What was damaged is whole again.
        connection
            .prepare_cached(
                "INSERT INTO bodies (digest, body) VALUES ($1, $2)
                 ON CONFLICT (digest) DO UPDATE SET body = excluded.body
                 WHERE bodies.body <> excluded.body",
            )?
            .execute(params![digest, &new.body[..]])?;
        needs::record(connection, repository, new)?;
        if let Some(tag) = &new.tag {
            // Setting a tag to where it points already does not make it younger.
            connection
                .prepare_cached(
                    "INSERT INTO tags (repository, name, digest, since) VALUES ($1, $2, $3, $4)
                     ON CONFLICT (repository, name) DO UPDATE SET
                       since = CASE WHEN tags.digest = excluded.digest THEN tags.since ELSE excluded.since END,
                       digest = excluded.digest",
                )?
                .execute(params![repository, tag.as_str(), digest, new.at])?;
        }
        measure(connection, repository, &new.record.digest)
    };
    write().map_err(failed())
}

impl Store {
    /// The size in bytes of a blob that the repository has. None: it does not have it.
    pub async fn blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT b.size FROM blobs b JOIN repositories r ON r.id = b.repository
                     WHERE r.name = $1 AND b.digest = $2",
                    )?
                    .query_row(params![name.as_str(), digest.as_str()], |row| unsigned(row, 0))
                    .optional()
            })
            .await
    }

    /// What a tag or digest names. None: the repository has nothing under it.
    pub async fn manifest_record(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<ManifestRecord>, StoreError> {
        let (name, selector) = (repository.clone(), selector.clone());
        self.records
            .read(move |connection| {
                let (sql, value) = match &selector {
                    Selector::Digest(digest) => (
                        "SELECT m.digest, m.media_type, m.size FROM manifests m
                     JOIN repositories r ON r.id = m.repository
                     WHERE r.name = $1 AND m.digest = $2",
                        digest.as_str(),
                    ),
                    Selector::Tag(tag) => (
                        "SELECT m.digest, m.media_type, m.size FROM tags t
                     JOIN repositories r ON r.id = t.repository
                     JOIN manifests m ON m.repository = t.repository AND m.digest = t.digest
                     WHERE r.name = $1 AND t.name = $2",
                        tag.as_str(),
                    ),
                };
                let parameters = params![name.as_str(), value];
                connection.prepare_cached(sql)?.query_row(parameters, manifest_record).optional()
            })
            .await
    }

    /// Whether a manifest of the repository lists this digest as a child although the repository
    /// does not have it: a platform that was not brought in.
    pub async fn is_absent_child(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records.read(move |connection| {
            any(
                connection,
                "SELECT 1 FROM needs n JOIN repositories r ON r.id = n.repository
                 WHERE r.name = $1 AND n.target = $2 AND n.is_child = 1 AND NOT EXISTS
                   (SELECT 1 FROM manifests m WHERE m.repository = n.repository AND m.digest = n.target)",
                params![name.as_str(), digest.as_str()],
            )
        })
        .await
    }

    /// Whether a manifest of the repository lists this digest as a child.
    pub async fn is_listed(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                any(
                    connection,
                    "SELECT 1 FROM needs n JOIN repositories r ON r.id = n.repository
                 WHERE r.name = $1 AND n.target = $2 AND n.is_child = 1",
                    params![name.as_str(), digest.as_str()],
                )
            })
            .await
    }

    /// The indexes of the repository that list this digest as a child.
    pub async fn listing(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Vec<Digest>, StoreError> {
        let (name, digest) = (repository.to_string(), digest.to_string());
        self.records
            .rows(
                "SELECT n.manifest FROM needs n JOIN repositories r ON r.id = n.repository
                     WHERE r.name = $1 AND n.target = $2 AND n.is_child = 1 ORDER BY n.manifest",
                (name, digest),
                |row| checked(row, 0),
            )
            .await
    }

    /// At most `limit` tags after `after`. None: there is no such repository.
    pub async fn tags(
        &self,
        repository: &RepositoryName,
        after: Option<&Tag>,
        limit: usize,
    ) -> Result<Option<Vec<Tag>>, StoreError> {
        let name = repository.clone();
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records.read(move |connection| {
            let find = "SELECT id FROM repositories WHERE name = $1";
            let id: Option<i64> = connection
                .prepare_cached(find)?
                .query_row(params![name.as_str()], |row| row.get(0))
                .optional()?;
            let Some(id) = id else { return Ok(None) };
            connection
                .prepare_cached("SELECT name FROM tags WHERE repository = $1 AND name > $2 ORDER BY name LIMIT $3")?
                .query_map(params![id, after, limit], |row| checked(row, 0))?
                .collect::<Result<Vec<Tag>, _>>()
                .map(Some)
        })
        .await
    }

    /// Since when the repository has a manifest. None: it does not have it.
    pub async fn held_since(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<HeldSince>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT m.added, m.added >=
                       COALESCE((SELECT at FROM stops WHERE kind = 'begun' AND name = 'ages'), 0)
                     FROM manifests m JOIN repositories r ON r.id = m.repository
                     WHERE r.name = $1 AND m.digest = $2",
                    )?
                    .query_row(params![name.as_str(), digest.as_str()], |row| {
                        Ok(HeldSince { added: row.get(0)?, counts: row.get(1)? })
                    })
                    .optional()
            })
            .await
    }

    /// Another repository that has this blob, from which it can be mounted.
    /// None: nobody has it.
    pub async fn anywhere(&self, digest: &Digest) -> Result<Option<u64>, StoreError> {
        let digest = digest.clone();
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached("SELECT size FROM blobs WHERE digest = $1 LIMIT 1")?
                    .query_row(params![digest.as_str()], |row| unsigned(row, 0))
                    .optional()
            })
            .await
    }

    /// The manifests of the repository that are about this digest, sorted by their own: at most `limit` after `after`. Empty when there are none, and for a repository that is not there.
    pub async fn referrers(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<Referrer>, StoreError> {
        let (name, subject) = (repository.to_string(), subject.to_string());
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT m.digest, m.media_type, m.size, m.artifact_type,
                           COALESCE(octet_length(m.annotations), 0)
                         FROM manifests m JOIN repositories r ON r.id = m.repository
                         WHERE r.name = $1 AND m.subject = $2 AND m.digest > $3
                         ORDER BY m.digest LIMIT $4",
                (name, subject, after, limit),
                |row| {
                    Ok(Referrer {
                        manifest: manifest_record(row)?,
                        artifact_type: row.get(3)?,
                        annotations_size: unsigned(row, 4)?,
                    })
                },
            )
            .await
    }

    /// The annotations of some manifests of a repository that are about others, in their order. Empty: it has none.
    pub async fn annotations(
        &self,
        repository: &RepositoryName,
        digests: Vec<Digest>,
    ) -> Result<Vec<BTreeMap<String, String>>, StoreError> {
        let name = repository.clone();
        self.records
            .read(move |connection| {
                let mut query = connection.prepare_cached(
                    "SELECT m.annotations FROM manifests m JOIN repositories r ON r.id = m.repository
                     WHERE r.name = $1 AND m.digest = $2",
                )?;
                let mut read = |digest: &Digest| -> crate::sql::Result<BTreeMap<String, String>> {
                    let text: Option<Option<String>> = query
                        .query_row(params![name.as_str(), digest.as_str()], |row| row.get(0))
                        .optional()?;
                    let text = text.flatten();
                    Ok(text.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default())
                };
                digests.iter().map(&mut read).collect()
            })
            .await
    }

    /// The present moment of what a repository holds, whichever process changed something last. Cheap: it may be asked
    /// for with every request. None: it cannot be told, so nothing may be taken for unchanged.
    pub fn moment(&self, repository: &RepositoryName) -> Option<Moment> {
        self.records.moment_of(repository)
    }

    /// The present moment of who may do what: keys, stops.
    pub fn moment_of_access(&self) -> Option<Moment> {
        self.records.moment_of_access()
    }

    /// The present moment of what was published about packages: feeds, advisories, statements.
    pub fn moment_of_advisories(&self) -> Option<Moment> {
        self.records.moment_of_advisories()
    }

    /// Looks whether another process changed something without telling, because it was killed just then. To be called
    /// now and then where [`moment`](Self::moment) is relied on.
    pub async fn notice_others(&self) {
        if self.records.is_watched() {
            return;
        }
        // Asked of the writing connection, this is about other processes alone.
        let moments = std::sync::Arc::clone(&self.records.moments);
        let told = moments.told();
        let noticed = self.records.jot(move |connection| {
            let version = connection
                .file()?
                .pragma_query_value(None, "data_version", |row| row.get::<_, i64>(0))?;
            match moments.differs(version) {
                true => since(connection, told).map(Some),
                false => Ok(None),
            }
        });
        match noticed.await {
            Ok(Some((names, last))) => self.records.moments.tell_others(&names, last),
            Ok(None) => {}
            Err(error) => tracing::warn!(%error, "changes by other processes cannot be told"),
        }
    }
}
