//! A registry's figures, and what handlers tell of an answer for them.

use std::collections::BTreeSet;
use std::sync::OnceLock;
use std::time::Duration;

use larder_core::access::key::renewal_number;
use larder_store::{Filter, Store, Traffic, UpstreamRecord, now};
use prometheus::{
    Histogram, HistogramOpts, HistogramVec, IntCounter, IntCounterVec, IntGauge, IntGaugeVec, Opts,
    Registry, TextEncoder,
};

/// How many bytes of a request's body were taken: put into the answer by its handler.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ReceivedBytes(pub u64);

/// Where the content of an answer came from.
#[derive(Debug, Clone, Copy)]
pub(crate) enum From {
    Memory,
    Disk,
    Upstream,
    /// The client was sent to the object store.
    Elsewhere,
}

/// The code of a refusal, for the figures.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RefusalCode(pub &'static str);

/// A registry's figures, as Prometheus reads them.
pub struct Meters {
    registry: Registry,
    requests: IntCounterVec,
    pub(crate) errors: IntCounterVec,
    /// Sign-ins: `good`, `failed`.
    pub(crate) sign_ins: IntCounterVec,
    /// Refusals: by a `grant` that is missing, by a `rule`.
    pub(crate) refusals: IntCounterVec,
    /// How often something was looked up of an image because a rule asks for it: what was kept counts no more.
    pub(crate) facts: IntCounter,
    key_ends: IntGaugeVec,
    renewals: IntGaugeVec,
    sent: IntCounterVec,
    pub(crate) received: IntCounterVec,
    seconds: HistogramVec,
    usual: Usual,
    /// Connections that are open.
    pub connections: IntGauge,
    /// Uploads whose bytes are coming in.
    pub uploads: IntGauge,
    store: IntGaugeVec,
    cache: IntCounterVec,
    cache_bytes: IntCounterVec,
    upstream: IntGaugeVec,
    serving: IntGaugeVec,
    configuration: IntGaugeVec,
}

/// The figures of what nearly all answers are, looked up once.
#[derive(Default)]
struct Usual {
    manifest: OnceLock<AnsweredLabels>,
    manifest_head: OnceLock<AnsweredLabels>,
    blob: OnceLock<AnsweredLabels>,
    blob_head: OnceLock<AnsweredLabels>,
}

/// The figures of one kind of answer.
struct AnsweredLabels {
    requests: IntCounter,
    seconds: Histogram,
    sent: IntCounter,
}

impl Meters {
    #[allow(clippy::expect_used)] // names and labels are fixed: a wrong one fails the first test
    pub(crate) fn new() -> Self {
        let registry = Registry::new();
        let counter = |name: &str, help: &str, labels: &[&str]| {
            let counter = IntCounterVec::new(Opts::new(name, help), labels).expect("a fixed name");
            registry.register(Box::new(counter.clone())).expect("registered once");
            counter
        };
        let gauge = |name: &str, help: &str| {
            let gauge = IntGauge::new(name, help).expect("a fixed name");
            registry.register(Box::new(gauge.clone())).expect("registered once");
            gauge
        };
        let options = HistogramOpts::new(
            "larder_request_seconds",
            "Time from a request's header to the last byte of its answer",
        )
        .buckets(vec![0.0005, 0.001, 0.005, 0.025, 0.1, 0.5, 2.0, 10.0, 60.0, 300.0]);
        let seconds = HistogramVec::new(options, &["resource", "method"]).expect("a fixed name");
        registry.register(Box::new(seconds.clone())).expect("registered once");
        let store = Opts::new("larder_store", "What the store holds, each content once");
        let store = IntGaugeVec::new(store, &["what"]).expect("a fixed name");
        registry.register(Box::new(store.clone())).expect("registered once");
        let upstream = Opts::new(
            "larder_upstream",
            "How an upstream stands: asks (1 or 0), pulls_left, back_seconds until it is asked again",
        );
        let upstream = IntGaugeVec::new(upstream, &["host", "what"]).expect("a fixed name");
        registry.register(Box::new(upstream.clone())).expect("registered once");
        let facts = IntCounter::new(
            "larder_facts_gathered_total",
            "How often what a rule asks of an image was looked up; what was kept since is not counted",
        );
        let facts = facts.expect("a fixed name");
        registry.register(Box::new(facts.clone())).expect("registered once");
        let ends = Opts::new(
            "larder_key_expires_seconds",
            "When a key that is good now expires, in seconds since 1970",
        );
        let key_ends = IntGaugeVec::new(ends, &["user", "key"]).expect("a fixed name");
        registry.register(Box::new(key_ends.clone())).expect("registered once");
        let renewed = Opts::new(
            "larder_renewal_seconds",
            "When a cluster's keys were last looked through for renewal, in seconds since 1970",
        );
        let renewals = IntGaugeVec::new(renewed, &["cluster"]).expect("a fixed name");
        registry.register(Box::new(renewals.clone())).expect("registered once");
        let serving = Opts::new(
            "larder_serving",
            "Of the larders that share this store: how many serve, and how many configurations and versions they have",
        );
        let serving = IntGaugeVec::new(serving, &["what"]).expect("a fixed name");
        registry.register(Box::new(serving.clone())).expect("registered once");
        let configuration = Opts::new(
            "larder_configuration",
            "1 for the configuration that holds, in short, and the program's version",
        );
        let configuration =
            IntGaugeVec::new(configuration, &["configuration", "version"]).expect("a fixed name");
        registry.register(Box::new(configuration.clone())).expect("registered once");
        Self {
            serving,
            configuration,
            requests: counter(
                "larder_requests_total",
                "Requests that were answered",
                &["resource", "method", "status"],
            ),
            errors: counter("larder_errors_total", "Refusals by the standard's code", &["code"]),
            sign_ins: counter("larder_sign_ins_total", "Sign-ins: good, failed", &["outcome"]),
            refusals: counter(
                "larder_refusals_total",
                "What was not let through: for want of a grant, by a rule",
                &["by"],
            ),
            facts,
            key_ends,
            renewals,
            sent: counter("larder_sent_bytes_total", "Bytes of bodies sent", &["resource"]),
            received: counter(
                "larder_received_bytes_total",
                "Bytes of bodies taken",
                &["resource"],
            ),
            seconds,
            usual: Usual::default(),
            cache: counter(
                "larder_cache_answers_total",
                "Answers of cached shelves, by whether content had to be fetched",
                &["shelf", "outcome"],
            ),
            cache_bytes: counter(
                "larder_cache_bytes_total",
                "Bytes of content of cached shelves",
                &["shelf", "way"],
            ),
            upstream,
            connections: gauge("larder_connections", "Connections that are open"),
            uploads: gauge("larder_uploads", "Uploads whose bytes are coming in"),
            store,
            registry,
        }
    }

    /// Adds what a cached shelf did.
    pub(crate) fn add_traffic(&self, traffic: &Traffic) {
        let answers = |outcome: &str| self.cache.with_label_values(&[&traffic.shelf, outcome]);
        answers("hit").inc_by(traffic.hits);
        answers("miss").inc_by(traffic.misses);
        let bytes = |way: &str| self.cache_bytes.with_label_values(&[&traffic.shelf, way]);
        bytes("sent").inc_by(traffic.sent);
        bytes("fetched").inc_by(traffic.fetched);
    }

    fn set_upstream(&self, standing: &UpstreamRecord) {
        let set = |what: &str, value: i64| {
            self.upstream.with_label_values(&[standing.host.as_str(), what]).set(value);
        };
        let back = standing.until.map_or(0, |until| (until - standing.at).max(0) / 1000);
        set("asks", i64::from(back == 0));
        set("back_seconds", back);
        if let Some(left) = standing.remaining {
            set("pulls_left", i64::try_from(left).unwrap_or(i64::MAX));
        }
    }

    /// Notes who serves the same store, and by which configuration this one does.
    pub(crate) fn set_serving(&self, counts: [(&'static str, usize); 3], fingerprint: &str) {
        for (what, count) in counts {
            self.serving.with_label_values(&[what]).set(i64::try_from(count).unwrap_or(i64::MAX));
        }
        self.configuration.reset();
        self.configuration.with_label_values(&[fingerprint, env!("CARGO_PKG_VERSION")]).set(1);
    }

    /// All of them as text, with how the upstreams stand. What the store holds is looked up for it.
    pub(crate) async fn text(&self, store: &Store, upstreams: &[UpstreamRecord]) -> String {
        for standing in upstreams {
            self.set_upstream(standing);
        }
        self.set_keys(store).await;
        match store.totals().await {
            Ok(totals) => {
                for (what, count) in [
                    ("repositories", totals.repositories),
                    ("tags", totals.tags),
                    ("manifests", totals.manifests),
                    ("blobs", totals.blobs),
                    ("bytes", totals.bytes),
                ] {
                    let gauge = self.store.with_label_values(&[what]);
                    gauge.set(i64::try_from(count).unwrap_or(i64::MAX));
                }
            }
            Err(error) => tracing::warn!(%error, "the ledger's totals are not known"),
        }
        if let Ok(Some(room)) = store.room().await {
            let gauge = self.store.with_label_values(&["room_bytes"]);
            gauge.set(i64::try_from(room).unwrap_or(i64::MAX));
        }
        TextEncoder::new().encode_to_string(&self.registry.gather()).unwrap_or_default()
    }

    async fn set_keys(&self, store: &Store) {
        match store.keys().await {
            Ok(keys) => {
                self.key_ends.reset();
                let clusters: BTreeSet<&str> = keys
                    .iter()
                    .filter(|key| key.is_good(now()))
                    .map(|key| key.user.split('/').next().unwrap_or_default())
                    .collect();
                for cluster in clusters {
                    let filter =
                        Filter { number: Some(renewal_number(cluster)), ..Filter::default() };
                    if let Ok(found) = store.entries(filter).await
                        && let Some(entry) = found.first()
                    {
                        self.renewals.with_label_values(&[cluster]).set(entry.last / 1000);
                    }
                }
                for key in keys.iter().filter(|key| key.is_good(now())) {
                    if let Some(end) = key.expires {
                        let gauge = self.key_ends.with_label_values(&[&*key.user, key.id.as_str()]);
                        gauge.set(end / 1000);
                    }
                }
            }
            Err(error) => tracing::warn!(%error, "the keys are not known"),
        }
    }

    /// Counts a request that was answered, how long that took, and the bytes of the answer's body.
    pub(crate) fn answered(
        &self,
        resource: &str,
        method: &'static str,
        status: u16,
        took: Duration,
        sent: u64,
    ) {
        let find = || {
            let mut digits = [0; 3];
            let labels = [resource, method, status_text(status, &mut digits)];
            AnsweredLabels {
                requests: self.requests.with_label_values(&labels),
                seconds: self.seconds.with_label_values(&[resource, method]),
                sent: self.sent.with_label_values(&[resource]),
            }
        };
        let usual = match (resource, method, status) {
            ("manifest", "GET", 200) => Some(&self.usual.manifest),
            ("manifest", "HEAD", 200) => Some(&self.usual.manifest_head),
            ("blob", "GET", 200) => Some(&self.usual.blob),
            ("blob", "HEAD", 200) => Some(&self.usual.blob_head),
            _ => None,
        };
        let found;
        let AnsweredLabels { requests, seconds, sent: bytes } = match usual {
            Some(usual) => usual.get_or_init(find),
            None => {
                found = find();
                &found
            }
        };
        requests.inc();
        seconds.observe(took.as_secs_f64());
        bytes.inc_by(sent);
    }
}

fn status_text(status: u16, digits: &mut [u8; 3]) -> &str {
    for (place, divisor) in [100, 10, 1].into_iter().enumerate() {
        digits[place] = b'0' + u8::try_from(status / divisor % 10).unwrap_or(0);
    }
    std::str::from_utf8(digits).unwrap_or("0")
}

/// Marks an answer whose body is sent piece by piece.
#[derive(Debug, Clone, Copy)]
pub(crate) struct StreamedMark;

/// A gauge that counts something as long as it lasts.
pub(crate) struct CountedGuard(IntGauge);

impl CountedGuard {
    /// Counts one more until it is dropped.
    pub fn one(gauge: &IntGauge) -> Self {
        gauge.inc();
        Self(gauge.clone())
    }
}

impl Drop for CountedGuard {
    fn drop(&mut self) {
        self.0.dec();
    }
}
