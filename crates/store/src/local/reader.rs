//! Reading a blob: from memory where the system has it there, and without a thread that waits for a slow
//! taker.

use std::fs::File;
use std::io::IoSliceMut;
use std::ops::Range;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use futures_util::Stream;
use tokio::task::{JoinHandle, spawn_blocking};

use super::io;
use crate::error::StoreError;

/// Bytes that are read at once at most.
pub(super) const PIECE: usize = 256 * 1024;
/// Bytes of pieces of one size that are kept to be filled again: fresh memory costs more than the copy
/// into it.
const KEPT: usize = 4 * 1024 * 1024;
/// The sizes of pieces: `LEAST`, twice that, and so on to `PIECE`.
const SIZES: usize = 5;

static IDLE: [Mutex<Vec<Vec<u8>>>; SIZES] = [const { Mutex::new(Vec::new()) }; SIZES];

/// Which of the sizes holds so many bytes.
fn size_for(length: usize) -> usize {
    let size = length.clamp(LEAST, PIECE).next_power_of_two() / LEAST;
    (size.ilog2() as usize).min(SIZES - 1)
}

/// A piece of memory that is filled again once its bytes are released.
struct Piece {
    memory: Vec<u8>,
    length: usize,
}

impl Piece {
    fn of(length: usize) -> Self {
        let size = size_for(length);
        let idle = IDLE[size].lock().unwrap_or_else(PoisonError::into_inner).pop();
        Self { memory: idle.unwrap_or_else(|| vec![0; LEAST << size]), length }
    }
}

impl AsRef<[u8]> for Piece {
    fn as_ref(&self) -> &[u8] {
        &self.memory[..self.length]
    }
}

impl Drop for Piece {
    fn drop(&mut self) {
        let size = size_for(self.memory.len());
        let mut idle = IDLE[size].lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < KEPT / self.memory.len() {
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

/// Readers that are open: the more there are, the smaller their pieces.
static OPEN: AtomicUsize = AtomicUsize::new(0);
/// Bytes that all readers together keep in memory, roughly.
const TOGETHER: usize = 24 * 1024 * 1024;
const LEAST: usize = 16 * 1024;

/// A range of an open file, in pieces. What the system has in memory is read on the spot; only what it
/// has to wait for is read by a thread that may wait. Nothing is held for a taker that is slow.
pub(super) struct Pieces {
    file: Arc<(File, PathBuf)>,
    /// What nobody has read yet.
    left: Range<u64>,
    waiting: Option<JoinHandle<Result<Bytes, StoreError>>>,
}

impl Pieces {
    /// Reads these bytes of a file.
    pub fn new(file: Arc<(File, PathBuf)>, left: Range<u64>) -> Self {
        OPEN.fetch_add(1, Ordering::Relaxed);
        Self { file, left, waiting: None }
    }

    /// Where the next piece begins, and how long it is.
    fn ask(&self) -> (u64, usize) {
        let share = (TOGETHER / OPEN.load(Ordering::Relaxed).max(1)).clamp(LEAST, PIECE);
        let most = LEAST << share.div_euclid(LEAST).ilog2();
        let left = self.left.end - self.left.start;
        (self.left.start, usize::try_from(left).unwrap_or(most).min(most))
    }

    /// The next piece, if the system has it in memory.
    fn at_once(&mut self) -> Option<Bytes> {
        let (at, length) = self.ask();
        let mut piece = Piece::of(length);
        let mut to = [IoSliceMut::new(&mut piece.memory[..length])];
        let flags = rustix::io::ReadWriteFlags::NOWAIT;
        // Whatever is wrong, reading it with time to wait tells.
        let got =
            rustix::io::preadv2(&self.file.0, &mut to, at, flags).ok().filter(|got| *got > 0)?;
        piece.length = got;
        self.left.start += got as u64;
        Some(Bytes::from_owner(piece))
    }
}

impl Drop for Pieces {
    fn drop(&mut self) {
        OPEN.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Stream for Pieces {
    type Item = Result<Bytes, StoreError>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        if self.waiting.is_none() {
            if self.left.is_empty() {
                return Poll::Ready(None);
            }
            if let Some(piece) = self.at_once() {
                return Poll::Ready(Some(Ok(piece)));
            }
            let ((at, length), file) = (self.ask(), Arc::clone(&self.file));
            self.waiting = Some(spawn_blocking(move || read_piece(&file.0, &file.1, at, length)));
        }
        let Some(waiting) = self.waiting.as_mut() else { return Poll::Ready(None) };
        let piece = ready!(Pin::new(waiting).poll(cx)).unwrap_or(Err(StoreError::Closed));
        self.waiting = None;
        match &piece {
            Ok(bytes) => self.left.start += bytes.len() as u64,
            // Nothing comes after a failure.
            Err(_) => self.left = 0..0,
        }
        Poll::Ready(Some(piece))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_piece_holds_what_it_is_asked_for_and_not_much_more() {
        assert_eq!(LEAST << (SIZES - 1), PIECE);
        for length in [1, LEAST, LEAST + 1, 64 * 1024, PIECE - 1, PIECE] {
            let piece = Piece::of(length);
            assert!(piece.memory.len() >= length, "{length}");
            assert!(piece.memory.len() < 2 * length.max(LEAST), "{length}");
        }
    }
}
