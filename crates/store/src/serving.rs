//! Who serves a store? One process at a time: what it remembers of uploads, answers and refusals is its own.

use std::fs::{File, OpenOptions, TryLockError};
use std::path::Path;

use crate::error::StoreError;

/// The file in the store's folder that the serving process has locked.
const NAME: &str = "serve.lock";

/// That this process serves a store. Dropped, or with the end of the process, another one may.
#[derive(Debug)]
pub struct ServingLock {
    _locked: File,
}

impl ServingLock {
    /// Begins to serve the store in a folder, which must exist.
    ///
    /// # Errors
    /// [`StoreError::Served`] while another process does.
    pub fn begin(folder: &Path) -> Result<Self, StoreError> {
        let path = folder.join(NAME);
        let failed = |doing: &str| StoreError::io(format!("cannot {doing} {}", path.display()));
        let file = OpenOptions::new().write(true).create(true).truncate(false).open(&path);
        let file = file.map_err(failed("open"))?;
        match file.try_lock() {
            Ok(()) => Ok(Self { _locked: file }),
            Err(TryLockError::WouldBlock) => Err(StoreError::Served),
            Err(TryLockError::Error(error)) => Err(failed("lock")(error)),
        }
    }
}
