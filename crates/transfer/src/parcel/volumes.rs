//! The archive as one long row of bytes, wherever its volumes lie.

use std::fs::{self, OpenOptions};
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use larder_core::parcel::{ARCHIVE, Volume, volume_name};

use crate::files::open_own;

/// Bytes that are read or written at a stretch.
pub const PIECE: usize = 512 * 1024;

/// The volumes of an archive, all but the last of the same size.
#[derive(Debug, Clone)]
pub struct Volumes {
    paths: Vec<PathBuf>,
    size: u64,
}

impl Volumes {
    /// Files in their order, each of `size` bytes but the last.
    pub fn new(paths: Vec<PathBuf>, size: u64) -> Self {
        Self { paths, size }
    }

    /// The files.
    pub fn paths(&self) -> &[PathBuf] {
        &self.paths
    }

    /// Which volumes hold this range.
    pub fn of(&self, start: u64, end: u64) -> std::ops::RangeInclusive<usize> {
        let number = |at: u64| usize::try_from(at / self.size).unwrap_or(usize::MAX);
        number(start)..=number(end.saturating_sub(1).max(start))
    }

    /// The volume of a byte, where it lies in it, and how many of `length` bytes from there on do.
    fn spot(&self, at: u64, length: usize) -> io::Result<(&Path, u64, usize)> {
        let beyond = || io::Error::other("beyond the end of the archive");
        let number = usize::try_from(at / self.size).map_err(|_| beyond())?;
        let inside = at % self.size;
        let room = usize::try_from(self.size - inside).unwrap_or(usize::MAX);
        Ok((self.paths.get(number).ok_or_else(beyond)?, inside, length.min(room)))
    }

    /// Fills the buffer with the bytes from `at` on.
    pub fn read_at(&self, mut at: u64, mut buffer: &mut [u8]) -> io::Result<()> {
        while !buffer.is_empty() {
            let (path, inside, count) = self.spot(at, buffer.len())?;
            let (now, rest) = buffer.split_at_mut(count);
            crate::files::open_regular(path)?.read_exact_at(now, inside)?;
            at += count as u64;
            buffer = rest;
        }
        Ok(())
    }

    /// Bytes of their own from `at` on. Unlike [`read_at`](Self::read_at) it fills nothing with zeros
    /// first, which costs as much as reading.
    pub fn piece(&self, mut at: u64, length: usize) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(length);
        while bytes.len() < length {
            let (path, inside, count) = self.spot(at, length - bytes.len())?;
            let mut file = crate::files::open_regular(path)?;
            file.seek(SeekFrom::Start(inside))?;
            if file.take(count as u64).read_to_end(&mut bytes)? < count {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            at += count as u64;
        }
        Ok(bytes)
    }

    /// The CRC-32 of one whole volume.
    pub fn crc(&self, number: usize) -> io::Result<u32> {
        let path = self.paths.get(number).ok_or_else(|| io::Error::other("no such volume"))?;
        let file = crate::files::open_regular(path)?;
        let mut hasher = crc32fast::Hasher::new();
        let mut piece = vec![0; PIECE];
        let mut at = 0;
        loop {
            let got = file.read_at(&mut piece, at)?;
            if got == 0 {
                return Ok(hasher.finalize());
            }
            hasher.update(&piece[..got]);
            at += got as u64;
        }
    }
}

/// Volumes that are being written, in any order. What nobody writes is zero.
pub struct NewVolumes {
    folder: PathBuf,
    volumes: Volumes,
    total: u64,
    /// What was written: where it begins, how long it is, and its CRC-32.
    written: Mutex<Vec<(u64, u64, u32)>>,
    /// Bytes that were written since the disk was last told to.
    pending: AtomicU64,
    flushing: Arc<AtomicBool>,
}

/// Bytes after which the disk is told to write what came so far.
const FLUSH_EACH: u64 = 64 * 1024 * 1024;
/// The longest gap between what is written: the end of a block and the end of the archive.
const GAP: u64 = 4096;

impl NewVolumes {
    /// Makes the files, or takes up those that a run before has left. True: there were some.
    pub fn make(folder: &Path, total: u64, size: u64) -> io::Result<(Self, bool)> {
        let count = usize::try_from(total.div_ceil(size)).unwrap_or(usize::MAX);
        let mut paths = Vec::new();
        let mut resumed = false;
        for number in 0..count {
            let name = volume_name(number, count);
            let (path, done) = (folder.join(format!("{name}.partial")), folder.join(&name));
            if !path.exists() && done.exists() {
                // A run was killed between naming the volumes and writing the contents.
                std::fs::rename(&done, &path)?;
            }
            let length = if number + 1 < count { size } else { total - size * number as u64 };
            let file = open_own(&path)?;
            resumed |= file.metadata()?.len() == length;
            file.set_len(length)?;
            paths.push(path);
        }
        remove_others(folder, &paths)?;
        let volumes = Volumes::new(paths, size);
        let new = Self {
            folder: folder.to_owned(),
            volumes,
            total,
            written: Mutex::default(),
            pending: AtomicU64::new(0),
            flushing: Arc::default(),
        };
        Ok((new, resumed))
    }

    /// What is written so far.
    pub fn volumes(&self) -> &Volumes {
        &self.volumes
    }

    /// Begins to write at a place.
    pub fn at(&self, at: u64) -> Stretch<'_> {
        let crc = crc32fast::Hasher::new();
        Stretch { volumes: self, began: at, at, crc, parts: Vec::new() }
    }

    /// Flushes the files, gives them their names and tells what they are.
    pub fn finish(&self) -> io::Result<Vec<Volume>> {
        let mut written = self.written.lock().unwrap_or_else(PoisonError::into_inner).clone();
        written.sort_unstable();
        // Two images may bring the same manifest at the same time: the same bytes at the same place.
        written.dedup();
        written.push((self.total, 0, 0));
        let count = self.volumes.paths.len();
        let mut crcs = vec![crc32fast::Hasher::new(); count];
        let mut at = 0;
        for (began, length, crc) in written {
            // Zeros fill what lies between; a whole entry missing would be our own mistake.
            if began < at || began - at > GAP {
                return Err(io::Error::other("a part of the archive was not written"));
            }
            while at < began {
                let (number, end) = self.volume_of(at);
                let zeros = began.min(end) - at;
                crcs[number].update(&vec![0; usize::try_from(zeros).unwrap_or(0)]);
                at += zeros;
            }
            if length > 0 {
                let (number, _) = self.volume_of(began);
                crcs[number].combine(&crc32fast::Hasher::new_with_initial_len(crc, length));
                at = began + length;
            }
        }
        let mut volumes = Vec::new();
        for (number, (path, crc)) in self.volumes.paths.iter().zip(crcs).enumerate() {
            let file = crate::files::open_regular(path)?;
            file.sync_all()?;
            let name = volume_name(number, count);
            let size = file.metadata()?.len();
            std::fs::rename(path, self.folder.join(&name))?;
            volumes.push(Volume { name, size, crc32: format!("{:08x}", crc.finalize()) });
        }
        Ok(volumes)
    }

    /// Has a volume written to the disk while more comes, now and then, so that the last flush has
    /// little left to do.
    fn flush_ahead(&self, path: &Path, more: u64) {
        let pending = self.pending.fetch_add(more, Ordering::Relaxed) + more;
        if pending < FLUSH_EACH || self.flushing.swap(true, Ordering::Relaxed) {
            return;
        }
        self.pending.store(0, Ordering::Relaxed);
        let (path, flushing) = (path.to_owned(), Arc::clone(&self.flushing));
        std::thread::spawn(move || {
            // A failure comes again with the last flush, which is the one that counts.
            let _ = fs::File::open(path).and_then(|file| file.sync_data());
            flushing.store(false, Ordering::Relaxed);
        });
    }

    /// The volume of a byte and where it ends.
    fn volume_of(&self, at: u64) -> (usize, u64) {
        let number = at / self.volumes.size;
        (usize::try_from(number).unwrap_or(usize::MAX), (number + 1) * self.volumes.size)
    }

    /// Removes what was written. It helps nobody.
    pub fn remove(&self) {
        for path in &self.volumes.paths {
            if let Err(error) = std::fs::remove_file(path) {
                tracing::warn!(%error, path = %crate::files::named(path), "an unfinished volume stays");
            }
        }
    }
}

/// Removes unfinished volumes of a run that cut the archive otherwise.
fn remove_others(folder: &Path, ours: &[PathBuf]) -> io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        if name.starts_with(ARCHIVE) && name.ends_with(".partial") && !ours.contains(&path) {
            std::fs::remove_file(&path)?;
        }
    }
    Ok(())
}

/// Bytes written one after the other from one place on.
pub struct Stretch<'v> {
    volumes: &'v NewVolumes,
    began: u64,
    at: u64,
    crc: crc32fast::Hasher,
    /// What was written in volumes before this one.
    parts: Vec<(u64, u64, u32)>,
}

impl Stretch<'_> {
    /// Writes the next bytes.
    pub fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        let volumes = self.volumes;
        self.each(bytes, |path, inside, part| {
            OpenOptions::new().write(true).open(path)?.write_all_at(part, inside)?;
            volumes.flush_ahead(path, part.len() as u64);
            Ok(())
        })
    }

    /// Takes bytes that stand there already.
    pub fn keep(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.each(bytes, |_, _, _| Ok(()))
    }

    fn each(
        &mut self,
        mut bytes: &[u8],
        write: impl Fn(&Path, u64, &[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        while !bytes.is_empty() {
            let (path, inside, count) = self.volumes.volumes.spot(self.at, bytes.len())?;
            let (now, rest) = bytes.split_at(count);
            write(path, inside, now)?;
            self.crc.update(now);
            self.at += count as u64;
            bytes = rest;
            if self.at.is_multiple_of(self.volumes.volumes.size) {
                self.end_part();
            }
        }
        Ok(())
    }

    fn end_part(&mut self) {
        let crc = std::mem::take(&mut self.crc).finalize();
        if self.at > self.began {
            self.parts.push((self.began, self.at - self.began, crc));
        }
        self.began = self.at;
    }

    /// Counts what was written. What is not counted may be written again.
    pub fn done(mut self) {
        self.end_part();
        let mut written = self.volumes.written.lock().unwrap_or_else(PoisonError::into_inner);
        written.append(&mut self.parts);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn volumes_written_in_any_order_are_read_as_one_and_have_their_checksums() {
        let folder = tempfile::tempdir().unwrap();
        let bytes: Vec<u8> = (0..250_000u32).map(|n| (n % 253) as u8).collect();
        let (new, resumed) = NewVolumes::make(folder.path(), 250_100, 70_000).unwrap();
        assert!(!resumed);
        for (start, end) in [(100_000, 250_000), (0, 30_000), (30_000, 100_000)] {
            let mut stretch = new.at(start as u64);
            for part in bytes[start..end].chunks(9_999) {
                stretch.write(part).unwrap();
            }
            stretch.done();
        }
        let volumes = new.finish().unwrap();
        assert_eq!(volumes.len(), 4);
        let paths: Vec<PathBuf> = volumes.iter().map(|v| folder.path().join(&v.name)).collect();
        let read = Volumes::new(paths, 70_000);
        let mut back = vec![1; 250_100];
        read.read_at(0, &mut back).unwrap();
        assert_eq!((&back[..250_000], &back[250_000..]), (&bytes[..], &[0; 100][..]));
        for (number, volume) in volumes.iter().enumerate() {
            assert_eq!(format!("{:08x}", read.crc(number).unwrap()), volume.crc32);
        }
        assert!(read.read_at(250_000, &mut [0; 101]).is_err());
        assert_eq!(read.piece(60_000, 100_000).unwrap(), bytes[60_000..160_000]);
        assert!(read.piece(250_000, 101).is_err());
        assert_eq!(read.of(69_999, 70_001), 0..=1);
        assert_eq!(read.of(70_000, 140_000), 1..=1);
    }

    #[test]
    fn a_part_that_nobody_wrote_is_our_own_mistake() {
        let folder = tempfile::tempdir().unwrap();
        let (new, _) = NewVolumes::make(folder.path(), 100_000, 50_000).unwrap();
        let mut stretch = new.at(60_000);
        stretch.write(&vec![1; 40_000]).unwrap();
        stretch.done();
        assert!(new.finish().is_err());
        drop(new);
        let (again, resumed) = NewVolumes::make(folder.path(), 100_000, 50_000).unwrap();
        assert!(resumed, "the next run takes them up");
        drop(again);
        // Cut otherwise, nothing of the old cut is left; named already, they are taken up as well.
        let (other, _) = NewVolumes::make(folder.path(), 100_000, 100_000).unwrap();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        drop(other);
        let path = folder.path().join("parcel.tar");
        std::fs::rename(folder.path().join("parcel.tar.partial"), &path).unwrap();
        let (again, resumed) = NewVolumes::make(folder.path(), 100_000, 100_000).unwrap();
        assert!(resumed && !path.exists());
        again.remove();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    }
}
