//! The ledger's promises, in SQLite.

use std::sync::Arc;

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use rusqlite::{Connection, OptionalExtension as _, Row, params};

use super::{SqliteLedger, any, checked, digests, signed, unsigned};
use crate::blobs::BlobStore;
use crate::clock::now;
use crate::error::StoreError;
use crate::ledger::{
    Demand, HeldSince, HeldTag, Ledger, ManifestRecord, Moment, NewManifest, Totals,
};

/// Content that is to be recorded must not have been collected meanwhile. Asked for within the change:
/// until that is committed, nothing can be collected.
pub(super) fn still_there(blobs: &dyn BlobStore, digest: &Digest) -> Result<(), StoreError> {
    if blobs.is_there(digest)? { Ok(()) } else { Err(StoreError::Vanished(digest.clone())) }
}

pub(super) fn repository_id(
    connection: &Connection,
    name: &RepositoryName,
) -> Result<i64, rusqlite::Error> {
    connection
        .prepare_cached(
            "INSERT INTO repositories (name) VALUES ($1)
             ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id",
        )?
        .query_row(params![name.as_str()], |row| row.get(0))
}

fn manifest_record(row: &Row<'_>) -> Result<ManifestRecord, rusqlite::Error> {
    Ok(ManifestRecord {
        digest: checked(row, 0)?,
        media_type: row.get(1)?,
        size: unsigned(row, 2)?,
    })
}

pub(super) fn record(
    connection: &Connection,
    name: &RepositoryName,
    new: &NewManifest,
) -> Result<(), StoreError> {
    let failed = || StoreError::ledger("record a manifest");
    let repository = repository_id(connection, name).map_err(failed())?;
    let mut missing = Vec::new();
    let size_of_blob = "SELECT size FROM blobs WHERE repository = $1 AND digest = $2";
    let size_of_child = "SELECT size FROM manifests WHERE repository = $1 AND digest = $2";
    let (blobs_asked, children_asked) = match new.demand {
        Demand::All => (true, true),
        Demand::Blobs => (true, false),
        Demand::Nothing => (false, false),
    };
    let blobs = new.blobs.iter().filter(|_| blobs_asked).map(|one| (one, size_of_blob, true));
    // An index that may lack some of what it lists says the truth of the rest.
    let children = new.children.iter().filter(|_| blobs_asked);
    let children = children.map(|one| (one, size_of_child, children_asked));
    for ((digest, said), question, needed) in blobs.chain(children) {
        let actual = connection
            .prepare_cached(question)
            .and_then(|mut ask| {
                ask.query_row(params![repository, digest.as_str()], |row| unsigned(row, 0))
                    .optional()
            })
            .map_err(failed())?;
        match actual {
            None if needed => missing.push(digest.clone()),
            Some(actual) if actual != *said => {
                return Err(StoreError::Size { digest: digest.clone(), said: *said, actual });
            }
            _ => {}
        }
    }
    if !missing.is_empty() {
        return Err(StoreError::Missing(missing));
    }
    let write = || -> Result<(), rusqlite::Error> {
        let digest = new.record.digest.as_str();
        connection
            .prepare_cached(
                "INSERT INTO manifests (repository, digest, media_type, size, subject, added)
                 VALUES ($1, $2, $3, $4, $5, $6)
                 ON CONFLICT (repository, digest) DO UPDATE SET media_type = excluded.media_type",
            )?
            .execute(params![
                repository,
                digest,
                new.record.media_type,
                signed(new.record.size),
                new.subject.as_ref().map(Digest::as_str),
                new.at
            ])?;
        let mut need = connection.prepare_cached(
            "INSERT INTO needs (repository, manifest, target, is_child, size)
             VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (repository, manifest, target) DO UPDATE SET size = excluded.size",
        )?;
        for (target, size) in &new.blobs {
            need.execute(params![repository, digest, target.as_str(), 0, signed(*size)])?;
        }
        for (target, _) in &new.children {
            need.execute(params![repository, digest, target.as_str(), 1, None::<i64>])?;
        }
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
        Ok(())
    };
    write().map_err(failed())
}

#[async_trait]
impl Ledger for SqliteLedger {
    async fn link_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: u64,
    ) -> Result<(), StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        let blobs = Arc::clone(&self.blobs);
        self.note(move |connection| {
            still_there(&*blobs, &digest)?;
            let link = || -> Result<(), rusqlite::Error> {
                let repository = repository_id(connection, &name)?;
                connection
                    .prepare_cached(
                        "INSERT INTO blobs (repository, digest, size, idle) VALUES ($1, $2, $3, $4)
                         ON CONFLICT (repository, digest) DO UPDATE SET idle = excluded.idle",
                    )?
                    .execute(params![repository, digest.as_str(), signed(size), now()])?;
                Ok(())
            };
            link().map_err(StoreError::ledger("record a blob"))
        })
        .await
    }

    async fn blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.read(move |connection| {
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

    async fn put_manifest(
        &self,
        repository: &RepositoryName,
        manifest: NewManifest,
    ) -> Result<(), StoreError> {
        let name = repository.clone();
        let blobs = Arc::clone(&self.blobs);
        self.write(move |connection| {
            still_there(&*blobs, &manifest.record.digest)?;
            record(connection, &name, &manifest)
        })
        .await
    }

    async fn manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<ManifestRecord>, StoreError> {
        let (name, selector) = (repository.clone(), selector.clone());
        self.read(move |connection| {
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

    async fn is_absent_child(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.read(move |connection| {
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

    async fn is_listed(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.read(move |connection| {
            any(
                connection,
                "SELECT 1 FROM needs n JOIN repositories r ON r.id = n.repository
                 WHERE r.name = $1 AND n.target = $2 AND n.is_child = 1",
                params![name.as_str(), digest.as_str()],
            )
        })
        .await
    }

    async fn listing(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Vec<Digest>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.read(move |connection| {
            connection
                .prepare_cached(
                    "SELECT n.manifest FROM needs n JOIN repositories r ON r.id = n.repository
                     WHERE r.name = $1 AND n.target = $2 AND n.is_child = 1 ORDER BY n.manifest",
                )?
                .query_map(params![name.as_str(), digest.as_str()], |row| checked(row, 0))?
                .collect()
        })
        .await
    }

    async fn referrers(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<ManifestRecord>, StoreError> {
        let (name, subject) = (repository.clone(), subject.clone());
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.read(move |connection| {
            connection
                .prepare_cached(
                    "SELECT m.digest, m.media_type, m.size FROM manifests m
                     JOIN repositories r ON r.id = m.repository
                     WHERE r.name = $1 AND m.subject = $2 AND m.digest > $3
                     ORDER BY m.digest LIMIT $4",
                )?
                .query_map(params![name.as_str(), subject.as_str(), after, limit], manifest_record)?
                .collect()
        })
        .await
    }

    async fn tags(
        &self,
        repository: &RepositoryName,
        after: Option<&Tag>,
        limit: usize,
    ) -> Result<Option<Vec<Tag>>, StoreError> {
        let name = repository.clone();
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.read(move |connection| {
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

    fn moment(&self) -> Option<Moment> {
        self.moments.now()
    }

    async fn notice_others(&self) {
        // Asked of the writing connection, this is about other processes alone.
        let version = self.note(|connection| {
            connection
                .pragma_query_value(None, "data_version", |row| row.get::<_, i64>(0))
                .map_err(StoreError::ledger("be read"))
        });
        match version.await {
            Ok(version) => self.moments.compare(version),
            Err(error) => tracing::warn!(%error, "changes by other processes cannot be told"),
        }
    }

    async fn repositories(
        &self,
        after: Option<&RepositoryName>,
        limit: usize,
    ) -> Result<Vec<RepositoryName>, StoreError> {
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.read(move |connection| {
            connection
                .prepare_cached(
                    "SELECT name FROM repositories r WHERE name > $1 AND EXISTS
                       (SELECT 1 FROM manifests m WHERE m.repository = r.id)
                     ORDER BY name LIMIT $2",
                )?
                .query_map(params![after, limit], |row| checked(row, 0))?
                .collect()
        })
        .await
    }

    async fn totals(&self) -> Result<Totals, StoreError> {
        self.read(|connection| {
            let count = |sql: &str| connection.query_row(sql, [], |row| unsigned(row, 0));
            Ok(Totals {
                repositories: count("SELECT COUNT(DISTINCT repository) FROM manifests")?,
                tags: count("SELECT COUNT(*) FROM tags")?,
                manifests: count("SELECT COUNT(DISTINCT digest) FROM manifests")?,
                blobs: count("SELECT COUNT(DISTINCT digest) FROM blobs")?,
                bytes: count(
                    "SELECT CAST(COALESCE(SUM(size), 0) AS BIGINT) FROM
                       (SELECT digest, MAX(size) AS size FROM
                         (SELECT digest, size FROM blobs UNION ALL SELECT digest, size FROM manifests) a
                        GROUP BY digest) b",
                )?,
            })
        })
        .await
    }

    async fn held(&self, prefix: Option<&RepositoryName>) -> Result<Vec<HeldTag>, StoreError> {
        let prefix = prefix.map(ToString::to_string).unwrap_or_default();
        self.read(move |connection| {
            // An index needs the blobs of its children; each blob counts once.
            connection
                .prepare_cached(
                    "SELECT m.digest, m.media_type, m.size, r.name, t.name, t.since,
                       (SELECT CAST(COALESCE(SUM(b.size), 0) AS BIGINT) FROM blobs b
                        WHERE b.repository = t.repository AND b.digest IN
                          (SELECT target FROM needs n WHERE n.repository = t.repository AND n.is_child = 0
                           AND (n.manifest = t.digest OR n.manifest IN
                             (SELECT c.target FROM needs c WHERE c.repository = t.repository
                              AND c.manifest = t.digest AND c.is_child = 1))))
                     FROM tags t JOIN repositories r ON r.id = t.repository
                     JOIN manifests m ON m.repository = t.repository AND m.digest = t.digest
                     WHERE $1 = '' OR r.name = $1 OR substr(r.name, 1, length($1) + 1) = $1 || '/'
                     ORDER BY r.name, t.name",
                )?
                .query_map(params![prefix], |row| {
                    Ok(HeldTag {
                        manifest: manifest_record(row)?,
                        repository: checked(row, 3)?,
                        tag: checked(row, 4)?,
                        since: row.get(5)?,
                        content: unsigned(row, 6)?,
                    })
                })?
                .collect()
        })
        .await
    }

    async fn all_tags(&self) -> Result<Vec<(RepositoryName, Tag, Digest)>, StoreError> {
        self.read(|connection| {
            connection
                .prepare_cached(
                    "SELECT r.name, t.name, t.digest FROM tags t
                     JOIN repositories r ON r.id = t.repository ORDER BY r.name, t.name",
                )?
                .query_map([], |row| Ok((checked(row, 0)?, checked(row, 1)?, checked(row, 2)?)))?
                .collect()
        })
        .await
    }

    async fn digests(&self) -> Result<Vec<Digest>, StoreError> {
        self.read(digests).await
    }

    async fn held_since(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<HeldSince>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.read(move |connection| {
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

    async fn anywhere(&self, digest: &Digest) -> Result<Option<u64>, StoreError> {
        let digest = digest.clone();
        self.read(move |connection| {
            connection
                .prepare_cached("SELECT size FROM blobs WHERE digest = $1 LIMIT 1")?
                .query_row(params![digest.as_str()], |row| unsigned(row, 0))
                .optional()
        })
        .await
    }
}
