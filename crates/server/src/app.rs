//! What every handler works with.

use std::sync::Arc;
use std::time::Duration;

use larder_core::name::{RepositoryName, Tag};
use larder_store::{RecordKind, Store, StoreError};
use tokio::sync::{Semaphore, watch};

use crate::access::{Gate, GatheredFacts, RecordedDeed, Recorder};
use crate::cache::Cache;
use crate::error::{ApiError, Code};
use crate::limits::{BufferBudget, Limits, Slots};
use crate::meters::Meters;
use crate::peers::Peers;
use crate::plan::Plan;
use crate::quota::WeightyAnswers;
use crate::remembered::RememberedAnswers;
use crate::sightings::Sightings;
use crate::tally::Tally;
use crate::workers::Workers;

/// Bytes of manifests on their way in and of lists on their way out, all together.
const MEMORY: usize = 64 * 1024 * 1024;

/// One registry.
pub struct App {
    /// Its bytes and records.
    pub store: Store,
    pub cache: Cache,
    pub(crate) uploads: Slots,
    /// Memory for manifests on their way in and lists on their way out.
    pub(crate) memory: BufferBudget,
    /// Files that are read at once for clients.
    pub(crate) readers: Arc<Semaphore>,
    pub(crate) remembered: RememberedAnswers,
    pub(crate) facts: GatheredFacts,
    pub(crate) tally: Tally,
    pub(crate) sightings: Sightings,
    pub(crate) weighty: WeightyAnswers,
    pub(crate) workers: Workers,
    pub(crate) gate: Gate,
    limits: watch::Sender<Arc<Limits>>,
    pub(crate) recorder: Arc<Recorder>,
    pub(crate) peers: Peers,
    pub meters: Arc<Meters>,
}

impl App {
    /// A registry over a store, which knows how the upstreams stood. The secret is the larder's own.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn open(store: Store, plan: Plan, secret: &[u8; 32]) -> Result<Self, StoreError> {
        let app = Self::new(store, plan, secret);
        app.cache.recall_standing().await?;
        Ok(app)
    }

    /// The same, with upstreams of which nothing is known yet.
    pub fn new(store: Store, plan: Plan, secret: &[u8; 32]) -> Self {
        let cache = Cache::new(store.clone(), &plan.cache);
        store.set_reserve(plan.reserve);
        store.set_quotas(plan.quotas.clone());
        store.set_away(plan.away);
        let meters = Arc::new(Meters::new());
        meters.include(&cache.times());
        let readers = Arc::new(Semaphore::new(plan.limits.readers));
        let limits = watch::Sender::new(Arc::new(plan.limits.clone()));
        let gate = Gate::new(store.clone(), Arc::clone(&meters), Arc::new(plan), secret);
        Self {
            recorder: Arc::clone(&gate.recorder),
            gate,
            limits,
            store,
            cache,
            uploads: Slots::default(),
            memory: BufferBudget::new(MEMORY),
            readers,
            remembered: RememberedAnswers::default(),
            facts: GatheredFacts::default(),
            tally: Tally::default(),
            sightings: Sightings::default(),
            weighty: WeightyAnswers::default(),
            workers: Workers::default(),
            peers: Peers::default(),
            meters,
        }
    }

    /// What holds now.
    pub fn plan(&self) -> Arc<Plan> {
        self.gate.plan()
    }

    /// What clients may take, for its listeners.
    pub fn limits(&self) -> watch::Receiver<Arc<Limits>> {
        self.limits.subscribe()
    }

    /// From now on this holds; requests that are being answered end as they began.
    pub fn set_plan(&self, plan: Plan) {
        self.store.set_reserve(plan.reserve);
        self.store.set_quotas(plan.quotas.clone());
        self.store.set_away(plan.away);
        self.limits.send_replace(Arc::new(plan.limits.clone()));
        // A grant must not lead to a shelf that is not there yet.
        self.cache.set_plan(&plan.cache);
        self.gate.set_plan(Arc::new(plan));
    }

    /// By which name the other larders that serve the same store know this one.
    pub fn set_name(&self, name: String) {
        self.peers.set_own(name);
    }

    /// How others that share the store call it.
    pub fn name(&self) -> String {
        self.peers.own()
    }

    /// From now on it says that it is not ready, and ends each connection with its answer.
    pub fn begin_stop(&self) {
        self.peers.stop();
    }

    /// Tells the others that this one serves no more.
    pub async fn depart(&self) {
        self.peers.depart(&self.store).await;
    }

    /// Writes something into the record that no client did.
    pub fn note(&self, kind: RecordKind, text: &str) {
        self.recorder.count(&RecordedDeed::by_nobody(kind, text));
    }

    /// Refuses to change anything in a registry that only serves.
    pub(crate) fn check_writable(&self) -> Result<(), ApiError> {
        if self.plan().read_only {
            let message = "this registry is read-only; it serves pulls alone";
            return Err(ApiError::new(Code::Denied, message));
        }
        Ok(())
    }

    /// Refuses a push to where nothing can be pushed, and says where it can.
    pub(crate) fn check_push(&self, repository: &RepositoryName) -> Result<(), ApiError> {
        self.check_writable()?;
        let (shelf, plan) = (repository.first_component(), self.plan());
        let shelves = &plan.shelves;
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
        let any = shelves.is_empty() && plan.cache.shelves.is_empty();
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
        self.plan().shelves.iter().any(|known| known.name == shelf && known.sparse)
    }

    /// Whether a tag stays where it was set first.
    pub(crate) fn is_immutable(&self, repository: &RepositoryName, tag: &Tag) -> bool {
        let plan = self.plan();
        let shelf = plan.shelves.iter().find(|one| one.name == repository.first_component());
        shelf.is_some_and(|shelf| shelf.immutable.holds(repository, tag))
    }

    /// What goes on beside the requests for as long as the registry runs: counts of pulls are
    /// written down, uploads that nobody resumes are given up. It never ends by itself.
    pub async fn keep_house(&self) {
        tokio::join!(self.keep_records(), self.cache.keep_house(|| self.write_tally()));
    }

    async fn keep_records(&self) {
        const TURN: Duration = Duration::from_secs(1);
        const ABANDONED_EACH: u32 = 3600;
        const ANNOUNCED_EACH: u32 = 5;
        const COPIES_EACH: u32 = 10;
        let mut turn = 0;
        loop {
            tokio::time::sleep(TURN).await;
            self.store.notice_others().await;
            self.write_tally().await;
            if turn % ANNOUNCED_EACH == 0 {
                self.peers.announce(&self.store, &self.plan().fingerprint).await;
            }
            if turn % COPIES_EACH == 0
                && let Err(error) = self.store.forget_copies().await
            {
                tracing::warn!(%error, "copies of uploads could not be removed");
            }
            turn += 1;
            if turn % ABANDONED_EACH == 0 {
                match self.store.remove_abandoned(larder_store::ABANDONED).await {
                    Ok(gone) if gone.uploads == 0 => {}
                    Ok(gone) => {
                        let (count, bytes) = (gone.uploads, gone.bytes);
                        tracing::info!(count, bytes, "gave up uploads that nobody resumed");
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
        self.sightings.write(&self.store).await;
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
