//! What of a configuration holds as it did, but should be written otherwise by now? Told by `larder check` and at
//! the start of `larder serve`.

use super::{Cluster, Config};

/// Why nodes of a cluster are not believed when they ask for upstreams' images, with the line that changes it. None:
/// they are, or everybody may pull these.
pub fn strange_nodes(config: &Config, cluster: &Cluster) -> Option<String> {
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
