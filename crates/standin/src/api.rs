//! The stand-in cluster's API: namespaces, secrets, service accounts and their tokens, with the
//! platform's own refusals.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use axum::Router;
use axum::body::Bytes;
use axum::extract::{Request, State};
use axum::http::{Method, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use larder_core::handoff::{Login, OLD_SECRET_TYPE, SECRET_TYPE, offers, read_secret};
use larder_core::objects::text;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use serde_json::{Value, json};

/// A cluster's objects. Clones share them.
#[derive(Clone)]
pub struct Api {
    inner: Arc<Inner>,
}

struct Inner {
    /// By their paths.
    objects: Mutex<BTreeMap<String, Value>>,
    key: EcdsaKeyPair,
    issuer: String,
    /// What the operator shows.
    token: String,
    /// Whether the operator may only read.
    read_only: AtomicBool,
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
        let inner = Inner {
            objects: Mutex::default(),
            key,
            issuer: format!("https://{name}.emberfall.example"),
            token: format!("operator-{token}"),
            read_only: AtomicBool::new(false),
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
        self.objects().insert(path.to_owned(), object);
    }

    /// Takes an object away.
    pub fn remove(&self, path: &str) {
        self.objects().remove(path);
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
            "apiVersion: v1\nkind: Config\ncurrent-context: stand-in\nclusters:\n- name: stand-in\n  cluster: {{server: \"http://{address}\"}}\n\
             contexts:\n- name: stand-in\n  context: {{cluster: stand-in, user: operator}}\nusers:\n- name: operator\n  user: {{token: {}}}\n",
            self.inner.token
        )
    }

    /// Answers on a free loopback port.
    pub async fn listen(&self) -> std::io::Result<SocketAddr> {
        let router = Router::new().fallback(answer).with_state(self.clone());
        crate::serve_on_loopback("a stand-in cluster's API", router).await
    }
}

/// The platform's word for what went wrong (Kubernetes API, "Status").
fn status(code: StatusCode, reason: &str, message: &str) -> Response {
    let body = json!({
        "kind": "Status", "apiVersion": "v1", "status": "Failure", "reason": reason,
        "message": message, "code": code.as_u16(),
    });
    (code, [(header::CONTENT_TYPE, "application/json")], body.to_string()).into_response()
}

fn answered(value: &Value) -> Response {
    ([(header::CONTENT_TYPE, "application/json")], value.to_string()).into_response()
}

async fn answer(State(api): State<Api>, request: Request) -> Response {
    let (parts, body) = request.into_parts();
    let path = parts.uri.path().trim_end_matches('/').to_owned();
    if path == "/openid/v1/jwks" {
        return answered(&api.key_set());
    }
    let shown = parts.headers.get(header::AUTHORIZATION).and_then(|it| it.to_str().ok());
    if shown.and_then(|shown| shown.strip_prefix("Bearer ")) != Some(api.operator_token()) {
        return status(StatusCode::UNAUTHORIZED, "Unauthorized", "Unauthorized");
    }
    let Ok(body) = axum::body::to_bytes(body, 1 << 20).await else {
        return status(StatusCode::BAD_REQUEST, "BadRequest", "the body cannot be read");
    };
    if parts.method != Method::GET && api.inner.read_only.load(Ordering::Relaxed) {
        let message = format!("User \"operator\" cannot patch \"{path}\"");
        return status(StatusCode::FORBIDDEN, "Forbidden", &message);
    }
    match parts.method {
        Method::GET => get(&api, &path),
        Method::PATCH => apply(&api, &path, &parts.headers, &body),
        Method::DELETE => match api.objects().remove(&path) {
            Some(_) => {
                answered(&json!({ "kind": "Status", "apiVersion": "v1", "status": "Success" }))
            }
            None => absent(&path),
        },
        _ => status(StatusCode::METHOD_NOT_ALLOWED, "MethodNotAllowed", "it is not supported here"),
    }
}

fn absent(path: &str) -> Response {
    let mut parts = path.rsplit('/');
    let (name, kind) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
    status(StatusCode::NOT_FOUND, "NotFound", &format!("{kind} \"{name}\" not found"))
}

fn get(api: &Api, path: &str) -> Response {
    if path == "/version" {
        return answered(&json!({ "major": "1", "minor": "32", "gitVersion": "v1.32.0" }));
    }
    let objects = api.objects();
    if let Some(object) = objects.get(path) {
        return answered(object);
    }
    // A list: of all namespaces (`/api/v1/pods`, `/apis/apps/v1/deployments`), or of one of them.
    let Some((base, kind)) = path.rsplit_once('/') else { return absent(path) };
    let parts: Vec<&str> = path.trim_start_matches('/').split('/').collect();
    let is_list = match parts.as_slice() {
        ["api", "v1", rest @ ..] | ["apis", _, "v1", rest @ ..] => {
            matches!(rest, [_] | ["namespaces", _, _])
        }
        _ => false,
    };
    if !is_list {
        return absent(path);
    }
    let is_one = |at: &str| {
        let Some(rest) = at.strip_prefix(base).and_then(|rest| rest.strip_prefix('/')) else {
            return false;
        };
        match rest.split('/').collect::<Vec<_>>().as_slice() {
            [its, _] => *its == kind,
            ["namespaces", _, its, _] => *its == kind,
            _ => false,
        }
    };
    // As the platform's own: the list says the kind, and its items do not.
    let found = objects.iter().filter(|(at, _)| is_one(at)).map(|(_, it)| it);
    let kinds = found.clone().find_map(|it| text(it, &["kind"])).unwrap_or_default().to_owned();
    let items: Vec<Value> = found
        .map(|it| {
            let mut item = it.clone();
            if let Some(item) = item.as_object_mut() {
                item.remove("kind");
                item.remove("apiVersion");
            }
            item
        })
        .collect();
    answered(&json!({
        "apiVersion": "v1", "kind": format!("{kinds}List"), "metadata": { "resourceVersion": "1" },
        "items": items,
    }))
}

fn apply(api: &Api, path: &str, headers: &axum::http::HeaderMap, body: &Bytes) -> Response {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
    if kind != Some("application/apply-patch+yaml") {
        let message = "the body of the request was in an unknown format";
        return status(StatusCode::UNSUPPORTED_MEDIA_TYPE, "UnsupportedMediaType", message);
    }
    let read = std::str::from_utf8(body).ok().and_then(|it| larder_core::objects::read(it).ok());
    let Some(given) = read.and_then(|all| all.into_iter().next()) else {
        return status(StatusCode::BAD_REQUEST, "BadRequest", "error decoding YAML");
    };
    let expected = path.rsplit('/').next().unwrap_or_default();
    if text(&given, &["metadata", "name"]) != Some(expected) {
        let message = "the name of the object does not match the name on the URL";
        return status(StatusCode::BAD_REQUEST, "BadRequest", message);
    }
    let mut objects = api.objects();
    let namespace = path.split('/').take(5).collect::<Vec<_>>().join("/");
    if path.contains("/namespaces/") && !objects.contains_key(&namespace) {
        let name = namespace.rsplit('/').next().unwrap_or_default();
        let message = format!("namespaces \"{name}\" not found");
        return status(StatusCode::NOT_FOUND, "NotFound", &message);
    }
    let before = objects.get(path).cloned().unwrap_or(Value::Null);
    if before["kind"] == "Secret" && before["type"] != given["type"] {
        let message = format!("Secret \"{expected}\" is invalid: type: field is immutable");
        return status(StatusCode::UNPROCESSABLE_ENTITY, "Invalid", &message);
    }
    let after = merge(before, &given);
    objects.insert(path.to_owned(), after.clone());
    answered(&after)
}

/// Server-side apply: what the other owns stays; lists of named things are joined by name.
fn merge(before: Value, given: &Value) -> Value {
    match (before, given) {
        (Value::Object(mut before), Value::Object(given)) => {
            for (key, value) in given {
                let old = before.remove(key).unwrap_or(Value::Null);
                before.insert(key.clone(), merge(old, value));
            }
            Value::Object(before)
        }
        (Value::Array(mut before), Value::Array(given)) => {
            for item in given {
                match before.iter_mut().find(|old| old["name"] == item["name"]) {
                    Some(old) if item["name"].is_string() => *old = merge(old.take(), item),
                    Some(_) => {}
                    None => before.push(item.clone()),
                }
            }
            Value::Array(before)
        }
        (_, given) => given.clone(),
    }
}
