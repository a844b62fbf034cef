//! The journal in the same file as the ledger.

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::lock::Want;
use larder_core::name::{Host, RepositoryName};
use larder_core::reference::Image;
use rusqlite::{Connection, OptionalExtension as _, Row, params};

use super::{SqliteLedger, checked, signed, unsigned};
use crate::error::StoreError;
use crate::journal::{Brought, Event, IntakeRecord, Journal, Use, Used};

/// What version 2 of the file has more than version 1.
pub(super) const TABLES: &str = "
    CREATE TABLE intake (
        host TEXT NOT NULL, repository TEXT NOT NULL, tag TEXT NOT NULL,
        checked BIGINT, seen TEXT, moved BIGINT,
        brought BIGINT, brought_digest TEXT, brought_to TEXT, brought_whole TEXT,
        unresolved BIGINT, unresolved_cause TEXT, failed BIGINT, failure TEXT,
        PRIMARY KEY (host, repository, tag)
    ) WITHOUT ROWID;
    CREATE TABLE pulls (
        host TEXT NOT NULL, at BIGINT NOT NULL, count BIGINT NOT NULL, PRIMARY KEY (host, at)
    ) WITHOUT ROWID;
    CREATE TABLE placed (
        host TEXT NOT NULL, digest TEXT NOT NULL, repository TEXT NOT NULL,
        PRIMARY KEY (host, digest)
    ) WITHOUT ROWID;
";
/// What version 3 of the file has more than version 2.
pub(super) const USES: &str = "
    CREATE TABLE uses (
        repository BIGINT NOT NULL, digest TEXT NOT NULL, day BIGINT NOT NULL,
        pulls BIGINT NOT NULL, last BIGINT NOT NULL, PRIMARY KEY (repository, digest, day)
    ) WITHOUT ROWID;
";
/// Pulls are forgotten after so many milliseconds: no allowance looks back further.
const PULLS_KEPT: i64 = 400 * 24 * 3_600_000;

fn note(connection: &Connection, want: &Want, event: &Event, at: i64) -> rusqlite::Result<()> {
    let (host, repository) = (want.image.host.as_str(), want.image.repository.as_str());
    let tag = want.tag.as_str();
    match event {
        Event::Seen(digest) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, checked, seen) VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   moved = CASE WHEN intake.seen <> excluded.seen THEN excluded.checked ELSE intake.moved END,
                   checked = excluded.checked, seen = excluded.seen,
                   unresolved = NULL, unresolved_cause = NULL",
            )?
            .execute(params![host, repository, tag, at, digest.as_str()])?,
        Event::Brought(Brought { digest, to, whole }) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, brought, brought_digest, brought_to, brought_whole)
                 VALUES ($1, $2, $3, $4, $5, $6, $7)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   brought = excluded.brought, brought_digest = excluded.brought_digest,
                   brought_to = excluded.brought_to, brought_whole = excluded.brought_whole,
                   failed = NULL, failure = NULL",
            )?
            .execute(params![host, repository, tag, at, digest.as_str(), to, whole.as_str()])?,
        Event::Unresolved(cause) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, unresolved, unresolved_cause)
                 VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   unresolved = excluded.unresolved, unresolved_cause = excluded.unresolved_cause",
            )?
            .execute(params![host, repository, tag, at, cause])?,
        Event::Failed(cause) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, failed, failure) VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   failed = excluded.failed, failure = excluded.failure",
            )?
            .execute(params![host, repository, tag, at, cause])?,
    };
    Ok(())
}

fn record(row: &Row<'_>) -> rusqlite::Result<IntakeRecord> {
    let digest = |column: usize| -> rusqlite::Result<Option<Digest>> {
        match row.get::<_, Option<String>>(column)? {
            Some(_) => checked(row, column).map(Some),
            None => Ok(None),
        }
    };
    let image = Image { host: checked(row, 0)?, repository: checked(row, 1)? };
    let brought = match (row.get::<_, Option<i64>>(6)?, digest(7)?, digest(9)?) {
        (Some(at), Some(digest), Some(whole)) => {
            Some((Brought { digest, to: row.get(8)?, whole }, at))
        }
        _ => None,
    };
    let failed: (Option<i64>, Option<String>) = (row.get(10)?, row.get(11)?);
    Ok(IntakeRecord {
        want: Want { image, tag: checked(row, 2)? },
        checked: row.get(3)?,
        seen: digest(4)?,
        moved: row.get(5)?,
        brought,
        failed: failed.0.zip(failed.1).map(|(at, cause)| (cause, at)),
    })
}

#[async_trait]
impl Journal for SqliteLedger {
    async fn last_parcel(&self, whose: &str) -> Result<Option<(u64, Option<u64>)>, StoreError> {
        let whose = whose.to_owned();
        self.read(move |connection| {
            connection
                .prepare_cached("SELECT sequence, before FROM parcels WHERE whose = $1")?
                .query_row(params![whose], |row| {
                    let before: Option<i64> = row.get(1)?;
                    Ok((unsigned(row, 0)?, before.and_then(|before| u64::try_from(before).ok())))
                })
                .optional()
        })
        .await
    }

    async fn note_parcel(
        &self,
        whose: &str,
        sequence: u64,
        before: Option<u64>,
    ) -> Result<(), StoreError> {
        let whose = whose.to_owned();
        self.note(move |connection| {
            connection
                .prepare_cached(
                    "INSERT INTO parcels (whose, sequence, before) VALUES ($1, $2, $3)
                     ON CONFLICT (whose) DO UPDATE SET
                       sequence = excluded.sequence, before = excluded.before
                     WHERE excluded.sequence > parcels.sequence",
                )
                .and_then(|mut note| {
                    note.execute(params![whose, signed(sequence), before.map(signed)])
                })
                .map(drop)
                .map_err(StoreError::ledger("note a parcel"))
        })
        .await
    }

    async fn note(&self, events: Vec<(Want, Event)>, at: i64) -> Result<(), StoreError> {
        if events.is_empty() {
            return Ok(());
        }
        self.note(move |connection| {
            let all =
                || events.iter().try_for_each(|(want, event)| note(connection, want, event, at));
            all().map_err(StoreError::ledger("note what was done"))
        })
        .await
    }

    async fn intake(&self) -> Result<Vec<IntakeRecord>, StoreError> {
        self.read(|connection| {
            connection
                .prepare_cached(
                    "SELECT host, repository, tag, checked, seen, moved, brought, brought_digest,
                       brought_to, brought_whole, COALESCE(failed, unresolved),
                       CASE WHEN failed IS NULL THEN unresolved_cause ELSE failure END
                     FROM intake ORDER BY host, repository, tag",
                )?
                .query_map([], record)?
                .collect()
        })
        .await
    }

    async fn note_pulls(&self, host: &Host, count: u64, at: i64) -> Result<(), StoreError> {
        let host = host.to_string();
        self.note(move |connection| {
            let write = || -> rusqlite::Result<()> {
                connection
                    .prepare_cached(
                        "INSERT INTO pulls (host, at, count) VALUES ($1, $2, $3)
                         ON CONFLICT (host, at) DO UPDATE SET count = pulls.count + excluded.count",
                    )?
                    .execute(params![host, at, signed(count)])?;
                connection
                    .prepare_cached("DELETE FROM pulls WHERE host = $1 AND at < $2")?
                    .execute(params![host, at - PULLS_KEPT])?;
                Ok(())
            };
            write().map_err(StoreError::ledger("note pulls"))
        })
        .await
    }

    async fn pulls(&self, host: &Host, since: i64) -> Result<Vec<(i64, u64)>, StoreError> {
        let host = host.to_string();
        self.read(move |connection| {
            connection
                .prepare_cached(
                    "SELECT at, count FROM pulls WHERE host = $1 AND at > $2 ORDER BY at",
                )?
                .query_map(params![host, since], |row| Ok((row.get(0)?, unsigned(row, 1)?)))?
                .collect()
        })
        .await
    }

    async fn note_uses(&self, uses: Vec<Use>) -> Result<(), StoreError> {
        self.note(move |connection| {
            let write = || -> rusqlite::Result<()> {
            let mut add = connection.prepare_cached(
                "INSERT INTO uses (repository, digest, day, pulls, last)
                 SELECT m.repository, m.digest, $1, $2, $3 FROM manifests m
                 JOIN repositories r ON r.id = m.repository WHERE r.name = $4 AND m.digest = $5
                 ON CONFLICT (repository, digest, day) DO UPDATE SET
                   pulls = uses.pulls + excluded.pulls,
                   last = CASE WHEN excluded.last > uses.last THEN excluded.last ELSE uses.last END",
            )?;
            for one in &uses {
                let (repository, digest) = (one.repository.as_str(), one.digest.as_str());
                add.execute(params![one.day, signed(one.pulls), one.last, repository, digest])?;
            }
            Ok(())
            };
            write().map_err(StoreError::ledger("note what was pulled"))
        })
        .await
    }

    async fn uses(&self, from_day: i64) -> Result<Vec<Used>, StoreError> {
        self.read(move |connection| {
            connection
                .prepare_cached(
                    "SELECT r.name, u.digest,
                       CAST(SUM(CASE WHEN u.day >= $1 THEN u.pulls ELSE 0 END) AS BIGINT), MAX(u.last)
                     FROM uses u JOIN repositories r ON r.id = u.repository
                     GROUP BY r.name, u.digest ORDER BY r.name, u.digest",
                )?
                .query_map(params![from_day], |row| {
                    Ok(Used {
                        repository: checked(row, 0)?,
                        digest: checked(row, 1)?,
                        pulls: unsigned(row, 2)?,
                        last: row.get(3)?,
                    })
                })?
                .collect()
        })
        .await
    }

    async fn note_placed(
        &self,
        host: &Host,
        repository: &RepositoryName,
        blobs: Vec<Digest>,
    ) -> Result<(), StoreError> {
        let (host, repository) = (host.to_string(), repository.to_string());
        self.note(move |connection| {
            let write = || -> rusqlite::Result<()> {
                let mut insert = connection.prepare_cached(
                    "INSERT INTO placed (host, digest, repository) VALUES ($1, $2, $3)
                     ON CONFLICT (host, digest) DO UPDATE SET repository = excluded.repository",
                )?;
                for digest in &blobs {
                    insert.execute(params![host, digest.as_str(), repository])?;
                }
                Ok(())
            };
            write().map_err(StoreError::ledger("note what a registry has"))
        })
        .await
    }

    async fn placed(
        &self,
        host: &Host,
        digest: &Digest,
    ) -> Result<Option<RepositoryName>, StoreError> {
        let (host, digest) = (host.to_string(), digest.to_string());
        self.read(move |connection| {
            connection
                .prepare_cached("SELECT repository FROM placed WHERE host = $1 AND digest = $2")?
                .query_row(params![host, digest], |row| checked(row, 0))
                .optional()
        })
        .await
    }
}
