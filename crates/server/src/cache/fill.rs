//! One fetch of a missing blob for everybody who asks for it.
//!
//! The blob is written to an upload of the store while it comes; whoever wants it reads from there, at
//! its own speed and from its own beginning. When nobody wants it any more, the fetch goes on if more
//! than half is there; else what came is kept, and the next fetch begins after it.

use std::collections::{BTreeSet, HashMap};
use std::pin::pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use larder_client::ClientError;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{BlobWriter, Growing, StoreError, UploadId};
use tokio::sync::{Notify, watch};
use tokio::task::JoinHandle;

use super::Cache;
use super::shelf::CachedShelf;
use super::trouble::Trouble;
use super::upstream::Waiting;

/// Blobs from this size on are taken up again after the process was killed, in bytes.
const WORTH_RESUMING: u64 = 4 * 1024 * 1024;
/// How often the place for a blob is checked to be there still, in bytes.
const ROOM_EACH: u64 = 256 * 1024 * 1024;

/// What a fetch is about. A blob that no manifest of the repository names is between this repository
/// and its upstream alone.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum About {
    Named(Digest),
    Unnamed(RepositoryName, Digest),
}

/// How far a fetch is.
#[derive(Debug, Clone)]
pub(super) enum Stage {
    /// The upstream has not answered yet.
    Asking,
    /// Bytes come, and nobody has verified them. The size is None while nobody has said it.
    Coming(Option<u64>),
    /// All bytes are there and right; there are so many.
    Whole(u64),
    /// It was there already when the fetch began.
    There(u64),
    /// It failed.
    Failed(Trouble),
}

/// One fetch.
pub(super) struct Fill {
    pub(super) stage: watch::Sender<Stage>,
    pub(super) growing: OnceLock<Growing>,
    takers: AtomicUsize,
    left: Notify,
    repositories: Mutex<BTreeSet<RepositoryName>>,
}

/// All that are under way.
#[derive(Default)]
pub(super) struct Fills {
    open: Mutex<HashMap<About, Arc<Fill>>>,
}

impl Fills {
    fn open(&self) -> MutexGuard<'_, HashMap<About, Arc<Fill>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// That somebody wants what is being fetched. Dropped, it is wanted by one less.
pub(crate) struct Taking {
    pub(super) fill: Arc<Fill>,
    /// That it is a client who wants it, for whom everything else waits.
    client: Option<Waiting>,
}

impl Drop for Taking {
    fn drop(&mut self) {
        self.client = None;
        if self.fill.takers.fetch_sub(1, Ordering::AcqRel) == 1 {
            self.fill.left.notify_one();
        }
    }
}

/// A blob as it can be had.
pub(crate) enum Blob {
    /// It is here, and the repository has it; its size in bytes.
    Here(u64),
    /// It is on its way; its size in bytes, if anybody has said it.
    Coming(Taking, Option<u64>),
}

impl Fill {
    fn new(repository: &RepositoryName) -> Self {
        Self {
            stage: watch::Sender::new(Stage::Asking),
            growing: OnceLock::new(),
            takers: AtomicUsize::new(0),
            left: Notify::new(),
            repositories: Mutex::new([repository.clone()].into()),
        }
    }

    fn repositories(&self) -> MutexGuard<'_, BTreeSet<RepositoryName>> {
        self.repositories.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Taking {
    /// Waits until the upstream has answered.
    pub(super) async fn opened(self) -> Result<Blob, Trouble> {
        let mut stage = self.fill.stage.subscribe();
        let stage = stage.wait_for(|stage| !matches!(stage, Stage::Asking)).await;
        match stage.map(|stage| stage.clone()) {
            Ok(Stage::Coming(size)) => Ok(Blob::Coming(self, size)),
            Ok(Stage::Whole(size)) => Ok(Blob::Coming(self, Some(size))),
            Ok(Stage::There(size)) => Ok(Blob::Here(size)),
            Ok(Stage::Failed(trouble)) => Err(trouble),
            Ok(Stage::Asking) | Err(_) => Err(Trouble::Store),
        }
    }

    /// Waits for the end.
    pub(super) async fn landed(&self) -> Result<(), Trouble> {
        let mut stage = self.fill.stage.subscribe();
        let ended = |stage: &Stage| !matches!(stage, Stage::Asking | Stage::Coming(_));
        match stage.wait_for(ended).await.map(|stage| stage.clone()) {
            Ok(Stage::Failed(trouble)) => Err(trouble),
            Ok(_) => Ok(()),
            Err(_) => Err(Trouble::Store),
        }
    }
}

/// A fetch with all that it works with.
struct Job {
    cache: Cache,
    shelf: Arc<CachedShelf>,
    about: About,
    repository: RepositoryName,
    path: RepositoryName,
    digest: Digest,
    fill: Arc<Fill>,
}

impl Cache {
    /// A blob that may be missing: as it can be had. The repository's name at the upstream must have
    /// been checked.
    pub(crate) async fn blob(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
    ) -> Result<Blob, Trouble> {
        if let Some(size) = self.held_blob(repository, digest).await? {
            shelf.traffic.hits.fetch_add(1, Ordering::Relaxed);
            return Ok(Blob::Here(size));
        }
        let wanted = self.inner.store.cache.wanted(repository, digest).await?;
        let what = digest.to_string();
        if let Some(trouble) = self.in_vain(repository, &what) {
            return Err(trouble);
        }
        let (mut taking, began) = self.take(shelf, repository, path, digest, wanted);
        taking.client = Some(shelf.upstream.waiting());
        let counted = if began { &shelf.traffic.misses } else { &shelf.traffic.hits };
        counted.fetch_add(1, Ordering::Relaxed);
        let opened = taking.opened().await;
        if let Err(trouble) = &opened
            && trouble.is_absent()
        {
            self.note_vain(repository, &what, trouble);
        }
        opened
    }

    /// The size of a blob that the repository has, or may have because a manifest of it names what
    /// another repository has.
    pub(super) async fn held_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, Trouble> {
        let store = &self.inner.store;
        if let Some(size) = store.ledger.blob(repository, digest).await? {
            return Ok(Some(size));
        }
        let Some(wanted) = store.cache.wanted(repository, digest).await? else { return Ok(None) };
        if store.blobs.size(digest).await? != Some(wanted) {
            return Ok(None);
        }
        match store.ledger.link_blob(repository, digest, wanted).await {
            Ok(()) => Ok(Some(wanted)),
            // It went away just now.
            Err(StoreError::Vanished(_)) => Ok(None),
            Err(error) => Err(error.into()),
        }
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
        if let Some(size) = self.inner.store.cache.wanted(repository, digest).await? {
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
    ) -> (Taking, bool) {
        let about = match size {
            Some(_) => About::Named(digest.clone()),
            None => About::Unnamed(repository.clone(), digest.clone()),
        };
        let mut open = self.inner.fills.open();
        let under_way = open.get(&about).cloned();
        let began = under_way.is_none();
        let fill = under_way.unwrap_or_else(|| Arc::new(Fill::new(repository)));
        fill.takers.fetch_add(1, Ordering::AcqRel);
        fill.repositories().insert(repository.clone());
        let taking = Taking { fill: Arc::clone(&fill), client: None };
        if began {
            open.insert(about.clone(), Arc::clone(&fill));
            let job = Job {
                cache: self.clone(),
                shelf: Arc::clone(shelf),
                about,
                repository: repository.clone(),
                path: path.clone(),
                digest: digest.clone(),
                fill,
            };
            tokio::spawn(job.run(size));
        }
        (taking, began)
    }
}

/// Takes a fetch off the list, however it ends.
struct Listed<'j>(&'j Job);

impl Drop for Listed<'_> {
    fn drop(&mut self) {
        let mut open = self.0.cache.inner.fills.open();
        // What is on the list by now may be a later one.
        if open.get(&self.0.about).is_some_and(|fill| Arc::ptr_eq(fill, &self.0.fill)) {
            open.remove(&self.0.about);
        }
    }
}

/// What is written to, and word that it was noted.
struct Part {
    upload: UploadId,
    noted: Option<JoinHandle<()>>,
}

impl Job {
    async fn run(self, size: Option<u64>) {
        let listed = Listed(&self);
        let outcome = self.fetch(size).await;
        drop(listed);
        if let Err(trouble) = outcome {
            if !trouble.is_absent() && !matches!(trouble, Trouble::Unwanted) {
                tracing::warn!(digest = %self.digest, repository = %self.repository, cause = %trouble, "a blob could not be fetched");
            }
            self.fill.stage.send_replace(Stage::Failed(trouble));
        }
    }

    async fn fetch(&self, size: Option<u64>) -> Result<(), Trouble> {
        // Who joined may have looked before an earlier fetch ended.
        if let Some(size) = self.cache.held_blob(&self.repository, &self.digest).await? {
            self.fill.stage.send_replace(Stage::There(size));
            return Ok(());
        }
        let store = &self.cache.inner.store;
        if let Err(error) = store.check_room(size.unwrap_or(0)).await {
            self.cache.inner.room.notify_one();
            return Err(error.into());
        }
        let (part, mut writer) = self.upload(size).await?;
        match self.pump(size, part.upload, &mut *writer).await {
            Ok(()) => self.settle(part, writer).await,
            Err(trouble) => {
                let came = writer.park().await.unwrap_or(0);
                let wrong = matches!(&trouble, Trouble::Upstream(error) if error.is_mismatch());
                if wrong || came == 0 {
                    let _ = store.blobs.cancel(part.upload).await;
                    self.forget(part).await?;
                }
                Err(trouble)
            }
        }
    }

    /// Takes up what an earlier fetch has left, or begins anew.
    async fn upload(&self, size: Option<u64>) -> Result<(Part, Box<dyn BlobWriter>), Trouble> {
        let store = &self.cache.inner.store;
        if let Some(upload) = store.cache.part_of(&self.digest).await? {
            match store.blobs.resume(upload).await {
                Ok(writer) if size.is_none_or(|size| writer.offset() <= size) => {
                    tracing::info!(digest = %self.digest, offset = writer.offset(), "going on with a part");
                    return Ok((Part { upload, noted: None }, writer));
                }
                Ok(writer) => {
                    writer.park().await?;
                    store.blobs.cancel(upload).await?;
                }
                // Somebody else has it, or it was given up.
                Err(StoreError::Busy(_) | StoreError::NotFound(_)) => {}
                Err(error) => return Err(error.into()),
            }
        }
        let upload = store.blobs.begin().await?;
        let writer = store.blobs.resume(upload).await?;
        let mut noted = None;
        if size.is_none_or(|size| size >= WORTH_RESUMING) {
            let (cache, digest) = (Arc::clone(&store.cache), self.digest.clone());
            // Nobody has to wait for it: without it, the next fetch begins anew.
            noted = Some(tokio::spawn(async move {
                if let Err(error) = cache.note_part(&digest, upload).await {
                    tracing::warn!(%error, "a part of a blob could not be noted");
                }
            }));
        }
        Ok((Part { upload, noted }, writer))
    }

    /// Moves the bytes from the upstream to the upload.
    async fn pump(
        &self,
        size: Option<u64>,
        upload: UploadId,
        writer: &mut dyn BlobWriter,
    ) -> Result<(), Trouble> {
        let (upstream, store) = (&self.shelf.upstream, &self.cache.inner.store);
        let begin = |size: Option<u64>, writer: &dyn BlobWriter| -> Result<(), Trouble> {
            let _ = self.fill.growing.set(writer.growing()?);
            self.fill.stage.send_replace(Stage::Coming(size));
            Ok(())
        };
        if size == Some(writer.offset()) {
            // All of it came before; only nobody has verified it.
            return begin(size, writer);
        }
        let from = writer.offset();
        let blob = upstream.registry.blob_from(&self.path, &self.digest, size, from);
        let mut stream = upstream.open(blob).await?;
        let size = stream.size();
        if let Some(size) = size {
            store.check_room(size - from.min(size)).await?;
        }
        begin(size, writer)?;
        let mut checked = from;
        let mut written = true;
        loop {
            let next = {
                let mut next = pin!(stream.next());
                loop {
                    tokio::select! {
                        biased;
                        next = &mut next => break next,
                        // While nothing comes, what came is handed on.
                        outcome = writer.advance(), if !written => {
                            outcome?;
                            written = true;
                        }
                        () = self.fill.left.notified() => {
                            if self.is_unwanted(size, writer.offset()) {
                                tracing::info!(%upload, digest = %self.digest, "nobody wants it any more; what came is kept");
                                return Err(Trouble::Unwanted);
                            }
                        }
                    }
                }
            };
            match next {
                Ok(Some(chunk)) => {
                    written = false;
                    let length = chunk.len() as u64;
                    self.shelf.traffic.fetched.fetch_add(length, Ordering::Relaxed);
                    writer.write(chunk).await?;
                    if writer.offset() - checked >= ROOM_EACH {
                        checked = writer.offset();
                        store.check_room(0).await?;
                    }
                }
                Ok(None) => return Ok(()),
                Err(error) => {
                    upstream.tell_stream(&error);
                    return Err(Trouble::Upstream(error));
                }
            }
        }
    }

    /// There is no such part any more.
    async fn forget(&self, part: Part) -> Result<(), Trouble> {
        if let Some(noted) = part.noted {
            let _ = noted.await;
        }
        Ok(self.cache.inner.store.cache.forget_part(&self.digest, part.upload).await?)
    }

    /// Whether nobody wants it and too little of it is there to go on all the same. It is off the
    /// list then, so that whoever wants it next begins anew.
    fn is_unwanted(&self, size: Option<u64>, came: u64) -> bool {
        if size.is_some_and(|size| came > size / 2) {
            return false;
        }
        let mut open = self.cache.inner.fills.open();
        if self.fill.takers.load(Ordering::Acquire) > 0 {
            return false;
        }
        open.remove(&self.about);
        true
    }

    /// All bytes came: verifies them, tells the takers, makes them a blob of the repositories that
    /// wanted it.
    async fn settle(&self, part: Part, mut writer: Box<dyn BlobWriter>) -> Result<(), Trouble> {
        let store = &self.cache.inner.store;
        let came = writer.offset();
        let right = writer.has_digest(&self.digest).await?;
        if right {
            // Nobody has to wait until the disk has it too.
            self.fill.stage.send_replace(Stage::Whole(came));
        }
        let committed = writer.commit(&self.digest).await;
        self.forget(part).await?;
        match committed {
            Ok(_) => {}
            Err(StoreError::Mismatch { expected, actual }) => {
                let host = self.shelf.upstream.host().to_string();
                let error = ClientError::Mismatch { host, expected, actual };
                return Err(Trouble::Upstream(error));
            }
            Err(error) => return Err(error.into()),
        }
        let mut linked = BTreeSet::new();
        loop {
            let repositories = self.fill.repositories().clone();
            for repository in repositories.difference(&linked) {
                store.ledger.link_blob(repository, &self.digest, came).await?;
            }
            linked = repositories;
            let mut open = self.cache.inner.fills.open();
            // Who joins from now on finds it there.
            if *self.fill.repositories() == linked {
                open.remove(&self.about);
                return Ok(());
            }
        }
    }
}
