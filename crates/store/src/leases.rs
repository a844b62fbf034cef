//! Leases: one at a time does something, among all threads and processes on one store.

use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use crate::error::StoreError;
use crate::store::Store;

/// How long a lease holds after it was last renewed. Its holder renews it three times in this time.
pub(crate) const TERM: Duration = Duration::from_secs(30);

/// A lease. Dropped, it ends.
///
/// Every attempt holds its own, also within one process. Its fence is greater than that of every lease of the name before
/// it: a write under a lease names the fence, and is refused once somebody else has the lease.
pub struct Lease {
    pub(crate) name: String,
    /// Its number among all leases.
    pub(crate) fence: i64,
    store: Store,
    renewal: tokio::task::JoinHandle<()>,
}

impl Lease {
    pub(crate) fn new(name: String, fence: i64, store: Store) -> Self {
        let (renewed, records) = (name.clone(), store.clone());
        let renewal = tokio::spawn(async move {
            loop {
                tokio::time::sleep(TERM / 3).await;
                match records.renew_lease(&renewed, fence).await {
                    Ok(true) => {}
                    Ok(false) => {
                        tracing::warn!(
                            name = renewed,
                            "a lease was lost: this process was held up for too long"
                        );
                        return;
                    }
                    Err(error) => tracing::warn!(%error, "a lease could not be renewed"),
                }
            }
        });
        Self { name, fence, store, renewal }
    }

    /// Ends it, and waits until that is recorded.
    pub async fn release(self) -> Result<(), StoreError> {
        self.renewal.abort();
        self.store.release_lease(&self.name, self.fence).await
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        self.renewal.abort();
        self.store.post_release(&self.name, self.fence);
    }
}

/// That a process is alive: it has a file of its own locked, which the system frees with its end.
#[derive(Default)]
pub(crate) struct Presence {
    shown: Mutex<Option<(String, File, PathBuf)>>,
}

/// The folder of these files in the store's folder.
const FOLDER: &str = "running";

impl Presence {
    /// The name of this process among the holders of leases; shows it as alive from the first time on.
    pub fn name(&self, root: &Path) -> Result<String, StoreError> {
        let mut shown = self.shown.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((name, ..)) = &*shown {
            return Ok(name.clone());
        }
        let folder = root.join(FOLDER);
        let name = uuid::Uuid::now_v7().simple().to_string();
        let path = folder.join(&name);
        let failed = |doing: &str| StoreError::io(format!("cannot {doing} {}", path.display()));
        fs::create_dir_all(&folder).map_err(failed("make the folder of"))?;
        let file = OpenOptions::new().write(true).create_new(true).open(&path);
        let file = file.map_err(failed("make"))?;
        file.lock().map_err(failed("lock"))?;
        *shown = Some((name.clone(), file, path));
        drop(shown);
        sweep(&folder);
        Ok(name)
    }
}

impl Drop for Presence {
    fn drop(&mut self) {
        let shown = self.shown.get_mut().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, _, path)) = shown {
            let _ = fs::remove_file(path);
        }
    }
}

/// Whether a process of this name is alive.
pub(crate) fn is_alive(root: &Path, name: &str) -> bool {
    // The name comes from a record: it is one that this module made, or nobody's.
    if uuid::Uuid::try_parse(name).is_err() {
        return false;
    }
    let Ok(file) = File::open(root.join(FOLDER).join(name)) else { return false };
    file.try_lock_shared().is_err()
}

/// Removes the files of processes that have ended.
fn sweep(folder: &Path) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        if let Ok(file) = File::open(entry.path())
            && file.try_lock_shared().is_ok()
        {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// Shared by all clones of a store.
pub(crate) type SharedPresence = Arc<Presence>;
