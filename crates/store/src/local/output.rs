//! A file that is written from its beginning to its end. What is large and taken in with much else goes past
//! the memory in which the system keeps files (`O_DIRECT`): that saves most of what writing costs
//! the processor, and an intake of many layers does not push out of memory what nodes are pulling.

use std::fs::File;
use std::io::{self, IoSlice, Write as _};

use bytes::Bytes;
use rustix::fs::{OFlags, fcntl_getfl, fcntl_setfl, fstatfs};
use rustix::io::Errno;

use super::crowd::LARGE;
use super::stage::{ALIGN, STAGE};

/// Pieces that are written at once at most.
const MANY: usize = 64;
/// The file systems whose direct writes go straight to a disk: ext4 and XFS.
const KNOWN: [u64; 2] = [0xEF53, 0x5846_5342];

pub(super) struct BlobOutput {
    file: File,
    /// What the file has.
    position: u64,
    /// None: it is not known yet.
    can_be_direct: Option<bool>,
    is_direct: bool,
}

impl BlobOutput {
    /// Goes on writing a file at its end.
    pub fn new(file: File, position: u64) -> Self {
        Self { file, position, can_be_direct: None, is_direct: false }
    }

    /// The file, which stays locked as long as it is open.
    pub fn into_file(self) -> File {
        self.file
    }

    /// How much the file has.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Whether the last of it went to the disk at once.
    pub fn is_direct(&self) -> bool {
        self.is_direct
    }

    /// Writes more. With `read_along`, somebody reads what is written as it comes.
    pub fn write(&mut self, pieces: &[Bytes], read_along: bool) -> io::Result<()> {
        let mut rest = pieces;
        while let Some(first) = rest.first() {
            let direct = !read_along && self.position >= LARGE && self.is_staged(first);
            // A disk takes one piece at a time; the system's memory takes many.
            let number = if direct { 1 } else { rest.len().min(MANY) };
            let (now, later) = rest.split_at(number);
            self.set_direct(direct);
            self.write_all(now)?;
            rest = later;
        }
        Ok(())
    }

    fn write_all(&mut self, pieces: &[Bytes]) -> io::Result<()> {
        let mut slices: Vec<IoSlice<'_>> = pieces.iter().map(|piece| IoSlice::new(piece)).collect();
        let mut left = slices.as_mut_slice();
        // Without empty ones at the front: they would look like a disk that takes nothing.
        IoSlice::advance_slices(&mut left, 0);
        while !left.is_empty() {
            match self.file.write_vectored(left) {
                Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
                Ok(written) => {
                    self.position += written as u64;
                    IoSlice::advance_slices(&mut left, written);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                // A disk that wants it otherwise gets it as any other one.
                Err(error) if self.is_direct && is_refused(&error) => {
                    self.can_be_direct = Some(false);
                    self.set_direct(false);
                    if self.is_direct {
                        return Err(error);
                    }
                }
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// The file as any other one.
    pub fn settled(&mut self) -> &mut File {
        self.set_direct(false);
        &mut self.file
    }

    /// A second handle of the file.
    pub fn try_clone(&self) -> io::Result<File> {
        self.file.try_clone()
    }

    /// Whether it was gathered for the disk, and comes where the disk can take it.
    fn is_staged(&self, bytes: &[u8]) -> bool {
        self.position.is_multiple_of(ALIGN as u64)
            && bytes.len() == STAGE
            && bytes.as_ptr().align_offset(ALIGN) == 0
    }

    fn can_be_direct(&mut self) -> bool {
        *self.can_be_direct.get_or_insert_with(|| {
            let kind = fstatfs(&self.file).map(|system| u64::try_from(system.f_type).unwrap_or(0));
            kind.is_ok_and(|kind| KNOWN.contains(&kind))
        })
    }

    fn set_direct(&mut self, direct: bool) {
        if direct == self.is_direct || (direct && !self.can_be_direct()) {
            return;
        }
        let set = fcntl_getfl(&self.file).and_then(|mut flags| {
            flags.set(OFlags::DIRECT, direct);
            fcntl_setfl(&self.file, flags)
        });
        match set {
            Ok(()) => self.is_direct = direct,
            Err(_) => self.can_be_direct = Some(false),
        }
    }
}

fn is_refused(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::INVAL.raw_os_error())
}

#[cfg(test)]
mod tests {
    use super::super::stage::StagingBuffer;
    use super::*;
    use std::fs;

    fn content(length: usize) -> Vec<u8> {
        (0..length).map(|at| u8::try_from(at * 31 % 251).unwrap()).collect()
    }

    /// Writes it all in stages, as pieces of this size fill them; gives whether any went directly.
    fn write_staged(
        output: &mut BlobOutput,
        content: &[u8],
        piece: usize,
        along: &[usize],
    ) -> bool {
        let (mut stage, mut direct, mut number) = (StagingBuffer::new().unwrap(), false, 0);
        let mut pour = |stage: StagingBuffer, output: &mut BlobOutput| {
            output.write(&[stage.into_bytes()], along.contains(&number)).unwrap();
            number += 1;
            output.is_direct()
        };
        for mut bytes in content.chunks(piece) {
            while !bytes.is_empty() {
                bytes = stage.take(bytes);
                if stage.is_full() {
                    direct |=
                        pour(std::mem::replace(&mut stage, StagingBuffer::new().unwrap()), output);
                }
            }
        }
        pour(stage, output);
        direct
    }

    #[test]
    fn the_file_has_what_was_written_in_whatever_pieces() {
        let folder = tempfile::tempdir().unwrap();
        let size = usize::try_from(LARGE).unwrap() + 5 * STAGE + 12_345;
        let content = content(size);
        for piece in [7_919, 65_536, STAGE - 1, STAGE, 3 * STAGE, size] {
            let path = folder.path().join(piece.to_string());
            let mut output = BlobOutput::new(File::create_new(&path).unwrap(), 0);
            // Somebody reads along for a while.
            let direct = write_staged(&mut output, &content, piece, &[9, 10]);
            assert_eq!(direct, output.can_be_direct(), "pieces of {piece}");
            output.settled().sync_all().unwrap();
            assert_eq!(output.position(), size as u64);
            assert!(fs::read(&path).unwrap() == content, "pieces of {piece}");
        }
    }

    #[test]
    fn what_goes_on_in_the_middle_of_a_block_is_written_too() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("part");
        let content = content(usize::try_from(LARGE).unwrap() + 3 * STAGE + 99);
        let begun = content.len() - STAGE - 1_000;
        fs::write(&path, &content[..begun]).unwrap();
        let file = fs::OpenOptions::new().append(true).open(&path).unwrap();
        let mut output = BlobOutput::new(file, begun as u64);
        assert!(!write_staged(&mut output, &content[begun..], STAGE, &[]), "it is not aligned");
        assert_eq!(output.position(), content.len() as u64);
        assert!(fs::read(&path).unwrap() == content);
    }
}
