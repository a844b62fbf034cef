//! What the server makes of a configuration: compiled in one place, for `serve` and for `check`.

use larder_server::{CachePlan, Limits, Plan, PlannedShelf, ShelfPlan, UpstreamPlan};

use crate::access;
use crate::config::{Config, Strangers};
use crate::context::read_lock;
use crate::failure::Failure;

/// File handles that are left for everything but connections.
const HANDLES: usize = 256;

/// Compiles it; reads the lock, and the certificates that it names.
pub fn plan(config: &Config) -> Result<Plan, Failure> {
    let larder = &config.larder;
    Ok(Plan {
        court: config.court(read_lock(config)?)?,
        unqualified: larder.unqualified.clone(),
        rates: access::rates(config),
        clusters: access::clusters(config)?,
        pipelines: access::pipelines(config)?,
        refuse_strangers: larder.strangers == Strangers::Refuse,
        aliases: larder.aliases.clone(),
        url: larder.url.endpoint.to_string(),
        shelves: shelves(config),
        cache: cache(config)?,
        read_only: larder.read_only,
        limits: limits(config),
        reserve: larder.reserve,
        quotas: config.quotas(),
        record: larder.record,
        away: config.away(),
        fingerprint: config.fingerprint.clone(),
        metrics_key: larder.metrics_key,
    })
}

fn shelves(config: &Config) -> Vec<PlannedShelf> {
    let sparse = |name: &str| {
        config.shelves.iter().any(|shelf| shelf.sparse && shelf.name.get_ref().as_str() == name)
    };
    let names = config.storing_shelves().into_iter();
    names
        .map(|name| PlannedShelf {
            sparse: sparse(&name),
            immutable: config.immutable_tags(&name),
            name,
        })
        .collect()
}

fn limits(config: &Config) -> Limits {
    let (said, handles) = (config.larder.limits.limits(), handles());
    Limits {
        proxies: config.larder.proxies.clone(),
        connections: said.connections.min(handles),
        readers: said.readers.min(handles),
        ..said
    }
}

/// How many connections there are handles for: as many as the system lets us have, and each may
/// read a file.
fn handles() -> usize {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let Rlimit { current, maximum } = getrlimit(Resource::Nofile);
    let raised = Rlimit { current: maximum, maximum };
    let all = match setrlimit(Resource::Nofile, raised) {
        Ok(()) => maximum,
        Err(_) => current,
    };
    let all = all.map_or(usize::MAX, |all| usize::try_from(all).unwrap_or(usize::MAX));
    (all.saturating_sub(HANDLES) / 2).max(16)
}

/// The cached shelves with their upstreams; no upstream is asked yet.
pub fn cache(config: &Config) -> Result<CachePlan, Failure> {
    let mut plan = CachePlan { limit: config.larder.cache_limit, ..CachePlan::default() };
    for (shelf, caching, upstream) in config.cached_shelves() {
        let host = &upstream.host;
        if !plan.upstreams.iter().any(|known| known.host == *host) {
            let (registry, made_of) = config.registry_behind_a_cache(upstream)?;
            let (host, allowance) = (host.clone(), upstream.allowance);
            plan.upstreams.push(UpstreamPlan { host, registry, made_of, allowance });
        }
        plan.shelves.push(ShelfPlan {
            name: shelf.name.get_ref().to_string(),
            host: host.clone(),
            short: config.larder.unqualified.prefix_at(host).cloned(),
            habits: caching.habits.clone(),
        });
    }
    Ok(plan)
}
