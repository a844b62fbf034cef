//! The stand-in cluster's API: its objects, who may do what with them, its service accounts and their tokens. It
//! speaks TLS and is as unkind as the platform's own.

mod answer;
mod apply;
mod kinds;
mod lists;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use axum::Router;
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use larder_core::handoff::{Login, OLD_SECRET_TYPE, SECRET_TYPE, offers, read_secret};
use larder_core::objects::text;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use serde_json::{Value, json};
use tokio::sync::broadcast;

use apply::Manager;
use kinds::ObjectKind;

pub(crate) use answer::time;

/// A change of an object, for those who follow.
#[derive(Debug, Clone)]
pub(crate) struct ApiChange {
    pub path: String,
    /// `ADDED`, `MODIFIED`, `DELETED`.
    pub word: &'static str,
    pub object: Value,
}

/// A new name that nothing else has.
pub(crate) fn uid() -> String {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    let text = format!("{} {}", larder_store::now(), NEXT.fetch_add(1, Ordering::Relaxed));
    let hex = larder_core::digest::Digest::of(text.as_bytes()).hex().to_owned();
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..32])
}

/// A cluster's objects. Clones share them.
#[derive(Clone)]
pub struct Api {
    inner: Arc<ApiInner>,
}

struct ApiInner {
    objects: Mutex<BTreeMap<String, Value>>,
    key: EcdsaKeyPair,
    issuer: String,
    /// What the operator shows.
    token: String,
    /// Whether the operator may only read.
    read_only: AtomicBool,
    /// Whether lists are too old for their second page at once.
    hurries: AtomicBool,
    /// The namespaces in which alone the operator may do anything. None: everywhere.
    confined: Mutex<Option<Vec<String>>>,
    /// Who wrote which fields of an object, by its path.
    managers: Mutex<BTreeMap<String, Vec<Manager>>>,
    /// When it began, in RFC 3339.
    began: String,
    /// How often anything changed.
    version: AtomicU64,
    changes: broadcast::Sender<ApiChange>,
    /// Where its webhooks are reached.
    hosts: Mutex<BTreeMap<String, String>>,
    /// Its authority, and what it serves with.
    authority: String,
    tls: Arc<rustls::ServerConfig>,
}

impl Api {
    /// A cluster with these namespaces, each with its default service account.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn new(name: &str, namespaces: &[&str]) -> Result<Self, String> {
        let random = SystemRandom::new();
        let kind = &ECDSA_P256_SHA256_FIXED_SIGNING;
        let none = |_| "the system gave no random numbers".to_owned();
        let made = EcdsaKeyPair::generate_pkcs8(kind, &random).map_err(none)?;
        let key =
            EcdsaKeyPair::from_pkcs8(kind, made.as_ref(), &random).map_err(|e| e.to_string())?;
        let token = larder_core::digest::Digest::of(made.as_ref()).hex().to_owned();
        let (authority, tls) =
            served().map_err(|error| format!("a certificate cannot be made: {error}"))?;
        let inner = ApiInner {
            confined: Mutex::default(),
            managers: Mutex::default(),
            began: time(),
            version: AtomicU64::new(1),
            changes: broadcast::channel(1024).0,
            hosts: Mutex::default(),
            authority,
            tls,
            objects: Mutex::default(),
            key,
            issuer: format!("https://{name}.emberfall.example"),
            token: format!("operator-{token}"),
            read_only: AtomicBool::new(false),
            hurries: AtomicBool::new(false),
        };
        let api = Self { inner: Arc::new(inner) };
        for namespace in namespaces {
            api.add_namespace(namespace);
        }
        Ok(api)
    }

    fn objects(&self) -> MutexGuard<'_, BTreeMap<String, Value>> {
        self.inner.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Who issues the tokens of its service accounts.
    pub fn issuer(&self) -> &str {
        &self.inner.issuer
    }

    /// The operator's own token: a secret.
    pub fn operator_token(&self) -> &str {
        &self.inner.token
    }

    /// From now on the operator may only read.
    pub fn refuse_writes(&self) {
        self.inner.read_only.store(true, Ordering::Relaxed);
    }

    /// From now on a list is too old for its second page, as where much changes.
    pub fn hurry(&self) {
        self.inner.hurries.store(true, Ordering::Relaxed);
    }

    /// From now on the operator has rights in these namespaces alone.
    pub fn confine(&self, namespaces: &[&str]) {
        let mut confined = self.inner.confined.lock().unwrap_or_else(PoisonError::into_inner);
        *confined = Some(namespaces.iter().map(|name| (*name).to_owned()).collect());
    }

    /// Whether the operator may read, or change, what is in a namespace. None: of the whole cluster.
    fn may(&self, reads: bool, namespace: Option<&str>) -> bool {
        let confined = self.inner.confined.lock().unwrap_or_else(PoisonError::into_inner);
        let within = confined.as_ref().is_none_or(|spaces| {
            namespace.is_some_and(|space| spaces.iter().any(|known| known == space))
        });
        within && (reads || !self.inner.read_only.load(Ordering::Relaxed))
    }

    /// Where its webhooks are reached: names as in their URLs, each with the endpoint behind it.
    pub(crate) fn reach(&self, hosts: BTreeMap<String, String>) {
        *self.inner.hosts.lock().unwrap_or_else(PoisonError::into_inner) = hosts;
    }

    pub(crate) fn hosts(&self) -> BTreeMap<String, String> {
        self.inner.hosts.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn hurries(&self) -> bool {
        self.inner.hurries.load(Ordering::Relaxed)
    }

    fn version(&self) -> u64 {
        self.inner.version.load(Ordering::Acquire)
    }

    /// What changes from here on.
    pub(crate) fn changes(&self) -> broadcast::Receiver<ApiChange> {
        self.inner.changes.subscribe()
    }

    fn managers(&self, path: &str) -> Vec<Manager> {
        let managers = self.inner.managers.lock().unwrap_or_else(PoisonError::into_inner);
        managers.get(path).cloned().unwrap_or_default()
    }

    /// An object as clients see it: with who wrote which of its fields.
    fn shown(&self, path: &str, kind: ObjectKind) -> Option<Value> {
        let mut object = self.whole(path, kind, self.get(path)?);
        let managers = self.managers(path);
        if !managers.is_empty() {
            object["metadata"]["managedFields"] = apply::shown(&managers, &kind.version());
        }
        Some(object)
    }

    /// An object with what the platform gives each, where it was put here without.
    fn whole(&self, path: &str, kind: ObjectKind, mut object: Value) -> Value {
        let mut fill = |pointer: &[&str], value: &str| {
            if text(&object, pointer).is_none() {
                let at = pointer.iter().fold(&mut object, |at, key| &mut at[*key]);
                *at = json!(value);
            }
        };
        fill(&["kind"], kind.name);
        fill(&["apiVersion"], &kind.version());
        if let Some(place) = kinds::ApiPlace::read(path) {
            fill(&["metadata", "name"], place.name.unwrap_or_default());
            if let Some(space) = place.namespace {
                fill(&["metadata", "namespace"], space);
            }
        }
        fill(&["metadata", "creationTimestamp"], &self.inner.began);
        object
    }

    /// All objects of a kind, of one namespace or of all, and how often anything changed.
    fn all(&self, kind: ObjectKind, namespace: Option<&str>) -> (Vec<Value>, u64) {
        let objects = self.objects();
        let its = |path: &str| {
            kinds::ApiPlace::read(path).is_some_and(|place| {
                place.kind().is_some_and(|it| it.name == kind.name)
                    && place.name.is_some()
                    && (namespace.is_none() || place.namespace == namespace)
            })
        };
        let found = objects
            .iter()
            .filter(|(path, _)| its(path))
            .map(|(path, object)| self.whole(path, kind, object.clone()));
        (found.collect(), self.version())
    }

    /// Objects of a kind by its plural, in all namespaces, with their paths.
    pub(crate) fn of_plural(&self, plural: &str) -> Vec<(String, Value)> {
        let objects = self.objects();
        let its = |path: &str| {
            kinds::ApiPlace::read(path)
                .is_some_and(|place| place.plural == plural && place.name.is_some())
        };
        objects
            .iter()
            .filter(|(path, _)| its(path))
            .map(|(path, it)| (path.clone(), it.clone()))
            .collect()
    }

    /// Keeps an object, with who wrote which of its fields. One that did not change stays as it is.
    fn store(&self, path: &str, mut object: Value, managers: Option<Vec<Manager>>) {
        let mut objects = self.objects();
        let bare = |object: &Value| {
            let mut object = object.clone();
            if let Some(metadata) = object["metadata"].as_object_mut() {
                metadata.remove("resourceVersion");
            }
            object
        };
        let word = match objects.get(path) {
            Some(before) if bare(before) == bare(&object) => "",
            Some(_) => "MODIFIED",
            None => "ADDED",
        };
        if let Some(managers) = managers {
            let mut all = self.inner.managers.lock().unwrap_or_else(PoisonError::into_inner);
            all.insert(path.to_owned(), managers);
        }
        if word.is_empty() {
            return;
        }
        let version = self.inner.version.fetch_add(1, Ordering::AcqRel) + 1;
        object["metadata"]["resourceVersion"] = json!(version.to_string());
        objects.insert(path.to_owned(), object.clone());
        drop(objects);
        // That nobody follows is no fault.
        let _ = self.inner.changes.send(ApiChange { path: path.to_owned(), word, object });
    }

    /// Keeps what somebody wrote in another way than by applying.
    pub(crate) fn update(&self, path: &str, object: Value, manager: &str) {
        let before = self.get(path).unwrap_or(Value::Null);
        let managers = apply::update(&before, &object, &self.managers(path), manager);
        self.store(path, object, Some(managers));
    }

    /// Takes away all that lies below a path.
    fn remove_below(&self, path: &str) {
        let below = format!("{path}/");
        let paths: Vec<String> =
            self.objects().keys().filter(|at| at.starts_with(&below)).cloned().collect();
        for path in paths {
            self.remove(&path);
        }
    }

    /// What the platform's own admission does with a pod (the plug-in `ServiceAccount`).
    ///
    /// # Errors
    /// Why it is refused.
    pub(crate) fn give_account(&self, namespace: &str, pod: &mut Value) -> Result<(), String> {
        let account = text(&pod["spec"], &["serviceAccountName"]).unwrap_or("default").to_owned();
        let path = format!("/api/v1/namespaces/{namespace}/serviceaccounts/{account}");
        let name = text(pod, &["metadata", "name"]).unwrap_or_default().to_owned();
        let Some(found) = self.get(&path) else {
            return Err(format!(
                "pods \"{name}\" is forbidden: error looking up service account {namespace}/{account}: serviceaccount \"{account}\" not found"
            ));
        };
        pod["spec"]["serviceAccountName"] = json!(account);
        let none = pod["spec"]["imagePullSecrets"].as_array().is_none_or(Vec::is_empty);
        if none && found["imagePullSecrets"].is_array() {
            pod["spec"]["imagePullSecrets"] = found["imagePullSecrets"].clone();
        }
        Ok(())
    }

    /// Adds a namespace with its default service account.
    pub fn add_namespace(&self, name: &str) {
        let metadata = json!({ "name": name });
        let space = json!({ "apiVersion": "v1", "kind": "Namespace", "metadata": metadata });
        self.objects().insert(format!("/api/v1/namespaces/{name}"), space);
        self.add_account(name, "default");
    }

    /// Adds a service account.
    pub fn add_account(&self, namespace: &str, name: &str) {
        let account = json!({
            "apiVersion": "v1", "kind": "ServiceAccount",
            "metadata": { "name": name, "namespace": namespace },
        });
        let path = format!("/api/v1/namespaces/{namespace}/serviceaccounts/{name}");
        self.objects().insert(path, account);
    }

    /// Puts an object in its place, as it is.
    pub fn put(&self, path: &str, object: Value) {
        let before = self.objects().insert(path.to_owned(), object.clone());
        self.inner.version.fetch_add(1, Ordering::AcqRel);
        let word = if before.is_some() { "MODIFIED" } else { "ADDED" };
        let _ = self.inner.changes.send(ApiChange { path: path.to_owned(), word, object });
    }

    /// Takes an object away.
    pub fn remove(&self, path: &str) {
        let Some(object) = self.objects().remove(path) else { return };
        self.inner.managers.lock().unwrap_or_else(PoisonError::into_inner).remove(path);
        self.inner.version.fetch_add(1, Ordering::AcqRel);
        let _ =
            self.inner.changes.send(ApiChange { path: path.to_owned(), word: "DELETED", object });
    }

    /// An object. None: there is none.
    pub fn get(&self, path: &str) -> Option<Value> {
        self.objects().get(path).cloned()
    }

    /// The webhooks that are asked about objects of a kind, of those that change them or those that
    /// judge them: where each is asked, and whether its silence is a refusal.
    pub(crate) fn webhooks(
        &self,
        changing: bool,
        kind: &str,
        namespace: &str,
    ) -> Vec<(String, bool)> {
        let configured = if changing {
            "/apis/admissionregistration.k8s.io/v1/mutatingwebhookconfigurations/"
        } else {
            "/apis/admissionregistration.k8s.io/v1/validatingwebhookconfigurations/"
        };
        let resource = format!("{}s", kind.to_lowercase());
        let objects = self.objects();
        let found = objects.iter().filter(|(path, _)| path.starts_with(configured));
        let hooks = found.filter_map(|(_, object)| object["webhooks"].as_array()).flatten();
        let asks = |hook: &&Value| {
            let rules = hook["rules"].as_array().map(Vec::as_slice).unwrap_or_default();
            let has = |list: &Value, text: &str| {
                list.as_array().is_some_and(|all| all.iter().any(|it| it == text))
            };
            let named = rules.iter().any(|rule| {
                has(&rule["resources"], &resource) && has(&rule["operations"], "CREATE")
            });
            let selectors = hook["namespaceSelector"]["matchExpressions"].as_array();
            let left_out = selectors
                .into_iter()
                .flatten()
                .any(|one| one["operator"] == "NotIn" && has(&one["values"], namespace));
            named && !left_out
        };
        hooks
            .filter(asks)
            .filter_map(|hook| {
                let url = text(hook, &["clientConfig", "url"])?;
                Some((url.to_owned(), hook["failurePolicy"] != "Ignore"))
            })
            .collect()
    }

    /// The logins that a kubelet has for a pod: of the secrets that the pod and its service account
    /// name, those that fit the image.
    pub fn logins(
        &self,
        namespace: &str,
        account: &str,
        named: &[String],
        image: &str,
    ) -> Vec<Login> {
        let objects = self.objects();
        let at = |kind: &str, name: &str| {
            objects.get(&format!("/api/v1/namespaces/{namespace}/{kind}/{name}"))
        };
        let mut names = named.to_vec();
        // Admission puts the account's secrets into a pod that names none.
        if names.is_empty() {
            let links = at("serviceaccounts", account).map(|it| &it["imagePullSecrets"]);
            let links = links.and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
            names.extend(links.iter().filter_map(|link| text(link, &["name"])).map(str::to_owned));
        }
        let secrets = names.iter().filter_map(|name| at("secrets", name));
        let read = secrets.filter(|it| {
            let kind = text(it, &["type"]);
            kind == Some(SECRET_TYPE) || kind == Some(OLD_SECRET_TYPE)
        });
        let read = read.filter_map(|secret| read_secret(secret).ok());
        let logins: Vec<Login> = read.flat_map(|secret| secret.logins).collect();
        let offered = offers(logins.iter().map(|login| (login, ())), image);
        offered.into_iter().map(|(login, ())| login.clone()).collect()
    }

    /// A token of a service account, good from a time for ten minutes, in seconds since 1970.
    pub fn account_token(
        &self,
        namespace: &str,
        account: &str,
        audience: &str,
        now: i64,
    ) -> String {
        let claims = json!({
            "iss": self.inner.issuer, "aud": [audience], "iat": now, "nbf": now, "exp": now + 600,
            "sub": format!("system:serviceaccount:{namespace}:{account}"),
            "kubernetes.io": { "namespace": namespace, "serviceaccount": { "name": account } },
        });
        self.sign(&claims)
    }

    /// A token that says anything.
    pub fn sign(&self, claims: &Value) -> String {
        let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let head = json!({ "alg": "ES256", "kid": "stand-in", "typ": "JWT" });
        let signed = format!("{}.{}", part(&head), part(claims));
        let signature = self.inner.key.sign(&SystemRandom::new(), signed.as_bytes());
        let signature = signature.map(|it| URL_SAFE_NO_PAD.encode(it.as_ref())).unwrap_or_default();
        format!("{signed}.{signature}")
    }

    /// The keys with which it signs.
    pub fn key_set(&self) -> Value {
        let point = self.inner.key.public_key().as_ref();
        let (x, y) = (&point[1..33], &point[33..]);
        let encode = |bytes: &[u8]| URL_SAFE_NO_PAD.encode(bytes);
        json!({ "keys": [{
            "kty": "EC", "crv": "P-256", "alg": "ES256", "use": "sig", "kid": "stand-in",
            "x": encode(x), "y": encode(y),
        }]})
    }

    /// The operator's kubeconfig.
    pub fn kubeconfig(&self, address: SocketAddr) -> String {
        format!(
            "apiVersion: v1\nkind: Config\ncurrent-context: stand-in\nclusters:\n- name: stand-in\n  cluster: {{server: \"https://{address}\", certificate-authority-data: {}}}\n\
             contexts:\n- name: stand-in\n  context: {{cluster: stand-in, user: operator}}\nusers:\n- name: operator\n  user: {{token: {}}}\n",
            STANDARD.encode(&self.inner.authority),
            self.inner.token
        )
    }

    /// The authority that signed its certificate, in PEM.
    pub fn authority(&self) -> &str {
        &self.inner.authority
    }

    /// Answers on a free loopback port, by TLS.
    pub async fn listen(&self) -> std::io::Result<SocketAddr> {
        let router = Router::new().fallback(answer::answer).with_state(self.clone());
        let tls = larder_server::Tls::fixed(Arc::clone(&self.inner.tls));
        crate::serve_on_loopback("a stand-in cluster's API", router, Some(tls)).await
    }
}

/// An authority of its own, in PEM, and what the API serves with.
fn served() -> Result<(String, Arc<rustls::ServerConfig>), Box<dyn std::error::Error>> {
    let mut above = rcgen::CertificateParams::new(Vec::new())?;
    above.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    above.distinguished_name.push(rcgen::DnType::CommonName, "the stand-in cluster's authority");
    let authority = rcgen::CertifiedIssuer::self_signed(above, rcgen::KeyPair::generate()?)?;
    let key = rcgen::KeyPair::generate()?;
    let names = vec!["127.0.0.1".to_owned(), "localhost".to_owned()];
    let cert = rcgen::CertificateParams::new(names)?.signed_by(&key, &authority)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let der = rustls::pki_types::PrivateKeyDer::try_from(key.serialize_der())?;
    let tls = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_single_cert(vec![cert.der().clone()], der)?;
    Ok((authority.pem(), Arc::new(tls)))
}
