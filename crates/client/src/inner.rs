//! Which addresses may an answer lead to? A redirect, a token service or an upload's location can name a host that
//! resolves into our own network: what decides is the address that is connected to, after it was resolved.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use larder_core::access::network::is_inner;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};

use crate::endpoint::Endpoint;

/// Resolves names for one registry, and leaves out addresses to which its answers may not lead.
pub(crate) struct GuardedResolver(Arc<TrustedRoots>);

/// The names that the operator wrote: they may be anywhere.
struct TrustedRoots {
    endpoint: String,
    /// The endpoint is an address inside, or names one: then its answers may lead inside too.
    is_inside: bool,
    hosts: Vec<String>,
}

impl GuardedResolver {
    /// For a registry at an endpoint, and the hosts to which its answers may lead beside it.
    pub fn new(endpoint: &Endpoint, hosts: &[String]) -> Self {
        let name = endpoint.name().to_ascii_lowercase();
        let hosts = hosts.iter().map(|host| name_of(host).to_ascii_lowercase()).collect();
        let is_inside = endpoint.is_inside();
        Self(Arc::new(TrustedRoots { endpoint: name, is_inside, hosts }))
    }
}

fn name_of(host: &str) -> &str {
    host.rsplit_once(':').map_or(host, |(name, port)| {
        if port.bytes().all(|b| b.is_ascii_digit()) { name } else { host }
    })
}

/// What is left of the addresses of a name that the operator did not write.
fn allowed(found: &[SocketAddr], is_inside: bool) -> Vec<SocketAddr> {
    found.iter().copied().filter(|address| is_inside || !is_inner(address.ip())).collect()
}

async fn lookup(name: &str) -> std::io::Result<Vec<SocketAddr>> {
    Ok(tokio::net::lookup_host((name, 0)).await?.collect())
}

impl Resolve for GuardedResolver {
    fn resolve(&self, name: Name) -> Resolving {
        let trusted = Arc::clone(&self.0);
        Box::pin(async move {
            let name = name.as_str().trim_end_matches('.').to_ascii_lowercase();
            let found = lookup(&name).await?;
            if name == trusted.endpoint || trusted.hosts.contains(&name) {
                return Ok(Box::new(found.into_iter()) as Addrs);
            }
            let is_inside = trusted.is_inside
                || lookup(&trusted.endpoint)
                    .await
                    .is_ok_and(|its| its.iter().any(|address| is_inner(address.ip())));
            let left = allowed(&found, is_inside);
            match (left.is_empty(), found.first().map(SocketAddr::ip)) {
                (true, Some(address)) => Err(refused(&name, address).into()),
                _ => Ok(Box::new(left.into_iter()) as Addrs),
            }
        })
    }
}

fn refused(name: &str, address: IpAddr) -> String {
    format!("it leads to {name}, which is at {address} in an inner network; that is not allowed")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_leads_inside_only_from_inside() {
        let at = |text: &str| SocketAddr::new(text.parse().unwrap(), 0);
        let both = [at("127.0.0.1"), at("203.1.1.1"), at("64:ff9b::a00:1")];
        assert_eq!(allowed(&both, false), [at("203.1.1.1")]);
        assert_eq!(allowed(&both, true), both);
        assert!(allowed(&[at("::ffff:169.254.169.254")], false).is_empty());
        assert!(refused("inside.example", "10.0.0.1".parse().unwrap()).contains("inner network"));
        assert_eq!(name_of("auth.example:5001"), "auth.example");
    }
}
