//! Who uses what, as far as the records tell.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use larder_core::access::{Action, Who};
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::retention::{ClusterUse, Sighting};
use larder_store::{Pulled, SeenBy, SeenWorkload, Store};

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
    pub by: Option<Arc<str>>,
    /// `Deployment/turbine`. None: that is not known.
    pub workload: Option<Arc<str>>,
    /// How it is known: `pulled`, `admitted at its door`, `surveyed`.
    pub how: &'static str,
    pub named: Named,
    /// Since when and when last, in milliseconds since 1970. None: since before that was counted.
    pub first: Option<i64>,
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

/// What was used: a content, or whatever a tag points to.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Named {
    Content(Digest),
    Tag(Tag),
}

/// What is known of who uses what.
pub struct KnownUse {
    /// By repository. Empty where only what clusters use was asked for.
    pub all: HashMap<RepositoryName, Vec<Use>>,
    pub clusters: ClusterUse,
}

/// What is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UseWish<'w> {
    /// What clusters use, and nothing of accounts and workloads.
    Clusters,
    /// All of it.
    Everything,
    /// What is of one repository.
    Of(&'w RepositoryName),
}

/// What is gathered while the records are read.
struct Gathering {
    known: KnownUse,
    names: HashSet<Arc<str>>,
    all: bool,
}

impl Gathering {
    /// A name that is kept once, however often it is met.
    fn name(&mut self, text: &str) -> Arc<str> {
        if let Some(known) = self.names.get(text) {
            return Arc::clone(known);
        }
        let name: Arc<str> = text.into();
        self.names.insert(Arc::clone(&name));
        name
    }

    fn pulled(&mut self, pulled: &Pulled, is_cluster: &HashSet<String>) {
        let (Ok(repository), Ok(digest)) =
            (pulled.repository.parse::<RepositoryName>(), pulled.digest.parse::<Digest>())
        else {
            return;
        };
        let by = Some(pulled.by.as_str()).filter(|by| !matches!(*by, "" | "-"));
        let seen = match by.map(|by| by.split('/').next().unwrap_or(by)) {
            // It may be a node of any cluster.
            None => Some(STRANGER),
            Some(name) => Some(name).filter(|name| is_cluster.contains(*name)),
        };
        if let Some(cluster) = seen {
            let cluster = self.name(cluster);
            let sighting = Sighting { cluster, at: pulled.last, how: "pulled" };
            self.known.clusters.saw(&repository, &digest, sighting);
        }
        if self.all {
            let by = by.map(|by| self.name(by));
            let named = Named::Content(digest);
            let used = Use {
                by,
                workload: None,
                how: "pulled",
                named,
                first: Some(pulled.first),
                last: pulled.last,
            };
            self.known.all.entry(repository).or_default().push(used);
        }
    }

    fn seen(&mut self, one: &SeenWorkload) {
        let how = match one.how {
            SeenBy::Door => "admitted at its door",
            SeenBy::Survey => "surveyed",
        };
        self.known.clusters.learned(&one.cluster, one.last);
        let Ok(repository) = one.repository.parse::<RepositoryName>() else { return };
        let digest = one.digest.parse::<Digest>().ok();
        let tag = one.selector.parse::<Tag>().ok();
        let by = match one.namespace.as_str() {
            "" => one.cluster.clone(),
            namespace => format!("{}/{namespace}", one.cluster),
        };
        let cluster = self.name(&one.cluster);
        let sighting = Sighting { cluster, at: one.last, how };
        // What a tag pointed to then may run, and what it points to now will at the next start.
        for named in digest.map(Named::Content).into_iter().chain(tag.map(Named::Tag)) {
            match &named {
                Named::Content(digest) => {
                    self.known.clusters.saw(&repository, digest, sighting.clone());
                }
                Named::Tag(tag) => {
                    self.known.clusters.saw_tag(&repository, tag, sighting.clone());
                }
            }
            if self.all {
                let workload = Some(one.workload.as_str()).filter(|workload| !workload.is_empty());
                let (by, workload) = (Some(self.name(&by)), workload.map(|text| self.name(text)));
                let used = Use { by, workload, how, named, first: one.first, last: one.last };
                self.known.all.entry(repository.clone()).or_default().push(used);
            }
        }
    }
}

impl KnownUse {
    /// Reads what was recorded within a time. None: whatever is in the record.
    pub async fn read(
        config: &Config,
        store: &Store,
        within: Option<Span>,
        wish: UseWish<'_>,
    ) -> Result<Self, Failure> {
        let span = within.map(|span| i64::try_from(span.0.as_millis()).unwrap_or(i64::MAX));
        let since = span.map_or(i64::MIN, |span| now().saturating_sub(span));
        let clusters: HashSet<String> =
            config.clusters.iter().map(|cluster| cluster.name.get_ref().clone()).collect();
        let known =
            Self { all: HashMap::new(), clusters: ClusterUse::of(clusters.iter().cloned()) };
        let all = wish != UseWish::Clusters;
        let mut gathering = Gathering { known, names: HashSet::new(), all };
        let one = match wish {
            UseWish::Of(repository) => Some(repository.clone()),
            UseWish::Clusters | UseWish::Everything => None,
        };
        if one.is_some() {
            // What is not of this repository still tells when each cluster was heard of.
            for (who, last) in
                store.pullers_since(since).await.map_err(|error| unreadable(&error))?
            {
                let cluster = who.split('/').next().unwrap_or_default();
                gathering.known.clusters.learned(cluster, last);
            }
        }
        let fold =
            move |gathering: &mut Gathering, pulled: Pulled| gathering.pulled(&pulled, &clusters);
        let gathering = store.fold_pulled(since, one.clone(), gathering, fold).await;
        let gathering = gathering.map_err(|error| unreadable(&error))?;
        let fold = |gathering: &mut Gathering, seen: SeenWorkload| gathering.seen(&seen);
        let gathering = store.fold_sightings(since, one, gathering, fold).await;
        Ok(gathering.map_err(|error| unreadable(&error))?.known)
    }
}

/// The uses of a repository, found by what was used.
pub struct UsesBy<'u> {
    contents: HashMap<&'u Digest, Vec<&'u Use>>,
    tags: HashMap<&'u Tag, Vec<&'u Use>>,
}

/// Who uses an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User<'u> {
    /// None: nobody signed in.
    pub who: Option<&'u str>,
    /// None: that is not known.
    pub workload: Option<&'u str>,
    /// How it is known, as in [`Use`].
    pub how: &'static str,
    /// Since when, in milliseconds since 1970. None: since before that was counted.
    pub first: Option<i64>,
    pub last: i64,
}

impl<'u> UsesBy<'u> {
    pub fn of(uses: &'u [Use]) -> Self {
        let mut by = Self { contents: HashMap::new(), tags: HashMap::new() };
        for one in uses {
            match &one.named {
                Named::Content(digest) => by.contents.entry(digest).or_default().push(one),
                Named::Tag(tag) => by.tags.entry(tag).or_default().push(one),
            }
        }
        by
    }

    /// What was used by its digest.
    pub fn contents(&self) -> impl Iterator<Item = &'u Digest> {
        self.contents.keys().copied()
    }

    /// Who used an image, by one of its contents or by its tag; the last first.
    pub fn users<'d>(
        &self,
        contents: impl IntoIterator<Item = &'d Digest>,
        tag: Option<&Tag>,
    ) -> Vec<User<'u>> {
        let by_content =
            contents.into_iter().filter_map(|digest| self.contents.get(digest)).flatten();
        let by_tag = tag.and_then(|tag| self.tags.get(tag)).into_iter().flatten();
        let mut all: BTreeMap<_, User<'u>> = BTreeMap::new();
        for one in by_content.chain(by_tag) {
            let (who, workload, how) = (one.by.as_deref(), one.workload.as_deref(), one.how);
            let (first, last) = (one.first, one.last);
            let new = || User { who, workload, how, first, last };
            let user = all.entry((who, workload, how)).or_insert_with(new);
            user.last = user.last.max(last);
            // What began before it was counted began then.
            user.first = user.first.zip(first).map(|(one, other)| one.min(other));
        }
        let mut by: Vec<User<'u>> = all.into_values().collect();
        by.sort_by_key(|user| (std::cmp::Reverse(user.last), user.who, user.workload, user.how));
        by
    }
}

/// Whether a cluster, or one of its namespaces, may pull from a repository.
pub fn may_pull(config: &Config, cluster: &str, repository: &RepositoryName) -> bool {
    let everybody = config.grants.everybody();
    let mut of_it = everybody.iter().filter(|who: &&Who| who.cluster_name() == Some(cluster));
    config.is_open() || of_it.any(|who| config.grants.may(who, Action::Pull, repository))
}
