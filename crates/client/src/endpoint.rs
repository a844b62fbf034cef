//! Where is a registry reached, and where may its answers lead us?

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use larder_core::access::network::is_inner;
use reqwest::Url;

/// A registry's address: `https://registry.ventworks.example`, with an optional path in front of
/// `/v2/`. Plain HTTP is used only where the address says `http://`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint(Url);

/// Why a text is no endpoint.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EndpointError {
    /// Not a URL of ours.
    #[error("`{0}` is not an address; write it as `https://registry.example`")]
    Shape(String),
    /// A user or password in the address.
    #[error("an address must not hold a user or password; use `credentials`")]
    Secret,
}

impl FromStr for Endpoint {
    type Err = EndpointError;

    fn from_str(text: &str) -> Result<Self, EndpointError> {
        let wrong = || EndpointError::Shape(text.to_owned());
        let url = Url::parse(text).map_err(|_| wrong())?;
        if !url.username().is_empty() || url.password().is_some() {
            return Err(EndpointError::Secret);
        }
        let fine = matches!(url.scheme(), "http" | "https")
            && url.has_host()
            && url.query().is_none()
            && url.fragment().is_none();
        if fine { Ok(Self(url)) } else { Err(wrong()) }
    }
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0.as_str().trim_end_matches('/'))
    }
}

impl<'de> serde::Deserialize<'de> for Endpoint {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
    }
}

impl Endpoint {
    /// The address under which a host is reached when nothing else is said: HTTPS; for the machine
    /// itself (loopback) plain HTTP, as clients do.
    pub fn of_host(host: &larder_core::name::Host) -> Result<Self, EndpointError> {
        let scheme = if host.is_loopback() { "http" } else { "https" };
        // The default public registry is reached under another name than it is written with.
        let name = match host.as_str() {
            "docker.io" => "registry-1.docker.io",
            other => other,
        };
        format!("{scheme}://{name}").parse()
    }

    /// The host with its port, for messages.
    pub fn host(&self) -> String {
        let host = self.0.host_str().unwrap_or_default();
        match self.0.port() {
            Some(port) => format!("{host}:{port}"),
            None => host.to_owned(),
        }
    }

    /// Whether TLS protects what goes there.
    pub fn is_https(&self) -> bool {
        self.0.scheme() == "https"
    }

    /// Whether it is this machine itself.
    pub(crate) fn is_loopback(&self) -> bool {
        near(&self.0) == Near::Loopback
    }

    /// The URL of a path below `/v2/`.
    pub(crate) fn url(&self, path: &str) -> Url {
        let mut url = self.0.clone();
        url.set_path(&format!("{}/v2/{path}", self.0.path().trim_end_matches('/')));
        url
    }

    /// Whether an answer of this registry may send us there: a redirect, an upload's location, a
    /// token service. Not from HTTPS to plain HTTP, and not to addresses inside our own network
    /// unless the registry itself is configured there.
    pub(crate) fn may_lead_to(&self, url: &Url) -> bool {
        let scheme = match url.scheme() {
            "https" => true,
            "http" => self.0.scheme() == "http",
            _ => false,
        };
        scheme && (near(url) == Near::Far || near(&self.0) != Near::Far)
    }

    /// Whether it is reached by HTTPS.
    pub(crate) fn is_secure(&self) -> bool {
        self.0.scheme() == "https"
    }

    /// The name or address of its host, without the port.
    pub(crate) fn name(&self) -> &str {
        self.0.host_str().unwrap_or_default()
    }

    /// Whether it is an address of an inner network. Of a name, only resolving it can tell.
    pub(crate) fn is_inside(&self) -> bool {
        near(&self.0) != Near::Far
    }

    /// Whether a token service may be given the login of this registry, which references name `host`: its own host,
    /// subdomains of what references name, and what the operator wrote.
    pub(crate) fn may_sign_in_at(&self, url: &Url, host: &str, written: &[String]) -> bool {
        let theirs = url.host_str().unwrap_or_default().trim_end_matches('.');
        let name = host.split(':').next().unwrap_or(host);
        let below = !name.is_empty()
            && name.parse::<IpAddr>().is_err()
            && (theirs == name
                || theirs.strip_suffix(name).is_some_and(|rest| rest.ends_with('.')));
        let port = url.port().map(|port| format!("{theirs}:{port}"));
        let named = |one: &String| one == theirs || port.as_ref() == Some(one);
        self.is_same_host(url) || (below && url.port().is_none()) || written.iter().any(named)
    }

    /// Whether credentials for this registry may be sent with a request to that URL.
    pub(crate) fn is_same_host(&self, url: &Url) -> bool {
        self.0.scheme() == url.scheme()
            && self.0.host_str() == url.host_str()
            && self.0.port_or_known_default() == url.port_or_known_default()
    }
}

#[derive(PartialEq, Eq)]
enum Near {
    Loopback,
    Private,
    Far,
}

/// Whether a URL names an address of our own network. Names are not resolved here.
fn near(url: &Url) -> Near {
    let host = url.host_str().unwrap_or_default().trim_end_matches('.');
    let ip = host.trim_start_matches('[').trim_end_matches(']').parse::<IpAddr>();
    match ip {
        _ if host == "localhost" || host.ends_with(".localhost") => Near::Loopback,
        Ok(ip) if ip.is_loopback() || ip.is_unspecified() => Near::Loopback,
        Ok(ip) if is_inner(ip) => Near::Private,
        _ => Near::Far,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_checked_and_paths_are_put_below_them() {
        let endpoint: Endpoint = "https://r.example/c/blue/".parse().unwrap();
        assert_eq!(endpoint.url("a/tags/list").as_str(), "https://r.example/c/blue/v2/a/tags/list");
        for bad in ["r.example", "ftp://r.example", "https://", "https://r.example?x=1"] {
            assert!(bad.parse::<Endpoint>().is_err(), "{bad}");
        }
        assert_eq!("https://u:p@r.example".parse::<Endpoint>(), Err(EndpointError::Secret));
    }

    #[test]
    fn answers_do_not_lead_inside() {
        let far: Endpoint = "https://r.example".parse().unwrap();
        let home: Endpoint = "http://127.0.0.1:5000".parse().unwrap();
        let leads = |from: &Endpoint, to: &str| from.may_lead_to(&to.parse().unwrap());
        assert!(leads(&far, "https://blobs.example/x"));
        for inside in [
            "http://blobs.example",
            "https://127.0.0.1",
            "https://localhost",
            "https://[::1]",
            "https://169.254.169.254/x",
            "https://10.0.0.1",
            "https://[::ffff:10.0.0.1]",
            "https://localhost.",
            "https://100.64.0.1",
            "https://0.1.2.3",
            "https://192.0.0.1",
            "https://198.18.0.1",
            "https://[::a00:1]",
            "https://[64:ff9b::a00:1]",
            "https://[fec0::1]",
            "file:///etc/passwd",
        ] {
            assert!(!leads(&far, inside), "{inside}");
        }
        let ventworks: Endpoint = "https://registry.ventworks.example".parse().unwrap();
        let written = ["tokens.example".to_owned(), "login.example:8443".to_owned()];
        let signs_in = |url: &str| {
            ventworks.may_sign_in_at(&url.parse().unwrap(), "ventworks.example", &written)
        };
        for good in [
            "https://registry.ventworks.example/t",
            "https://auth.ventworks.example",
            "https://ventworks.example",
            "https://tokens.example/x",
            "https://login.example:8443",
        ] {
            assert!(signs_in(good), "{good}");
        }
        for bad in [
            "https://evilventworks.example",
            "https://ventworks.example.evil.example",
            "https://login.example",
            "https://evil.example",
            "https://auth.ventworks.example:444",
        ] {
            assert!(!signs_in(bad), "{bad}");
        }
        assert!(leads(&home, "http://127.0.0.1:5001/token"));
        assert!(!far.is_same_host(&"https://r.example:444".parse().unwrap()));
    }
}
