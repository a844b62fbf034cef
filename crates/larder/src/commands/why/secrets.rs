//! With what does the pod sign in, and where does that come from?

use std::path::Path;

use larder_core::access::key::{Key, Pepper};
use larder_core::diagnosis::{Credential, KeyState, Secret, SecretFault};
use larder_core::handoff::{Login, OLD_SECRET_TYPE, SECRET_TYPE, SecretLogin, offers, read_secret};
use larder_core::objects::{self, text};
use larder_core::reference::Reference;
use larder_store::{KeyRecord, Store, now};
use larder_transfer::files::read_bounded;
use serde_json::Value;

use super::Args;
use crate::config::Config;
use crate::failure::Failure;
use crate::output::ago;

/// What is known of a pod and of what it pulls with.
#[derive(Default)]
pub(super) struct PullingPod {
    /// The namespace that it says. None: it says none.
    pub namespace: Option<String>,
    /// The pull secrets that it names; those of its service account where it names none. None: nobody
    /// looked.
    pub names: Option<Vec<String>>,
    /// Secrets that are known, of any namespace.
    pub secrets: Vec<Value>,
    keys: SecretLogins,
}

/// What a kubelet offers for an image.
#[derive(Default)]
pub(super) struct Logins {
    /// Each login with what is told of it, in the order in which they are tried.
    pub offers: Vec<(Secret, Login)>,
    /// Where none is offered: why. None: nobody looked.
    pub instead: Option<Credential>,
}

/// The keys that this larder issued.
#[derive(Default)]
struct SecretLogins {
    host: Option<String>,
    pepper: Option<Pepper>,
    known: Vec<KeyRecord>,
}

fn cannot_read(path: &Path) -> String {
    format!("cannot read {}", larder_transfer::files::named(path))
}

/// The objects of a file of the operator's.
fn objects_in(path: &Path, remedy: &str) -> Result<Vec<Value>, Failure> {
    let bytes = read_bounded(path, objects::LIMIT)
        .map_err(|error| Failure::io(cannot_read(path), &error))?;
    String::from_utf8(bytes)
        .map_err(|error| error.to_string())
        .and_then(|text| objects::read(&text).map_err(|error| error.to_string()))
        .map_err(|cause| Failure::usage(cannot_read(path), cause, remedy))
}

/// Whether kubelets read a secret as a pull secret.
fn is_pull_secret(secret: &Value) -> bool {
    matches!(text(secret, &["type"]), Some(SECRET_TYPE | OLD_SECRET_TYPE))
}

impl PullingPod {
    /// From the files that were named.
    pub fn read(args: &Args) -> Result<Self, Failure> {
        let mut pod = Self::default();
        let mut accounts = Vec::new();
        for path in &args.secret {
            for one in objects_in(path, "name a file of objects")? {
                match text(&one, &["kind"]) {
                    Some("ServiceAccount") => accounts.push(one),
                    _ => pod.secrets.push(one),
                }
            }
        }
        if let Some(path) = &args.pod {
            const REMEDY: &str = "name a pod's or a workload's file";
            let all = objects_in(path, REMEDY)?;
            let object = all.iter().find(|one| spec(one).is_some());
            let Some(object) = object else {
                return Err(Failure::usage(
                    cannot_read(path),
                    "it holds no pod and no workload",
                    REMEDY,
                ));
            };
            pod.of(object, &accounts);
        } else if !accounts.is_empty() {
            // The accounts alone say what pods of theirs are given.
            pod.names = Some(accounts.iter().flat_map(links).collect());
        }
        Ok(pod)
    }

    /// Takes what an object says, with the service accounts that are known.
    pub fn of(&mut self, object: &Value, accounts: &[Value]) {
        let Some(spec) = spec(object) else { return };
        self.namespace = text(object, &["metadata", "namespace"]).map(str::to_owned);
        let named = links(spec);
        let account = text(spec, &["serviceAccountName"]).unwrap_or("default");
        let its = accounts.iter().find(|one| {
            text(one, &["metadata", "name"]) == Some(account)
                && (self.namespace.is_none()
                    || text(one, &["metadata", "namespace"])
                        .is_none_or(|it| Some(it) == self.namespace.as_deref()))
        });
        self.names = match (named.is_empty(), its) {
            (false, _) => Some(named),
            (true, Some(account)) => Some(links(account)),
            // What its service account would add is not known.
            (true, None) if self.secrets.is_empty() => None,
            (true, None) => Some(Vec::new()),
        };
    }

    /// With the keys that this larder issued, so that it can tell what is wrong with one.
    pub async fn knowing_keys(
        mut self,
        config: Option<&Config>,
        store: Option<&Store>,
    ) -> Result<Self, Failure> {
        let (Some(config), Some(store)) = (config, store) else { return Ok(self) };
        if self.secrets.is_empty() {
            return Ok(self);
        }
        let known = store.keys().await;
        self.keys = SecretLogins {
            host: Some(config.larder.url.host.to_string()),
            pepper: Some(Pepper::new(&crate::access::secret(config)?)),
            known: known.map_err(|error| Failure::store("cannot read the keys", &error))?,
        };
        Ok(self)
    }

    /// With what it signs in for an image, in the order in which a kubelet tries them.
    pub fn logins(&self, reference: &Reference, namespace: Option<&str>) -> Logins {
        if self.names.is_none() && self.secrets.is_empty() {
            return Logins::default();
        }
        let image = reference.image().to_string();
        let namespace = self.namespace.as_deref().or(namespace);
        let name_of =
            |one: &Value| text(one, &["metadata", "name"]).unwrap_or("unnamed").to_owned();
        let space_of = |one: &Value| text(one, &["metadata", "namespace"]).map(str::to_owned);
        let here = |one: &&Value| {
            namespace.is_none() || space_of(one).is_none_or(|its| Some(&*its) == namespace)
        };
        let Some(names) = &self.names else {
            // Secrets alone: each counts as one that the pod names.
            return self.offered(self.secrets.iter().collect(), &image);
        };
        if names.is_empty() {
            let linked =
                self.secrets.iter().filter(here).find(|one| Self::fits(one, &image).is_some());
            let credential = match linked {
                Some(one) => Credential::Unfit(SecretFault::NotLinked(name_of(one))),
                None => Credential::None,
            };
            return Logins { instead: Some(credential), offers: Vec::new() };
        }
        let mut found = Vec::new();
        let mut missing = None;
        for name in names {
            let named = || self.secrets.iter().filter(|one| name_of(one) == *name);
            match named().find(here) {
                Some(one) => found.push(one),
                None => {
                    let elsewhere = named().filter_map(space_of).collect();
                    let others: Vec<String> = self
                        .secrets
                        .iter()
                        .filter(here)
                        .filter(|one| is_pull_secret(one))
                        .map(name_of)
                        .collect();
                    let near =
                        larder_core::nearest::nearest(name, others.iter().map(String::as_str));
                    let near = near.map(str::to_owned);
                    missing.get_or_insert(SecretFault::Missing {
                        name: name.clone(),
                        elsewhere,
                        near,
                    });
                }
            }
        }
        match (found.is_empty(), missing) {
            // The names alone are known, and no secret at all: nothing can be told of them.
            (true, Some(_)) if self.secrets.is_empty() => Logins::default(),
            (true, Some(missing)) => {
                Logins { instead: Some(Credential::Unfit(missing)), offers: Vec::new() }
            }
            _ => self.offered(found, &image),
        }
    }

    /// The login of a secret that a kubelet offers for an image. None: none.
    fn fits(secret: &Value, image: &str) -> Option<Login> {
        let read = read_secret(secret).ok()?;
        read.logins.into_iter().find(|login| login.serves(image))
    }

    /// All that fit; else what is wrong with the first.
    fn offered(&self, secrets: Vec<&Value>, image: &str) -> Logins {
        let mut fault = None;
        // A list of all secrets has others too: they count only where there is no pull secret among them.
        let mut other = None;
        let mut all = Vec::new();
        for one in secrets {
            if !is_pull_secret(one) {
                let kind = text(one, &["type"]).unwrap_or("Opaque");
                other.get_or_insert(SecretFault::Type(kind.to_owned()));
                continue;
            }
            let logins = match read_secret(one) {
                Ok(read) => read.logins,
                Err(error) => {
                    fault.get_or_insert(SecretFault::Unreadable(error.to_string()));
                    continue;
                }
            };
            if !logins.iter().any(|login| login.serves(image)) {
                let hosts = logins.into_iter().map(|login| login.host).collect();
                fault.get_or_insert(SecretFault::Host(hosts));
                continue;
            }
            let place = [text(one, &["metadata", "namespace"]), text(one, &["metadata", "name"])];
            let place: Vec<&str> = place.into_iter().flatten().collect();
            let from = format!("pull secret {}", place.join("/"));
            all.extend(logins.into_iter().map(|login| (login, from.clone())));
        }
        let offered = offers(all.iter().map(|(login, from)| (login, from)), image);
        let offered: Vec<(Secret, Login)> = offered
            .into_iter()
            .map(|(login, from)| {
                let secret = Secret {
                    from: from.clone(),
                    user: login.user.clone(),
                    agrees: login.agrees,
                    key: self.keys.state(login, image),
                };
                (secret, login.clone())
            })
            .collect();
        let instead = offered.is_empty().then(|| fault.or(other).map(Credential::Unfit)).flatten();
        Logins { offers: offered, instead }
    }
}

impl SecretLogins {
    /// What is known of the key in a login. None: it is for another host.
    fn state(&self, login: &Login, image: &str) -> Option<KeyState> {
        let host = self.host.as_ref()?;
        if !image.starts_with(&format!("{host}/")) {
            return None;
        }
        let Some(SecretLogin::Password(text)) = &login.held else { return Some(KeyState::Unknown) };
        let Ok(key) = text.parse::<Key>() else { return Some(KeyState::Unknown) };
        let pepper = self.pepper.as_ref()?;
        let record =
            self.known.iter().find(|one| one.id == key.id() && pepper.verifies(&key, &one.hash));
        Some(match record {
            None => KeyState::Unknown,
            Some(record) => match (record.revoked, record.expires) {
                (Some(at), _) => KeyState::Revoked(ago(at, now())),
                (None, Some(end)) if end <= now() => KeyState::Expired(ago(end, now())),
                _ => KeyState::Good,
            },
        })
    }
}

/// The pod spec of a pod or a workload.
pub(super) fn spec(object: &Value) -> Option<&Value> {
    let spec = &object["spec"];
    let paths: [&[&str]; 3] =
        [&[], &["template", "spec"], &["jobTemplate", "spec", "template", "spec"]];
    paths
        .iter()
        .map(|path| path.iter().fold(spec, |at, key| &at[*key]))
        .find(|one| one["containers"].is_array())
}

fn links(of: &Value) -> Vec<String> {
    let all = of["imagePullSecrets"].as_array().map(Vec::as_slice).unwrap_or_default();
    all.iter().filter_map(|one| text(one, &["name"])).map(str::to_owned).collect()
}
