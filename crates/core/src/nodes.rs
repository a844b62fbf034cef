//! What does a node's runtime make of its mirror configuration, and what is written for it?
//!
//! Two families of runtimes read two kinds of files. One has a folder for each upstream host with a
//! `hosts.toml`, and `_default` for all without one; it adds `ns=HOST` to what it asks a mirror. The
//! other has drop-in files with a `[[registry]]` for each prefix. Both leave out in silence what they
//! cannot read and go to the upstream instead; what is left out, and why, is told here.

mod drop_in;
mod hosts;
mod report;
mod runtime;

use std::fmt;

use crate::name::Host;

pub use drop_in::{read_drop_in, write_drop_in};
pub use hosts::{DEFAULT, folder_of, host_of, read_hosts, write_hosts, write_own_hosts};
pub use report::{Present, read_report};
pub use runtime::{NoLine, Reads, RuntimeConfig, RuntimeSeries};

/// What is written for one node.
#[derive(Debug, Clone)]
pub struct NodePlan {
    /// The larder's address: scheme, host and port.
    pub larder: String,
    /// The cluster that the node belongs to.
    pub cluster: String,
    /// Where the authority's certificate lies on the node. None: the node trusts it already, or
    /// the address is plain HTTP.
    pub ca: Option<String>,
    /// Where the certificate that the node shows, and its key, lie on the node. None: it shows none.
    pub client: Option<(String, String)>,
    /// Whether the node may go to the upstream when the larder does not answer as it should.
    pub open: bool,
}

impl NodePlan {
    /// The address that the node asks: it says from which cluster the node comes.
    pub fn address(&self) -> String {
        format!("{}/c/{}", self.larder, self.cluster)
    }
}

/// One place that a runtime asks for an upstream's images.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ask {
    /// The address, with what stands in front of `/v2/`.
    pub address: String,
    /// What stands in front of the repository there. Empty: nothing.
    pub prefix: String,
    /// Whether it is told the upstream's host (`ns=HOST`).
    pub named: bool,
    /// Whether tags are resolved there.
    pub resolves: bool,
    /// Header fields that are sent along, in the file's order.
    pub headers: Vec<(String, String)>,
    /// The authority's certificate. None: the system's alone.
    pub ca: Option<String>,
}

/// What a runtime does for one upstream.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NodeWay {
    /// Whom it asks, in this order; the first that answers counts.
    pub asks: Vec<Ask>,
    /// Whether the upstream itself is among them, at the end.
    pub upstream: bool,
    /// What its owner may not expect.
    pub remarks: Vec<Remark>,
}

/// Something about a file that its owner may not expect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// Whether the runtime leaves something out or fails because of it.
    pub bad: bool,
    pub text: String,
}

impl Remark {
    fn bad(text: impl Into<String>) -> Self {
        Self { bad: true, text: text.into() }
    }

    fn note(text: impl Into<String>) -> Self {
        Self { bad: false, text: text.into() }
    }
}

impl fmt::Display for Remark {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// Without any configuration, a runtime goes to the upstream.
fn straight(text: impl Into<String>) -> NodeWay {
    NodeWay { asks: Vec::new(), upstream: true, remarks: vec![Remark::bad(text)] }
}

/// Whether an address is this upstream's own, as a reference names it.
fn is_own(address: &str, host: &Host) -> bool {
    let name = address.split_once("://").map_or(address, |(_, name)| name);
    name.trim_end_matches('/') == host.as_str()
}

/// What a way should lead to.
#[derive(Debug, Clone, Copy)]
pub struct ExpectedWay<'e> {
    /// The larder's address: scheme, host and port.
    pub larder: &'e str,
    /// The clusters that it knows.
    pub clusters: &'e [&'e str],
    /// The shelf that caches the upstream. None: none does.
    pub shelf: Option<&'e str>,
}

/// Whether the way to the larder's own images is one that leads there.
pub fn judge_own(way: &NodeWay, host: &Host, larder: &str) -> Vec<Remark> {
    let mut remarks = Vec::new();
    let asked: Vec<&str> = way.asks.iter().map(|ask| ask.address.as_str()).collect();
    let plain = larder.starts_with("http://");
    if asked.is_empty() {
        if plain {
            remarks.push(Remark::bad(format!(
                "it leads to https://{host}, and the larder speaks plain HTTP: write `server = \"{larder}\"`"
            )));
        }
        return remarks;
    }
    for address in asked {
        let (base, cluster) = match address.split_once("/c/") {
            Some((base, _)) => (base, true),
            None => (address, false),
        };
        let place = |address: &str| address.split_once("://").map(|(_, rest)| rest.to_owned());
        if base != larder && place(base) == place(larder) {
            remarks.push(Remark::bad(format!(
                "{base} has another scheme than the larder, which is {larder}"
            )));
        } else if base != larder {
            remarks
                .push(Remark::note(format!("it leads to {base}; the larder is known by {larder}")));
        }
        if cluster {
            remarks.push(Remark::note(
                "its own images are asked for by the node's identity where the cluster's namespaces have no grants of their own",
            ));
        }
    }
    remarks
}

/// Whether a way leads through the larder as it should.
pub fn judge(way: &NodeWay, expected: ExpectedWay<'_>) -> Vec<Remark> {
    let ExpectedWay { larder, clusters, shelf } = expected;
    let place = |address: &str| address.split_once("://").map(|(_, rest)| rest.to_owned());
    let mut remarks = Vec::new();
    let mut led = false;
    for ask in &way.asks {
        let (base, cluster) = match ask.address.split_once("/c/") {
            Some((base, cluster)) => (base, Some(cluster)),
            None => (ask.address.as_str(), None),
        };
        if base != larder {
            if place(base) == place(larder) {
                let text = format!("{base} has another scheme than the larder, which is {larder}");
                remarks.push(Remark::bad(text));
                led = true;
            }
            continue;
        }
        led = true;
        if let Some(unknown) = cluster.filter(|cluster| !clusters.contains(cluster)) {
            let text = format!("the larder knows no cluster `{unknown}` and answers 403");
            remarks.push(Remark::bad(text));
        }
        match shelf {
            None => remarks.push(Remark::bad("no shelf of the larder caches it: it answers 403")),
            Some(shelf) if !ask.named && ask.prefix != shelf => {
                let text = format!("it leads to `{}`; the shelf is `{shelf}`", ask.prefix);
                remarks.push(Remark::bad(text));
            }
            Some(_) => {}
        }
    }
    if !led && !way.asks.is_empty() {
        remarks.push(Remark::bad(format!("it does not lead to the larder at {larder}")));
    }
    remarks
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_way_that_leads_elsewhere_is_told() {
        let expected = ExpectedWay {
            larder: "http://larder.example:5080",
            clusters: &["control-room"],
            shelf: Some("bazaar"),
        };
        let ask = |address: &str, named: bool, prefix: &str| NodeWay {
            asks: vec![Ask {
                address: address.into(),
                prefix: prefix.into(),
                named,
                resolves: true,
                headers: Vec::new(),
                ca: None,
            }],
            ..NodeWay::default()
        };
        let told = |way: NodeWay| -> Vec<String> {
            judge(&way, expected).into_iter().map(|remark| remark.text).collect()
        };
        assert!(told(ask("http://larder.example:5080/c/control-room", true, "")).is_empty());
        assert!(told(ask("http://larder.example:5080", false, "bazaar")).is_empty());
        for (way, words) in [
            (ask("http://larder.example:5080/c/other", true, ""), "no cluster `other`"),
            (ask("https://larder.example:5080/c/control-room", true, ""), "another scheme"),
            (ask("http://elsewhere.example", true, ""), "does not lead to the larder"),
            (ask("http://larder.example:5080", false, "vendor"), "the shelf is `bazaar`"),
        ] {
            let told = told(way);
            assert!(told.len() == 1 && told[0].contains(words), "{told:?}");
        }
    }
}
