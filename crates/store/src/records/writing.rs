//! The writing thread: what waits in its queue is committed together.

use tokio::sync::mpsc;

use super::RecordsPlace;
use super::moments::{Moments, TouchedNames};
use crate::error::StoreError;
use crate::sql::{Connection, Dialect};

/// Writes that are committed together at most.
const BATCH: usize = 256;
pub(super) type Settle = Box<dyn FnOnce(Option<StoreError>) + Send>;
/// The open transaction, or why there is none.
pub(super) type OpenTransaction<'c> = Result<&'c Connection, &'c crate::sql::Error>;
/// Gives what is to be done with the outcome, and whether the change was made.
pub(super) type Run = Box<dyn FnOnce(OpenTransaction<'_>, Company) -> (Settle, bool) + Send>;

/// Whether a change is the only one of its transaction, which ends with it then.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Company {
    Alone,
    Others,
}

/// A change: it gets the open transaction, or why there is none.
pub(super) struct RecordsJob {
    pub run: Run,
    /// What may not be remembered any more after it.
    pub touched: TouchedNames,
    /// Whether it must have reached the disk before it is answered for.
    pub durable: bool,
}

/// Whether a commit waits until the disk has it. In this journal mode NORMAL writes to the log without flushing it.
pub(super) fn flush_at_commit(connection: &Connection, flush: bool) -> crate::sql::Result<()> {
    let level = if flush { "FULL" } else { "NORMAL" };
    match connection.dialect() {
        Dialect::Sqlite => Ok(connection.file()?.pragma_update(None, "synchronous", level)?),
        #[cfg(feature = "replicas")]
        Dialect::Postgres => Ok(()),
    }
}

/// The writing thread: ends when the last handle is gone and its queue is empty.
pub(super) fn work(
    place: &RecordsPlace,
    mut connection: Connection,
    mut queue: mpsc::Receiver<RecordsJob>,
    moments: &Moments,
) {
    // Long: a batch from its first job to its answers.
    let mut waits = true;
    while let Some(first) = queue.blocking_recv() {
        let mut jobs = vec![first];
        while jobs.len() < BATCH
            && let Ok(job) = queue.try_recv()
        {
            jobs.push(job);
        }
        if connection.is_closed() {
            match place.connect() {
                Ok(fresh) => connection = fresh,
                Err(error) => {
                    tracing::error!(%error, "the ledger cannot be reached");
                    refuse(jobs, &error);
                    continue;
                }
            }
        }
        let durable = jobs.iter().any(|job| job.durable);
        if durable != waits {
            match flush_at_commit(&connection, durable) {
                Ok(()) => waits = durable,
                Err(error) => {
                    let error = StoreError::Commit {
                        cause: error.to_string(),
                        full: false,
                        away: error.is_away(),
                    };
                    tracing::error!(%error, "the ledger could not be written");
                    // Nobody is answered: the waiting callers are told that the store is closed.
                    continue;
                }
            }
        }
        let transaction = match connection.begin() {
            Ok(transaction) => transaction,
            Err(error) => {
                tracing::error!(%error, "the ledger could not be written");
                refuse(jobs, &error);
                continue;
            }
        };
        let company = if jobs.len() == 1 { Company::Alone } else { Company::Others };
        let mut answers = Vec::with_capacity(jobs.len());
        let mut touched = Vec::new();
        let mut is_made = false;
        for job in jobs {
            touched.push(job.touched);
            let (answer, made) = (job.run)(Ok(&transaction), company);
            answers.push(answer);
            is_made |= made;
        }
        if !is_made {
            // Nothing of it is kept, as if it had not been tried.
            drop(transaction);
            moments.settle(false);
            for answer in answers {
                answer(None);
            }
            continue;
        }
        let failure = transaction.commit().err();
        moments.settle(failure.is_none());
        if let Some(error) = &failure {
            tracing::error!(%error, "the ledger could not be written");
        }
        // Told before anybody is answered: who was answered finds what was changed.
        moments.tell(&touched);
        for answer in answers {
            answer(failure.as_ref().map(commit_error));
        }
    }
}

/// Tells all why nothing can be changed.
fn refuse(jobs: Vec<RecordsJob>, error: &crate::sql::Error) {
    for job in jobs {
        let (settle, _) = (job.run)(Err(error), Company::Others);
        settle(None);
    }
}

pub(super) fn commit_error(error: &crate::sql::Error) -> StoreError {
    let full = error.is_full();
    StoreError::Commit { cause: error.to_string(), full, away: error.is_away() }
}

/// Runs one change so that its failure undoes it and leaves its neighbours in the batch alone. Where there are none, who
/// began the transaction undoes it.
pub(super) fn guarded<T>(
    connection: &Connection,
    company: Company,
    change: impl FnOnce(&Connection) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    let failed = StoreError::ledger;
    if company == Company::Alone {
        return change(connection);
    }
    connection.execute_batch("SAVEPOINT one").map_err(failed("be written"))?;
    let outcome = change(connection);
    if outcome.is_err() {
        connection.execute_batch("ROLLBACK TO one").map_err(failed("be written"))?;
    }
    connection.execute_batch("RELEASE one").map_err(failed("be written"))?;
    outcome
}
