//! Who asks, and may they? The grants and rules of the configuration at the server's door.
//!
//! A request goes through in this order: who is it ([`sign_in`]), is it granted ([`permit`]), do the
//! rules allow it ([`rules`]); what was refused is written down ([`record`]) under the number that the
//! refusal carries.

mod companions;
mod facts;
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
use larder_core::access::Who;
use larder_core::access::brake::Brake;
use larder_core::access::key::Pepper;
use larder_core::access::rate::RateLedger;
use larder_core::access::token::{SignedInBy, Signer};
use larder_core::door::{DoorKey, Question};
use larder_store::Store;
use secrecy::{ExposeSecret as _, SecretBox};
use tokio::sync::Semaphore;

pub(crate) use facts::{FactsPlace, GatheredFacts};
pub(crate) use permit::{check as check_grant, passes as is_granted, refuse_catalog};
pub(crate) use record::{RecordSubject, RecordedDeed, Recorder, is_probe, probing, reference};
pub(crate) use rules::{JudgedManifest, RuleOutcome, check as check_rules, passes as is_ruled_in};
pub(crate) use tokens::{PATH as TOKEN_PATH, answer as answer_token};

use crate::meters::Meters;
use crate::plan::Plan;
use identities::Identities;
use keys::Keys;
use pull_token::PullToken;
use sign_in::Sessions;

/// What a request says before its body.
#[derive(Clone, Copy)]
pub(crate) struct Head<'r> {
    pub headers: &'r HeaderMap,
    pub extensions: &'r Extensions,
}

impl<'r> Head<'r> {
    /// The head of a request.
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
    pub by: Option<SignedInBy>,
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
    state: RwLock<GateState>,
    secret: SecretBox<[u8; 32]>,
    pepper: Pepper,
    doors: DoorKey,
    pub keys: Keys,
    sessions: Sessions,
    identities: Identities,
    brake: Mutex<Brake>,
    taken: Mutex<RateLedger>,
    /// Wrong sign-ins that wait at once.
    waiting: Semaphore,
}

/// What is exchanged with the plan.
#[derive(Clone)]
struct GateState {
    plan: Arc<Plan>,
    /// Issues tokens in the larder's own name. None: its secret is of no use.
    signer: Option<Arc<Signer>>,
}

impl GateState {
    fn new(plan: Arc<Plan>, secret: &[u8; 32]) -> Self {
        Self { signer: Signer::new(secret, plan.host().as_str()).map(Arc::new), plan }
    }
}

/// Wrong sign-ins that may wait at once; more are answered 429 at once.
const WAITING: usize = 256;

impl Gate {
    /// A door with these keys behind it; the secret is the larder's own.
    pub fn new(store: Store, meters: Arc<Meters>, plan: Arc<Plan>, secret: &[u8; 32]) -> Self {
        Self {
            store,
            meters,
            recorder: Arc::new(Recorder::new(secret)),
            pepper: Pepper::new(secret),
            doors: DoorKey::new(secret),
            keys: Keys::default(),
            sessions: Sessions::default(),
            identities: Identities::default(),
            brake: Mutex::default(),
            taken: Mutex::default(),
            waiting: Semaphore::new(WAITING),
            state: RwLock::new(GateState::new(plan, secret)),
            secret: SecretBox::new(Box::new(*secret)),
        }
    }

    /// The cluster that asks under a path, and what. None: nobody's.
    pub fn door<'p>(&self, path: &'p str) -> Option<(&'p str, Question)> {
        self.doors.read(path)
    }

    fn state(&self) -> GateState {
        self.state.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What holds now.
    pub fn plan(&self) -> Arc<Plan> {
        self.state().plan
    }

    /// None: the larder's secret is of no use.
    fn signer(&self) -> Option<Arc<Signer>> {
        self.state().signer
    }

    /// From now on this holds: for requests that come, not for those that are being answered.
    pub fn set_plan(&self, plan: Arc<Plan>) {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        taken.forget_all_but(|account| plan.rates.contains_key(account));
        drop(taken);
        let state = GateState::new(plan, self.secret.expose_secret());
        *self.state.write().unwrap_or_else(PoisonError::into_inner) = state;
        self.identities.forget();
    }
}

/// The parameters of a form or query, decoded: `+` is a blank in both. Of a name that is there twice, both.
fn parameters(text: &str) -> Vec<(String, String)> {
    form_urlencoded::parse(text.as_bytes()).into_owned().take(256).collect()
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
    use super::sign_in::{PresentedLogin, brought};

    /// What a field brings along.
    pub fn authorization(bytes: &[u8]) {
        let Ok(value) = HeaderValue::from_bytes(bytes) else { return };
        let headers = HeaderMap::from_iter([(header::AUTHORIZATION, value)]);
        let extensions = Extensions::new();
        if let PresentedLogin::Basic(user, _) =
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
    use larder_core::access::ConfigLine;
    use larder_core::access::grants::{Grants, Patterns, Permits};
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
        let line = ConfigLine { file: "larder.toml".into(), number: 6 };
        let permits = Permits { pull: none(), push: none(), delete: none(), line };
        let accounts = [("ci".into(), permits)].into();
        let grants = Grants { accounts, ..Grants::default() };
        let open = Plan::open("larder.example".parse().unwrap());
        let plan = open.by(grants);
        let gate = Gate::new(store.clone(), Arc::new(Meters::new()), Arc::new(plan), &SECRET);
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
