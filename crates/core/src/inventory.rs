//! What is installed in an image, as the databases of its operating system say.
//!
//! Everything that is read here is hostile: each reader has a bound, and says when it has left something out.

mod apk;
mod dpkg;

pub use apk::apk_packages;
pub use dpkg::{dpkg_package, dpkg_packages};

use crate::version::Ecosystem;

/// A package that a database says is installed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct InstalledPackage {
    pub name: String,
    pub version: String,
    /// Empty: the database does not say.
    pub architecture: String,
    /// What it was built from, which advisories name.
    pub source: SourcePackage,
    /// Where its versions mean the same.
    pub ecosystem: Ecosystem,
    /// Whether it only holds others together, and no advisory is about it.
    pub is_virtual: bool,
}

/// What a package was built from.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct SourcePackage {
    pub name: String,
    pub version: String,
}

/// What a database says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PackageList {
    /// By name and architecture.
    pub packages: Vec<InstalledPackage>,
    /// Whether there were more than are read, or parts that could not be.
    pub is_cut: bool,
}

/// The largest database that is read, in bytes, and the most packages of it.
pub const LARGEST: usize = 64 * 1024 * 1024;
const MOST: usize = 1_000_000;
/// The longest name, version or other value that is kept, in bytes.
const LONGEST: usize = 1024;

/// The stanzas of a database of text: fields by their names, in the order in which they stand. Continued lines belong to
/// nobody who asks here, and are passed over.
fn stanzas(text: &[u8]) -> impl Iterator<Item = Vec<(&str, &str)>> {
    let mut lines = text.split(|byte| *byte == b'\n').peekable();
    std::iter::from_fn(move || {
        let mut fields = Vec::new();
        loop {
            let Some(line) = lines.next() else {
                return (!fields.is_empty()).then(|| std::mem::take(&mut fields));
            };
            // What is no text is no field that is asked for.
            let Ok(line) = std::str::from_utf8(line) else { continue };
            let line = line.strip_suffix('\r').unwrap_or(line);
            if line.trim().is_empty() {
                if fields.is_empty() {
                    continue;
                }
                return Some(std::mem::take(&mut fields));
            }
            if line.starts_with([' ', '\t']) {
                continue;
            }
            if let Some((name, value)) = line.split_once(':')
                && value.len() <= LONGEST
                && fields.len() < 1000
            {
                fields.push((name, value.trim()));
            }
        }
    })
}

/// The packages of a database of text, of which each stanza may name one; of two of one name and architecture the last
/// stays.
fn packages_of(
    text: &[u8],
    package: impl Fn(&[(&str, &str)]) -> Option<InstalledPackage>,
) -> PackageList {
    let read = &text[..text.len().min(LARGEST)];
    let mut found = stanzas(read).filter_map(|stanza| package(&stanza));
    let mut packages: Vec<InstalledPackage> = found.by_ref().take(MOST).collect();
    let is_cut = text.len() > LARGEST || found.next().is_some();
    packages.reverse();
    packages.sort_by(|a, b| (&a.name, &a.architecture).cmp(&(&b.name, &b.architecture)));
    packages.dedup_by(|b, a| (&a.name, &a.architecture) == (&b.name, &b.architecture));
    PackageList { packages, is_cut }
}
