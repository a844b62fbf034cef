//! A file that is written from its beginning to its end. What is large and taken in with much else goes past
//! the memory in which the system keeps files (`O_DIRECT`): that saves most of what writing costs
//! the processor, and an intake of many layers does not push out of memory what nodes are pulling.

use std::fs::File;
use std::io::{self, Write as _};

use rustix::fs::{OFlags, fcntl_getfl, fcntl_setfl, fstatfs};
use rustix::io::Errno;

use crate::blobs::Purpose;

/// Bytes that are written at once.
const STAGE: usize = 1024 * 1024;
/// What places in the file and in memory are multiples of: no disk asks for more.
const ALIGN: usize = 4096;
/// The first bytes of a file are kept in memory all the same: small content is soon asked for.
const FROM: u64 = 8 * 1024 * 1024;
/// The file systems whose direct writes go straight to a disk: ext4 and XFS.
const KNOWN: [u64; 2] = [0xEF53, 0x5846_5342];

pub(super) struct Output {
    file: File,
    /// What the file has.
    position: u64,
    staged: Option<Stage>,
    /// None: it is not known yet.
    can_be_direct: Option<bool>,
    is_direct: bool,
}

/// Memory that begins at a multiple of [`ALIGN`].
struct Stage {
    memory: Vec<u8>,
    start: usize,
    filled: usize,
}

impl Stage {
    /// None: there is no such memory.
    fn new() -> Option<Self> {
        let memory = vec![0; STAGE + ALIGN];
        let start = memory.as_ptr().align_offset(ALIGN);
        (start <= ALIGN).then_some(Self { memory, start, filled: 0 })
    }

    fn content(&self) -> &[u8] {
        &self.memory[self.start..self.start + self.filled]
    }

    /// Takes as much as there is room for, and gives the rest.
    fn take<'b>(&mut self, bytes: &'b [u8]) -> &'b [u8] {
        let (now, rest) = bytes.split_at(bytes.len().min(STAGE - self.filled));
        let from = self.start + self.filled;
        self.memory[from..from + now.len()].copy_from_slice(now);
        self.filled += now.len();
        rest
    }
}

impl Output {
    /// Goes on writing a file at its end.
    pub fn new(file: File, position: u64, purpose: Purpose) -> Self {
        let can_be_direct = (purpose == Purpose::Read).then_some(false);
        Self { file, position, staged: None, can_be_direct, is_direct: false }
    }

    /// How much of what was given the file has.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Whether what comes goes to the disk at once.
    pub fn is_direct(&self) -> bool {
        self.is_direct
    }

    /// Takes more. With `read_along`, somebody reads what is written as it comes.
    pub fn write(&mut self, mut bytes: &[u8], read_along: bool) -> io::Result<()> {
        if read_along || self.position < FROM || !self.can_be_direct() {
            self.settle()?;
            return self.append(bytes);
        }
        let beside = usize::try_from(self.position % ALIGN as u64).unwrap_or_default();
        if beside != 0 {
            let (now, rest) = bytes.split_at(bytes.len().min(ALIGN - beside));
            self.append(now)?;
            bytes = rest;
        }
        while !bytes.is_empty() {
            let Some(mut stage) = self.staged.take().or_else(Stage::new) else {
                return self.append(bytes);
            };
            bytes = stage.take(bytes);
            if stage.filled == STAGE {
                self.set_direct(true);
                self.append(stage.content())?;
                stage.filled = 0;
            }
            self.staged = Some(stage);
        }
        Ok(())
    }

    /// Writes what is still in memory, and gives the file as any other one.
    pub fn settle(&mut self) -> io::Result<&mut File> {
        self.set_direct(false);
        if let Some(stage) = self.staged.take() {
            self.append(stage.content())?;
        }
        Ok(&mut self.file)
    }

    /// A second handle of the file.
    pub fn try_clone(&self) -> io::Result<File> {
        self.file.try_clone()
    }

    fn append(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            match self.file.write(bytes) {
                Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
                Ok(written) => {
                    self.position += written as u64;
                    bytes = &bytes[written..];
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
    use super::*;
    use std::fs;

    fn content(length: usize) -> Vec<u8> {
        (0..length).map(|at| u8::try_from(at * 31 % 251).unwrap()).collect()
    }

    #[test]
    fn the_file_has_what_was_written_in_whatever_pieces() {
        let folder = tempfile::tempdir().unwrap();
        let size = usize::try_from(FROM).unwrap() + 3 * STAGE + 12_345;
        let content = content(size);
        for piece in [7_919, 65_536, STAGE - 1, STAGE, 3 * STAGE, size] {
            let path = folder.path().join(piece.to_string());
            let mut output = Output::new(File::create_new(&path).unwrap(), 0, Purpose::Keep);
            let mut direct = false;
            for (number, bytes) in content.chunks(piece).enumerate() {
                // Somebody reads along for a while.
                output.write(bytes, (140..145).contains(&number)).unwrap();
                direct |= output.is_direct();
            }
            assert_eq!(direct, piece < size && output.can_be_direct(), "pieces of {piece}");
            output.settle().unwrap().sync_all().unwrap();
            assert_eq!(output.position(), size as u64);
            assert!(fs::read(&path).unwrap() == content, "pieces of {piece}");
        }
    }

    #[test]
    fn what_goes_on_in_the_middle_of_a_block_is_written_too() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("part");
        let content = content(usize::try_from(FROM).unwrap() + 2 * STAGE + 99);
        let begun = content.len() - STAGE - 1_000;
        fs::write(&path, &content[..begun]).unwrap();
        let file = fs::OpenOptions::new().append(true).open(&path).unwrap();
        let mut output = Output::new(file, begun as u64, Purpose::Keep);
        output.write(&content[begun..], false).unwrap();
        let waits = output.position() < content.len() as u64;
        assert_eq!(waits, output.can_be_direct(), "the end waits in memory");
        output.settle().unwrap();
        assert!(fs::read(&path).unwrap() == content);
    }
}
