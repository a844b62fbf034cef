//! How processes on the same records tell each other what changed, so that answers may be remembered.

use std::collections::BTreeSet;
use std::fs::{File, OpenOptions};
use std::os::unix::fs::FileExt as _;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::sql::{Connection, params};
use larder_core::name::RepositoryName;

use crate::error::StoreError;
use crate::ledger::Moment;

/// What a change may have made untrue of what was remembered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum TouchedNames {
    Nothing,
    /// Who may do what.
    Access,
    /// What was published about packages.
    Advisories,
    /// What some repositories hold.
    Repositories(Vec<RepositoryName>),
    /// Anything.
    Everything,
}

impl TouchedNames {
    /// What one repository holds.
    pub fn one(repository: &RepositoryName) -> Self {
        Self::Repositories(vec![repository.clone()])
    }

    /// The names under which it is recorded.
    fn names(&self) -> Vec<&str> {
        match self {
            Self::Nothing => Vec::new(),
            Self::Access => vec![ACCESS],
            Self::Advisories => vec![ADVISORIES],
            Self::Repositories(all) => all.iter().map(RepositoryName::as_str).collect(),
            Self::Everything => vec![EVERYTHING],
        }
    }
}

/// No repository has these names.
const ACCESS: &str = "@access";
const ADVISORIES: &str = "@advisories";
const EVERYTHING: &str = "@everything";
/// Repositories share so many moments: one that changes makes those untrue that share its moment, too.
const SLOTS: u64 = 4096;
/// The bytes of a moment.
const WIDTH: usize = 16;

/// Records which names a change touched: for those who did not hear of it, because its maker was killed before
/// telling.
///
/// Gives the numbers of these changes.
pub(super) fn note(
    connection: &Connection,
    touched: &TouchedNames,
) -> crate::sql::Result<Vec<i64>> {
    let note = |name: &str| {
        connection
            .prepare_cached(
                "INSERT INTO changes (repository, number)
                 VALUES ($1, (SELECT COALESCE(MAX(number), 0) + 1 FROM changes))
                 ON CONFLICT (repository) DO UPDATE SET number = excluded.number RETURNING number",
            )?
            .query_row(params![name], |row| row.get(0))
    };
    touched.names().into_iter().map(note).collect()
}

/// The names that were touched after a number, each with the number of its last change, and the last number. Too many are
/// told as everything.
pub(super) fn since(
    connection: &Connection,
    number: i64,
) -> crate::sql::Result<(Vec<(String, i64)>, i64)> {
    const MOST: usize = 1000;
    let mut query = connection.prepare_cached(
        "SELECT repository, number FROM changes WHERE number > $1 ORDER BY number DESC LIMIT 1001",
    )?;
    let found: Vec<(String, i64)> = query
        .query_map(params![number], |row| Ok((row.get(0)?, row.get(1)?)))?
        .collect::<crate::sql::Result<_>>()?;
    let last = found.first().map_or(number, |(_, number)| *number);
    if found.len() > MOST {
        return Ok((vec![(EVERYTHING.to_owned(), 0)], last));
    }
    Ok((found, last))
}

/// Which moment it is, in a small file beside the database: every process that changes something writes a new one to the
/// place of what it changed.
pub(super) struct Moments {
    board: Board,
    /// What the database last said of changes by others.
    others: AtomicI64,
    /// Up to which change all have been told.
    told: AtomicI64,
    /// Whether a moment could not be written: from then on nobody can tell.
    lost: AtomicBool,
    /// The numbers of changes that were made here: those that are about to be committed, and those that were told then and
    /// are not heard of yet.
    own: Mutex<OwnChanges>,
}

#[derive(Default)]
struct OwnChanges {
    pending: Vec<i64>,
    told: BTreeSet<i64>,
}

/// So many numbers are remembered; those of longer ago are told twice.
const OWN: usize = 10_000;

/// Where the moments stand.
enum Board {
    /// Beside the database, for every process that works on it.
    File(File),
    /// In this process alone, which is told of what others change.
    #[cfg_attr(not(feature = "replicas"), allow(dead_code))]
    Memory(Mutex<Vec<u8>>),
}

impl Board {
    fn write(&self, bytes: &[u8], at: u64) -> std::io::Result<()> {
        match self {
            Self::File(file) => file.write_all_at(bytes, at),
            Self::Memory(board) => {
                let mut board = board.lock().unwrap_or_else(PoisonError::into_inner);
                let at = usize::try_from(at).unwrap_or(usize::MAX);
                let place = board.get_mut(at..).and_then(|rest| rest.get_mut(..bytes.len()));
                place.map(|place| place.copy_from_slice(bytes)).ok_or_else(outside)
            }
        }
    }

    fn read(&self, bytes: &mut [u8], at: u64) -> std::io::Result<()> {
        match self {
            Self::File(file) => file.read_exact_at(bytes, at),
            Self::Memory(board) => {
                let board = board.lock().unwrap_or_else(PoisonError::into_inner);
                let at = usize::try_from(at).unwrap_or(usize::MAX);
                let place = board.get(at..).and_then(|rest| rest.get(..bytes.len()));
                place.map(|place| bytes.copy_from_slice(place)).ok_or_else(outside)
            }
        }
    }
}

fn outside() -> std::io::Error {
    std::io::ErrorKind::UnexpectedEof.into()
}

/// Where in the file the moment of a name stands. The first is everything's, the second access's.
fn slot(name: &str) -> u64 {
    match name {
        EVERYTHING => 0,
        ACCESS => 1,
        // FNV-1a: which names meet is of no use to anybody.
        name => {
            let hash = name.bytes().fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
                (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
            });
            2 + hash % (SLOTS - 2)
        }
    }
}

impl Moments {
    /// Opens the count of changes, which all processes of a store share.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let failed = || StoreError::io(format!("cannot open {}", path.display()));
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(path)
            .map_err(failed())?;
        let length = SLOTS * WIDTH as u64;
        if file.metadata().map_err(failed())?.len() < length {
            file.set_len(length).map_err(failed())?;
        }
        let (others, told) = (AtomicI64::new(0), AtomicI64::new(0));
        let (lost, own) = (AtomicBool::new(false), Mutex::default());
        Ok(Self { board: Board::File(file), others, told, lost, own })
    }

    /// The count of changes for one process alone.
    #[cfg(feature = "replicas")]
    pub fn in_memory() -> Self {
        let length = usize::try_from(SLOTS).unwrap_or_default() * WIDTH;
        let board = Board::Memory(Mutex::new(vec![0; length]));
        let (others, told) = (AtomicI64::new(0), AtomicI64::new(0));
        let (lost, own) = (AtomicBool::new(false), Mutex::default());
        Self { board, others, told, lost, own }
    }

    /// From here on nobody can tell what others have changed. False: nobody could before.
    #[cfg(feature = "replicas")]
    pub fn lose(&self) -> bool {
        !self.lost.swap(true, Ordering::AcqRel)
    }

    /// What others change is heard of again; what was remembered before is not to be believed.
    #[cfg(feature = "replicas")]
    pub fn find_again(&self) {
        self.next(slot(EVERYTHING));
        self.lost.store(false, Ordering::Release);
    }

    fn next(&self, slot: u64) {
        let fresh = uuid::Uuid::now_v7();
        if let Err(error) = self.board.write(fresh.as_bytes(), slot * WIDTH as u64) {
            tracing::error!(%error, "changes cannot be told to other processes");
            self.lost.store(true, Ordering::Release);
        }
    }

    /// Tells what changed.
    pub fn tell(&self, all: &[TouchedNames]) {
        let mut slots: Vec<u64> =
            all.iter().flat_map(|touched| touched.names().into_iter().map(slot)).collect();
        slots.sort_unstable();
        slots.dedup();
        for slot in slots {
            self.next(slot);
        }
    }

    /// Takes note of what the database says of changes by others. True: there were some.
    pub fn differs(&self, version: i64) -> bool {
        self.others.swap(version, Ordering::AcqRel) != version
    }

    /// Up to which change all have been told.
    pub fn told(&self) -> i64 {
        self.told.load(Ordering::Acquire)
    }

    /// These numbers are about to be committed by this process.
    pub fn pend(&self, numbers: Vec<i64>) {
        if matches!(self.board, Board::Memory(_)) {
            self.own.lock().unwrap_or_else(PoisonError::into_inner).pending.extend(numbers);
        }
    }

    /// They were, or were not: then others may come to have them.
    pub fn settle(&self, committed: bool) {
        let mut own = self.own.lock().unwrap_or_else(PoisonError::into_inner);
        let pending = std::mem::take(&mut own.pending);
        if committed {
            own.told.extend(pending);
        }
        while own.told.len() > OWN {
            own.told.pop_first();
        }
    }

    /// Tells what others changed without telling. What was changed here last was told then, after all that others had
    /// changed of it.
    pub fn tell_others(&self, names: &[(String, i64)], last: i64) {
        let mut own = self.own.lock().unwrap_or_else(PoisonError::into_inner);
        for (name, number) in names {
            if !own.told.contains(number) {
                self.next(slot(name));
            }
        }
        own.told = own.told.split_off(&(last + 1));
        self.told.store(last, Ordering::Release);
    }

    /// The moment of a repository. None: the count cannot be read, and nothing may be remembered.
    pub fn of(&self, repository: &RepositoryName) -> Option<Moment> {
        self.at(slot(repository.as_str()))
    }

    /// The moment of keys and stops. None: as for a repository.
    pub fn of_access(&self) -> Option<Moment> {
        self.at(slot(ACCESS))
    }

    /// The moment of what was published about packages. None: as for a repository.
    pub fn of_advisories(&self) -> Option<Moment> {
        self.at(slot(ADVISORIES))
    }

    fn at(&self, slot: u64) -> Option<Moment> {
        if self.lost.load(Ordering::Acquire) {
            return None;
        }
        let mut moment = [0; 2 * WIDTH];
        let (all, own) = moment.split_at_mut(WIDTH);
        self.board.read(all, 0).ok()?;
        self.board.read(own, slot * WIDTH as u64).ok()?;
        Some(Moment(moment))
    }
}
