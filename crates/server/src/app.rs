//! What every handler works with.

use std::sync::Arc;
use std::time::Duration;

use larder_core::name::RepositoryName;
use larder_store::{Kind, Store};
use tokio::sync::Semaphore;

use crate::access::{AccessPlan, Gate, Happened, Recorder};
use crate::cache::Cache;
use crate::error::{ApiError, Code};
use crate::limits::{Budget, Limits, Slots};
use crate::meters::Meters;
use crate::remembered::Remembered;
use crate::tally::Tally;
use crate::workers::Workers;

/// A shelf that takes pushes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shelf {
    /// Its name.
    pub name: String,
    /// Whether an index may be pushed although the repository lacks some of what it lists.
    pub sparse: bool,
}

/// How a registry is set up.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// The shelves that take pushes. Empty: any name does, unless there are cached shelves.
    pub shelves: Vec<Shelf>,
    /// Whether pushes and removals are refused altogether.
    pub read_only: bool,
    /// What clients may take.
    pub limits: Limits,
}

/// Bytes of manifests on their way in and of lists on their way out, all together.
const MEMORY: usize = 64 * 1024 * 1024;

/// One registry.
pub struct App {
    /// Its bytes and records.
    pub store: Store,
    /// Its cached shelves.
    pub cache: Cache,
    pub(crate) settings: Settings,
    pub(crate) uploads: Slots,
    /// Memory for manifests on their way in and lists on their way out.
    pub(crate) memory: Budget,
    /// Files that are read at once for clients.
    pub(crate) readers: Arc<Semaphore>,
    pub(crate) remembered: Remembered,
    pub(crate) tally: Tally,
    pub(crate) workers: Workers,
    pub(crate) gate: Gate,
    pub(crate) recorder: Arc<Recorder>,
    /// Its figures.
    pub meters: Arc<Meters>,
}

impl App {
    /// A registry over a store, without cached shelves. The secret is the larder's own.
    pub fn new(store: Store, settings: Settings, plan: AccessPlan, secret: &[u8; 32]) -> Self {
        let cache = Cache::new(store.clone(), Vec::new(), None);
        Self::with_cache(store, cache, settings, plan, secret)
    }

    /// A registry over a store, with cached shelves over the same one.
    pub fn with_cache(
        store: Store,
        cache: Cache,
        settings: Settings,
        plan: AccessPlan,
        secret: &[u8; 32],
    ) -> Self {
        let meters = Arc::new(Meters::new());
        let gate = Gate::new(store.clone(), Arc::clone(&meters), plan, secret);
        Self {
            recorder: Arc::clone(&gate.recorder),
            gate,
            store,
            cache,
            uploads: Slots::new(settings.limits.uploads_per_client),
            memory: Budget::new(MEMORY),
            readers: Arc::new(Semaphore::new(settings.limits.readers)),
            settings,
            remembered: Remembered::default(),
            tally: Tally::default(),
            workers: Workers::default(),
            meters,
        }
    }

    /// From now on this says who may do what.
    pub fn set_access(&self, plan: AccessPlan) {
        self.gate.set_plan(plan);
    }

    /// Writes something into the record that no client did.
    pub fn note(&self, kind: Kind, text: &str) {
        self.recorder.count(&Happened::by_nobody(kind, text));
    }

    /// Refuses to change anything in a registry that only serves.
    pub(crate) fn check_writable(&self) -> Result<(), ApiError> {
        if self.settings.read_only {
            let message = "this registry is read-only; it serves pulls alone";
            return Err(ApiError::new(Code::Denied, message));
        }
        Ok(())
    }

    /// Refuses a push to where nothing can be pushed, and says where it can.
    pub(crate) fn check_push(&self, repository: &RepositoryName) -> Result<(), ApiError> {
        self.check_writable()?;
        let (shelf, shelves) = (repository.first_component(), &self.settings.shelves);
        if let Some(cached) = self.cache.shelf_of(repository) {
            let host = cached.upstream.host();
            let storing: Vec<&str> = shelves.iter().map(|shelf| shelf.name.as_str()).collect();
            let message = match storing.as_slice() {
                [] => format!("the shelf {shelf} caches {host} and takes no pushes"),
                storing => format!(
                    "the shelf {shelf} caches {host} and takes no pushes; push to one of: {}",
                    storing.join(", ")
                ),
            };
            return Err(ApiError::new(Code::Denied, message));
        }
        let any = shelves.is_empty() && self.cache.shelves().next().is_none();
        if any || shelves.iter().any(|known| known.name == shelf) {
            return Ok(());
        }
        let names: Vec<&str> = shelves.iter().map(|shelf| shelf.name.as_str()).collect();
        let message = match names.as_slice() {
            [] => format!("there is no shelf `{shelf}` here, and none that takes pushes"),
            names => {
                format!("there is no shelf `{shelf}` here; the shelves are: {}", names.join(", "))
            }
        };
        Err(ApiError::new(Code::NameUnknown, message))
    }

    /// Refuses a removal where the registry only serves, or serves what is another's.
    pub(crate) fn check_removal(&self, repository: &RepositoryName) -> Result<(), ApiError> {
        self.check_writable()?;
        match self.cache.shelf_of(repository) {
            None => Ok(()),
            Some(cached) => {
                let (name, host) = (&cached.name, cached.upstream.host());
                let message = format!(
                    "the shelf {name} caches {host}; its operator removes with `larder shelf drop`"
                );
                Err(ApiError::new(Code::Denied, message))
            }
        }
    }

    /// Whether an index of this repository may lack some of what it lists.
    pub(crate) fn takes_sparse(&self, repository: &RepositoryName) -> bool {
        let shelf = repository.first_component();
        self.settings.shelves.iter().any(|known| known.name == shelf && known.sparse)
    }

    /// What goes on beside the requests for as long as the registry runs: counts of pulls are
    /// written down, uploads that nobody goes on with are given up. It never ends by itself.
    pub async fn keep_house(&self) {
        tokio::join!(self.keep_records(), self.cache.keep_house(|| self.write_tally()));
    }

    async fn keep_records(&self) {
        const TURN: Duration = Duration::from_secs(1);
        const ABANDONED_EACH: u32 = 3600;
        let mut turn = 0;
        loop {
            tokio::time::sleep(TURN).await;
            self.store.notice_others().await;
            self.write_tally().await;
            turn += 1;
            if turn % ABANDONED_EACH == 0 {
                match self.store.remove_abandoned(larder_store::ABANDONED).await {
                    Ok(gone) if gone.uploads == 0 => {}
                    Ok(gone) => {
                        let (count, bytes) = (gone.uploads, gone.bytes);
                        tracing::info!(count, bytes, "gave up uploads that nobody went on with");
                    }
                    Err(error) => {
                        tracing::error!(%error, "uploads left behind could not be removed");
                    }
                }
                if let Err(error) = self.store.forget_leases().await {
                    tracing::error!(%error, "leases that ended could not be forgotten");
                }
                self.store.keep_spare().await;
            }
        }
    }

    /// Writes down what was counted since the last time. What cannot be written is kept for the next.
    pub async fn write_tally(&self) {
        self.recorder.write(&self.store).await;
        self.gate.keys.write(&self.store).await;
        for traffic in self.cache.write_counts().await {
            self.meters.add_traffic(&traffic);
        }
        let uses = self.tally.take();
        if uses.is_empty() {
            return;
        }
        if let Err(error) = self.store.note_uses(uses.clone()).await {
            tracing::warn!(%error, "pulls could not be counted; it is tried again");
            self.tally.give_back(uses);
        }
    }
}
