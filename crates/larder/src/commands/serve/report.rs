//! What `larder serve` says of itself when it begins.

use std::net::SocketAddr;

use larder_server::Plan;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::output::{Output, Report, STRONG, count, paint};

/// Where it listens, what it serves and who may do what.
#[derive(Serialize, JsonSchema)]
pub struct ServeReport {
    #[schemars(with = "String")]
    listen: SocketAddr,
    /// `http`, `https`.
    scheme: &'static str,
    /// The host that references have.
    host: String,
    /// The shelves that take pushes. Empty: any name does, unless something is cached.
    shelves: Vec<String>,
    caches: Vec<ServedCache>,
    /// `open`, `grants`.
    access: &'static str,
    read_only: bool,
    /// Where figures are served. None: nowhere.
    #[schemars(with = "Option<String>")]
    metrics: Option<SocketAddr>,
    /// Whether clients must show a certificate.
    client_certificates: bool,
    #[serde(skip)]
    name: String,
    #[serde(skip)]
    reserve: u64,
    /// Clusters, accounts and rules.
    #[serde(skip)]
    granted: [usize; 3],
}

#[derive(Serialize, JsonSchema)]
struct ServedCache {
    shelf: String,
    host: String,
}

impl ServeReport {
    pub(super) fn of(
        config: &Config,
        plan: &Plan,
        listen: SocketAddr,
        metrics: Option<SocketAddr>,
    ) -> Self {
        let tls = config.larder.tls.as_ref();
        let caches = config.cached_shelves().map(|(shelf, _, upstream)| ServedCache {
            shelf: shelf.name.get_ref().to_string(),
            host: upstream.host.to_string(),
        });
        Self {
            listen,
            scheme: if tls.is_some() { "https" } else { "http" },
            host: config.larder.url.host.to_string(),
            shelves: plan.shelves.iter().map(|shelf| shelf.name.clone()).collect(),
            caches: caches.collect(),
            access: if config.is_open() { "open" } else { "grants" },
            read_only: plan.read_only,
            metrics,
            client_certificates: tls.is_some_and(|files| files.clients.is_some()),
            name: config.larder.name.clone(),
            reserve: config.larder.reserve,
            granted: [config.clusters.len(), config.accounts.len(), config.rules.all().len()],
        }
    }

    /// What should be known of it.
    fn warning(&self) -> Option<&'static str> {
        let readable = self.access == "grants" && self.scheme == "http";
        (readable && !self.listen.ip().is_loopback()).then_some(
            "note: without `tls`, keys cross the network readable; put a proxy with TLS in front, or set `tls`",
        )
    }

    /// The same as one line of the log.
    pub(super) fn log(&self, out: &Output) {
        tracing::info!(
            target: "larder_server::service",
            listen = %self.listen,
            scheme = self.scheme,
            host = self.host,
            shelves = self.shelves.join(","),
            caches = self.caches.iter().map(|one| &*one.shelf).collect::<Vec<_>>().join(","),
            access = self.access,
            read_only = self.read_only,
            metrics = self.metrics.map(|at| at.to_string()),
            version = env!("CARGO_PKG_VERSION"),
            "larder {} serves on {}://{}",
            self.name,
            self.scheme,
            self.listen
        );
        if let Some(warning) = self.warning() {
            out.note(warning);
        }
    }

    fn access(&self) -> String {
        let [clusters, accounts, rules] = self.granted;
        match (self.access, self.read_only, self.client_certificates) {
            ("grants", ..) => format!(
                "by grants: {}, {}, {}",
                count(clusters, "cluster"),
                count(accounts, "account"),
                count(rules, "rule")
            ),
            (_, true, _) => {
                "open and read-only: anyone who can connect may pull; on this machine only".into()
            }
            (_, false, true) => {
                "anyone who shows a certificate may pull and push; on this machine only".into()
            }
            (_, false, false) => {
                "open: anyone who can connect may pull and push; on this machine only".into()
            }
        }
    }
}

impl Report for ServeReport {
    const KIND: &'static str = "serve";

    fn show(&self, out: &Output) {
        let at = paint(STRONG, format!("{}://{}", self.scheme, self.listen));
        let mut lines = vec![
            format!("larder {} serves on {at}", paint(STRONG, &self.name)),
            format!("  as      {}", self.host),
            format!(
                "  shelves {}",
                match (self.shelves.as_slice(), self.caches.is_empty()) {
                    ([], true) => "none declared: any name takes pushes".to_owned(),
                    ([], false) => "none takes pushes".to_owned(),
                    (shelves, _) => shelves.join(", "),
                }
            ),
        ];
        if !self.caches.is_empty() {
            let cached = self.caches.iter().map(|one| format!("{} ({})", one.shelf, one.host));
            lines.push(format!("  caches  {}", cached.collect::<Vec<_>>().join(", ")));
        }
        if self.reserve > 0 {
            let reserve = crate::output::bytes(self.reserve);
            lines.push(format!("  reserve {reserve} of the disk are kept free"));
        }
        if let Some(figures) = self.metrics {
            lines.push(format!("  figures http://{figures}/metrics"));
        }
        lines.push(format!("  access  {}", self.access()));
        if let Some(warning) = self.warning() {
            out.note(warning);
        }
        out.result(lines.join("\n"));
    }
}
