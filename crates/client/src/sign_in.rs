//! How are we let in? Anonymous, Basic and Bearer sign-in; tokens are kept per scope.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use base64::Engine as _;
use reqwest::header::{HeaderValue, WWW_AUTHENTICATE};
use reqwest::{Response, StatusCode, Url};
use secrecy::ExposeSecret;
use serde::Deserialize;
use tokio::sync::Mutex;

use crate::account::{FORBIDDEN_PAUSE, Fresh, UNAUTHORIZED_PAUSE};
use crate::challenge::Challenge;
use crate::credentials::Credentials;
use crate::error::ClientError;
use crate::transport::{Transport, read_bounded};

/// What a request needs to be allowed: the token protocol's scope, without its type.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum TokenScope {
    /// Reads of one repository.
    Pull(String),
    /// Writes to one repository, with a read of another where a blob is mounted from it.
    Push(String, Option<String>),
    /// The list of repositories.
    Catalog,
    /// The registry as a whole.
    Base,
}

impl TokenScope {
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
    /// The login that it shows. None: it is a token.
    login: Option<Credentials>,
}

impl Pass {
    fn token(text: &str, life: Duration) -> Option<Self> {
        let header = sensitive(&format!("Bearer {text}"))?;
        Some(Self { header, until: Some(Instant::now() + life), login: None })
    }

    fn basic(fresh: Fresh) -> Option<Self> {
        let Fresh { login, until } = fresh;
        let pair = format!("{}:{}", login.user, login.secret.expose_secret());
        let pair = base64::engine::general_purpose::STANDARD.encode(pair);
        let left = |until: SystemTime| until.duration_since(SystemTime::now()).unwrap_or_default();
        Some(Self {
            header: sensitive(&format!("Basic {pair}"))?,
            until: until.map(|until| Instant::now() + left(until).min(LONGEST_LIFE)),
            login: Some(login),
        })
    }

    fn is_good(&self) -> bool {
        self.until.is_none_or(|until| Instant::now() + MARGIN < until)
    }

    /// The value of `Authorization`, marked as a secret.
    pub fn header(&self) -> HeaderValue {
        self.header.clone()
    }
}

/// The passes of one registry. One sign-in at a time for each scope: those who come meanwhile
/// waits for it and uses its outcome.
#[derive(Default)]
pub(crate) struct Passes {
    by_scope: Mutex<HashMap<TokenScope, Arc<Mutex<Option<Pass>>>>>,
}

/// More scopes than this are not kept: a run over many repositories must not grow without bound.
const SCOPES_KEPT: usize = 4096;
/// A token that ends sooner than this is renewed before it is used.
const MARGIN: Duration = Duration::from_secs(5);
/// A pass is not kept longer than this, whatever is said of it.
const LONGEST_LIFE: Duration = Duration::from_secs(24 * 3600);
/// How long a token is good when the service does not say (token protocol, "expires_in").
const DEFAULT_LIFE: u64 = 60;
/// The longest answer of a token service that is read, in bytes.
const TOKEN_LIMIT: usize = 256 * 1024;

impl Passes {
    async fn slot(&self, scope: &TokenScope) -> Arc<Mutex<Option<Pass>>> {
        let mut all = self.by_scope.lock().await;
        if all.len() >= SCOPES_KEPT && !all.contains_key(scope) {
            all.clear();
        }
        Arc::clone(all.entry(scope.clone()).or_default())
    }

    /// The pass to send unasked. None: the registry has not asked for one yet.
    pub async fn current(&self, scope: &TokenScope) -> Option<Pass> {
        let slot = self.slot(scope).await;
        let pass = slot.lock().await;
        pass.clone().filter(Pass::is_good)
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
        scope: &TokenScope,
        action: &str,
        refused: Option<&Pass>,
        answer: &Response,
    ) -> Result<Pass, ClientError> {
        let slot = self.slot(scope).await;
        let mut slot = slot.lock().await;
        if let Some(pass) = slot.as_ref().filter(|pass| pass.is_good())
            && refused.is_none_or(|refused| refused.header != pass.header)
        {
            return Ok(pass.clone());
        }
        let lines = answer.headers().get_all(WWW_AUTHENTICATE).iter();
        let challenge = Challenge::strongest(lines.filter_map(|line| line.to_str().ok()));
        let denied = || transport.denied(StatusCode::UNAUTHORIZED, action, None);
        let pass = match (challenge, &transport.options.account) {
            (Some(Challenge::Basic), Some(account)) => {
                let fresh = match refused.and_then(|refused| refused.login.as_ref()) {
                    None => account.login().await.map(Some),
                    // The same password again would be refused again.
                    Some(login) => account.other_than(login, UNAUTHORIZED_PAUSE).await,
                };
                let fresh = transport.login(fresh)?.ok_or_else(denied)?;
                transport.shows(fresh.login.secret.expose_secret());
                Pass::basic(fresh)
            }
            (Some(Challenge::Bearer { realm, service, scopes }), _) => {
                Self::fetch_token(transport, scope, action, &realm, service.as_deref(), scopes)
                    .await?
            }
            (Some(Challenge::Basic) | None, _) => return Err(denied()),
        };
        let pass = pass.ok_or_else(|| {
            transport.protocol("the login or the token has characters that no header can carry")
        })?;
        *slot = Some(pass.clone());
        Ok(pass)
    }

    /// Answers a 403, as some registries refuse a login that has ended: another pass than the one that was
    /// sent, when the account has a newer login. None: it has not.
    pub async fn replace(
        &self,
        transport: &Transport,
        scope: &TokenScope,
        refused: &Pass,
    ) -> Result<Option<Pass>, ClientError> {
        let (Some(account), Some(login)) = (&transport.options.account, &refused.login) else {
            return Ok(None);
        };
        let slot = self.slot(scope).await;
        let mut slot = slot.lock().await;
        let fresh = transport.login(account.other_than(login, FORBIDDEN_PAUSE).await)?;
        let Some(pass) = fresh.and_then(Pass::basic) else { return Ok(None) };
        Ok(Some(slot.insert(pass).clone()))
    }

    async fn fetch_token(
        transport: &Transport,
        scope: &TokenScope,
        action: &str,
        realm: &str,
        service: Option<&str>,
        mut scopes: Vec<String>,
    ) -> Result<Option<Pass>, ClientError> {
        let url = Url::parse(realm).ok().filter(|url| {
            let options = &transport.options;
            options.endpoint.may_lead_to(url)
                || options.endpoint.may_sign_in_at(url, &options.host, &options.token_hosts)
                    && (url.scheme() == "https" || !options.endpoint.is_secure())
        });
        let url = url.ok_or_else(|| {
            transport
                .protocol(format!("it sends us to `{realm}` for a token, which is not allowed"))
        })?;
        let options = &transport.options;
        let signs_in = options.endpoint.may_sign_in_at(&url, &options.host, &options.token_hosts);
        if options.account.is_some() && !signs_in {
            let at = url.host_str().unwrap_or_default();
            let at = url.port().map_or_else(|| at.to_owned(), |port| format!("{at}:{port}"));
            return Err(ClientError::TokenHost { host: transport.host().to_owned(), at });
        }
        scopes.extend(scope.texts());
        scopes.sort();
        scopes.dedup();
        let mut query: Vec<(&str, &str)> =
            scopes.iter().map(|scope| ("scope", scope.as_str())).collect();
        query.extend(service.map(|service| ("service", service)));
        let action = format!("the sign-in for {action}");
        let ask = async |login: Option<&Credentials>| {
            let ask = || {
                let request = transport.http.get(url.clone()).query(&query);
                match login {
                    Some(login) => {
                        transport.shows(login.secret.expose_secret());
                        request.basic_auth(&login.user, Some(login.secret.expose_secret()))
                    }
                    None => request,
                }
            };
            transport.with_retries(&action, || ask().send()).await
        };
        let answer = match &transport.options.account {
            None => ask(None).await?,
            Some(account) => {
                let Fresh { login, .. } = transport.login(account.login().await)?;
                let answer = ask(Some(&login)).await?;
                let other = match answer.status() {
                    StatusCode::UNAUTHORIZED => {
                        account.other_than(&login, UNAUTHORIZED_PAUSE).await
                    }
                    StatusCode::FORBIDDEN => account.other_than(&login, FORBIDDEN_PAUSE).await,
                    _ => Ok(None),
                };
                match transport.login(other)? {
                    Some(other) => ask(Some(&other.login)).await?,
                    None => answer,
                }
            }
        };
        if !answer.status().is_success() {
            return Err(transport.refusal(answer, &action).await);
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
        transport.shows(&token);
        let life = Duration::from_secs(answer.expires_in.unwrap_or(DEFAULT_LIFE));
        Ok(Pass::token(&token, life.min(LONGEST_LIFE)))
    }
}

fn sensitive(text: &str) -> Option<HeaderValue> {
    let mut header = HeaderValue::from_str(text).ok()?;
    header.set_sensitive(true);
    Some(header)
}
