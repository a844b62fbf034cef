//! Events, told while the larder serves: the record's new lines at once, what needs a decision now and then.
//!
//! Nothing waits for a receiver. What is to be told stands in the store (the record, and what was told of what needs a
//! decision), so it outlives a restart, and of several larders one tells it. Each event arrives at least once; a receiver
//! knows by `id` what it has. A line of the record that could not be told for a day is given up.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use larder_core::notice::{About, Pace, Turn, changes, pause};
use larder_core::rounds::Urgency;
use larder_server::App;
use larder_store::{RecordEntry, RecordKind, Store, StoreError};
use tokio::runtime::Handle;
use tokio::sync::watch;

use crate::commands::rounds::rounds;
use crate::config::{Config, NotifyConfig};
use crate::context::now;
use crate::failure::Failure;
use crate::marks;
use crate::notices::{Receiver, Undelivered, of_change, of_entry, of_many};

/// The log shows what the server says.
const TARGET: &str = "larder_server::notify";
/// How often the record is looked at.
const LOOK: Duration = Duration::from_secs(5);
/// Lines of the record that are taken at once.
const PAGE: usize = 200;
/// So many changes are looked at again: of several larders, one that wrote a moment later may have an earlier number.
const BACK: i64 = 50;
/// A line that happened longer ago is given up, in milliseconds.
const OLD: i64 = 24 * 3_600_000;
/// A line may be written down so long after it happened, in milliseconds.
const SLACK: i64 = 60_000;
/// Lines that are remembered as told, so that being added to does not tell them again.
const TOLD: usize = 10_000;
/// How long what a receiver is reached with is kept; then its files are read again.
const FRESH: Duration = Duration::from_secs(60);
/// So many failures in a row are for people to see.
const FAILURES: u32 = 3;

/// Tells all receivers of each configuration, for as long as the larder serves.
pub async fn watch(app: &Arc<App>, mut configs: watch::Receiver<Arc<Config>>) {
    loop {
        let config = Arc::clone(&configs.borrow_and_update());
        if let Err(error) = forget_others(&config, &app.store).await {
            tracing::warn!(target: TARGET, %error, "what earlier receivers were told could not be forgotten");
        }
        let all = config.notify.iter().cloned();
        let all = join_all(all.map(|one| tell(one, Arc::clone(&config), Arc::clone(app))));
        // Each has its own pace; none waits for another.
        let all = async {
            all.await;
            std::future::pending::<()>().await;
        };
        tokio::select! {
            () = all => {}
            changed = configs.changed() => if changed.is_err() {
                std::future::pending::<()>().await;
            },
        }
    }
}

/// Forgets what was noted of receivers that are no more.
async fn forget_others(config: &Config, store: &Store) -> Result<(), StoreError> {
    for mark in store.marks(marks::NOTIFY).await? {
        let name = mark.name.trim_start_matches(marks::NOTIFY).split('/').next();
        if !config.notify.iter().any(|one| Some(one.name()) == name) {
            store.remove_mark(&mark.name).await?;
        }
    }
    Ok(())
}

/// Tells one receiver.
async fn tell(one: NotifyConfig, config: Arc<Config>, app: Arc<App>) {
    let teller = Teller {
        cursor: format!("{}{}/cursor", marks::NOTIFY, one.name()),
        failing: format!("{}{}/failing", marks::NOTIFY, one.name()),
        told: format!("{}{}/told/", marks::NOTIFY, one.name()),
        about: one.about(),
        one,
        config,
        app,
        looked: None,
        receiver: None,
        known: HashSet::new(),
        pace: Pace::default(),
        failures: 0,
        is_marked: true,
    };
    loop {
        let job = format!("{}{}", marks::NOTIFY, teller.one.name());
        match teller.app.store.acquire(&job).await {
            // Held for as long as we are at it.
            Ok(Some(_lease)) => return teller.go_on().await,
            // Another larder tells.
            Ok(None) => {}
            Err(error) => tracing::warn!(target: TARGET, %error, "nobody can be told now"),
        }
        tokio::time::sleep(LOOK).await;
    }
}

/// What is known of telling one receiver.
struct Teller {
    one: NotifyConfig,
    about: Vec<About>,
    config: Arc<Config>,
    app: Arc<App>,
    /// The marks: up to which change of the record it was told; since when it cannot be told; and before the names of
    /// what it was told of that needs a decision.
    cursor: String,
    failing: String,
    told: String,
    /// When it was looked last for what needs a decision.
    looked: Option<Instant>,
    /// As it is reached, and when that was set up.
    receiver: Option<(Receiver, Instant)>,
    /// Lines that were told.
    known: HashSet<String>,
    /// How many were told by themselves lately.
    pace: Pace,
    failures: u32,
    /// Whether the store may say that it cannot be told: an earlier start may have noted it.
    is_marked: bool,
}

/// Why a turn ended early.
enum Stopped {
    /// The receiver does not have it.
    Receiver(Undelivered),
    /// We cannot tell what there is to tell.
    Here(String),
}

impl From<StoreError> for Stopped {
    fn from(error: StoreError) -> Self {
        Self::Here(error.to_string())
    }
}

impl From<Failure> for Stopped {
    fn from(failure: Failure) -> Self {
        Self::Here(format!("{}: {}", failure.what, failure.cause))
    }
}

impl Teller {
    async fn go_on(mut self) {
        loop {
            let (wait, stopped) = match self.turn().await {
                Ok(()) => (LOOK, None),
                Err(Stopped::Here(cause)) => (LOOK * 6, Some(cause)),
                Err(Stopped::Receiver(undelivered)) => {
                    self.failures = self.failures.saturating_add(1);
                    self.app.meters.count_event(self.one.name(), "failed");
                    if undelivered.for_good {
                        let name = self.one.name();
                        tracing::error!(target: TARGET, name, "the receiver wants no more events; it is told nothing until the configuration changes");
                        self.note_failing("it wants no more events (410)").await;
                        return std::future::pending().await;
                    }
                    let wait = pause(self.failures, undelivered.pause);
                    (wait, Some(undelivered.cause))
                }
            };
            if let Some(cause) = stopped {
                let (name, again) = (self.one.name(), wait.as_secs());
                tracing::warn!(target: TARGET, name, cause, "events could not be told; tried again in {again} s");
                if self.failures >= FAILURES {
                    self.note_failing(&cause).await;
                }
            }
            tokio::time::sleep(wait).await;
        }
    }

    /// Notes since when and why it cannot be told.
    async fn note_failing(&mut self, cause: &str) {
        self.is_marked = true;
        let store = &self.app.store;
        let known = store.mark(&self.failing).await.ok().flatten();
        let since = known.map_or_else(now, |mark| mark.at);
        if let Err(error) = store.set_mark_at(&self.failing, cause, since).await {
            tracing::warn!(target: TARGET, %error, "that a receiver cannot be told could not be noted");
        }
    }

    /// Tells what is new.
    async fn turn(&mut self) -> Result<(), Stopped> {
        let (receiver, made) = match self.receiver.take().filter(|(_, at)| at.elapsed() < FRESH) {
            Some(kept) => kept,
            None => (Receiver::new(&self.one, &self.config)?, Instant::now()),
        };
        self.tell_lines(&receiver).await?;
        let wants_concerns = self.about.iter().any(|about| about.lasts());
        if wants_concerns && self.looked.is_none_or(|at| at.elapsed() >= self.one.every) {
            self.tell_changes(&receiver).await?;
            self.looked = Some(Instant::now());
        }
        // One that failed is made anew: its secret may be another by now.
        self.receiver = Some((receiver, made));
        Ok(())
    }

    /// The receiver has something.
    async fn delivered(&mut self) -> Result<(), StoreError> {
        self.app.meters.count_event(self.one.name(), "delivered");
        if std::mem::replace(&mut self.is_marked, false) {
            self.app.store.remove_mark(&self.failing).await?;
        }
        self.failures = 0;
        Ok(())
    }

    /// The record's new lines.
    async fn tell_lines(&mut self, receiver: &Receiver) -> Result<(), Stopped> {
        let kinds: Vec<RecordKind> = RecordKind::ALL
            .into_iter()
            .filter(|kind| About::of_record(kind.word()).is_some_and(|it| self.about.contains(&it)))
            .collect();
        if kinds.is_empty() {
            return Ok(());
        }
        let store = self.app.store.clone();
        let begun = store.mark(&self.cursor).await?;
        let Some((mut change, since)) =
            begun.and_then(|mark| Some((mark.value.parse::<i64>().ok()?, mark.at)))
        else {
            // What happened before somebody wanted to be told is not told.
            let last = store.last_change().await?;
            store.set_mark(&self.cursor, &last.to_string()).await?;
            return Ok(());
        };
        let is_shared = store.is_shared();
        let back = if is_shared { BACK } else { 0 };
        loop {
            let page = store.written_after(change - back, &kinds, PAGE).await?;
            let is_last = page.len() < PAGE || page.last().is_none_or(|(at, _)| *at <= change);
            if page.is_empty() {
                return Ok(());
            }
            let stopped = self.tell_page(receiver, page, since, &mut change).await?;
            // What waits must still count as new.
            let reached = if stopped.is_some() { since } else { now() };
            store.set_mark_at(&self.cursor, &change.to_string(), reached).await?;
            if let Some(undelivered) = stopped {
                return Err(Stopped::Receiver(undelivered));
            }
            if is_last {
                return Ok(());
            }
        }
    }

    /// Tells lines of the record that happened after `since`; `change` comes to the last of them. Some: the receiver has
    /// not all of them, and up to `change` it has.
    async fn tell_page(
        &mut self,
        receiver: &Receiver,
        page: Vec<(i64, RecordEntry)>,
        since: i64,
        change: &mut i64,
    ) -> Result<Option<Undelivered>, Stopped> {
        let mut stopped = None;
        // What is not told apart, by kind: how many, and the last.
        let mut many: BTreeMap<About, (usize, RecordEntry)> = BTreeMap::new();
        let (begun, mut held) = (*change, Vec::new());
        for (at, entry) in page {
            // One that was added to was told when it came.
            let is_once = entry.count == 1 && !self.app.store.is_shared();
            let is_new =
                (is_once || entry.first > since - SLACK) && !self.known.contains(&entry.number);
            let about = About::of_record(entry.kind.word()).filter(|_| is_new);
            if let Some(about) = about {
                if now() - entry.first > OLD {
                    self.app.meters.count_event(self.one.name(), "given-up");
                    let (name, number) = (self.one.name(), &entry.number);
                    tracing::error!(target: TARGET, name, number, "an event could not be told for a day, and is given up");
                } else if !self.pace.allows(about, Instant::now()) {
                    held.push(entry.number.clone());
                    let count = many.get(&about).map_or(0, |(count, _)| *count) + 1;
                    many.insert(about, (count, entry.clone()));
                } else {
                    let event = of_entry(&self.config, about, &entry);
                    if let Err(undelivered) = receiver.tell(&event, now()).await {
                        stopped = Some(undelivered);
                        break;
                    }
                    self.delivered().await?;
                }
                if self.known.len() >= TOLD {
                    self.known.clear();
                }
                self.known.insert(entry.number);
            }
            *change = (*change).max(at);
        }
        for (about, (count, last)) in &many {
            if stopped.is_some() {
                break;
            }
            let event = match count {
                1 => of_entry(&self.config, *about, last),
                count => of_many(&self.config, *about, *count, last),
            };
            match receiver.tell(&event, now()).await {
                Ok(()) => self.delivered().await?,
                Err(undelivered) => stopped = Some(undelivered),
            }
        }
        if stopped.is_some() && !held.is_empty() {
            // They are looked at again; what was told by itself is known.
            *change = begun;
            for number in &held {
                self.known.remove(number);
            }
        }
        Ok(stopped)
    }

    /// What needs a decision.
    async fn tell_changes(&mut self, receiver: &Receiver) -> Result<(), Stopped> {
        let store = self.app.store.clone();
        let at = now();
        // On a thread that may take its time: of a large store this is no look.
        let (config, of, runtime) = (Arc::clone(&self.config), store.clone(), Handle::current());
        let rounds =
            tokio::task::spawn_blocking(move || runtime.block_on(rounds(&config, &of))).await;
        let rounds = rounds.map_err(|error| Stopped::Here(error.to_string()))??;
        let mut told = BTreeMap::new();
        for mark in store.marks(&self.told).await? {
            let urgency = [Urgency::Urgent, Urgency::Soon, Urgency::Notice]
                .into_iter()
                .find(|one| one.word() == mark.value);
            let name = mark.name[self.told.len()..].to_owned();
            told.insert(name, urgency.unwrap_or(Urgency::Notice));
        }
        for change in changes(&told, &rounds.open, &self.about, self.one.urgency) {
            // Nobody is told that he cannot be told; and what is silenced has not ended.
            let silenced = || rounds.silenced.iter().any(|(one, _)| one.name == change.name);
            let own = change.name == format!("notify/{}", self.one.name());
            if own || (change.turn == Turn::Ended && silenced()) {
                continue;
            }
            let event = of_change(&self.config, &change, at);
            receiver.tell(&event, now()).await.map_err(Stopped::Receiver)?;
            self.delivered().await?;
            let mark = format!("{}{}", self.told, change.name);
            match change.concern {
                Some(concern) => store.set_mark(&mark, concern.urgency.word()).await?,
                None => drop(store.remove_mark(&mark).await?),
            }
        }
        Ok(())
    }
}
