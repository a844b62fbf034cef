//! One request as a node sends it, and what the answer means.

use std::time::SystemTime;

use base64::Engine as _;
use bytes::Bytes;
use hyper::ext::ReasonPhrase;
use larder_core::allowance::ReportedLimit;
use larder_core::certificate::Certificate;
use larder_core::diagnosis::HostOutcome;
use reqwest::header::{
    ACCEPT, AUTHORIZATION, HeaderMap, HeaderName, HeaderValue, RETRY_AFTER, WWW_AUTHENTICATE,
};
use reqwest::{Method, StatusCode, Url};
use secrecy::ExposeSecret as _;

use super::reach::{ReachedHost, wants_certificate, wants_tls};
use super::{EndedAt, ProbePlan};
use crate::PROBE_AGENT;
use crate::challenge::Challenge;
use crate::endpoint::Endpoint;
use crate::inner::GuardedResolver;
use crate::transport::innermost;
use crate::trust::{ServerTrust, is_about_ours};

/// What a node's runtime accepts, in its order.
const ACCEPTED: &str = "application/vnd.docker.distribution.manifest.v2+json, application/vnd.docker.distribution.manifest.list.v2+json, application/vnd.oci.image.manifest.v1+json, application/vnd.oci.image.index.v1+json, */*";
/// The longest document that is read, in bytes: what runtimes take at most, and one more.
pub(super) const DOCUMENT_LIMIT: usize = 4_393_217;
/// The longest page or error that is read, in bytes.
const WORDS_LIMIT: usize = 64 * 1024;
/// Redirects that a runtime follows.
const REDIRECTS: usize = 10;

/// A host that is asked.
pub(super) struct Asking<'p> {
    plan: &'p ProbePlan,
    base: Url,
    endpoint: Endpoint,
    http: reqwest::Client,
    chain: Vec<Certificate>,
}

/// An answer with its head read.
pub(super) struct ProbeAnswer {
    pub status: StatusCode,
    pub headers: HeaderMap,
    /// What its status line says beyond the standard's words.
    pub reason: Option<String>,
    pub reported: Option<ReportedLimit>,
    pub response: reqwest::Response,
}

impl ProbeAnswer {
    /// A header as text. None: it is not there, or no text.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    /// The type of its body, without parameters.
    pub fn media_type(&self) -> Option<&str> {
        self.header("content-type").and_then(|kind| kind.split(';').next()).map(str::trim)
    }

    /// The announced length in bytes. None: none is announced.
    pub fn length(&self) -> Option<u64> {
        self.header("content-length")?.parse().ok()
    }

    fn challenges(&self) -> Vec<String> {
        let lines = self.headers.get_all(WWW_AUTHENTICATE).iter();
        lines.filter_map(|line| line.to_str().ok()).map(str::to_owned).collect()
    }

    /// Reads its body up to a limit. None: it is longer.
    pub async fn read(mut self, limit: usize) -> Result<Option<Bytes>, EndedAt> {
        let mut body = bytes::BytesMut::new();
        loop {
            match self.response.chunk().await {
                Ok(Some(chunk)) => {
                    body.extend_from_slice(&chunk);
                    if body.len() > limit {
                        return Ok(None);
                    }
                }
                Ok(None) => return Ok(Some(body.freeze())),
                Err(error) if error.is_timeout() => return Err(HostOutcome::Stalled),
                Err(error) => return Err(HostOutcome::StreamCut(innermost(&error))),
            }
        }
    }
}

impl<'p> Asking<'p> {
    /// Asks a host that was reached.
    pub fn new(plan: &'p ProbePlan, base: &Url, reached: ReachedHost) -> Result<Self, EndedAt> {
        let setup = |error: String| HostOutcome::NotHttp(format!("it cannot be asked: {error}"));
        let endpoint: Endpoint = plan.address.parse().map_err(|error| setup(format!("{error}")))?;
        let leads = endpoint.clone();
        let mut builder = reqwest::Client::builder()
            .user_agent(format!("{PROBE_AGENT}/{}", env!("CARGO_PKG_VERSION")))
            .http1_only()
            .connect_timeout(plan.patience)
            .read_timeout(plan.patience)
            .redirect(reqwest::redirect::Policy::custom(move |attempt| {
                if attempt.previous().len() > REDIRECTS {
                    attempt.error("more than 10 redirects")
                } else if leads.may_lead_to(attempt.url()) {
                    attempt.follow()
                } else {
                    attempt.error("one of the redirects leads to an address that is not allowed")
                }
            }));
        let near = endpoint.is_loopback();
        if near {
            builder = builder.no_proxy();
        }
        let trust = ServerTrust { ca: &plan.ca, near, http1: true, ..ServerTrust::default() };
        builder = builder.tls_backend_preconfigured(trust.config().map_err(setup)?);
        let guarded = GuardedResolver::new(&endpoint, &plan.token_hosts);
        builder = builder.dns_resolver(std::sync::Arc::new(guarded));
        let http = builder.build().map_err(|error| setup(innermost(&error)))?;
        Ok(Self { plan, base: base.clone(), endpoint, http, chain: reached.chain })
    }

    /// The URL of a path of a repository, as the node asks it.
    pub fn url(&self, path: &str) -> Url {
        let mut url = self.endpoint.url(path);
        if let Some(namespace) = &self.plan.namespace {
            url.query_pairs_mut().append_pair("ns", namespace);
        }
        url
    }

    /// Sends one request.
    pub async fn send(
        &self,
        method: Method,
        url: Url,
        pass: Option<&str>,
    ) -> Result<ProbeAnswer, EndedAt> {
        let mut request = self.http.request(method, url).header(ACCEPT, ACCEPTED);
        for (name, value) in &self.plan.headers {
            if let (Ok(name), Ok(value)) =
                (name.parse::<HeaderName>(), HeaderValue::from_str(value))
            {
                request = request.header(name, value);
            }
        }
        if let Some(pass) = pass
            && let Ok(mut value) = HeaderValue::from_str(pass)
        {
            value.set_sensitive(true);
            request = request.header(AUTHORIZATION, value);
        }
        match request.send().await {
            Ok(response) => Ok(answer(response)),
            Err(error) => Err(self.failed(&error).await),
        }
    }

    /// Why there was no answer.
    async fn failed(&self, error: &reqwest::Error) -> EndedAt {
        let cause = innermost(error);
        let has = |words: &str| cause.contains(words);
        if error.is_timeout() {
            return HostOutcome::Stalled;
        }
        if error.is_redirect() || has("redirects") {
            return HostOutcome::RedirectLoop(cause);
        }
        if is_about_ours(&cause) {
            return HostOutcome::ClientCertificate;
        }
        if has("certificate") || has("UnknownIssuer") {
            return self.untrusted(&cause);
        }
        if has("proxy") || has("tunnel") {
            return HostOutcome::Proxy(cause);
        }
        if self.base.scheme() == "http" && wants_tls(&self.base, self.plan.patience).await {
            return HostOutcome::WantsTls;
        }
        if self.base.scheme() == "https" && wants_certificate(&self.base, self.plan.patience).await
        {
            return HostOutcome::ClientCertificate;
        }
        if has("onnection reset")
            || has("connection closed")
            || has("roken pipe")
            || has("unexpected EOF")
        {
            return HostOutcome::Reset;
        }
        HostOutcome::NotHttp(cause)
    }

    fn untrusted(&self, cause: &str) -> EndedAt {
        let own = self.chain.first();
        let when =
            |at: i64| jiff_text(at).unwrap_or_else(|| "at a time that cannot be read".into());
        if cause.contains("not valid for name") || cause.contains("NotValidForName") {
            let names = own.map(|own| own.names.join(", ")).filter(|names| !names.is_empty());
            return HostOutcome::WrongName(names.unwrap_or_else(|| "no name at all".into()));
        }
        if cause.contains("not valid yet") || cause.contains("NotValidYet") {
            return HostOutcome::CertificateEarly(
                own.map_or_else(String::new, |own| when(own.from)),
            );
        }
        if cause.contains("xpired") {
            return HostOutcome::CertificateExpired(
                own.map_or_else(String::new, |own| when(own.until)),
            );
        }
        let who = self.chain.last().map(|last| {
            if last.is_self_signed() {
                format!("{} itself", last.subject)
            } else {
                last.issuer.clone()
            }
        });
        HostOutcome::UnknownAuthority(
            who.filter(|who| !who.is_empty()).unwrap_or_else(|| cause.to_owned()),
        )
    }

    /// Answers a 401: with a token, or with name and secret. Gives what is put into `Authorization`.
    pub async fn pass(&self, refused: &ProbeAnswer) -> Result<String, EndedAt> {
        let lines = refused.challenges();
        let challenge = Challenge::strongest(lines.iter().map(String::as_str));
        // A login is for the host that was asked, not for one that it leads to.
        let answers = self.endpoint.is_same_host(refused.response.url());
        let credentials = self.plan.credentials.as_ref().filter(|_| answers);
        match (challenge, credentials) {
            (Some(Challenge::Basic), Some(credentials)) => {
                let pair = format!("{}:{}", credentials.user, credentials.secret.expose_secret());
                let text = base64::engine::general_purpose::STANDARD.encode(pair);
                Ok(format!("Basic {text}"))
            }
            (Some(Challenge::Bearer { realm, service, scopes }), _) => {
                self.token(&realm, service, scopes).await
            }
            _ => Err(HostOutcome::Unauthorized { shown: false, said: refused.reason.clone() }),
        }
    }

    async fn token(
        &self,
        realm: &str,
        service: Option<String>,
        scopes: Vec<String>,
    ) -> Result<String, EndedAt> {
        let odd = |text: String| HostOutcome::TokenOdd(text);
        let url = Url::parse(realm).map_err(|error| odd(format!("`{realm}`: {error}")))?;
        if !self.endpoint.may_lead_to(&url) {
            return Err(odd(format!("it sends to `{realm}`, which is not allowed")));
        }
        let shown = self.plan.credentials.is_some();
        let (host, written) = (&self.plan.host, &self.plan.token_hosts);
        if shown && !self.endpoint.may_sign_in_at(&url, host, written) {
            return Err(odd(format!(
                "it sends to `{realm}`, a host to which its login is not shown; `token_hosts` in its [[upstream]] names those that may see it"
            )));
        }
        let mut query: Vec<(&str, &str)> =
            scopes.iter().map(|scope| ("scope", scope.as_str())).collect();
        query.extend(service.as_deref().map(|service| ("service", service)));
        let mut request = self.http.get(url.clone()).query(&query);
        if let Some(credentials) = &self.plan.credentials {
            request =
                request.basic_auth(&credentials.user, Some(credentials.secret.expose_secret()));
        }
        let response = request
            .send()
            .await
            .map_err(|error| HostOutcome::TokenDown(format!("{realm}: {}", innermost(&error))))?;
        let answer = answer(response);
        if !answer.status.is_success() {
            let (status, reason) = (answer.status.as_u16(), answer.reason.clone());
            let said = words(answer).await.or(reason);
            return Err(HostOutcome::TokenRefused { status, shown, said });
        }
        let body = answer.read(WORDS_LIMIT * 4).await.map_err(|_| odd("it broke off".into()))?;
        let body = body.ok_or_else(|| odd("it says too much".into()))?;
        let read: serde_json::Value = serde_json::from_slice(&body)
            .map_err(|_| odd(format!("{realm} did not answer with a token document")))?;
        let token = ["token", "access_token"].iter().find_map(|key| read[*key].as_str());
        let token = token.filter(|token| !token.is_empty());
        let token = token.ok_or_else(|| odd(format!("{realm} gave no token")))?;
        Ok(format!("Bearer {token}"))
    }

    /// What an answer that is no success means.
    pub async fn refusal(
        &self,
        answer: ProbeAnswer,
        url: Url,
        pass: Option<&str>,
        shown: bool,
    ) -> EndedAt {
        let status = answer.status;
        let again =
            answer.header(RETRY_AFTER.as_str()).and_then(|text| text.trim().parse::<u64>().ok());
        let error = answer.challenges().iter().find_map(|line| error_of(line));
        let mut said = answer.reason.clone();
        // What answers HEAD has no words; the same asked with GET may have.
        if said.is_none()
            && status != StatusCode::NOT_FOUND
            && let Ok(spoken) = self.send(Method::GET, url, pass).await
            && spoken.status == status
        {
            said = words(spoken).await;
        }
        let bearer = pass.is_some_and(|pass| pass.starts_with("Bearer"));
        match status.as_u16() {
            401 if bearer => HostOutcome::TokenWithoutAccess { shown, said: error.or(said) },
            401 => HostOutcome::Unauthorized { shown: pass.is_some(), said },
            403 => HostOutcome::Forbidden(said),
            404 => HostOutcome::NotFound,
            407 => {
                HostOutcome::Proxy(format!("407 {}", said.unwrap_or_default()).trim().to_owned())
            }
            429 => HostOutcome::RateLimited(again),
            400 if said.as_deref().is_some_and(|said| said.contains("HTTPS")) => {
                HostOutcome::WantsTls
            }
            status => HostOutcome::Failing { status, said },
        }
    }

    /// Whether an answer is a page in a registry's place. None: it is not.
    pub async fn page(answer: ProbeAnswer) -> Option<EndedAt> {
        if answer.media_type() != Some("text/html") {
            return None;
        }
        let body = answer.read(WORDS_LIMIT).await.ok().flatten().unwrap_or_default();
        let text = String::from_utf8_lossy(&body);
        let title = text.split_once("<title>").and_then(|(_, rest)| rest.split_once("</title>"));
        let shown = |title: &str| {
            let title: String = title.chars().filter(|c| !c.is_control()).take(100).collect();
            format!("“{}”", title.trim())
        };
        let title = title.map_or("it has no title".into(), |(title, _)| shown(title));
        Some(HostOutcome::CaptivePage(title))
    }

    /// Whether a login goes along.
    pub fn shows_credentials(&self) -> bool {
        self.plan.credentials.is_some()
    }
}

fn answer(response: reqwest::Response) -> ProbeAnswer {
    let (status, headers) = (response.status(), response.headers().clone());
    let reason = response.extensions().get::<ReasonPhrase>().and_then(|phrase| {
        let text = std::str::from_utf8(phrase.as_bytes()).ok()?;
        let rest = text.strip_prefix(status.canonical_reason().unwrap_or_default()).unwrap_or(text);
        clean(rest.trim_start_matches([':', ' ']))
    });
    let reported = crate::limits::read(&headers, SystemTime::now());
    ProbeAnswer { status, headers, reason, reported, response }
}

/// The `error` of a challenge, in words.
fn error_of(line: &str) -> Option<String> {
    let (_, rest) = line.split_once("error=\"")?;
    clean(rest.split('"').next()?)
}

fn clean(text: &str) -> Option<String> {
    let clean = larder_core::shown::cut(text, 300);
    (!clean.is_empty()).then_some(clean)
}

/// The first message of an error document.
async fn words(answer: ProbeAnswer) -> Option<String> {
    let body = answer.read(WORDS_LIMIT).await.ok()??;
    let read: serde_json::Value = serde_json::from_slice(&body).ok()?;
    let first = read.get("errors")?.get(0)?;
    clean(first.get("message").or_else(|| first.get("code"))?.as_str()?)
}

/// A moment, for people.
fn jiff_text(at: i64) -> Option<String> {
    let at = u64::try_from(at).ok()?;
    Some(httpdate::fmt_http_date(SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(at)))
}
