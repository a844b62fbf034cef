//! The fetch itself: from the upstream into an upload, verified, made a blob.

use std::ops::Range;
use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use larder_client::{BlobStream, ClientError};
use larder_core::access::possession::Proof;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{BlobWriter, DiskRoom, Lease, StoreError, UploadId};

use super::super::Cache;
use super::super::shelf::CachedShelf;
use super::super::trouble::Trouble;
use super::{Fill, FillStage, FillSubject};

/// Blobs from this size on are taken up again after the process was killed, in bytes.
const WORTH_RESUMING: u64 = 4 * 1024 * 1024;
/// How often the place for a blob is checked to be there still, in bytes.
const ROOM_EACH: u64 = 256 * 1024 * 1024;

/// A fetch with all that it works with.
pub(super) struct FillJob {
    pub cache: Cache,
    pub shelf: Arc<CachedShelf>,
    pub about: FillSubject,
    pub repository: RepositoryName,
    pub path: RepositoryName,
    pub digest: Digest,
    pub fill: Arc<Fill>,
}

/// Takes a fetch off the list, however it ends.
struct ListedFill<'j>(&'j FillJob);

impl Drop for ListedFill<'_> {
    fn drop(&mut self) {
        let mut open = self.0.cache.inner.fills.open();
        // What is on the list by now may be a later one.
        if open.get(&self.0.about).is_some_and(|fill| Arc::ptr_eq(fill, &self.0.fill)) {
            open.remove(&self.0.about);
        }
        drop(open);
        self.0.fill.ended.send_replace(true);
    }
}

impl FillJob {
    /// A layer that the upstream does not have, from where a manifest says that it lies.
    async fn foreign(&self, size: Option<u64>, from: u64) -> Result<BlobStream, Trouble> {
        let store = &self.cache.inner.store;
        let by = store.needed_by(&self.repository, &self.digest).await?;
        let found = match by {
            Some(by) => store.document(&self.repository, &Selector::Digest(by)).await?,
            None => None,
        };
        let blob = found
            .as_ref()
            .and_then(|(_, document)| document.blobs().find(|blob| blob.digest == self.digest));
        let urls = blob.map(|blob| blob.urls.as_slice()).unwrap_or_default();
        let size = size.or(blob.map(|blob| blob.size));
        let registry = &self.shelf.upstream.registry;
        let opened = registry.foreign_blob(&self.path, &self.digest, size, from, urls).await;
        opened.map_err(Trouble::Upstream)
    }

    /// Fetches it to the end, or says to all who wait why not. `size` is what the manifest says, in bytes.
    pub async fn run(self, size: Option<u64>) {
        let listed = ListedFill(&self);
        let outcome = self.fetch(size).await;
        drop(listed);
        if let Err(trouble) = outcome {
            if !trouble.is_absent() && !matches!(trouble, Trouble::Unwanted) {
                tracing::warn!(digest = %self.digest, repository = %self.repository, cause = %trouble, "a blob could not be fetched");
            }
            // What was whole and right stays so for its takers, even if it could not be kept.
            self.fill.stage.send_if_modified(|stage| {
                let fails = !matches!(stage, FillStage::Whole(_));
                if fails {
                    *stage = FillStage::Failed(trouble);
                }
                fails
            });
        }
    }

    async fn fetch(&self, size: Option<u64>) -> Result<(), Trouble> {
        // Who joined may have looked before an earlier fetch ended.
        let Some(lease) = self.turn().await? else { return Ok(()) };
        let fetched = self.fetch_alone(size, &lease).await;
        lease.release().await?;
        fetched
    }

    /// Waits until nobody else fetches it, in whichever process. None: it is here.
    async fn turn(&self) -> Result<Option<Lease>, Trouble> {
        const PAUSE: Duration = Duration::from_millis(50);
        let store = &self.cache.inner.store;
        let name = format!("fill/{}@{}", self.repository, self.digest);
        loop {
            let lease = store.acquire(&name).await?;
            if let Some(size) = self.cache.held_blob(&self.repository, &self.digest).await? {
                self.fill.stage.send_replace(FillStage::There(size));
                return Ok(None);
            }
            if let Some(lease) = lease {
                return Ok(Some(lease));
            }
            tokio::time::sleep(PAUSE).await;
            if self.is_unwanted(None, 0) {
                return Err(Trouble::Unwanted);
            }
        }
    }

    async fn fetch_alone(&self, size: Option<u64>, lease: &Lease) -> Result<(), Trouble> {
        let store = &self.cache.inner.store;
        if let Some(size) = size {
            self.let_others_end().await;
            if self.proves(size).await? {
                let shared =
                    store.share_blob(&self.repository, &self.digest, Some(size), Proof::Samples);
                if shared.await? {
                    self.fill.stage.send_replace(FillStage::There(size));
                    return Ok(());
                }
            }
        }
        let (upload, mut writer) = self.upload(size).await?;
        let wanted = size.unwrap_or(0).saturating_sub(writer.offset());
        let mut room = match store.keep_room(wanted).await {
            Ok(room) => room,
            Err(error) => {
                self.cache.inner.room.notify_one();
                if writer.park().await.unwrap_or(0) == 0 {
                    store.cancel_upload(upload).await?;
                }
                return Err(error.into());
            }
        };
        match self.pump(size, upload, &mut writer, &mut room).await {
            Ok(()) => self.settle(writer, lease).await,
            Err(trouble) => {
                let came = writer.park().await.unwrap_or(0);
                let useless = match &trouble {
                    Trouble::Upstream(error) => error.is_mismatch(),
                    // Where there is no room, parts take none.
                    Trouble::NoRoom => true,
                    _ => false,
                };
                let is_small = size.is_some_and(|size| size < WORTH_RESUMING);
                if useless || came == 0 || is_small {
                    match store.cancel_upload(upload).await {
                        Ok(()) | Err(StoreError::NotFound(_)) => {}
                        Err(error) => return Err(error.into()),
                    }
                }
                Err(trouble)
            }
        }
    }

    /// Waits for the fetches of the same content from the same upstream that other repositories have begun before:
    /// it moves once, and this repository's proof is quick then.
    async fn let_others_end(&self) {
        loop {
            let other = {
                let open = self.cache.inner.fills.open();
                let before = |fill: &&Arc<Fill>| {
                    fill.number < self.fill.number && fill.upstream == self.fill.upstream
                };
                let same = open.iter().filter(|(about, _)| about.digest == self.digest);
                same.map(|(_, fill)| fill).find(before).cloned()
            };
            let Some(other) = other else { return };
            if other.ended.subscribe().wait_for(|ended| *ended).await.is_err() {
                return;
            }
        }
    }

    /// Whether the store holds what the upstream has under this repository's name: it gives the same bytes at places
    /// that nobody can tell beforehand.
    async fn proves(&self, size: u64) -> Result<bool, Trouble> {
        let (upstream, store) = (&self.shelf.upstream, &self.cache.inner.store);
        let piece = |range: Range<u64>| async move {
            let registry = &upstream.registry;
            upstream.open(registry.blob_piece(&self.path, &self.digest, &range)).await
        };
        store.proves(&self.digest, size, piece).await
    }

    /// Takes up what an earlier fetch has left, or begins anew.
    async fn upload(&self, size: Option<u64>) -> Result<(UploadId, BlobWriter), Trouble> {
        let store = &self.cache.inner.store;
        if let Some(upload) = store.fetched_part(&self.repository, &self.digest).await? {
            match store.resume_upload(upload).await {
                Ok(writer) if size.is_none_or(|size| writer.offset() <= size) => {
                    tracing::info!(digest = %self.digest, offset = writer.offset(), "going on with a part");
                    return Ok((upload, writer));
                }
                Ok(writer) => {
                    writer.park().await?;
                    store.cancel_upload(upload).await?;
                }
                // Somebody else has it, or it was given up.
                Err(StoreError::Busy(_) | StoreError::NotFound(_)) => {}
                Err(error) => return Err(error.into()),
            }
        }
        let upload = store.begin_fetch(&self.repository, &self.digest).await?;
        Ok((upload, store.resume_upload(upload).await?))
    }

    /// Moves the bytes from the upstream to the upload.
    async fn pump(
        &self,
        size: Option<u64>,
        upload: UploadId,
        writer: &mut BlobWriter,
        room: &mut DiskRoom,
    ) -> Result<(), Trouble> {
        let (upstream, store) = (&self.shelf.upstream, &self.cache.inner.store);
        let begin = |size: Option<u64>, writer: &BlobWriter| -> Result<(), Trouble> {
            let _ = self.fill.growing.set(writer.growing()?);
            self.fill.stage.send_replace(FillStage::Coming(size));
            Ok(())
        };
        if size == Some(writer.offset()) {
            // All of it came before; only nobody has verified it.
            return begin(size, writer);
        }
        let from = writer.offset();
        let blob = upstream.registry.blob_from(&self.path, &self.digest, size, from);
        let mut stream = match upstream.open(blob).await {
            Err(Trouble::Upstream(ClientError::NotFound { .. })) => {
                self.foreign(size, from).await?
            }
            opened => opened?,
        };
        let said = size;
        let size = stream.size();
        if let (None, Some(size)) = (said, size) {
            store.grow_room(room, size.saturating_sub(from)).await?;
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
                    room.take(length);
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

    /// Whether nobody wants it and too little of it is there to go on all the same. It is off the
    /// list then, so that the next one who wants it begins anew.
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

    /// All bytes came: verifies them, tells the takers, makes them a blob of the repository.
    async fn settle(&self, mut writer: BlobWriter, lease: &Lease) -> Result<(), Trouble> {
        let store = &self.cache.inner.store;
        let came = writer.offset();
        let right = writer.has_digest(&self.digest).await?;
        if right {
            // Nobody has to wait until the disk has it too.
            self.fill.stage.send_replace(FillStage::Whole(came));
        }
        match store.commit_fetched(&self.repository, &self.digest, writer, lease).await {
            Ok(_) => {}
            Err(StoreError::Mismatch { expected, actual }) => {
                let host = self.shelf.upstream.host().to_string();
                let error = ClientError::Mismatch { host, expected, actual };
                return Err(Trouble::Upstream(error));
            }
            Err(error) => return Err(error.into()),
        }
        // Who joins from now on finds it there.
        self.cache.inner.fills.open().remove(&self.about);
        Ok(())
    }
}
