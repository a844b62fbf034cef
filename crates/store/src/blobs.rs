//! What moves in and out of the store: uploads by name, and bytes on their way.

use std::fmt;
use std::ops::Range;
use std::pin::Pin;
use std::str::FromStr;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream::BoxStream;
use futures_util::{Stream, StreamExt as _};
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

    /// The name of the part of some content, for those who know only what it is to become.
    pub(crate) fn of(digest: &larder_core::digest::Digest) -> Self {
        let mut bytes = [0; 16];
        for (at, pair) in digest.hex().as_bytes().chunks(2).take(16).enumerate() {
            let text = std::str::from_utf8(pair).unwrap_or_default();
            bytes[at] = u8::from_str_radix(text, 16).unwrap_or_default();
        }
        Self(uuid::Uuid::from_bytes(bytes))
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

/// What content is taken in for: it decides only where it lies until it is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Somebody is about to read it, as what was pushed is pulled.
    Read,
    /// It comes with much else, and may wait for long: it must not push out of memory what is read.
    Keep,
}

/// An upload as those see it who read along while it is written.
#[derive(Clone)]
pub struct GrowingBlob {
    /// How many bytes can be read.
    pub readable: watch::Receiver<u64>,
    open: Arc<dyn Fn(Range<u64>) -> BlobReader + Send + Sync>,
}

impl GrowingBlob {
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
