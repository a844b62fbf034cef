//! Who asks, and may they? The grants and rules of the configuration at the server's door.
//!
//! A request goes through in this order: who is it ([`sign_in`]), is it granted ([`permit`]), do the
//! rules allow it ([`rules`]); what was refused is written down ([`record`]) under the number that the
//! refusal carries.

mod identities;
mod keys;
mod permit;
mod pull_token;
mod rates;
mod record;
mod rules;
mod sign_in;
mod tokens;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use axum::http::request::Parts;
use axum::http::{Extensions, HeaderMap, Request};
use futures_util::future::BoxFuture;
use larder_core::access::brake::Brake;
use larder_core::access::grants::Grants;
use larder_core::access::identity::Expected;
use larder_core::access::key::Pepper;
use larder_core::access::network::Network;
use larder_core::access::rate::{Rate, Taken};
use larder_core::access::token::{By, Signer};
use larder_core::access::{Action, Who};
use larder_core::door::{Door, DoorKey, Question};
use larder_core::lock::Lock;
use larder_core::name::RepositoryName;
use larder_core::policy::Court;
use larder_core::reference::Unqualified;
use larder_core::route::Routes;
use larder_store::Store;
use tokio::sync::Semaphore;

pub(crate) use permit::{about, refuse_catalog};
pub(crate) use permit::{check as check_grant, passes as is_granted};
pub(crate) use record::{About, Happened, Recorder, is_probe, probing, reference};
pub(crate) use rules::{Pull, Ruled, check as check_rules, passes as is_ruled_in};
pub(crate) use tokens::{PATH as TOKEN_PATH, answer as answer_token};

use crate::meters::Meters;
use identities::Identities;
use keys::Keys;
use pull_token::PullToken;
use sign_in::Sessions;

/// What the configuration says of who may do what. It can be exchanged while the server runs.
pub struct AccessPlan {
    /// Who may pull what.
    pub court: Court,
    /// What a name without a registry stands for.
    pub unqualified: Unqualified,
    /// What accounts may take within a span of time, by their names; an account that is not in it, any number.
    pub rates: HashMap<Box<str>, Rate>,
    /// The clusters.
    pub clusters: Vec<Cluster>,
    /// Whether nodes that ask for an upstream's image must say from which cluster they come.
    pub refuse_strangers: bool,
    /// Other names by which it is reached.
    pub aliases: Vec<larder_core::name::Host>,
    /// What it is reached at, for whoever asks by that name: `https://larder.example`.
    pub url: String,
}

/// A cluster that pulls.
#[derive(Clone)]
pub struct Cluster {
    /// Its name.
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

/// How a cluster's service accounts are known.
#[derive(Clone)]
pub struct ClusterIdentity {
    /// What their tokens must say.
    pub expected: Expected,
    /// Gets the cluster's key set, or says in words why not.
    pub keys: KeySource,
}

/// Gets a key set.
pub type KeySource = Arc<dyn Fn() -> BoxFuture<'static, Result<Vec<u8>, String>> + Send + Sync>;

/// What a request says before its body.
#[derive(Clone, Copy)]
pub(crate) struct Head<'r> {
    pub headers: &'r HeaderMap,
    pub extensions: &'r Extensions,
}

impl<'r> Head<'r> {
    pub fn of<B>(request: &'r Request<B>) -> Self {
        Self { headers: request.headers(), extensions: request.extensions() }
    }
}

impl<'r> From<&'r Parts> for Head<'r> {
    fn from(parts: &'r Parts) -> Self {
        Self { headers: &parts.headers, extensions: &parts.extensions }
    }
}

/// Somebody who is at the door.
#[derive(Debug, Clone)]
pub(crate) struct Caller {
    pub who: Who,
    /// By what it signed in. None: by nothing that it brought along.
    pub by: Option<By>,
    /// The token that it showed. None: none.
    pub token: Option<Arc<PullToken>>,
    pub address: Option<IpAddr>,
    /// Whether it is a node that is sent here instead of to an upstream: it is never answered 401.
    pub node: bool,
}

/// The door. It stands by itself: it needs keys, and somewhere to write down who came, and no registry behind it.
pub(crate) struct Gate {
    store: Store,
    meters: Arc<Meters>,
    pub recorder: Arc<Recorder>,
    plan: RwLock<Arc<AccessPlan>>,
    signer: Option<Signer>,
    pepper: Pepper,
    doors: DoorKey,
    pub keys: Keys,
    sessions: Sessions,
    identities: Identities,
    brake: Mutex<Brake>,
    taken: Mutex<Taken>,
    /// Wrong sign-ins that wait at once.
    waiting: Semaphore,
}

/// Wrong sign-ins that may wait at once; more are answered 429 at once.
const WAITING: usize = 256;

impl Gate {
    /// A door with these keys behind it; the secret is the larder's own.
    pub fn new(store: Store, meters: Arc<Meters>, plan: AccessPlan, secret: &[u8; 32]) -> Self {
        Self {
            store,
            meters,
            recorder: Arc::new(Recorder::new(secret)),
            signer: Signer::new(secret, plan.host().as_str()),
            pepper: Pepper::new(secret),
            doors: DoorKey::new(secret),
            keys: Keys::default(),
            sessions: Sessions::default(),
            identities: Identities::default(),
            brake: Mutex::default(),
            taken: Mutex::default(),
            waiting: Semaphore::new(WAITING),
            plan: RwLock::new(Arc::new(plan)),
        }
    }

    /// The cluster that asks under a path, and what. None: nobody's.
    pub fn door<'p>(&self, path: &'p str) -> Option<(&'p str, Question)> {
        self.doors.read(path)
    }

    /// What holds now.
    pub fn plan(&self) -> Arc<AccessPlan> {
        Arc::clone(&self.plan.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// From now on this holds: for requests that come, not for those that are being answered.
    pub fn set_plan(&self, plan: AccessPlan) {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        taken.forget_all_but(|account| plan.rates.contains_key(account));
        drop(taken);
        *self.plan.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(plan);
        self.identities.forget();
    }
}

impl AccessPlan {
    /// Everybody may do everything.
    pub fn open(host: larder_core::name::Host) -> Self {
        let url = format!("http://{host}");
        let mut court = Court::new(Routes::new(host, Vec::new()), Lock::default());
        court.open = true;
        Self {
            court,
            rates: HashMap::new(),
            unqualified: Unqualified::default(),
            clusters: Vec::new(),
            refuse_strangers: false,
            url,
            aliases: Vec::new(),
        }
    }

    /// The same by grants: everybody may do what is granted, and nothing else.
    #[must_use]
    pub fn by(mut self, grants: Grants) -> Self {
        self.court.open = false;
        self.court.grants = grants;
        self
    }

    /// The larder's own host: where our own images come from.
    pub(crate) fn host(&self) -> &larder_core::name::Host {
        self.court.routes().own()
    }

    pub(crate) fn cluster(&self, name: &str) -> Option<&Cluster> {
        self.clusters.iter().find(|cluster| cluster.name == name)
    }

    /// Whether a name is one of the larder's own.
    pub(crate) fn is_own(&self, host: &larder_core::name::Host) -> bool {
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

/// The parameters of a form or query, decoded; of a name that is there twice, both.
fn parameters(text: &str) -> Vec<(String, String)> {
    let decode = |text: &str| {
        let text = text.replace('+', " ");
        percent_encoding::percent_decode_str(&text).decode_utf8_lossy().into_owned()
    };
    let pairs = text.split('&').filter(|pair| !pair.is_empty()).take(256);
    pairs
        .map(|pair| pair.split_once('=').unwrap_or((pair, "")))
        .map(|(name, value)| (decode(name), decode(value)))
        .collect()
}

/// A short hash, to tell secrets apart without keeping them.
fn short_hash(text: &str) -> u64 {
    use std::hash::{BuildHasher as _, RandomState};
    static STATE: std::sync::LazyLock<RandomState> = std::sync::LazyLock::new(RandomState::new);
    STATE.hash_one(text)
}

type ByName<T> = Mutex<HashMap<Box<str>, T>>;

/// For `fuzz/`.
#[cfg(fuzzing)]
pub mod fuzzing {
    use axum::http::{Extensions, HeaderMap, HeaderValue, header};
    use larder_core::access::scope::Scopes;

    use super::Head;
    use super::sign_in::{Brought, brought};

    /// What a field brings along.
    pub fn authorization(bytes: &[u8]) {
        let Ok(value) = HeaderValue::from_bytes(bytes) else { return };
        let headers = HeaderMap::from_iter([(header::AUTHORIZATION, value)]);
        let extensions = Extensions::new();
        if let Brought::Basic(user, _) =
            brought(Head { headers: &headers, extensions: &extensions })
        {
            assert!(!user.contains(':'));
        }
    }

    /// The form of the token end point.
    pub fn token_form(text: &str) {
        let all = super::parameters(text);
        let scopes =
            all.iter().filter(|(name, _)| name == "scope").map(|(_, value)| value.as_str());
        let _ = Scopes::read(scopes);
    }
}

#[cfg(test)]
mod tests {
    use axum::http::HeaderValue;
    use axum::http::header::AUTHORIZATION;
    use base64::Engine as _;
    use base64::engine::general_purpose::STANDARD;
    use larder_core::access::Line;
    use larder_core::access::grants::{Patterns, Permits};
    use larder_core::access::key::{Key, RANDOM};
    use larder_store::{KeyRecord, now};

    use super::*;

    const SECRET: [u8; 32] = [9; 32];

    #[tokio::test]
    async fn the_door_needs_no_registry_behind_it() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        let made = Key::new(&[3; RANDOM]);
        let record = KeyRecord {
            id: made.id(),
            user: "ci".into(),
            hash: Pepper::new(&SECRET).hash(&made),
            issued: now(),
            expires: None,
            revoked: None,
            replaces: None,
            used: None,
            used_from: None,
        };
        store.add_key(record).await.unwrap();
        let none = || Patterns::new(Vec::new()).unwrap();
        let line = Line { file: "larder.toml".into(), number: 6 };
        let permits = Permits { pull: none(), push: none(), delete: none(), line };
        let accounts = [("ci".into(), permits)].into();
        let grants = Grants { accounts, ..Grants::default() };
        let open = AccessPlan::open("larder.example".parse().unwrap());
        let plan = open.by(grants);
        let gate = Gate::new(store.clone(), Arc::new(Meters::new()), plan, &SECRET);
        let who = async |secret: &str| {
            let mut headers = HeaderMap::new();
            let basic = format!("Basic {}", STANDARD.encode(format!("ci:{secret}")));
            headers.insert(AUTHORIZATION, HeaderValue::from_str(&basic).unwrap());
            let extensions = Extensions::new();
            let head = Head { headers: &headers, extensions: &extensions };
            let plan = gate.plan();
            let told = gate.identify(&plan, head).await.map(|caller| caller.who);
            let known = gate.known(&plan, head, &store.moment_of_access().unwrap());
            (told.ok(), known.map(|caller| caller.who))
        };
        let ci = Who::Account("ci".into());
        assert_eq!(who(made.reveal()).await, (Some(ci.clone()), Some(ci)));
        assert_eq!(who("wrong").await, (None, None));
        store.revoke_key(&made.id(), now()).await.unwrap();
        assert_eq!(
            who(made.reveal()).await,
            (None, None),
            "a revoked key is good no more, at once"
        );
    }
}
