//! Taking records away, in SQLite.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::holdings::{DropPlan, ManifestRow, NeedRow, Records, TagRow};
use larder_core::name::{RepositoryName, Tag};
use rusqlite::{Connection, OpenFlags, OptionalExtension as _, params};

use super::{SqliteLedger, any, checked, unsigned};
use crate::blobs::UploadId;
use crate::clock::now;
use crate::error::StoreError;
use crate::upkeep::{Dropped, Idle, Removal, Upkeep, Withdrawn};

/// What version 3 of the file has more than version 2.
pub(super) const COLUMNS: &str = "
    ALTER TABLE blobs ADD COLUMN idle BIGINT NOT NULL DEFAULT 0;
    UPDATE blobs SET idle = CAST(strftime('%s', 'now') AS BIGINT) * 1000;
    CREATE INDEX manifests_by_digest ON manifests (digest);
    CREATE INDEX tags_by_digest ON tags (repository, digest);
";
/// Blobs that are freed in one change: each holds up whoever wants to write.
const FREED_TOGETHER: usize = 64;

pub(super) fn known_repository(
    connection: &Connection,
    name: &str,
) -> rusqlite::Result<Option<i64>> {
    connection
        .prepare_cached("SELECT id FROM repositories WHERE name = $1")?
        .query_row(params![name], |row| row.get(0))
        .optional()
}

/// The manifests of a repository that need something.
fn needed_by(
    connection: &Connection,
    repository: i64,
    target: &Digest,
    as_child: bool,
) -> rusqlite::Result<Vec<Digest>> {
    connection
        .prepare_cached(
            "SELECT manifest FROM needs WHERE repository = $1 AND target = $2 AND is_child = $3",
        )?
        .query_map(params![repository, target.as_str(), i64::from(as_child)], |row| {
            checked(row, 0)
        })?
        .collect()
}

/// Takes a manifest's own records away. Blobs that it needed begin to be idle.
pub(super) fn forget_manifest(
    connection: &Connection,
    repository: i64,
    digest: &Digest,
) -> rusqlite::Result<()> {
    let parameters = params![repository, digest.as_str()];
    connection
        .prepare_cached(
            "UPDATE blobs SET idle = $1 WHERE repository = $2 AND digest IN
               (SELECT target FROM needs WHERE repository = $2 AND manifest = $3 AND is_child = 0)",
        )?
        .execute(params![now(), repository, digest.as_str()])?;
    connection
        .prepare_cached("DELETE FROM needs WHERE repository = $1 AND manifest = $2")?
        .execute(parameters)?;
    connection
        .prepare_cached("DELETE FROM uses WHERE repository = $1 AND digest = $2")?
        .execute(parameters)?;
    connection
        .prepare_cached("DELETE FROM manifests WHERE repository = $1 AND digest = $2")?
        .execute(parameters)?;
    Ok(())
}

fn remove_manifest(
    connection: &Connection,
    name: &RepositoryName,
    digest: &Digest,
) -> rusqlite::Result<Removal<Vec<Tag>>> {
    let Some(repository) = known_repository(connection, name.as_str())? else {
        return Ok(Removal::NotThere);
    };
    let parameters = params![repository, digest.as_str()];
    let there = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
    if !any(connection, there, parameters)? {
        return Ok(Removal::NotThere);
    }
    let parents = needed_by(connection, repository, digest, true)?;
    if !parents.is_empty() {
        return Ok(Removal::Needed(parents));
    }
    let tags = connection
        .prepare_cached("DELETE FROM tags WHERE repository = $1 AND digest = $2 RETURNING name")?
        .query_map(parameters, |row| checked(row, 0))?
        .collect::<rusqlite::Result<_>>()?;
    forget_manifest(connection, repository, digest)?;
    Ok(Removal::Done(tags))
}

fn drop_planned(connection: &Connection, plan: &DropPlan) -> rusqlite::Result<Dropped> {
    let mut dropped = Dropped::default();
    for (name, tag, digest) in &plan.tags {
        let Some(repository) = known_repository(connection, name.as_str())? else { continue };
        let gone = connection
            .prepare_cached("DELETE FROM tags WHERE repository = $1 AND name = $2 AND digest = $3")?
            .execute(params![repository, tag.as_str(), digest.as_str()])?;
        dropped.tags += gone;
        dropped.changed += 1 - gone;
    }
    for (name, digest) in &plan.manifests {
        let Some(repository) = known_repository(connection, name.as_str())? else { continue };
        let tagged = any(
            connection,
            "SELECT 1 FROM tags WHERE repository = $1 AND digest = $2",
            params![repository, digest.as_str()],
        )?;
        if tagged || !needed_by(connection, repository, digest, true)?.is_empty() {
            dropped.changed += 1;
            continue;
        }
        forget_manifest(connection, repository, digest)?;
        dropped.manifests += 1;
    }
    Ok(dropped)
}

const IDLE: &str = "b.idle < $1 AND NOT EXISTS
    (SELECT 1 FROM needs n WHERE n.repository = b.repository AND n.target = b.digest)";

fn unlink_idle(connection: &Connection, before: i64) -> rusqlite::Result<usize> {
    let sql = format!("DELETE FROM blobs AS b WHERE {IDLE}");
    let gone = connection.execute(&sql, params![before])?;
    connection.execute(
        "DELETE FROM repositories WHERE NOT EXISTS (SELECT 1 FROM blobs b WHERE b.repository = repositories.id)
           AND NOT EXISTS (SELECT 1 FROM manifests m WHERE m.repository = repositories.id)",
        [],
    )?;
    Ok(gone)
}

fn withdraw(connection: &Connection, lost: &[Digest], dry: bool) -> rusqlite::Result<Withdrawn> {
    let mut gone = Withdrawn::default();
    let mut waiting: Vec<(i64, Digest)> = Vec::new();
    let mut names: HashMap<i64, RepositoryName> = HashMap::new();
    for digest in lost {
        let holders: Vec<i64> = connection
            .prepare_cached(
                "SELECT repository FROM blobs WHERE digest = $1
                 UNION SELECT repository FROM manifests WHERE digest = $1",
            )?
            .query_map(params![digest.as_str()], |row| row.get(0))?
            .collect::<rusqlite::Result<_>>()?;
        waiting.extend(holders.into_iter().map(|holder| (holder, digest.clone())));
    }
    let mut seen: BTreeSet<(i64, String)> = BTreeSet::new();
    while let Some((repository, digest)) = waiting.pop() {
        if !seen.insert((repository, digest.to_string())) {
            continue;
        }
        for as_child in [false, true] {
            let above = needed_by(connection, repository, &digest, as_child)?;
            waiting.extend(above.into_iter().map(|manifest| (repository, manifest)));
        }
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
        let parameters = params![repository, digest.as_str()];
        let tags: Vec<Tag> = connection
            .prepare_cached("SELECT name FROM tags WHERE repository = $1 AND digest = $2")?
            .query_map(parameters, |row| checked(row, 0))?
            .collect::<rusqlite::Result<_>>()?;
        gone.tags.extend(tags.into_iter().map(|tag| (name.clone(), tag, digest.clone())));
        let is_manifest = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
        if any(connection, is_manifest, parameters)? {
            gone.manifests.push((name, digest.clone()));
        }
        if !dry {
            connection
                .prepare_cached("DELETE FROM tags WHERE repository = $1 AND digest = $2")?
                .execute(parameters)?;
            forget_manifest(connection, repository, &digest)?;
            if lost.contains(&digest) {
                connection
                    .prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?
                    .execute(parameters)?;
            }
        }
    }
    gone.tags.sort();
    gone.manifests.sort();
    Ok(gone)
}

fn records(connection: &Connection) -> rusqlite::Result<Records> {
    // One transaction: all of it is of the same moment.
    let moment = connection.unchecked_transaction()?;
    let mut records = Records::default();
    let mut places: HashMap<i64, usize> = HashMap::new();
    let mut query = moment.prepare("SELECT id, name FROM repositories ORDER BY name")?;
    let mut rows = query.query([])?;
    while let Some(row) = rows.next()? {
        places.insert(row.get(0)?, records.repositories.len());
        records.repositories.push(checked(row, 1)?);
    }
    let place = |id: i64| places.get(&id).copied().ok_or(rusqlite::Error::QueryReturnedNoRows);
    let mut query = moment
        .prepare("SELECT repository, digest, media_type, size, subject, added FROM manifests")?;
    let mut rows = query.query([])?;
    while let Some(row) = rows.next()? {
        let subject = match row.get_ref(4)? {
            rusqlite::types::ValueRef::Null => None,
            _ => Some(checked(row, 4)?),
        };
        records.manifests.push(ManifestRow {
            repository: place(row.get(0)?)?,
            digest: checked(row, 1)?,
            media_type: row.get(2)?,
            size: unsigned(row, 3)?,
            subject,
            added: row.get(5)?,
        });
    }
    let mut query = moment.prepare("SELECT repository, manifest, target, is_child FROM needs")?;
    let mut rows = query.query([])?;
    while let Some(row) = rows.next()? {
        records.needs.push(NeedRow {
            repository: place(row.get(0)?)?,
            manifest: checked(row, 1)?,
            target: checked(row, 2)?,
            is_child: row.get::<_, i64>(3)? != 0,
        });
    }
    let mut query = moment.prepare("SELECT digest, MAX(size) FROM blobs GROUP BY digest")?;
    let mut rows = query.query([])?;
    while let Some(row) = rows.next()? {
        records.blobs.push((checked(row, 0)?, unsigned(row, 1)?));
    }
    let mut query = moment
        .prepare("SELECT repository, name, digest, since FROM tags ORDER BY repository, name")?;
    let mut rows = query.query([])?;
    while let Some(row) = rows.next()? {
        records.tags.push(TagRow {
            repository: place(row.get(0)?)?,
            tag: checked(row, 1)?,
            digest: checked(row, 2)?,
            since: row.get(3)?,
        });
    }
    Ok(records)
}

/// Makes sure that no commit which nobody sees yet comes back.
///
/// A process that is killed between writing its commit to the log and telling the others of it leaves one that they do
/// not see, and that counts when the log is read anew after the last of them. The next change is written in its place:
/// what is removed for good, because no record names it, must wait for that.
fn overwrite_what_was_broken_off(connection: &Connection, log: &Path) -> Result<(), StoreError> {
    let write = || {
        connection
            .prepare_cached(
                "INSERT INTO stops (kind, name, because, at, change) VALUES ('begun', 'free', '', $1, 0)
                 ON CONFLICT (kind, name) DO UPDATE SET at = excluded.at + (stops.at = excluded.at)",
            )?
            .execute(params![now()])?;
        connection.cache_flush()
    };
    write().map_err(StoreError::ledger("collect"))?;
    let flushed = std::fs::File::open(log).and_then(|log| log.sync_data());
    flushed.map_err(StoreError::io(format!("cannot flush {}", log.display())))
}

#[async_trait]
impl Upkeep for SqliteLedger {
    async fn begin_upload(
        &self,
        id: UploadId,
        repository: &RepositoryName,
        account: &str,
        most: usize,
    ) -> Result<bool, StoreError> {
        let (name, account) = (repository.clone(), account.to_owned());
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        self.note(move |connection| {
            connection
                .prepare_cached(
                    "INSERT INTO uploads (id, repository, account, begun)
                     SELECT $1, $2, $3, $4
                     WHERE (SELECT COUNT(*) FROM uploads WHERE account = $3) < $5",
                )
                .and_then(|mut add| {
                    add.execute(params![id.to_string(), name.as_str(), account, now(), most])
                })
                .map(|added| added > 0)
                .map_err(StoreError::ledger("record an upload"))
        })
        .await
    }

    async fn is_upload_of(
        &self,
        id: UploadId,
        repository: &RepositoryName,
        account: &str,
    ) -> Result<bool, StoreError> {
        let (name, account) = (repository.clone(), account.to_owned());
        self.read(move |connection| {
            any(
                connection,
                "SELECT 1 FROM uploads WHERE id = $1 AND repository = $2 AND account = $3",
                params![id.to_string(), name.as_str(), account],
            )
        })
        .await
    }

    async fn uploads_before(&self, account: &str, at: i64) -> Result<Vec<UploadId>, StoreError> {
        let account = account.to_owned();
        self.read(move |connection| {
            connection
                .prepare_cached(
                    "SELECT id FROM uploads WHERE account = $1 AND begun < $2 ORDER BY begun",
                )?
                .query_map(params![account, at], |row| checked(row, 0))?
                .collect()
        })
        .await
    }

    async fn end_upload(&self, id: UploadId) -> Result<(), StoreError> {
        self.note(move |connection| {
            connection
                .prepare_cached("DELETE FROM uploads WHERE id = $1")
                .and_then(|mut end| end.execute(params![id.to_string()]))
                .map(drop)
                .map_err(StoreError::ledger("forget an upload"))
        })
        .await
    }

    async fn forget_uploads(&self, at: i64) -> Result<(), StoreError> {
        self.note(move |connection| {
            connection
                .prepare_cached("DELETE FROM uploads WHERE begun < $1")
                .and_then(|mut forget| forget.execute(params![at]))
                .map(drop)
                .map_err(StoreError::ledger("forget uploads"))
        })
        .await
    }

    async fn records(&self) -> Result<Records, StoreError> {
        self.read(records).await
    }

    async fn remove_tag(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
    ) -> Result<Option<Digest>, StoreError> {
        let (name, tag) = (repository.clone(), tag.clone());
        self.change("remove a tag", move |connection| {
            let Some(repository) = known_repository(connection, name.as_str())? else {
                return Ok(None);
            };
            connection
                .prepare_cached(
                    "DELETE FROM tags WHERE repository = $1 AND name = $2 RETURNING digest",
                )?
                .query_row(params![repository, tag.as_str()], |row| checked(row, 0))
                .optional()
        })
        .await
    }

    async fn remove_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<Vec<Tag>>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.change("remove a manifest", move |connection| {
            remove_manifest(connection, &name, &digest)
        })
        .await
    }

    async fn unlink_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<()>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.change("remove a blob", move |connection| {
            let Some(repository) = known_repository(connection, name.as_str())? else {
                return Ok(Removal::NotThere);
            };
            let users = needed_by(connection, repository, &digest, false)?;
            if !users.is_empty() {
                return Ok(Removal::Needed(users));
            }
            let gone = connection
                .prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?
                .execute(params![repository, digest.as_str()])?;
            Ok(if gone > 0 { Removal::Done(()) } else { Removal::NotThere })
        })
        .await
    }

    async fn drop_planned(&self, plan: DropPlan) -> Result<Dropped, StoreError> {
        self.change("drop images", move |connection| drop_planned(connection, &plan)).await
    }

    async fn idle(&self, before: i64) -> Result<Vec<Idle>, StoreError> {
        self.read(move |connection| {
            let sql = format!(
                "SELECT r.name, b.digest, b.size FROM blobs b JOIN repositories r ON r.id = b.repository
                 WHERE {IDLE} ORDER BY r.name, b.digest"
            );
            connection
                .prepare_cached(&sql)?
                .query_map(params![before], |row| {
                    Ok(Idle {
                        repository: checked(row, 0)?,
                        digest: checked(row, 1)?,
                        size: unsigned(row, 2)?,
                    })
                })?
                .collect()
        })
        .await
    }

    async fn unlink_idle(&self, before: i64) -> Result<usize, StoreError> {
        self.change("collect", move |connection| unlink_idle(connection, before)).await
    }

    async fn recorded(
        &self,
        part: u8,
        but_idle: Option<i64>,
    ) -> Result<HashSet<Digest>, StoreError> {
        self.read(move |connection| {
            let mut query = connection.prepare_cached(
                "SELECT b.digest FROM blobs b WHERE b.digest >= $1 AND b.digest < $2 AND
                   (b.idle >= $3 OR EXISTS
                     (SELECT 1 FROM needs n WHERE n.repository = b.repository AND n.target = b.digest))
                 UNION SELECT digest FROM manifests WHERE digest >= $1 AND digest < $2",
            )?;
            let since = but_idle.unwrap_or(i64::MIN);
            let mut found = HashSet::new();
            for algorithm in ["sha256", "sha512"] {
                // `g` comes right after every hexadecimal digit.
                let first = format!("{algorithm}:{part:02x}");
                let mut rows = query.query(params![first, format!("{first}g"), since])?;
                while let Some(row) = rows.next()? {
                    found.insert(checked(row, 0)?);
                }
            }
            Ok(found)
        })
        .await
    }

    async fn free(
        &self,
        digests: Vec<Digest>,
        grace: Duration,
    ) -> Result<Vec<(Digest, u64)>, StoreError> {
        let mut freed = Vec::new();
        for together in digests.chunks(FREED_TOGETHER) {
            let (together, blobs) = (together.to_vec(), Arc::clone(&self.blobs));
            let log = self.path.with_extension("sqlite-wal");
            // The records cannot change while the bytes go: this is the one writer's own time.
            let gone = self.write(move |connection| {
                overwrite_what_was_broken_off(connection, &log)?;
                let mut gone = Vec::new();
                for digest in together {
                    let named = any(
                        connection,
                        "SELECT 1 FROM blobs WHERE digest = $1
                         UNION ALL SELECT 1 FROM manifests WHERE digest = $1",
                        params![digest.as_str()],
                    )
                    .map_err(StoreError::ledger("collect"))?;
                    if !named && let Some(size) = blobs.free(&digest, grace)? {
                        gone.push((digest, size));
                    }
                }
                Ok(gone)
            });
            freed.extend(gone.await?);
        }
        Ok(freed)
    }

    async fn copy_to(&self, path: &Path) -> Result<Vec<Digest>, StoreError> {
        let (to, path) = (path.to_string_lossy().into_owned(), path.to_owned());
        // The copy is for its owner alone, from its first byte on.
        super::make_private(&path)?;
        self.read(move |connection| connection.execute("VACUUM INTO $1", params![to])).await?;
        super::blocking(move || {
            let failed = StoreError::ledger;
            let copy = super::connect(&path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
            let digests = super::digests(&copy).map_err(failed("be copied"))?;
            drop(copy);
            let flushed = std::fs::File::open(&path).and_then(|file| file.sync_all());
            flushed.map_err(StoreError::io(format!("cannot flush {}", path.display())))?;
            Ok(digests)
        })
        .await
    }

    async fn withdraw(&self, lost: Vec<Digest>, dry: bool) -> Result<Withdrawn, StoreError> {
        if dry {
            return self.read(move |connection| withdraw(connection, &lost, true)).await;
        }
        let blobs = Arc::clone(&self.blobs);
        self.write(move |connection| {
            // Somebody may have sent it again meanwhile.
            let mut gone = Vec::new();
            for digest in lost {
                if !blobs.is_there(&digest)? {
                    gone.push(digest);
                }
            }
            withdraw(connection, &gone, false)
                .map_err(StoreError::ledger("withdraw what is damaged"))
        })
        .await
    }
}
