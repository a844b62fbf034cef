//! The key sets of clusters: fetched when they are needed, kept for a while, fetched again when a token
//! is signed with a key that is not among them.

use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use larder_core::access::Who;
use larder_core::access::identity::{IdentityError, KeySet, ServiceAccount};
use tokio::sync::Mutex;

use super::{AccessPlan, ByName, Cluster, ClusterIdentity};

/// How long a key set is believed.
const BELIEVED: Duration = Duration::from_secs(600);
/// How long it is waited at least before it is fetched again because of a token that it does not know.
const AGAIN: Duration = Duration::from_secs(30);
/// How long fetching may take.
const PATIENCE: Duration = Duration::from_secs(10);

#[derive(Default)]
struct Had {
    set: Option<(KeySet, Instant)>,
    tried: Option<Instant>,
    trouble: String,
}

#[derive(Default)]
pub(super) struct Identities {
    had: ByName<Arc<Mutex<Had>>>,
}

/// Why a token of a service account lets nobody in.
#[derive(Debug)]
pub(super) enum Doubt {
    /// No cluster that is declared issues such tokens.
    NoCluster,
    /// The token itself; of which cluster it claims to be.
    Token(String, IdentityError),
    /// The cluster's keys could not be had.
    Keys(String, String),
    /// The cluster has no such namespace.
    Namespace(String, String),
}

impl std::fmt::Display for Doubt {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NoCluster => f.write_str("no cluster of this larder issues such tokens"),
            Self::Token(cluster, error) => {
                write!(f, "the token is none of the cluster {cluster}: {error}")
            }
            Self::Keys(cluster, cause) => {
                write!(f, "the keys of the cluster {cluster} cannot be had: {cause}")
            }
            Self::Namespace(cluster, namespace) => {
                write!(f, "the cluster {cluster} is declared without the namespace {namespace}")
            }
        }
    }
}

impl Identities {
    pub fn forget(&self) {
        self.had.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    fn of(&self, cluster: &str) -> Arc<Mutex<Had>> {
        let mut had = self.had.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(had.entry(cluster.into()).or_default())
    }

    /// Whose token it is, at a time in seconds since 1970. A user's name may say which cluster is meant.
    pub async fn verify(
        &self,
        plan: &AccessPlan,
        user: &str,
        token: &str,
        now: i64,
    ) -> Result<(Who, ServiceAccount), Doubt> {
        let named = user.split('/').next().unwrap_or_default();
        let known = plan.cluster(named).is_some();
        let mut doubt = Doubt::NoCluster;
        for cluster in plan.clusters.iter().filter(|cluster| !known || cluster.name == named) {
            let Some(identity) = &cluster.identity else { continue };
            match self.verify_for(cluster, identity, token, now).await {
                Ok(account) => {
                    let who = Who::cluster(&cluster.name, Some(&account.namespace));
                    if !plan.grants.knows(&who) {
                        return Err(Doubt::Namespace(cluster.name.clone(), account.namespace));
                    }
                    return Ok((who, account));
                }
                // What comes nearest is told: another issuer is another cluster's token.
                Err(other) => {
                    let far = matches!(&other, Doubt::Token(_, IdentityError::Issuer { .. }));
                    if !far || matches!(doubt, Doubt::NoCluster) {
                        doubt = other;
                    }
                }
            }
        }
        Err(doubt)
    }

    async fn verify_for(
        &self,
        cluster: &Cluster,
        identity: &ClusterIdentity,
        token: &str,
        now: i64,
    ) -> Result<ServiceAccount, Doubt> {
        let had = self.of(&cluster.name);
        let mut had = had.lock().await;
        let fresh = had.set.as_ref().is_some_and(|(_, at)| at.elapsed() < BELIEVED);
        if !fresh {
            had.fetch(identity).await;
        }
        let verify =
            |had: &Had| had.set.as_ref().map(|(set, _)| set.verify(token, &identity.expected, now));
        let mut found = verify(&had);
        if let Some(Err(error)) = &found
            && error.is_about_keys()
        {
            had.fetch(identity).await;
            found = verify(&had);
        }
        match found {
            Some(found) => found.map_err(|error| Doubt::Token(cluster.name.clone(), error)),
            None => Err(Doubt::Keys(cluster.name.clone(), had.trouble.clone())),
        }
    }
}

impl Had {
    /// Fetches the keys, unless that was just tried. What could not be fetched leaves those from before.
    async fn fetch(&mut self, identity: &ClusterIdentity) {
        if self.tried.is_some_and(|tried| tried.elapsed() < AGAIN) {
            return;
        }
        let fetched = tokio::time::timeout(PATIENCE, (identity.keys)()).await;
        let fetched = fetched.unwrap_or_else(|_| Err("it takes too long".into()));
        self.tried = Some(Instant::now());
        match fetched.and_then(|bytes| KeySet::read(&bytes)) {
            Ok(set) => self.set = Some((set, Instant::now())),
            Err(cause) => {
                tracing::warn!(cause, issuer = identity.expected.issuer, "a cluster's keys");
                self.trouble = cause;
            }
        }
    }
}
