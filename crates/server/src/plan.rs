//! What a configuration makes of a running server: compiled once, comparable, swapped whole.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use larder_core::access::Action;
use larder_core::access::claims::WantedClaims;
use larder_core::access::grants::Grants;
use larder_core::access::identity::ExpectedToken;
use larder_core::access::network::Network;
use larder_core::access::rate::Rate;
use larder_core::digest::Digest;
use larder_core::door::Door;
use larder_core::immutable::ImmutableTags;
use larder_core::lock::Lock;
use larder_core::name::{Host, RepositoryName};
use larder_core::policy::Court;
use larder_core::quota::Quotas;
use larder_core::reference::Unqualified;
use larder_core::route::Routes;

use crate::access::Caller;
use crate::cache::CachePlan;
use crate::limits::Limits;

/// Everything that can be exchanged while the server runs.
#[derive(Clone, PartialEq)]
pub struct Plan {
    /// Who may pull what.
    pub court: Court,
    /// What a name without a registry stands for.
    pub unqualified: Unqualified,
    /// What accounts may take within a span of time, by their names; an account that is not in it, any number.
    pub rates: HashMap<Box<str>, Rate>,
    pub clusters: Vec<PlannedCluster>,
    /// Accounts that are known by the tokens of a build system, in the order in which they are tried.
    pub pipelines: Vec<PlannedPipeline>,
    /// Whether nodes that ask for an upstream's image must say from which cluster they come.
    pub refuse_strangers: bool,
    /// Other names by which the larder is reached.
    pub aliases: Vec<Host>,
    /// The address at which it is reached by its own name: `https://larder.example`.
    pub url: String,
    /// The shelves that take pushes. Empty: any name does, unless there are cached shelves.
    pub shelves: Vec<PlannedShelf>,
    /// The cached shelves and their upstreams.
    pub cache: CachePlan,
    /// Whether pushes and removals are refused altogether.
    pub read_only: bool,
    /// What clients may take.
    pub limits: Limits,
    /// Bytes of the store's disk that are kept free.
    pub reserve: u64,
    /// How much shelves, repositories and accounts may hold.
    pub quotas: Quotas,
    /// How long the record of who did what is kept.
    pub record: Duration,
    /// For how long what is known is given to whom it was given before, while the database is away.
    pub away: Duration,
    /// What of the configuration should be the same at all larders that share a store, in short.
    pub fingerprint: String,
    /// Whether figures are told only to accounts that sign in with a key.
    pub metrics_key: bool,
}

/// A shelf that takes pushes.
#[derive(Debug, Clone, PartialEq)]
pub struct PlannedShelf {
    pub name: String,
    /// Whether an index may be pushed although the repository lacks some of what it lists.
    pub sparse: bool,
    /// The tags that do not move.
    pub immutable: ImmutableTags,
}

/// A cluster that pulls.
#[derive(Clone, PartialEq)]
pub struct PlannedCluster {
    pub name: String,
    /// The certificate that its nodes show, in DER. None: they show none.
    pub certificate: Option<Arc<[u8]>>,
    /// The networks from which its nodes are believed when they name it.
    pub nodes: Vec<Network>,
    /// Whose tokens of its service accounts are believed. None: nobody's.
    pub identity: Option<ClusterIdentity>,
    /// What is done with what it is about to run. None: it does not ask.
    pub door: Option<Door>,
}

/// An account that is known by the tokens of a build system.
#[derive(Clone, PartialEq)]
pub struct PlannedPipeline {
    /// The account's name.
    pub name: String,
    /// Whose tokens they are.
    pub identity: ClusterIdentity,
    /// What they must say.
    pub wanted: WantedClaims,
}

/// How a cluster's service accounts, or an account's pipelines, are known.
#[derive(Clone)]
pub struct ClusterIdentity {
    /// What their tokens must say.
    pub expected: ExpectedToken,
    /// Gets the cluster's key set, or says in words why not.
    pub keys: KeySource,
    /// What `keys` was made of: two with the same get the same.
    pub made_of: Digest,
}

impl PartialEq for ClusterIdentity {
    fn eq(&self, other: &Self) -> bool {
        (&self.expected, &self.made_of) == (&other.expected, &other.made_of)
    }
}

/// Gets a key set.
pub type KeySource = Arc<dyn Fn() -> BoxFuture<'static, Result<Vec<u8>, String>> + Send + Sync>;

/// How long the record is kept where nothing is said.
const RECORD: Duration = Duration::from_secs(90 * 24 * 3600);
/// How long what is known is given without the database, where nothing is said.
const AWAY: Duration = Duration::from_secs(300);

impl Plan {
    /// Anyone may do everything; there are no cached shelves.
    pub fn open(host: Host) -> Self {
        let url = format!("http://{host}");
        let mut court = Court::new(Routes::new(host, Vec::new()), Lock::default());
        court.open = true;
        Self {
            court,
            unqualified: Unqualified::default(),
            rates: HashMap::new(),
            clusters: Vec::new(),
            pipelines: Vec::new(),
            refuse_strangers: false,
            aliases: Vec::new(),
            url,
            shelves: Vec::new(),
            cache: CachePlan::default(),
            read_only: false,
            limits: Limits::default(),
            reserve: 0,
            quotas: Quotas::default(),
            record: RECORD,
            away: AWAY,
            fingerprint: String::new(),
            metrics_key: false,
        }
    }

    /// The same by grants: what they name, and nothing else.
    #[must_use]
    pub fn by(mut self, grants: Grants) -> Self {
        self.court.open = false;
        self.court.grants = grants;
        self
    }

    /// The keys of the configuration that make this plan another than `before`, for people.
    pub fn differences(&self, before: &Self) -> Vec<&'static str> {
        let (old, new) = (&before.court, &self.court);
        let parts = [
            ("url", self.host() != before.host() || self.url != before.url),
            ("aliases", self.aliases != before.aliases),
            ("access", new.open != old.open),
            ("grants", new.grants != old.grants),
            ("[[class]]", new.classes != old.classes),
            ("[[rule]]", new.rules != old.rules),
            ("routes", new.routes() != old.routes()),
            ("the lock", new.lock != old.lock),
            ("unqualified", self.unqualified != before.unqualified),
            ("rates", self.rates != before.rates),
            ("[[cluster]]", self.clusters != before.clusters),
            ("[[account]]", self.pipelines != before.pipelines),
            ("strangers", self.refuse_strangers != before.refuse_strangers),
            (
                "[[shelf]]",
                self.shelves != before.shelves || self.cache.shelves != before.cache.shelves,
            ),
            ("[[upstream]]", self.cache.upstreams != before.cache.upstreams),
            ("cache_limit", self.cache.limit != before.cache.limit),
            ("read_only", self.read_only != before.read_only),
            ("limits", self.limits.without_proxies() != before.limits.without_proxies()),
            ("proxies", self.limits.proxies != before.limits.proxies),
            ("reserve", self.reserve != before.reserve),
            ("record", self.record != before.record),
            ("away", self.away != before.away),
            ("metrics_key", self.metrics_key != before.metrics_key),
        ];
        parts.into_iter().filter_map(|(key, differs)| differs.then_some(key)).collect()
    }

    /// The larder's own host: where our own images come from.
    pub(crate) fn host(&self) -> &Host {
        self.court.routes().own()
    }

    pub(crate) fn cluster(&self, name: &str) -> Option<&PlannedCluster> {
        self.clusters.iter().find(|cluster| cluster.name == name)
    }

    /// Whether a name is one of the larder's own.
    pub(crate) fn is_own(&self, host: &Host) -> bool {
        self.host() == host || self.aliases.contains(host)
    }

    /// Whether a cluster has namespaces with grants of their own: its nodes then prove too little.
    pub(crate) fn has_own_grants(&self, cluster: &str) -> bool {
        let known = self.court.grants.clusters.get(cluster);
        known.is_some_and(|known| known.namespaces.values().any(Option::is_some))
    }

    /// Whether somebody sees that a repository exists.
    pub(crate) fn sees(&self, caller: &Caller, repository: &RepositoryName) -> bool {
        self.court.open || self.court.grants.may(&caller.who, Action::Pull, repository)
    }

    /// Whether somebody may do something to a repository: granted, and named by the token if one was shown.
    pub(crate) fn may(&self, caller: &Caller, action: Action, repository: &RepositoryName) -> bool {
        let token = caller.token.as_ref().is_none_or(|token| token.allows(action, repository));
        self.court.open || (token && self.court.grants.may(&caller.who, action, repository))
    }
}
