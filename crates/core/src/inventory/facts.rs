//! What is remembered of a layer, so that it is read once for all images that have it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::content::{ContentPrint, path_print};
use super::{InstalledPackage, OsRelease, OwnedFiles};

/// The form in which facts are kept, and what their readers can read. Facts of another form are read anew.
pub const FACTS_FORM: u32 = 1;

/// What a layer does to those below it, and what it brings.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LayerFacts {
    /// How many entries it has.
    pub entries: u64,
    /// How many bytes it has when it is not compressed.
    pub size_bytes: u64,
    /// What it takes away from lower layers, with all that is below.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub whiteouts: Vec<String>,
    /// Directories of which it hides all that lower layers have in them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub opaque: Vec<String>,
    /// Everything in it that is no directory.
    pub names: PathPrints,
    /// The databases of packages in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub databases: Vec<DatabaseFacts>,
    /// Packages that are there because a file of theirs is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<FoundPackage>,
    /// Names of files that were found under another name: a link's own path and where it leads.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<(String, String)>,
    /// Files that packages say are theirs, by the path of the list that says it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owned: Vec<(String, OwnedFiles)>,
    /// What says which system it is, by its path.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub releases: Vec<(String, OsRelease)>,
    /// What was not read. Nothing may be taken to be absent because of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unread: Vec<Unread>,
}

/// The largest facts that are read, in bytes.
const LARGEST: u64 = 256 * 1024 * 1024;

impl LayerFacts {
    /// Written down, compressed.
    pub fn pack(&self) -> Vec<u8> {
        use std::io::Write as _;
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        // Neither can fail: it is written to memory, and its keys are texts.
        let written = serde_json::to_vec(self).is_ok_and(|json| packed.write_all(&json).is_ok());
        packed.finish().ok().filter(|_| written).unwrap_or_default()
    }

    /// Reads what was written down. None: it cannot be read, so that the layer is to be read again.
    pub fn unpack(packed: &[u8]) -> Option<Self> {
        use std::io::Read as _;
        let mut json = Vec::new();
        flate2::read::GzDecoder::new(packed).take(LARGEST).read_to_end(&mut json).ok()?;
        serde_json::from_slice(&json).ok()
    }
}

/// A database of packages, which each layer that changes it has whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DatabaseFacts {
    pub path: String,
    pub packages: Vec<InstalledPackage>,
}

/// A package that a file says is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundPackage {
    pub path: String,
    pub package: InstalledPackage,
    /// Which package carries it inside of itself. None: it stands for itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inside: Option<String>,
    /// None: it is part of a program, of which only the path is asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<ContentPrint>,
}

/// Something that was not read, and why.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Unread {
    /// Empty: the layer itself.
    pub path: String,
    pub why: String,
}

/// A set of paths, of which one can only ask whether it has one: the first eight bytes of each path's SHA-256.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PathPrints(Vec<u64>);

impl PathPrints {
    /// Of paths as they are written in an archive, without anything before or behind.
    pub fn new(mut prints: Vec<u64>) -> Self {
        prints.sort_unstable();
        prints.dedup();
        Self(prints)
    }

    /// Whether it has a path.
    pub fn has(&self, path: &str) -> bool {
        self.0.binary_search(&path_print(path.as_bytes())).is_ok()
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl Serialize for PathPrints {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let bytes: Vec<u8> = self.0.iter().flat_map(|print| print.to_be_bytes()).collect();
        to.serialize_str(&STANDARD_NO_PAD.encode(bytes))
    }
}

impl<'de> Deserialize<'de> for PathPrints {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        let bytes = STANDARD_NO_PAD.decode(text).map_err(serde::de::Error::custom)?;
        let prints = bytes.chunks_exact(8).map(super::content::beginning).collect();
        Ok(Self::new(prints))
    }
}

/// A path and all directories that it lies in, the longest first.
pub(super) fn with_parents(path: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(path), |path| path.rsplit_once('/').map(|(above, _)| above))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_of_paths_can_be_kept() {
        let prints =
            PathPrints::new(["a/b", "c", "a/b"].map(|p| path_print(p.as_bytes())).to_vec());
        assert_eq!(prints.len(), 2);
        assert!(prints.has("a/b") && prints.has("c") && !prints.has("a"));
        let text = serde_json::to_string(&prints).unwrap();
        assert_eq!(serde_json::from_str::<PathPrints>(&text).unwrap(), prints);
        assert!(serde_json::from_str::<PathPrints>("\"*\"").is_err());
        let all: Vec<&str> = with_parents("a/b/c").collect();
        assert_eq!(all, ["a/b/c", "a/b", "a"]);
    }
}
