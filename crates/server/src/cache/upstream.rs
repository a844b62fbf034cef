//! One upstream as the cache asks it: not while it limits us or fails again and again.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use larder_client::{ClientError, Registry};
use larder_core::allowance::{Afford, Allowance, Budget};
use larder_core::cached::{self, Circuit, Condition};
use larder_core::digest::Digest;
use larder_core::name::Host;
use larder_store::{Store, UpstreamRecord, now};
use prometheus::{HistogramOpts, HistogramVec, IntCounterVec, Opts};
use tokio::sync::Notify;

use super::trouble::{Trouble, for_clients};

/// How long anything but the bytes of a blob may take, tries and all.
const DEADLINE: Duration = Duration::from_secs(60);
/// How long it is waited for the end of a rate limit.
const WORTH_WAITING: i64 = 5_000;

/// How one upstream is set up.
#[derive(Clone)]
pub struct UpstreamPlan {
    /// Its host as in references.
    pub host: Host,
    /// The way to it.
    pub registry: Registry,
    /// What `registry` was made of: two with the same speak alike.
    pub made_of: Digest,
    /// What the operator says that it lets us pull. None: nothing.
    pub allowance: Option<Allowance>,
}

impl PartialEq for UpstreamPlan {
    fn eq(&self, other: &Self) -> bool {
        (&self.host, &self.made_of, &self.allowance)
            == (&other.host, &other.made_of, &other.allowance)
    }
}

/// One upstream.
pub struct CacheUpstream {
    host: Host,
    /// The way to it.
    pub registry: Registry,
    made_of: Digest,
    allowance: Option<Allowance>,
    /// Where our pulls are counted, whichever process makes them.
    store: Store,
    state: Mutex<UpstreamState>,
    /// Clients that are waiting for blobs of it, and word that the last of them has gone.
    clients: AtomicUsize,
    quiet: Notify,
    /// How long its answers take.
    times: AskTimes,
}

/// How long upstreams take to answer, and how often they do and do not.
#[derive(Clone)]
pub(crate) struct AskTimes {
    pub seconds: HistogramVec,
    pub answers: IntCounterVec,
}

impl Default for AskTimes {
    #[allow(clippy::expect_used)] // names and labels are fixed: a wrong one fails the first test
    fn default() -> Self {
        let options = HistogramOpts::new(
            "larder_upstream_seconds",
            "Time until an upstream has answered what a cached shelf asked, without the bytes of blobs",
        )
        .buckets(vec![0.005, 0.025, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0, 30.0, 60.0]);
        let answers = Opts::new(
            "larder_upstream_answers_total",
            "What cached shelves asked upstreams: answered, absent, limited, failed",
        );
        Self {
            seconds: HistogramVec::new(options, &["host"]).expect("a fixed name"),
            answers: IntCounterVec::new(answers, &["host", "outcome"]).expect("a fixed name"),
        }
    }
}

struct UpstreamState {
    circuit: Circuit,
    budget: Budget,
    /// Pulls that could not be written down.
    pulls: u64,
    /// What went wrong last. None: nothing since it last answered.
    cause: Option<String>,
    /// The same as clients are told it.
    plain: Option<String>,
    told: Option<UpstreamRecord>,
}

/// That a client waits for a blob.
pub(super) struct WaitingAsk(Arc<CacheUpstream>);

impl Drop for WaitingAsk {
    fn drop(&mut self) {
        if self.0.clients.fetch_sub(1, Ordering::AcqRel) == 1 {
            self.0.quiet.notify_waiters();
        }
    }
}

impl CacheUpstream {
    /// Sets it up; nothing is asked yet.
    pub(super) fn new(plan: UpstreamPlan, store: Store, times: AskTimes) -> Self {
        let UpstreamPlan { host, registry, made_of, allowance } = plan;
        let budget = Budget { allowance, ..Budget::default() };
        let (circuit, cause, plain, told) = (Circuit::default(), None, None, None);
        let state = Mutex::new(UpstreamState { circuit, budget, pulls: 0, cause, plain, told });
        let (clients, quiet) = (AtomicUsize::new(0), Notify::new());
        Self { host, registry, made_of, allowance, store, state, clients, quiet, times }
    }

    /// Takes the place of one with the same host: it goes on counting, and asks anew.
    pub(super) fn after(plan: UpstreamPlan, before: &Self) -> Self {
        let new = Self::new(plan, before.store.clone(), before.times.clone());
        new.state().pulls = std::mem::take(&mut before.state().pulls);
        new
    }

    /// Whether a plan is what it was set up by.
    pub(super) fn is_of(&self, plan: &UpstreamPlan) -> bool {
        let UpstreamPlan { host, made_of, allowance, registry: _ } = plan;
        (&self.host, &self.made_of, &self.allowance) == (host, made_of, allowance)
    }

    /// Its host as in references.
    pub fn host(&self) -> &Host {
        &self.host
    }

    fn state(&self) -> MutexGuard<'_, UpstreamState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether it is not asked now, whatever for.
    pub fn is_left_alone(&self) -> bool {
        let condition = self.state().circuit.condition(now());
        matches!(condition, Condition::Limited(_) | Condition::Resting(_))
    }

    async fn enter(&self, pulls: u64) -> Result<(), Trouble> {
        let left_alone = self.is_asked(|circuit, now| match circuit.condition(now) {
            condition @ (Condition::Limited(_) | Condition::Resting(_)) => Err(condition),
            Condition::Well | Condition::Ailing(_) => Ok(()),
        });
        if let Err(left_alone) = left_alone {
            // What the operator states is told first: it ends later, and by itself.
            self.is_spent(pulls).await?;
            return Err(left_alone);
        }
        if pulls > 0 {
            self.spend(pulls).await?;
        }
        self.is_asked(Circuit::enter)
    }

    /// Whether the circuit lets it be asked.
    fn is_asked(
        &self,
        ask: impl FnOnce(&mut Circuit, i64) -> Result<(), Condition>,
    ) -> Result<(), Trouble> {
        let mut state = self.state();
        let cause = state.plain.clone().unwrap_or_default();
        match ask(&mut state.circuit, now()) {
            Err(Condition::Limited(until)) => Err(Trouble::Limited(self.host.clone(), until)),
            Err(Condition::Resting(until)) => {
                Err(Trouble::Resting(self.host.clone(), until, cause))
            }
            Ok(()) | Err(Condition::Well | Condition::Ailing(_)) => Ok(()),
        }
    }

    /// Refuses pulls that its limit does not afford now; nothing is spent.
    async fn is_spent(&self, pulls: u64) -> Result<(), Trouble> {
        let allowance = self.state().budget.allowance;
        let (Some(stated), true) = (allowance, pulls > 0) else { return Ok(()) };
        let (at, per) = (now(), i64::try_from(stated.per.as_millis()).unwrap_or(i64::MAX));
        let spent = self.store.pulls(&self.host, at.saturating_sub(per)).await?;
        let budget = Budget { allowance, spent, reported: None };
        self.judge(budget.affords(pulls, at), at)
    }

    fn judge(&self, afford: Afford, at: i64) -> Result<(), Trouble> {
        match afford {
            Afford::Now => Ok(()),
            Afford::At(until) => Err(Trouble::Spent(self.host.clone(), until)),
            Afford::Never(_) => Err(Trouble::Spent(self.host.clone(), at + 24 * 3_600_000)),
        }
    }

    /// Takes pulls of its limit, which all processes on the store share.
    async fn spend(&self, pulls: u64) -> Result<(), Trouble> {
        let at = now();
        let budget = Budget {
            allowance: self.state().budget.allowance,
            reported: self.registry.reported(),
            spent: Vec::new(),
        };
        let (afford, budget) = match self.store.spend(&self.host, budget, pulls, false, at).await {
            Ok(spent) => spent,
            // On a full disk pulls go on: they are counted as soon as there is room.
            Err(error) if error.is_full() => {
                self.state().pulls += pulls;
                return Ok(());
            }
            Err(error) => return Err(error.into()),
        };
        self.state().budget = budget;
        self.judge(afford, at)
    }

    /// The same, waiting for a limit that ends soon.
    async fn enter_soon(&self, pulls: u64) -> Result<(), Trouble> {
        match self.enter(pulls).await {
            Err(Trouble::Limited(_, until) | Trouble::Spent(_, until))
                if until - now() <= WORTH_WAITING =>
            {
                let pause = u64::try_from(until - now()).unwrap_or(0);
                tokio::time::sleep(Duration::from_millis(pause + 1)).await;
                self.enter(pulls).await
            }
            other => other,
        }
    }

    fn tell(&self, outcome: Result<(), &ClientError>) {
        let mut state = self.state();
        let trouble = match outcome {
            // An answer that we do not like is an answer.
            Ok(())
            | Err(
                ClientError::NotFound { .. }
                | ClientError::Denied { .. }
                | ClientError::Mismatch { .. }
                | ClientError::Length { .. }
                | ClientError::Document { .. },
            ) => {
                state.circuit.succeeded();
                state.cause = None;
                state.plain = None;
                return;
            }
            Err(ClientError::RateLimited { retry_after, .. }) => {
                cached::CircuitTrouble::Limited(*retry_after)
            }
            Err(_) => cached::CircuitTrouble::Failed,
        };
        let before = state.circuit.condition(now());
        state.circuit.failed(trouble, now());
        let after = state.circuit.condition(now());
        if let Err(error) = outcome {
            state.cause = Some(error.to_string());
            state.plain = Some(for_clients(error));
            if std::mem::discriminant(&before) != std::mem::discriminant(&after) {
                tracing::warn!(host = %self.host, %error, condition = word(after), "an upstream is in trouble");
            }
        }
    }

    /// Asks it something that takes no long: `pulls` tells how many manifests it fetches.
    pub async fn ask<T>(
        &self,
        pulls: u64,
        question: impl Future<Output = Result<T, ClientError>>,
    ) -> Result<T, Trouble> {
        self.enter_soon(pulls).await?;
        let began = Instant::now();
        let Ok(outcome) = tokio::time::timeout(DEADLINE, question).await else {
            let (host, endpoint) = (self.host.to_string(), self.registry.endpoint().to_string());
            let cause = "no answer in time".to_owned();
            let error = ClientError::Unreachable { host, endpoint, cause };
            self.measure(began, Some(&error));
            self.tell(Err(&error));
            return Err(Trouble::TooLong(self.host.clone()));
        };
        self.measure(began, outcome.as_ref().err());
        self.tell(outcome.as_ref().map(drop));
        outcome.map_err(Trouble::Upstream)
    }

    /// Counts an answer, and how long it took.
    fn measure(&self, began: Instant, error: Option<&ClientError>) {
        let host = self.host.as_str();
        let outcome = match error {
            None => "answered",
            Some(ClientError::NotFound { .. }) => "absent",
            Some(ClientError::RateLimited { .. }) => "limited",
            Some(_) => "failed",
        };
        self.times.seconds.with_label_values(&[host]).observe(began.elapsed().as_secs_f64());
        self.times.answers.with_label_values(&[host, outcome]).inc();
    }

    /// Opens a stream. It may have to wait for others, so it is not given up after a time; the
    /// client gives up a registry that is silent.
    pub(super) async fn open<T>(
        &self,
        question: impl Future<Output = Result<T, ClientError>>,
    ) -> Result<T, Trouble> {
        self.enter_soon(0).await?;
        let began = Instant::now();
        let outcome = question.await;
        self.measure(began, outcome.as_ref().err());
        self.tell(outcome.as_ref().map(drop));
        outcome.map_err(Trouble::Upstream)
    }

    /// Tells how a stream ended that was opened.
    pub(super) fn tell_stream(&self, error: &ClientError) {
        self.tell(Err(error));
    }

    /// Counts a client that waits for a blob, as long as what is given back lives.
    pub(super) fn waiting(self: &Arc<Self>) -> WaitingAsk {
        self.clients.fetch_add(1, Ordering::AcqRel);
        WaitingAsk(Arc::clone(self))
    }

    /// Waits until no client waits for a blob, but not for ever.
    pub(super) async fn quiet(&self) {
        let quiet = self.quiet.notified();
        if self.clients.load(Ordering::Acquire) > 0 {
            let _ = tokio::time::timeout(Duration::from_secs(10), quiet).await;
        }
    }

    /// Writes down pulls of it that could not be counted when they were made. What cannot be written is kept for the next
    /// time.
    pub(super) async fn write_pulls(&self, store: &Store) {
        let allowance = self.state().budget.allowance;
        if let Some(allowance) = allowance {
            // Others on the same store spend it too.
            let per = i64::try_from(allowance.per.as_millis()).unwrap_or(i64::MAX);
            match store.pulls(&self.host, now().saturating_sub(per)).await {
                Ok(spent) => self.state().budget.spent = spent,
                Err(error) => tracing::warn!(%error, "what is left of an allowance cannot be told"),
            }
        }
        let pulls = std::mem::take(&mut self.state().pulls);
        if pulls == 0 {
            return;
        }
        if let Err(error) = store.note_pulls(&self.host, pulls, now()).await {
            tracing::warn!(%error, "pulls from an upstream could not be counted; it is tried again");
            self.state().pulls += pulls;
        }
    }

    /// How it stands.
    pub fn standing(&self) -> UpstreamRecord {
        let mut state = self.state();
        let now = now();
        state.budget.reported = self.registry.reported();
        let condition = state.circuit.condition(now);
        let until = match condition {
            Condition::Limited(until) | Condition::Resting(until) => Some(until),
            Condition::Well | Condition::Ailing(_) => None,
        };
        UpstreamRecord {
            host: self.host.clone(),
            condition: word(condition).into(),
            until,
            cause: state.cause.clone(),
            remaining: state.budget.left(now),
            at: now,
        }
    }

    /// How many pulls it lets us make in a whole span, and when all of them are back, in milliseconds since 1970. None:
    /// nothing is known of it; none is spent.
    pub(crate) fn allowance(&self) -> (Option<u64>, Option<i64>) {
        let state = self.state();
        (state.budget.most(), state.budget.whole_at(now()))
    }

    /// Takes up what was known of it before a start: that it limits us.
    pub fn remember(&self, known: &UpstreamRecord) {
        if let ("limited", Some(until)) = (known.condition.as_str(), known.until) {
            let mut state = self.state();
            state.circuit.limit(until, now());
            state.cause.clone_from(&known.cause);
        }
    }

    /// It is asked again as if nothing had been: the operator says so.
    pub(super) fn retry(&self) {
        let mut state = self.state();
        state.circuit = Circuit::default();
        state.cause = None;
        state.plain = None;
        state.told = None;
        tracing::info!(host = %self.host, "an upstream is asked again, as the operator says");
    }

    /// The same, if it differs from what was told last.
    pub(super) fn changed_standing(&self) -> Option<UpstreamRecord> {
        let standing = self.standing();
        let mut state = self.state();
        let same = state.told.as_ref().is_some_and(|told| {
            let told = UpstreamRecord { at: standing.at, ..told.clone() };
            told == standing
        });
        if same {
            return None;
        }
        state.told = Some(standing.clone());
        Some(standing)
    }
}

fn word(condition: Condition) -> &'static str {
    match condition {
        Condition::Well => "well",
        Condition::Ailing(_) => "ailing",
        Condition::Limited(_) => "limited",
        Condition::Resting(_) => "resting",
    }
}
