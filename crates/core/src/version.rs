//! The order of versions, as each ecosystem's own tool has it.
//!
//! Numbers are compared as digits, however many there are. What an ecosystem does not take for a version is unreadable
//! here: nothing can be said of it, and it is never taken for the lowest or the highest.

mod apk;
mod deb;
mod maven;
mod pypi;
mod rpm;
mod rubygems;
mod semantic;

use std::cmp::Ordering;
use std::fmt;

/// Where versions mean the same.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum Ecosystem {
    /// Packages of Debian and its kin (Debian Policy, section 5.6.12).
    Deb,
    /// Packages of RPM: `[epoch:]version[-release]`.
    Rpm,
    /// Packages of Alpine.
    Apk,
    /// Packages of npm (Semantic Versioning 2.0.0).
    Npm,
    /// Modules of Go, with or without the `v`.
    Go,
    /// Crates of Rust (Semantic Versioning 2.0.0).
    Cargo,
    /// Packages of Python (Python Packaging, "Version specifiers", first PEP 440).
    PyPi,
    /// Artifacts of Maven.
    Maven,
    /// Gems of Ruby.
    RubyGems,
}

impl Ecosystem {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Deb,
        Self::Rpm,
        Self::Apk,
        Self::Npm,
        Self::Go,
        Self::Cargo,
        Self::PyPi,
        Self::Maven,
        Self::RubyGems,
    ];
}

/// A version, to be compared with others of its ecosystem.
#[derive(Debug, Clone)]
pub struct Version {
    text: String,
    order: VersionOrder,
}

#[derive(Debug, Clone)]
enum VersionOrder {
    Deb(deb::DebVersion),
    Rpm(rpm::RpmVersion),
    Apk(apk::ApkVersion),
    Semantic(semantic::SemanticVersion),
    PyPi(pypi::PyPiVersion),
    Maven(maven::MavenVersion),
    RubyGems(rubygems::GemVersion),
}

/// The longest version that is read, in bytes.
const LONGEST: usize = 256;

/// Why a text is no version of its ecosystem.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum UnreadableVersion {
    /// It is longer than any version that is read.
    #[error("a version of more than {LONGEST} bytes is not read")]
    Long,
    /// The ecosystem does not take it for one.
    #[error("it is no version as {0} has them")]
    Form(Ecosystem),
}

impl fmt::Display for Ecosystem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Deb => "deb",
            Self::Rpm => "rpm",
            Self::Apk => "apk",
            Self::Npm => "npm",
            Self::Go => "Go",
            Self::Cargo => "cargo",
            Self::PyPi => "Python",
            Self::Maven => "Maven",
            Self::RubyGems => "RubyGems",
        })
    }
}

impl Version {
    /// Reads a version as its ecosystem does.
    pub fn read(ecosystem: Ecosystem, text: &str) -> Result<Self, UnreadableVersion> {
        if text.len() > LONGEST {
            return Err(UnreadableVersion::Long);
        }
        let order = match ecosystem {
            Ecosystem::Deb => deb::DebVersion::read(text).map(VersionOrder::Deb),
            Ecosystem::Rpm => rpm::RpmVersion::read(text).map(VersionOrder::Rpm),
            Ecosystem::Apk => apk::ApkVersion::read(text).map(VersionOrder::Apk),
            Ecosystem::Npm => semantic::npm(text).map(VersionOrder::Semantic),
            Ecosystem::Go => semantic::go(text).map(VersionOrder::Semantic),
            Ecosystem::Cargo => semantic::strict(text).map(VersionOrder::Semantic),
            Ecosystem::PyPi => pypi::PyPiVersion::read(text).map(VersionOrder::PyPi),
            Ecosystem::Maven => Some(VersionOrder::Maven(maven::MavenVersion::read(text))),
            Ecosystem::RubyGems => rubygems::GemVersion::read(text).map(VersionOrder::RubyGems),
        };
        let order = order.ok_or(UnreadableVersion::Form(ecosystem))?;
        Ok(Self { text: text.to_owned(), order })
    }

    /// As it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Which of two comes first. Maven's own order, which this is, is not one for all texts: `0 < a < 0-alpha < 0`; so
    /// nothing may be sorted by it that must not fail. None: they are of ecosystems whose versions cannot be compared.
    pub fn compare(&self, other: &Self) -> Option<Ordering> {
        Some(match (&self.order, &other.order) {
            (VersionOrder::Deb(a), VersionOrder::Deb(b)) => a.compare(b),
            (VersionOrder::Rpm(a), VersionOrder::Rpm(b)) => a.compare(b),
            (VersionOrder::Apk(a), VersionOrder::Apk(b)) => a.compare(b),
            (VersionOrder::Semantic(a), VersionOrder::Semantic(b)) => a.compare(b),
            (VersionOrder::PyPi(a), VersionOrder::PyPi(b)) => a.compare(b),
            (VersionOrder::Maven(a), VersionOrder::Maven(b)) => a.compare(b),
            (VersionOrder::RubyGems(a), VersionOrder::RubyGems(b)) => a.compare(b),
            _ => return None,
        })
    }
}

/// Compares two runs of digits by what they count. An empty one counts nothing.
fn numbers(a: &str, b: &str) -> Ordering {
    let (a, b) = (a.trim_start_matches('0'), b.trim_start_matches('0'));
    a.len().cmp(&b.len()).then_with(|| a.cmp(b))
}

/// The digits at a text's beginning, and the rest.
fn digits(text: &str) -> (&str, &str) {
    let end = text.bytes().take_while(u8::is_ascii_digit).count();
    text.split_at(end)
}

fn is_number(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit())
}
