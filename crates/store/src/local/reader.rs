//! Reading a blob: one piece ahead of whoever takes it, and no thread that waits for a slow taker.

use std::fs::File;
use std::ops::Range;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use futures_util::Stream;
use tokio::task::{JoinHandle, spawn_blocking};

use super::io;
use crate::error::StoreError;

/// Bytes that are read at once. Two such pieces exist for each reader: the one that is given out and
/// the one that is read ahead.
pub(super) const PIECE: usize = 256 * 1024;
/// Pieces that are kept to be filled again: fresh memory costs more than the copy into it.
const KEPT: usize = 64;

static IDLE: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());

/// A piece of memory that is filled again once its bytes are let go of.
struct Piece {
    memory: Vec<u8>,
    length: usize,
}

impl Piece {
    fn of(length: usize) -> Self {
        let idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner).pop();
        Self { memory: idle.unwrap_or_else(|| vec![0; PIECE]), length }
    }
}

impl AsRef<[u8]> for Piece {
    fn as_ref(&self) -> &[u8] {
        &self.memory[..self.length]
    }
}

impl Drop for Piece {
    fn drop(&mut self) {
        let mut idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < KEPT {
            idle.push(std::mem::take(&mut self.memory));
        }
    }
}

/// Reads bytes of a file from `at`: a piece at most, and all that is asked for.
pub(super) fn read_piece(
    file: &File,
    path: &Path,
    at: u64,
    length: usize,
) -> Result<Bytes, StoreError> {
    if length < PIECE {
        let mut bytes = vec![0; length];
        file.read_exact_at(&mut bytes, at).map_err(io("read", path))?;
        return Ok(bytes.into());
    }
    let mut piece = Piece::of(length.min(PIECE));
    file.read_exact_at(&mut piece.memory[..piece.length], at).map_err(io("read", path))?;
    Ok(Bytes::from_owner(piece))
}

/// A range of an open file, in pieces.
pub(super) struct Pieces {
    file: Arc<(File, PathBuf)>,
    /// What nobody reads yet.
    left: Range<u64>,
    ahead: Option<JoinHandle<Result<Bytes, StoreError>>>,
}

impl Pieces {
    pub fn new(file: File, path: PathBuf, left: Range<u64>) -> Self {
        let mut pieces = Self { file: Arc::new((file, path)), left, ahead: None };
        pieces.read_ahead();
        pieces
    }

    fn read_ahead(&mut self) {
        if self.left.is_empty() {
            return;
        }
        let length = (self.left.end - self.left.start).min(PIECE as u64);
        let at = self.left.start;
        self.left.start += length;
        let file = Arc::clone(&self.file);
        let length = usize::try_from(length).unwrap_or(PIECE);
        self.ahead = Some(spawn_blocking(move || read_piece(&file.0, &file.1, at, length)));
    }
}

impl Stream for Pieces {
    type Item = Result<Bytes, StoreError>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let Some(ahead) = self.ahead.as_mut() else { return Poll::Ready(None) };
        let piece = ready!(Pin::new(ahead).poll(cx)).unwrap_or(Err(StoreError::Closed));
        self.ahead = None;
        if piece.is_ok() {
            self.read_ahead();
        }
        Poll::Ready(Some(piece))
    }
}
