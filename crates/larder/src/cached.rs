//! The cached shelves of a configuration, ready to be asked.

use std::collections::HashMap;
use std::sync::Arc;

use larder_core::name::Host;
use larder_server::{Cache, CachedShelf, ShelfPlan, Upstream, UpstreamPlan};
use larder_store::Store;

use crate::config::Config;
use crate::failure::Failure;

/// Sets up the cached shelves over a store; no upstream is asked yet.
pub async fn open(config: &Config, store: &Store) -> Result<Cache, Failure> {
    let mut upstreams: HashMap<Host, Arc<Upstream>> = HashMap::new();
    let standing = store.standing().await;
    let standing =
        standing.map_err(|error| Failure::store("cannot tell how upstreams stand", &error))?;
    let mut shelves = Vec::new();
    for shelf in &config.shelves {
        let Some(caching) = &shelf.caching else { continue };
        let Some(named) = config.upstream_named(caching.upstream.get_ref()) else { continue };
        let upstream = match upstreams.get(&named.host) {
            Some(upstream) => Arc::clone(upstream),
            None => {
                let upstream = Arc::new(Upstream::new(UpstreamPlan {
                    host: named.host.clone(),
                    registry: config.registry_behind_a_cache(&named.host)?,
                    allowance: named.allowance,
                    store: store.clone(),
                }));
                if let Some(known) = standing.iter().find(|known| known.host == named.host) {
                    upstream.remember(known);
                }
                upstreams.insert(named.host.clone(), Arc::clone(&upstream));
                upstream
            }
        };
        shelves.push(CachedShelf::new(ShelfPlan {
            name: shelf.name.get_ref().to_string(),
            upstream,
            short: config.larder.unqualified.prefix_at(&named.host).cloned(),
            habits: caching.habits.clone(),
        }));
    }
    Ok(Cache::new(store.clone(), shelves, config.larder.cache_limit))
}
