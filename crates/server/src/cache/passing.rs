//! A blob that passes through: there is no room to keep it, or it is larger than its shelf may become.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use bytes::Bytes;
use futures_util::{Stream, stream};
use larder_client::BlobStream;
use larder_core::digest::{Digest, Hasher};
use larder_core::name::RepositoryName;

use super::Cache;
use super::shelf::CachedShelf;
use super::trouble::Trouble;

struct PassingBlob {
    shelf: Arc<CachedShelf>,
    stream: BlobStream,
    digest: Digest,
    /// None: only a part is asked for, of which nothing can be verified here.
    hasher: Option<Hasher>,
    /// What came and is held back: the last of it is given once all is verified.
    held: Option<Bytes>,
    /// Bytes that are still to be given. None: up to the end.
    left: Option<u64>,
}

impl Cache {
    /// Opens a blob that is not kept. What is asked for whole is verified, and its last piece held back until then: what
    /// turns out wrong breaks off and never looks complete.
    pub(crate) async fn pass(
        &self,
        shelf: &Arc<CachedShelf>,
        path: &RepositoryName,
        digest: &Digest,
        size: Option<u64>,
        range: Option<Range<u64>>,
    ) -> Result<impl Stream<Item = std::io::Result<Bytes>> + Send + 'static, Trouble> {
        let (from, end) = range.map_or((0, None), |range| (range.start, Some(range.end)));
        let upstream = &shelf.upstream;
        let opened = upstream.open(upstream.registry.blob_from(path, digest, size, from)).await?;
        let whole = from == 0 && end.is_none_or(|end| Some(end) == size);
        let passing = PassingBlob {
            shelf: Arc::clone(shelf),
            stream: opened,
            digest: digest.clone(),
            hasher: whole.then(|| Hasher::new(digest.algorithm())),
            held: None,
            left: end.map(|end| end - from),
        };
        Ok(stream::unfold(Some(passing), |passing| async move {
            let mut passing = passing?;
            match passing.next().await {
                Ok(Some(piece)) => Some((Ok(piece), Some(passing))),
                Ok(None) => None,
                Err(error) => Some((Err(error), None)),
            }
        }))
    }
}

impl PassingBlob {
    async fn next(&mut self) -> std::io::Result<Option<Bytes>> {
        let broken = |cause: String| std::io::Error::other(cause);
        while self.left != Some(0) {
            match self.stream.next().await {
                Ok(Some(mut piece)) => {
                    self.shelf.traffic.fetched.fetch_add(piece.len() as u64, Ordering::Relaxed);
                    if let Some(left) = &mut self.left {
                        piece.truncate(
                            usize::try_from(*left).unwrap_or(usize::MAX).min(piece.len()),
                        );
                        *left -= piece.len() as u64;
                    }
                    let Some(hasher) = &mut self.hasher else { return Ok(Some(piece)) };
                    hasher.update(&piece);
                    if let Some(before) = self.held.replace(piece) {
                        return Ok(Some(before));
                    }
                }
                Ok(None) => break,
                Err(error) => {
                    self.shelf.upstream.tell_stream(&error);
                    tracing::warn!(digest = %self.digest, %error, "a blob that passes through broke off");
                    return Err(broken("the upstream broke off".into()));
                }
            }
        }
        self.left = Some(0);
        if let Some(hasher) = self.hasher.take() {
            let actual = hasher.finish();
            if actual != self.digest {
                tracing::warn!(digest = %self.digest, %actual, "a blob that passes through is not what its digest says");
                return Err(broken("the content is not what its digest says".into()));
            }
        }
        Ok(self.held.take())
    }
}
