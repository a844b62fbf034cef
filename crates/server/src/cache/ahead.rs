//! Fetching ahead: the platforms that a shelf is told of, and what belongs to an image.

use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError};

use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::RepositoryName;
use larder_core::platform::Platforms;
use larder_core::reference::Selector;

use super::Cache;
use super::fill::Blob;
use super::shelf::CachedShelf;
use super::trouble::Trouble;

/// Indexes within indexes are followed so deep.
const DEPTH: usize = 4;

/// An image that is to be fetched ahead.
pub(super) struct Job {
    pub shelf: Arc<CachedShelf>,
    pub repository: RepositoryName,
    pub path: RepositoryName,
    pub digest: Digest,
}

/// What was fetched ahead.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Warmed {
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
            let Job { shelf, repository, path, digest } = &job;
            if let Err(cause) = self.warm(shelf, repository, path, digest, true).await {
                tracing::warn!(%repository, %digest, %cause, "an image could not be fetched ahead");
            }
        }
    }

    /// Fetches the image that a tag or digest of one of our repositories points to, whole.
    ///
    /// # Errors
    /// Why it cannot be had; also for a repository on no cached shelf.
    pub async fn warm_image(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<(Digest, Warmed), Trouble> {
        let no_shelf = || Trouble::NoRepository(repository.first_component().to_owned());
        let shelf = self.shelf_of(repository).ok_or_else(no_shelf)?;
        let path = shelf.upstream_name(repository)?;
        let digest = self.manifest(shelf, repository, &path, selector).await?.digest;
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
    ) -> Result<Warmed, Trouble> {
        let platforms = match shelf.platforms.as_slice() {
            [] => Platforms::All,
            some => Platforms::Some(some.to_vec()),
        };
        let store = &self.inner.store;
        let mut warmed = Warmed::default();
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
        let (taking, began) = self.take(shelf, repository, path, digest, wanted);
        if began {
            shelf.traffic.misses.fetch_add(1, Ordering::Relaxed);
        }
        match taking.opened().await? {
            Blob::Here(_) => Ok(0),
            Blob::Coming(taking, size) => {
                taking.landed().await?;
                Ok(size.unwrap_or(0))
            }
        }
    }
}
