//! Writing an upload: hashed in one lane and written in another.

use std::fs::{self, File};
use std::io;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use futures_util::future::try_join;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::sync::watch;
use tokio::task::{JoinHandle, spawn_blocking};

use super::crowd::{CrowdPlace, LARGE};
use super::lane::{Lane, LaneStep};
use super::output::BlobOutput;
use super::reader::Pieces;
use super::stage::{ALIGN, StagingBuffer};
use super::uploads::hash;
use super::{BlobsInner, SealedContent, UploadState, io};
use crate::blobs::{BlobReader, GrowingBlob, Purpose, UploadId};
use crate::error::StoreError;

/// Bytes after which the disk is told to write what came so far.
const FLUSH_EACH: u64 = 32 * 1024 * 1024;

/// That an upload is being written to. Dropped, it is free again, or gone.
pub(super) struct Claim {
    pub inner: Arc<BlobsInner>,
    pub id: UploadId,
    pub path: PathBuf,
    /// Whether nobody can take it up again.
    pub once: bool,
}

impl Drop for Claim {
    fn drop(&mut self) {
        if self.once {
            // Once committed, it is there no more.
            let _ = fs::remove_file(&self.path);
            return;
        }
        let mut states = self.inner.states();
        if matches!(states.get(&self.id), Some(UploadState::Active)) {
            states.remove(&self.id);
        }
    }
}

impl LaneStep for Hasher {
    const WORTH: usize = 1;

    fn take(&mut self, pieces: &[Bytes]) -> Result<(), StoreError> {
        for piece in pieces {
            self.update(piece);
        }
        Ok(())
    }
}

/// The one who writes to an upload. Dropped without being parked or sealed, it leaves the upload as far as it came.
///
/// What comes is hashed and written side by side: neither waits for the other. Only where much comes at once to be kept,
/// so that every processor hashes anyway, it is hashed where it was received.
pub struct BlobWriter {
    /// What is still to be handed to both. None: each piece is, as it comes, because somebody may read along,
    /// or is about to read it.
    gathering: Option<StagingBuffer>,
    /// Whether what gathers now is hashed already.
    is_hashed: bool,
    purpose: Purpose,
    upload: Option<UploadId>,
    inner: Arc<BlobsInner>,
    /// Among those that give a processor work. None: it is not large yet.
    place: Option<CrowdPlace>,
    hashing: Lane<Hasher>,
    writing: Lane<UploadFile>,
    offset: u64,
    path: PathBuf,
    written: Arc<watch::Sender<u64>>,
    /// What lets other machines go on with it. None: they cannot.
    #[cfg(feature = "replicas")]
    handover: Option<crate::objects::Handover>,
}

impl BlobWriter {
    /// # Errors
    /// When there is no memory for the bytes.
    pub(super) fn new(
        claim: Claim,
        output: BlobOutput,
        hasher: Hasher,
        purpose: Purpose,
    ) -> Result<Self, StoreError> {
        let offset = output.position();
        let (path, written) = (claim.path.clone(), Arc::new(watch::Sender::new(offset)));
        let inner = Arc::clone(&claim.inner);
        let upload = (!claim.once).then_some(claim.id);
        let work = UploadFile {
            claim,
            output,
            written: Arc::clone(&written),
            flushed: offset,
            flushing: None,
            flushes: Arc::default(),
        };
        let gathering = match purpose {
            Purpose::Keep => Some(StagingBuffer::new().map_err(io("take memory for", &path))?),
            Purpose::Read => None,
        };
        let (hashing, writing) = (Lane::new(hasher), Lane::new(work));
        let (is_hashed, place) = (false, None);
        Ok(Self {
            gathering,
            is_hashed,
            purpose,
            upload,
            inner,
            place,
            hashing,
            writing,
            offset,
            path,
            written,
            #[cfg(feature = "replicas")]
            handover: None,
        })
    }

    /// How many of the next bytes are handed over as they come; those beyond gather.
    fn at_once(&mut self, next: usize) -> usize {
        if self.gathering.is_some() {
            return 0;
        }
        if self.offset < LARGE || self.written.receiver_count() > 0 {
            return next;
        }
        let crowd = &self.inner.crowd;
        let place = self.place.get_or_insert_with(|| crowd.join());
        if self.hashing.is_behind() {
            crowd.gather(place);
        }
        // A disk takes whole blocks.
        let block = self.offset.next_multiple_of(ALIGN as u64) - self.offset;
        let block = usize::try_from(block).unwrap_or(next);
        if place.gathers() { next.min(block) } else { next }
    }

    /// Whether the stage that begins is hashed while it gathers, while the processor that received it has it at
    /// hand, because no other one is idle. Nodes wait behind what is pushed, so that is never hashed here.
    fn hashes_here(&mut self) -> bool {
        if self.purpose != Purpose::Keep {
            return false;
        }
        let crowd = &self.inner.crowd;
        self.place.get_or_insert_with(|| crowd.join());
        crowd.is_dense() && self.hashing.idle().is_some()
    }

    fn add(&mut self, piece: Bytes) {
        if !std::mem::take(&mut self.is_hashed) {
            self.hashing.add(piece.clone());
        }
        self.writing.add(piece);
    }

    /// Hands over what has gathered.
    fn add_gathered(&mut self) -> Result<(), StoreError> {
        if let Some(stage) = self.gathering.as_mut().filter(|stage| !stage.as_ref().is_empty()) {
            let next = StagingBuffer::new().map_err(io("take memory for", &self.path))?;
            let piece = std::mem::replace(stage, next).into_bytes();
            self.add(piece);
        }
        Ok(())
    }

    /// Hands over what has gathered; nothing comes after it.
    fn add_last(&mut self) {
        if let Some(stage) = self.gathering.take().filter(|stage| !stage.as_ref().is_empty()) {
            self.add(stage.into_bytes());
        }
    }

    async fn keep_up(&mut self) -> Result<(), StoreError> {
        try_join(self.hashing.keep_up(), self.writing.keep_up()).await.map(drop)
    }
}

impl BlobWriter {
    /// The upload's name. None: nobody can take it up again.
    pub(crate) fn upload(&self) -> Option<UploadId> {
        self.upload
    }

    /// How many bytes the upload has.
    pub fn offset(&self) -> u64 {
        self.offset
    }

    /// Adds the next bytes. It waits while earlier ones are still being written.
    pub async fn write(&mut self, mut chunk: Bytes) -> Result<(), StoreError> {
        let at_once = chunk.split_to(self.at_once(chunk.len()));
        self.offset += (at_once.len() + chunk.len()) as u64;
        if !at_once.is_empty() {
            self.add(at_once);
            self.keep_up().await?;
        }
        if !chunk.is_empty() && self.gathering.is_none() {
            self.gathering = Some(StagingBuffer::new().map_err(io("take memory for", &self.path))?);
        }
        let mut rest = &chunk[..];
        while let Some(stage) = self.gathering.as_mut().filter(|_| !rest.is_empty()) {
            let begins = stage.as_ref().is_empty();
            let later = stage.take(rest);
            let (taken, is_full) = (&rest[..rest.len() - later.len()], stage.is_full());
            if begins {
                self.is_hashed = self.hashes_here();
            }
            if self.is_hashed
                && let Some(hasher) = self.hashing.idle()
            {
                hasher.update(taken);
            }
            if is_full {
                self.add_gathered()?;
                self.keep_up().await?;
            }
            rest = later;
        }
        Ok(())
    }

    /// For readers that follow it. What is read has not been verified.
    pub fn growing(&self) -> Result<GrowingBlob, StoreError> {
        let file = File::open(&self.path).map_err(io("read", &self.path))?;
        let file = Arc::new((file, self.path.clone()));
        let open = move |range| BlobReader::new(Pieces::new(Arc::clone(&file), range));
        Ok(GrowingBlob::new(self.written.subscribe(), open))
    }

    /// Waits until all that was added is written, so that readers that follow it have it. May be given up at any time, and
    /// waited for again.
    pub async fn advance(&mut self) -> Result<(), StoreError> {
        self.add_gathered()?;
        try_join(self.hashing.rest(), self.writing.rest()).await.map(drop)
    }

    /// Waits until all that was added is written, and tells whether it has this digest.
    pub async fn has_digest(&mut self, digest: &Digest) -> Result<bool, StoreError> {
        self.advance().await?;
        let hasher = match digest.algorithm() {
            Algorithm::Sha256 => self.hashing.step()?.clone(),
            Algorithm::Sha512 => self.writing.then(UploadFile::hash_again).await?,
        };
        Ok(hasher.finish() == *digest)
    }

    /// Releases the upload and keeps what came, for the next writer; tells how much that is, in bytes.
    pub async fn park(mut self) -> Result<u64, StoreError> {
        self.add_last();
        #[cfg(feature = "replicas")]
        let handover = self.handover.take();
        let (hasher, work) = try_join(self.hashing.end(), self.writing.end()).await?;
        #[cfg(feature = "replicas")]
        let so_far = handover.is_some().then(|| hasher.clone().finish());
        // Its file is closed by a thread that may wait.
        let offset = super::blocking(move || work.park(hasher)).await?;
        #[cfg(feature = "replicas")]
        if let (Some(handover), Some(so_far)) = (handover, so_far) {
            handover.park(offset, so_far).await?;
        }
        Ok(offset)
    }

    /// The same writer, which lets other machines go on with the upload once it has parked it.
    #[cfg(feature = "replicas")]
    pub(crate) fn handing_over(self, handover: crate::objects::Handover) -> Self {
        Self { handover: Some(handover), ..self }
    }

    /// Takes what lets other machines go on with it.
    #[cfg(feature = "replicas")]
    pub(crate) fn hand_over(&mut self) -> Option<crate::objects::Handover> {
        self.handover.take()
    }

    /// Verifies and flushes the content and gives it its place.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when the content has another digest; the upload is gone then.
    pub(crate) async fn seal(
        mut self,
        digest: &Digest,
        place: String,
    ) -> Result<SealedContent, StoreError> {
        self.add_last();
        let Self { hashing, mut writing, .. } = self;
        // The disk need not wait for the last of the hash.
        let flushed = async {
            let hasher = match digest.algorithm() {
                Algorithm::Sha256 => None,
                Algorithm::Sha512 => Some(writing.then(UploadFile::hash_again).await?),
            };
            writing.then(UploadFile::flush).await?;
            Ok((writing.end().await?, hasher))
        };
        let (hasher, (work, again)) = try_join(hashing.end(), flushed).await?;
        let (actual, expected) = (again.unwrap_or(hasher).finish(), digest.clone());
        super::blocking(move || work.settle(actual, expected, place)).await
    }
}

/// An upload's file.
struct UploadFile {
    claim: Claim,
    output: BlobOutput,
    written: Arc<watch::Sender<u64>>,
    /// Up to where the disk has been told to write.
    flushed: u64,
    flushing: Option<JoinHandle<()>>,
    flushes: Arc<Flushes>,
}

/// The flushes of one file, one at a time.
///
/// Linux reports a failed write-back once for each open file description, which a duplicated handle shares. A
/// failure that an early flush meets is therefore kept here: no later flush would hear of it.
#[derive(Default)]
struct Flushes(Mutex<Option<io::Error>>);

impl Flushes {
    /// Flushes ahead of the last flush, and keeps a failure for it.
    fn ahead(&self, flush: impl FnOnce() -> io::Result<()>) {
        let mut failed = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Err(error) = flush() {
            failed.get_or_insert(error);
        }
    }

    /// Flushes, after the flush that is under way.
    ///
    /// # Errors
    /// What this or an earlier flush met: bytes of the file may be lost, so that it must not be used.
    fn last(&self, flush: impl FnOnce() -> io::Result<()>) -> io::Result<()> {
        let mut failed = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        failed.take().map_or_else(flush, Err)
    }
}

impl LaneStep for UploadFile {
    // Enough for the file system, and little enough to be at hand of the processor still.
    const WORTH: usize = 192 * 1024;

    fn take(&mut self, pieces: &[Bytes]) -> Result<(), StoreError> {
        let read_along = self.written.receiver_count() > 0;
        self.output.write(pieces, read_along).map_err(io("write", &self.claim.path))?;
        self.written.send_replace(self.output.position());
        self.flush_ahead();
        Ok(())
    }
}

impl UploadFile {
    /// Has what came so far written to the disk while more comes, so that the last flush, for which
    /// everybody waits, has little left to do.
    fn flush_ahead(&mut self) {
        let idle = self.flushing.as_ref().is_none_or(JoinHandle::is_finished);
        if idle
            && !self.output.is_direct()
            && self.output.position() - self.flushed >= FLUSH_EACH
            && let Ok(file) = self.output.try_clone()
        {
            self.flushed = self.output.position();
            let (flushes, path) = (Arc::clone(&self.flushes), self.claim.path.clone());
            self.flushing = Some(spawn_blocking(move || {
                // Whatever becomes of this writer, nobody may resume what is not on the disk.
                flushes.ahead(|| file.sync_data().inspect_err(|_| drop(fs::remove_file(&path))));
            }));
        }
    }

    /// Hashes all that was written once more: which algorithm is wanted may be known only at the end.
    fn hash_again(&mut self) -> Result<Hasher, StoreError> {
        hash(self.output.settled(), Algorithm::Sha512).map_err(io("read", &self.claim.path))
    }

    fn flush(&mut self) -> Result<(), StoreError> {
        let file = self.output.settled();
        let path = &self.claim.path;
        let flushed = self.flushes.last(|| file.sync_all());
        flushed.inspect_err(|_| drop(fs::remove_file(path))).map_err(io("flush", path))
    }

    /// Keeps what came, and its hash so far, for the next writer.
    ///
    /// # Errors
    /// When bytes of it may be lost on the disk: nothing of the upload is kept then.
    fn park(mut self, hasher: Hasher) -> Result<u64, StoreError> {
        let path = &self.claim.path;
        self.flushes.last(|| Ok(())).map_err(io("flush", path))?;
        // An early flush may hold a duplicate for a moment longer, and the lock with it.
        self.output.settled().unlock().map_err(io("unlock", path))?;
        let offset = self.output.position();
        if !self.claim.once {
            let mut states = self.claim.inner.states();
            if states.len() < super::PARKED {
                states.insert(self.claim.id, UploadState::Parked(Box::new(hasher), offset));
            }
        }
        Ok(offset)
    }

    /// Gives what was flushed its place.
    fn settle(
        self,
        actual: Digest,
        expected: Digest,
        place: String,
    ) -> Result<SealedContent, StoreError> {
        let path = &self.claim.path;
        if actual != expected {
            fs::remove_file(path).map_err(io("remove", path))?;
            return Err(StoreError::Mismatch { expected, actual });
        }
        self.claim.inner.settle(path, &place)?;
        let size = self.output.position();
        Ok(SealedContent {
            digest: expected,
            size,
            place,
            locked: Some(Arc::new(self.output.into_file())),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Content in pieces of odd sizes, longer than what counts as large.
    fn pieces() -> impl Iterator<Item = Bytes> {
        let sizes = [65_536, 4_096, 1, 70_001, 8_192, 4_095].into_iter().cycle();
        sizes.take(400).enumerate().map(|(number, size)| {
            (0..size).map(|at| u8::try_from((at * 7 + number) % 251).unwrap()).collect()
        })
    }

    fn inner(folder: &std::path::Path) -> Arc<BlobsInner> {
        super::super::Folder::make(folder, super::super::FolderForm::Objects).unwrap().inner
    }

    fn writer(inner: &Arc<BlobsInner>, purpose: Purpose) -> BlobWriter {
        let id = UploadId::fresh();
        let (file, path) = inner.once(id).unwrap();
        let claim = Claim { inner: Arc::clone(inner), id, path, once: true };
        let hasher = Hasher::new(Algorithm::Sha256);
        BlobWriter::new(claim, BlobOutput::new(file, 0), hasher, purpose).unwrap()
    }

    #[tokio::test]
    async fn whoever_hashes_it_what_is_kept_has_its_digest() {
        let folder = tempfile::tempdir().unwrap();
        let inner = inner(folder.path());
        let whole: Vec<u8> = pieces().flatten().collect();
        let digest = Digest::of(&whole);
        for (crowd_from, crowd_to) in [(0, 400), (0, 0), (90, 91), (100, 250), (399, 400)] {
            let mut writer = writer(&inner, Purpose::Keep);
            let (mut others, mut at_once) = (Vec::new(), 0);
            for (number, piece) in pieces().enumerate() {
                if number == crowd_from {
                    others.extend((crowd_from..crowd_to).map(|_| inner.crowd.join()));
                }
                if number == crowd_to {
                    others.clear();
                }
                writer.write(piece).await.unwrap();
                at_once += usize::from(writer.is_hashed);
                if number % 150 == 149 {
                    writer.advance().await.unwrap();
                }
            }
            assert_eq!(at_once > 0, crowd_to > crowd_from + 1, "{crowd_from} to {crowd_to}");
            assert!(writer.has_digest(&digest).await.unwrap(), "{crowd_from} to {crowd_to}");
            assert_eq!(
                writer.seal(&digest, inner.fresh_place(&digest)).await.unwrap().size,
                whole.len() as u64
            );
        }
    }

    /// As if there were many others.
    fn crowded(inner: &BlobsInner) -> CrowdPlace {
        let others: Vec<CrowdPlace> = (0..1_000).map(|_| inner.crowd.join()).collect();
        let mut place = inner.crowd.join();
        inner.crowd.gather(&mut place);
        assert!(place.gathers() && others.iter().all(|other| !other.gathers()));
        place
    }

    #[tokio::test]
    async fn what_begins_to_gather_in_its_midst_is_written_whole() {
        let folder = tempfile::tempdir().unwrap();
        let inner = inner(folder.path());
        let whole: Vec<u8> = pieces().flatten().collect();
        let digest = Digest::of(&whole);
        for from in [0, 120, 333, 399, 400] {
            let mut writer = writer(&inner, Purpose::Read);
            let mut length = 0;
            for (number, piece) in pieces().enumerate() {
                if number == from {
                    writer.place = Some(crowded(&inner));
                }
                let gathers = number >= from && length >= LARGE;
                length += piece.len() as u64;
                writer.write(piece).await.unwrap();
                assert_eq!(writer.offset(), length);
                // Up to the end of a block it need not.
                assert!(gathers || writer.gathering.is_none());
            }
            assert_eq!(writer.gathering.is_some(), from < 400, "from piece {from}");
            let sealed = writer.seal(&digest, inner.fresh_place(&digest)).await.unwrap();
            assert_eq!(sealed.size, whole.len() as u64);
            assert!(fs::read(inner.at(&sealed.place)).unwrap() == whole, "from piece {from}");
        }
    }

    #[tokio::test]
    async fn what_is_read_along_never_gathers() {
        let folder = tempfile::tempdir().unwrap();
        let inner = inner(folder.path());
        let mut writer = writer(&inner, Purpose::Read);
        let growing = writer.growing().unwrap();
        writer.place = Some(crowded(&inner));
        for piece in pieces() {
            writer.write(piece).await.unwrap();
            assert!(writer.gathering.is_none());
        }
        writer.advance().await.unwrap();
        assert_eq!(*growing.readable.borrow(), writer.offset());
    }
}
