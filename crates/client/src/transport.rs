//! How does a request reach a registry? Connections, retries, and what an answer means when it is
//! no success. Nothing here knows of sign-in.

use std::collections::VecDeque;
use std::future::Future;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use backon::BackoffBuilder as _;
use bytes::{Bytes, BytesMut};
use hyper::ext::ReasonPhrase;
use larder_core::allowance::ReportedLimit;
use larder_core::shown::cut;
use reqwest::header::RETRY_AFTER;
use reqwest::{Response, StatusCode};
use secrecy::{ExposeSecret as _, SecretString};

use crate::account::Account;
use crate::credentials::Credentials;
use crate::endpoint::Endpoint;
use crate::error::ClientError;
use crate::inner::GuardedResolver;
use crate::trust::{ServerTrust, is_about_ours, plain};

/// How one registry is reached.
#[derive(Debug, Clone)]
pub struct Options {
    /// The registry's name as in references, for messages.
    pub host: String,
    /// Where it is reached.
    pub endpoint: Endpoint,
    /// With which account. None: anonymously.
    pub account: Option<Account>,
    /// Hosts beside its own at which it signs people in, `auth.example` or `auth.example:8443`.
    pub token_hosts: Vec<String>,
    /// Certificates (PEM) that are trusted for this registry, beside the system's. Empty: only these.
    pub ca: Vec<u8>,
    /// The certificate and its key (PEM) that it is shown when it asks for one. None: none.
    pub identity: Option<Vec<u8>>,
    /// Through whom it is reached.
    pub proxy: Proxy,
    /// Whether layers that it does not have are fetched where their manifests say that they lie.
    pub foreign: bool,
    /// Whether it is no registry, but a plain chart repository: an index, and archives.
    pub charts: bool,
    /// How many blobs are moved at once.
    pub parallel: usize,
    /// How often a passing failure is tried again.
    pub retries: usize,
    /// The first pause between two tries; each further one is twice as long, with jitter.
    pub pause: Duration,
    /// The longest pause that a `Retry-After` can ask for; a longer one is an error.
    pub patience: Duration,
    /// How long an answer may take to begin or to go on.
    pub silence: Duration,
    /// The registry whose content is asked for, where a mirror of several is asked: told as `ns=HOST`
    /// with every request.
    pub namespace: Option<String>,
    /// A registry that is set up under a name much like this one's: told when this one cannot be reached.
    pub meant: Option<String>,
}

impl Options {
    /// Anonymous, with the usual limits.
    pub fn new(host: impl Into<String>, endpoint: Endpoint) -> Self {
        Self {
            host: host.into(),
            endpoint,
            account: None,
            token_hosts: Vec::new(),
            ca: Vec::new(),
            identity: None,
            proxy: Proxy::default(),
            foreign: false,
            charts: false,
            parallel: 4,
            retries: 3,
            pause: Duration::from_millis(200),
            patience: Duration::from_secs(60),
            silence: Duration::from_secs(60),
            namespace: None,
            meant: None,
        }
    }
}

/// Through whom a registry is reached.
#[derive(Debug, Clone, Default)]
pub enum Proxy {
    /// Whom the environment names; for this machine itself, nobody.
    #[default]
    Environment,
    /// Nobody, whatever the environment says.
    Nobody,
    /// This one, with its login if it wants one. Plain requests are sent to it, others through it (`CONNECT`).
    At(Endpoint, Option<Credentials>),
}

/// The way to one registry.
pub(crate) struct Transport {
    pub options: Options,
    pub http: reqwest::Client,
    /// What the registry said last of its limit.
    pub reported: Mutex<Option<ReportedLimit>>,
    /// What was sent of late as `Authorization`: none of it may come back in the registry's words.
    shown: Mutex<VecDeque<SecretString>>,
}

/// Secrets that are remembered to be taken out of what a registry says.
const REMEMBERED: usize = 32;

impl Transport {
    /// Sets the client up; nothing is sent yet.
    pub fn new(options: Options) -> Result<Self, ClientError> {
        let setup = |error: reqwest::Error| {
            ClientError::Setup(format!(
                "the client for {} cannot be set up: {}",
                options.host,
                innermost(&error)
            ))
        };
        let endpoint = options.endpoint.clone();
        let mut builder = reqwest::Client::builder()
            .user_agent(concat!("iron-larder/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(Duration::from_secs(10))
            .read_timeout(options.silence)
            // Layers are compressed already, and digests are those of the bytes as they are.
            .redirect(reqwest::redirect::Policy::custom(move |attempt| {
                if attempt.previous().len() > 5 {
                    attempt.error("it redirects more than 5 times")
                } else if endpoint.may_lead_to(attempt.url()) {
                    attempt.follow()
                } else {
                    attempt.error("it redirects to an address that is not allowed")
                }
            }));
        // Nothing on the way to this machine itself needs a proxy or a public authority, and both may be absent.
        let near = options.endpoint.is_loopback();
        match &options.proxy {
            Proxy::Environment if !near => {}
            Proxy::Environment | Proxy::Nobody => builder = builder.no_proxy(),
            Proxy::At(address, login) => {
                let mut proxy = reqwest::Proxy::all(address.to_string()).map_err(setup)?;
                if let Some(login) = login {
                    proxy = proxy.basic_auth(&login.user, login.secret.expose_secret());
                }
                builder = builder.proxy(proxy);
            }
        }
        let identity = options.identity.as_deref();
        let trust = ServerTrust { ca: &options.ca, identity, near, ..ServerTrust::default() };
        let trust = trust.config().map_err(|error| {
            let host = &options.host;
            ClientError::Setup(format!("the client for {host} cannot be set up: {error}"))
        })?;
        builder = builder.tls_backend_preconfigured(trust);
        // The proxy is where the operator says; what lies behind it is looked up by it.
        let mut known = options.token_hosts.clone();
        if let Proxy::At(address, _) = &options.proxy {
            known.push(address.host());
        }
        let guarded = GuardedResolver::new(&options.endpoint, &known);
        builder = builder.dns_resolver(Arc::new(guarded));
        let http = builder.build().map_err(setup)?;
        Ok(Self { options, http, reported: Mutex::default(), shown: Mutex::default() })
    }

    /// The registry's name as in references.
    pub fn host(&self) -> &str {
        &self.options.host
    }

    /// Remembers a secret that is about to be sent.
    pub(crate) fn shows(&self, secret: &str) {
        let mut shown = self.shown.lock().unwrap_or_else(PoisonError::into_inner);
        if secret.len() < 4 || shown.iter().any(|one| one.expose_secret() == secret) {
            return;
        }
        if shown.len() >= REMEMBERED {
            shown.pop_front();
        }
        shown.push_back(secret.to_owned().into());
    }

    /// The registry's own words: printable, without secrets, and not long. None: nothing is left.
    fn words(&self, text: &str) -> Option<String> {
        let mut clean = text.to_owned();
        if let Some(login) = self.options.account.as_ref().and_then(Account::peek) {
            self.shows(login.secret.expose_secret());
        }
        for secret in self.shown.lock().unwrap_or_else(PoisonError::into_inner).iter() {
            clean = clean.replace(secret.expose_secret(), "…");
        }
        let clean = cut(without_logins(&clean).trim(), 300);
        (!clean.is_empty()).then_some(clean)
    }

    /// Repeats what failed for a passing reason, with growing pauses; a `Retry-After` is honoured.
    pub(crate) async fn with_retries<F, T>(
        &self,
        action: &str,
        mut attempt: F,
    ) -> Result<Response, ClientError>
    where
        F: FnMut() -> T,
        T: Future<Output = Result<Response, reqwest::Error>>,
    {
        let options = &self.options;
        let mut pauses = backon::ExponentialBuilder::default()
            .with_min_delay(options.pause)
            .with_max_times(options.retries)
            .with_jitter()
            .build();
        loop {
            let began = Instant::now();
            let span = tracing::info_span!(
                target: crate::SPANS,
                "upstream",
                otel.kind = "client",
                server.address = options.host,
                larder.action = action,
            );
            let outcome = tracing::Instrument::instrument(attempt(), span).await;
            let fate = match &outcome {
                Ok(answer) => answer.status().to_string(),
                Err(error) => innermost(error),
            };
            if let Ok(answer) = &outcome
                && let Some(said) = crate::limits::read(answer.headers(), SystemTime::now())
            {
                *self.reported.lock().unwrap_or_else(PoisonError::into_inner) = Some(said);
            }
            let milliseconds = began.elapsed().as_millis();
            tracing::debug!(host = options.host, action, fate, milliseconds, "asked");
            let passing = match &outcome {
                Err(error) => !error.is_redirect() && !innermost(error).contains("certificate"),
                Ok(answer) => matches!(answer.status().as_u16(), 408 | 429 | 500 | 502..=504),
            };
            let pause = if passing { pauses.next() } else { None };
            let asked = outcome.as_ref().ok().and_then(retry_after);
            match (pause, outcome) {
                (Some(pause), outcome) if asked.is_none_or(|asked| asked <= options.patience) => {
                    let pause = asked.map_or(pause, |asked| asked.max(pause));
                    tracing::debug!(host = options.host, action, ?pause, "trying again");
                    drop(outcome);
                    tokio::time::sleep(pause).await;
                }
                (_, Ok(answer)) if answer.status() == StatusCode::TOO_MANY_REQUESTS => {
                    return Err(ClientError::RateLimited {
                        host: options.host.clone(),
                        action: action.to_owned(),
                        retry_after: asked,
                    });
                }
                (_, Ok(answer)) => return Ok(answer),
                (_, Err(error)) => return Err(self.unreachable(&error)),
            }
        }
    }

    /// The error of an answer that is no success and whose body may explain it.
    pub(crate) async fn refusal(&self, answer: Response, action: &str) -> ClientError {
        let status = answer.status();
        // An answer to HEAD has no body; a registry that explains does so in its status line.
        let said = answer.extensions().get::<ReasonPhrase>().and_then(|said| reason(status, said));
        let message = error_message(answer).await.or(said).and_then(|text| self.words(&text));
        match status {
            StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
                self.denied(status, action, message)
            }
            _ => ClientError::Refused {
                host: self.host().to_owned(),
                status: status.as_u16(),
                action: action.to_owned(),
                message,
            },
        }
    }

    /// What an account gave.
    pub(crate) fn login<T>(&self, given: Result<T, String>) -> Result<T, ClientError> {
        given.map_err(|cause| ClientError::Login { host: self.host().to_owned(), cause })
    }

    pub(crate) fn protocol(&self, cause: impl Into<String>) -> ClientError {
        let cause = self.words(&cause.into()).unwrap_or_default();
        ClientError::Protocol { host: self.host().to_owned(), cause }
    }

    pub(crate) fn denied(
        &self,
        status: StatusCode,
        action: &str,
        message: Option<String>,
    ) -> ClientError {
        ClientError::Denied {
            host: self.host().to_owned(),
            status: status.as_u16(),
            action: action.to_owned(),
            signed_in: self.options.account.is_some(),
            message,
        }
    }

    pub(crate) fn unreachable(&self, error: &reqwest::Error) -> ClientError {
        let host = self.host().to_owned();
        let cause = innermost(error);
        if cause.contains("certificate") && !is_about_ours(&cause) {
            return ClientError::Untrusted { host, cause };
        }
        let mut endpoint = self.options.endpoint.to_string();
        if let Proxy::At(address, _) = &self.options.proxy {
            endpoint = format!("{endpoint} through the proxy {}", address.host());
        }
        let cause = match &self.options.meant {
            Some(meant) => format!("{cause}; did you mean {meant}?"),
            None => cause,
        };
        ClientError::Unreachable { host, endpoint, cause }
    }
}

/// How long the registry asks to wait, in seconds or until a date (RFC 9110, "Retry-After").
fn retry_after(answer: &Response) -> Option<Duration> {
    let text = answer.headers().get(RETRY_AFTER)?.to_str().ok()?.trim();
    match text.parse() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => {
            let date = httpdate::parse_http_date(text).ok()?;
            // A date that has passed, by our clock, asks for no pause of its own.
            Some(date.duration_since(SystemTime::now()).unwrap_or_default())
        }
    }
}

/// The cause at the bottom of an error: what happened, without the layers above it.
pub(crate) fn innermost(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return "no answer in time".into();
    }
    let mut cause: &dyn std::error::Error = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    plain(&cause.to_string())
}

/// Reads a body that must not be longer than `limit` bytes.
pub(crate) async fn read_bounded(mut answer: Response, limit: usize) -> Result<Bytes, String> {
    let mut body = BytesMut::new();
    while let Some(chunk) = answer.chunk().await.map_err(|error| innermost(&error))? {
        if body.len() + chunk.len() > limit {
            return Err(format!("the answer is longer than {limit} bytes"));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body.freeze())
}

/// What a status line says beyond the standard's words.
fn reason(status: StatusCode, said: &ReasonPhrase) -> Option<String> {
    let text = std::str::from_utf8(said.as_bytes()).ok()?;
    let rest = text.strip_prefix(status.canonical_reason().unwrap_or_default()).unwrap_or(text);
    Some(rest.trim_start_matches([':', ' ']).to_owned())
}

/// A text without what follows a scheme of sign-in in it, of any scheme.
fn without_logins(text: &str) -> String {
    let mut clean = String::with_capacity(text.len());
    let mut hides = false;
    for word in text.split_inclusive(|c: char| !c.is_ascii_graphic()) {
        let bare = word.trim_end_matches(|c: char| !c.is_ascii_graphic());
        match hides && bare.len() >= 8 {
            true => {
                clean.push('…');
                clean.push_str(&word[bare.len()..]);
            }
            false => clean.push_str(word),
        }
        let scheme = bare.rsplit(|c: char| !c.is_ascii_alphabetic()).next().unwrap_or_default();
        hides = ["basic", "bearer"].iter().any(|known| scheme.eq_ignore_ascii_case(known));
    }
    clean
}

/// The first message of the standard's error document (Distribution Specification, "Error codes").
async fn error_message(answer: Response) -> Option<String> {
    let body = read_bounded(answer, 64 * 1024).await.ok()?;
    let document: serde_json::Value = serde_json::from_slice(&body).ok()?;
    let error = document.get("errors")?.get(0)?;
    let text = error.get("message").or_else(|| error.get("code"))?.as_str()?;
    (!text.is_empty()).then(|| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_upstream_says_holds_no_secret_and_no_control() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let endpoint = "https://registry.ventworks.example".parse().unwrap();
        let transport = Transport::new(Options::new("ventworks.example", endpoint)).unwrap();
        transport.shows("VENT-secret-1");
        let words = |text: &str| transport.words(text).unwrap_or_default();
        assert_eq!(words("you sent VENT-secret-1!"), "you sent …!");
        assert_eq!(words("got `Basic ZW1iZXJmYWxsOlZFTlQt`, no"), "got `Basic … no");
        assert_eq!(
            words("authorization: BEARER eyJhbGciOi.J9.x end"),
            "authorization: BEARER … end"
        );
        assert_eq!(words("basic auth"), "basic auth");
        assert_eq!(words("a\u{1b}[2Jb\nc"), "a\\u{1b}[2Jb\\nc");
        assert_eq!(words(&"x".repeat(900)).chars().count(), 301);
    }
}
