//! The regular files of a tar archive, found once and read where they lie.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek as _, SeekFrom};
use std::path::Path;

use super::{LayoutError, TransferError};

/// Entries that an archive may have.
const ENTRY_LIMIT: usize = 200_000;

/// Where something lies in an archive: its start and its size in bytes.
pub(super) type Spot = (u64, u64);

/// The reading of small entries.
pub(super) struct Entries<'a> {
    pub path: &'a Path,
    pub entries: &'a HashMap<String, Spot>,
}

impl Entries<'_> {
    /// A small entry whole.
    pub fn small(&self, name: &str, limit: usize) -> Result<Vec<u8>, TransferError> {
        let shown = name.escape_debug();
        let missing = || refused(self.path, format!("it has no {shown}"));
        let (start, size) = *self.entries.get(name).ok_or_else(missing)?;
        if size > limit as u64 {
            return Err(refused(self.path, format!("its {shown} has {size} bytes")));
        }
        read_at(self.path, start, size)
            .map_err(LayoutError::io(format!("cannot read {}", crate::files::named(self.path))))
    }
}

/// What is wrong with an archive.
pub(super) fn refused(path: &Path, cause: impl Into<String>) -> TransferError {
    LayoutError::Shape { path: crate::files::named(path), cause: cause.into() }.into()
}

/// Finds the regular files of an archive. Links, devices and names that climb are refused; so are
/// names that stand there twice, because readers differ on which one counts.
pub(super) fn entries(path: &Path, file: &File) -> Result<HashMap<String, Spot>, TransferError> {
    let unreadable =
        |error: io::Error| refused(path, format!("it cannot be read as a tar archive: {error}"));
    let mut start = [0; 2];
    let mut head = file;
    if head.read_exact(&mut start).is_ok() && start == [0x1f, 0x8b] {
        return Err(refused(path, "it is compressed with gzip; unpack it with gunzip first"));
    }
    head.seek(SeekFrom::Start(0)).map_err(unreadable)?;
    let length = file.metadata().map_err(unreadable)?.len();
    let mut archive = tar::Archive::new(file);
    let mut found = HashMap::new();
    for entry in archive.entries_with_seek().map_err(unreadable)? {
        let entry = entry.map_err(unreadable)?;
        let name = String::from_utf8(entry.path_bytes().into_owned())
            .map_err(|_| refused(path, "it has a name that is no UTF-8"))?;
        let name = name.strip_prefix("./").unwrap_or(&name).trim_end_matches('/').to_owned();
        let kind = entry.header().entry_type();
        if kind.is_dir() {
            continue;
        }
        if name.starts_with('/') || name.split('/').any(|part| part == "..") {
            return Err(refused(
                path,
                format!("its entry `{}` leads out of it", name.escape_debug()),
            ));
        }
        if !kind.is_file() {
            return Err(refused(
                path,
                format!("its entry `{}` is no regular file", name.escape_debug()),
            ));
        }
        let place = (entry.raw_file_position(), entry.size());
        if place.0.checked_add(place.1).is_none_or(|end| end > length) {
            return Err(refused(
                path,
                format!("it ends before its entry `{}` does", name.escape_debug()),
            ));
        }
        if found.len() >= ENTRY_LIMIT {
            return Err(refused(path, format!("it has more than {ENTRY_LIMIT} entries")));
        }
        if found.insert(name.clone(), place).is_some() {
            return Err(refused(
                path,
                format!("its entry `{}` is there twice", name.escape_debug()),
            ));
        }
    }
    Ok(found)
}

/// Reads a small piece of a file.
pub(super) fn read_at(path: &Path, start: u64, size: u64) -> io::Result<Vec<u8>> {
    let mut file = crate::files::open_regular(path)?;
    file.seek(SeekFrom::Start(start))?;
    let mut bytes = Vec::new();
    file.take(size).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == size { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}
