//! A registry's figures, and what handlers tell of an answer for them. Names follow the conventions of Prometheus: the
//! unit at the end, `_total` for what only grows, times in seconds since 1970 as `_timestamp_seconds`.

mod sampled;

use std::collections::BTreeSet;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, SystemTime};

use larder_core::access::key::renewal_number;
use larder_store::{Filter, Store, Traffic, now};
pub use sampled::{Figure, SampledValue};

use prometheus::{
    Histogram, HistogramOpts, HistogramVec, IntCounter, IntCounterVec, IntGauge, IntGaugeVec, Opts,
    Registry, TextEncoder, core::Collector,
};

use crate::cache::{AskTimes, CacheUpstream};
use sampled::SampledFigures;

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

/// The number that an answer tells, by which the record has its line.
#[derive(Debug, Clone)]
pub(crate) struct ToldNumber(pub Box<str>);

impl ToldNumber {
    /// The one at the end of a sentence, ` [NUMBER]`. None: it has none.
    pub fn in_sentence(sentence: &str) -> Option<Self> {
        let (_, number) = sentence.strip_suffix(']')?.rsplit_once(" [")?;
        let plain = number.bytes().all(|b| b.is_ascii_alphanumeric());
        (plain && (1..=9).contains(&number.len())).then(|| Self(number.into()))
    }
}

/// A registry's figures, as Prometheus reads them.
pub struct Meters {
    registry: Registry,
    requests: IntCounterVec,
    pub(crate) errors: IntCounterVec,
    /// Sign-ins: `good`, `failed`.
    pub(crate) sign_ins: IntCounterVec,
    /// Refusals: by a `grant` that is missing, by a `rule`, because it is `blocked`.
    refusals: IntCounterVec,
    /// What doors were asked: `admitted`, `changed`, `warned`, `refused`, `unanswered`.
    door: IntCounterVec,
    door_seconds: Histogram,
    /// How often something was looked up of an image because a rule asks for it: what was kept counts no more.
    pub(crate) facts: IntCounter,
    /// Events for others, by receiver: `delivered`, `failed`, `given-up`.
    events: IntCounterVec,
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
    store: StoreGauges,
    cache: IntCounterVec,
    cache_bytes: IntCounterVec,
    upstream: UpstreamGauges,
    replicas: [IntGauge; 3],
    configuration: IntGaugeVec,
    sampled: SampledFigures,
}

/// What a larder has done since it was started.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ServiceTotals {
    pub requests: u64,
    /// Those that it could not answer, by a fault of its own or of what it needs (status 5xx).
    pub failed: u64,
    /// What was not let through, by a grant, a rule or a block.
    pub refused: u64,
    /// Bytes of bodies.
    pub sent_bytes: u64,
    pub received_bytes: u64,
}

/// What the store holds, each content once.
struct StoreGauges {
    repositories: IntGauge,
    tags: IntGauge,
    manifests: IntGauge,
    blobs: IntGauge,
    bytes: IntGauge,
    room: IntGauge,
    reserve: IntGauge,
}

/// How upstreams stand.
struct UpstreamGauges {
    available: IntGaugeVec,
    back: IntGaugeVec,
    left: IntGaugeVec,
    most: IntGaugeVec,
    whole: IntGaugeVec,
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
        let gauges = |name: &str, help: &str, labels: &[&str]| {
            let gauges = IntGaugeVec::new(Opts::new(name, help), labels).expect("a fixed name");
            registry.register(Box::new(gauges.clone())).expect("registered once");
            gauges
        };
        let build = gauges("larder_build_info", "1, for the version of the program", &["version"]);
        build.with_label_values(&[env!("CARGO_PKG_VERSION")]).set(1);
        // The name that dashboards and alerts know it by.
        let start = gauge("process_start_time_seconds", "When the program was started");
        let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        start.set(i64::try_from(since.as_secs()).unwrap_or(i64::MAX));
        let store = StoreGauges {
            repositories: gauge("larder_store_repositories", "Repositories with an image"),
            tags: gauge("larder_store_tags", "Tags"),
            manifests: gauge("larder_store_manifests", "Manifests, each once"),
            blobs: gauge("larder_store_blobs", "Blobs, each once"),
            bytes: gauge("larder_store_bytes", "What all content takes, each once"),
            room: gauge(
                "larder_store_room_bytes",
                "What the store's disk has free, its reserve too",
            ),
            reserve: gauge("larder_store_reserve_bytes", "What of that is kept free"),
        };
        let upstream = UpstreamGauges {
            available: gauges(
                "larder_upstream_available",
                "1: the upstream is asked; 0: it is left alone for a while",
                &["host"],
            ),
            back: gauges(
                "larder_upstream_back_timestamp_seconds",
                "When an upstream that is left alone is asked again; 0: it is asked now",
                &["host"],
            ),
            left: gauges(
                "larder_upstream_pulls_left",
                "Pulls that an upstream lets us make now",
                &["host"],
            ),
            most: gauges(
                "larder_upstream_pulls_most",
                "Pulls that an upstream lets us make in a whole span",
                &["host"],
            ),
            whole: gauges(
                "larder_upstream_pulls_back_timestamp_seconds",
                "When all pulls of an upstream are back, if nothing is pulled until then; 0: none is spent",
                &["host"],
            ),
        };
        let facts = IntCounter::new(
            "larder_facts_gathered_total",
            "How often what a rule asks of an image was looked up; what was kept since is not counted",
        );
        let events = counter(
            "larder_events_total",
            "Events for the receivers of [[notify]]: delivered, failed (tried again), given-up",
            &["receiver", "outcome"],
        );
        let facts = facts.expect("a fixed name");
        registry.register(Box::new(facts.clone())).expect("registered once");
        let key_ends = gauges(
            "larder_key_expires_timestamp_seconds",
            "When a key that is good now expires",
            &["user", "key"],
        );
        let renewals = gauges(
            "larder_renewal_timestamp_seconds",
            "When a cluster's keys were last looked through for renewal",
            &["cluster"],
        );
        let replicas = [
            gauge("larder_replicas", "Larders that serve this store"),
            gauge(
                "larder_replica_configurations",
                "How many configurations they have: more than 1 is a fault",
            ),
            gauge(
                "larder_replica_versions",
                "How many versions they have: more than 1 only while they are upgraded",
            ),
        ];
        let door_options =
            HistogramOpts::new("larder_door_seconds", "Time until a door has answered")
                .buckets(vec![0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.2, 1.0]);
        let door_seconds = Histogram::with_opts(door_options).expect("a fixed name");
        registry.register(Box::new(door_seconds.clone())).expect("registered once");
        let configuration = gauges(
            "larder_configuration_info",
            "1, for the configuration that holds, in short",
            &["configuration"],
        );
        Self {
            sampled: SampledFigures::new(&registry),
            replicas,
            configuration,
            door_seconds,
            door: counter(
                "larder_door_answers_total",
                "What doors answered: admitted, changed, warned, refused, unanswered, wrong",
                &["cluster", "outcome"],
            ),
            requests: counter(
                "larder_requests_total",
                "Requests that were answered",
                &["resource", "method", "status"],
            ),
            errors: counter("larder_errors_total", "Refusals by the standard's code", &["code"]),
            sign_ins: counter("larder_sign_ins_total", "Sign-ins: good, failed", &["outcome"]),
            refusals: counter(
                "larder_refusals_total",
                "What was not let through: for want of a grant, by a rule, because it is blocked",
                &["by", "rule"],
            ),
            facts,
            events,
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

    /// Counts what was not let through; `rule` is empty where none decided.
    pub(crate) fn refused(&self, by: &str, rule: &str) {
        self.refusals.with_label_values(&[by, rule]).inc();
    }

    /// Counts what a door was asked, what it answered, and how long that took.
    pub(crate) fn door_answered(&self, cluster: &str, outcome: &str, took: Duration) {
        self.door.with_label_values(&[cluster, outcome]).inc();
        self.door_seconds.observe(took.as_secs_f64());
    }

    /// Takes up figures that somebody else keeps.
    #[allow(clippy::expect_used)] // as above
    pub(crate) fn include(&self, times: &AskTimes) {
        for one in
            [Box::new(times.seconds.clone()) as Box<dyn Collector>, Box::new(times.answers.clone())]
        {
            self.registry.register(one).expect("registered once");
        }
    }

    /// Counts what came of an event for a receiver: `delivered`, `failed`, `given-up`.
    pub fn count_event(&self, receiver: &str, outcome: &str) {
        self.events.with_label_values(&[receiver, outcome]).inc();
    }

    /// What this larder has done since it was started.
    pub fn service_totals(&self) -> ServiceTotals {
        let sum = |counters: &IntCounterVec, wanted: &dyn Fn(&str, &str) -> bool| {
            let families = counters.collect();
            let metrics = families.iter().flat_map(prometheus::proto::MetricFamily::get_metric);
            let fits = |metric: &&prometheus::proto::Metric| {
                metric.get_label().iter().all(|label| wanted(label.name(), label.value()))
            };
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "it counts"
            )]
            metrics.filter(fits).map(|metric| metric.get_counter().get_value() as u64).sum()
        };
        ServiceTotals {
            requests: sum(&self.requests, &|_, _| true),
            failed: sum(&self.requests, &|name, value| name != "status" || value.starts_with('5')),
            refused: sum(&self.refusals, &|_, _| true),
            sent_bytes: sum(&self.sent, &|_, _| true),
            received_bytes: sum(&self.received, &|_, _| true),
        }
    }

    /// Takes up what was worked out anew of these figures, in the place of all that was told of them.
    pub fn set_sampled(&self, figures: &[Figure], values: &[SampledValue]) {
        self.sampled.set(figures, values);
    }

    fn set_upstreams(&self, upstreams: &[Arc<CacheUpstream>]) {
        let UpstreamGauges { available, back, left, most, whole } = &self.upstream;
        // One that is configured no more is told no more.
        for gauges in [available, back, left, most, whole] {
            gauges.reset();
        }
        for one in upstreams {
            let (standing, (limit, all_back)) = (one.standing(), one.allowance());
            let set = |gauges: &IntGaugeVec, value: i64| {
                gauges.with_label_values(&[standing.host.as_str()]).set(value);
            };
            let until = standing.until.filter(|until| *until > standing.at);
            set(available, i64::from(until.is_none()));
            set(back, until.map_or(0, |until| until / 1000));
            let number = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
            if let Some(remaining) = standing.remaining {
                set(left, number(remaining));
                set(whole, all_back.map_or(0, |at| at / 1000));
            }
            if let Some(limit) = limit {
                set(most, number(limit));
            }
        }
    }

    /// Notes who serves the same store, and by which configuration this one does.
    pub(crate) fn set_serving(&self, counts: [usize; 3], fingerprint: &str) {
        for (gauge, count) in self.replicas.iter().zip(counts) {
            // A larder of a store of its own has no others to hear of.
            gauge.set(i64::try_from(count.max(1)).unwrap_or(i64::MAX));
        }
        self.configuration.reset();
        self.configuration.with_label_values(&[fingerprint]).set(1);
    }

    /// All of them as text, with how the upstreams stand. What the store holds is looked up for it.
    pub(crate) async fn text(
        &self,
        store: &Store,
        upstreams: &[Arc<CacheUpstream>],
        reserve: u64,
    ) -> String {
        self.set_upstreams(upstreams);
        self.set_keys(store).await;
        let number = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        match store.totals().await {
            Ok(totals) => {
                self.store.repositories.set(number(totals.repositories));
                self.store.tags.set(number(totals.tags));
                self.store.manifests.set(number(totals.manifests));
                self.store.blobs.set(number(totals.blobs));
                self.store.bytes.set(number(totals.bytes));
            }
            Err(error) => tracing::warn!(%error, "the ledger's totals are not known"),
        }
        if let Ok(Some(room)) = store.room().await {
            self.store.room.set(number(room));
        }
        self.store.reserve.set(number(reserve));
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
