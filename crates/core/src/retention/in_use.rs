//! Is an image in use? What locks and surveys name, and what clusters run as far as that is known.

use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::sync::Arc;

use crate::digest::{Algorithm, Digest, Hasher};
use crate::name::{RepositoryName, Tag};
use crate::quantity::Span;

/// What protects an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InUse {
    /// The lock has it.
    Locked,
    /// A survey names it; the file.
    Survey(String),
    /// A cluster was seen to use it.
    Cluster(Sighting),
    /// A cluster may pull it, and what that cluster runs is not known.
    Unknown(KnownAt),
}

/// When a cluster was seen to use an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sighting {
    pub cluster: Arc<str>,
    /// In milliseconds since 1970.
    pub at: i64,
    /// How it is known: `pulled`, `admitted at its door`, `surveyed`.
    pub how: &'static str,
}

/// What is known of a cluster, and since when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownAt {
    pub cluster: String,
    /// When anything was last learned of what it runs, in milliseconds since 1970. None: never.
    pub at: Option<i64>,
}

impl fmt::Display for InUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Locked => f.write_str("larder.lock has it"),
            Self::Survey(file) => write!(f, "{file} names it"),
            Self::Cluster(Sighting { cluster, how, .. }) => write!(f, "{how} by {cluster}"),
            Self::Unknown(KnownAt { cluster, at }) => match at {
                None => write!(f, "{cluster} may pull it, and nothing tells what it runs"),
                Some(_) => {
                    write!(f, "{cluster} may pull it, and what it runs was learned too long ago")
                }
            },
        }
    }
}

/// A name in a repository, in few bytes: there may be hundreds of thousands. Two that were the same by chance would keep an
/// image too many.
type Key = [u8; 16];

fn key(repository: &RepositoryName, name: &str) -> Key {
    let mut hasher = Hasher::new(Algorithm::Sha256);
    hasher.update(repository.as_str().as_bytes());
    hasher.update(b"\n");
    hasher.update(name.as_bytes());
    let digest = hasher.finish();
    let mut key = [0; 16];
    for (byte, pair) in key.iter_mut().zip(digest.hex().as_bytes().chunks(2)) {
        let text = std::str::from_utf8(pair).unwrap_or_default();
        *byte = u8::from_str_radix(text, 16).unwrap_or_default();
    }
    key
}

/// What the clusters use, as far as it is known.
#[derive(Debug, Default)]
pub struct ClusterUse {
    /// The last sighting of each content in a repository, by any cluster.
    seen: HashMap<Key, Sighting>,
    /// The last sighting of each tag of a repository, by any cluster that named it so.
    tags: HashMap<Key, Sighting>,
    /// When something was last learned of each cluster.
    known: BTreeMap<String, Option<i64>>,
}

impl ClusterUse {
    /// Knows of clusters of which nothing was learned yet.
    pub fn of(clusters: impl IntoIterator<Item = String>) -> Self {
        let known = clusters.into_iter().map(|name| (name, None)).collect();
        Self { known, ..Self::default() }
    }

    /// A cluster was seen to use a content of a repository.
    pub fn saw(&mut self, repository: &RepositoryName, digest: &Digest, sighting: Sighting) {
        self.learned(&sighting.cluster, sighting.at);
        keep_last(self.seen.entry(key(repository, digest.as_str())), sighting);
    }

    /// A cluster was seen to name a tag of a repository: whatever it points to is used.
    pub fn saw_tag(&mut self, repository: &RepositoryName, tag: &Tag, sighting: Sighting) {
        self.learned(&sighting.cluster, sighting.at);
        keep_last(self.tags.entry(key(repository, tag.as_str())), sighting);
    }

    /// Something was learned of what a cluster runs.
    pub fn learned(&mut self, cluster: &str, at: i64) {
        if let Some(known) = self.known.get_mut(cluster) {
            *known = Some(known.map_or(at, |before| before.max(at)));
        }
    }

    /// The clusters of which nothing is known that is young enough.
    pub fn unknown(&self, now: i64, within: Span) -> Vec<KnownAt> {
        let before = before(now, within);
        let old = self.known.iter().filter(|(_, at)| at.is_none_or(|at| at < before));
        old.map(|(cluster, at)| KnownAt { cluster: cluster.clone(), at: *at }).collect()
    }

    /// Whether a cluster was seen to use one of these contents of a repository within a time. `unknown` are the
    /// clusters of which nothing is known, each with whether it may pull from the repository: what they may pull counts
    /// as in use.
    pub fn of_image<'d>(
        &self,
        repository: &RepositoryName,
        contents: impl IntoIterator<Item = &'d Digest>,
        tag: Option<&Tag>,
        unknown: &[(KnownAt, bool)],
        now: i64,
        within: Span,
    ) -> Option<InUse> {
        let before = before(now, within);
        let by_tag = tag.and_then(|tag| self.tags.get(&key(repository, tag.as_str())));
        let seen = contents
            .into_iter()
            .filter_map(|digest| self.seen.get(&key(repository, digest.as_str())))
            .chain(by_tag)
            .filter(|sighting| sighting.at >= before)
            .max_by_key(|sighting| sighting.at);
        if let Some(sighting) = seen {
            return Some(InUse::Cluster(sighting.clone()));
        }
        let may = unknown.iter().find(|(_, may_pull)| *may_pull);
        may.map(|(known, _)| InUse::Unknown(known.clone()))
    }
}

fn keep_last(entry: std::collections::hash_map::Entry<'_, Key, Sighting>, sighting: Sighting) {
    let kept = entry.or_insert_with(|| sighting.clone());
    if kept.at < sighting.at {
        *kept = sighting;
    }
}

fn before(now: i64, within: Span) -> i64 {
    now.saturating_sub(i64::try_from(within.0.as_millis()).unwrap_or(i64::MAX))
}
