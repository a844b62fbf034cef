//! What an upgrade would do to a store, tried on a copy of its records.

use std::path::Path;

use rusqlite::OpenFlags;

use crate::error::StoreError;
use crate::local::{Folder, FolderForm};
use crate::objects::Objects;
use crate::records::{Conversion, Records, connect, convert, make_private};
use crate::sql::params;
use crate::store::{LEDGER, Store};

/// What a rehearsal found. The store is to be read alone: its records are the copy, its contents are the real ones.
pub struct Rehearsal {
    /// The store as it would be.
    pub store: Store,
    /// What converting did. None: the store has this version's form already.
    pub conversion: Option<Conversion>,
    /// What the database says is wrong with the records; at most [`WRONG`] lines. Empty: nothing.
    pub wrong: Vec<String>,
}

/// Faults of the records that are told.
const WRONG: usize = 20;

impl Store {
    /// Copies the records of a local store to a folder of the caller's, converts the copy where it has the form of an
    /// earlier version, and reads all of it. The store may be in use; nothing in it is changed. `tell` is told now and
    /// then how many manifests have been read, of how many.
    ///
    /// # Errors
    /// [`StoreError::Version`] when the store has the form of a later version; [`StoreError::NoRoomToConvert`] when its
    /// disk, not that of the copy, has too little room for converting it.
    pub fn rehearse(
        folder: &Path,
        scratch: &Path,
        tell: &mut dyn FnMut(u64, u64),
    ) -> Result<Rehearsal, StoreError> {
        let copy = scratch.join(LEDGER);
        make_private(&copy)?;
        let failed = StoreError::ledger;
        let records = connect(&folder.join(LEDGER), OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let to = copy.to_string_lossy().into_owned();
        records.execute("VACUUM INTO $1", params![to]).map_err(failed("be copied"))?;
        let wrong = faults(&records).map_err(failed("be read"))?;
        drop(records);
        let state = rustix::fs::statvfs(folder).ok();
        let room = state.map(|state| state.f_bavail.saturating_mul(state.f_frsize));
        let conversion = convert(folder, &copy, room, tell)?;
        let records = Records::open(&copy)?;
        let objects = Objects::Folder(Folder::new(folder, FolderForm::Objects));
        Ok(Rehearsal { store: Self::of(records, objects, scratch), conversion, wrong })
    }
}

/// What the database finds when it reads all of the records.
fn faults(records: &crate::sql::Connection) -> crate::sql::Result<Vec<String>> {
    let found = records
        .prepare(&format!("PRAGMA integrity_check({WRONG})"))?
        .query_map(params![], |row| row.get::<String>(0))?
        .collect::<crate::sql::Result<Vec<_>>>()?;
    Ok(found.into_iter().filter(|line| line != "ok").collect())
}
