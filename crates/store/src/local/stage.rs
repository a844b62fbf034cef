//! Memory in which small pieces gather until there is enough of them for a disk to take at once.

use std::io;
use std::sync::{Mutex, PoisonError};

use bytes::Bytes;
use memmap2::{Advice, MmapMut};

/// Bytes that are hashed and written at once: one large page, so that neither the processor nor the disk has
/// to find hundreds of small ones.
pub(super) const STAGE: usize = 2 * 1024 * 1024;
/// What places in the file and in memory are multiples of: no disk asks for more.
pub(super) const ALIGN: usize = 4096;
/// Stages that are kept to be filled again: fresh memory costs more than the copy into it.
const KEPT: usize = 8;

static IDLE: Mutex<Vec<MmapMut>> = Mutex::new(Vec::new());

/// Memory that begins at a multiple of [`ALIGN`].
pub(super) struct StagingBuffer {
    /// None: it was given back.
    memory: Option<MmapMut>,
    filled: usize,
}

impl StagingBuffer {
    /// # Errors
    /// When the system gives no memory.
    pub fn new() -> io::Result<Self> {
        let idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let memory = idle.map_or_else(fresh, Ok)?;
        Ok(Self { memory: Some(memory), filled: 0 })
    }

    /// Takes as much as there is room for, and gives the rest.
    pub fn take<'b>(&mut self, bytes: &'b [u8]) -> &'b [u8] {
        let room = self.memory.as_deref_mut().unwrap_or_default();
        let room = room.get_mut(self.filled..).unwrap_or_default();
        let (now, rest) = bytes.split_at(bytes.len().min(room.len()));
        room[..now.len()].copy_from_slice(now);
        self.filled += now.len();
        rest
    }

    /// Whether nothing more goes in.
    pub fn is_full(&self) -> bool {
        self.filled == STAGE
    }

    /// What it holds. Once that is released, its memory is filled again.
    pub fn into_bytes(self) -> Bytes {
        Bytes::from_owner(self)
    }
}

fn fresh() -> io::Result<MmapMut> {
    let memory = MmapMut::map_anon(STAGE)?;
    // A system without large pages gives small ones.
    let _ = memory.advise(Advice::HugePage);
    Ok(memory)
}

impl AsRef<[u8]> for StagingBuffer {
    fn as_ref(&self) -> &[u8] {
        self.memory.as_deref().and_then(|memory| memory.get(..self.filled)).unwrap_or_default()
    }
}

impl Drop for StagingBuffer {
    fn drop(&mut self) {
        let mut idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < KEPT {
            idle.extend(self.memory.take());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stage_takes_what_there_is_room_for_and_begins_where_a_disk_can_take_it() {
        let mut stage = StagingBuffer::new().unwrap();
        let bytes: Vec<u8> = (0..STAGE + 3).map(|at| u8::try_from(at % 251).unwrap()).collect();
        assert!(stage.as_ref().is_empty() && !stage.is_full());
        assert!(stage.take(&bytes[..10]).is_empty());
        assert_eq!(stage.take(&bytes[10..]), &bytes[STAGE..]);
        assert!(stage.is_full());
        assert_eq!(stage.take(&bytes[..1]), &bytes[..1], "nothing is lost when it is full");
        let held = stage.into_bytes();
        assert_eq!(held.as_ptr().align_offset(ALIGN), 0);
        assert!(held == bytes[..STAGE]);
    }

    #[test]
    fn what_is_filled_again_holds_nothing_of_before() {
        for round in 0..3 * KEPT {
            let mut stage = StagingBuffer::new().unwrap();
            assert!(stage.as_ref().is_empty());
            stage.take(&[u8::try_from(round).unwrap(); 7]);
            assert_eq!(stage.into_bytes().len(), 7);
        }
        assert!(IDLE.lock().unwrap().len() <= KEPT);
    }
}
