//! How is a registry asked? With the account's passes, signing in when it wants that.

use std::sync::Arc;

use bytes::Bytes;
use larder_core::allowance::ReportedLimit;
use larder_core::name::{RepositoryName, Tag};
use reqwest::header::{AUTHORIZATION, HeaderMap};
use reqwest::{Method, Response, StatusCode, Url};
use tokio::sync::Semaphore;

use crate::charts::Charts;
use crate::error::ClientError;
use crate::sign_in::{Passes, TokenScope};
use crate::transport::{Options, Transport};

/// One registry as one account sees it. Clones share connections, tokens and limits.
#[derive(Clone)]
pub struct Registry {
    pub(crate) inner: Arc<RegistryInner>,
}

pub(crate) struct RegistryInner {
    pub transport: Transport,
    pub passes: Passes,
    pub streams: Arc<Semaphore>,
    /// What is known of it where it is no registry, but an index of charts.
    pub charts: Option<Charts>,
    /// Held while a list of referrers is changed.
    pub listing: tokio::sync::Mutex<()>,
}

/// One request that can be sent again: its body, if any, is small.
pub(crate) struct Call {
    pub method: Method,
    pub url: Url,
    pub scope: TokenScope,
    pub headers: HeaderMap,
    pub body: Option<Bytes>,
    /// What it is, as in "the pull of gauges/steamgauge".
    pub action: String,
}

impl Call {
    /// A request without headers or body. `action` says in an error what was asked.
    pub fn new(method: Method, url: Url, scope: TokenScope, action: String) -> Self {
        Self { method, url, scope, headers: HeaderMap::new(), body: None, action }
    }
}

impl Registry {
    /// Sets the client up; nothing is sent yet.
    pub fn new(options: Options) -> Result<Self, ClientError> {
        let streams = Arc::new(Semaphore::new(options.parallel.max(1)));
        let transport = Transport::new(options)?;
        let (passes, listing) = (Passes::default(), tokio::sync::Mutex::default());
        let charts = transport.options.charts.then(Charts::default);
        let inner = RegistryInner { transport, passes, streams, charts, listing };
        Ok(Self { inner: Arc::new(inner) })
    }

    /// The registry's name as in references.
    pub fn host(&self) -> &str {
        &self.transport().options.host
    }

    /// Where it is reached.
    pub fn endpoint(&self) -> &crate::Endpoint {
        &self.transport().options.endpoint
    }

    /// What the registry said last of its rate limit. None: nothing yet.
    pub fn reported(&self) -> Option<ReportedLimit> {
        *self.transport().reported.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Asks the base endpoint, signing in when the registry wants that: whether the registry is
    /// there, trusted, and takes the credentials (Distribution Specification, "Determining support").
    pub async fn greet(&self) -> Result<(), ClientError> {
        let url = self.transport().options.endpoint.url("");
        let call = Call::new(Method::GET, url, TokenScope::Base, "the greeting".into());
        let answer = self.send(&call).await?;
        let kind = answer.headers().get(reqwest::header::CONTENT_TYPE);
        let kind = kind.and_then(|kind| kind.to_str().ok()).unwrap_or_default();
        if answer.status().is_success() {
            match kind.trim_start().to_ascii_lowercase().starts_with("text/html") {
                false => Ok(()),
                true => Err(ClientError::Protocol {
                    host: self.host().to_owned(),
                    cause:
                        "a web page answers in the registry's place: a portal, or another address"
                            .into(),
                }),
            }
        } else {
            Err(self.transport().refusal(answer, &call.action).await)
        }
    }

    pub(crate) fn transport(&self) -> &Transport {
        &self.inner.transport
    }

    pub(crate) fn repository_url(&self, repository: &RepositoryName, rest: &str) -> Url {
        let mut url = self.transport().options.endpoint.url(&format!("{repository}/{rest}"));
        if let Some(namespace) = &self.transport().options.namespace {
            url.query_pairs_mut().append_pair("ns", namespace);
        }
        url
    }

    /// Says that the content of a tag will be asked for by its digest: a chart repository finds it so.
    pub fn expect(&self, repository: &RepositoryName, tag: &Tag) {
        if let Some(charts) = &self.inner.charts {
            charts.expect(repository, tag);
        }
    }

    /// Sends a call, or has a chart repository's index answer it.
    pub(crate) async fn send(&self, call: &Call) -> Result<Response, ClientError> {
        match &self.inner.charts {
            Some(charts) => Box::pin(charts.answer(self, call)).await,
            None => self.send_as_it_is(call).await,
        }
    }

    /// Sends a call: with the pass that the scope has, and once more after a sign-in when the
    /// registry asks for one; again after passing failures. Any status but 401 is given back.
    pub(crate) async fn send_as_it_is(&self, call: &Call) -> Result<Response, ClientError> {
        let own = self.transport().options.endpoint.is_same_host(&call.url);
        let mut pass = if own { self.inner.passes.current(&call.scope).await } else { None };
        // A kept token may have ended: renewed once. A fresh one that is refused is final.
        for sign_ins in 0..3 {
            let header = pass.as_ref().map(crate::sign_in::Pass::header);
            let answer = self
                .transport()
                .with_retries(&call.action, || {
                    let mut request = self
                        .transport()
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
            if answer.status() == StatusCode::FORBIDDEN
                && sign_ins < 2
                && let Some(refused) = &pass
                && let Some(other) =
                    self.inner.passes.replace(self.transport(), &call.scope, refused).await?
            {
                pass = Some(other);
                continue;
            }
            if answer.status() != StatusCode::UNAUTHORIZED {
                return Ok(answer);
            }
            // The host that answered is the one that asks for the login: another host than the one that was asked gets none.
            let answers = self.transport().options.endpoint.is_same_host(answer.url());
            if !own || !answers || sign_ins == 2 {
                return Err(self.transport().refusal(answer, &call.action).await);
            }
            pass = Some(
                self.inner
                    .passes
                    .sign_in(self.transport(), &call.scope, &call.action, pass.as_ref(), &answer)
                    .await?,
            );
        }
        Err(self.transport().denied(StatusCode::UNAUTHORIZED, &call.action, None))
    }
}
