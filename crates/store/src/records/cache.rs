//! The records of cached shelves, in SQLite.

use crate::sql::{Connection, Optional as _, params};
use larder_core::cached::{Belief, KeptCandidate};
use larder_core::digest::Digest;
use larder_core::name::{Host, RepositoryName, Tag};

use super::ledger::{record, repository_id};
use super::upkeep::known_repository;
use super::{TouchedNames, checked, kept, signed, unsigned};
use crate::cache::{Move, Traffic, UpstreamRecord};
use crate::error::StoreError;
use crate::ledger::NewManifest;
use crate::store::Store;

/// What version 4 of the file has more than version 3.
pub(super) const TABLES: &str = "
    ALTER TABLE needs ADD COLUMN size BIGINT;
    ALTER TABLE tags ADD COLUMN confirmed BIGINT;
    CREATE TABLE moves (
        repository TEXT NOT NULL, tag TEXT NOT NULL, at BIGINT NOT NULL,
        before TEXT NOT NULL, after TEXT, PRIMARY KEY (repository, tag, at)
    ) WITHOUT ROWID;
    CREATE TABLE parts (digest TEXT NOT NULL PRIMARY KEY, upload TEXT NOT NULL) WITHOUT ROWID;
    CREATE TABLE traffic (
        shelf TEXT NOT NULL, day BIGINT NOT NULL, hits BIGINT NOT NULL, misses BIGINT NOT NULL,
        sent BIGINT NOT NULL, fetched BIGINT NOT NULL, PRIMARY KEY (shelf, day)
    ) WITHOUT ROWID;
    CREATE TABLE upstreams (
        host TEXT NOT NULL PRIMARY KEY, condition TEXT NOT NULL, until BIGINT, cause TEXT,
        remaining BIGINT, at BIGINT NOT NULL
    ) WITHOUT ROWID;
";
/// How long moves are remembered, in milliseconds.
const MOVES_KEPT: i64 = 90 * 24 * 3_600_000;

/// The names of repositories on a shelf, from one text up to another.
fn below(shelf: &str) -> (String, String) {
    // `0` comes right after the slash.
    (format!("{shelf}/"), format!("{shelf}0"))
}

/// Records where a tag pointed before this change, by its repository's name: that outlives what is let
/// go of.
fn note_move(
    connection: &Connection,
    repository: &RepositoryName,
    tag: &Tag,
    after: Option<&Digest>,
    at: i64,
) -> crate::sql::Result<()> {
    let (repository, tag) = (repository.as_str(), tag.as_str());
    connection
        .prepare_cached(
            "INSERT INTO moves (repository, tag, at, before, after)
             SELECT $1, $2, $3, t.digest, $4 FROM tags t
             JOIN repositories r ON r.id = t.repository
             WHERE r.name = $1 AND t.name = $2 AND ($4 IS NULL OR t.digest <> $4)
             ON CONFLICT (repository, tag, at) DO UPDATE SET after = excluded.after",
        )?
        .execute(params![repository, tag, at, after.map(Digest::as_str)])?;
    connection
        .prepare_cached("DELETE FROM moves WHERE at < $1")?
        .execute(params![at - MOVES_KEPT])?;
    Ok(())
}

/// Whether the upstream had a tag no more when it was last asked.
fn is_gone(
    connection: &Connection,
    repository: &RepositoryName,
    tag: &Tag,
) -> crate::sql::Result<bool> {
    connection
        .prepare_cached(
            "SELECT after IS NULL FROM moves WHERE repository = $1 AND tag = $2
             ORDER BY at DESC LIMIT 1",
        )?
        .query_row(params![repository.as_str(), tag.as_str()], |row| row.get(0))
        .optional()
        .map(|found| found.unwrap_or(false))
}

/// Records that the upstream has a tag again, which points where it did.
fn note_return(
    connection: &Connection,
    repository: &RepositoryName,
    tag: &Tag,
    digest: &Digest,
    at: i64,
) -> crate::sql::Result<()> {
    connection
        .prepare_cached(
            "INSERT INTO moves (repository, tag, at, before, after) VALUES ($1, $2, $3, $4, $4)
             ON CONFLICT (repository, tag, at) DO UPDATE SET after = excluded.after",
        )?
        .execute(params![repository.as_str(), tag.as_str(), at, digest.as_str()])
        .map(drop)
}

impl Store {
    /// What is believed of a tag. None: nothing.
    pub async fn belief(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
    ) -> Result<Option<Belief>, StoreError> {
        let (name, tag) = (repository.clone(), tag.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT t.digest, t.confirmed FROM tags t
                     JOIN repositories r ON r.id = t.repository WHERE r.name = $1 AND t.name = $2",
                    )?
                    .query_row(params![name.as_str(), tag.as_str()], |row| {
                        let confirmed = row.get::<Option<i64>>(1)?.unwrap_or(0);
                        Ok(Belief { digest: checked(row, 0)?, confirmed })
                    })
                    .optional()
            })
            .await
    }

    /// Records that the upstream has just confirmed a tag. False: it points elsewhere here meanwhile.
    pub async fn confirm(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
        digest: &Digest,
        at: i64,
    ) -> Result<bool, StoreError> {
        let (name, tag, digest) = (repository.clone(), tag.clone(), digest.clone());
        self.records
            .note(move |connection| {
                let confirm = || -> crate::sql::Result<bool> {
                    let Some(id) = known_repository(connection, name.as_str())? else {
                        return Ok(false);
                    };
                    let changed = connection
                        .prepare_cached(
                            "UPDATE tags SET confirmed = $1
                         WHERE repository = $2 AND name = $3 AND digest = $4",
                        )?
                        .execute(params![at, id, tag.as_str(), digest.as_str()])?;
                    if changed > 0 && is_gone(connection, &name, &tag)? {
                        note_return(connection, &name, &tag, &digest, at)?;
                    }
                    Ok(changed > 0)
                };
                confirm().map_err(StoreError::ledger("record what an upstream has"))
            })
            .await
    }

    /// Records that the upstream has a tag no more. The tag and what it points to stay for those who use it. Tells
    /// whether that is new.
    pub async fn note_gone(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
        at: i64,
    ) -> Result<bool, StoreError> {
        let (name, tag) = (repository.clone(), tag.clone());
        self.records
            .change(
                TouchedNames::one(repository),
                "record what an upstream has no more",
                move |connection| {
                    let Some(id) = known_repository(connection, name.as_str())? else {
                        return Ok(false);
                    };
                    let is_new = !is_gone(connection, &name, &tag)?;
                    if is_new {
                        note_move(connection, &name, &tag, None, at)?;
                    }
                    // It was asked, and has answered: nobody need ask again before the next time.
                    connection
                        .prepare_cached(
                            "UPDATE tags SET confirmed = $1 WHERE repository = $2 AND name = $3",
                        )?
                        .execute(params![at, id, tag.as_str()])?;
                    Ok(is_new)
                },
            )
            .await
    }

    /// The tags of a shelf that the upstream has no more, each with when that was noticed, in milliseconds since 1970.
    pub async fn gone_tags(
        &self,
        shelf: &str,
    ) -> Result<Vec<(RepositoryName, Tag, i64)>, StoreError> {
        let (first, end) = below(shelf);
        self.records
            .rows(
                "SELECT m.repository, m.tag, m.at FROM moves m
                     JOIN repositories r ON r.name = m.repository
                     JOIN tags t ON t.repository = r.id AND t.name = m.tag
                     WHERE m.repository >= $1 AND m.repository < $2 AND m.after IS NULL
                       AND m.at = (SELECT MAX(l.at) FROM moves l
                                   WHERE l.repository = m.repository AND l.tag = m.tag)
                     ORDER BY m.repository, m.tag",
                (first, end),
                |row| Ok((checked(row, 0)?, checked(row, 1)?, row.get(2)?)),
            )
            .await
    }

    /// The last moves of a shelf's tags, the youngest first: at most `limit`.
    pub async fn moves(&self, shelf: &str, limit: usize) -> Result<Vec<Move>, StoreError> {
        let (first, end) = below(shelf);
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT repository, tag, before, after, at FROM moves
                     WHERE repository >= $1 AND repository < $2
                     ORDER BY at DESC, repository, tag LIMIT $3",
                (first, end, limit),
                |row| {
                    let after = match row.get::<Option<String>>(3)? {
                        Some(_) => Some(checked(row, 3)?),
                        None => None,
                    };
                    let (repository, tag) = (checked(row, 0)?, checked(row, 1)?);
                    let (before, at) = (checked(row, 2)?, row.get(4)?);
                    Ok(Move { repository, tag, before, after, at })
                },
            )
            .await
    }

    /// The size in bytes of a blob that a manifest of the repository needs, whether it is there or
    /// not. None: no manifest of it does.
    pub async fn wanted(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT n.size FROM needs n JOIN repositories r ON r.id = n.repository
                     WHERE r.name = $1 AND n.target = $2 AND n.is_child = 0 AND n.size IS NOT NULL
                     LIMIT 1",
                    )?
                    .query_row(params![name.as_str(), digest.as_str()], |row| unsigned(row, 0))
                    .optional()
            })
            .await
    }

    /// The bytes of all blobs of the smallest image of the repository that needs a blob, whether they are there or not.
    /// None: no image does. Where very many do, some of them are asked: then one of them is no rarity.
    pub async fn smallest_with(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, StoreError> {
        const SOME: i64 = 64;
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT MIN((SELECT CAST(COALESCE(SUM(s.size), 0) AS BIGINT) FROM needs s
                             WHERE s.repository = w.repository AND s.manifest = w.manifest
                               AND s.is_child = 0))
                         FROM (SELECT n.repository AS repository, n.manifest AS manifest
                             FROM needs n JOIN repositories r ON r.id = n.repository
                             WHERE r.name = $1 AND n.target = $2 AND n.is_child = 0
                             LIMIT $3) w",
                    )?
                    .query_row(params![name.as_str(), digest.as_str(), SOME], |row| {
                        row.get::<Option<i64>>(0)
                    })
                    .map(|size| size.map(|size| u64::try_from(size).unwrap_or(0)))
            })
            .await
    }

    /// A manifest of the repository that needs a blob. None: none does.
    pub async fn needed_by(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<Digest>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT n.manifest FROM needs n JOIN repositories r ON r.id = n.repository
                     WHERE r.name = $1 AND n.target = $2 AND n.is_child = 0 LIMIT 1",
                    )?
                    .query_row(params![name.as_str(), digest.as_str()], |row| checked(row, 0))
                    .optional()
            })
            .await
    }

    /// Adds to what shelves did.
    pub async fn note_traffic(&self, traffic: Vec<Traffic>) -> Result<(), StoreError> {
        self.records
            .note(move |connection| {
                let write = || -> crate::sql::Result<()> {
                    let mut add = connection.prepare_cached(
                        "INSERT INTO traffic (shelf, day, hits, misses, sent, fetched)
                     VALUES ($1, $2, $3, $4, $5, $6)
                     ON CONFLICT (shelf, day) DO UPDATE SET
                       hits = traffic.hits + excluded.hits,
                       misses = traffic.misses + excluded.misses,
                       sent = traffic.sent + excluded.sent,
                       fetched = traffic.fetched + excluded.fetched",
                    )?;
                    for one in &traffic {
                        let (hits, misses) = (signed(one.hits), signed(one.misses));
                        let (sent, fetched) = (signed(one.sent), signed(one.fetched));
                        add.execute(params![one.shelf, one.day, hits, misses, sent, fetched])?;
                    }
                    Ok(())
                };
                write().map_err(StoreError::ledger("note what shelves did"))
            })
            .await
    }

    /// What a shelf did since a day, in all.
    pub async fn traffic(&self, shelf: &str, from_day: i64) -> Result<Traffic, StoreError> {
        let shelf = shelf.to_owned();
        self.records
            .read(move |connection| {
                let sum = |column: &str| format!("CAST(COALESCE(SUM({column}), 0) AS BIGINT)");
                let sql = format!(
                    "SELECT {}, {}, {}, {}, COALESCE(MIN(day), 0) FROM traffic
                 WHERE shelf = $1 AND day >= $2",
                    sum("hits"),
                    sum("misses"),
                    sum("sent"),
                    sum("fetched")
                );
                connection.prepare_cached(&sql)?.query_row(params![shelf, from_day], |row| {
                    Ok(Traffic {
                        hits: unsigned(row, 0)?,
                        misses: unsigned(row, 1)?,
                        sent: unsigned(row, 2)?,
                        fetched: unsigned(row, 3)?,
                        day: row.get(4)?,
                        shelf: shelf.clone(),
                    })
                })
            })
            .await
    }

    /// Records how upstreams stand.
    pub async fn note_standing(&self, standing: Vec<UpstreamRecord>) -> Result<(), StoreError> {
        self.records
            .note(move |connection| {
                let write = || -> crate::sql::Result<()> {
                    let mut put = connection.prepare_cached(
                        "INSERT INTO upstreams (host, condition, until, cause, remaining, at)
                     VALUES ($1, $2, $3, $4, $5, $6)
                     ON CONFLICT (host) DO UPDATE SET condition = excluded.condition,
                       until = excluded.until, cause = excluded.cause,
                       remaining = excluded.remaining, at = excluded.at",
                    )?;
                    for one in &standing {
                        let (host, left) = (one.host.as_str(), one.remaining.map(signed));
                        put.execute(params![
                            host,
                            one.condition,
                            one.until,
                            one.cause,
                            left,
                            one.at
                        ])?;
                    }
                    Ok(())
                };
                write().map_err(StoreError::ledger("note how upstreams stand"))
            })
            .await
    }

    /// How each upstream stood when that was last recorded.
    pub async fn standing(&self) -> Result<Vec<UpstreamRecord>, StoreError> {
        self.records.read(|connection| {
            connection
                .prepare_cached(
                    "SELECT host, condition, until, cause, remaining, at FROM upstreams ORDER BY host",
                )?
                .query_map([], |row| {
                    let remaining = row.get::<Option<i64>>(4)?;
                    Ok(UpstreamRecord {
                        host: checked::<Host>(row, 0)?,
                        condition: row.get(1)?,
                        until: row.get(2)?,
                        cause: row.get(3)?,
                        remaining: remaining.map(|left| u64::try_from(left).unwrap_or(0)),
                        at: row.get(5)?,
                    })
                })?
                .collect()
        })
        .await
    }

    /// The images of a shelf.
    pub async fn kept(&self, shelf: &str) -> Result<Vec<KeptCandidate>, StoreError> {
        let shelf = shelf.to_owned();
        self.records.read(move |connection| kept::kept(connection, &shelf)).await
    }

    /// Evicts an image: its tags, its manifests and what is about them as far as nothing else
    /// lists them, and the blobs that its repository then has no use for. Nothing goes when it was
    /// asked for after `since`, in milliseconds since 1970. Gives what went; the bytes are still there.
    pub async fn let_go(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        since: i64,
    ) -> Result<Vec<Digest>, StoreError> {
        let (name, root) = (repository.clone(), digest.clone());
        self.records
            .change(TouchedNames::one(repository), "evict an image", move |connection| {
                kept::let_go_of(connection, &name, &root, since)
            })
            .await
    }

    /// Evicts blobs of a shelf that no manifest has needed since `before`, in milliseconds since
    /// 1970; at most `limit` of them, the oldest first. Gives them.
    pub async fn let_go_loose(
        &self,
        shelf: &str,
        before: i64,
        limit: usize,
    ) -> Result<Vec<Digest>, StoreError> {
        let shelf = shelf.to_owned();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .change(TouchedNames::Everything, "evict blobs", move |connection| {
                kept::let_go_loose(connection, &shelf, before, limit)
            })
            .await
    }

    /// When the upstream last confirmed each tag of a repository, in milliseconds since 1970.
    pub async fn confirmed(
        &self,
        repository: &RepositoryName,
    ) -> Result<Vec<(Tag, i64)>, StoreError> {
        let name = repository.to_string();
        self.records
            .rows(
                "SELECT t.name, COALESCE(t.confirmed, 0) FROM tags t
                 JOIN repositories r ON r.id = t.repository WHERE r.name = $1 ORDER BY t.name",
                (name,),
                |row| Ok((checked(row, 0)?, row.get(1)?)),
            )
            .await
    }

    /// The images of a repository, as its shelf keeps them.
    pub async fn kept_in(
        &self,
        repository: &RepositoryName,
    ) -> Result<Vec<KeptCandidate>, StoreError> {
        let name = repository.clone();
        self.records.read(move |connection| kept::kept_in(connection, &name)).await
    }

    /// The bytes that some shelves take together, each content once; also what no image of them needs.
    pub async fn bytes_of(&self, shelves: &[String]) -> Result<u64, StoreError> {
        let shelves = shelves.to_vec();
        self.records.read(move |connection| kept::bytes_of(connection, &shelves)).await
    }

    /// Records a manifest that the upstream has just named, without asking for what it needs. With a tag, that points to
    /// it from now on and is confirmed; where it pointed elsewhere, the move is recorded.
    pub(crate) async fn record_belief(
        &self,
        repository: &RepositoryName,
        manifest: NewManifest,
    ) -> Result<(), StoreError> {
        let name = repository.clone();
        self.records
            .write(TouchedNames::one(repository), move |connection| {
                let failed = || StoreError::ledger("record what an upstream has");
                let id = repository_id(connection, &name).map_err(failed())?;
                if let Some(tag) = &manifest.tag {
                    note_move(connection, &name, tag, Some(&manifest.record.digest), manifest.at)
                        .map_err(failed())?;
                }
                record(connection, &name, &manifest)?;
                if let Some(tag) = &manifest.tag {
                    connection
                        .prepare_cached(
                            "UPDATE tags SET confirmed = $1 WHERE repository = $2 AND name = $3",
                        )
                        .and_then(|mut update| {
                            update.execute(params![manifest.at, id, tag.as_str()])
                        })
                        .map_err(failed())?;
                }
                Ok(())
            })
            .await
    }
}
