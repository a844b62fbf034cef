//! A registry as an end of a move.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::{self, StreamExt as _};
use larder_client::{ClientError, CutUpload, FailedPush, Registry};
use larder_core::companion::{Companion, kind};
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::name::{Host, RepositoryName};
use larder_core::reference::Selector;

use larder_store::{Store, StoreError};

use super::ends::WORTH_RESUMING;
use super::{Content, ManifestRole, Source, Target, TransferError};

/// One repository of a registry.
pub struct Remote {
    registry: Registry,
    repository: RepositoryName,
    /// Where a blob may be mounted from. None: nowhere.
    sibling: Option<RepositoryName>,
    /// Uploads that broke off, to be gone on with.
    cut: Mutex<HashMap<Digest, CutUpload>>,
    /// What remembers which repository of the registry has which blob. None: nothing does.
    memory: Option<(Store, Host)>,
}

impl Remote {
    /// A repository of a registry.
    pub fn new(registry: Registry, repository: RepositoryName) -> Self {
        Self { registry, repository, sibling: None, cut: Mutex::default(), memory: None }
    }

    /// With a memory of which repository of the registry, known as `host`, has which blob.
    #[must_use]
    pub fn remembering(mut self, store: Store, host: Host) -> Self {
        self.memory = Some((store, host));
        self
    }

    /// A repository that may have the blob already. None: none is known.
    async fn elsewhere(&self, digest: &Digest) -> Result<Option<RepositoryName>, TransferError> {
        let known = match &self.memory {
            Some((store, host)) => store.placed(host, digest).await?,
            None => self.sibling.clone(),
        };
        Ok(known.filter(|known| *known != self.repository))
    }

    fn take_cut(&self, digest: &Digest) -> Option<CutUpload> {
        self.cut.lock().unwrap_or_else(PoisonError::into_inner).remove(digest)
    }

    fn keep_cut(&self, digest: &Digest, cut: CutUpload) {
        self.cut.lock().unwrap_or_else(PoisonError::into_inner).insert(digest.clone(), cut);
    }

    async fn remember(&self, digest: &Digest) -> Result<(), TransferError> {
        if let Some((store, host)) = &self.memory {
            store.note_placed(host, &self.repository, vec![digest.clone()]).await?;
        }
        Ok(())
    }

    /// With another repository of the same registry that has the content already.
    #[must_use]
    pub fn beside(mut self, sibling: RepositoryName) -> Self {
        self.sibling = Some(sibling);
        self
    }
}

#[async_trait]
impl Source for Remote {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        Ok(self.registry.manifest(&self.repository, selector).await?)
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        let stream = match self.registry.blob(&self.repository, &blob.digest, blob.size).await {
            Err(ClientError::NotFound { .. }) if !blob.urls.is_empty() => {
                let (digest, size) = (&blob.digest, Some(blob.size));
                self.registry.foreign_blob(&self.repository, digest, size, 0, &blob.urls).await?
            }
            opened => opened?,
        };
        Ok(stream::try_unfold(stream, |mut stream| async move {
            Ok(stream.next().await?.map(|chunk| (chunk, stream)))
        })
        .boxed())
    }

    async fn blob_from(
        &self,
        _place: usize,
        blob: &Descriptor,
        from: u64,
    ) -> Result<Option<Content>, TransferError> {
        let (repository, digest, size) = (&self.repository, &blob.digest, Some(blob.size));
        let stream = match self.registry.blob_from(repository, digest, size, from).await {
            // What lies elsewhere is read from its beginning only.
            Err(ClientError::NotFound { .. }) if !blob.urls.is_empty() => return Ok(None),
            opened => opened?,
        };
        let content = stream::try_unfold(stream, |mut stream| async move {
            Ok(stream.next().await?.map(|chunk| (chunk, stream)))
        });
        Ok(Some(content.boxed()))
    }

    async fn piece(
        &self,
        blob: &Descriptor,
        range: &Range<u64>,
    ) -> Result<Option<Bytes>, TransferError> {
        match self.registry.blob_piece(&self.repository, &blob.digest, range).await {
            // What lies elsewhere is read from its beginning only.
            Err(ClientError::NotFound { .. }) if !blob.urls.is_empty() => Ok(None),
            read => Ok(read?),
        }
    }

    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        let found = self.registry.referrers(&self.repository, about).await?;
        let companion = |one: Descriptor| {
            let kind = kind(one.artifact_type.as_deref());
            (one.digest, Companion { about: about.clone(), kind, size: one.size, tag: None })
        };
        Ok(found.into_iter().map(companion).collect())
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        Ok(self.registry.small_blob(&self.repository, &blob.digest, blob.size, limit).await?)
    }
}

#[async_trait]
impl Target for Remote {
    async fn holds(&self, digest: &Digest) -> Result<bool, TransferError> {
        match self.registry.resolve(&self.repository, &Selector::Digest(digest.clone())).await {
            Ok(_) => Ok(true),
            Err(ClientError::NotFound { .. }) => Ok(false),
            Err(error) => Err(error.into()),
        }
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        if self.registry.has_blob(&self.repository, &blob.digest).await? {
            return Ok(true);
        }
        match self.elsewhere(&blob.digest).await? {
            Some(from) => {
                let outcome = self.registry.mount(&self.repository, &blob.digest, &from).await?;
                Ok(outcome == larder_client::Mount::Done)
            }
            None => Ok(false),
        }
    }

    async fn needs_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        // Where it is known to lie beside, it can be had from there.
        Ok(self.elsewhere(&blob.digest).await?.is_none()
            && !self.registry.has_blob(&self.repository, &blob.digest).await?)
    }

    async fn take_blob(&self, blob: &Descriptor, content: Content) -> Result<(), TransferError> {
        self.take_rest(blob, 0, content).await
    }

    async fn begun(&self, blob: &Descriptor) -> Result<u64, TransferError> {
        let Some(cut) = self.take_cut(&blob.digest) else { return Ok(0) };
        match self.registry.pushed(&self.repository, &cut).await {
            Ok(Some((from, next))) if from < blob.size => {
                self.keep_cut(&blob.digest, next);
                Ok(from)
            }
            // What cannot be told is sent anew.
            _ => {
                self.registry.give_up(&self.repository, cut).await;
                Ok(0)
            }
        }
    }

    async fn give_up(&self, blob: &Descriptor) {
        if let Some(cut) = self.take_cut(&blob.digest) {
            self.registry.give_up(&self.repository, cut).await;
        }
    }

    async fn take_rest(
        &self,
        blob: &Descriptor,
        from: u64,
        content: Content,
    ) -> Result<(), TransferError> {
        let cut = match (self.take_cut(&blob.digest), from) {
            (Some(cut), 0) => {
                self.registry.give_up(&self.repository, cut).await;
                None
            }
            (cut, from) => cut.map(|cut| (from, cut)),
        };
        if from > 0 && cut.is_none() {
            return Err(StoreError::Busy(blob.digest.to_string()).into());
        }
        // The client hashes what it sends and gives the upload up when it is not what it should be;
        // what the source met is kept beside, because the client knows only its text.
        let met = Arc::new(Mutex::new(None));
        let kept = Arc::clone(&met);
        let content = content.map(move |chunk| {
            chunk.map_err(|error| {
                let text = error.to_string();
                *kept.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                text
            })
        });
        let (repository, digest) = (&self.repository, &blob.digest);
        let sent = self.registry.push_from(repository, digest, blob.size, cut, content).await;
        let sent = match sent {
            Ok(()) => Ok(()),
            Err(FailedPush { error, left }) => {
                match left {
                    Some(left) if blob.size >= WORTH_RESUMING => self.keep_cut(digest, left),
                    Some(left) => self.registry.give_up(repository, left).await,
                    None => {}
                }
                Err(error)
            }
        };
        let source = met.lock().unwrap_or_else(PoisonError::into_inner).take();
        match source {
            Some(error) => Err(error),
            None => {
                sent?;
                self.remember(&blob.digest).await
            }
        }
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        role: ManifestRole<'_>,
        _sparse: bool,
    ) -> Result<(), TransferError> {
        let selector = match role.tag() {
            Some(tag) => Selector::Tag(tag.clone()),
            None => Selector::Digest(digest.clone()),
        };
        Ok(self.registry.push_manifest(&self.repository, &selector, document).await?)
    }
}
