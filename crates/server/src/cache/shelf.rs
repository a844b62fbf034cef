//! One cached shelf: what it reaches, how long it believes and keeps.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use larder_core::cached::Habits;
use larder_core::name::{Host, RepositoryName, Tag};
use larder_store::{Traffic, now};

use super::trouble::Trouble;
use super::upstream::CacheUpstream;

const DAY: i64 = 24 * 3_600_000;

/// How one cached shelf is set up.
#[derive(Clone, PartialEq)]
pub struct ShelfPlan {
    pub name: String,
    /// The host of the upstream that it caches.
    pub host: Host,
    /// What references without a registry mean by this upstream, behind its host. None: another
    /// upstream, or nothing.
    pub short: Option<RepositoryName>,
    /// How it behaves.
    pub habits: Habits,
}

/// One cached shelf.
pub struct CachedShelf {
    pub name: String,
    pub upstream: Arc<CacheUpstream>,
    /// What stands for a short name's missing part.
    pub short: Option<RepositoryName>,
    /// How it behaves.
    pub habits: Habits,
    /// What it did since that was last written down.
    pub(crate) traffic: Arc<Counters>,
    /// Lists of tags that the upstream just gave.
    pub(super) lists: Lists,
}

impl std::ops::Deref for CachedShelf {
    type Target = Habits;

    fn deref(&self) -> &Habits {
        &self.habits
    }
}

impl CachedShelf {
    /// With what it, or one of its name before, has counted.
    pub(super) fn new(
        plan: ShelfPlan,
        upstream: Arc<CacheUpstream>,
        traffic: Arc<Counters>,
    ) -> Self {
        let ShelfPlan { name, host: _, short, habits } = plan;
        Self { name, upstream, short, habits, traffic, lists: Lists::default() }
    }

    /// Whether a plan is what it was set up by.
    pub(super) fn is_of(&self, plan: &ShelfPlan) -> bool {
        let ShelfPlan { name, host, short, habits } = plan;
        (&self.name, self.upstream.host()) == (name, host)
            && (&self.short, &self.habits) == (short, habits)
    }

    /// The upstream's name for one of the shelf's repositories.
    pub fn upstream_name(&self, repository: &RepositoryName) -> Result<RepositoryName, Trouble> {
        let path = repository.as_str().split_once('/').and_then(|(_, path)| path.parse().ok());
        let path: RepositoryName = path.ok_or_else(|| Trouble::NoRepository(self.name.clone()))?;
        match self.reach.check(&path) {
            Ok(()) => Ok(path),
            Err(why) => {
                let shelf = &self.name;
                let sentence = format!("{path} is outside of the shelf {shelf}, which {why}");
                Err(Trouble::OutOfReach(sentence))
            }
        }
    }
}

/// Repositories whose lists are remembered.
const LISTS: usize = 256;

/// A list, and until when it counts.
type TimedList = (Instant, Arc<Vec<Tag>>);

/// Lists of tags, each until it is too old.
#[derive(Default)]
pub(super) struct Lists {
    known: Mutex<HashMap<RepositoryName, TimedList>>,
}

impl Lists {
    /// The tags of a repository as they were listed last. None: that is too long ago, or never was.
    pub fn get(&self, path: &RepositoryName) -> Option<Arc<Vec<Tag>>> {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let (until, tags) = known.get(path)?;
        (Instant::now() < *until).then(|| Arc::clone(tags))
    }

    /// Keeps a list for a while.
    pub fn keep(&self, path: &RepositoryName, tags: Vec<Tag>, life: Duration) {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= LISTS {
            known.clear();
        }
        known.insert(path.clone(), (Instant::now() + life, Arc::new(tags)));
    }
}

/// What a shelf did.
#[derive(Debug, Default)]
pub(crate) struct Counters {
    pub hits: AtomicU64,
    pub misses: AtomicU64,
    pub sent: AtomicU64,
    pub fetched: AtomicU64,
}

impl Counters {
    /// Takes what was counted. None: nothing was.
    pub(super) fn take(&self, shelf: &str) -> Option<Traffic> {
        let take = |counter: &AtomicU64| counter.swap(0, Ordering::Relaxed);
        let traffic = Traffic {
            shelf: shelf.to_owned(),
            day: now() / DAY,
            hits: take(&self.hits),
            misses: take(&self.misses),
            sent: take(&self.sent),
            fetched: take(&self.fetched),
        };
        let any = traffic.hits + traffic.misses + traffic.sent + traffic.fetched > 0;
        any.then_some(traffic)
    }

    pub(super) fn give_back(&self, traffic: &Traffic) {
        self.hits.fetch_add(traffic.hits, Ordering::Relaxed);
        self.misses.fetch_add(traffic.misses, Ordering::Relaxed);
        self.sent.fetch_add(traffic.sent, Ordering::Relaxed);
        self.fetched.fetch_add(traffic.fetched, Ordering::Relaxed);
    }
}
