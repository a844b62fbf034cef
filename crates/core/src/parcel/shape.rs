//! Where each byte of the archive lies.

use super::contents::{Contents, ContentsError};
use crate::digest::Digest;

/// What the file `oci-layout` holds (Image Specification, "OCI Image Layout").
const MARKER: &str = r#"{"imageLayoutVersion":"1.0.0"}"#;
/// Tar's block, in bytes.
const BLOCK: u64 = 512;

/// An entry of the archive: its headers, its content and what fills the last block.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArchiveEntry {
    /// Its path in the archive.
    pub name: String,
    /// Where its headers begin, in bytes from the start of the archive.
    pub start: u64,
    /// The size of its headers, in bytes.
    head: u64,
    /// The size of its content, in bytes.
    pub size: u64,
    /// Its content. None: a blob, whose digest says what it must be.
    pub fixed: Option<String>,
    /// The blob's digest. None: its content is fixed.
    pub digest: Option<Digest>,
}

/// The two empty blocks that end an archive, in bytes.
pub const ARCHIVE_END: u64 = 2 * BLOCK;

impl ArchiveEntry {
    /// An entry whose headers begin `start` bytes from the start of the archive, with content of `size` bytes.
    pub fn at(start: u64, name: String, size: u64) -> Self {
        let head = head(&name, size).len() as u64;
        Self { name, start, head, size, fixed: None, digest: None }
    }

    /// The bytes of its headers.
    pub fn head(&self) -> Vec<u8> {
        head(&self.name, self.size)
    }

    /// Where its content begins.
    pub fn content(&self) -> u64 {
        self.start + self.head
    }

    /// Where its content ends and zeros fill the block.
    pub fn content_end(&self) -> u64 {
        self.content() + self.size
    }

    /// Where the next entry begins.
    pub fn end(&self) -> u64 {
        self.content_end().next_multiple_of(BLOCK)
    }
}

/// The whole archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArchiveShape {
    /// Its entries in their order.
    pub entries: Vec<ArchiveEntry>,
    /// Its size in bytes.
    pub total: u64,
}

impl ArchiveShape {
    /// The archive of these contents.
    pub fn of(contents: &Contents) -> Self {
        let mut shape = Self { entries: Vec::new(), total: 0 };
        for (name, text) in [("oci-layout", MARKER.to_owned()), ("index.json", contents.index())] {
            shape.add(name.to_owned(), text.len() as u64, Some(text), None);
        }
        for blob in &contents.blobs {
            let (algorithm, hash) = (blob.digest.algorithm().name(), blob.digest.hex());
            let name = format!("blobs/{algorithm}/{hash}");
            shape.add(name, blob.size, None, Some(blob.digest.clone()));
        }
        shape.total += ARCHIVE_END;
        shape
    }

    fn add(&mut self, name: String, size: u64, fixed: Option<String>, digest: Option<Digest>) {
        let entry = ArchiveEntry { fixed, digest, ..ArchiveEntry::at(self.total, name, size) };
        self.total = entry.end();
        self.entries.push(entry);
    }

    /// Checks that the volumes of the contents are those of this archive, and gives the size that
    /// all but the last have.
    ///
    /// # Errors
    /// [`ContentsError::Volumes`] when the sizes do not add up.
    pub fn volume_size(&self, contents: &Contents) -> Result<u64, ContentsError> {
        let volumes = &contents.volumes;
        let wrong = |text: String| Err(ContentsError::Volumes(text));
        let Some((last, others)) = volumes.split_last() else {
            return wrong("it has none".into());
        };
        let size = volumes.first().map_or(0, |first| first.size);
        let sum = volumes.iter().try_fold(0u64, |sum, volume| sum.checked_add(volume.size));
        if sum != Some(self.total) {
            return wrong(format!("together they should have {} bytes", self.total));
        }
        if last.size > size || last.size == 0 || others.iter().any(|other| other.size != size) {
            return wrong("all but the last have the same size".into());
        }
        Ok(size)
    }
}

/// The header blocks of an entry: the same for the same name and size.
fn head(name: &str, size: u64) -> Vec<u8> {
    let mut header = tar::Header::new_ustar();
    header.set_size(size);
    header.set_mode(0o644);
    let mut builder = tar::Builder::new(Vec::new());
    // Writing into memory cannot fail, and our names are relative and without `..`.
    let written = builder.append_data(&mut header, name, std::io::empty());
    debug_assert!(written.is_ok());
    std::mem::take(builder.get_mut())
}

#[cfg(test)]
mod tests {
    use super::super::contents::tests::{blob, contents};
    use super::super::volume::{Volume, volume_name};
    use super::*;
    use std::io::Read as _;

    /// The archive as it would be written.
    fn bytes(shape: &ArchiveShape, content: impl Fn(&Digest) -> &'static str) -> Vec<u8> {
        let mut all = vec![0; usize::try_from(shape.total).unwrap()];
        for entry in &shape.entries {
            let mut put = |at: u64, bytes: &[u8]| {
                let at = usize::try_from(at).unwrap();
                all[at..at + bytes.len()].copy_from_slice(bytes);
            };
            put(entry.start, &entry.head());
            match (&entry.fixed, &entry.digest) {
                (Some(text), _) => put(entry.content(), text.as_bytes()),
                (None, Some(digest)) => put(entry.content(), content(digest).as_bytes()),
                (None, None) => panic!("an entry without content"),
            }
        }
        all
    }

    #[test]
    fn the_archive_is_one_that_everybody_reads() {
        let contents = contents();
        let shape = ArchiveShape::of(&contents);
        let known = ["index", "signature", "layer"].map(|text| (blob(text).0, text));
        let all = bytes(&shape, |digest| known.iter().find(|one| one.0 == *digest).unwrap().1);
        let mut archive = tar::Archive::new(all.as_slice());
        let mut read = Vec::new();
        for entry in archive.entries().unwrap() {
            let mut entry = entry.unwrap();
            let mut text = String::new();
            entry.read_to_string(&mut text).unwrap();
            read.push((entry.path().unwrap().display().to_string(), text));
        }
        assert_eq!(read.len(), 5);
        assert_eq!(read[0], ("oci-layout".into(), MARKER.into()));
        assert_eq!(read[1].1, contents.index());
        let layer = read.iter().find(|(name, _)| name.ends_with(blob("layer").0.hex())).unwrap();
        assert_eq!(layer.1, "layer");
    }

    #[test]
    fn long_names_and_large_blobs_have_their_headers() {
        let name = format!("blobs/sha512/{}", "a".repeat(128));
        let long = head(&name, 9 << 33);
        assert_eq!(long.len() as u64 % BLOCK, 0);
        let mut archive = tar::Archive::new(long.as_slice());
        let entry = archive.entries().unwrap().next().unwrap().unwrap();
        assert_eq!(entry.path().unwrap().display().to_string(), name);
        assert_eq!(entry.size(), 9 << 33);
    }

    #[test]
    fn volumes_must_add_up_to_the_archive() {
        let mut contents = contents();
        let shape = ArchiveShape::of(&contents);
        let mut volumes = |sizes: &[u64]| {
            let count = sizes.len();
            let volume = |(number, size): (usize, &u64)| Volume {
                name: volume_name(number, count),
                size: *size,
                crc32: String::new(),
            };
            contents.volumes = sizes.iter().enumerate().map(volume).collect();
            shape.volume_size(&contents)
        };
        let total = shape.total;
        assert_eq!(volumes(&[total]), Ok(total));
        let half = total / 2 + 100;
        assert_eq!(volumes(&[half, total - half]), Ok(half));
        for wrong in [&[total - 1][..], &[], &[1, total - 1], &[total, 0], &[u64::MAX, total]] {
            assert!(volumes(wrong).is_err(), "{wrong:?}");
        }
    }
}
