//! RPM's packages: the headers in any of the three databases that it has had.

mod berkeley;
mod header;
mod ndb;
mod sqlite;

use super::{InstalledPackage, OwnedFiles, PackageList};

/// Why a database cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
enum RpmFault {
    /// Its first bytes are those of none.
    #[error("it is no database of RPM")]
    Kind,
    /// What its own pages say does not fit together.
    #[error("it is damaged: {0}")]
    Damaged(&'static str),
    /// It would take more steps than any that is read.
    #[error("its pages lead round in circles, or are too many")]
    Steps,
}

/// All packages of a database. `log` is what stands beside one of SQLite and is not in it yet.
pub fn rpm_packages(bytes: &[u8], log: &[u8]) -> PackageList {
    let mut reading = Reading::default();
    let read = match bytes {
        _ if bytes.starts_with(b"SQLite format 3\0") => {
            sqlite::headers(bytes, log, &mut |blob| reading.take(blob))
        }
        _ if bytes.starts_with(b"RpmP") => ndb::headers(bytes, &mut |blob| reading.take(blob)),
        _ if berkeley::is_one(bytes) => berkeley::headers(bytes, &mut |blob| reading.take(blob)),
        _ => Err(RpmFault::Kind),
    };
    reading.finish(read)
}

/// What came of the headers so far.
#[derive(Default)]
struct Reading {
    packages: Vec<InstalledPackage>,
    owned: OwnedFiles,
    unreadable: usize,
    has_too_many_files: bool,
}

impl Reading {
    /// Takes a header. False: there are too many.
    fn take(&mut self, blob: &[u8]) -> bool {
        match header::package(blob, &mut self.owned) {
            Some(header::Read { package, all_files }) => {
                self.packages.extend(package);
                self.has_too_many_files |= !all_files;
            }
            None => self.unreadable += 1,
        }
        self.packages.len() + self.unreadable < super::MOST
    }

    fn finish(mut self, read: Result<(), RpmFault>) -> PackageList {
        let left_out = match read {
            Err(fault) => Some(fault.to_string()),
            Ok(()) if self.unreadable > 0 => {
                Some(format!("{} of its headers cannot be read", self.unreadable))
            }
            Ok(()) if self.packages.len() >= super::MOST => {
                Some(format!("only its first {} packages were read", super::MOST))
            }
            Ok(()) if self.has_too_many_files => {
                Some("it owns more files than are kept".to_owned())
            }
            Ok(()) => None,
        };
        // Several versions of one may be installed; the same one twice is one.
        self.packages.sort();
        self.packages.dedup();
        PackageList { packages: self.packages, owned: self.owned, left_out }
    }
}

/// Little- and big-endian numbers of a page.
fn le(bytes: &[u8], at: usize, length: usize) -> Option<u64> {
    let bytes = bytes.get(at..at.checked_add(length)?)?;
    Some(bytes.iter().rev().fold(0, |all, byte| (all << 8) | u64::from(*byte)))
}

fn be(bytes: &[u8], at: usize, length: usize) -> Option<u64> {
    let bytes = bytes.get(at..at.checked_add(length)?)?;
    Some(bytes.iter().fold(0, |all, byte| (all << 8) | u64::from(*byte)))
}

fn le_place(bytes: &[u8], at: usize, length: usize) -> Option<usize> {
    usize::try_from(le(bytes, at, length)?).ok()
}

fn be_place(bytes: &[u8], at: usize, length: usize) -> Option<usize> {
    usize::try_from(be(bytes, at, length)?).ok()
}
