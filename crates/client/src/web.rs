//! Requests to what is no registry: key sets, token services, a cluster's API. Bounded in time and size;
//! redirects are not followed, so that what is sent along goes nowhere else.

use std::time::Duration;

use reqwest::{Method, Url};

use crate::transport::{innermost, read_bounded};
use crate::trust::ServerTrust;

/// How one such service is reached.
#[derive(Debug, Clone, Default)]
pub struct WebOptions {
    /// Certificates (PEM) that are trusted for it, beside the system's.
    pub ca: Vec<u8>,
    /// The certificate and key (PEM) that it is shown. None: none.
    pub identity: Option<Vec<u8>>,
    /// What is sent as `Authorization`. None: nothing.
    pub authorization: Option<secrecy::SecretString>,
    /// Fields that are sent with every request.
    pub headers: Vec<(String, String)>,
    /// Through which proxy it is reached. None: the one that the environment names; to this machine, none.
    pub proxy: Option<String>,
    /// The name that its certificate must have, where that is not the one by which it is reached; and the addresses
    /// of that one.
    pub server_name: Option<(String, Vec<std::net::SocketAddr>)>,
    /// Whether any certificate is good: anyone in between can then read and change everything.
    pub any_certificate: bool,
}

/// An address of such a service. What stands behind its host may be a secret and is not shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WebAddress(Url);

impl std::str::FromStr for WebAddress {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, &'static str> {
        let url = Url::parse(text).map_err(|_| "it is no address of HTTPS")?;
        match (url.scheme(), url.has_host()) {
            ("http" | "https", true) => {}
            _ => return Err("it is no address of HTTPS"),
        }
        if !url.username().is_empty() || url.password().is_some() {
            return Err("it holds a login");
        }
        Ok(Self(url))
    }
}

impl WebAddress {
    /// Whether nobody in between can read and change what is sent: over TLS, or within this machine.
    pub fn is_safe(&self) -> bool {
        self.0.scheme() == "https" || is_near(&self.0)
    }

    /// Its scheme, host and port.
    pub fn shown(&self) -> String {
        self.0.origin().ascii_serialization()
    }

    /// All of it.
    pub fn as_str(&self) -> &str {
        self.0.as_str()
    }
}

/// Whether an address is one of this machine itself.
fn is_near(url: &Url) -> bool {
    url.host_str().is_some_and(|host| {
        host == "localhost"
            || host
                .trim_matches(['[', ']'])
                .parse()
                .is_ok_and(|it: std::net::IpAddr| it.is_loopback())
    })
}

/// A service.
pub struct Web {
    http: reqwest::Client,
    base: Url,
    authorization: Option<secrecy::SecretString>,
    headers: reqwest::header::HeaderMap,
}

/// What a service answered.
#[derive(Debug, Clone)]
pub struct WebAnswer {
    pub status: u16,
    pub body: Vec<u8>,
    /// After how many seconds it wants to be asked again. None: it does not say so in seconds.
    pub retry_after: Option<u64>,
}

/// The longest answer that is read, in bytes.
const LIMIT: usize = 32 * 1024 * 1024;

impl Web {
    /// Sets it up; nothing is sent yet.
    ///
    /// # Errors
    /// In words: no address, or files that cannot be used.
    pub fn new(base: &str, options: WebOptions) -> Result<Self, String> {
        let mut base =
            Url::parse(base).map_err(|error| format!("`{base}` is no address: {error}"))?;
        if !matches!(base.scheme(), "http" | "https") {
            return Err(format!("`{base}` is no address of HTTP or HTTPS"));
        }
        let failed = |error: reqwest::Error| innermost(&error);
        let mut builder = reqwest::Client::builder()
            .user_agent(concat!("iron-larder/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(Duration::from_secs(10))
            .read_timeout(Duration::from_secs(30))
            .redirect(reqwest::redirect::Policy::none());
        let near = is_near(&base);
        if near {
            builder = builder.no_proxy();
        }
        let trust = ServerTrust {
            ca: &options.ca,
            identity: options.identity.as_deref(),
            near,
            any: options.any_certificate,
            http1: false,
        };
        builder = builder.tls_backend_preconfigured(trust.config()?);
        if let Some(proxy) = &options.proxy {
            builder = builder.proxy(reqwest::Proxy::all(proxy).map_err(failed)?);
        }
        if let Some((name, addresses)) = &options.server_name {
            builder = builder.resolve_to_addrs(name, addresses);
            base.set_host(Some(name)).map_err(|error| format!("`{name}` is no name: {error}"))?;
        }
        let mut headers = reqwest::header::HeaderMap::new();
        for (name, value) in &options.headers {
            let name = reqwest::header::HeaderName::from_bytes(name.as_bytes());
            let value = reqwest::header::HeaderValue::from_str(value);
            let (Ok(name), Ok(value)) = (name, value) else {
                return Err(
                    "a field that is to be sent has characters that no header can carry".into()
                );
            };
            headers.append(name, value);
        }
        let http = builder.build().map_err(failed)?;
        Ok(Self { http, base, authorization: options.authorization, headers })
    }

    /// Sends a request to a path below the address.
    ///
    /// # Errors
    /// In words, when there is no answer, or none that can be read.
    pub async fn send(
        &self,
        method: &str,
        path: &str,
        content: Option<(&str, Vec<u8>)>,
    ) -> Result<WebAnswer, String> {
        self.send_with(method, path, content, &[]).await
    }

    /// The same with fields of this request alone.
    ///
    /// # Errors
    /// In words, as [`send`](Self::send).
    pub async fn send_with(
        &self,
        method: &str,
        path: &str,
        content: Option<(&str, Vec<u8>)>,
        headers: &[(&str, String)],
    ) -> Result<WebAnswer, String> {
        use secrecy::ExposeSecret as _;
        let method = Method::from_bytes(method.as_bytes()).map_err(|error| error.to_string())?;
        let url = match path {
            "" => self.base.clone(),
            path => {
                let base = self.base.as_str().trim_end_matches('/');
                Url::parse(&format!("{base}{path}")).map_err(|error| error.to_string())?
            }
        };
        let mut request = self.http.request(method, url).headers(self.headers.clone());
        if let Some(secret) = &self.authorization {
            let mut value = reqwest::header::HeaderValue::from_str(secret.expose_secret())
                .map_err(|_| "the secret has characters that no header can carry".to_owned())?;
            value.set_sensitive(true);
            request = request.header(reqwest::header::AUTHORIZATION, value);
        }
        if let Some((kind, body)) = content {
            request = request.header(reqwest::header::CONTENT_TYPE, kind).body(body);
        }
        for (name, value) in headers {
            request = request.header(*name, value);
        }
        let answer = request.send().await.map_err(|error| innermost(&error))?;
        let status = answer.status().as_u16();
        let retry_after = answer.headers().get(reqwest::header::RETRY_AFTER);
        let retry_after = retry_after.and_then(|value| value.to_str().ok()?.trim().parse().ok());
        let body = read_bounded(answer, LIMIT).await.map_err(|cause| cause.clone())?;
        Ok(WebAnswer { status, body: body.to_vec(), retry_after })
    }
}
