//! How processes on the same ledger tell each other that something changed.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::FileExt as _;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

use crate::error::StoreError;
use crate::ledger::Moment;

/// Which moment it is, in a small file beside the database: every process that changes where names
/// point writes a new one there.
pub(super) struct Moments {
    file: File,
    /// What the database last said of changes by others.
    others: AtomicI64,
    /// Whether a moment could not be written: from then on nobody can tell.
    lost: AtomicBool,
}

impl Moments {
    pub fn open(path: &Path) -> Result<Self, StoreError> {
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

    pub fn next(&self) {
        let fresh = uuid::Uuid::now_v7();
        if let Err(error) = self.file.write_all_at(fresh.as_bytes(), 0) {
            tracing::error!(%error, "changes cannot be told to other processes");
            self.lost.store(true, Ordering::Release);
        }
    }

    /// Takes note of what the database says of changes by others.
    pub fn compare(&self, version: i64) {
        if self.others.swap(version, Ordering::AcqRel) != version {
            self.next();
        }
    }

    pub fn now(&self) -> Option<Moment> {
        if self.lost.load(Ordering::Acquire) {
            return None;
        }
        let mut moment = [0; 16];
        self.file.read_exact_at(&mut moment, 0).ok()?;
        Some(Moment(moment))
    }
}
