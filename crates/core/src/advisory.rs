//! What was published about packages that are vulnerable, and whether it is about one that we have.
//!
//! Advisories are read from what others publish (OSV, CSAF, OpenVEX) and kept in one form, that of OSV. Everything in them
//! is hostile: sizes are bounded, and what cannot be compared is unknown, which is never "not affected".

mod csaf;
mod document;
mod ecosystem;
mod judge;
mod lines;
mod osv;
mod severity;
mod statement;

pub use csaf::{CsafDocument, read_csaf};
pub use document::{PublishedDocument, read_document};
pub use ecosystem::{Applies, ecosystem_of, release_of};
pub use judge::{PackageVerdict, judge, sorted};
pub use lines::{DocumentLine, DocumentLines};
pub use osv::{
    Advisory, Affected, LARGEST as LARGEST_DOCUMENT, MalformedAdvisory, RangeEvents, read_advisory,
};
pub use severity::{MalformedSeverity, Rating, Severity, score};
pub use statement::{Statement, StatementStatus, read_openvex, that_counts, write_openvex};

use jiff::Timestamp;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer};

use crate::inventory::{ImageInventory, InstalledPackage, normal_name};
use crate::shown::cut;
use crate::version::Ecosystem;

/// What advisories are matched with: one version of a package on one system.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PackageKey {
    pub ecosystem: Ecosystem,
    /// As advisories write it.
    pub name: String,
    /// The system that it belongs to, as OSV names it: `Debian:12`. Empty: it belongs to none, or it is not known.
    pub release: String,
    pub version: String,
}

/// Whether a text can name a feed of advisories: it fits on a line and into a file's name.
pub fn is_feed_name(text: &str) -> bool {
    let fits =
        |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || b"-_.".contains(&byte);
    (1..=64).contains(&text.len()) && text.bytes().all(fits)
}

/// A package's name as it is compared.
pub fn matched_name(ecosystem: Ecosystem, name: &str) -> String {
    match ecosystem {
        Ecosystem::PyPi => normal_name(name),
        _ => name.to_owned(),
    }
}

impl PackageKey {
    /// What a package is matched by. Advisories of most systems name what it was built from; some of those with RPM name
    /// the package itself.
    pub fn all_of(package: &InstalledPackage, release: &str) -> Vec<Self> {
        let is_system =
            matches!(package.ecosystem, Ecosystem::Deb | Ecosystem::Rpm | Ecosystem::Apk);
        let release = if is_system { release } else { "" };
        let key = |name: &str, version: &str| Self {
            ecosystem: package.ecosystem,
            name: matched_name(package.ecosystem, name),
            release: release.to_owned(),
            version: version.to_owned(),
        };
        let mut keys = vec![key(package.source_name(), package.source_version())];
        if package.ecosystem == Ecosystem::Rpm && package.source_name() != package.name {
            keys.push(key(&package.name, &package.version));
        }
        keys
    }
}

/// The packages of an image that advisories are matched with, each with the number of its place in the inventory. What is
/// gone, guessed, or part of a system's package is not among them.
pub fn matched(inventory: &ImageInventory) -> Vec<(PackageKey, usize)> {
    let release = inventory.release.as_ref().and_then(release_of).unwrap_or_default();
    let there = inventory.packages.iter().enumerate().filter(|(_, one)| one.can_be_matched());
    there
        .flat_map(|(place, one)| {
            PackageKey::all_of(&one.package, &release).into_iter().map(move |key| (key, place))
        })
        .collect()
}
/// Reads a time (RFC 3339).
fn moment<'de, D: Deserializer<'de>>(from: D) -> Result<Timestamp, D::Error> {
    optional_moment(from)?.ok_or_else(|| D::Error::custom("it does not say when"))
}

/// Reads a time that may be left out, or be null.
fn optional_moment<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Timestamp>, D::Error> {
    let text: Option<String> = Option::deserialize(from)?;
    let read = text.map(|text| {
        let refused = |_| format!("`{}` is no time as RFC 3339 has it", cut(&text, 60));
        text.parse().map_err(refused)
    });
    read.transpose().map_err(D::Error::custom)
}
