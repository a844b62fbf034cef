//! What does a cluster need in order to pull? Its objects as the platform has them, what is wrong with
//! those that it has, and what a pull secret holds.

mod names;
mod secret;
mod webhook;

pub use names::{NameRules, TooMany};
pub use secret::{Login, PullSecret, SecretError, SecretLogin, offers, read_secret, read_secrets};
pub use webhook::{Webhooks, path_of};

use std::collections::BTreeMap;

use serde_json::{Value, json};

use crate::objects::text;

/// The type of pull secrets (Kubernetes API, "Docker config Secrets").
pub const SECRET_TYPE: &str = "kubernetes.io/dockerconfigjson";
/// Their older type, which kubelets read all the same.
pub const OLD_SECRET_TYPE: &str = "kubernetes.io/dockercfg";
/// What says that we made an object.
const MANAGER: &str = "iron-larder";
/// The annotations under which a secret says which key it holds, and until when.
pub const KEY: &str = "larder/key";
const EXPIRES: &str = "larder/expires";

/// A pull secret as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedSecret {
    pub namespace: String,
    pub name: String,
    /// The larder's host, as references have it.
    pub host: String,
    pub user: String,
    /// The service accounts that get it.
    pub service_accounts: Vec<String>,
}

impl WantedSecret {
    /// The secret, with a key in it. `expires` in RFC 3339; None: the key does not expire.
    pub fn secret(&self, key_id: &str, key: &str, expires: Option<&str>) -> Value {
        let content = secret::write(&[(&self.host, &self.user, key)]);
        let mut annotations = BTreeMap::from([(KEY, key_id)]);
        annotations.extend(expires.map(|expires| (EXPIRES, expires)));
        json!({
            "apiVersion": "v1",
            "kind": "Secret",
            "metadata": {
                "name": self.name,
                "namespace": self.namespace,
                "labels": { "app.kubernetes.io/managed-by": MANAGER },
                "annotations": annotations,
            },
            "type": SECRET_TYPE,
            "data": { ".dockerconfigjson": secret::encode(&content) },
        })
    }

    /// The links of its service accounts: applied, they leave alone what others linked.
    pub fn links(&self) -> Vec<Value> {
        let link = |name: &String| {
            json!({
                "apiVersion": "v1",
                "kind": "ServiceAccount",
                "metadata": { "name": name, "namespace": self.namespace },
                "imagePullSecrets": [{ "name": self.name }],
            })
        };
        self.service_accounts.iter().map(link).collect()
    }

    /// Whether a service account has the link.
    pub fn is_linked(&self, account: &Value) -> bool {
        let links = account["imagePullSecrets"].as_array();
        links.is_some_and(|links| {
            links.iter().any(|link| text(link, &["name"]) == Some(&*self.name))
        })
    }

    /// What is wrong with the secret that the cluster has, but for its key.
    pub fn faults(&self, found: &Value) -> Vec<ClusterFault> {
        let kind = text(found, &["type"]).unwrap_or("Opaque");
        if kind != SECRET_TYPE {
            return vec![ClusterFault::Type(kind.to_owned())];
        }
        let read = match secret::read(found) {
            Ok(read) => read,
            Err(error) => return vec![ClusterFault::Unreadable(error.to_string())],
        };
        let Some(login) = read.logins.iter().find(|login| login.host == self.host) else {
            return vec![ClusterFault::Host(
                read.logins.iter().map(|login| login.host.clone()).collect(),
            )];
        };
        let mut faults = Vec::new();
        if login.user != self.user {
            faults.push(ClusterFault::User(login.user.clone()));
        }
        if !login.agrees {
            faults.push(ClusterFault::Disagrees);
        }
        faults
    }
}

/// What can be wrong with what a cluster has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ClusterFault {
    /// The namespace does not exist.
    NoNamespace,
    /// There is no such secret; the namespaces that have one of that name.
    Missing(Vec<String>),
    /// It has another type.
    Type(String),
    /// Its content cannot be read.
    Unreadable(String),
    /// It is for other hosts.
    Host(Vec<String>),
    /// It is another user's.
    User(String),
    /// Its user and password, and the combined field, say different things.
    Disagrees,
    /// Its key was never issued here, or is written wrongly.
    Unknown,
    /// Its key has expired or was revoked.
    Ended(String),
    /// A later key was issued in the place of its key.
    Stale(String),
    /// The service account does not exist.
    NoAccount(String),
    /// The service account does not have it.
    NotLinked(String),
}

impl ClusterFault {
    /// In a word, for programs.
    pub fn word(&self) -> &'static str {
        match self {
            Self::NoNamespace => "no-namespace",
            Self::Missing(others) if !others.is_empty() => "wrong-namespace",
            Self::Missing(_) => "missing",
            Self::Type(_) => "wrong-type",
            Self::Unreadable(_) => "unreadable",
            Self::Host(_) => "wrong-host",
            Self::User(_) => "wrong-user",
            Self::Disagrees => "disagrees",
            Self::Unknown => "unknown-key",
            Self::Ended(_) => "expired",
            Self::Stale(_) => "stale",
            Self::NoAccount(_) => "no-service-account",
            Self::NotLinked(_) => "not-linked",
        }
    }
}

impl std::fmt::Display for ClusterFault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NoNamespace => f.write_str("the cluster has no such namespace"),
            Self::Missing(others) if others.is_empty() => f.write_str("the secret is missing"),
            Self::Missing(others) => {
                write!(
                    f,
                    "the secret is missing here; one of that name is in {}",
                    others.join(", ")
                )
            }
            Self::Type(kind) => {
                write!(f, "the secret's type is {kind}; kubelets read {SECRET_TYPE}")
            }
            Self::Unreadable(cause) => write!(f, "the secret cannot be read: {cause}"),
            Self::Host(hosts) if hosts.is_empty() => f.write_str("the secret names no host"),
            Self::Host(hosts) => {
                write!(f, "the secret is for {}, not for the larder", hosts.join(", "))
            }
            Self::User(user) => write!(f, "the secret is that of the user {user}"),
            Self::Disagrees => {
                f.write_str("user and password say one thing, the combined field another")
            }
            Self::Unknown => f.write_str("the larder issued no such key"),
            Self::Ended(how) => write!(f, "its key {how}"),
            Self::Stale(newer) => write!(f, "the key {newer} was issued to take its key's place"),
            Self::NoAccount(name) => write!(f, "there is no service account {name}"),
            Self::NotLinked(name) => {
                write!(f, "the service account {name} does not have the secret")
            }
        }
    }
}

/// How nodes get a pull token for their pods' service accounts: the kubelet's own configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeLogin {
    pub host: String,
    pub url: String,
    /// For whom the service accounts' tokens are meant.
    pub audience: String,
    /// Where the authority that nodes trust for the larder lies on them. None: the system's do.
    pub ca: Option<String>,
    /// How long a pull token may be used again, as the kubelet writes durations.
    pub cache: String,
}

impl NodeLogin {
    /// The kubelet's `CredentialProviderConfig` (kubelet configuration v1).
    pub fn provider(&self) -> Value {
        let mut arguments = vec!["node-login".to_owned(), "--larder".into(), self.url.clone()];
        if let Some(ca) = &self.ca {
            arguments.extend(["--ca".to_owned(), ca.clone()]);
        }
        json!({
            "apiVersion": "kubelet.config.k8s.io/v1",
            "kind": "CredentialProviderConfig",
            "providers": [{
                "name": "larder",
                "matchImages": [self.host],
                "defaultCacheDuration": self.cache,
                "apiVersion": "credentialprovider.kubelet.k8s.io/v1",
                "args": arguments,
                "tokenAttributes": {
                    "serviceAccountTokenAudience": self.audience,
                    "cacheType": "ServiceAccount",
                    "requireServiceAccount": true,
                },
            }],
        })
    }
}

/// A secret for another namespace or under another name: what belongs to the old place is left out.
///
/// # Errors
/// In words, when it is no pull secret.
pub fn moved(object: &Value, namespace: Option<&str>, name: Option<&str>) -> Result<Value, String> {
    secret::read(object).map_err(|error| error.to_string())?;
    let metadata = &object["metadata"];
    let name = name.or_else(|| text(metadata, &["name"])).ok_or("it has no name; give one")?;
    let mut target = json!({ "name": name });
    for key in ["labels", "annotations"] {
        if let Some(kept) = metadata.get(key).and_then(Value::as_object) {
            let mut kept = kept.clone();
            // What tools write about the object at its old place.
            kept.retain(|name, _| !name.contains("last-applied-configuration"));
            if !kept.is_empty() {
                target[key] = Value::Object(kept);
            }
        }
    }
    if let Some(namespace) = namespace.or_else(|| text(metadata, &["namespace"])) {
        target["namespace"] = namespace.into();
    }
    let mut moved = json!({ "apiVersion": "v1", "kind": "Secret", "metadata": target });
    for key in ["type", "data", "stringData", "immutable"] {
        if let Some(kept) = object.get(key) {
            moved[key] = kept.clone();
        }
    }
    Ok(moved)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted() -> WantedSecret {
        WantedSecret {
            namespace: "scada".into(),
            name: "larder-pull".into(),
            host: "larder.emberfall.example:5080".into(),
            user: "turbine-hall/scada".into(),
            service_accounts: vec!["default".into(), "historian".into()],
        }
    }

    #[test]
    fn what_we_write_has_nothing_wrong_with_it() {
        let wanted = wanted();
        let secret = wanted.secret("0123abcd", "larder_x", Some("2027-01-01T00:00:00Z"));
        assert_eq!(wanted.faults(&secret), []);
        assert_eq!(secret["metadata"]["annotations"]["larder/key"], "0123abcd");
        let links = wanted.links();
        assert!(links.len() == 2 && links.iter().all(|account| wanted.is_linked(account)));
        assert!(!wanted.is_linked(&json!({"imagePullSecrets": [{"name": "other"}]})));
        assert!(!wanted.is_linked(&json!({})));
    }

    #[test]
    fn each_fault_is_found() {
        let good = wanted().secret("0123abcd", "larder_x", None);
        let fault = |change: fn(&mut Value)| {
            let mut found = good.clone();
            change(&mut found);
            wanted().faults(&found).first().map(ClusterFault::word)
        };
        assert_eq!(fault(|it| it["type"] = "Opaque".into()), Some("wrong-type"));
        assert_eq!(fault(|it| it["data"] = json!({})), Some("unreadable"));
        assert_eq!(fault(|it| it["data"][".dockerconfigjson"] = "???".into()), Some("unreadable"));
        let mut other = WantedSecret { host: "other.example".into(), ..wanted() };
        assert_eq!(other.faults(&good)[0].word(), "wrong-host");
        other = WantedSecret { user: "turbine-hall".into(), ..wanted() };
        assert_eq!(other.faults(&good)[0].word(), "wrong-user");
    }

    #[test]
    fn a_secret_is_moved_without_what_belongs_to_its_old_place() {
        let mut old = wanted().secret("0123abcd", "larder_x", None);
        old["metadata"]["uid"] = "x".into();
        old["metadata"]["resourceVersion"] = "7".into();
        old["metadata"]["annotations"]["kubectl.kubernetes.io/last-applied-configuration"] =
            "{}".into();
        let new = moved(&old, Some("historian"), None).unwrap();
        assert_eq!(new["metadata"]["namespace"], "historian");
        assert_eq!(new["metadata"]["name"], "larder-pull");
        assert!(
            new["metadata"].get("uid").is_none()
                && new["metadata"].get("resourceVersion").is_none()
        );
        assert_eq!(new["metadata"]["annotations"], json!({"larder/key": "0123abcd"}));
        assert_eq!(new["data"], old["data"]);
        assert!(moved(&json!({"kind": "ConfigMap"}), None, None).is_err());
    }

    #[test]
    fn the_kubelets_configuration_names_who_is_asked_for_what() {
        let login = NodeLogin {
            host: "larder.emberfall.example:5080".into(),
            url: "https://larder.emberfall.example:5080".into(),
            audience: "larder.emberfall.example".into(),
            ca: Some("/etc/larder/ca.pem".into()),
            cache: "8m0s".into(),
        };
        let provider = &login.provider()["providers"][0];
        assert_eq!(provider["matchImages"], json!(["larder.emberfall.example:5080"]));
        assert_eq!(provider["args"][4], "/etc/larder/ca.pem");
        assert_eq!(
            provider["tokenAttributes"]["serviceAccountTokenAudience"],
            "larder.emberfall.example"
        );
    }
}
