//! What is inside an image: the packages of its operating system and of languages, each with the layer that brought it.
//!
//! A layer is read once, in one stream, into [`LayerFacts`]; the facts of an image's layers together make its
//! [`ImageInventory`]. Everything that is read here is hostile: each reader has a bound, and what was not read is told.

mod apk;
mod archive;
mod compare;
mod compose;
mod content;
mod dpkg;
mod elf;
mod facts;
mod inflate;
mod java;
mod layer;
mod npm;
mod owners;
mod programs;
mod python;
mod release;
mod rpm;
mod ruby;
#[cfg(test)]
mod tests;

pub use apk::apk_packages;
pub use compare::{InventoryChange, PackageChange, compare};
pub use compose::{
    BuildLayer, ImageInventory, ImagePackage, LayerOutcome, PackageOwner, Removal, build_layers,
    compose,
};
pub use content::ContentPrint;
pub use dpkg::{dpkg_package, dpkg_packages};
pub use facts::{DatabaseFacts, FACTS_FORM, FoundPackage, LayerFacts, PathPrints, Unread};
pub use inflate::{Compression, Inflated};
#[cfg(fuzzing)]
pub use java::artifacts as java_artifacts;
pub use layer::{LayerLimits, read_layer};
pub use owners::OwnedFiles;
pub use programs::{GoProgram, ProgramReader};
pub use python::normal_name;
pub use release::{OsRelease, read_release};
pub use rpm::rpm_packages;

use serde::{Deserialize, Serialize};

use crate::purl::PackageUrl;
use crate::version::Ecosystem;

/// A package that a database or a file says is installed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct InstalledPackage {
    #[serde(rename = "k")]
    pub ecosystem: Ecosystem,
    #[serde(rename = "n")]
    pub name: String,
    #[serde(rename = "v")]
    pub version: String,
    /// Empty: it is not said.
    #[serde(rename = "a", default, skip_serializing_if = "String::is_empty")]
    pub architecture: String,
    /// What it was built from, which advisories name. None: what has its own name and version.
    #[serde(rename = "s", default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourcePackage>,
    /// How much is known of it.
    #[serde(rename = "m", default, skip_serializing_if = "PackageStanding::is_plain")]
    pub standing: PackageStanding,
}

/// How much is known of a package.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum PackageStanding {
    /// It is what its name and version say.
    #[default]
    Plain,
    /// It only holds others together, and no advisory is about it.
    Virtual,
    /// Its name or version is guessed, and no advisory is matched with it.
    Guessed,
    /// It is the program itself, of which its own project speaks.
    Main,
}

impl PackageStanding {
    fn is_plain(&self) -> bool {
        *self == Self::Plain
    }

    /// Whether advisories can be matched with it.
    pub fn can_be_matched(self) -> bool {
        matches!(self, Self::Plain | Self::Main)
    }
}

/// What a package was built from.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SourcePackage {
    #[serde(rename = "n")]
    pub name: String,
    #[serde(rename = "v")]
    pub version: String,
}

impl InstalledPackage {
    /// A package of a language, with nothing said but its name and version.
    pub fn of_language(ecosystem: Ecosystem, name: &str, version: &str) -> Self {
        Self {
            ecosystem,
            name: name.to_owned(),
            version: version.to_owned(),
            architecture: String::new(),
            source: None,
            standing: PackageStanding::Plain,
        }
    }

    /// The name that advisories use.
    pub fn source_name(&self) -> &str {
        self.source.as_ref().map_or(&self.name, |source| &source.name)
    }

    /// The version that advisories speak of.
    pub fn source_version(&self) -> &str {
        self.source.as_ref().map_or(&self.version, |source| &source.version)
    }

    /// Its package URL. `release` is the system that it belongs to, where it belongs to one.
    pub fn url(&self, release: Option<&OsRelease>) -> PackageUrl {
        let mut url = PackageUrl {
            kind: purl_kind(self.ecosystem).to_owned(),
            namespace: Vec::new(),
            name: self.name.clone(),
            version: Some(self.version.clone()).filter(|version| !version.is_empty()),
            qualifiers: std::collections::BTreeMap::new(),
            subpath: Vec::new(),
        };
        match self.ecosystem {
            Ecosystem::Deb | Ecosystem::Apk | Ecosystem::Rpm => {
                if let Some(release) = release {
                    url.namespace = vec![release.id.clone()];
                    if let Some(version) = &release.version_id {
                        let distro = format!("{}-{version}", release.id);
                        url.qualifiers.insert("distro".to_owned(), distro);
                    }
                }
                if !self.architecture.is_empty() {
                    url.qualifiers.insert("arch".to_owned(), self.architecture.clone());
                }
                // The epoch of an RPM stands beside its version.
                if self.ecosystem == Ecosystem::Rpm
                    && let Some((epoch, version)) = self.version.split_once(':')
                {
                    url.qualifiers.insert("epoch".to_owned(), epoch.to_owned());
                    url.version = Some(version.to_owned());
                }
            }
            Ecosystem::Maven => {
                if let Some((group, artifact)) = self.name.split_once(':') {
                    url.namespace = vec![group.to_owned()];
                    artifact.clone_into(&mut url.name);
                }
            }
            Ecosystem::Npm | Ecosystem::Go => {
                if let Some((before, last)) = self.name.rsplit_once('/') {
                    url.namespace = before.split('/').map(str::to_owned).collect();
                    last.clone_into(&mut url.name);
                }
            }
            Ecosystem::Cargo | Ecosystem::PyPi | Ecosystem::RubyGems => {}
        }
        url
    }
}

/// What an ecosystem is called in package URLs.
pub fn purl_kind(ecosystem: Ecosystem) -> &'static str {
    match ecosystem {
        Ecosystem::Deb => "deb",
        Ecosystem::Rpm => "rpm",
        Ecosystem::Apk => "apk",
        Ecosystem::Npm => "npm",
        Ecosystem::Go => "golang",
        Ecosystem::Cargo => "cargo",
        Ecosystem::PyPi => "pypi",
        Ecosystem::Maven => "maven",
        Ecosystem::RubyGems => "gem",
    }
}

/// What a database says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PackageList {
    /// By name and architecture.
    pub packages: Vec<InstalledPackage>,
    /// The files that they own, of those that other readers would take for packages.
    pub owned: OwnedFiles,
    /// What was left out, in words. None: all was read.
    pub left_out: Option<String>,
}

/// The largest database of text that is read, in bytes, and the most packages of one.
pub const LARGEST: usize = 64 * 1024 * 1024;
const MOST: usize = 1_000_000;
/// The longest name, version or other value that is kept, in bytes.
const LONGEST: usize = 1024;

/// A name or version as it may be kept. None: it is empty, too long, or no text that stands on a line.
fn kept(text: &str) -> Option<&str> {
    let text = text.trim();
    let fits = !text.is_empty() && text.len() <= LONGEST;
    (fits && !text.chars().any(char::is_control)).then_some(text)
}

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
                && fields.len() < 1_000_000
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
    mut package: impl FnMut(&[(&str, &str)]) -> Option<InstalledPackage>,
) -> PackageList {
    let read = &text[..text.len().min(LARGEST)];
    let mut found = stanzas(read).filter_map(|stanza| package(&stanza));
    let mut packages: Vec<InstalledPackage> = found.by_ref().take(MOST).collect();
    let left_out = match (text.len() > LARGEST, found.next().is_some()) {
        (true, _) => Some(format!("only its first {} MiB were read", LARGEST / 1024 / 1024)),
        (_, true) => Some(format!("only its first {MOST} packages were read")),
        _ => None,
    };
    drop(found);
    packages.reverse();
    packages.sort_by(|a, b| (&a.name, &a.architecture).cmp(&(&b.name, &b.architecture)));
    packages.dedup_by(|b, a| (&a.name, &a.architecture) == (&b.name, &b.architecture));
    PackageList { packages, left_out, ..PackageList::default() }
}
