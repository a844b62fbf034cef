//! Who uses what, as far as the records tell.

use std::collections::{BTreeMap, HashMap};

use larder_core::access::{Action, Who};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::quantity::Span;
use larder_core::retention::{ClusterUse, Sighting};
use larder_store::Store;

use super::unreadable;
use crate::config::Config;
use crate::context::now;
use crate::failure::Failure;

/// Who did not sign in.
pub const STRANGER: &str = "somebody who did not sign in";

/// That somebody used a content.
#[derive(Debug, Clone)]
pub struct Use {
    /// The cluster with its namespace, or the account. None: nobody signed in.
    pub by: Option<String>,
    pub digest: Digest,
    /// In milliseconds since 1970.
    pub last: i64,
}

/// What is known of who uses what.
pub struct KnownUse {
    /// By repository.
    pub all: HashMap<RepositoryName, Vec<Use>>,
    pub clusters: ClusterUse,
}

impl KnownUse {
    /// Reads what was recorded within a time. None: whatever is in the record.
    pub async fn read(
        config: &Config,
        store: &Store,
        within: Option<Span>,
    ) -> Result<Self, Failure> {
        let span = within.map(|span| i64::try_from(span.0.as_millis()).unwrap_or(i64::MAX));
        let since = span.map_or(i64::MIN, |span| now().saturating_sub(span));
        let is_cluster = |by: &str| config.clusters.iter().any(|one| one.name.get_ref() == by);
        let names = config.clusters.iter().map(|cluster| cluster.name.get_ref().clone());
        let mut known = Self { all: HashMap::new(), clusters: ClusterUse::of(names) };
        let pulled = store.pulled_since(since).await;
        for pulled in pulled.map_err(|error| unreadable(&error))? {
            let (Ok(repository), Ok(digest)) =
                (pulled.repository.parse::<RepositoryName>(), pulled.digest.parse::<Digest>())
            else {
                continue;
            };
            let by = Some(pulled.by).filter(|by| !matches!(by.as_str(), "" | "-"));
            let cluster = by.as_deref().map(|by| by.split('/').next().unwrap_or(by));
            let seen = match cluster {
                // It may be a node of any cluster.
                None => Some(STRANGER),
                Some(name) => Some(name).filter(|name| is_cluster(name)),
            };
            if let Some(cluster) = seen {
                let sighting =
                    Sighting { cluster: cluster.to_owned(), at: pulled.last, how: "pulled" };
                known.clusters.saw(repository.clone(), digest.clone(), sighting);
            }
            let used = Use { by, digest, last: pulled.last };
            known.all.entry(repository).or_default().push(used);
        }
        Ok(known)
    }
}

/// Who used one of some contents, each with when last; the last first.
pub fn users_of<'u>(uses: &'u [Use], contents: &[&Digest]) -> Vec<(Option<&'u str>, i64)> {
    let mut last: BTreeMap<Option<&str>, i64> = BTreeMap::new();
    for one in uses.iter().filter(|one| contents.contains(&&one.digest)) {
        let at = last.entry(one.by.as_deref()).or_insert(one.last);
        *at = (*at).max(one.last);
    }
    let mut by: Vec<(Option<&str>, i64)> = last.into_iter().collect();
    by.sort_by_key(|(who, last)| (std::cmp::Reverse(*last), *who));
    by
}

/// Whether a cluster, or one of its namespaces, may pull from a repository.
pub fn may_pull(config: &Config, cluster: &str, repository: &RepositoryName) -> bool {
    let everybody = config.grants.everybody();
    let mut of_it = everybody.iter().filter(|who: &&Who| who.cluster_name() == Some(cluster));
    config.is_open() || of_it.any(|who| config.grants.may(who, Action::Pull, repository))
}
