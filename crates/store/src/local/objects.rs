//! The objects of a folder: which there are, how old they are, and what becomes of them.

use std::fs::{self, File, TryLockError};
use std::sync::Arc;
use std::time::Duration;

use larder_core::digest::Digest;

use super::uploads::age;
use super::{BLOBS, CONTENT, Folder, Object, QUARANTINE, UploadHolder, blocking, io};
use crate::error::StoreError;

impl Folder {
    /// The objects whose digests begin with this byte, sorted, also those that lie where an earlier form of the store
    /// had them; without their sizes and ages where `bare`.
    pub async fn objects(&self, part: u8, bare: bool) -> Result<Vec<Object>, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let mut found = inner.part(CONTENT, part, bare)?;
            found.extend(inner.part(BLOBS, part, bare)?);
            Ok(found)
        })
        .await
    }

    /// How long ago what lies at a place was written, and its size in bytes. None: nothing lies there.
    pub async fn age_of(&self, place: &str) -> Result<Option<(Duration, u64)>, StoreError> {
        let path = self.inner.at(place);
        blocking(move || match fs::metadata(&path) {
            Ok(metadata) => Ok(Some((age(&metadata), metadata.len()))),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(io("read", &path)(error)),
        })
        .await
    }

    /// Takes hold of what lies at a place, unless somebody has just written it and is about to record it.
    pub async fn hold(&self, place: &str) -> Result<UploadHolder, StoreError> {
        let path = self.inner.at(place);
        blocking(move || {
            let file = match File::open(&path) {
                Ok(file) => file,
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                    return Ok(UploadHolder::Nothing);
                }
                Err(error) => return Err(io("read", &path)(error)),
            };
            match file.try_lock() {
                Ok(()) => Ok(UploadHolder::Ours(Some(file))),
                Err(TryLockError::WouldBlock) => Ok(UploadHolder::Theirs),
                Err(TryLockError::Error(error)) => Err(io("lock", &path)(error)),
            }
        })
        .await
    }

    /// Removes what lies at some places; what is gone already is none of them.
    pub async fn remove(&self, places: Vec<String>) -> Result<(), StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            for place in places {
                let path = inner.at(&place);
                match fs::remove_file(&path) {
                    Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                        return Err(io("remove", &path)(error));
                    }
                    _ => {}
                }
            }
            Ok(())
        })
        .await
    }

    /// Keeps what lies at a place aside for somebody to look at, and tells where. None: nothing lay there.
    pub async fn set_aside(
        &self,
        digest: &Digest,
        place: &str,
    ) -> Result<Option<String>, StoreError> {
        let (inner, from) = (Arc::clone(&self.inner), self.inner.at(place));
        let aside = format!("{QUARANTINE}/{}-{}", digest.algorithm().name(), digest.hex());
        blocking(move || {
            let (folder, to) = (inner.at(QUARANTINE), inner.at(&aside));
            fs::create_dir_all(&folder).map_err(io("make", &folder))?;
            match fs::rename(&from, &to) {
                Ok(()) => Ok(Some(aside)),
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
                Err(error) => Err(io("write", &to)(error)),
            }
        })
        .await
    }

    /// How many bytes the whole disk has. None: nobody knows.
    pub async fn capacity(&self) -> Result<Option<u64>, StoreError> {
        let root = self.inner.root.clone();
        blocking(move || {
            let state =
                rustix::fs::statvfs(&root).map_err(|error| io("measure", &root)(error.into()))?;
            Ok(Some(state.f_blocks.saturating_mul(state.f_frsize)))
        })
        .await
    }

    /// How many bytes can still be written. None: nobody knows.
    pub async fn room(&self) -> Result<Option<u64>, StoreError> {
        let root = self.inner.root.clone();
        blocking(move || {
            let state =
                rustix::fs::statvfs(&root).map_err(|error| io("measure", &root)(error.into()))?;
            Ok(Some(state.f_bavail.saturating_mul(state.f_frsize)))
        })
        .await
    }
}
