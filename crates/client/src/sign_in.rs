//! How are we let in? Anonymous, Basic and Bearer sign-in; tokens are kept per scope.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use base64::Engine as _;
use reqwest::header::{HeaderValue, WWW_AUTHENTICATE};
use reqwest::{Response, StatusCode, Url};
use secrecy::ExposeSecret;
use serde::Deserialize;
use tokio::sync::Mutex;

use crate::challenge::Challenge;
use crate::credentials::Credentials;
use crate::error::ClientError;
use crate::transport::{Transport, read_bounded};

/// What a request needs to be allowed: the token protocol's scope, without its type.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum Scope {
    /// Reads of one repository.
    Pull(String),
    /// Writes to one repository, with a read of another where a blob is mounted from it.
    Push(String, Option<String>),
    /// The list of repositories.
    Catalog,
    /// The registry as a whole.
    Base,
}

impl Scope {
    fn texts(&self) -> Vec<String> {
        match self {
            Self::Base => Vec::new(),
            Self::Catalog => vec!["registry:catalog:*".to_owned()],
            Self::Pull(name) => vec![format!("repository:{name}:pull")],
            Self::Push(name, from) => {
                let mut scopes = vec![format!("repository:{name}:pull,push")];
                scopes.extend(from.iter().map(|from| format!("repository:{from}:pull")));
                scopes
            }
        }
    }
}

/// What is put into `Authorization`.
#[derive(Clone)]
pub(crate) struct Pass {
    header: HeaderValue,
    until: Option<Instant>,
}

impl Pass {
    fn new(text: &str, until: Option<Instant>) -> Option<Self> {
        let mut header = HeaderValue::from_str(text).ok()?;
        header.set_sensitive(true);
        Some(Self { header, until })
    }

    pub fn header(&self) -> HeaderValue {
        self.header.clone()
    }
}

/// The passes of one registry. One sign-in at a time for each scope: whoever comes meanwhile
/// waits for it and uses its outcome.
#[derive(Default)]
pub(crate) struct Passes {
    by_scope: Mutex<HashMap<Scope, Arc<Mutex<Option<Pass>>>>>,
}

/// More scopes than this are not kept: a run over many repositories must not grow without bound.
const SCOPES_KEPT: usize = 4096;
/// A token that ends sooner than this is renewed before it is used.
const MARGIN: Duration = Duration::from_secs(5);
/// How long a token is good when the service does not say (token protocol, "expires_in").
const DEFAULT_LIFE: u64 = 60;
/// The longest answer of a token service that is read, in bytes.
const TOKEN_LIMIT: usize = 256 * 1024;

impl Passes {
    async fn slot(&self, scope: &Scope) -> Arc<Mutex<Option<Pass>>> {
        let mut all = self.by_scope.lock().await;
        if all.len() >= SCOPES_KEPT && !all.contains_key(scope) {
            all.clear();
        }
        Arc::clone(all.entry(scope.clone()).or_default())
    }

    /// The pass to send unasked. None: the registry has not asked for one yet.
    pub async fn current(&self, scope: &Scope) -> Option<Pass> {
        let slot = self.slot(scope).await;
        let pass = slot.lock().await;
        pass.clone().filter(|pass| pass.until.is_none_or(|until| Instant::now() + MARGIN < until))
    }
}

#[derive(Deserialize)]
struct TokenAnswer {
    #[serde(default)]
    token: Option<String>,
    #[serde(default)]
    access_token: Option<String>,
    #[serde(default)]
    expires_in: Option<u64>,
}

impl Passes {
    /// Answers a 401: signs in for the scope, unless somebody else has since `refused` was sent.
    ///
    /// # Errors
    /// [`ClientError::Denied`] when there is nothing (else) to sign in with.
    pub async fn sign_in(
        &self,
        transport: &Transport,
        scope: &Scope,
        action: &str,
        refused: Option<&Pass>,
        answer: &Response,
    ) -> Result<Pass, ClientError> {
        let slot = self.slot(scope).await;
        let mut slot = slot.lock().await;
        if let Some(pass) = slot.as_ref()
            && refused.is_none_or(|refused| refused.header != pass.header)
        {
            return Ok(pass.clone());
        }
        let lines = answer.headers().get_all(WWW_AUTHENTICATE).iter();
        let challenge = Challenge::strongest(lines.filter_map(|line| line.to_str().ok()));
        let denied = || transport.denied(StatusCode::UNAUTHORIZED, action, None);
        let pass = match (challenge, &transport.options.credentials) {
            // The same password again would be refused again.
            (Some(Challenge::Basic), Some(_)) if refused.is_some() => return Err(denied()),
            (Some(Challenge::Basic), Some(credentials)) => Pass::new(&basic(credentials), None),
            (Some(Challenge::Bearer { realm, service, scopes }), _) => {
                Self::fetch_token(transport, scope, action, &realm, service.as_deref(), scopes)
                    .await?
            }
            (Some(Challenge::Basic) | None, _) => return Err(denied()),
        };
        let pass = pass.ok_or_else(|| {
            transport.protocol("the token has characters that no header can carry")
        })?;
        *slot = Some(pass.clone());
        Ok(pass)
    }

    async fn fetch_token(
        transport: &Transport,
        scope: &Scope,
        action: &str,
        realm: &str,
        service: Option<&str>,
        mut scopes: Vec<String>,
    ) -> Result<Option<Pass>, ClientError> {
        let url = Url::parse(realm)
            .ok()
            .filter(|url| transport.options.endpoint.may_lead_to(url))
            .ok_or_else(|| {
                transport
                    .protocol(format!("it sends us to `{realm}` for a token, which is not allowed"))
            })?;
        scopes.extend(scope.texts());
        scopes.sort();
        scopes.dedup();
        let mut query: Vec<(&str, &str)> =
            scopes.iter().map(|scope| ("scope", scope.as_str())).collect();
        query.extend(service.map(|service| ("service", service)));
        let ask = || {
            let mut request = transport.http.get(url.clone()).query(&query);
            if let Some(credentials) = &transport.options.credentials {
                request =
                    request.basic_auth(&credentials.user, Some(credentials.secret.expose_secret()));
            }
            request
        };
        let answer =
            transport.with_retries(&format!("the sign-in for {action}"), || ask().send()).await?;
        if !answer.status().is_success() {
            return Err(transport.refusal(answer, &format!("the sign-in for {action}")).await);
        }
        let body =
            read_bounded(answer, TOKEN_LIMIT).await.map_err(|cause| transport.protocol(cause))?;
        let answer: TokenAnswer = serde_json::from_slice(&body).map_err(|_| {
            transport.protocol("its token service did not answer with a token document")
        })?;
        let token = answer
            .token
            .or(answer.access_token)
            .filter(|token| !token.is_empty())
            .ok_or_else(|| transport.protocol("its token service gave no token"))?;
        let life = Duration::from_secs(answer.expires_in.unwrap_or(DEFAULT_LIFE).min(24 * 3600));
        Ok(Pass::new(&format!("Bearer {token}"), Some(Instant::now() + life)))
    }
}

fn basic(credentials: &Credentials) -> String {
    let pair = format!("{}:{}", credentials.user, credentials.secret.expose_secret());
    format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(pair))
}
