//! Drop-in files with a `[[registry]]` for each prefix.
//!
//! Runtimes of this family put the mirror's location in the prefix's place: what stands behind the
//! prefix follows it. So a prefix leads to the shelf that caches the upstream. They send no header of
//! ours and take no path in front of `/v2/`: the larder cannot tell from which cluster they come.

use std::fmt::Write as _;

use serde::Deserialize;

use super::{Ask, NodePlan, NodeWay, Remark, is_own, straight};
use crate::name::Host;

/// The file for some upstreams, each with its shelf.
pub fn write_drop_in(plan: &NodePlan, upstreams: &[(Host, String)]) -> String {
    let (scheme, larder) = plan.larder.split_once("://").unwrap_or(("https", &plan.larder));
    let plain = scheme == "http";
    let mut text = format!(
        "# How nodes of {} reach upstreams. Written by `larder handoff write`.\n",
        plan.cluster
    );
    if plain {
        let _ = write!(
            text,
            "\n# The larder's own images: it speaks plain HTTP.\n\
             [[registry]]\nprefix = \"{larder}\"\nlocation = \"{larder}\"\ninsecure = true\n"
        );
    }
    for (host, shelf) in upstreams {
        let _ = if plan.open {
            write!(
                text,
                "\n# The larder first; where it does not answer as it should, the upstream itself.\n\
                 [[registry]]\nprefix = \"{host}\"\nlocation = \"{host}\"\n\n\
                 [[registry.mirror]]\nlocation = \"{larder}/{shelf}\"\ninsecure = {plain}\n"
            )
        } else {
            write!(
                text,
                "\n# The larder alone: what it refuses is refused.\n\
                 [[registry]]\nprefix = \"{host}\"\nlocation = \"{larder}/{shelf}\"\ninsecure = {plain}\n"
            )
        };
    }
    text
}

#[derive(Deserialize)]
struct RawDropIn {
    #[serde(default)]
    registry: Vec<RawRegistry>,
}

#[derive(Deserialize)]
struct RawRegistry {
    prefix: Option<String>,
    location: Option<String>,
    #[serde(default)]
    insecure: bool,
    #[serde(default)]
    blocked: bool,
    #[serde(default)]
    mirror: Vec<Mirror>,
}

#[derive(Deserialize)]
struct Mirror {
    location: String,
    #[serde(default)]
    insecure: bool,
}

fn ask(location: &str, insecure: bool) -> Ask {
    let (host, prefix) = location.split_once('/').unwrap_or((location, ""));
    let scheme = if insecure { "http" } else { "https" };
    Ask {
        address: format!("{scheme}://{host}"),
        prefix: prefix.trim_end_matches('/').to_owned(),
        named: false,
        resolves: true,
        headers: Vec::new(),
        ca: None,
    }
}

/// What a runtime makes of a file for this upstream. None: the file says nothing about it.
pub fn read_drop_in(text: &str, host: &Host) -> Option<NodeWay> {
    let raw: RawDropIn = match toml::from_str(text) {
        Ok(raw) => raw,
        Err(error) => {
            let why = error.message();
            return Some(straight(format!("the runtime cannot read it and does not start: {why}")));
        }
    };
    let named = |one: &&RawRegistry| {
        one.prefix.as_deref().or(one.location.as_deref()) == Some(host.as_str())
    };
    let registry = raw.registry.iter().find(named)?;
    let mut way = NodeWay::default();
    way.asks.extend(registry.mirror.iter().map(|mirror| ask(&mirror.location, mirror.insecure)));
    match registry.location.as_deref() {
        _ if registry.blocked => {
            way.remarks.push(Remark::note("the upstream is blocked after that"));
        }
        None => way.upstream = true,
        Some(location) if is_own(location, host) && !registry.insecure => way.upstream = true,
        Some(location) => way.asks.push(ask(location, registry.insecure)),
    }
    if way.upstream && !way.asks.is_empty() {
        way.remarks.push(Remark::note(
            "the upstream is asked after that, also for what the larder refuses",
        ));
    }
    Some(way)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_as_it_was_meant() {
        let plan = NodePlan {
            larder: "http://larder.emberfall.example:5080".into(),
            cluster: "control-room".into(),
            ca: None,
            client: None,
            open: false,
        };
        let upstreams = [
            ("bazaar.example".parse::<Host>().unwrap(), "bazaar".to_owned()),
            ("ventworks.example".parse().unwrap(), "gauges".to_owned()),
        ];
        let read = |plan: &NodePlan| {
            read_drop_in(&write_drop_in(plan, &upstreams), &upstreams[1].0).unwrap()
        };
        let closed = read(&plan);
        assert!(
            !closed.upstream && closed.asks.len() == 1 && closed.remarks.is_empty(),
            "{closed:?}"
        );
        assert_eq!(closed.asks[0].address, "http://larder.emberfall.example:5080");
        assert_eq!(closed.asks[0].prefix, "gauges");
        let open = read(&NodePlan { open: true, larder: "https://larder.example".into(), ..plan });
        assert!(open.upstream && open.asks.len() == 1, "{open:?}");
        assert_eq!(open.asks[0].address, "https://larder.example");
        assert_eq!(read_drop_in("", &upstreams[0].0), None);
        assert!(read_drop_in("[[registry]\n", &upstreams[0].0).unwrap().upstream);
        let blocked = "[[registry]]\nprefix = \"bazaar.example\"\nblocked = true\n";
        let blocked = read_drop_in(blocked, &upstreams[0].0).unwrap();
        assert!(!blocked.upstream && blocked.asks.is_empty());
    }
}
