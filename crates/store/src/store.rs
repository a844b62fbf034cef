//! The store: bytes and records together, as one room with verbs.

use std::collections::HashMap;
use std::future::Future;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use crate::sql::{Optional as _, params};
use bytes::{Bytes, BytesMut};
use larder_core::access::key::random;
use larder_core::access::possession::samples;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::quota::Quotas;
use larder_core::reference::Selector;

use crate::clock::now;
use crate::error::StoreError;
use crate::leases::SharedPresence;
use crate::ledger::{Demand, ManifestRecord, NewManifest};
use crate::local::{Folder, FolderForm};
use crate::objects::Objects;
use crate::records::{Bringer, Conversion, Records, TouchedNames};

/// One larder's bytes and records. Clones share them.
///
/// A digest names a row, the row names an object, and an object is never written twice. So a commit is one change of the
/// records, two writers can never mix their bytes, and removing an old object can never harm a new one. Each verb is done
/// whole or not at all, and several processes may work on the same store.
#[derive(Clone)]
pub struct Store {
    pub(crate) records: Records,
    pub(crate) objects: Objects,
    /// The store's folder.
    pub(crate) root: PathBuf,
    pub(crate) places: Places,
    pub(crate) presence: SharedPresence,
    /// Bytes of the disk that are kept free.
    reserve: Arc<AtomicU64>,
    /// Bytes that what is being written will still need.
    promised: Arc<Mutex<u64>>,
    /// How much may be held.
    pub(crate) quotas: Arc<RwLock<Arc<Quotas>>>,
    /// Whether the place in the object store is known to be this store's.
    #[cfg_attr(not(feature = "replicas"), allow(dead_code))]
    pub(crate) is_owner: Arc<AtomicBool>,
    /// In whose name this handle writes. Empty: nobody's.
    pub(crate) account: Arc<str>,
}

/// Where content lies that was just read: an object is never written twice, so that a place which still has one has the
/// right one.
#[derive(Clone, Default)]
pub(crate) struct Places(Arc<Mutex<HashMap<Digest, Arc<str>>>>);

impl Places {
    /// How many are remembered; then all are forgotten.
    const MOST: usize = 4096;

    /// Where a content lies. None: that is not remembered.
    pub fn get(&self, digest: &Digest) -> Option<Arc<str>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(digest).cloned()
    }

    /// Remembers where a content lies.
    pub fn keep(&self, digest: &Digest, place: &str) {
        let mut places = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if places.len() >= Self::MOST {
            places.clear();
        }
        places.insert(digest.clone(), place.into());
    }

    /// Forgets where a content lies, which goes or was found damaged.
    pub fn forget(&self, digest: &Digest) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(digest);
    }
}

/// Room on the disk that is kept for something that is being written. Dropped, what is left of it is free again.
pub struct DiskRoom {
    promised: Arc<Mutex<u64>>,
    left: u64,
}

impl DiskRoom {
    /// So many bytes of it have been written.
    pub fn take(&mut self, bytes: u64) {
        let taken = bytes.min(self.left);
        self.left -= taken;
        let mut promised = self.promised.lock().unwrap_or_else(PoisonError::into_inner);
        *promised = promised.saturating_sub(taken);
    }
}

impl Drop for DiskRoom {
    fn drop(&mut self) {
        self.take(self.left);
    }
}

/// Waits for something on a thread that may wait.
#[cfg(feature = "replicas")]
fn apart<T: Send>(work: impl FnOnce() -> Result<T, StoreError> + Send) -> Result<T, StoreError> {
    std::thread::scope(|scope| scope.spawn(work).join().unwrap_or(Err(StoreError::Closed)))
}

/// The records in a store's folder.
pub(crate) const LEDGER: &str = "ledger.sqlite";

/// What is kept aside of the disk, in the store's folder.
const SPARE: &str = "spare";
const SPARE_BYTES: u64 = 8 * 1024 * 1024;

impl Store {
    /// Opens the store in a local folder, making it where it is missing.
    ///
    /// # Errors
    /// [`StoreError::Earlier`] when it has the form of an earlier version: [`convert_local`](Self::convert_local) leads
    /// to this one.
    pub fn open_local(folder: &Path) -> Result<Self, StoreError> {
        make_private(folder)?;
        let records = Records::open(&folder.join(LEDGER))?;
        let objects = Objects::Folder(Folder::make(folder, FolderForm::Objects)?);
        Ok(Self::of(records, objects, folder))
    }

    /// Opens a store whose records are in a database server, and whose bytes are in a folder that all who open it share.
    ///
    /// # Errors
    /// [`StoreError::Earlier`] when it has the form of an earlier version.
    #[cfg(feature = "replicas")]
    pub fn open_shared(folder: &Path, server: crate::sql::Server) -> Result<Self, StoreError> {
        make_private(folder)?;
        let records = apart(|| Records::open_server(server))?;
        let objects = Objects::Folder(Folder::make(folder, FolderForm::Objects)?);
        Ok(Self::of(records, objects, folder))
    }

    /// Opens a store whose records are in a database server, or in the folder where none is given, and whose bytes are
    /// in an object store. What is not finished lies in the folder, which is this machine's own.
    ///
    /// # Errors
    /// [`StoreError::Earlier`] when it has the form of an earlier version.
    #[cfg(feature = "replicas")]
    pub fn open_remote(
        folder: &Path,
        server: Option<crate::sql::Server>,
        bucket: &crate::objects::BucketPlace,
    ) -> Result<Self, StoreError> {
        make_private(folder)?;
        let records = match server {
            Some(server) => apart(|| Records::open_server(server))?,
            None => Records::open(&folder.join(LEDGER))?,
        };
        let unfinished = Folder::make(folder, FolderForm::Objects)?;
        let objects = Objects::in_bucket(unfinished, bucket).map_err(|error| {
            StoreError::Objects { doing: "be spoken to", cause: error.to_string() }
        })?;
        Ok(Self::of(records, objects, folder))
    }

    /// Whether a database server has the records of a store.
    #[cfg(feature = "replicas")]
    pub fn has_records(server: &crate::sql::Server) -> Result<bool, StoreError> {
        apart(|| crate::records::has_records(server))
    }

    /// What keys are hashed and tokens are signed with, the same for all who share a store's records; made where it is
    /// missing.
    #[cfg(feature = "replicas")]
    pub fn shared_secret(server: &crate::sql::Server) -> Result<[u8; 32], StoreError> {
        apart(|| crate::records::shared_secret(server))
    }

    pub(crate) fn of(records: Records, objects: Objects, folder: &Path) -> Self {
        let (places, presence) = (Places::default(), SharedPresence::default());
        let (root, promised) = (folder.to_owned(), Arc::default());
        let (reserve, quotas, account) = (Arc::default(), Arc::default(), "".into());
        let is_owner = Arc::default();
        Self {
            records,
            objects,
            root,
            places,
            presence,
            reserve,
            promised,
            quotas,
            is_owner,
            account,
        }
    }

    /// Converts the store in a local folder, if it has the form of an earlier version; None: it has not, or there is
    /// none. A kill at any moment leaves one that opens in the old form or in the new one. `tell` is told now and then
    /// how many manifests have been read, of how many.
    ///
    /// # Errors
    /// [`StoreError::InUse`] while another process has it open; [`StoreError::NoRoomToConvert`].
    pub fn convert_local(
        folder: &Path,
        tell: &mut dyn FnMut(u64, u64),
    ) -> Result<Option<Conversion>, StoreError> {
        let state = rustix::fs::statvfs(folder).ok();
        let room = state.map(|state| state.f_bavail.saturating_mul(state.f_frsize));
        crate::records::convert(folder, &folder.join(LEDGER), room, tell)
    }

    /// Does once all that is ever done to an object, and tells what is lacking that it can do without.
    pub async fn try_objects(&self) -> Result<Vec<&'static str>, StoreError> {
        self.objects.try_out().await
    }

    /// For how long what is remembered is believed while the database server that has the records does not answer.
    #[cfg(feature = "replicas")]
    pub fn set_away(&self, span: std::time::Duration) {
        self.records.set_away(span);
    }

    /// For how long the database server has not answered, and how long that may last until nothing that is remembered is
    /// believed. None: it answers, or there is none.
    #[cfg(feature = "replicas")]
    pub fn away(&self) -> Option<(std::time::Duration, std::time::Duration)> {
        self.records.away()
    }

    /// Keeps so many bytes of the disk free: [`check_room`](Self::check_room) refuses what would take
    /// them.
    #[must_use]
    pub fn with_reserve(self, bytes: u64) -> Self {
        self.set_reserve(bytes);
        self
    }

    /// The same while the store is in use.
    pub fn set_reserve(&self, bytes: u64) {
        self.reserve.store(bytes, Ordering::Relaxed);
    }

    fn reserve(&self) -> u64 {
        self.reserve.load(Ordering::Relaxed)
    }

    /// Whether there is room for so many bytes more.
    ///
    /// # Errors
    /// [`StoreError::Full`] when the reserve would be touched.
    pub async fn check_room(&self, wanted: u64) -> Result<(), StoreError> {
        if self.reserve() == 0 {
            return Ok(());
        }
        let promised = *self.promised.lock().unwrap_or_else(PoisonError::into_inner);
        match self.room().await? {
            Some(left) if left < self.reserve().saturating_add(promised).saturating_add(wanted) => {
                Err(StoreError::Full { left, reserve: self.reserve(), promised })
            }
            _ => Ok(()),
        }
    }

    /// Keeps room for so many bytes that are about to be written: no two get the same.
    ///
    /// # Errors
    /// [`StoreError::Full`] when the reserve, or what others were promised, would be touched.
    pub async fn keep_room(&self, wanted: u64) -> Result<DiskRoom, StoreError> {
        let mut room = DiskRoom { promised: Arc::clone(&self.promised), left: 0 };
        self.grow_room(&mut room, wanted).await?;
        Ok(room)
    }

    /// Adds to room that is kept.
    ///
    /// # Errors
    /// As for [`keep_room`](Self::keep_room); what it had is kept.
    pub async fn grow_room(&self, room: &mut DiskRoom, wanted: u64) -> Result<(), StoreError> {
        if self.reserve() == 0 {
            return Ok(());
        }
        let Some(left) = self.room().await? else { return Ok(()) };
        let mut promised = self.promised.lock().unwrap_or_else(PoisonError::into_inner);
        if left < self.reserve().saturating_add(*promised).saturating_add(wanted) {
            return Err(StoreError::Full { left, reserve: self.reserve(), promised: *promised });
        }
        *promised = promised.saturating_add(wanted);
        room.left = room.left.saturating_add(wanted);
        Ok(())
    }

    /// Keeps a little of the disk aside, so that what removes can write its records on a full disk. Where there is little
    /// room it is not taken.
    pub async fn keep_spare(&self) {
        let path = self.root.join(SPARE);
        let room = self.room().await.ok().flatten().unwrap_or(0);
        if path.exists() || room < 4 * SPARE_BYTES {
            return;
        }
        let kept = crate::records::blocking(move || {
            let keep = || -> std::io::Result<()> {
                let file = std::fs::File::create(&path)?;
                rustix::fs::fallocate(&file, rustix::fs::FallocateFlags::empty(), 0, SPARE_BYTES)?;
                file.sync_all()
            };
            keep().map_err(StoreError::io(format!("cannot write {}", path.display())))
        });
        if let Err(error) = kept.await {
            tracing::debug!(%error, "no room is kept aside");
        }
    }

    /// Gives free what [`keep_spare`](Self::keep_spare) has kept aside, if the disk is about full.
    pub async fn use_spare(&self) -> Result<(), StoreError> {
        if self.room().await?.is_some_and(|room| room < SPARE_BYTES) {
            self.objects.remove_here(vec![SPARE.to_owned()]).await?;
        }
        Ok(())
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
        folder.join(LEDGER).is_file()
    }

    /// The user whom the records in a folder belong to, by number. None: there are none, or it cannot be told.
    pub fn owner(folder: &Path) -> Option<u32> {
        use std::os::unix::fs::MetadataExt as _;
        std::fs::metadata(folder.join(LEDGER)).ok().map(|ledger| ledger.uid())
    }

    /// Whether the store holds content that gives the same bytes at places that nobody can tell beforehand. `piece`
    /// asks a client that says so to prove it; its None means that it cannot tell, so that all of it must be brought.
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
        if self.size(digest).await? != Some(size) {
            return Ok(false);
        }
        let Some(random) = random() else { return Ok(false) };
        for range in samples(size, &random) {
            let Some(theirs) = piece(range.clone()).await? else { return Ok(false) };
            let mut ours = self.read(digest, range).await?;
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
    /// computed from its bytes; it is verified again before anything is written. A list of referrers that clients keep
    /// under a tag is replaced, not kept beside the new one.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the repository lacks what it needs, [`StoreError::Immutable`] when the tag points
    /// elsewhere and does not move; it stays.
    pub async fn put_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        document: &Document,
        tag: impl Into<TagSetting>,
        sparse: bool,
    ) -> Result<(), StoreError> {
        let demand = if sparse { Demand::Blobs } else { Demand::All };
        let TagSetting { tag, immutable } = tag.into();
        let bringer = self.bringer();
        let new = NewManifest { immutable, bringer, ..new_manifest(digest, document, tag, demand) };
        let name = repository.clone();
        check(digest, &document.bytes)?;
        self.records
            .write(TouchedNames::one(repository), move |connection| {
                crate::records::replace(connection, &name, &new)
            })
            .await
            .map(|staged| self.remove_leavings(staged.into_iter().collect()))?
            .await;
        Ok(())
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
        check(digest, &document.bytes)?;
        let new = new_manifest(digest, document, tag, Demand::Nothing);
        self.record_belief(repository, new).await
    }

    /// A manifest with its bytes. None: the repository has nothing under that tag or digest.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when it is recorded and its bytes are missing.
    pub async fn manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<(ManifestRecord, Bytes)>, StoreError> {
        let (name, selector) = (repository.clone(), selector.clone());
        let found = self
            .records
            .read(move |connection| crate::records::manifest(connection, &name, &selector))
            .await?;
        match found {
            None => Ok(None),
            Some((record, Some(bytes))) => Ok(Some((record, bytes))),
            Some((record, None)) => Err(StoreError::NotFound(record.digest.to_string())),
        }
    }

    /// A manifest's bytes by its digest alone, whichever repository has it. None: none has.
    pub async fn body(&self, digest: &Digest) -> Result<Option<Bytes>, StoreError> {
        let digest = digest.clone();
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached("SELECT body FROM bodies WHERE digest = $1")?
                    .query_row(params![digest.as_str()], |row| row.get::<Vec<u8>>(0))
                    .optional()
                    .map(|body| body.map(Bytes::from))
            })
            .await
    }

    /// A small blob, or a manifest, whole.
    pub async fn read_all(&self, digest: &Digest, size: u64) -> Result<Bytes, StoreError> {
        let mut reader = self.read(digest, 0..size).await?;
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
pub(crate) fn make_private(folder: &Path) -> Result<(), StoreError> {
    use std::os::unix::fs::DirBuilderExt as _;
    if folder.is_dir() {
        return Ok(());
    }
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true).mode(0o700).create(folder).map_err(|error| {
        StoreError::io(format!("cannot make the folder {}", folder.display()))(error)
    })
}

/// A tag that a manifest gets. None: it gets none.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TagSetting {
    pub tag: Option<Tag>,
    /// Whether it stays where it points already.
    pub immutable: bool,
}

impl From<Option<Tag>> for TagSetting {
    /// A tag that moves.
    fn from(tag: Option<Tag>) -> Self {
        Self { tag, immutable: false }
    }
}

pub(crate) fn new_manifest(
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
        body: document.bytes.clone(),
        described: crate::records::described(document),
        blobs: document.blobs().map(|blob| (blob.digest.clone(), blob.size)).collect(),
        children: document
            .children()
            .iter()
            .map(|child| (child.digest.clone(), child.size))
            .collect(),
        subject: document.subject.as_ref().map(|subject| subject.digest.clone()),
        demand,
        tag,
        immutable: false,
        bringer: Bringer::default(),
        at: now(),
    }
}

/// Whether a manifest is what its digest says.
fn check(digest: &Digest, body: &[u8]) -> Result<(), StoreError> {
    let mut hasher = larder_core::digest::Hasher::new(digest.algorithm());
    hasher.update(body);
    let actual = hasher.finish();
    match actual == *digest {
        true => Ok(()),
        false => Err(StoreError::Mismatch { expected: digest.clone(), actual }),
    }
}
