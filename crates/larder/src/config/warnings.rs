//! What of a configuration holds as it did, but should be written otherwise by now? Told by `larder check` and at
//! the start of `larder serve`.

use super::Config;

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
