//! The entries of a layer's archive (POSIX.1-2017, pax; the long names of GNU), one after the other.
//!
//! Names and extension headers are bounded, and nothing is followed: a name is where an entry lies in the image's root.

use std::borrow::Cow;
use std::io::{self, BufRead};

/// What an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum EntryKind {
    File,
    Directory,
    /// Another name of a file, which is [`TarEntry::target`].
    HardLink,
    Symlink,
    /// A character device with the numbers 0 and 0: what overlay file systems take for a whiteout.
    NullDevice,
    /// A file of which the holes are not written: what stands there is not its content.
    Sparse,
    Other,
}

/// One entry. Its content follows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct TarEntry {
    /// From the image's root, without anything before or behind. Empty: the root itself.
    pub path: Vec<u8>,
    pub kind: EntryKind,
    /// Where a hard link leads, in the same form.
    pub target: Vec<u8>,
    pub size: u64,
}

/// Why an archive cannot be read on.
#[derive(Debug, thiserror::Error)]
pub(super) enum TarFault {
    #[error(transparent)]
    Io(#[from] io::Error),
    #[error("an entry's header is none: {0}")]
    Header(&'static str),
    #[error("an entry's extension is of {0} bytes, and {EXTENSION} are read")]
    Extension(u64),
}

/// The largest extension header or long name, in bytes.
const EXTENSION: u64 = 1024 * 1024;
const BLOCK: u64 = 512;
const BLOCK_BYTES: usize = 512;

/// The entries of an archive.
pub(super) struct TarEntries<R> {
    reader: R,
    /// What is still to come of the entry's content, and of what fills its last block.
    rest: u64,
    padding: u64,
    read: u64,
}

#[derive(Default)]
struct Extensions {
    path: Option<Vec<u8>>,
    target: Option<Vec<u8>>,
    size: Option<u64>,
    is_sparse: bool,
}

impl<R: BufRead> TarEntries<R> {
    /// Of what is not compressed, or inflated already.
    pub fn new(reader: R) -> Self {
        Self { reader, rest: 0, padding: 0, read: 0 }
    }

    /// How many bytes were read.
    pub fn read_bytes(&self) -> u64 {
        self.read
    }

    /// What is still to come of the entry's content.
    pub fn rest(&self) -> u64 {
        self.rest
    }

    /// A piece of the entry's content. Empty: it is read.
    pub fn piece(&mut self) -> Result<&[u8], TarFault> {
        if self.rest == 0 {
            return Ok(&[]);
        }
        let piece = self.reader.fill_buf()?;
        if piece.is_empty() {
            return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into());
        }
        let length = piece.len().min(usize::try_from(self.rest).unwrap_or(usize::MAX));
        Ok(&piece[..length])
    }

    /// Goes on behind so many bytes of the piece.
    pub fn consume(&mut self, length: usize) {
        self.reader.consume(length);
        self.rest -= length as u64;
        self.read += length as u64;
    }

    /// The rest of the entry's content, which the caller has found to be small enough.
    pub fn content(&mut self) -> Result<Vec<u8>, TarFault> {
        let mut all = Vec::new();
        loop {
            let piece = self.piece()?;
            if piece.is_empty() {
                return Ok(all);
            }
            all.extend_from_slice(piece);
            let length = piece.len();
            self.consume(length);
        }
    }

    fn skip(&mut self, mut length: u64) -> Result<(), TarFault> {
        while length > 0 {
            let piece = self.reader.fill_buf()?;
            if piece.is_empty() {
                return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into());
            }
            let some = piece.len().min(usize::try_from(length).unwrap_or(usize::MAX));
            self.reader.consume(some);
            length -= some as u64;
            self.read += some as u64;
        }
        Ok(())
    }

    /// The next entry. None: it is the end.
    pub fn next(&mut self) -> Result<Option<TarEntry>, TarFault> {
        let mut extensions = Extensions::default();
        loop {
            let left = self.rest + self.padding;
            (self.rest, self.padding) = (0, 0);
            self.skip(left)?;
            let Some(header) = self.header()? else { return Ok(None) };
            let kind = header.entry_type();
            let wrong = |_| TarFault::Header("its size is no number");
            let stated = header.entry_size().map_err(wrong)?;
            // An extension's own size is never what it says of the entry that follows.
            let is_extension = kind.is_pax_local_extensions()
                || kind.is_pax_global_extensions()
                || kind.is_gnu_longname()
                || kind.is_gnu_longlink();
            let size = if is_extension { stated } else { extensions.size.unwrap_or(stated) };
            // What is no file has no content, whatever size it says; runtimes read it so.
            self.rest = if is_header_only(kind) { 0 } else { size };
            self.padding = (BLOCK - self.rest % BLOCK) % BLOCK;
            if is_extension {
                self.extend(kind, &mut extensions)?;
                continue;
            }
            let is_old_sparse = kind.is_gnu_sparse();
            if is_old_sparse {
                self.sparse_map(&header)?;
            }
            let path = extensions.path.take().unwrap_or_else(|| header.path_bytes().into_owned());
            let target = extensions.target.take();
            let target = target.or_else(|| header.link_name_bytes().map(Cow::into_owned));
            return Ok(Some(TarEntry {
                path: normal(&path),
                kind: match kind {
                    _ if is_old_sparse || extensions.is_sparse => EntryKind::Sparse,
                    kind if kind.is_dir() || path.ends_with(b"/") => EntryKind::Directory,
                    kind if kind.is_file() || kind.is_contiguous() => EntryKind::File,
                    kind if kind.is_hard_link() => EntryKind::HardLink,
                    kind if kind.is_symlink() => EntryKind::Symlink,
                    kind if kind.is_character_special() && has_no_numbers(&header) => {
                        EntryKind::NullDevice
                    }
                    _ => EntryKind::Other,
                },
                target: target.map(|target| normal(&target)).unwrap_or_default(),
                size: self.rest,
            }));
        }
    }

    /// A header. None: two empty blocks, or nothing, end the archive.
    fn header(&mut self) -> Result<Option<tar::Header>, TarFault> {
        let mut empty = 0;
        loop {
            let mut block = [0; BLOCK_BYTES];
            let read = read_up_to(&mut self.reader, &mut block)?;
            self.read += read as u64;
            match read {
                0 => return Ok(None),
                512 => {}
                _ => return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into()),
            }
            if block.iter().all(|byte| *byte == 0) {
                empty += 1;
                if empty == 2 {
                    return Ok(None);
                }
                continue;
            }
            let header = tar::Header::from_byte_slice(&block).clone();
            let sum = |signed: bool| -> i64 {
                let bytes = block.iter().enumerate();
                bytes
                    .map(|(at, byte)| match (148..156).contains(&at) {
                        true => 32,
                        false if signed => i64::from(i8::from_ne_bytes([*byte])),
                        false => i64::from(*byte),
                    })
                    .sum()
            };
            let said = header.cksum().map_err(|_| TarFault::Header("its checksum is no number"))?;
            // Some old writers counted the bytes as signed.
            if ![sum(false), sum(true)].contains(&i64::from(said)) {
                return Err(TarFault::Header("its checksum is wrong"));
            }
            return Ok(Some(header));
        }
    }

    /// Reads an extension header for the entry that follows.
    fn extend(&mut self, kind: tar::EntryType, all: &mut Extensions) -> Result<(), TarFault> {
        if self.rest > EXTENSION {
            return Err(TarFault::Extension(self.rest));
        }
        // What is said for all entries names none of them.
        if kind.is_pax_global_extensions() {
            return Ok(());
        }
        let bytes = self.content()?;
        if kind.is_gnu_longname() || kind.is_gnu_longlink() {
            let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
            let name = Some(bytes[..end].to_vec());
            match kind.is_gnu_longname() {
                true => all.path = name,
                false => all.target = name,
            }
            return Ok(());
        }
        for record in tar::PaxExtensions::new(&bytes) {
            let record = record.map_err(|_| TarFault::Header("one of its extensions is none"))?;
            let value = record.value_bytes();
            match record.key_bytes() {
                // The name of a sparse file stands there, and a made-up one in its usual place.
                b"GNU.sparse.name" => (all.path, all.is_sparse) = (Some(value.to_vec()), true),
                key if key.starts_with(b"GNU.sparse.") => all.is_sparse = true,
                b"path" if all.path.is_none() || !all.is_sparse => all.path = Some(value.to_vec()),
                b"linkpath" => all.target = Some(value.to_vec()),
                b"size" => {
                    let size = std::str::from_utf8(value).ok().and_then(|size| size.parse().ok());
                    all.size = Some(size.ok_or(TarFault::Header("its size is no number"))?);
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Passes over the blocks that say where a sparse file's pieces lie.
    fn sparse_map(&mut self, header: &tar::Header) -> Result<(), TarFault> {
        let mut goes_on = header.as_gnu().is_some_and(tar::GnuHeader::is_extended);
        while goes_on {
            let mut block = [0; BLOCK_BYTES];
            if read_up_to(&mut self.reader, &mut block)? < block.len() {
                return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into());
            }
            self.read += BLOCK;
            goes_on = block[504] == 1;
        }
        Ok(())
    }
}

fn is_header_only(kind: tar::EntryType) -> bool {
    kind.is_hard_link()
        || kind.is_symlink()
        || kind.is_dir()
        || kind.is_character_special()
        || kind.is_block_special()
        || kind.is_fifo()
}

fn has_no_numbers(header: &tar::Header) -> bool {
    let number = |read: io::Result<Option<u32>>| read.ok().flatten();
    number(header.device_major()).unwrap_or(0) == 0
        && number(header.device_minor()).unwrap_or(0) == 0
}

fn read_up_to(reader: &mut impl BufRead, block: &mut [u8]) -> io::Result<usize> {
    let mut read = 0;
    while read < block.len() {
        match reader.read(&mut block[read..]) {
            Ok(0) => break,
            Ok(length) => read += length,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(read)
}

/// Where a name lies in the root: `..` leads no higher than that.
pub(super) fn normal(path: &[u8]) -> Vec<u8> {
    let mut parts: Vec<&[u8]> = Vec::new();
    for part in path.split(|byte| *byte == b'/') {
        match part {
            b"" | b"." => {}
            b".." => {
                parts.pop();
            }
            part => parts.push(part),
        }
    }
    parts.join(&b'/')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(bytes: &[u8]) -> Result<Vec<(String, EntryKind, u64)>, TarFault> {
        let mut entries = TarEntries::new(bytes);
        let mut all = Vec::new();
        while let Some(entry) = entries.next()? {
            let path = String::from_utf8_lossy(&entry.path).into_owned();
            all.push((path, entry.kind, entry.size));
        }
        Ok(all)
    }

    fn header(kind: tar::EntryType, size: u64) -> tar::Header {
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(kind);
        header.set_size(size);
        header.set_mode(0o644);
        header
    }

    #[test]
    fn names_lie_in_the_root() {
        for (path, expected) in [
            ("./usr/bin/", "usr/bin"),
            ("/etc/passwd", "etc/passwd"),
            ("../../e", "e"),
            ("a/../../b/./c", "b/c"),
            ("./", ""),
            ("a//b", "a/b"),
        ] {
            assert_eq!(normal(path.as_bytes()), expected.as_bytes(), "{path}");
        }
    }

    #[test]
    fn entries_are_told_with_long_names_and_sizes() {
        let mut builder = tar::Builder::new(Vec::new());
        let long = format!("deep/{}/end", "x".repeat(300));
        let mut file = header(tar::EntryType::Regular, 3);
        builder.append_data(&mut file, &long, &b"abc"[..]).unwrap();
        builder.append_pax_extensions([("path", &b"by/pax"[..]), ("size", b"4")]).unwrap();
        let mut file = header(tar::EntryType::Regular, 4);
        builder.append_data(&mut file, "short", &b"abcd"[..]).unwrap();
        let mut device = header(tar::EntryType::Char, 0);
        device.set_device_major(0).unwrap();
        device.set_device_minor(0).unwrap();
        builder.append_data(&mut device, "gone", &b""[..]).unwrap();
        builder.append_data(&mut header(tar::EntryType::Directory, 0), "d/", &b""[..]).unwrap();
        let mut link = header(tar::EntryType::Link, 0);
        builder.append_link(&mut link, "second", "by/pax").unwrap();
        let bytes = builder.into_inner().unwrap();
        let told = names(&bytes).unwrap();
        assert_eq!(
            told,
            [
                (long, EntryKind::File, 3),
                ("by/pax".to_owned(), EntryKind::File, 4),
                ("gone".to_owned(), EntryKind::NullDevice, 0),
                ("d".to_owned(), EntryKind::Directory, 0),
                ("second".to_owned(), EntryKind::HardLink, 0),
            ]
        );
        // What follows the end is not read; what is cut is told.
        let more = [&bytes[..], b"whatever"].concat();
        assert_eq!(names(&more).unwrap().len(), 5);
        assert!(matches!(names(&bytes[..700]), Err(TarFault::Io(_))));
        let mut damaged = bytes.clone();
        damaged[0] ^= 1;
        assert!(matches!(names(&damaged), Err(TarFault::Header(_))));
    }

    #[test]
    fn an_extension_cannot_be_larger_than_what_is_read() {
        let mut large = header(tar::EntryType::XHeader, 10 * EXTENSION);
        large.set_path("x").unwrap();
        large.set_cksum();
        assert!(matches!(names(large.as_bytes()), Err(TarFault::Extension(_))));
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..2048)) {
            let _told = names(&bytes);
        }
    }
}
