//! How is a registry asked? One place for connections, sign-in, retries and refusals.

use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use backon::BackoffBuilder as _;
use bytes::{Bytes, BytesMut};
use larder_core::name::RepositoryName;
use reqwest::header::{AUTHORIZATION, HeaderMap, RETRY_AFTER};
use reqwest::{Method, Response, StatusCode, Url};
use tokio::sync::Semaphore;

use crate::endpoint::Endpoint;
use crate::error::ClientError;
use crate::sign_in::{Credentials, Passes, Scope};

/// How one registry is reached.
#[derive(Debug, Clone)]
pub struct Options {
    /// The registry's name as in references, for messages.
    pub host: String,
    /// Where it is reached.
    pub endpoint: Endpoint,
    /// With which account. None: anonymously.
    pub credentials: Option<Credentials>,
    /// Certificates (PEM) that are trusted for this registry, beside the system's. Empty: only these.
    pub ca: Vec<u8>,
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
}

impl Options {
    /// Anonymous, with the usual limits.
    pub fn new(host: impl Into<String>, endpoint: Endpoint) -> Self {
        Self {
            host: host.into(),
            endpoint,
            credentials: None,
            ca: Vec::new(),
            parallel: 4,
            retries: 3,
            pause: Duration::from_millis(200),
            patience: Duration::from_secs(60),
            silence: Duration::from_secs(60),
        }
    }
}

/// One registry as one account sees it. Clones share connections, tokens and limits.
#[derive(Clone)]
pub struct Registry {
    pub(crate) inner: Arc<Inner>,
}

pub(crate) struct Inner {
    pub options: Options,
    pub http: reqwest::Client,
    pub passes: Passes,
    pub streams: Arc<Semaphore>,
}

/// One request that can be sent again: its body, if any, is small.
pub(crate) struct Call {
    pub method: Method,
    pub url: Url,
    pub scope: Scope,
    pub headers: HeaderMap,
    pub body: Option<Bytes>,
    /// What it is, as in "the pull of gauges/steamgauge".
    pub action: String,
}

impl Call {
    pub fn new(method: Method, url: Url, scope: Scope, action: String) -> Self {
        Self { method, url, scope, headers: HeaderMap::new(), body: None, action }
    }
}

impl Registry {
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
                    attempt.error("it redirects more than five times")
                } else if endpoint.may_lead_to(attempt.url()) {
                    attempt.follow()
                } else {
                    attempt.error("it redirects to an address that is not allowed")
                }
            }));
        let trusted = match options.ca.is_empty() {
            true => Vec::new(),
            false => reqwest::Certificate::from_pem_bundle(&options.ca).map_err(setup)?,
        };
        builder = if options.endpoint.is_loopback() {
            // Nothing on the way to this machine itself needs a proxy or a public authority, and
            // both may be absent.
            builder.no_proxy().tls_certs_only(trusted)
        } else {
            builder.tls_certs_merge(trusted)
        };
        let http = builder.build().map_err(setup)?;
        let streams = Arc::new(Semaphore::new(options.parallel.max(1)));
        Ok(Self { inner: Arc::new(Inner { options, http, passes: Passes::default(), streams }) })
    }

    /// The registry's name as in references.
    pub fn host(&self) -> &str {
        &self.inner.options.host
    }

    /// Whether an account is configured.
    pub fn is_signed_in(&self) -> bool {
        self.inner.options.credentials.is_some()
    }

    /// Asks the base endpoint, signing in when the registry wants that: whether the registry is
    /// there, trusted, and takes the credentials (Distribution Specification, "Determining support").
    pub async fn greet(&self) -> Result<(), ClientError> {
        let url = self.inner.options.endpoint.url("");
        let call = Call::new(Method::GET, url, Scope::Base, "the greeting".into());
        let answer = self.send(&call).await?;
        if answer.status().is_success() {
            Ok(())
        } else {
            Err(self.refusal(answer, &call.action).await)
        }
    }

    pub(crate) fn repository_url(&self, repository: &RepositoryName, rest: &str) -> Url {
        self.inner.options.endpoint.url(&format!("{repository}/{rest}"))
    }

    /// Sends a call: with the pass that the scope has, and once more after a sign-in when the
    /// registry asks for one; again after passing failures. Any status but 401 is given back.
    pub(crate) async fn send(&self, call: &Call) -> Result<Response, ClientError> {
        let own = self.inner.options.endpoint.is_same_host(&call.url);
        let mut pass = if own { self.inner.passes.current(&call.scope).await } else { None };
        // A kept token may have ended: renewed once. A fresh one that is refused is final.
        for sign_ins in 0..3 {
            let header = pass.as_ref().map(crate::sign_in::Pass::header);
            let answer = self
                .with_retries(&call.action, || {
                    let mut request = self
                        .inner
                        .http
                        .request(call.method.clone(), call.url.clone())
                        .headers(call.headers.clone());
                    if let Some(header) = &header {
                        request = request.header(AUTHORIZATION, header.clone());
                    }
                    if let Some(body) = &call.body {
                        request = request.body(body.clone());
                    }
                    request.send()
                })
                .await?;
            if answer.status() != StatusCode::UNAUTHORIZED {
                return Ok(answer);
            }
            if !own || sign_ins == 2 {
                return Err(self.refusal(answer, &call.action).await);
            }
            pass = Some(self.sign_in(&call.scope, &call.action, pass.as_ref(), &answer).await?);
        }
        Err(self.denied(StatusCode::UNAUTHORIZED, &call.action, None))
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
        let options = &self.inner.options;
        let mut pauses = backon::ExponentialBuilder::default()
            .with_min_delay(options.pause)
            .with_max_times(options.retries)
            .with_jitter()
            .build();
        loop {
            let outcome = attempt().await;
            let passing = match &outcome {
                Err(error) => !error.is_redirect() && !innermost(error).contains("certificate"),
                Ok(answer) => matches!(answer.status().as_u16(), 408 | 429 | 500 | 502..=504),
            };
            let pause = if passing { pauses.next() } else { None };
            let asked = outcome.as_ref().ok().and_then(retry_after);
            match (pause, outcome) {
                (Some(pause), outcome) if asked.is_none_or(|asked| asked <= options.patience) => {
                    let pause = asked.map_or(pause, |asked| asked.max(pause));
                    let cause = match &outcome {
                        Ok(answer) => answer.status().to_string(),
                        Err(error) => innermost(error),
                    };
                    tracing::debug!(host = options.host, action, cause, ?pause, "trying again");
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
        let message = error_message(answer).await;
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

    pub(crate) fn protocol(&self, cause: impl Into<String>) -> ClientError {
        ClientError::Protocol { host: self.host().to_owned(), cause: cause.into() }
    }
}

/// How long the registry asks to wait, when it says so in seconds. Dates depend on two clocks and
/// are left to our own pauses.
fn retry_after(answer: &Response) -> Option<Duration> {
    let seconds = answer.headers().get(RETRY_AFTER)?.to_str().ok()?.trim().parse().ok()?;
    Some(Duration::from_secs(seconds))
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
    cause.to_string()
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

/// The first message of the standard's error document (Distribution Specification, "Error codes").
/// Control characters are left out: it is shown on terminals.
async fn error_message(answer: Response) -> Option<String> {
    let body = read_bounded(answer, 64 * 1024).await.ok()?;
    let document: serde_json::Value = serde_json::from_slice(&body).ok()?;
    let error = document.get("errors")?.get(0)?;
    let text = error.get("message").or_else(|| error.get("code"))?.as_str()?;
    let clean: String = text.chars().filter(|c| !c.is_control()).take(300).collect();
    (!clean.is_empty()).then_some(clean)
}
