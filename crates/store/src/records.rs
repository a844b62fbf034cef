//! Records in SQLite.
//!
//! One thread writes; what waits in its queue is committed together, because each commit waits
//! for the disk. Readers have connections of their own beside it. The SQL keeps to what other
//! databases take too: numbered parameters, BIGINT and TEXT, times bound from outside.

mod advisories;
mod cache;
mod collecting;
mod contents;
mod convert;
mod copies;
mod figures;
mod findings;
mod form;
#[cfg(feature = "replicas")]
mod freeze;
mod images;
mod inventories;
mod journal;
mod kept;
mod keys;
mod leases;
mod leavings;
mod ledger;
mod lists;
mod marks;
mod moments;
mod needs;
#[cfg(feature = "replicas")]
mod owning;
mod peers;
mod quotas;
mod record;
mod rows;
#[cfg(feature = "replicas")]
mod server;
mod shelves;
mod sightings;
mod statements;
mod stops;
#[cfg(feature = "replicas")]
mod transfer;
mod upkeep;
mod uploads;
mod writing;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use larder_core::name::RepositoryName;
use rusqlite::OpenFlags;

use crate::sql::{Connection, Row};
use tokio::sync::{mpsc, oneshot};
use tokio::task::spawn_blocking;

use crate::error::StoreError;
use crate::ledger::Moment;
use crate::records::form::VERSION;
use crate::records::moments::Moments;
pub(crate) use crate::records::moments::TouchedNames;
use crate::records::writing::{
    OpenTransaction, RecordsJob, Settle, commit_error, flush_at_commit, guarded, work,
};
pub use advisories::{Feed, FeedAdvisory, ListedAdvisory, TakenAdvisories};
pub use contents::StoredBlob;
pub use convert::Conversion;
pub(crate) use convert::convert;
pub use figures::{DayPulls, LineRefusals, PulledImage};
pub use findings::{InventoryGaps, NewInventory, NotedFinding, TouchingFinding};
#[cfg(feature = "replicas")]
pub(crate) use freeze::Arrived;
#[cfg(feature = "replicas")]
pub use freeze::{MoveStage, MoveState};
pub use images::{ImageHome, LayerSharers, NotedImage, NotedSystem};
pub(crate) use ledger::{described, manifest};
pub use lists::ImageNames;
pub use marks::{Mark, Sample};
#[cfg(feature = "replicas")]
pub(crate) use owning::store_id;
pub use peers::Peer;
pub(crate) use quotas::Bringer;
pub use quotas::{QuotaPassed, WeightyImage};
#[cfg(feature = "replicas")]
pub(crate) use server::{has_records, shared_secret};
pub use shelves::{Holder, ShelfTotals};
pub use sightings::{SeenBy, SeenWorkload};
#[cfg(feature = "replicas")]
pub(crate) use transfer::Resettling;
pub(crate) use upkeep::replace;
pub use uploads::AbandonedUploads;

/// Writes that wait for the writing thread.
const QUEUE: usize = 256;
/// Reading connections that are kept open.
const READERS: usize = 16;
/// Questions to a server that are asked at once; the others wait for their turn, but not for longer than this.
#[cfg(feature = "replicas")]
const AT_ONCE: usize = 16;
#[cfg(feature = "replicas")]
const TURN: Duration = Duration::from_secs(10);
/// How long we wait for another process that writes.
const BUSY: Duration = Duration::from_secs(15);

#[cfg(feature = "replicas")]
/// The mark under which what keys are hashed with stands, where several larders share the records.
const SECRET: &str = "secret";

/// Where the records are kept.
enum RecordsPlace {
    File(PathBuf),
    #[cfg(feature = "replicas")]
    Server(Box<server::Watched>),
}

impl RecordsPlace {
    fn connect(&self) -> crate::sql::Result<Connection> {
        match self {
            // Not read-only: the first reader of a log that a killed process left must mend it.
            Self::File(path) => open_file(path, OpenFlags::SQLITE_OPEN_READ_WRITE),
            #[cfg(feature = "replicas")]
            Self::Server(server) => server.connect(),
        }
    }
}

/// Records in a file, or in a database server.
///
/// What they promise:
/// - Each change is done whole or not at all, and what was answered for survives the end of the process and of the
///   machine (leases excepted: they end with both).
/// - Several processes may work on the same file.
#[derive(Clone)]
pub(crate) struct Records {
    place: Arc<RecordsPlace>,
    jobs: mpsc::Sender<RecordsJob>,
    readers: Arc<Mutex<Vec<Connection>>>,
    moments: Arc<Moments>,
}

impl Records {
    /// Opens the file, making it where it is missing.
    ///
    /// # Errors
    /// [`StoreError::Earlier`] when it is of an earlier form, [`StoreError::Version`] when of a later one.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        make_private(path)?;
        let writer = connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        if let Some(found) = convert::earlier(&writer)? {
            return Err(StoreError::Earlier { found, known: VERSION });
        }
        keep_log(&writer)
            .and_then(|()| flush_at_commit(&writer, true))
            .map_err(StoreError::ledger("be opened"))?;
        prepare(&writer)?;
        let moments = Arc::new(Moments::open(&path.with_extension("moment"))?);
        Self::start(RecordsPlace::File(path.to_owned()), writer, moments)
    }

    /// Begins the writing thread.
    fn start(
        place: RecordsPlace,
        writer: Connection,
        moments: Arc<Moments>,
    ) -> Result<Self, StoreError> {
        let place = Arc::new(place);
        let (told, writers) = (Arc::clone(&moments), Arc::clone(&place));
        let (jobs, queue) = mpsc::channel(QUEUE);
        std::thread::Builder::new()
            .name("ledger".into())
            .spawn(move || work(&writers, writer, queue, &told))
            .map_err(StoreError::io("cannot start the ledger's thread"))?;
        Ok(Self { place, jobs, readers: Arc::default(), moments })
    }

    /// Whether a thread hears of what others change.
    pub fn is_watched(&self) -> bool {
        !matches!(*self.place, RecordsPlace::File(_))
    }

    /// Whether what others change was heard of until a moment ago.
    fn is_believed(&self) -> bool {
        match &*self.place {
            RecordsPlace::File(_) => true,
            #[cfg(feature = "replicas")]
            RecordsPlace::Server(server) => server.is_believed(),
        }
    }

    /// The present moment of what a repository holds. None: it cannot be told.
    pub fn moment_of(&self, repository: &RepositoryName) -> Option<Moment> {
        self.moments.of(repository).filter(|_| self.is_believed())
    }

    /// The present moment of who may do what. None: it cannot be told.
    pub fn moment_of_access(&self) -> Option<Moment> {
        self.moments.of_access().filter(|_| self.is_believed())
    }

    /// The present moment of what was published about packages. None: it cannot be told.
    pub fn moment_of_advisories(&self) -> Option<Moment> {
        self.moments.of_advisories().filter(|_| self.is_believed())
    }

    /// Runs a change on the writing thread and answers when it is committed. What it touched is known beforehand.
    pub async fn write<T: Send + 'static>(
        &self,
        touched: TouchedNames,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (noted, moments) = (touched.clone(), Arc::clone(&self.moments));
        let change = move |connection: &Connection| {
            let outcome = change(connection)?;
            let numbers = moments::note(connection, &noted);
            moments.pend(numbers.map_err(StoreError::ledger("be written"))?);
            Ok(outcome)
        };
        self.order(touched, true, change).await
    }

    /// The same for a change after which every name points to where it did.
    async fn note<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.order(TouchedNames::Nothing, true, change).await
    }

    /// The same for what may be lost with the machine: it does not wait for the disk.
    async fn jot<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, crate::sql::Error> + Send + 'static,
    ) -> Result<T, StoreError> {
        let change = move |connection: &Connection| {
            change(connection).map_err(StoreError::ledger("be written"))
        };
        self.order(TouchedNames::Nothing, false, change).await
    }

    /// The same for one statement that needs nothing else to stay as it is: where the records are at a server, it waits for
    /// no other change.
    async fn state<T: Send + 'static>(
        &self,
        statement: impl FnOnce(&Connection) -> Result<T, crate::sql::Error> + Send + 'static,
    ) -> Result<T, StoreError> {
        match *self.place {
            RecordsPlace::File(_) => self.jot(statement).await,
            #[cfg(feature = "replicas")]
            RecordsPlace::Server(_) => self.read(statement).await,
        }
    }

    /// The same without waiting for it, or hearing of it.
    fn post(
        &self,
        change: impl FnOnce(&Connection) -> Result<(), crate::sql::Error> + Send + 'static,
    ) {
        let run = Box::new(move |connection: OpenTransaction<'_>, company| -> (Settle, bool) {
            let mut is_made = false;
            if let Ok(connection) = connection {
                let change = |connection: &Connection| {
                    change(connection).map_err(StoreError::ledger("be written"))
                };
                match guarded(connection, company, change) {
                    Ok(()) => is_made = true,
                    Err(error) => tracing::warn!(%error, "a note could not be written"),
                }
            }
            (Box::new(|_| ()), is_made)
        });
        // Where the queue is full, a lease ends by itself.
        let _ =
            self.jobs.try_send(RecordsJob { run, touched: TouchedNames::Nothing, durable: false });
    }

    async fn order<T: Send + 'static>(
        &self,
        touched: TouchedNames,
        durable: bool,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (tell, told) = oneshot::channel();
        let run = Box::new(move |connection: OpenTransaction<'_>, company| -> (Settle, bool) {
            let outcome = match connection {
                Ok(connection) => guarded(connection, company, change),
                Err(error) => Err(commit_error(error)),
            };
            let is_made = outcome.is_ok();
            let settle = Box::new(move |commit_failed| {
                let _ = tell.send(match commit_failed {
                    None => outcome,
                    Some(error) => Err(error),
                });
            });
            (settle, is_made)
        });
        let job = RecordsJob { run, touched, durable };
        self.jobs.send(job).await.map_err(|_| StoreError::Closed)?;
        told.await.map_err(|_| StoreError::Closed)?
    }

    /// The same as [`write`](Self::write) for a change that fails only when the database does.
    async fn change<T: Send + 'static>(
        &self,
        touched: TouchedNames,
        doing: &'static str,
        change: impl FnOnce(&Connection) -> Result<T, crate::sql::Error> + Send + 'static,
    ) -> Result<T, StoreError> {
        let change =
            move |connection: &Connection| change(connection).map_err(StoreError::ledger(doing));
        self.write(touched, change).await
    }

    /// Reads on a connection of its own, at one moment of the records.
    pub async fn read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&Connection) -> Result<T, crate::sql::Error> + Send + 'static,
    ) -> Result<T, StoreError> {
        let readers = Arc::clone(&self.readers);
        let place = Arc::clone(&self.place);
        // A server has so many connections for all of us, and takes no more.
        #[cfg(feature = "replicas")]
        let turn = match &*self.place {
            RecordsPlace::File(_) => None,
            RecordsPlace::Server(server) => {
                let late = || StoreError::ledger("be read")(crate::sql::Error::Late);
                let turn = Arc::clone(server.turns()).acquire_owned();
                let turn = tokio::time::timeout(TURN, turn).await.map_err(|_| late())?;
                Some(turn.map_err(|_| late())?)
            }
        };
        spawn_blocking(move || {
            #[cfg(feature = "replicas")]
            let _turn = turn;
            let idle = || readers.lock().unwrap_or_else(PoisonError::into_inner).pop();
            let alive = std::iter::from_fn(idle).find(|connection| !connection.is_closed());
            let connection = match alive {
                Some(connection) => connection,
                None => place.connect().map_err(StoreError::ledger("be opened"))?,
            };
            let answer = question(&connection).map_err(StoreError::ledger("be read"));
            let mut readers = readers.lock().unwrap_or_else(PoisonError::into_inner);
            if readers.len() < READERS && !connection.is_closed() {
                readers.push(connection);
            }
            answer
        })
        .await
        .map_err(|_| StoreError::Closed)?
    }

    /// The same for what fails in other ways too, on a connection that nobody else has had.
    #[cfg(feature = "replicas")]
    pub async fn transfer<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let place = Arc::clone(&self.place);
        blocking(move || work(&place.connect().map_err(StoreError::ledger("be opened"))?)).await
    }

    /// The rows that a statement gives.
    async fn rows<T: Send + 'static>(
        &self,
        statement: &'static str,
        given: impl crate::sql::Params + Send + 'static,
        row: impl FnMut(&crate::sql::Row<'_>) -> crate::sql::Result<T> + Send + 'static,
    ) -> Result<Vec<T>, StoreError> {
        self.read(move |connection| {
            connection.prepare_cached(statement)?.query_map(given, row)?.collect()
        })
        .await
    }
}

/// Writes all that one database keeps into another, which holds nothing; where it is a server's, with what keys are
/// hashed with.
#[cfg(feature = "replicas")]
pub(crate) fn transfer(
    from: &Connection,
    to: &Connection,
    anew: &Resettling,
    secret: Option<&[u8; 32]>,
) -> Result<(), StoreError> {
    transfer::all(from, to, Some((anew, secret))).map_err(StoreError::ledger("be copied"))
}

/// Runs what waits for the disk on a thread that may wait.
pub(crate) async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, StoreError> + Send + 'static,
) -> Result<T, StoreError> {
    spawn_blocking(work).await.map_err(|_| StoreError::Closed)?
}

pub(crate) fn connect(path: &Path, flags: OpenFlags) -> Result<Connection, StoreError> {
    open_file(path, flags).map_err(StoreError::ledger("be opened"))
}

fn open_file(path: &Path, flags: OpenFlags) -> crate::sql::Result<Connection> {
    let flags = flags | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = rusqlite::Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(BUSY)?;
    Ok(Connection::Sqlite(connection))
}

/// Makes the file where it is missing, for its owner alone; the database gives its other files the same mode.
///
/// A file that is there is not opened: closing it would take away the locks that the database holds on it in this
/// process (fcntl(2), advisory locks).
pub(crate) fn make_private(path: &Path) -> Result<(), StoreError> {
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
fn keep_log(connection: &Connection) -> Result<(), crate::sql::Error> {
    let give_up = std::time::Instant::now() + BUSY;
    loop {
        let mode =
            connection.query_row("PRAGMA journal_mode = WAL", [], |row| row.get::<String>(0));
        match mode {
            Err(error) if error.is_busy() && std::time::Instant::now() < give_up => {
                std::thread::sleep(Duration::from_millis(20));
            }
            other => return other.map(drop),
        }
    }
}

/// Makes the tables of a file that is new.
fn prepare(connection: &Connection) -> Result<(), StoreError> {
    let opened = StoreError::ledger;
    let transaction = connection.begin().map_err(opened("be opened"))?;
    match convert::version(&transaction)? {
        0 => convert::make(&transaction).map_err(opened("be made"))?,
        VERSION => {}
        found if found > VERSION => return Err(StoreError::Version { found, known: VERSION }),
        found => return Err(StoreError::Earlier { found, known: VERSION }),
    }
    transaction.commit().map_err(opened("be opened"))
}

/// A column that holds one of our checked texts.
pub(crate) fn checked<T: std::str::FromStr>(
    row: &Row<'_>,
    column: usize,
) -> Result<T, crate::sql::Error>
where
    T::Err: std::error::Error + Send + Sync + 'static,
{
    let text: String = row.get(column)?;
    text.parse().map_err(|error| crate::sql::Error::column(column, error))
}

/// Sizes are stored as signed numbers; ours come from counted bytes and fit.
fn signed(size: u64) -> i64 {
    i64::try_from(size).unwrap_or(i64::MAX)
}

pub(crate) fn unsigned(row: &Row<'_>, column: usize) -> Result<u64, crate::sql::Error> {
    row.get::<i64>(column).map(|size| u64::try_from(size).unwrap_or(0))
}

/// Whether a query has any row.
fn any(
    connection: &Connection,
    sql: &str,
    parameters: impl crate::sql::Params,
) -> Result<bool, crate::sql::Error> {
    connection.prepare_cached(sql)?.exists(parameters)
}

#[cfg(test)]
mod tests {
    /// SQLite numbers parameters by where they stand first, whatever their names: `$2` before `$1` would be the first.
    #[test]
    fn parameters_stand_in_the_order_of_their_numbers() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/src/records");
        let mut asked = 0;
        for entry in std::fs::read_dir(folder).unwrap() {
            let text = std::fs::read_to_string(entry.unwrap().path()).unwrap();
            for literal in text.split('"').skip(1).step_by(2).filter(|text| text.contains("$1")) {
                let mut highest = 0;
                for (at, _) in literal.match_indices('$') {
                    let digits: String =
                        literal[at + 1..].chars().take_while(char::is_ascii_digit).collect();
                    let Ok(number) = digits.parse::<u32>() else { continue };
                    assert!(number <= highest + 1, "{literal}");
                    highest = highest.max(number);
                }
                asked += 1;
            }
        }
        assert!(asked > 50, "only {asked} statements were found");
    }
}
