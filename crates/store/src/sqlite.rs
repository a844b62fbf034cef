//! A ledger in SQLite.
//!
//! One thread writes; what waits in its queue is committed together, because each commit waits
//! for the disk. Readers have connections of their own beside it. The SQL keeps to what other
//! databases take too: numbered parameters, BIGINT and TEXT, times bound from outside.

mod journal;
mod upkeep;

use std::fs::{File, OpenOptions};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use rusqlite::{Connection, OpenFlags, OptionalExtension as _, Row, TransactionBehavior, params};
use tokio::sync::{mpsc, oneshot};
use tokio::task::spawn_blocking;

use crate::blobs::BlobStore;
use crate::error::StoreError;
use crate::ledger::{HeldTag, Ledger, ManifestRecord, Moment, NewManifest, Totals};
use crate::store::now;

const VERSION: i64 = 3;
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
const STEPS: [&[&str]; 2] = [&[BY_SUBJECT, journal::TABLES], &[upkeep::COLUMNS, journal::USES]];
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
        let mut writer =
            connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE)?;
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

/// Which moment it is, in a small file beside the database: every process that changes where names
/// point writes a new one there.
struct Moments {
    file: File,
    /// What the database last said of changes by others.
    others: AtomicI64,
    /// Whether a moment could not be written: from then on nobody can tell.
    lost: AtomicBool,
}

impl Moments {
    fn open(path: &Path) -> Result<Self, StoreError> {
        let failed = || StoreError::io(format!("cannot open {}", path.display()));
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(path)
            .map_err(failed())?;
        let moments = Self { file, others: AtomicI64::new(0), lost: AtomicBool::new(false) };
        // Whoever was killed here last may not have told all.
        moments.next();
        Ok(moments)
    }

    fn next(&self) {
        let fresh = uuid::Uuid::now_v7();
        if let Err(error) = self.file.write_all_at(fresh.as_bytes(), 0) {
            tracing::error!(%error, "changes cannot be told to other processes");
            self.lost.store(true, Ordering::Release);
        }
    }

    fn now(&self) -> Option<Moment> {
        if self.lost.load(Ordering::Acquire) {
            return None;
        }
        let mut moment = [0; 16];
        self.file.read_exact_at(&mut moment, 0).ok()?;
        Some(Moment(moment))
    }
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

/// Content that is to be recorded must not have been collected meanwhile. Asked for within the change:
/// until that is committed, nothing can be collected.
fn still_there(blobs: &dyn BlobStore, digest: &Digest) -> Result<(), StoreError> {
    if blobs.is_there(digest)? { Ok(()) } else { Err(StoreError::Vanished(digest.clone())) }
}

fn repository_id(connection: &Connection, name: &RepositoryName) -> Result<i64, rusqlite::Error> {
    connection
        .prepare_cached(
            "INSERT INTO repositories (name) VALUES ($1)
             ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id",
        )?
        .query_row(params![name.as_str()], |row| row.get(0))
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

fn manifest_record(row: &Row<'_>) -> Result<ManifestRecord, rusqlite::Error> {
    Ok(ManifestRecord {
        digest: checked(row, 0)?,
        media_type: row.get(1)?,
        size: unsigned(row, 2)?,
    })
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

fn record(
    connection: &Connection,
    name: &RepositoryName,
    new: &NewManifest,
) -> Result<(), StoreError> {
    let failed = || StoreError::ledger("record a manifest");
    let repository = repository_id(connection, name).map_err(failed())?;
    let mut missing = Vec::new();
    let has_blob = "SELECT 1 FROM blobs WHERE repository = $1 AND digest = $2";
    let has_child = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
    let blobs = new.blobs.iter().map(|(digest, _)| (digest, has_blob));
    let children = new.children.iter().filter(|_| !new.sparse).map(|digest| (digest, has_child));
    for (digest, question) in blobs.chain(children) {
        if !any(connection, question, params![repository, digest.as_str()]).map_err(failed())? {
            missing.push(digest.clone());
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
            "INSERT INTO needs (repository, manifest, target, is_child) VALUES ($1, $2, $3, $4)
             ON CONFLICT (repository, manifest, target) DO NOTHING",
        )?;
        for (target, _) in &new.blobs {
            need.execute(params![repository, digest, target.as_str(), 0])?;
        }
        for target in &new.children {
            need.execute(params![repository, digest, target.as_str(), 1])?;
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
            Ok(version) => {
                if self.moments.others.swap(version, Ordering::AcqRel) != version {
                    self.moments.next();
                }
            }
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
