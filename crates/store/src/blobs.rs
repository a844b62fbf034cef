//! Content under its digest: the promises that every blob store keeps.

use std::fmt;
use std::ops::Range;
use std::pin::Pin;
use std::str::FromStr;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::BoxStream;
use futures_util::{Stream, StreamExt as _};
use larder_core::digest::Digest;
use tokio::sync::watch;

use crate::error::StoreError;

/// Uploads that nobody has written to for so long were left behind: by a client that went away, or by a
/// process that was killed.
pub const ABANDONED: Duration = Duration::from_secs(24 * 3600);

/// Names an upload that is not finished. It says nothing about where the bytes lie, so that
/// another replica can take the upload over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct UploadId(uuid::Uuid);

impl UploadId {
    /// A name that nobody else has, and that sorts by age.
    pub fn fresh() -> Self {
        Self(uuid::Uuid::now_v7())
    }
}

impl fmt::Display for UploadId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0.simple())
    }
}

impl FromStr for UploadId {
    type Err = StoreError;

    /// Only what [`fmt::Display`] writes is read back: an id from a URL never is a path.
    fn from_str(text: &str) -> Result<Self, StoreError> {
        let id = uuid::Uuid::try_parse(text).ok().filter(|id| id.simple().to_string() == text);
        id.map(Self).ok_or_else(|| StoreError::NotFound("an upload of that name".into()))
    }
}

/// A blob as it lies in the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stored {
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// How long ago it was put there last.
    pub age: Duration,
}

/// Content under its digest.
///
/// What content is taken in for: it decides only where it lies until it is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Somebody is about to read it, as what was pushed is pulled.
    Read,
    /// It comes with much else, and may wait for long: it must not push out of memory what is read.
    Keep,
}

/// What an implementation promises:
/// - A blob is there whole and verified, or it is not there: nobody reads a part of one.
/// - What [`BlobWriter::commit`] has answered for survives the end of the process and of the
///   machine.
/// - Writing the same content twice, also at the same time, is fine and gives one blob, which then is
///   as young as the last of them.
/// - A reader that has begun gets all its bytes, even when the blob is removed meanwhile.
/// - An upload has one writer at a time. One that was parked, or whose process ended, can be
///   resumed, here or in another process on the same store, at the offset that
///   [`BlobWriter::offset`] gives.
#[async_trait]
pub trait BlobStore: Send + Sync {
    /// The blob's size in bytes. None: it is not there.
    async fn size(&self, digest: &Digest) -> Result<Option<u64>, StoreError>;

    /// Opens a range of the blob, which must lie within its size.
    async fn read(&self, digest: &Digest, range: Range<u64>) -> Result<BlobReader, StoreError>;

    /// Opens an upload with nothing in it.
    async fn begin(&self) -> Result<UploadId, StoreError>;

    /// Takes up an upload.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when
    /// somebody writes to it.
    async fn resume(&self, id: UploadId) -> Result<Box<dyn BlobWriter>, StoreError>;

    /// Opens an upload that nobody can take up again: as soon as its writer has ended, by whatever
    /// means, without a [`commit`](BlobWriter::commit), nothing of it is kept. What a process that was
    /// killed has left of one goes with the next [`remove_abandoned`](Self::remove_abandoned).
    async fn write_once(&self, purpose: Purpose) -> Result<Box<dyn BlobWriter>, StoreError>;

    /// How many bytes an upload has.
    async fn uploaded(&self, id: UploadId) -> Result<u64, StoreError>;

    /// Gives an upload up; nothing of it stays.
    async fn cancel(&self, id: UploadId) -> Result<(), StoreError>;

    /// Gives up uploads that nobody has written to for `age`, whichever process began them, and
    /// those of [`write_once`](Self::write_once) whose process has ended, whatever their age; and
    /// tells how many these were.
    async fn remove_abandoned(&self, age: Duration) -> Result<usize, StoreError>;

    /// Keeps content that is at hand whole, which must have this digest.
    async fn put(&self, digest: &Digest, content: Bytes) -> Result<(), StoreError>;

    /// The blobs whose digests begin with this byte, sorted.
    async fn part(&self, part: u8) -> Result<Vec<Stored>, StoreError>;

    /// Takes a blob out of use because its content is not what its digest says, and keeps the bytes
    /// aside for somebody to look at; tells where. None: it was not there.
    async fn quarantine(&self, digest: &Digest) -> Result<Option<String>, StoreError>;

    /// How many bytes can still be written. None: nobody knows.
    async fn room(&self) -> Result<Option<u64>, StoreError>;

    /// Whether a blob is there. The ledger asks this while it holds its lock; it must be quick.
    fn is_there(&self, digest: &Digest) -> Result<bool, StoreError>;

    /// Removes a blob, unless it was put there within `grace`, and gives its size. The ledger asks
    /// for this while it holds its lock, so that nobody can record the blob meanwhile.
    fn free(&self, digest: &Digest, grace: Duration) -> Result<Option<u64>, StoreError>;
}

/// An upload as those see it who read along while it is written.
#[derive(Clone)]
pub struct Growing {
    /// How many bytes can be read.
    pub readable: watch::Receiver<u64>,
    open: Arc<dyn Fn(Range<u64>) -> BlobReader + Send + Sync>,
}

impl Growing {
    pub(crate) fn new(
        readable: watch::Receiver<u64>,
        open: impl Fn(Range<u64>) -> BlobReader + Send + Sync + 'static,
    ) -> Self {
        Self { readable, open: Arc::new(open) }
    }

    /// Reads a range of what can be read. It goes on to work after the upload has become a blob, or
    /// was given up.
    pub fn read(&self, range: Range<u64>) -> BlobReader {
        (self.open)(range)
    }
}

/// The one who writes to an upload. Dropped without [`park`](Self::park) or
/// [`commit`](Self::commit), it leaves the upload as far as it came.
#[async_trait]
pub trait BlobWriter: Send {
    /// How many bytes the upload has.
    fn offset(&self) -> u64;

    /// Adds the next bytes. It waits while earlier ones are still being written.
    async fn write(&mut self, chunk: Bytes) -> Result<(), StoreError>;

    /// Waits until all that was added is written, so that whoever reads along has it. May be given up
    /// at any time, and waited for again.
    async fn advance(&mut self) -> Result<(), StoreError>;

    /// For whoever reads along. What is read has not been verified.
    fn growing(&self) -> Result<Growing, StoreError>;

    /// Waits until all that was added is written, and tells whether it has this digest.
    async fn has_digest(&mut self, digest: &Digest) -> Result<bool, StoreError>;

    /// Lets go of the upload and keeps what came, for a later [`BlobStore::resume`].
    async fn park(self: Box<Self>) -> Result<u64, StoreError>;

    /// Makes the content a blob and gives its size.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when the content has another digest; the upload is gone then.
    async fn commit(self: Box<Self>, digest: &Digest) -> Result<u64, StoreError>;
}

/// A blob's bytes on their way out, in pieces.
pub struct BlobReader {
    pieces: BoxStream<'static, Result<Bytes, StoreError>>,
}

impl BlobReader {
    pub(crate) fn new(
        pieces: impl Stream<Item = Result<Bytes, StoreError>> + Send + 'static,
    ) -> Self {
        Self { pieces: pieces.boxed() }
    }

    /// The next piece. None: that was all.
    pub async fn next(&mut self) -> Option<Result<Bytes, StoreError>> {
        self.pieces.next().await
    }
}

impl Stream for BlobReader {
    type Item = Result<Bytes, StoreError>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        self.pieces.poll_next_unpin(cx)
    }
}
