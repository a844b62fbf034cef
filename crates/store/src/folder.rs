//! A content-addressed folder: content under its digest, as layouts, parcels and backups have it.

use std::ops::Range;
use std::path::Path;
use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::Digest;

use crate::blobs::{BlobReader, Purpose, UploadId};
use crate::error::StoreError;
use crate::local::{BlobWriter, Folder, FolderForm};

/// Content in a local folder, each under its digest.
///
/// What it promises:
/// - Content is there whole and verified, or it is not there: nobody reads a part of it.
/// - What [`commit`](Self::commit) has answered for survives the end of the process and of the machine.
/// - Writing the same content twice, also at the same time, is fine.
/// - A reader that has begun gets all its bytes.
#[derive(Clone)]
pub struct ContentFolder {
    folder: Folder,
}

impl ContentFolder {
    /// Opens the content of an OCI image layout for reading; nothing is made or written (Image Layout Specification,
    /// "Content").
    pub fn of_layout(root: &Path) -> Self {
        Self { folder: Folder::new(root, FolderForm::Flat) }
    }

    /// Opens the content of an OCI image layout for writing, making the folders where they are missing. What is not
    /// finished lies in `.incoming`, which is no part of the layout.
    pub fn make_layout(root: &Path) -> Result<Self, StoreError> {
        Ok(Self { folder: Folder::make(root, FolderForm::Flat)? })
    }

    /// Opens the content of a backup for reading.
    pub fn of_backup(root: &Path) -> Self {
        Self { folder: Folder::new(root, FolderForm::Sharded) }
    }

    /// Opens the content of a backup, making the folders where they are missing.
    pub fn make_backup(root: &Path) -> Result<Self, StoreError> {
        Ok(Self { folder: Folder::make(root, FolderForm::Sharded)? })
    }

    /// The size of content in bytes. None: it is not there.
    pub async fn size(&self, digest: &Digest) -> Result<Option<u64>, StoreError> {
        self.folder.size(&self.folder.place_of(digest)).await
    }

    /// Opens a range of content, which must lie within its size.
    pub async fn read(&self, digest: &Digest, range: Range<u64>) -> Result<BlobReader, StoreError> {
        let read = self.folder.read(&self.folder.place_of(digest), range).await;
        read.map_err(|error| match error {
            StoreError::NotFound(_) => StoreError::NotFound(digest.to_string()),
            error => error,
        })
    }

    /// Begins to write content. Dropped without [`commit`](Self::commit), nothing of it is kept.
    pub async fn write(&self, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        self.folder.write_once(purpose).await
    }

    /// How many bytes an earlier writer of this content has left, which was begun with [`go_on`](Self::go_on).
    pub async fn begun(&self, digest: &Digest) -> Result<u64, StoreError> {
        match self.folder.uploaded(UploadId::of(digest)).await {
            Err(StoreError::NotFound(_)) => Ok(0),
            told => told,
        }
    }

    /// Begins to write content, or goes on at a byte. What comes before a failure, or before the end of the process, is
    /// kept for the next writer. None: somebody writes it at this moment, or nothing is there that ends at that byte.
    pub async fn go_on(
        &self,
        digest: &Digest,
        from: u64,
    ) -> Result<Option<BlobWriter>, StoreError> {
        let part = UploadId::of(digest);
        if from == 0 {
            match self.folder.cancel(part).await {
                Ok(()) | Err(StoreError::NotFound(_)) => {}
                Err(StoreError::Busy(_)) => return Ok(None),
                Err(error) => return Err(error),
            }
            match self.folder.begin(part).await {
                Ok(()) => {}
                Err(StoreError::Io { source, .. })
                    if source.kind() == std::io::ErrorKind::AlreadyExists =>
                {
                    return Ok(None);
                }
                Err(error) => return Err(error),
            }
        }
        match self.folder.resume(part, Purpose::Keep).await {
            Ok(writer) if writer.offset() == from => Ok(Some(writer)),
            Ok(writer) => {
                writer.park().await?;
                Ok(None)
            }
            Err(StoreError::Busy(_) | StoreError::NotFound(_)) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Makes what was written content, and gives its size in bytes.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when it has another digest; nothing of it is kept then.
    pub async fn commit(&self, digest: &Digest, writer: BlobWriter) -> Result<u64, StoreError> {
        writer.seal(digest, self.folder.place_of(digest)).await.map(|sealed| sealed.size)
    }

    /// Keeps content that is at hand whole, which must have this digest.
    pub async fn put(&self, digest: &Digest, content: Bytes) -> Result<(), StoreError> {
        self.folder.put(digest, content, self.folder.place_of(digest)).await.map(drop)
    }

    /// Removes what is left of writers whose process has ended, and what nobody has written to for `age`; tells how many
    /// these were.
    pub async fn remove_abandoned(&self, age: Duration) -> Result<usize, StoreError> {
        self.folder.remove_abandoned(age).await.map(|gone| gone.len())
    }
}
