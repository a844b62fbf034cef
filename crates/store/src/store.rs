//! Blob store and ledger together: one place that keeps the order of writing.

use std::path::Path;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use bytes::{Bytes, BytesMut};
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;

use crate::blobs::{BlobStore, BlobWriter};
use crate::error::StoreError;
use crate::journal::Journal;
use crate::ledger::{Ledger, ManifestRecord, NewManifest};
use crate::local::LocalBlobs;
use crate::sqlite::SqliteLedger;

/// One larder's bytes and records. Clones share them.
#[derive(Clone)]
pub struct Store {
    /// The bytes.
    pub blobs: Arc<dyn BlobStore>,
    /// The records.
    pub ledger: Arc<dyn Ledger>,
    /// What was done, and when.
    pub journal: Arc<dyn Journal>,
}

impl Store {
    /// Opens the store in a local folder, making it where it is missing.
    pub fn open_local(folder: &Path) -> Result<Self, StoreError> {
        let blobs = LocalBlobs::open(folder)?;
        let ledger = Arc::new(SqliteLedger::open(&folder.join("ledger.sqlite"))?);
        let journal: Arc<dyn Journal> = ledger.clone();
        Ok(Self { blobs: Arc::new(blobs), ledger, journal })
    }

    /// Whether a folder holds a store.
    pub fn is_local(folder: &Path) -> bool {
        folder.join("ledger.sqlite").is_file()
    }

    /// Makes a finished upload a blob of the repository and gives its size in bytes.
    pub async fn commit_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        writer: Box<dyn BlobWriter>,
    ) -> Result<u64, StoreError> {
        let size = writer.commit(digest).await?;
        self.ledger.link_blob(repository, digest, size).await?;
        Ok(size)
    }

    /// Gives the repository a blob that another one has. False: nobody has it.
    pub async fn share_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError> {
        // The ledger alone is not asked: what it records must still lie in the blob store.
        match (self.ledger.anywhere(digest).await?, self.blobs.size(digest).await?) {
            (Some(_), Some(size)) => {
                self.ledger.link_blob(repository, digest, size).await?;
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    /// Keeps a manifest byte for byte, and points the tag to it. Its digest must have been
    /// computed from its bytes; it is verified again before anything is written.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the repository lacks what it needs; the tag stays.
    pub async fn put_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        document: &Document,
        tag: Option<Tag>,
        sparse: bool,
    ) -> Result<(), StoreError> {
        self.blobs.put(digest, document.bytes.clone()).await?;
        let record = ManifestRecord {
            digest: digest.clone(),
            media_type: document.media_type.clone(),
            size: document.bytes.len() as u64,
        };
        let new = NewManifest {
            record,
            blobs: document.blobs().map(|blob| (blob.digest.clone(), blob.size)).collect(),
            children: document.children().iter().map(|child| child.digest.clone()).collect(),
            subject: document.subject.as_ref().map(|subject| subject.digest.clone()),
            sparse,
            tag,
            at: now(),
        };
        self.ledger.put_manifest(repository, new).await
    }

    /// A manifest with its bytes. None: the repository has nothing under that tag or digest.
    pub async fn manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<(ManifestRecord, Bytes)>, StoreError> {
        let Some(record) = self.ledger.manifest(repository, selector).await? else {
            return Ok(None);
        };
        let bytes = self.read_all(&record.digest, record.size).await?;
        Ok(Some((record, bytes)))
    }

    /// A small blob whole.
    pub async fn read_all(&self, digest: &Digest, size: u64) -> Result<Bytes, StoreError> {
        let mut reader = self.blobs.read(digest, 0..size).await?;
        let mut bytes = BytesMut::new();
        while let Some(piece) = reader.next().await {
            let piece = piece?;
            if bytes.is_empty() && piece.len() as u64 == size {
                return Ok(piece);
            }
            bytes.extend_from_slice(&piece);
        }
        Ok(bytes.freeze())
    }
}

fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}
