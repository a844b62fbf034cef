//! A blob on its way into a file: it is hashed and written on a thread that may wait for the disk.

use bytes::Bytes;
use futures_util::StreamExt as _;
use larder_core::digest::{Digest, Hasher};
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;

use super::{Content, LayoutError, TransferError};

/// Pieces that wait to be written.
const WAITING: usize = 4;

/// The pieces of a blob as they come. The last one is followed by the proof that they are the blob.
pub struct Received {
    pieces: mpsc::Receiver<Bytes>,
    digest: Digest,
    size: u64,
    count: u64,
    hasher: Hasher,
}

impl Received {
    /// The next piece, which is to be waited for. None: there are no more, and all were the blob.
    ///
    /// # Errors
    /// They are more or fewer bytes than the descriptor says, or have another digest.
    pub fn next(&mut self) -> Result<Option<Bytes>, TransferError> {
        let piece = self.pieces.blocking_recv();
        self.count += piece.as_ref().map_or(0, |piece| piece.len() as u64);
        if self.count > self.size || (piece.is_none() && self.count < self.size) {
            let (digest, expected, actual) = (self.digest.clone(), self.size, self.count);
            return Err(LayoutError::Length { digest, expected, actual }.into());
        }
        if let Some(piece) = piece {
            self.hasher.update(&piece);
            return Ok(Some(piece));
        }
        let actual = std::mem::replace(&mut self.hasher, Hasher::new(self.digest.algorithm()));
        match actual.finish() {
            actual if actual == self.digest => Ok(None),
            actual => Err(TransferError::Mismatch { expected: self.digest.clone(), actual }),
        }
    }
}

/// Has a blob of `size` bytes written by `work`. A source that fails is told as the source tells it.
pub async fn receive(
    digest: &Digest,
    size: u64,
    mut content: Content,
    work: impl FnOnce(&mut Received) -> Result<(), TransferError> + Send + 'static,
) -> Result<(), TransferError> {
    let (sender, pieces) = mpsc::channel(WAITING);
    let (digest, hasher) = (digest.clone(), Hasher::new(digest.algorithm()));
    let mut received = Received { pieces, digest, size, count: 0, hasher };
    let writer = spawn_blocking(move || work(&mut received));
    let mut failed = None;
    while let Some(piece) = content.next().await {
        match piece {
            Ok(piece) => {
                // The writer has ended; it says why.
                if sender.send(piece).await.is_err() {
                    break;
                }
            }
            Err(error) => {
                failed = Some(error);
                break;
            }
        }
    }
    drop(sender);
    let written = writer.await;
    match failed {
        Some(error) => Err(error),
        None => written
            .unwrap_or_else(|_| Err(LayoutError::NotFound("the writing thread".into()).into())),
    }
}
