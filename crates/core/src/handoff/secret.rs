//! Pull secrets: `kubernetes.io/dockerconfigjson`, the older `kubernetes.io/dockercfg`, and the client
//! configuration that stands in them.

use std::fmt;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Map, Value, json};

use crate::objects::{self, text};

/// The largest content of a secret, in bytes (Kubernetes API, "Secrets").
const LIMIT: usize = 1024 * 1024;

/// A pull secret, or a client's configuration, taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PullSecret {
    /// The secret's namespace. None: none is written, or it is a client's configuration.
    pub namespace: Option<String>,
    pub name: Option<String>,
    /// Its type. None: it is a client's configuration.
    pub kind: Option<String>,
    /// The logins in it, in the order of the text.
    pub logins: Vec<Login>,
}

/// One login. Printing it shows no secret.
#[derive(Clone, PartialEq, Eq)]
pub struct Login {
    /// For which host, or part of one, as a reference begins.
    pub host: String,
    /// The user's name. Empty: none.
    pub user: String,
    /// What it holds. None: nothing.
    pub held: Option<SecretLogin>,
    /// Whether user and password, and the combined field, say the same where both are there.
    pub agrees: bool,
}

/// What a login holds.
#[derive(Clone, PartialEq, Eq)]
pub enum SecretLogin {
    /// A password, or one of our keys.
    Password(String),
    /// A token that stands for user and password.
    Identity(String),
}

impl SecretLogin {
    /// The secret itself.
    pub fn reveal(&self) -> &str {
        match self {
            Self::Password(text) | Self::Identity(text) => text,
        }
    }
}

impl fmt::Debug for SecretLogin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Password(_) => "a password",
            Self::Identity(_) => "an identity token",
        })
    }
}

impl fmt::Debug for Login {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} at {}: {:?}", self.user, self.host, self.held)
    }
}

impl Login {
    /// By what kubelets sort logins, the largest first.
    pub fn order(&self) -> (&str, &str) {
        split(&self.host)
    }

    /// Whether a kubelet offers it for a reference: hosts match whole, `*` stands for one part of a
    /// host's name, and a path is the beginning of the repository's.
    pub fn serves(&self, reference: &str) -> bool {
        let (host, path) = split(&self.host);
        let (wanted, repository) = split(reference);
        let (name, port) =
            host.split_once(':').map_or((host, None), |(name, port)| (name, Some(port)));
        let (asked, asked_port) =
            wanted.split_once(':').map_or((wanted, None), |(name, port)| (name, Some(port)));
        let parts = |text: &str| text.split('.').map(str::to_owned).collect::<Vec<_>>();
        let (name, asked) = (parts(name), parts(asked));
        port == asked_port
            && name.len() == asked.len()
            && name.iter().zip(&asked).all(|(pattern, part)| is_like(pattern, part))
            && repository.starts_with(path)
    }
}

/// What a kubelet offers for an image, each tried in turn until one is let in: the most specific host and path first
/// (the later in the alphabet, as kubelets sort), and of one the first that was named.
pub fn offers<'l, T>(
    logins: impl IntoIterator<Item = (&'l Login, T)>,
    image: &str,
) -> Vec<(&'l Login, T)> {
    let mut all: Vec<(&Login, T)> =
        logins.into_iter().filter(|(login, _)| login.serves(image)).collect();
    all.sort_by(|(a, _), (b, _)| b.order().cmp(&a.order()));
    all
}

/// The host and what follows it, without scheme.
fn split(text: &str) -> (&str, &str) {
    let text = text.split_once("://").map_or(text, |(_, rest)| rest);
    let text = text.trim_end_matches('/');
    // The older form ends with the protocol's version.
    let text = text.strip_suffix("/v1").or_else(|| text.strip_suffix("/v2")).unwrap_or(text);
    text.split_once('/').unwrap_or((text, ""))
}

/// Whether a part of a name is like a pattern in which `*` is anything.
fn is_like(pattern: &str, part: &str) -> bool {
    let mut rest = part;
    let mut pieces = pattern.split('*').peekable();
    let Some(first) = pieces.next() else { return true };
    let Some(after) = rest.strip_prefix(first) else { return false };
    rest = after;
    while let Some(piece) = pieces.next() {
        if pieces.peek().is_none() {
            return rest.ends_with(piece);
        }
        match rest.find(piece) {
            Some(at) => rest = &rest[at + piece.len()..],
            None => return false,
        }
    }
    rest.is_empty()
}

/// Why something is no pull secret.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SecretError {
    /// The text is no YAML or JSON.
    #[error("it is neither YAML nor JSON: {0}")]
    Text(String),
    #[error("it is no Secret but a {0}")]
    Kind(String),
    /// A secret without a pull secret's content.
    #[error("it has no `.dockerconfigjson` and no `.dockercfg`")]
    Content,
    /// Content that is no base64.
    #[error("its content is no base64")]
    Encoding,
    /// Content that is no client's configuration.
    #[error("what is in it is no client's configuration (JSON with `auths`)")]
    Configuration,
}

/// What is in one Secret, whatever says that it is one: in a list of an API, its items do not.
pub fn read_secret(object: &Value) -> Result<PullSecret, SecretError> {
    match text(object, &["kind"]) {
        Some("Secret") => read(object),
        Some(other) => Err(SecretError::Kind(other.chars().take(60).collect())),
        None => content_of(object),
    }
}

/// Reads all pull secrets of a text: Secrets in YAML or JSON, or a client's configuration.
pub fn read_secrets(text: &str) -> Result<Vec<PullSecret>, SecretError> {
    let all = objects::read(text).map_err(|error| SecretError::Text(error.to_string()))?;
    let secrets: Vec<&Value> = all.iter().filter(|one| is_readable(one)).collect();
    match (secrets.as_slice(), all.first()) {
        ([], Some(other)) => match self::text(other, &["kind"]) {
            Some(kind) => Err(SecretError::Kind(kind.chars().take(60).collect())),
            None => Err(SecretError::Configuration),
        },
        ([], None) => Err(SecretError::Content),
        (secrets, _) => secrets.iter().map(|one| read(one)).collect(),
    }
}

fn is_readable(value: &Value) -> bool {
    text(value, &["kind"]) == Some("Secret") || value.get("auths").is_some()
}

/// Reads one.
pub(super) fn read(object: &Value) -> Result<PullSecret, SecretError> {
    if let Some(auths) = object.get("auths").and_then(Value::as_object) {
        let logins = logins(auths);
        return Ok(PullSecret { namespace: None, name: None, kind: None, logins });
    }
    if text(object, &["kind"]) != Some("Secret") {
        let kind = text(object, &["kind"]).unwrap_or("something else");
        return Err(SecretError::Kind(kind.chars().take(60).collect()));
    }
    content_of(object)
}

fn content_of(object: &Value) -> Result<PullSecret, SecretError> {
    let mut found = None;
    for (key, old) in [(".dockerconfigjson", false), (".dockercfg", true)] {
        if let Some(plain) = text(object, &["stringData", key]) {
            found = Some((plain.as_bytes().to_vec(), old));
        } else if let Some(encoded) = text(object, &["data", key]) {
            let body: String = encoded.chars().filter(|c| !c.is_ascii_whitespace()).collect();
            if body.len() > 2 * LIMIT {
                return Err(SecretError::Encoding);
            }
            found = Some((STANDARD.decode(body).map_err(|_| SecretError::Encoding)?, old));
        }
        if found.is_some() {
            break;
        }
    }
    let (content, old) = found.ok_or(SecretError::Content)?;
    let content: Value =
        serde_json::from_slice(&content).map_err(|_| SecretError::Configuration)?;
    let auths = if old { Some(&content) } else { content.get("auths") };
    let auths = auths.and_then(Value::as_object).ok_or(SecretError::Configuration)?;
    Ok(PullSecret {
        namespace: text(object, &["metadata", "namespace"]).map(str::to_owned),
        name: text(object, &["metadata", "name"]).map(str::to_owned),
        kind: Some(text(object, &["type"]).unwrap_or("Opaque").to_owned()),
        logins: logins(auths),
    })
}

fn logins(auths: &Map<String, Value>) -> Vec<Login> {
    let one = |(host, entry): (&String, &Value)| {
        let field = |name: &str| text(entry, &[name]).filter(|text| !text.is_empty());
        let combined = field("auth").and_then(|text| STANDARD.decode(text).ok());
        let combined = combined.and_then(|bytes| String::from_utf8(bytes).ok());
        let combined = combined.as_deref().and_then(|text| text.split_once(':'));
        let spelled = field("username").zip(field("password"));
        let agrees = match (combined, spelled, field("auth")) {
            (Some(one), Some(other), _) => one == other,
            // One that cannot be read is no agreement.
            (None, _, Some(_)) => false,
            _ => true,
        };
        // Kubelets take the combined field where it is there.
        let (user, password) =
            combined.or(spelled).unwrap_or((field("username").unwrap_or_default(), ""));
        let identity = field("identitytoken").map(|text| SecretLogin::Identity(text.to_owned()));
        let password = Some(password).filter(|text| !text.is_empty());
        let held = password.map(|text| SecretLogin::Password(text.to_owned())).or(identity);
        Login { host: host.clone(), user: user.to_owned(), held, agrees }
    };
    auths.iter().map(one).collect()
}

/// A client's configuration with these logins: host, user, password.
pub(super) fn write(logins: &[(&str, &str, &str)]) -> String {
    let auths: Map<String, Value> = logins
        .iter()
        .map(|(host, user, password)| {
            let combined = STANDARD.encode(format!("{user}:{password}"));
            let entry = json!({ "username": user, "password": password, "auth": combined });
            ((*host).to_owned(), entry)
        })
        .collect();
    json!({ "auths": auths }).to_string()
}

pub(super) fn encode(content: &str) -> String {
    STANDARD.encode(content)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_of_a_pull_secret_is_read() {
        let content = write(&[("larder.example:5080", "ci", "se:cret")]);
        let new = format!(
            "kind: Secret\ntype: kubernetes.io/dockerconfigjson\nmetadata: {{name: a, namespace: scada}}\ndata:\n  .dockerconfigjson: >-\n    {}\n",
            encode(&content)
        );
        let plain = format!("kind: Secret\nstringData: {{.dockerconfigjson: '{content}'}}\n");
        let old = json!({"kind": "Secret", "type": "kubernetes.io/dockercfg", "data": {
            ".dockercfg": encode(&json!({"larder.example:5080": {"auth": encode("ci:se:cret")}}).to_string())}});
        for text in [new, plain, old.to_string(), content.clone()] {
            let read = read_secrets(&text).unwrap();
            let login = &read[0].logins[0];
            assert_eq!((login.host.as_str(), login.user.as_str()), ("larder.example:5080", "ci"));
            assert_eq!(login.held, Some(SecretLogin::Password("se:cret".into())));
            assert!(login.agrees);
            assert!(!format!("{read:?}").contains("se:cret"), "{read:?}");
        }
        // As items of an API's list are, and as the list itself is.
        let listed = json!({"kind": "SecretList", "apiVersion": "v1", "items": [{
            "metadata": {"name": "a"}, "type": "kubernetes.io/dockerconfigjson",
            "data": {".dockerconfigjson": encode(&content)}}]});
        assert_eq!(read_secrets(&listed.to_string()).unwrap()[0].logins.len(), 1);
        assert_eq!(read_secret(&listed["items"][0]).unwrap().logins.len(), 1);
        let several = format!("{}---\n{}", "kind: ConfigMap\n", objects::write(&old));
        assert_eq!(read_secrets(&several).unwrap().len(), 1);
    }

    #[test]
    fn fields_that_say_different_things_are_noticed() {
        let one = |entry: Value| {
            let text = json!({"auths": {"x.example": entry}}).to_string();
            read_secrets(&text).unwrap().remove(0).logins.remove(0)
        };
        assert!(!one(json!({"username": "a", "password": "b", "auth": encode("a:c")})).agrees);
        assert!(!one(json!({"username": "a", "password": "b", "auth": "?"})).agrees);
        assert!(one(json!({"username": "a", "password": "b"})).agrees);
        assert_eq!(
            one(json!({"identitytoken": "t"})).held,
            Some(SecretLogin::Identity("t".into()))
        );
        assert_eq!(one(json!({})).held, None);
    }

    #[test]
    fn what_is_no_pull_secret_is_refused() {
        for (text, error) in [
            ("kind: ConfigMap", SecretError::Kind("ConfigMap".into())),
            ("kind: Secret", SecretError::Content),
            ("kind: Secret\ndata: {.dockerconfigjson: '?'}", SecretError::Encoding),
            ("kind: Secret\nstringData: {.dockerconfigjson: '[]'}", SecretError::Configuration),
            ("hello: you", SecretError::Configuration),
            ("", SecretError::Content),
        ] {
            assert_eq!(read_secrets(text), Err(error), "{text}");
        }
        assert!(matches!(read_secrets("a: [b"), Err(SecretError::Text(_))));
    }

    #[test]
    fn a_login_serves_what_its_host_says() {
        let serves = |host: &str, reference: &str| {
            Login { host: host.into(), user: String::new(), held: None, agrees: true }
                .serves(reference)
        };
        assert!(serves("larder.example:5080", "larder.example:5080/vendor/a"));
        assert!(!serves("larder.example", "larder.example:5080/vendor/a"), "the port counts");
        assert!(serves("https://larder.example/v1/", "larder.example/vendor/a"));
        assert!(serves("larder.example/vendor", "larder.example/vendor/a"));
        assert!(!serves("larder.example/vendor", "larder.example/apps/a"));
        assert!(serves("*.example", "larder.example/a") && !serves("*.example", "a.b.example/a"));
        assert!(
            serves("lar*.example", "larder.example/a")
                && !serves("lab*.example", "larder.example/a")
        );
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics(text in "(kind: Secret\n|data: |\\{|\\}|\"auths\":|[a-z:* ./]|\\PC){0,24}") {
            if let Ok(read) = read_secrets(&text) {
                read.iter().flat_map(|one| &one.logins).for_each(|login| { login.serves(&text); });
            }
        }
    }

    #[test]
    fn kubelets_offer_the_most_specific_first_and_then_in_their_order() {
        let content = write(&[
            ("*.example:5080", "star", "x"),
            ("larder.example:5080", "host", "x"),
            ("larder.example:5080/vendor", "path", "x"),
            ("https://larder.example:5080/v2/", "old", "x"),
            ("other.example", "other", "x"),
        ]);
        let read = read_secrets(&content).unwrap();
        let logins = read[0].logins.iter().map(|login| (login, ()));
        let offered = offers(logins, "larder.example:5080/vendor/x");
        let users: Vec<&str> = offered.iter().map(|(login, ())| login.user.as_str()).collect();
        assert_eq!(users[0], "path");
        assert_eq!(users.last(), Some(&"star"));
        assert_eq!(users.len(), 4);
    }
}
