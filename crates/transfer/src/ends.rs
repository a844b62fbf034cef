//! The two ends of a move: what a source gives and what a target takes.

use std::ops::Range;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::{BoxStream, StreamExt as _};
use larder_core::companion::Companion;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::name::Tag;
use larder_core::reference::Selector;
use larder_store::{BlobWriter, StoreError};
use tokio::task::JoinSet;

use super::TransferError;

/// The least size of a blob of which a part is worth keeping.
pub const WORTH_RESUMING: u64 = 4 * 1024 * 1024;

/// A blob on its way. The receiver verifies it.
pub type Content = BoxStream<'static, Result<Bytes, TransferError>>;

/// Where an image is.
#[async_trait]
pub trait Source: Send + Sync {
    /// The manifest or index under a tag or digest, verified.
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError>;

    /// Opens a blob. Its digest is not verified here.
    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError>;

    /// What is there about this digest, but for what lies under a tag alone.
    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError>;

    /// A few bytes of a blob, by their places in it. None: it gives blobs from their beginning only.
    async fn piece(
        &self,
        _blob: &Descriptor,
        _range: &Range<u64>,
    ) -> Result<Option<Bytes>, TransferError> {
        Ok(None)
    }

    /// Whether it is another repository of this larder that has the blob.
    async fn is_own(&self, _blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(false)
    }

    /// How many places have it.
    fn places(&self) -> usize {
        1
    }

    /// Opens a blob at one of the places, counted from 0.
    async fn blob_at(&self, _place: usize, blob: &Descriptor) -> Result<Content, TransferError> {
        self.blob(blob).await
    }

    /// Opens a blob at one of the places from a byte on. None: it gives blobs from their beginning only.
    async fn blob_from(
        &self,
        _place: usize,
        _blob: &Descriptor,
        _from: u64,
    ) -> Result<Option<Content>, TransferError> {
        Ok(None)
    }

    /// A small blob whole and verified.
    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError>;
}

/// What a manifest is to the image that is moved.
#[derive(Debug, Clone, Copy)]
pub enum ManifestRole<'r> {
    /// One of those that its index lists.
    Child,
    /// The image itself, to be found under this tag. None: by its digest only.
    Image(Option<&'r Tag>),
}

impl<'r> ManifestRole<'r> {
    /// The tag to be set.
    pub fn tag(self) -> Option<&'r Tag> {
        match self {
            Self::Child => None,
            Self::Image(tag) => tag,
        }
    }
}

/// Where an image is wanted.
#[async_trait]
pub trait Target: Send + Sync {
    /// Whether it holds a manifest with all that this one needs.
    async fn holds(&self, digest: &Digest) -> Result<bool, TransferError>;

    /// Whether it has the blob, or can have it without it being sent.
    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError>;

    /// Whether the blob would have to be sent. Nothing is changed.
    async fn needs_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(!self.has_blob(blob).await?)
    }

    /// Takes a blob that its store holds for others already, where the source proves to have it. False: it does not
    /// hold it, or the source does not prove that.
    async fn adopts(
        &self,
        _blob: &Descriptor,
        _source: &dyn Source,
    ) -> Result<bool, TransferError> {
        Ok(false)
    }

    /// Takes a blob; it becomes visible only when it is whole and has its digest.
    async fn take_blob(&self, blob: &Descriptor, content: Content) -> Result<(), TransferError>;

    /// How many bytes of a blob an earlier attempt has left, so that what follows them is enough.
    async fn begun(&self, _blob: &Descriptor) -> Result<u64, TransferError> {
        Ok(0)
    }

    /// Takes what follows those bytes. What comes before a failure may be kept for the next attempt.
    async fn take_rest(
        &self,
        blob: &Descriptor,
        _from: u64,
        content: Content,
    ) -> Result<(), TransferError> {
        self.take_blob(blob, content).await
    }

    /// Gives up what an attempt has left, where another run could not go on with it.
    async fn give_up(&self, _blob: &Descriptor) {}

    /// Takes a manifest byte for byte. `sparse` says that it lists manifests that were not wanted.
    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        role: ManifestRole<'_>,
        sparse: bool,
    ) -> Result<(), TransferError>;

    /// Makes what was taken visible at once, for targets that are written as a whole.
    async fn finish(&self) -> Result<(), TransferError> {
        Ok(())
    }
}

/// Pours a blob into a new upload, ready to be committed. A stream that fails leaves nothing behind.
pub async fn pour(writer: BlobWriter, content: Content) -> Result<BlobWriter, TransferError> {
    // A task of its own runs where its bytes have just come from the network, while the processor still
    // has them at hand. It ends with this future.
    let mut task = JoinSet::new();
    task.spawn(fill(writer, content));
    match task.join_next().await {
        Some(Ok(filled)) => filled,
        _ => Err(StoreError::Closed.into()),
    }
}

async fn fill(mut writer: BlobWriter, mut content: Content) -> Result<BlobWriter, TransferError> {
    while let Some(chunk) = content.next().await {
        let written = match chunk {
            Ok(chunk) => writer.write(chunk).await.map_err(TransferError::Store),
            Err(error) => Err(error),
        };
        if let Err(error) = written {
            // Waited for, so that nothing of it is left when we tell.
            let parked = writer.park().await;
            tracing::debug!(?parked, "an upload was given up");
            return Err(error);
        }
    }
    Ok(writer)
}
