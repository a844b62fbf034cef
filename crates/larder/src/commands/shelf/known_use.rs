//! Who uses what, as far as the records tell.

use std::collections::{BTreeMap, HashMap};

use larder_core::access::{Action, Who};
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::retention::{ClusterUse, Sighting};
use larder_store::{SeenBy, Store};

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
    /// `Deployment/turbine`. None: that is not known.
    pub workload: Option<String>,
    /// How it is known: `pulled`, `admitted at its door`, `surveyed`.
    pub how: &'static str,
    pub named: Named,
    /// In milliseconds since 1970.
    pub last: i64,
}

impl Named {
    /// The image, by its name in a repository.
    pub fn image(&self, repository: &RepositoryName) -> String {
        match self {
            Self::Content(digest) => format!("{repository}@{digest}"),
            Self::Tag(tag) => format!("{repository}:{tag}"),
        }
    }
}

impl Use {
    fn is_of(&self, contents: &[&Digest], tag: Option<&Tag>) -> bool {
        match &self.named {
            Named::Content(digest) => contents.contains(&digest),
            Named::Tag(named) => tag == Some(named),
        }
    }
}

/// What was used: a content, or whatever a tag points to.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Named {
    Content(Digest),
    Tag(Tag),
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
            let named = Named::Content(digest);
            let used = Use { by, workload: None, how: "pulled", named, last: pulled.last };
            known.all.entry(repository).or_default().push(used);
        }
        known.add_sightings(store, since).await?;
        Ok(known)
    }

    /// Adds what was seen at the clusters' doors and in surveys of them.
    async fn add_sightings(&mut self, store: &Store, since: i64) -> Result<(), Failure> {
        let seen = store.sightings(since).await.map_err(|error| unreadable(&error))?;
        for one in seen {
            let how = match one.how {
                SeenBy::Door => "admitted at its door",
                SeenBy::Survey => "surveyed",
            };
            self.clusters.learned(&one.cluster, one.last);
            let Ok(repository) = one.repository.parse::<RepositoryName>() else { continue };
            let digest = one.digest.parse::<Digest>().ok();
            let tag = one.selector.parse::<Tag>().ok();
            let by = match one.namespace.as_str() {
                "" => one.cluster.clone(),
                namespace => format!("{}/{namespace}", one.cluster),
            };
            let sighting = Sighting { cluster: one.cluster, at: one.last, how };
            // What a tag pointed to then may run, and what it points to now will at the next start.
            let named =
                digest.clone().map(Named::Content).into_iter().chain(tag.clone().map(Named::Tag));
            for named in named {
                match &named {
                    Named::Content(digest) => {
                        self.clusters.saw(repository.clone(), digest.clone(), sighting.clone());
                    }
                    Named::Tag(tag) => {
                        self.clusters.saw_tag(repository.clone(), tag.clone(), sighting.clone());
                    }
                }
                let workload = Some(one.workload.clone()).filter(|workload| !workload.is_empty());
                let used = Use { by: Some(by.clone()), workload, how, named, last: one.last };
                self.all.entry(repository.clone()).or_default().push(used);
            }
        }
        Ok(())
    }
}

/// Who used an image, by one of its contents or by its tag, each with how it is known and when last; the last first.
pub fn users_of<'u>(
    uses: &'u [Use],
    contents: &[&Digest],
    tag: Option<&Tag>,
) -> Vec<(Option<&'u str>, Option<&'u str>, &'static str, i64)> {
    type User<'u> = (Option<&'u str>, Option<&'u str>, &'static str);
    let mut last: BTreeMap<User<'u>, i64> = BTreeMap::new();
    for one in uses.iter().filter(|one| one.is_of(contents, tag)) {
        let user = (one.by.as_deref(), one.workload.as_deref(), one.how);
        let at = last.entry(user).or_insert(one.last);
        *at = (*at).max(one.last);
    }
    let all = last.into_iter().map(|((who, workload, how), last)| (who, workload, how, last));
    let mut by: Vec<_> = all.collect();
    by.sort_by_key(|(who, workload, how, last)| (std::cmp::Reverse(*last), *who, *workload, *how));
    by
}

/// Whether a cluster, or one of its namespaces, may pull from a repository.
pub fn may_pull(config: &Config, cluster: &str, repository: &RepositoryName) -> bool {
    let everybody = config.grants.everybody();
    let mut of_it = everybody.iter().filter(|who: &&Who| who.cluster_name() == Some(cluster));
    config.is_open() || of_it.any(|who| config.grants.may(who, Action::Pull, repository))
}
