//! Fetching ahead: the platforms that a shelf is told of, and what belongs to an image.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::RepositoryName;
use larder_core::platform::Platforms;
use larder_core::reference::Selector;

use super::Cache;
use super::fill::CachedBlob;
use super::shelf::CachedShelf;
use super::trouble::Trouble;

/// Indexes within indexes are followed so deep.
const DEPTH: usize = 4;

/// An image that is to be fetched ahead.
pub(super) struct AheadJob {
    pub shelf: Arc<CachedShelf>,
    pub repository: RepositoryName,
    pub path: RepositoryName,
    pub digest: Digest,
}

/// Images that are fetched ahead once somebody asks for a layer of their repository.
#[derive(Default)]
pub(super) struct AheadImages {
    jobs: Mutex<HashMap<RepositoryName, Vec<AheadJob>>>,
}

impl AheadImages {
    /// Repositories with such images that are remembered, and images of each. When there are more, they are fetched when
    /// somebody asks for them.
    const MOST: usize = 4096;
    const OF_ONE: usize = 8;

    /// Queues a fetch; where the queue is full it is left out, as nobody waits for it.
    pub fn put(&self, job: AheadJob) {
        let mut jobs = self.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        if jobs.len() >= Self::MOST && !jobs.contains_key(&job.repository) {
            tracing::debug!(repository = %job.repository, "too much waits to be fetched ahead");
            return;
        }
        let of_one = jobs.entry(job.repository.clone()).or_default();
        of_one.retain(|other| other.digest != job.digest);
        if of_one.len() >= Self::OF_ONE {
            of_one.remove(0);
        }
        of_one.push(job);
    }

    fn is_any(&self, repository: &RepositoryName) -> bool {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner).contains_key(repository)
    }

    fn take(&self, repository: &RepositoryName) -> Vec<AheadJob> {
        let taken = self.jobs.lock().unwrap_or_else(PoisonError::into_inner).remove(repository);
        taken.unwrap_or_default()
    }
}

/// What was fetched ahead.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct WarmedLayers {
    /// Manifests and indexes that are here now.
    pub manifests: usize,
    /// Blobs that are here now.
    pub blobs: usize,
    /// Bytes of blobs that had to be fetched.
    pub fetched: u64,
}

impl Cache {
    /// Fetches what waits to be fetched ahead, one blob after another, while no client waits for the
    /// same upstream. It never ends by itself; only the first call does anything.
    pub(super) async fn fetch_ahead(&self) {
        let jobs = self.inner.jobs.lock().unwrap_or_else(PoisonError::into_inner).take();
        let Some(mut jobs) = jobs else { return std::future::pending().await };
        while let Some(job) = jobs.recv().await {
            let AheadJob { shelf, repository, path, digest } = &job;
            match self.warm(shelf, repository, path, digest, true).await {
                Ok(_) => {}
                Err(Trouble::Beyond) => {
                    tracing::debug!(%repository, %digest, "an image is too large to be kept");
                }
                Err(cause) => {
                    tracing::warn!(%repository, %digest, %cause, "an image could not be fetched ahead");
                }
            }
        }
    }

    /// Somebody asks for a blob: if that is no mere configuration, the image is being pulled, and what belongs to it is
    /// fetched ahead.
    pub(super) async fn is_pulled(&self, repository: &RepositoryName, digest: &Digest) {
        if !self.inner.expected.is_any(repository) {
            return;
        }
        let store = &self.inner.store;
        let is_config = async {
            let Some(by) = store.needed_by(repository, digest).await? else { return Ok(true) };
            let found = store.document(repository, &Selector::Digest(by)).await?;
            let config = found.as_ref().and_then(|(_, document)| document.config());
            Ok::<_, larder_store::StoreError>(config.is_some_and(|config| config.digest == *digest))
        };
        match is_config.await {
            Ok(true) => {}
            Ok(false) => {
                for job in self.inner.expected.take(repository) {
                    // When too much waits already, this image is fetched when somebody asks for it.
                    if self.inner.ahead.try_send(job).is_err() {
                        tracing::debug!(%repository, "too much waits to be fetched ahead");
                    }
                }
            }
            Err(error) => tracing::warn!(%error, "what to fetch ahead cannot be told"),
        }
    }

    /// Fetches the image that a tag or digest of one of our repositories points to, whole. `anew`: the upstream is asked
    /// where a tag points now, however young its last answer is.
    ///
    /// # Errors
    /// Why it cannot be fetched; also for a repository on no cached shelf.
    pub async fn warm_image(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        anew: bool,
    ) -> Result<(Digest, WarmedLayers), Trouble> {
        let no_shelf = || Trouble::NoRepository(repository.first_component().to_owned());
        let shelf = &self.shelf_of(repository).ok_or_else(no_shelf)?;
        let path = shelf.upstream_name(repository)?;
        let digest = match selector {
            Selector::Tag(tag) if anew => self.ask_again(shelf, repository, &path, tag).await?,
            _ => self.manifest(shelf, repository, &path, selector, false).await?.digest,
        };
        let warmed = self.warm(shelf, repository, &path, &digest, false).await?;
        Ok((digest, warmed))
    }

    /// Fetches an image whole, for the shelf's platforms or, where it names none, all of them, and its
    /// companions where the shelf wants these. `behind`: only while no client waits for the upstream.
    ///
    /// # Errors
    /// The first thing that could not be fetched; what was fetched before stays.
    pub(super) async fn warm(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
        behind: bool,
    ) -> Result<WarmedLayers, Trouble> {
        let platforms = match shelf.platforms.as_slice() {
            [] => Platforms::All,
            some => Platforms::Some(some.to_vec()),
        };
        let store = &self.inner.store;
        let mut warmed = WarmedLayers::default();
        let mut waiting = vec![(digest.clone(), 0)];
        while let Some((digest, depth)) = waiting.pop() {
            self.fetch(shelf, repository, path, &digest).await?;
            warmed.manifests += 1;
            let found = store.manifest(repository, &Selector::Digest(digest.clone())).await?;
            let Some((record, bytes)) = found else { return Err(Trouble::Store) };
            let Ok(document) = Document::read(bytes, Some(&record.media_type)) else {
                return Err(Trouble::Store);
            };
            if depth < DEPTH {
                for child in document.children() {
                    // One that does not say for which platform it is belongs to all.
                    if child.is_wanted(&platforms) != Some(false) {
                        waiting.push((child.digest.clone(), depth + 1));
                    }
                }
            }
            for blob in document.blobs() {
                if behind {
                    shelf.upstream.quiet().await;
                }
                warmed.blobs += 1;
                warmed.fetched += self.bring(shelf, repository, path, &blob.digest).await?;
            }
            if shelf.companions {
                self.referrers(shelf, repository, path, &digest).await?;
                let about = store.referrers(repository, &digest, None, 100).await?;
                if depth < DEPTH {
                    waiting.extend(about.into_iter().map(|one| (one.manifest.digest, depth + 1)));
                }
            }
        }
        Ok(warmed)
    }

    /// Brings a blob here if it is not, and gives the bytes that had to be fetched.
    async fn bring(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
    ) -> Result<u64, Trouble> {
        if self.held_blob(repository, digest).await?.is_some() {
            return Ok(0);
        }
        let wanted = self.inner.store.wanted(repository, digest).await?;
        if self.is_beyond(shelf, repository, digest, wanted).await? {
            return Err(Trouble::Beyond);
        }
        // Nobody asked for it yet: it is no miss.
        let (taking, _) = self.take(shelf, repository, path, digest, wanted);
        match taking.opened().await? {
            CachedBlob::Passing(_) => Err(Trouble::NoRoom),
            CachedBlob::Here(_) => Ok(0),
            CachedBlob::Coming(taking, size) => {
                // The process may end right after this.
                taking.kept().await?;
                match self.held_blob(repository, digest).await? {
                    Some(_) => Ok(size.unwrap_or(0)),
                    None => Err(Trouble::Store),
                }
            }
        }
    }
}
