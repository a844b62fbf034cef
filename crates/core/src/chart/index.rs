//! The index of a plain chart repository: `index.yaml`.

use std::collections::BTreeMap;

use larder_yaml::{Tree, parse};

use super::tag_of;
use crate::digest::Digest;
use crate::name::{RepositoryName, Tag};
use crate::shown::cut;

/// The largest index that is read, in bytes.
pub const INDEX_LIMIT: usize = 64 * 1024 * 1024;
/// Versions that one index may have.
const MOST: usize = 500_000;

/// What a chart repository offers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ChartIndex {
    charts: BTreeMap<RepositoryName, BTreeMap<Tag, ChartVersion>>,
}

/// One version of a chart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChartVersion {
    /// As it is written.
    pub version: String,
    /// What its archive has to be.
    pub digest: SaidDigest,
    /// Where the archive lies, from the index on.
    pub urls: Vec<String>,
}

/// What an index says of an archive's digest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SaidDigest {
    /// Nothing.
    Nothing,
    Is(Digest),
    /// Something that is no digest (SHA-256, hexadecimal): nothing can be it.
    Odd(String),
}

/// Why an index cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum IndexError {
    #[error("it is longer than {INDEX_LIMIT} bytes")]
    Long,
    #[error("it is no YAML: {0}")]
    Syntax(String),
    #[error("it has no `entries`: it is no index of charts")]
    Shape,
    #[error("it has more than {MOST} versions")]
    Many,
}

impl ChartIndex {
    /// Reads one. What no reference can name, and what says not where it lies, is left out.
    ///
    /// # Errors
    /// It is no index, or too large.
    pub fn read(text: &str) -> Result<Self, IndexError> {
        if text.len() > INDEX_LIMIT {
            return Err(IndexError::Long);
        }
        let tree = parse(text.trim_start_matches('\u{feff}'))
            .map_err(|error| IndexError::Syntax(error.to_string()))?;
        let top = tree.documents.first().ok_or(IndexError::Shape)?;
        let entries = tree.get(*top, "entries").ok_or(IndexError::Shape)?;
        let (mut index, mut left) = (Self::default(), MOST);
        for (name, versions) in tree.entries(entries) {
            let name = &tree.nodes[tree.resolve(name)].value;
            let Ok(name) = name.parse::<RepositoryName>() else { continue };
            for version in tree.items(versions).into_iter().flatten() {
                left = left.checked_sub(1).ok_or(IndexError::Many)?;
                if let Some((tag, version)) = read_version(&tree, version) {
                    // The first counts, as the newest stands first.
                    index.charts.entry(name.clone()).or_default().entry(tag).or_insert(version);
                }
            }
        }
        Ok(index)
    }

    /// The names of its charts.
    pub fn names(&self) -> impl Iterator<Item = &RepositoryName> {
        self.charts.keys()
    }

    /// The versions of a chart, by their tags. None: it has no such chart.
    pub fn versions(&self, name: &RepositoryName) -> Option<&BTreeMap<Tag, ChartVersion>> {
        self.charts.get(name)
    }
}

fn read_version(tree: &Tree<'_>, id: larder_yaml::NodeId) -> Option<(Tag, ChartVersion)> {
    /// Addresses of one archive that are kept.
    const URLS: usize = 4;
    let version = tree.text_of(id, "version")?.to_owned();
    let digest = match tree.text_of(id, "digest").map(str::trim).filter(|text| !text.is_empty()) {
        None => SaidDigest::Nothing,
        Some(text) => {
            let hex = text.strip_prefix("sha256:").unwrap_or(text).to_ascii_lowercase();
            let digest = format!("sha256:{hex}").parse();
            digest.map_or_else(|_| SaidDigest::Odd(cut(text, 100)), SaidDigest::Is)
        }
    };
    let urls = tree.get(id, "urls").and_then(|urls| tree.items(urls)).into_iter().flatten();
    let urls = urls.map(|url| tree.nodes[tree.resolve(url)].value.to_string());
    let urls: Vec<String> = urls.filter(|url| !url.is_empty()).take(URLS).collect();
    let tag = tag_of(&version).filter(|_| !urls.is_empty())?;
    Some((tag, ChartVersion { version, digest, urls }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_index_says_which_versions_there_are_and_where() {
        let digest = "ab".repeat(32);
        let text = format!(
            "apiVersion: v1\nentries:\n  boiler:\n  - version: 1.2.0+hot\n    digest: {digest}\n    urls: [boiler-1.2.0.tgz]\n  \
             - version: 1.1.0\n    digest: soon\n    urls:\n    - https://files.ventworks.example/boiler-1.1.0.tgz\n  \
             - version: 1.1.0\n    urls: [second.tgz]\n  - version: nowhere\n  - {{}}\n  \
             Not/A/Name!:\n  - version: 1.0.0\n    urls: [x]\n"
        );
        let index = ChartIndex::read(&text).unwrap();
        let name: RepositoryName = "boiler".parse().unwrap();
        assert_eq!(index.names().collect::<Vec<_>>(), [&name]);
        let versions = index.versions(&name).unwrap();
        let tags: Vec<&str> = versions.keys().map(Tag::as_str).collect();
        assert_eq!(tags, ["1.1.0", "1.2.0_hot"]);
        let hot = &versions[&"1.2.0_hot".parse::<Tag>().unwrap()];
        assert_eq!(hot.digest, SaidDigest::Is(format!("sha256:{digest}").parse().unwrap()));
        assert_eq!((hot.version.as_str(), hot.urls.len()), ("1.2.0+hot", 1));
        let old = &versions[&"1.1.0".parse::<Tag>().unwrap()];
        assert_eq!(old.digest, SaidDigest::Odd("soon".into()));
        assert_eq!(old.urls, ["https://files.ventworks.example/boiler-1.1.0.tgz"]);
    }

    #[test]
    fn what_is_no_index_is_told() {
        for (text, why) in [("", "no `entries`"), ("<html>", "no `entries`"), ("a: [", "no YAML")] {
            let error = ChartIndex::read(text).unwrap_err().to_string();
            assert!(error.contains(why), "{text}: {error}");
        }
    }
}
