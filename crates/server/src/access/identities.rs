//! The key sets of clusters and build systems: fetched when they are needed, kept for a while, fetched again when a token
//! is signed with a key that is not among them.

use crate::plan::{ClusterIdentity, Plan, PlannedPipeline};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use larder_core::access::Who;
use larder_core::access::identity::{IdentityError, KeySet};
use larder_core::access::token::SignedInBy;
use tokio::sync::Mutex;
use tokio::time::Instant;

use super::ByName;

/// How long a key set is believed.
const BELIEVED: Duration = Duration::from_secs(600);
/// How long it is waited at least before it is fetched again although it could not be fetched, or a token was signed by
/// none of its keys.
const AGAIN: Duration = Duration::from_secs(30);
/// Tokens that name a key that is not known yet, after which it is fetched at once; one more each
/// [`ANOTHER`]. After a rotation the first of them brings the new keys.
const AT_ONCE: u32 = 4;
const ANOTHER: Duration = Duration::from_secs(10);
/// How long fetching may take.
const PATIENCE: Duration = Duration::from_secs(10);

#[derive(Default)]
struct IdentityKeys {
    set: Option<(KeySet, Instant)>,
    tried: Option<Instant>,
    trouble: String,
    /// Fetches because of unknown keys, of late.
    unknown: u32,
    /// When the last of them was.
    last_unknown: Option<Instant>,
}

#[derive(Default)]
pub(super) struct Identities {
    had: ByName<Arc<Mutex<IdentityKeys>>>,
}

/// Why a token of a service account lets nobody in.
#[derive(Debug)]
pub(super) enum Doubt {
    /// No cluster that is declared issues such tokens.
    NoCluster,
    /// The token itself; of which cluster it claims to be.
    Token(String, IdentityError),
    /// The cluster's keys could not be fetched.
    Keys(String, String),
    /// The cluster has no such namespace.
    Namespace(String, String),
    /// The token itself; of which account's pipelines it claims to be.
    Pipeline(String, IdentityError),
    /// The keys of an account's issuer could not be fetched.
    IssuerKeys(String, String),
}

impl Doubt {
    /// Whether it is the token of somebody else altogether.
    fn is_far(&self) -> bool {
        matches!(
            self,
            Self::NoCluster
                | Self::Token(_, IdentityError::Issuer { .. })
                | Self::Pipeline(_, IdentityError::Issuer { .. })
        )
    }
}

/// Somebody whose token is believed.
#[derive(Debug)]
pub(super) struct KnownIdentity {
    pub who: Who,
    pub by: SignedInBy,
    /// Until when the token is good, and when it was issued, in seconds since 1970.
    pub until: i64,
    pub issued: i64,
}

impl std::fmt::Display for Doubt {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NoCluster => f.write_str(
                "no cluster of this larder issues such tokens, and no account is known by them",
            ),
            Self::Token(cluster, error) => {
                write!(f, "the token is none of the cluster {cluster}: {error}")
            }
            Self::Keys(cluster, cause) => {
                write!(f, "the keys of the cluster {cluster} cannot be fetched: {cause}")
            }
            Self::Namespace(cluster, namespace) => {
                write!(f, "the cluster {cluster} is declared without the namespace {namespace}")
            }
            Self::Pipeline(account, error) => {
                write!(f, "the token is none that the account {account} is known by: {error}")
            }
            Self::IssuerKeys(account, cause) => {
                write!(
                    f,
                    "the keys of the issuer of the account {account} cannot be fetched: {cause}"
                )
            }
        }
    }
}

impl Identities {
    /// Forgets the keys of all clusters, so that they are read anew.
    pub fn forget(&self) {
        self.had.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    fn of(&self, source: &str) -> Arc<Mutex<IdentityKeys>> {
        let mut had = self.had.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(had.entry(source.into()).or_default())
    }

    /// Whose token it is, at a time in seconds since 1970. A user's name may say which cluster or account is meant.
    pub async fn verify(
        &self,
        plan: &Plan,
        user: &str,
        token: &str,
        now: i64,
    ) -> Result<KnownIdentity, Doubt> {
        let named = user.split('/').next().unwrap_or_default();
        let known = plan.cluster(named).is_some();
        let meant = plan.pipelines.iter().any(|one| one.name == user);
        let mut doubt = Doubt::NoCluster;
        // What comes nearest is told: another issuer is another's token.
        let mut consider = |other: Doubt| {
            if !other.is_far() || matches!(doubt, Doubt::NoCluster) {
                doubt = other;
            }
        };
        let clusters = plan.clusters.iter().filter(|one| !meant && (!known || one.name == named));
        for cluster in clusters {
            let Some(identity) = &cluster.identity else { continue };
            let found = self.read(identity, |set| set.verify(token, &identity.expected, now));
            match found.await {
                Ok(account) => {
                    let who = Who::cluster(&cluster.name, Some(&account.namespace));
                    if !plan.court.grants.knows(&who) {
                        return Err(Doubt::Namespace(cluster.name.clone(), account.namespace));
                    }
                    let by = format!("{}/{}", account.namespace, account.name);
                    let (until, issued) = (account.until, account.issued);
                    return Ok(KnownIdentity { who, by: SignedInBy::Identity(by), until, issued });
                }
                Err(Unread::Token(error)) => consider(Doubt::Token(cluster.name.clone(), error)),
                Err(Unread::Keys(cause)) => consider(Doubt::Keys(cluster.name.clone(), cause)),
            }
        }
        let pipelines = plan.pipelines.iter().filter(|one| !known && (!meant || one.name == user));
        for PlannedPipeline { name, identity, wanted } in pipelines {
            let found = self.read(identity, |set| {
                let token = set.read_token(token, &identity.expected, now)?;
                let claims = wanted.judge(&token.claims()?)?;
                Ok((claims, token.until, token.issued))
            });
            match found.await {
                Ok((claims, until, issued)) => {
                    let Some(who) = plan.court.grants.who(name) else { continue };
                    let by = SignedInBy::Claims(claims.to_string());
                    return Ok(KnownIdentity { who, by, until, issued });
                }
                Err(Unread::Token(error)) => consider(Doubt::Pipeline(name.clone(), error)),
                Err(Unread::Keys(cause)) => consider(Doubt::IssuerKeys(name.clone(), cause)),
            }
        }
        Err(doubt)
    }

    /// Reads a token by an issuer's keys, which are fetched where they have to be. Accounts and clusters that name the same
    /// source share what was fetched.
    async fn read<T>(
        &self,
        identity: &ClusterIdentity,
        verify: impl Fn(&KeySet) -> Result<T, IdentityError>,
    ) -> Result<T, Unread> {
        let had = self.of(identity.made_of.as_str());
        let mut had = had.lock().await;
        let fresh = had.set.as_ref().is_some_and(|(_, at)| at.elapsed() < BELIEVED);
        if !fresh {
            had.fetch(identity, false).await;
        }
        let verified = |had: &IdentityKeys| had.set.as_ref().map(|(set, _)| verify(set));
        let mut found = verified(&had);
        if let Some(Err(error)) = &found
            && error.is_about_keys()
        {
            had.fetch(identity, *error == IdentityError::UnknownKey).await;
            found = verified(&had);
        }
        match found {
            Some(found) => found.map_err(Unread::Token),
            None => Err(Unread::Keys(had.trouble.clone())),
        }
    }
}

/// Why a token could not be read.
enum Unread {
    Token(IdentityError),
    /// The keys could not be fetched; why.
    Keys(String),
}

impl IdentityKeys {
    /// Whether it may be fetched out of turn: tokens with made-up keys cost the cluster nothing much.
    fn spends_one(&mut self) -> bool {
        let gone =
            self.last_unknown.map_or(u64::MAX, |last| last.elapsed().as_secs() / ANOTHER.as_secs());
        self.unknown = self.unknown.saturating_sub(u32::try_from(gone).unwrap_or(u32::MAX));
        if self.unknown >= AT_ONCE {
            return false;
        }
        self.unknown += 1;
        self.last_unknown = Some(Instant::now());
        true
    }

    /// Fetches the keys, unless that was just tried. What could not be fetched leaves those from before.
    async fn fetch(&mut self, identity: &ClusterIdentity, unknown_key: bool) {
        let early = self.tried.is_some_and(|tried| tried.elapsed() < AGAIN);
        if early && !(unknown_key && self.set.is_some() && self.spends_one()) {
            return;
        }
        let fetched = tokio::time::timeout(PATIENCE, (identity.keys)()).await;
        let fetched = fetched.unwrap_or_else(|_| Err("it takes too long".into()));
        self.tried = Some(Instant::now());
        match fetched.and_then(|bytes| KeySet::read(&bytes)) {
            Ok(set) => self.set = Some((set, Instant::now())),
            Err(cause) => {
                tracing::warn!(cause, issuer = identity.expected.issuer, "the keys of an issuer");
                self.trouble = cause;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex as Plain;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use base64::Engine as _;
    use base64::engine::general_purpose::URL_SAFE_NO_PAD;
    use futures_util::FutureExt as _;
    use larder_core::access::grants::{ClusterPermits, Grants, Patterns, Permits};
    use larder_core::access::identity::ExpectedToken;
    use larder_core::digest::Digest;
    use ring::signature::{Ed25519KeyPair, KeyPair as _};
    use serde_json::json;

    use super::*;
    use crate::plan::PlannedCluster;

    const NOW: i64 = 1_790_000_000;

    fn key(seed: u8) -> Ed25519KeyPair {
        Ed25519KeyPair::from_seed_unchecked(&[seed; 32]).unwrap()
    }

    fn set(seed: u8) -> Vec<u8> {
        let x = URL_SAFE_NO_PAD.encode(key(seed).public_key());
        json!({"keys": [{"kty": "OKP", "crv": "Ed25519", "x": x}]}).to_string().into_bytes()
    }

    fn token(seed: u8, issuer: &str, namespace: &str) -> String {
        let part = |value: serde_json::Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let claims = json!({
            "iss": issuer, "aud": "larder.example", "exp": NOW + 600,
            "sub": format!("system:serviceaccount:{namespace}:default"),
        });
        let signed = format!("{}.{}", part(json!({"alg": "EdDSA"})), part(claims));
        let signature = key(seed).sign(signed.as_bytes());
        format!("{signed}.{}", URL_SAFE_NO_PAD.encode(signature))
    }

    /// A plan with one cluster, whose key set is what the text holds; fetches are counted.
    fn plan(answer: &Arc<Plain<Result<Vec<u8>, String>>>, count: &Arc<AtomicUsize>) -> Plan {
        let none = || Permits {
            pull: Patterns::default(),
            push: Patterns::default(),
            delete: Patterns::default(),
            line: larder_core::access::ConfigLine::default(),
        };
        let namespaces = [("scada".into(), None)].into();
        let cluster = ClusterPermits { whole: none(), namespaces };
        let grants =
            Grants { clusters: [("turbine-hall".into(), cluster)].into(), ..Grants::default() };
        let (answer, count) = (Arc::clone(answer), Arc::clone(count));
        let keys: crate::plan::KeySource = Arc::new(move || {
            count.fetch_add(1, Ordering::Relaxed);
            std::future::ready(answer.lock().unwrap().clone()).boxed()
        });
        let expected =
            ExpectedToken { issuer: "https://c.example".into(), audience: "larder.example".into() };
        let identity = Some(ClusterIdentity { expected, keys, made_of: Digest::of(b"") });
        let cluster = PlannedCluster {
            name: "turbine-hall".into(),
            certificate: None,
            nodes: Vec::new(),
            identity,
            door: None,
        };
        let mut plan = Plan::open("larder.example".parse().unwrap()).by(grants);
        plan.clusters = vec![cluster];
        plan
    }

    #[tokio::test(start_paused = true)]
    async fn a_key_set_is_kept_and_fetched_again_when_it_must_be() {
        let (answer, count) = (Arc::new(Plain::new(Ok(set(1)))), Arc::new(AtomicUsize::new(0)));
        let plan = plan(&answer, &count);
        let identities = Identities::default();
        let ask = |seed: u8| {
            let (plan, identities) = (&plan, &identities);
            async move {
                let token = token(seed, "https://c.example", "scada");
                identities.verify(plan, "", &token, NOW).await.map(|known| known.who.to_string())
            }
        };
        let fetched = || count.load(Ordering::Relaxed);
        for _ in 0..3 {
            assert_eq!(ask(1).await.unwrap(), "turbine-hall/scada");
        }
        assert_eq!(fetched(), 1);
        // A key that is not known is looked for, but not with every token that somebody makes up.
        for _ in 0..3 {
            assert!(ask(2).await.is_err());
        }
        assert_eq!(fetched(), 1);
        *answer.lock().unwrap() = Ok(set(2));
        tokio::time::advance(AGAIN).await;
        assert!(ask(2).await.is_ok() && ask(1).await.is_err());
        assert_eq!(fetched(), 2);
        // What cannot be fetched leaves the keys from before.
        *answer.lock().unwrap() = Err("refused".into());
        tokio::time::advance(BELIEVED).await;
        assert!(ask(2).await.is_ok());
        assert_eq!(fetched(), 3);
    }

    #[tokio::test(start_paused = true)]
    async fn who_is_not_meant_is_told_why() {
        let (answer, count) =
            (Arc::new(Plain::new(Err("it was answered 503".into()))), Arc::default());
        let plan = plan(&answer, &count);
        let identities = Identities::default();
        let why = |token: String| {
            let (plan, identities) = (&plan, &identities);
            async move { identities.verify(plan, "", &token, NOW).await.unwrap_err().to_string() }
        };
        let good = || token(1, "https://c.example", "scada");
        assert!(why(good()).await.contains("cannot be fetched: it was answered 503"));
        *answer.lock().unwrap() = Ok(b"<html>".to_vec());
        tokio::time::advance(AGAIN).await;
        assert!(why(good()).await.contains("no JSON Web Key Set"));
        *answer.lock().unwrap() = Ok(set(1));
        tokio::time::advance(AGAIN).await;
        let other = token(1, "https://c.example", "other");
        assert!(why(other).await.contains("without the namespace other"));
        assert!(why(token(1, "https://d.example", "scada")).await.contains("issued by"));
        let nobody = Plan::open("larder.example".parse().unwrap());
        let doubt = identities.verify(&nobody, "", &good(), NOW).await.unwrap_err();
        assert!(doubt.to_string().contains("no cluster of this larder"));
    }
}
