//! What of a configuration holds as it did, but should be written otherwise by now? Told by `larder check` and at
//! the start of `larder serve`.

use larder_core::certificate;
use larder_store::now;
use larder_transfer::files::{CA_LIMIT, read_bounded};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject as _;

use super::{ClusterConfig, Config};
use crate::output::time;

/// When the end of a certificate is told beforehand, in seconds.
const SOON: i64 = 14 * 86_400;

/// Why nodes of a cluster are not believed when they ask for upstreams' images, with the line that changes it. None:
/// they are, or everybody may pull these.
pub fn strange_nodes(config: &Config, cluster: &ClusterConfig) -> Option<String> {
    if config.is_open() || !cluster.nodes.is_empty() || cluster.certificate.is_some() {
        return None;
    }
    let closed = config.cached_shelves().any(|(shelf, _, _)| {
        let any = format!("{}/any/image", shelf.name.get_ref());
        config.grants.anonymous.covers(&any).is_none()
    });
    closed.then(|| {
        format!(
            "the larder does not believe that nodes of {0} come from there, and refuses them upstreams' images: write `nodes = [\"10.4.0.0/16\"]` (their networks) or `certificate` in the [[cluster]] {0}",
            cluster.name.get_ref()
        )
    })
}

/// The certificate that is served, and when it ends, in milliseconds since 1970. None: none is, or it cannot be read.
pub fn served_certificate_end(config: &Config) -> Option<(String, i64)> {
    let path = config.folder().join(&config.larder.tls.as_ref()?.cert);
    let pem = read_bounded(&path, CA_LIMIT).ok()?;
    let der = CertificateDer::from_pem_slice(&pem).ok()?;
    let read = certificate::read(&der)?;
    Some((larder_transfer::files::named(&path), read.until.saturating_mul(1000)))
}

/// What a node would say to the certificate that is served. None: nothing that is seen from here; who signed it, each
/// node knows for itself.
fn served_certificate(config: &Config) -> Option<String> {
    let path = config.folder().join(&config.larder.tls.as_ref()?.cert);
    let pem = read_bounded(&path, CA_LIMIT).ok()?;
    let der = CertificateDer::from_pem_slice(&pem).ok()?;
    let read = certificate::read(&der)?;
    let own = config.larder.url.host.name();
    let date = |seconds: i64| time(seconds.saturating_mul(1000));
    let now = now() / 1000;
    let named = larder_transfer::files::named(&path);
    if read.names.is_empty() {
        return Some(format!("{named} names no host (`subjectAltName`): nodes refuse it"));
    }
    if !read.is_for(own) {
        let names = read.names.join(", ");
        return Some(format!("{named} is for {names}: nodes that ask for {own} refuse it"));
    }
    match () {
        () if now < read.from => Some(format!("{named} is good from {} only", date(read.from))),
        () if now > read.until => {
            Some(format!("{named} ended at {}: nodes refuse it", date(read.until)))
        }
        () if read.until - now < SOON => {
            Some(format!("{named} ends at {}: renew it", date(read.until)))
        }
        () => None,
    }
}

/// One sentence each, with the line to write.
pub fn warnings(config: &Config) -> Vec<String> {
    let mut all = Vec::new();
    for cluster in &config.clusters {
        if cluster.door.as_ref().is_some_and(super::deployments::RawDoor::leaves_undecided_open) {
            all.push(format!(
                "the door of {} lets in what cannot be decided, as its webhooks are from before: write `unanswered = \"refuse\"` in its [cluster.door], and apply the handoff anew",
                cluster.name.get_ref()
            ));
        }
    }
    all.extend(config.clusters.iter().filter_map(|cluster| strange_nodes(config, cluster)));
    all.extend(served_certificate(config));
    for rule in config.rules.all() {
        let lost = larder_core::shown::lost_in_ascii(&rule.because);
        if let Some(first) = lost.first() {
            all.push(format!(
                "`because` of the rule {} has characters ({}) that node runtimes do not show: they stand as `?` in what a node says",
                rule.name,
                first.escape_unicode()
            ));
        }
    }
    for rule in &config.asks_for_signature {
        all.push(format!(
            "the rule {rule} asks `signature = true`, which verifies nothing: write `looks_signed = true`, which means the same"
        ));
    }
    if let Some(at) =
        config.larder.metrics.filter(|at| !at.ip().is_loopback() && !config.larder.metrics_key)
    {
        all.push(format!(
            "`metrics` listens on {at}, which others reach, and asks for no key: write `metrics_key = true`, or listen on 127.0.0.1"
        ));
    }
    all
}
