//! One fetch of a missing blob for everybody who asks for it.
//!
//! The blob is written to an upload of the store while it comes; those who want it read from there, at
//! its own speed and from its own beginning. When nobody wants it any more, the fetch goes on if more
//! than half is there; else what came is kept, and the next fetch begins after it.

mod job;

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use larder_core::digest::Digest;
use larder_core::name::{Host, RepositoryName};
use larder_store::GrowingBlob;
use tokio::sync::{Notify, watch};

use super::Cache;
use super::shelf::CachedShelf;
use super::trouble::Trouble;
use super::upstream::WaitingAsk;
use job::FillJob;

/// What a fetch is about. It is between one repository and its upstream: what another one's upstream gives proves
/// nothing for this one.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct FillSubject {
    repository: RepositoryName,
    digest: Digest,
}

/// How far a fetch is.
#[derive(Debug, Clone)]
pub(super) enum FillStage {
    /// The upstream has not answered yet.
    Asking,
    /// Bytes come, and nobody has verified them. The size is None while nobody has said it.
    Coming(Option<u64>),
    /// All bytes are there and right; there are so many.
    Whole(u64),
    /// It was there already when the fetch began.
    There(u64),
    Failed(Trouble),
}

/// One fetch.
pub(super) struct Fill {
    pub(super) stage: watch::Sender<FillStage>,
    pub(super) growing: OnceLock<GrowingBlob>,
    takers: AtomicUsize,
    left: Notify,
    /// Which of all fetches it is: one waits only for those before it.
    number: u64,
    upstream: Host,
    ended: watch::Sender<bool>,
}

/// All that are under way.
#[derive(Default)]
pub(super) struct Fills {
    open: Mutex<HashMap<FillSubject, Arc<Fill>>>,
}

impl Fills {
    fn open(&self) -> MutexGuard<'_, HashMap<FillSubject, Arc<Fill>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// That somebody wants what is being fetched. Dropped, it is wanted by one less.
pub(crate) struct FillInterest {
    pub(super) fill: Arc<Fill>,
    /// That it is a client who wants it, for whom everything else waits.
    client: Option<WaitingAsk>,
}

impl Drop for FillInterest {
    fn drop(&mut self) {
        self.client = None;
        if self.fill.takers.fetch_sub(1, Ordering::AcqRel) == 1 {
            self.fill.left.notify_one();
        }
    }
}

/// How a blob can be served.
pub(crate) enum CachedBlob {
    /// It is here, and the repository has it; its size in bytes.
    Here(u64),
    /// It is on its way; its size in bytes, if anybody has said it.
    Coming(FillInterest, Option<u64>),
    /// It is not kept: there is no room for it, or it is more than its shelf may hold.
    Passing(Option<u64>),
}

impl Fill {
    fn new(upstream: &Host) -> Self {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        Self {
            stage: watch::Sender::new(FillStage::Asking),
            growing: OnceLock::new(),
            takers: AtomicUsize::new(0),
            left: Notify::new(),
            number: NUMBER.fetch_add(1, Ordering::Relaxed),
            upstream: upstream.clone(),
            ended: watch::Sender::new(false),
        }
    }
}

impl FillInterest {
    /// Waits until the upstream has answered.
    pub(super) async fn opened(self) -> Result<CachedBlob, Trouble> {
        let mut stage = self.fill.stage.subscribe();
        let stage = stage.wait_for(|stage| !matches!(stage, FillStage::Asking)).await;
        match stage.map(|stage| stage.clone()) {
            Ok(FillStage::Coming(size)) => Ok(CachedBlob::Coming(self, size)),
            Ok(FillStage::Whole(size)) => Ok(CachedBlob::Coming(self, Some(size))),
            Ok(FillStage::There(size)) => Ok(CachedBlob::Here(size)),
            Ok(FillStage::Failed(trouble)) => Err(trouble),
            Ok(FillStage::Asking) | Err(_) => Err(Trouble::Store),
        }
    }

    /// Waits for the end.
    pub(super) async fn landed(&self) -> Result<(), Trouble> {
        let mut stage = self.fill.stage.subscribe();
        let ended = |stage: &FillStage| !matches!(stage, FillStage::Asking | FillStage::Coming(_));
        match stage.wait_for(ended).await.map(|stage| stage.clone()) {
            Ok(FillStage::Failed(trouble)) => Err(trouble),
            Ok(_) => Ok(()),
            Err(_) => Err(Trouble::Store),
        }
    }

    /// Waits until it is kept, not only whole: for who has no use for the bytes themselves.
    pub(super) async fn kept(&self) -> Result<(), Trouble> {
        self.landed().await?;
        let mut ended = self.fill.ended.subscribe();
        ended.wait_for(|ended| *ended).await.map(drop).map_err(|_| Trouble::Store)
    }
}

impl Cache {
    /// Waits until what clients have been given whole is kept too, but not for longer than this.
    pub async fn settle(&self, most: Duration) {
        let whole = |fill: &Arc<Fill>| matches!(*fill.stage.borrow(), FillStage::Whole(_));
        let kept = async {
            while self.inner.fills.open().values().any(whole) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        if tokio::time::timeout(most, kept).await.is_err() {
            tracing::warn!("what was just fetched could not be kept in time; it is fetched again");
        }
    }

    /// A blob that may be missing: how it can be served. The repository's name at the upstream must have
    /// been checked. `counted`: as an answer to a client; what is only looked at on the way is none.
    pub(crate) async fn blob(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
        counted: bool,
    ) -> Result<CachedBlob, Trouble> {
        let count = |counter: &AtomicU64| counter.fetch_add(u64::from(counted), Ordering::Relaxed);
        if let Some(size) = self.held_blob(repository, digest).await? {
            count(&shelf.traffic.hits);
            return Ok(CachedBlob::Here(size));
        }
        let wanted = self.inner.store.wanted(repository, digest).await?;
        let what = digest.to_string();
        if let Some(trouble) = self.in_vain(repository, &what) {
            return Err(trouble);
        }
        self.is_pulled(repository, digest).await;
        if self.is_beyond(shelf, repository, digest, wanted).await? {
            count(&shelf.traffic.misses);
            return Ok(CachedBlob::Passing(wanted));
        }
        let (mut taking, began) = self.take(shelf, repository, path, digest, wanted);
        taking.client = Some(shelf.upstream.waiting());
        count(if began { &shelf.traffic.misses } else { &shelf.traffic.hits });
        let opened = match taking.opened().await {
            Err(Trouble::NoRoom) => Ok(CachedBlob::Passing(wanted)),
            opened => opened,
        };
        if let Err(trouble) = &opened
            && trouble.is_absent()
        {
            self.note_vain(repository, &what, trouble);
        }
        opened
    }

    /// Whether a blob, or every image that needs it, is larger than its shelf may become: then keeping it would empty the
    /// shelf for something that cannot stay.
    pub(super) async fn is_beyond(
        &self,
        shelf: &CachedShelf,
        repository: &RepositoryName,
        digest: &Digest,
        size: Option<u64>,
    ) -> Result<bool, Trouble> {
        let most = [shelf.limit, self.limit()].into_iter().flatten().min();
        let (Some(size), Some(most)) = (size, most) else { return Ok(false) };
        if size > most {
            return Ok(true);
        }
        let smallest = self.inner.store.smallest_with(repository, digest).await?;
        Ok(smallest.is_some_and(|smallest| smallest > most))
    }

    /// The size of a blob that the repository has. What only others have is proved first, by a fetch.
    pub(super) async fn held_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, Trouble> {
        Ok(self.inner.store.blob(repository, digest).await?)
    }

    /// How large a blob is that the repository does not have. What one of its manifests says is
    /// believed; else the upstream is asked.
    pub(crate) async fn blob_size(
        &self,
        shelf: &CachedShelf,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, Trouble> {
        if let Some(size) = self.inner.store.wanted(repository, digest).await? {
            return Ok(Some(size));
        }
        let upstream = &shelf.upstream;
        let stream = upstream.open(upstream.registry.blob_from(path, digest, None, 0)).await?;
        Ok(stream.size())
    }

    /// Takes part in the fetch of a blob, beginning it where nobody does. True: it was begun.
    pub(super) fn take(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
        size: Option<u64>,
    ) -> (FillInterest, bool) {
        let about = FillSubject { repository: repository.clone(), digest: digest.clone() };
        let mut open = self.inner.fills.open();
        let under_way = open.get(&about).cloned();
        let began = under_way.is_none();
        let fill = under_way.unwrap_or_else(|| Arc::new(Fill::new(shelf.upstream.host())));
        fill.takers.fetch_add(1, Ordering::AcqRel);
        let taking = FillInterest { fill: Arc::clone(&fill), client: None };
        if began {
            open.insert(about.clone(), Arc::clone(&fill));
            let job = FillJob {
                cache: self.clone(),
                shelf: Arc::clone(shelf),
                about,
                repository: repository.clone(),
                path: path.clone(),
                digest: digest.clone(),
                fill,
            };
            let span = crate::traced::apart("fetch blob");
            tokio::spawn(tracing::Instrument::instrument(job.run(size), span));
        }
        (taking, began)
    }
}
