//! A ledger in SQLite.
//!
//! One thread writes; what waits in its queue is committed together, because each commit waits
//! for the disk. Readers have connections of their own beside it. The SQL keeps to what other
//! databases take too: numbered parameters, BIGINT and TEXT, times bound from outside.

mod cache;
mod journal;
mod kept;
mod keys;
mod ledger;
mod moments;
mod record;
mod stops;
mod upkeep;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use larder_core::digest::Digest;
use rusqlite::{Connection, OpenFlags, Row, TransactionBehavior};
use tokio::sync::{mpsc, oneshot};
use tokio::task::spawn_blocking;

use crate::blobs::BlobStore;
use crate::error::StoreError;
use crate::sqlite::moments::Moments;

const VERSION: i64 = 6;
/// Writes that wait for the writing thread.
const QUEUE: usize = 256;
/// Writes that are committed together at most.
const BATCH: usize = 256;
/// Reading connections that are kept open.
const READERS: usize = 8;
/// How long we wait for another process that writes.
const BUSY: Duration = Duration::from_secs(15);

const SCHEMA: &str = "
    CREATE TABLE repositories (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
    CREATE TABLE blobs (
        repository BIGINT NOT NULL, digest TEXT NOT NULL, size BIGINT NOT NULL,
        PRIMARY KEY (repository, digest)
    ) WITHOUT ROWID;
    CREATE INDEX blobs_by_digest ON blobs (digest);
    CREATE TABLE manifests (
        repository BIGINT NOT NULL, digest TEXT NOT NULL, media_type TEXT NOT NULL,
        size BIGINT NOT NULL, subject TEXT, added BIGINT NOT NULL,
        PRIMARY KEY (repository, digest)
    ) WITHOUT ROWID;
    CREATE TABLE needs (
        repository BIGINT NOT NULL, manifest TEXT NOT NULL, target TEXT NOT NULL,
        is_child BIGINT NOT NULL, PRIMARY KEY (repository, manifest, target)
    ) WITHOUT ROWID;
    CREATE INDEX needs_by_target ON needs (repository, target);
    CREATE TABLE tags (
        repository BIGINT NOT NULL, name TEXT NOT NULL, digest TEXT NOT NULL, since BIGINT NOT NULL,
        PRIMARY KEY (repository, name)
    ) WITHOUT ROWID;
";
/// What each later version added, to be carried out in turn: the first leads from version 1 to 2.
const STEPS: [&[&str]; 5] = [
    &[BY_SUBJECT, journal::TABLES],
    &[upkeep::COLUMNS, journal::USES],
    &[cache::TABLES],
    &[keys::TABLES, record::TABLES],
    &[stops::TABLES],
];
const BY_SUBJECT: &str = "
    CREATE INDEX manifests_by_subject ON manifests (repository, subject, digest)
        WHERE subject IS NOT NULL;
";

type Answer = Box<dyn FnOnce(Option<StoreError>) + Send>;
/// The open transaction, or why there is none.
type Open<'c> = Result<&'c Connection, &'c rusqlite::Error>;
type Run = Box<dyn FnOnce(Open<'_>) -> Answer + Send>;
/// A change: it gets the open transaction, or why there is none.
struct Job {
    run: Run,
    /// Whether names may point elsewhere after it, or nowhere.
    renames: bool,
}

/// Records in a SQLite file.
#[derive(Clone)]
pub struct SqliteLedger {
    path: Arc<PathBuf>,
    jobs: mpsc::Sender<Job>,
    readers: Arc<Mutex<Vec<Connection>>>,
    /// Where the content lies that the records name.
    blobs: Arc<dyn BlobStore>,
    moments: Arc<Moments>,
}

impl SqliteLedger {
    /// Opens the file, making it where it is missing. Its records name content of `blobs`.
    pub fn open(path: &Path, blobs: Arc<dyn BlobStore>) -> Result<Self, StoreError> {
        make_private(path)?;
        let mut writer = connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        keep_log(&writer)
            .and_then(|()| writer.pragma_update(None, "synchronous", "FULL"))
            .map_err(StoreError::ledger("be opened"))?;
        prepare(&mut writer)?;
        let moments = Arc::new(Moments::open(&path.with_extension("moment"))?);
        let told = Arc::clone(&moments);
        let (jobs, queue) = mpsc::channel(QUEUE);
        std::thread::Builder::new()
            .name("ledger".into())
            .spawn(move || work(&mut writer, queue, &told))
            .map_err(StoreError::io("cannot start the ledger's thread"))?;
        Ok(Self { path: Arc::new(path.to_owned()), jobs, readers: Arc::default(), blobs, moments })
    }

    /// Runs a change on the writing thread and answers when it is committed.
    async fn write<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.order(true, change).await
    }

    /// The same for a change after which every name points to where it did.
    async fn note<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.order(false, change).await
    }

    async fn order<T: Send + 'static>(
        &self,
        renames: bool,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (tell, told) = oneshot::channel();
        let run = Box::new(move |connection: Open<'_>| -> Answer {
            let outcome = match connection {
                Ok(connection) => guarded(connection, change),
                Err(error) => Err(commit_error(error)),
            };
            Box::new(move |commit_failed| {
                let _ = tell.send(match commit_failed {
                    None => outcome,
                    Some(error) => Err(error),
                });
            })
        });
        self.jobs.send(Job { run, renames }).await.map_err(|_| StoreError::Closed)?;
        told.await.map_err(|_| StoreError::Closed)?
    }

    /// The same for a change that fails only when the database does.
    async fn change<T: Send + 'static>(
        &self,
        doing: &'static str,
        change: impl FnOnce(&Connection) -> Result<T, rusqlite::Error> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.write(|connection| change(connection).map_err(StoreError::ledger(doing))).await
    }

    async fn read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&Connection) -> Result<T, rusqlite::Error> + Send + 'static,
    ) -> Result<T, StoreError> {
        let readers = Arc::clone(&self.readers);
        let path = Arc::clone(&self.path);
        spawn_blocking(move || {
            let idle = readers.lock().unwrap_or_else(PoisonError::into_inner).pop();
            let connection = match idle {
                Some(connection) => connection,
                // Not read-only: the first reader of a log that a killed process left must mend it.
                None => connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?,
            };
            let answer = question(&connection).map_err(StoreError::ledger("be read"));
            let mut readers = readers.lock().unwrap_or_else(PoisonError::into_inner);
            if readers.len() < READERS {
                readers.push(connection);
            }
            answer
        })
        .await
        .map_err(|_| StoreError::Closed)?
    }
}

/// Runs what waits for the disk on a thread that may wait.
async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, StoreError> + Send + 'static,
) -> Result<T, StoreError> {
    spawn_blocking(work).await.map_err(|_| StoreError::Closed)?
}

fn connect(path: &Path, flags: OpenFlags) -> Result<Connection, StoreError> {
    let connection = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)
        .map_err(StoreError::ledger("be opened"))?;
    connection.busy_timeout(BUSY).map_err(StoreError::ledger("be opened"))?;
    Ok(connection)
}

/// Makes the file where it is missing, for its owner alone; the database gives its other files the same mode.
///
/// A file that is there is not opened: closing it would take away the locks that the database holds on it in this
/// process (fcntl(2), advisory locks).
fn make_private(path: &Path) -> Result<(), StoreError> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let mut options = std::fs::OpenOptions::new();
    let made = match options.write(true).create_new(true).mode(0o600).open(path) {
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
        made => made.map(drop),
    };
    made.map_err(StoreError::io(format!("cannot make {}", path.display())))
}

/// Switches to a write-ahead log. Unlike other statements this one does not wait by itself for
/// another process that does the same.
fn keep_log(connection: &Connection) -> Result<(), rusqlite::Error> {
    let give_up = std::time::Instant::now() + BUSY;
    loop {
        let mode =
            connection.query_row("PRAGMA journal_mode = WAL", [], |row| row.get::<_, String>(0));
        match mode {
            Err(error)
                if error.sqlite_error_code() == Some(rusqlite::ErrorCode::DatabaseBusy)
                    && std::time::Instant::now() < give_up =>
            {
                std::thread::sleep(Duration::from_millis(20));
            }
            other => return other.map(drop),
        }
    }
}

fn prepare(connection: &mut Connection) -> Result<(), StoreError> {
    let opened = StoreError::ledger;
    let transaction = connection
        .transaction_with_behavior(TransactionBehavior::Immediate)
        .map_err(opened("be opened"))?;
    let found: i64 = transaction
        .pragma_query_value(None, "user_version", |row| row.get(0))
        .map_err(opened("be opened"))?;
    if found > VERSION {
        return Err(StoreError::Version { found, known: VERSION });
    }
    let make = || -> Result<(), rusqlite::Error> {
        if found == 0 {
            transaction.execute_batch(SCHEMA)?;
        }
        let done = usize::try_from(found.max(1) - 1).unwrap_or_default();
        for part in STEPS.iter().skip(done).copied().flatten() {
            transaction.execute_batch(part)?;
        }
        transaction.pragma_update(None, "user_version", VERSION)
    };
    if found != VERSION {
        make().map_err(opened("be made"))?;
    }
    transaction.commit().map_err(opened("be opened"))
}

/// The writing thread: ends when the last ledger handle is gone and its queue is empty.
fn work(connection: &mut Connection, mut queue: mpsc::Receiver<Job>, moments: &Moments) {
    while let Some(first) = queue.blocking_recv() {
        let transaction = match connection.transaction_with_behavior(TransactionBehavior::Immediate)
        {
            Ok(transaction) => transaction,
            Err(error) => {
                tracing::error!(%error, "the ledger could not be written");
                (first.run)(Err(&error))(None);
                continue;
            }
        };
        let mut renames = first.renames;
        let mut answers = vec![(first.run)(Ok(&transaction))];
        while answers.len() < BATCH
            && let Ok(job) = queue.try_recv()
        {
            renames |= job.renames;
            answers.push((job.run)(Ok(&transaction)));
        }
        let failure = transaction.commit().err();
        if let Some(error) = &failure {
            tracing::error!(%error, "the ledger could not be written");
        }
        // Told before anybody is answered: who was answered finds what was changed.
        if renames {
            moments.next();
        }
        for answer in answers {
            answer(failure.as_ref().map(commit_error));
        }
    }
}

fn commit_error(error: &rusqlite::Error) -> StoreError {
    let full = error.sqlite_error_code() == Some(rusqlite::ErrorCode::DiskFull);
    StoreError::Commit { cause: error.to_string(), full }
}

/// Runs one change so that its failure undoes it and leaves its neighbours in the batch alone.
fn guarded<T>(
    connection: &Connection,
    change: impl FnOnce(&Connection) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    let failed = StoreError::ledger;
    connection.execute_batch("SAVEPOINT one").map_err(failed("be written"))?;
    let outcome = change(connection);
    if outcome.is_err() {
        connection.execute_batch("ROLLBACK TO one").map_err(failed("be written"))?;
    }
    connection.execute_batch("RELEASE one").map_err(failed("be written"))?;
    outcome
}

/// A column that holds one of our checked texts.
fn checked<T: std::str::FromStr>(row: &Row<'_>, column: usize) -> Result<T, rusqlite::Error>
where
    T::Err: std::error::Error + Send + Sync + 'static,
{
    let text: String = row.get(column)?;
    text.parse().map_err(|error| {
        rusqlite::Error::FromSqlConversionFailure(
            column,
            rusqlite::types::Type::Text,
            Box::new(error),
        )
    })
}

/// Sizes are stored as signed numbers; ours come from counted bytes and fit.
fn signed(size: u64) -> i64 {
    i64::try_from(size).unwrap_or(i64::MAX)
}

fn unsigned(row: &Row<'_>, column: usize) -> Result<u64, rusqlite::Error> {
    row.get::<_, i64>(column).map(|size| u64::try_from(size).unwrap_or(0))
}

/// Every blob and manifest that some repository has, each once, sorted.
fn digests(connection: &Connection) -> Result<Vec<Digest>, rusqlite::Error> {
    connection
        .prepare_cached("SELECT digest FROM blobs UNION SELECT digest FROM manifests ORDER BY 1")?
        .query_map([], |row| checked(row, 0))?
        .collect()
}

/// Whether a query has any row.
fn any(
    connection: &Connection,
    sql: &str,
    parameters: impl rusqlite::Params,
) -> Result<bool, rusqlite::Error> {
    connection.prepare_cached(sql)?.exists(parameters)
}
