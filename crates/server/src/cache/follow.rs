//! Reading a blob while it comes.

use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};

use bytes::Bytes;
use futures_util::{Stream, stream};
use larder_store::{BlobReader, GrowingBlob};

use super::fill::{FillInterest, FillStage};

/// Who follows any fetch now.
static FOLLOWERS: AtomicUsize = AtomicUsize::new(0);
/// Bytes that all of them together keep in memory, roughly: a piece each, until it is sent.
const TOGETHER: u64 = 12 * 1024 * 1024;
/// The smallest and the largest piece, in bytes.
const PIECE: (u64, u64) = (16 * 1024, 256 * 1024);

/// One of them.
struct Follower;

impl Follower {
    fn new() -> Self {
        FOLLOWERS.fetch_add(1, Ordering::Relaxed);
        Self
    }

    /// How much it takes at once: the more there are, the less.
    fn piece() -> u64 {
        let all = FOLLOWERS.load(Ordering::Relaxed).max(1) as u64;
        (TOGETHER / all).clamp(PIECE.0, PIECE.1)
    }
}

impl Drop for Follower {
    fn drop(&mut self) {
        FOLLOWERS.fetch_sub(1, Ordering::Relaxed);
    }
}

struct FollowedFill {
    _follower: Follower,
    /// Held so that the fetch goes on.
    _taking: FillInterest,
    growing: GrowingBlob,
    stage: tokio::sync::watch::Receiver<FillStage>,
    /// The next byte to give, and the end if it is known.
    at: u64,
    end: Option<u64>,
    /// Reads up to a byte.
    reading: Option<(BlobReader, u64)>,
}

/// Gives the bytes of a range of what is being fetched, as they come. The last of them is held back
/// until the whole blob is verified: what turns out wrong breaks off and never looks complete.
///
/// None as end: up to the end of the blob, wherever that is.
pub(crate) fn follow(
    taking: FillInterest,
    from: u64,
    end: Option<u64>,
) -> impl Stream<Item = std::io::Result<Bytes>> + Send + 'static {
    let following = taking.fill.growing.get().cloned().map(|growing| {
        let stage = taking.fill.stage.subscribe();
        FollowedFill {
            _follower: Follower::new(),
            _taking: taking,
            growing,
            stage,
            at: from,
            end,
            reading: None,
        }
    });
    stream::unfold(following, |following| async move {
        let mut following = following?;
        match following.next().await {
            Ok(Some(piece)) => Some((Ok(piece), Some(following))),
            Ok(None) => None,
            // Nothing comes after a failure.
            Err(error) => Some((Err(error), None)),
        }
    })
}

impl FollowedFill {
    async fn next(&mut self) -> std::io::Result<Option<Bytes>> {
        loop {
            if let Some((reader, until)) = &mut self.reading {
                match reader.next().await {
                    Some(piece) => {
                        let piece = piece.map_err(std::io::Error::other)?;
                        self.at += piece.len() as u64;
                        return Ok(Some(piece));
                    }
                    None if self.at == *until => self.reading = None,
                    None => return Err(std::io::Error::other("the part ended too soon")),
                }
            }
            let stage = self.stage.borrow_and_update().clone();
            let readable = *self.growing.readable.borrow_and_update();
            match self.ready(&stage, readable)? {
                Some(range) if range.is_empty() => return Ok(None),
                Some(range) => {
                    let until = range.end.min(range.start + Follower::piece());
                    let range = range.start..until;
                    self.reading = Some((self.growing.read(range), until));
                }
                None => {
                    let writer_gone = tokio::select! {
                        changed = self.stage.changed() => changed.is_err(),
                        changed = self.growing.readable.changed() => {
                            // The writer has ended; how, the stage tells.
                            if changed.is_err() {
                                self.stage.changed().await.is_err()
                            } else {
                                false
                            }
                        }
                    };
                    if writer_gone {
                        return Err(std::io::Error::other("the fetch ended without an error"));
                    }
                }
            }
        }
    }

    /// What can be read now: an empty range at the end. None: nothing yet.
    fn ready(&self, stage: &FillStage, readable: u64) -> std::io::Result<Option<Range<u64>>> {
        let until = match stage {
            FillStage::Whole(size) | FillStage::There(size) => {
                let end = self.end.unwrap_or(*size).min(*size);
                return Ok(Some(self.at.min(end)..end));
            }
            FillStage::Failed(trouble) => return Err(std::io::Error::other(trouble.to_string())),
            FillStage::Asking => return Ok(None),
            FillStage::Coming(_) => match self.end {
                Some(end) if readable >= end => end.saturating_sub(1),
                Some(_) => readable,
                None => readable.saturating_sub(1),
            },
        };
        Ok((until > self.at).then_some(self.at..until))
    }
}
