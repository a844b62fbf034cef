//! Uploads that are not finished: begun, taken up again, given up.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{Read as _, Seek as _, SeekFrom};
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use larder_core::digest::{Algorithm, Hasher};

use super::output::BlobOutput;
use super::reader::PIECE;
use super::writer::{BlobWriter, Claim};
use super::{Folder, UnfinishedUpload, UploadState, blocking, io};
use crate::blobs::{Purpose, UploadId};
use crate::error::StoreError;

impl Folder {
    /// Opens an upload with nothing in it.
    pub async fn begin(&self, id: UploadId) -> Result<(), StoreError> {
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let mut options = OpenOptions::new();
            options.write(true).create_new(true);
            inner.private(&mut options).open(&path).map(drop).map_err(io("write", &path))
        })
        .await
    }

    /// Takes up an upload.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn resume(&self, id: UploadId, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        let parked = match self.inner.states().insert(id, UploadState::Active) {
            Some(UploadState::Active) => return Err(StoreError::Busy(id.to_string())),
            Some(UploadState::Parked(hasher, offset)) => Some((*hasher, offset)),
            None => None,
        };
        // From here on the upload is ours; the guard releases it on every way out.
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        let claim = Claim { inner, id, path: path.clone(), once: false };
        let (file, hasher, offset) = blocking(move || reopen(&path, id, parked)).await?;
        let output = BlobOutput::new(file, offset);
        BlobWriter::new(claim, output, hasher, purpose)
    }

    /// Opens an upload that nobody can take up again: as soon as its writer has ended, by whatever means, without
    /// having been sealed, nothing of it is kept.
    pub async fn write_once(&self, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        let id = UploadId::fresh();
        let inner = Arc::clone(&self.inner);
        let (file, path) = blocking(move || inner.once(id)).await?;
        let claim = Claim { inner: Arc::clone(&self.inner), id, path, once: true };
        let output = BlobOutput::new(file, 0);
        let hasher = Hasher::new(Algorithm::Sha256);
        BlobWriter::new(claim, output, hasher, purpose)
    }

    /// How many bytes an upload has.
    pub async fn uploaded(&self, id: UploadId) -> Result<u64, StoreError> {
        let path = self.inner.upload(id);
        blocking(move || {
            fs::metadata(&path).map(|m| m.len()).map_err(|e| upload_error(e, id, &path))
        })
        .await
    }

    /// Gives an upload up; nothing of it stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn cancel(&self, id: UploadId) -> Result<(), StoreError> {
        if matches!(self.inner.states().get(&id), Some(UploadState::Active)) {
            return Err(StoreError::Busy(id.to_string()));
        }
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let _locked = claim_file(&path, id)?;
            fs::remove_file(&path).map_err(|e| upload_error(e, id, &path))?;
            inner.states().remove(&id);
            Ok(())
        })
        .await
    }

    /// Gives up uploads that nobody has written to for `age`, whichever process began them, and those that nobody can
    /// take up again and whose process has ended, whatever their age. Gives them.
    pub async fn remove_abandoned(
        &self,
        age: Duration,
    ) -> Result<Vec<UnfinishedUpload>, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let mut removed = Vec::new();
            for (path, one) in inner.unfinished()? {
                let gone = match one.id {
                    None => remove_ended(&path),
                    Some(id) => {
                        let gone = one.idle >= age
                            && !matches!(inner.states().get(&id), Some(UploadState::Active))
                            && claim_file(&path, id).is_ok_and(|locked| {
                                // Somebody may have written to it since it was listed.
                                locked.metadata().is_ok_and(|metadata| self::age(&metadata) >= age)
                                    && fs::remove_file(&path).is_ok()
                            });
                        if gone {
                            inner.states().remove(&id);
                        }
                        gone
                    }
                };
                // A file that goes away meanwhile was finished or given up by its owner.
                if gone {
                    removed.push(one);
                }
            }
            Ok(removed)
        })
        .await
    }

    /// All uploads that are not finished.
    pub async fn unfinished(&self) -> Result<Vec<UnfinishedUpload>, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || Ok(inner.unfinished()?.into_iter().map(|(_, one)| one).collect())).await
    }
}

/// How long ago a file was written. One from the future was written now.
pub(super) fn age(metadata: &fs::Metadata) -> Duration {
    let written = metadata.modified().ok();
    written.and_then(|written| written.elapsed().ok()).unwrap_or_default()
}

/// Removes an upload whose process has ended. True: it is gone.
fn remove_ended(path: &Path) -> bool {
    let Ok(file) = OpenOptions::new().write(true).open(path) else { return false };
    file.try_lock().is_ok() && fs::remove_file(path).is_ok()
}

fn upload_error(error: std::io::Error, id: UploadId, path: &Path) -> StoreError {
    match error.kind() {
        std::io::ErrorKind::NotFound => StoreError::NotFound(format!("upload {id}")),
        _ => io("read", path)(error),
    }
}

/// Opens an upload's file and locks it: as long as it is open, nobody else writes to it or removes it, in this
/// process or another one.
///
/// # Errors
/// [`StoreError::Busy`] while somebody has it; [`StoreError::NotFound`] when it was finished or given up.
fn claim_file(path: &Path, id: UploadId) -> Result<File, StoreError> {
    let missing = |error| upload_error(error, id, path);
    let file = OpenOptions::new().read(true).write(true).open(path).map_err(missing)?;
    match file.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => return Err(StoreError::Busy(id.to_string())),
        Err(TryLockError::Error(error)) => return Err(io("lock", path)(error)),
    }
    // Between the two it may have been finished: then this is a blob's file by now.
    let (ours, there) = (file.metadata(), fs::metadata(path).map_err(missing)?);
    let ours = ours.map_err(io("read", path))?;
    if (ours.dev(), ours.ino()) != (there.dev(), there.ino()) {
        return Err(StoreError::NotFound(format!("upload {id}")));
    }
    Ok(file)
}

/// Opens an upload's file at its end. What an earlier process wrote is hashed again: its hash
/// went with it.
fn reopen(
    path: &Path,
    id: UploadId,
    parked: Option<(Hasher, u64)>,
) -> Result<(File, Hasher, u64), StoreError> {
    let mut file = claim_file(path, id)?;
    let length = file.metadata().map_err(io("read", path))?.len();
    if let Some((hasher, offset)) = parked.filter(|(_, offset)| *offset == length) {
        file.seek(SeekFrom::End(0)).map_err(io("read", path))?;
        return Ok((file, hasher, offset));
    }
    let hasher = hash(&mut file, Algorithm::Sha256).map_err(io("read", path))?;
    Ok((file, hasher, length))
}

/// Hashes a file from its start and leaves it at its end.
pub(super) fn hash(file: &mut File, algorithm: Algorithm) -> std::io::Result<Hasher> {
    file.seek(SeekFrom::Start(0))?;
    let mut hasher = Hasher::new(algorithm);
    let mut piece = vec![0; PIECE];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hasher),
            got => hasher.update(&piece[..got]),
        }
    }
}
