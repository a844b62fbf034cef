//! Memory in which small pieces gather until there is enough of them for a disk to take at once.

use std::sync::{Mutex, PoisonError};

use bytes::Bytes;

/// Bytes that are hashed and written at once.
pub(super) const STAGE: usize = 1024 * 1024;
/// What places in the file and in memory are multiples of: no disk asks for more.
pub(super) const ALIGN: usize = 4096;
/// Stages that are kept to be filled again: fresh memory costs more than the copy into it.
const KEPT: usize = 8;

static IDLE: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());

/// Memory that begins at a multiple of [`ALIGN`] where there is such memory.
pub(super) struct Stage {
    memory: Vec<u8>,
    start: usize,
    filled: usize,
}

impl Stage {
    pub fn new() -> Self {
        let idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let memory = idle.unwrap_or_else(|| vec![0; STAGE + ALIGN]);
        let start = memory.as_ptr().align_offset(ALIGN).min(ALIGN);
        Self { memory, start, filled: 0 }
    }

    /// Takes as much as there is room for, and gives the rest.
    pub fn take<'b>(&mut self, bytes: &'b [u8]) -> &'b [u8] {
        let (now, rest) = bytes.split_at(bytes.len().min(STAGE - self.filled));
        let from = self.start + self.filled;
        self.memory[from..from + now.len()].copy_from_slice(now);
        self.filled += now.len();
        rest
    }

    pub fn is_full(&self) -> bool {
        self.filled == STAGE
    }

    /// What it holds. Once that is let go of, its memory is filled again.
    pub fn into_bytes(self) -> Bytes {
        Bytes::from_owner(self)
    }
}

impl AsRef<[u8]> for Stage {
    fn as_ref(&self) -> &[u8] {
        &self.memory[self.start..self.start + self.filled]
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        let mut idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < KEPT {
            idle.push(std::mem::take(&mut self.memory));
        }
    }
}
