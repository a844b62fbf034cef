//! Blob store and ledger together: one place that keeps the order of writing.

use std::collections::BTreeSet;
use std::future::Future;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use larder_core::access::key::random;
use larder_core::access::possession::{Proof, may_have, samples};
use larder_core::companion;
use larder_core::digest::Digest;
use larder_core::document::{Document, media_type};
use larder_core::holdings::DropPlan;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;

use crate::blobs::{BlobStore, BlobWriter};
use crate::cache::CacheRecords;
use crate::clock::now;
use crate::error::StoreError;
use crate::journal::Journal;
use crate::keyring::Keyring;
use crate::ledger::{Demand, Ledger, ManifestRecord, NewManifest};
use crate::local::LocalBlobs;
use crate::record::Record;
use crate::sqlite::SqliteLedger;
use crate::upkeep::{Removal, Upkeep};

/// One larder's bytes and records. Clones share them.
#[derive(Clone)]
pub struct Store {
    /// The bytes.
    pub blobs: Arc<dyn BlobStore>,
    /// The records.
    pub ledger: Arc<dyn Ledger>,
    /// What takes records and bytes away.
    pub upkeep: Arc<dyn Upkeep>,
    /// What was done, and when.
    pub journal: Arc<dyn Journal>,
    /// What cached shelves know.
    pub cache: Arc<dyn CacheRecords>,
    /// The keys that were issued.
    pub keyring: Arc<dyn Keyring>,
    /// Who did what.
    pub record: Arc<dyn Record>,
    /// Bytes of the disk that are kept free.
    reserve: u64,
}

impl Store {
    /// Opens the store in a local folder, making it where it is missing.
    pub fn open_local(folder: &Path) -> Result<Self, StoreError> {
        make_private(folder)?;
        let blobs: Arc<dyn BlobStore> = Arc::new(LocalBlobs::open(folder)?);
        let ledger = SqliteLedger::open(&folder.join("ledger.sqlite"), Arc::clone(&blobs))?;
        let ledger = Arc::new(ledger);
        let (upkeep, journal): (Arc<dyn Upkeep>, Arc<dyn Journal>) =
            (ledger.clone(), ledger.clone());
        let cache: Arc<dyn CacheRecords> = ledger.clone();
        let (keyring, record): (Arc<dyn Keyring>, Arc<dyn Record>) =
            (ledger.clone(), ledger.clone());
        Ok(Self { blobs, ledger, upkeep, journal, cache, keyring, record, reserve: 0 })
    }

    /// Keeps so many bytes of the disk free: [`check_room`](Self::check_room) refuses what would take
    /// them.
    #[must_use]
    pub fn with_reserve(mut self, bytes: u64) -> Self {
        self.reserve = bytes;
        self
    }

    /// Whether there is room for so many bytes more.
    ///
    /// # Errors
    /// [`StoreError::Full`] when the reserve would be touched.
    pub async fn check_room(&self, wanted: u64) -> Result<(), StoreError> {
        if self.reserve == 0 {
            return Ok(());
        }
        match self.blobs.room().await? {
            Some(left) if left < self.reserve.saturating_add(wanted) => {
                Err(StoreError::Full { left, reserve: self.reserve })
            }
            _ => Ok(()),
        }
    }

    /// Lets nobody but its owner enter the folder of a store. True: somebody else could.
    ///
    /// # Errors
    /// When the system refuses it.
    pub fn tighten(folder: &Path) -> Result<bool, StoreError> {
        use std::os::unix::fs::PermissionsExt as _;
        let failed = || StoreError::io(format!("cannot close the folder {}", folder.display()));
        let mut permissions = std::fs::metadata(folder).map_err(failed())?.permissions();
        let mode = permissions.mode();
        let kept = mode & !0o077;
        if kept == mode {
            return Ok(false);
        }
        permissions.set_mode(kept);
        std::fs::set_permissions(folder, permissions).map_err(failed())?;
        Ok(true)
    }

    /// Whether a folder holds a store.
    pub fn is_local(folder: &Path) -> bool {
        folder.join("ledger.sqlite").is_file()
    }

    /// Makes a finished upload a blob of the repository and gives its size in bytes.
    pub async fn commit_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        writer: Box<dyn BlobWriter>,
    ) -> Result<u64, StoreError> {
        let size = writer.commit(digest).await?;
        self.ledger.link_blob(repository, digest, size).await?;
        Ok(size)
    }

    /// Gives the repository a blob that the store holds already, and which is said to have so many bytes, if
    /// [`may_have`] says so. False: it does not, or the store does not hold it.
    pub async fn share_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        said: Option<u64>,
        proof: Proof,
    ) -> Result<bool, StoreError> {
        let Some(size) = self.blobs.size(digest).await? else { return Ok(false) };
        if may_have(size, said, Some(proof)).is_err() {
            return Ok(false);
        }
        match self.ledger.link_blob(repository, digest, size).await {
            Ok(()) => Ok(true),
            // It went away just now.
            Err(StoreError::Vanished(_)) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Whether the store holds content that gives the same bytes at places that nobody can tell beforehand. `piece`
    /// asks whoever says that it has it; its None means that it cannot tell, so that all of it must be brought.
    ///
    /// # Errors
    /// What `piece` or the store met.
    pub async fn proves<E, F>(
        &self,
        digest: &Digest,
        size: u64,
        mut piece: impl FnMut(Range<u64>) -> F,
    ) -> Result<bool, E>
    where
        E: From<StoreError>,
        F: Future<Output = Result<Option<Bytes>, E>>,
    {
        if self.blobs.size(digest).await? != Some(size) {
            return Ok(false);
        }
        let Some(random) = random() else { return Ok(false) };
        for range in samples(size, &random) {
            let Some(theirs) = piece(range.clone()).await? else { return Ok(false) };
            let mut ours = self.blobs.read(digest, range).await?;
            let mut compared = 0;
            while let Some(part) = ours.next().await {
                let part = part?;
                if theirs.get(compared..compared + part.len()) != Some(&part[..]) {
                    return Ok(false);
                }
                compared += part.len();
            }
            if compared != theirs.len() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Keeps a manifest byte for byte, and points the tag to it. Its digest must have been
    /// computed from its bytes; it is verified again before anything is written.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the repository lacks what it needs; the tag stays.
    pub async fn put_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        document: &Document,
        tag: Option<Tag>,
        sparse: bool,
    ) -> Result<(), StoreError> {
        self.blobs.put(digest, document.bytes.clone()).await?;
        let demand = if sparse { Demand::Blobs } else { Demand::All };
        self.ledger.put_manifest(repository, new_manifest(digest, document, tag, demand)).await
    }

    /// Keeps a manifest that an upstream has just named, without what it needs; with a tag, that
    /// points to it from now on. Its digest must have been computed from its bytes.
    pub async fn believe(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        document: &Document,
        tag: Option<Tag>,
    ) -> Result<(), StoreError> {
        self.blobs.put(digest, document.bytes.clone()).await?;
        let new = new_manifest(digest, document, tag, Demand::Nothing);
        self.cache.believe(repository, new).await
    }

    /// Takes a manifest away, with the tags that point to it. The list of referrers that clients keep
    /// under a tag does not hold it: it is written anew without it.
    pub async fn remove_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<Vec<Tag>>, StoreError> {
        let removal = self.upkeep.remove_manifest(repository, digest).await?;
        let Removal::Needed(by) = &removal else { return Ok(removal) };
        let selector = Selector::Digest(digest.clone());
        let Some((record, bytes)) = self.manifest(repository, &selector).await? else {
            return Ok(Removal::NotThere);
        };
        let about = Document::read(bytes, Some(&record.media_type)).ok().and_then(|it| it.subject);
        let Some(about) = about else { return Ok(removal) };
        let tag = companion::list_tag(&about.digest);
        let list = self.manifest(repository, &Selector::Tag(tag.clone())).await?;
        let Some((list, bytes)) = list.filter(|(list, _)| by == std::slice::from_ref(&list.digest))
        else {
            return Ok(removal);
        };
        let Ok(document) = Document::read(bytes, Some(&list.media_type)) else {
            return Ok(removal);
        };
        let rest = document.children().iter().map(|one| one.digest.clone());
        let rest: BTreeSet<Digest> = rest.filter(|one| one != digest).collect();
        if rest.is_empty() {
            self.upkeep.remove_tag(repository, &tag).await?;
        } else if let Some(shorter) = document.trimmed(&rest) {
            let new = Digest::of(&shorter.bytes);
            self.put_manifest(repository, &new, &shorter, Some(tag), true).await?;
        }
        self.forget_list(repository, &list).await?;
        self.upkeep.remove_manifest(repository, digest).await
    }

    /// Removes a list of referrers that no tag points to any more: it held nothing but references.
    pub async fn forget_list(
        &self,
        repository: &RepositoryName,
        list: &ManifestRecord,
    ) -> Result<(), StoreError> {
        if !media_type::is_index(&list.media_type) {
            return Ok(());
        }
        let plan = DropPlan {
            manifests: vec![(repository.clone(), list.digest.clone())],
            ..DropPlan::default()
        };
        self.upkeep.drop_planned(plan).await.map(drop)
    }

    /// A manifest with its bytes. None: the repository has nothing under that tag or digest.
    pub async fn manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<(ManifestRecord, Bytes)>, StoreError> {
        let Some(record) = self.ledger.manifest(repository, selector).await? else {
            return Ok(None);
        };
        let bytes = self.read_all(&record.digest, record.size).await?;
        Ok(Some((record, bytes)))
    }

    /// A small blob whole.
    pub async fn read_all(&self, digest: &Digest, size: u64) -> Result<Bytes, StoreError> {
        let mut reader = self.blobs.read(digest, 0..size).await?;
        let mut bytes = BytesMut::new();
        while let Some(piece) = reader.next().await {
            let piece = piece?;
            if bytes.is_empty() && piece.len() as u64 == size {
                return Ok(piece);
            }
            bytes.extend_from_slice(&piece);
        }
        Ok(bytes.freeze())
    }
}

/// Makes a store's folder where it is missing: its owner alone may enter it.
fn make_private(folder: &Path) -> Result<(), StoreError> {
    use std::os::unix::fs::DirBuilderExt as _;
    if folder.is_dir() {
        return Ok(());
    }
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true).mode(0o700).create(folder).map_err(|error| {
        StoreError::io(format!("cannot make the folder {}", folder.display()))(error)
    })
}

fn new_manifest(
    digest: &Digest,
    document: &Document,
    tag: Option<Tag>,
    demand: Demand,
) -> NewManifest {
    let record = ManifestRecord {
        digest: digest.clone(),
        media_type: document.media_type.clone(),
        size: document.bytes.len() as u64,
    };
    NewManifest {
        record,
        blobs: document.blobs().map(|blob| (blob.digest.clone(), blob.size)).collect(),
        children: document
            .children()
            .iter()
            .map(|child| (child.digest.clone(), child.size))
            .collect(),
        subject: document.subject.as_ref().map(|subject| subject.digest.clone()),
        demand,
        tag,
        at: now(),
    }
}
