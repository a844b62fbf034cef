//! This larder's own store as an end of a move.

use std::collections::BTreeSet;
use std::sync::Arc;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::StreamExt as _;
use larder_core::access::possession::Proof;
use larder_core::companion::Companion;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT};
use larder_core::immutable::ImmutableTags;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{BlobWriter, Purpose, Store, StoreError, TagSetting};

use super::companions::companion;
use super::ends::WORTH_RESUMING;
use super::ends::pour;
use super::{Content, ManifestRole, Source, Target, TransferError};

/// One repository of the store.
pub struct Own {
    store: Store,
    repository: RepositoryName,
    /// Blobs that the signed contents of a parcel name, and that it may take from the store.
    adopts: Option<Arc<BTreeSet<Digest>>>,
    /// Whether manifests are read that other repositories have.
    all: bool,
    /// The tags that do not move.
    immutable: ImmutableTags,
}

impl Own {
    /// A repository of the store.
    pub fn new(store: Store, repository: RepositoryName) -> Self {
        let immutable = ImmutableTags::default();
        Self { store, repository, adopts: None, all: false, immutable }
    }

    /// Everything that the store has, by its digest, whichever repository has it.
    ///
    /// # Panics
    /// Never: the name that stands for none is our own.
    pub fn everything(store: Store) -> Self {
        #[allow(clippy::expect_used)] // a name of our own
        let nowhere = "all".parse().expect("a repository's name");
        Self::new(store, nowhere).reading_all()
    }

    /// With tags that do not move.
    #[must_use]
    pub fn holding(mut self, immutable: ImmutableTags) -> Self {
        self.immutable = immutable;
        self
    }

    /// Reading everything that the store has, by its digest, whichever repository has it.
    #[must_use]
    pub fn reading_all(mut self) -> Self {
        self.all = true;
        self
    }

    /// With blobs that the signed contents of a parcel name: those that it brought into the store, and those that it
    /// left out because they are here.
    #[must_use]
    pub fn adopting(mut self, blobs: Arc<BTreeSet<Digest>>) -> Self {
        self.adopts = Some(blobs);
        self
    }
}

#[async_trait]
impl Source for Own {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        if let (true, Selector::Digest(digest)) = (self.all, selector)
            && let Some(size) = self.store.size(digest).await?
            && size <= MANIFEST_LIMIT as u64
        {
            let bytes = self.store.read_all(digest, size).await?;
            super::layout::check_digest(digest, &bytes)?;
            return super::layout::document(digest.clone(), bytes);
        }
        let found = self.store.manifest(&self.repository, selector).await?;
        let missing = || {
            TransferError::NotHeld(match selector {
                Selector::Tag(tag) => format!("{}:{tag}", self.repository),
                Selector::Digest(digest) => format!("{}@{digest}", self.repository),
            })
        };
        let (record, bytes) = found.ok_or_else(missing)?;
        let document = Document::read(bytes, Some(&record.media_type))
            .map_err(|source| TransferError::Document { digest: record.digest.clone(), source })?;
        Ok((record.digest, document))
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        // What a manifest names, and its repository does not have, is another's.
        if !self.all && !self.is_own(blob).await? {
            return Err(TransferError::NotHeld(format!("{}@{}", self.repository, blob.digest)));
        }
        let reader = self.store.read(&blob.digest, 0..blob.size).await?;
        Ok(reader.map(|piece| piece.map_err(TransferError::Store)).boxed())
    }

    async fn blob_from(
        &self,
        _place: usize,
        blob: &Descriptor,
        from: u64,
    ) -> Result<Option<Content>, TransferError> {
        if !self.all && !self.is_own(blob).await? {
            return Err(TransferError::NotHeld(format!("{}@{}", self.repository, blob.digest)));
        }
        let reader = self.store.read(&blob.digest, from..blob.size).await?;
        Ok(Some(reader.map(|piece| piece.map_err(TransferError::Store)).boxed()))
    }

    async fn is_own(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(self.store.blob(&self.repository, &blob.digest).await?.is_some())
    }

    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        let records = self.store.referrers(&self.repository, about, None, usize::MAX).await?;
        let mut found = Vec::new();
        for record in records {
            let (digest, document) =
                self.manifest(&Selector::Digest(record.manifest.digest)).await?;
            found.extend(companion(about, &document).map(|companion| (digest, companion)));
        }
        Ok(found)
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        super::layout::check_small(blob, limit)?;
        if !self.all && !self.is_own(blob).await? {
            return Err(TransferError::NotHeld(format!("{}@{}", self.repository, blob.digest)));
        }
        Ok(self.store.read_all(&blob.digest, blob.size).await?)
    }
}

impl Own {
    /// A writer that goes on at a byte, or at the beginning. None: there is none that stands there.
    async fn part(
        &self,
        blob: &Descriptor,
        from: u64,
    ) -> Result<Option<BlobWriter>, TransferError> {
        let known = self.store.fetched_part(&self.repository, &blob.digest).await?;
        if let (Some(part), 0) = (known, from) {
            match self.store.cancel_upload(part).await {
                Ok(()) | Err(StoreError::NotFound(_)) => {}
                Err(StoreError::Busy(_)) => return Ok(None),
                Err(error) => return Err(error.into()),
            }
        }
        let part = match known.filter(|_| from > 0) {
            Some(part) => part,
            None if from == 0 => self.store.begin_fetch(&self.repository, &blob.digest).await?,
            None => return Ok(None),
        };
        match self.store.resume_kept(part).await {
            Ok(writer) if writer.offset() == from => Ok(Some(writer)),
            Ok(writer) => {
                writer.park().await?;
                Ok(None)
            }
            Err(StoreError::Busy(_) | StoreError::NotFound(_)) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }
}

#[async_trait]
impl Target for Own {
    async fn holds(&self, digest: &Digest) -> Result<bool, TransferError> {
        let selector = Selector::Digest(digest.clone());
        Ok(self.store.manifest_record(&self.repository, &selector).await?.is_some())
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        if self.store.blob(&self.repository, &blob.digest).await?.is_some() {
            return Ok(true);
        }
        Ok(false)
    }

    async fn needs_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(self.store.size(&blob.digest).await?.is_none())
    }

    async fn adopts(&self, blob: &Descriptor, source: &dyn Source) -> Result<bool, TransferError> {
        let proof = if self.adopts.as_ref().is_some_and(|all| all.contains(&blob.digest)) {
            Proof::SignedContents
        } else if source.is_own(blob).await? {
            Proof::OwnRepository
        } else {
            let piece = |range| async move { source.piece(blob, &range).await };
            if !self.store.proves(&blob.digest, blob.size, piece).await? {
                return Ok(false);
            }
            Proof::Samples
        };
        let said = Some(blob.size);
        Ok(self.store.share_blob(&self.repository, &blob.digest, said, proof).await?)
    }

    async fn take_blob(&self, blob: &Descriptor, content: Content) -> Result<(), TransferError> {
        // Kept until all of it is written.
        let _room = self.store.keep_room(blob.size).await?;
        let writer = pour(self.store.write_once(Purpose::Keep).await?, content).await?;
        self.store.commit_blob(&self.repository, &blob.digest, writer).await?;
        Ok(())
    }

    async fn begun(&self, blob: &Descriptor) -> Result<u64, TransferError> {
        if blob.size < WORTH_RESUMING {
            return Ok(0);
        }
        Ok(match self.store.fetched_part(&self.repository, &blob.digest).await? {
            Some(part) => match self.store.uploaded(part).await {
                Ok(bytes) => bytes,
                Err(StoreError::NotFound(_)) => 0,
                Err(error) => return Err(error.into()),
            },
            None => 0,
        })
    }

    async fn take_rest(
        &self,
        blob: &Descriptor,
        from: u64,
        content: Content,
    ) -> Result<(), TransferError> {
        if blob.size < WORTH_RESUMING {
            return self.take_blob(blob, content).await;
        }
        let _room = self.store.keep_room(blob.size.saturating_sub(from)).await?;
        let Some(writer) = self.part(blob, from).await? else {
            // Somebody else fetches it at this moment, or what was there is not what it was.
            return match from {
                0 => self.take_blob(blob, content).await,
                _ => Err(StoreError::Busy(blob.digest.to_string()).into()),
            };
        };
        let writer = pour(writer, content).await?;
        self.store.commit_blob(&self.repository, &blob.digest, writer).await?;
        Ok(())
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        role: ManifestRole<'_>,
        sparse: bool,
    ) -> Result<(), TransferError> {
        let tag = role.tag().cloned();
        let immutable = tag.as_ref().is_some_and(|tag| self.immutable.holds(&self.repository, tag));
        let setting = TagSetting { tag, immutable };
        Ok(self.store.put_manifest(&self.repository, digest, document, setting, sparse).await?)
    }
}
