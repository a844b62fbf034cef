//! The journal in the same file as the ledger.

use crate::sql::{Connection, Optional as _, Row, params};
use larder_core::allowance::{Afford, Budget};
use larder_core::digest::Digest;
use larder_core::lock::Want;
use larder_core::name::{Host, RepositoryName};
use larder_core::reference::Image;

use super::{checked, signed, unsigned};
use crate::error::StoreError;
use crate::journal::{BroughtIn, IntakeEvent, IntakeRecord, Use};
use crate::store::Store;

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

fn note(
    connection: &Connection,
    want: &Want,
    event: &IntakeEvent,
    at: i64,
) -> crate::sql::Result<()> {
    let (host, repository) = (want.image.host.as_str(), want.image.repository.as_str());
    let tag = want.tag.as_str();
    match event {
        IntakeEvent::Seen(digest) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, checked, seen) VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   moved = CASE WHEN intake.seen <> excluded.seen THEN excluded.checked ELSE intake.moved END,
                   checked = excluded.checked, seen = excluded.seen,
                   unresolved = NULL, unresolved_cause = NULL",
            )?
            .execute(params![host, repository, tag, at, digest.as_str()])?,
        IntakeEvent::Brought(BroughtIn { digest, to, whole }) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, brought, brought_digest, brought_to, brought_whole)
                 VALUES ($1, $2, $3, $4, $5, $6, $7)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   brought = excluded.brought, brought_digest = excluded.brought_digest,
                   brought_to = excluded.brought_to, brought_whole = excluded.brought_whole,
                   failed = NULL, failure = NULL",
            )?
            .execute(params![host, repository, tag, at, digest.as_str(), to, whole.as_str()])?,
        IntakeEvent::Unresolved(cause) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, unresolved, unresolved_cause)
                 VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   unresolved = excluded.unresolved, unresolved_cause = excluded.unresolved_cause",
            )?
            .execute(params![host, repository, tag, at, cause])?,
        IntakeEvent::Failed(cause) => connection
            .prepare_cached(
                "INSERT INTO intake (host, repository, tag, failed, failure) VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT (host, repository, tag) DO UPDATE SET
                   failed = excluded.failed, failure = excluded.failure",
            )?
            .execute(params![host, repository, tag, at, cause])?,
    };
    Ok(())
}

/// How far back pulls are looked at where nobody states an allowance, in milliseconds.
const LONGEST: i64 = 31 * 24 * 3_600_000;

fn note_pulls(connection: &Connection, host: &str, count: u64, at: i64) -> crate::sql::Result<()> {
    connection
        .prepare_cached(
            "INSERT INTO pulls (host, at, count) VALUES ($1, $2, $3)
             ON CONFLICT (host, at) DO UPDATE SET count = pulls.count + excluded.count",
        )?
        .execute(params![host, at, signed(count)])?;
    connection
        .prepare_cached("DELETE FROM pulls WHERE host = $1 AND at < $2")?
        .execute(params![host, at - PULLS_KEPT])
        .map(drop)
}

fn pulls_after(
    connection: &Connection,
    host: &str,
    since: i64,
) -> crate::sql::Result<Vec<(i64, u64)>> {
    connection
        .prepare_cached("SELECT at, count FROM pulls WHERE host = $1 AND at > $2 ORDER BY at")?
        .query_map(params![host, since], |row| Ok((row.get(0)?, unsigned(row, 1)?)))?
        .collect()
}

fn record(row: &Row<'_>) -> crate::sql::Result<IntakeRecord> {
    let digest = |column: usize| -> crate::sql::Result<Option<Digest>> {
        match row.get::<Option<String>>(column)? {
            Some(_) => checked(row, column).map(Some),
            None => Ok(None),
        }
    };
    let image = Image { host: checked(row, 0)?, repository: checked(row, 1)? };
    let brought = match (row.get::<Option<i64>>(6)?, digest(7)?, digest(9)?) {
        (Some(at), Some(digest), Some(whole)) => {
            Some((BroughtIn { digest, to: row.get(8)?, whole }, at))
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

impl Store {
    /// The number of the last parcel of somebody, and of the one before it. None: there was none.
    pub async fn last_parcel(&self, whose: &str) -> Result<Option<(u64, Option<u64>)>, StoreError> {
        let whose = whose.to_owned();
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached("SELECT sequence, before FROM parcels WHERE whose = $1")?
                    .query_row(params![whose], |row| {
                        let before: Option<i64> = row.get(1)?;
                        Ok((
                            unsigned(row, 0)?,
                            before.and_then(|before| u64::try_from(before).ok()),
                        ))
                    })
                    .optional()
            })
            .await
    }

    /// Records the number of somebody's last parcel, and of the one before it. A smaller number changes nothing.
    pub async fn note_parcel(
        &self,
        whose: &str,
        sequence: u64,
        before: Option<u64>,
    ) -> Result<(), StoreError> {
        let whose = whose.to_owned();
        self.records
            .note(move |connection| {
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

    /// Notes what happened to wanted images at a time, all together.
    pub async fn note_intake(
        &self,
        events: Vec<(Want, IntakeEvent)>,
        at: i64,
    ) -> Result<(), StoreError> {
        if events.is_empty() {
            return Ok(());
        }
        self.records
            .note(move |connection| {
                let all = || {
                    events.iter().try_for_each(|(want, event)| note(connection, want, event, at))
                };
                all().map_err(StoreError::ledger("note what was done"))
            })
            .await
    }

    /// What is known of all images that were ever wanted, sorted by image and tag.
    pub async fn intake(&self) -> Result<Vec<IntakeRecord>, StoreError> {
        self.records
            .read(|connection| {
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

    /// Notes pulls from a registry.
    pub async fn note_pulls(&self, host: &Host, count: u64, at: i64) -> Result<(), StoreError> {
        let host = host.to_string();
        self.records
            .note(move |connection| {
                note_pulls(connection, &host, count, at).map_err(StoreError::ledger("note pulls"))
            })
            .await
    }

    /// Spends pulls of a registry's limit before they are made, if it affords them now: no two, in whichever processes,
    /// spend the same. `budget` has what the operator and the registry say; what was spent is filled in. `all_of` has an
    /// image that is larger than the whole allowance go when all of that is there.
    pub async fn spend(
        &self,
        host: &Host,
        mut budget: Budget,
        pulls: u64,
        all_of: bool,
        at: i64,
    ) -> Result<(Afford, Budget), StoreError> {
        let host = host.to_string();
        self.records
            .jot(move |connection| {
                let longest = budget.allowance.map_or(LONGEST, |allowance| {
                    i64::try_from(allowance.per.as_millis()).unwrap_or(i64::MAX)
                });
                budget.spent = pulls_after(connection, &host, at.saturating_sub(longest))?;
                let afford = match budget.affords(pulls, at) {
                    Afford::Never(most) if all_of => match budget.affords(most, at) {
                        Afford::Never(_) => Afford::Now,
                        afford => afford,
                    },
                    afford => afford,
                };
                if afford == Afford::Now {
                    note_pulls(connection, &host, pulls, at)?;
                    budget.spent.push((at, pulls));
                }
                Ok((afford, budget))
            })
            .await
    }

    /// The pulls from a registry after a time: when, and how many.
    pub async fn pulls(&self, host: &Host, since: i64) -> Result<Vec<(i64, u64)>, StoreError> {
        let host = host.to_string();
        self.records.read(move |connection| pulls_after(connection, &host, since)).await
    }

    /// Adds to how often clients asked for manifests. Those that are not recorded are left out.
    pub async fn note_uses(&self, uses: Vec<Use>) -> Result<(), StoreError> {
        self.records.note(move |connection| {
            let write = || -> crate::sql::Result<()> {
            let mut add = connection.prepare_cached(
                "INSERT INTO uses (repository, digest, day, pulls, last)
                 SELECT m.repository, m.digest, $1, $2, $3 FROM manifests m
                 JOIN repositories r ON r.id = m.repository WHERE r.name = $4 AND m.digest = $5
                 ON CONFLICT (repository, digest, day) DO UPDATE SET
                   pulls = uses.pulls + excluded.pulls,
                   last = CASE WHEN excluded.last > uses.last THEN excluded.last ELSE uses.last END",
            )?;
            let mut of_shelf = connection.prepare_cached(
                "INSERT INTO shelf_uses (shelf, day, pulls) VALUES ($1, $2, $3)
                 ON CONFLICT (shelf, day) DO UPDATE SET pulls = shelf_uses.pulls + excluded.pulls",
            )?;
            let mut pulled = connection.prepare_cached(
                "UPDATE totals SET pulled = $1 WHERE shelf = $2 AND COALESCE(pulled, 0) < $1",
            )?;
            for one in &uses {
                let (repository, digest) = (one.repository.as_str(), one.digest.as_str());
                let noted =
                    add.execute(params![one.day, signed(one.pulls), one.last, repository, digest])?;
                // A node fetches an index and one of its platforms: that is one pull.
                let is_part = super::any(
                    connection,
                    "SELECT 1 FROM needs n JOIN repositories r ON r.id = n.repository
                     WHERE n.target = $1 AND r.name = $2 AND n.is_child = 1",
                    params![digest, repository],
                )?;
                if noted > 0 && !is_part {
                    let shelf = one.repository.first_component();
                    of_shelf.execute(params![shelf, one.day, signed(one.pulls)])?;
                    pulled.execute(params![one.last, shelf])?;
                }
            }
            Ok(())
            };
            write().map_err(StoreError::ledger("note what was pulled"))
        })
        .await
    }

    /// Notes that a repository of another registry has these blobs.
    pub async fn note_placed(
        &self,
        host: &Host,
        repository: &RepositoryName,
        blobs: Vec<Digest>,
    ) -> Result<(), StoreError> {
        let (host, repository) = (host.to_string(), repository.to_string());
        self.records
            .note(move |connection| {
                let write = || -> crate::sql::Result<()> {
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

    /// A repository of another registry that once had the blob. None: none is known.
    pub async fn placed(
        &self,
        host: &Host,
        digest: &Digest,
    ) -> Result<Option<RepositoryName>, StoreError> {
        let (host, digest) = (host.to_string(), digest.to_string());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT repository FROM placed WHERE host = $1 AND digest = $2",
                    )?
                    .query_row(params![host, digest], |row| checked(row, 0))
                    .optional()
            })
            .await
    }
}
