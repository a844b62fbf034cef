//! Cached shelves: upstreams behind our own door.
//!
//! What is asked for and not here is fetched once, however many ask; content that is here never asks
//! the upstream; a tag is believed for a while and then compared. Nothing here knows of HTTP requests
//! by clients: [`crate::cached`] asks, and writes the answers.

mod ahead;
mod fill;
mod follow;
mod keeping;
mod manifests;
mod passing;
mod shelf;
mod trouble;
mod upstream;

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};

use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{Host, RepositoryName, Tag};
use larder_store::{RETRY, Store, StoreError, Traffic};
use tokio::sync::{Notify, mpsc};

pub use ahead::WarmedLayers;
pub(crate) use fill::{CachedBlob, FillInterest};
pub(crate) use follow::follow;
pub(crate) use manifests::FoundManifest;
pub use shelf::{CachedShelf, ShelfPlan};
pub use trouble::Trouble;
pub(crate) use upstream::AskTimes;
pub use upstream::{CacheUpstream, UpstreamPlan};

use crate::flights::Flights;
use ahead::{AheadImages, AheadJob};
use fill::Fills;

/// How long it is believed that an upstream does not have something.
const ABSENT: Duration = Duration::from_secs(10);
/// How long an upstream is not asked again what it could not just tell, where older answers do.
const PAUSE: Duration = Duration::from_secs(3);
/// How many of such answers are remembered.
const ABSENT_MOST: usize = 10_000;
/// Images that wait for being fetched ahead.
const AHEAD: usize = 256;

/// A manifest that has just been fetched. None: it is in the store.
type InHand = Option<Arc<Document>>;

/// Something that an upstream does not have, or could not be asked for.
type AbsentContent = (RepositoryName, String);

/// All cached shelves of a larder. Clones are the same.
#[derive(Clone)]
pub struct Cache {
    inner: Arc<CacheInner>,
}

struct CacheInner {
    store: Store,
    /// Exchanged whole with the plan: what is under way keeps the shelf that it began with.
    shelves: RwLock<Arc<Shelves>>,
    checks: Flights<(RepositoryName, Tag), Result<(Digest, InHand), Trouble>>,
    fetches: Flights<(RepositoryName, Digest), Result<InHand, Trouble>>,
    lists: Flights<(RepositoryName, String), Result<(), Trouble>>,
    fills: Fills,
    /// What the upstream did not give, and until when that counts.
    vain: Mutex<HashMap<AbsentContent, (Instant, Trouble)>>,
    expected: AheadImages,
    ahead: mpsc::Sender<AheadJob>,
    jobs: Mutex<Option<mpsc::Receiver<AheadJob>>>,
    /// Told when room is needed at once.
    room: Notify,
    times: AskTimes,
}

/// The cached shelves of a configuration and their upstreams.
#[derive(Clone, Default, PartialEq)]
pub struct CachePlan {
    /// The upstreams that are cached.
    pub upstreams: Vec<UpstreamPlan>,
    /// The shelves; one whose upstream is missing is left out.
    pub shelves: Vec<ShelfPlan>,
    /// Bytes that all of them may take together. None: no limit.
    pub limit: Option<u64>,
}

/// A plan at work.
#[derive(Default)]
struct Shelves {
    by_name: BTreeMap<String, Arc<CachedShelf>>,
    limit: Option<u64>,
}

impl Cache {
    /// With these shelves, over a store, which knows how their upstreams stood.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn open(store: Store, plan: &CachePlan) -> Result<Self, StoreError> {
        let cache = Self::new(store, plan);
        cache.recall_standing().await?;
        Ok(cache)
    }

    /// Takes from the store how upstreams stood when they were last asked.
    pub(crate) async fn recall_standing(&self) -> Result<(), StoreError> {
        let standing = self.inner.store.standing().await?;
        for upstream in &self.upstreams() {
            if let Some(known) = standing.iter().find(|known| known.host == *upstream.host()) {
                upstream.remember(known);
            }
        }
        Ok(())
    }

    /// The same, with upstreams of which nothing is known.
    pub(crate) fn new(store: Store, plan: &CachePlan) -> Self {
        let (ahead, jobs) = mpsc::channel(AHEAD);
        let cache = Self {
            inner: Arc::new(CacheInner {
                store,
                shelves: RwLock::default(),
                checks: Flights::default(),
                fetches: Flights::default(),
                lists: Flights::default(),
                fills: Fills::default(),
                vain: Mutex::default(),
                expected: AheadImages::default(),
                ahead,
                jobs: Mutex::new(Some(jobs)),
                room: Notify::new(),
                times: AskTimes::default(),
            }),
        };
        cache.set_plan(plan);
        cache
    }

    /// From now on these are the shelves. One that is the same as before, and an upstream that is, go on
    /// with what they know; so do the counts of a shelf that only changed.
    pub fn set_plan(&self, plan: &CachePlan) {
        let mut now = self.inner.shelves.write().unwrap_or_else(PoisonError::into_inner);
        let known: Vec<&Arc<CacheUpstream>> =
            now.by_name.values().map(|one| &one.upstream).collect();
        let upstreams: Vec<Arc<CacheUpstream>> = plan
            .upstreams
            .iter()
            .map(|plan| match known.iter().find(|known| known.host() == &plan.host) {
                Some(same) if same.is_of(plan) => Arc::clone(same),
                Some(before) => Arc::new(CacheUpstream::after(plan.clone(), before)),
                None => {
                    let (store, times) = (self.inner.store.clone(), self.inner.times.clone());
                    Arc::new(CacheUpstream::new(plan.clone(), store, times))
                }
            })
            .collect();
        let shelves = plan.shelves.iter().filter_map(|plan| {
            let upstream = upstreams.iter().find(|one| one.host() == &plan.host)?;
            let before = now.by_name.get(&plan.name);
            let same = before.filter(|one| one.is_of(plan) && Arc::ptr_eq(&one.upstream, upstream));
            let shelf = match same {
                Some(same) => Arc::clone(same),
                None => {
                    let traffic = before.map(|one| Arc::clone(&one.traffic)).unwrap_or_default();
                    Arc::new(CachedShelf::new(plan.clone(), Arc::clone(upstream), traffic))
                }
            };
            Some((plan.name.clone(), shelf))
        });
        let by_name = shelves.collect();
        *now = Arc::new(Shelves { by_name, limit: plan.limit });
        drop(now);
        self.inner.vain.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.inner.room.notify_one();
    }

    /// How long its upstreams take to answer.
    pub(crate) fn times(&self) -> AskTimes {
        self.inner.times.clone()
    }

    fn now(&self) -> Arc<Shelves> {
        Arc::clone(&self.inner.shelves.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Bytes that all shelves may take together. None: no limit.
    fn limit(&self) -> Option<u64> {
        self.now().limit
    }

    /// The cached shelf that a repository lies on. None: on none.
    pub fn shelf_of(&self, repository: &RepositoryName) -> Option<Arc<CachedShelf>> {
        self.shelf_named(repository.first_component())
    }

    /// The cached shelf of a name. None: there is none.
    pub(crate) fn shelf_named(&self, name: &str) -> Option<Arc<CachedShelf>> {
        self.now().by_name.get(name).cloned()
    }

    /// The shelf that caches an upstream. None: none does.
    pub fn shelf_for(&self, host: &Host) -> Option<Arc<CachedShelf>> {
        self.now().by_name.values().find(|shelf| shelf.upstream.host() == host).cloned()
    }

    /// All shelves.
    pub fn shelves(&self) -> Vec<Arc<CachedShelf>> {
        self.now().by_name.values().cloned().collect()
    }

    /// The upstreams of all shelves.
    pub fn upstreams(&self) -> Vec<Arc<CacheUpstream>> {
        self.now().by_name.values().map(|shelf| Arc::clone(&shelf.upstream)).collect()
    }

    /// What the upstream did not give a moment ago. None: it may be asked.
    fn in_vain(&self, repository: &RepositoryName, what: &str) -> Option<Trouble> {
        let vain = self.inner.vain.lock().unwrap_or_else(PoisonError::into_inner);
        let (until, trouble) = vain.get(&(repository.clone(), what.to_owned()))?;
        (Instant::now() < *until).then(|| trouble.clone())
    }

    fn note_vain(&self, repository: &RepositoryName, what: &str, trouble: &Trouble) {
        let mut vain = self.inner.vain.lock().unwrap_or_else(PoisonError::into_inner);
        if vain.len() >= ABSENT_MOST {
            vain.clear();
        }
        let until = Instant::now() + if trouble.is_absent() { ABSENT } else { PAUSE };
        vain.insert((repository.clone(), what.to_owned()), (until, trouble.clone()));
    }

    /// What the operator wishes of upstreams that are left alone.
    async fn take_up_wishes(&self) {
        match self.inner.store.standing().await {
            Ok(all) => {
                for known in all.iter().filter(|known| known.condition == RETRY) {
                    for upstream in self.upstreams().iter().filter(|one| *one.host() == known.host)
                    {
                        upstream.retry();
                    }
                }
            }
            Err(error) => tracing::warn!(%error, "what is wished of upstreams could not be read"),
        }
    }

    /// Writes down what was counted since the last time: what shelves did and how upstreams stand.
    /// What cannot be written is kept for the next time. Gives what shelves did.
    pub async fn write_counts(&self) -> Vec<Traffic> {
        let store = &self.inner.store;
        let mut traffic: Vec<_> =
            self.shelves().iter().filter_map(|shelf| shelf.traffic.take(&shelf.name)).collect();
        if !traffic.is_empty()
            && let Err(error) = store.note_traffic(traffic.clone()).await
        {
            tracing::warn!(%error, "what shelves did could not be counted; it is tried again");
            for one in &traffic {
                if let Some(shelf) = self.shelf_named(&one.shelf) {
                    shelf.traffic.give_back(one);
                }
            }
            traffic.clear();
        }
        if self.upstreams().iter().any(|upstream| upstream.is_left_alone()) {
            self.take_up_wishes().await;
        }
        let mut standing = Vec::new();
        for upstream in self.upstreams() {
            upstream.write_pulls(&self.inner.store).await;
            standing.extend(upstream.changed_standing());
        }
        if !standing.is_empty()
            && let Err(error) = store.note_standing(standing).await
        {
            tracing::warn!(%error, "how upstreams stand could not be written down");
        }
        traffic
    }
}
