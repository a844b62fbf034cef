//! Writing an upload: hashed by one thread and written by another, which are taken only while there is
//! something to do, so that a slow sender holds none.

use std::fs::{self, File};
use std::io::Write as _;
use std::path::PathBuf;
use std::sync::Arc;

use async_trait::async_trait;
use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::task::{JoinHandle, spawn_blocking};

use super::{Inner, State, hash, io};
use crate::blobs::{BlobWriter, UploadId};
use crate::error::StoreError;

/// Bytes from the network that wait for the disk before the sender has to wait.
const QUEUE: usize = 1024 * 1024;
/// Bytes after which the disk is told to write what came so far.
const FLUSH_EACH: u64 = 32 * 1024 * 1024;

/// That an upload is being written to. Dropped, it is free again, or gone.
pub(super) struct Claim {
    pub inner: Arc<Inner>,
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
        if matches!(states.get(&self.id), Some(State::Active)) {
            states.remove(&self.id);
        }
    }
}

/// What threads that may wait are doing with the same bytes.
struct Running {
    hashing: JoinHandle<Hasher>,
    writing: JoinHandle<(Work, Result<(), StoreError>)>,
}

impl Running {
    fn is_finished(&self) -> bool {
        self.hashing.is_finished() && self.writing.is_finished()
    }
}

pub(super) struct LocalWriter {
    /// None: a thread has it.
    idle: Option<Work>,
    running: Option<Running>,
    waiting: Vec<Bytes>,
    waiting_bytes: usize,
    offset: u64,
}

impl LocalWriter {
    pub fn new(claim: Claim, file: File, hasher: Hasher, offset: u64) -> Self {
        let work =
            Work { claim, file, hasher: Some(hasher), offset, flushed: offset, flushing: None };
        Self { idle: Some(work), running: None, waiting: Vec::new(), waiting_bytes: 0, offset }
    }

    /// Waits for the thread, if one is busy, and hands it what waits.
    async fn hand_over(&mut self) -> Result<(), StoreError> {
        if let Some(running) = &mut self.running {
            let hasher = (&mut running.hashing).await;
            let written = (&mut running.writing).await;
            self.running = None;
            let (mut work, outcome) = written.map_err(|_| StoreError::Closed)?;
            outcome?;
            work.hasher = Some(hasher.map_err(|_| StoreError::Closed)?);
            self.idle = Some(work);
        }
        if self.waiting.is_empty() {
            return Ok(());
        }
        let mut work = self.idle.take().ok_or(StoreError::Closed)?;
        let mut hasher = work.hasher.take().ok_or(StoreError::Closed)?;
        let chunks = std::mem::take(&mut self.waiting);
        self.waiting_bytes = 0;
        let same = chunks.clone();
        let hashing = spawn_blocking(move || {
            for chunk in &same {
                hasher.update(chunk);
            }
            hasher
        });
        let writing = spawn_blocking(move || {
            let outcome = work.write(&chunks);
            (work, outcome)
        });
        self.running = Some(Running { hashing, writing });
        Ok(())
    }

    /// All that came is written; then the work is done to its end on a thread that may wait.
    async fn end<T: Send + 'static>(
        mut self: Box<Self>,
        last: impl FnOnce(Work) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.hand_over().await?;
        self.hand_over().await?;
        let work = self.idle.take().ok_or(StoreError::Closed)?;
        super::blocking(move || last(work)).await
    }
}

#[async_trait]
impl BlobWriter for LocalWriter {
    fn offset(&self) -> u64 {
        self.offset
    }

    async fn write(&mut self, chunk: Bytes) -> Result<(), StoreError> {
        self.offset += chunk.len() as u64;
        self.waiting_bytes += chunk.len();
        self.waiting.push(chunk);
        let busy = self.running.as_ref().is_some_and(|running| !running.is_finished());
        if busy && self.waiting_bytes < QUEUE {
            return Ok(());
        }
        self.hand_over().await
    }

    async fn park(self: Box<Self>) -> Result<u64, StoreError> {
        self.end(|work| Ok(work.offset)).await
    }

    async fn commit(self: Box<Self>, digest: &Digest) -> Result<u64, StoreError> {
        let digest = digest.clone();
        self.end(move |work| work.commit(&digest)).await
    }
}

/// An upload's file and its hash so far. Dropped, the upload is parked.
struct Work {
    claim: Claim,
    file: File,
    /// None: it is not known, or need not be: the upload has ended, or failed.
    hasher: Option<Hasher>,
    offset: u64,
    /// Up to where the disk has been told to write.
    flushed: u64,
    flushing: Option<JoinHandle<()>>,
}

impl Work {
    fn write(&mut self, chunks: &[Bytes]) -> Result<(), StoreError> {
        for chunk in chunks {
            self.file.write_all(chunk).map_err(io("write", &self.claim.path))?;
            self.offset += chunk.len() as u64;
        }
        self.flush_ahead();
        Ok(())
    }

    /// Has what came so far written to the disk while more comes, so that the last flush, for which
    /// everybody waits, has little left to do.
    fn flush_ahead(&mut self) {
        let idle = self.flushing.as_ref().is_none_or(JoinHandle::is_finished);
        if idle
            && self.offset - self.flushed >= FLUSH_EACH
            && let Ok(file) = self.file.try_clone()
        {
            self.flushed = self.offset;
            self.flushing = Some(spawn_blocking(move || {
                // A failure comes again with the last flush, which is the one that counts.
                let _ = file.sync_data();
            }));
        }
    }

    fn commit(mut self, digest: &Digest) -> Result<u64, StoreError> {
        let path = self.claim.path.clone();
        let hasher = self.hasher.take().ok_or(StoreError::Closed)?;
        let hasher = match digest.algorithm() {
            Algorithm::Sha256 => hasher,
            // Which algorithm is wanted is known only now.
            Algorithm::Sha512 => {
                hash(&mut self.file, Algorithm::Sha512).map_err(io("read", &path))?
            }
        };
        let actual = hasher.finish();
        if actual != *digest {
            fs::remove_file(&path).map_err(io("remove", &path))?;
            return Err(StoreError::Mismatch { expected: digest.clone(), actual });
        }
        self.file.sync_all().map_err(io("flush", &path))?;
        self.claim.inner.settle(&path, digest)?;
        Ok(self.offset)
    }
}

impl Drop for Work {
    fn drop(&mut self) {
        let Some(hasher) = self.hasher.take().filter(|_| !self.claim.once) else { return };
        let mut states = self.claim.inner.states();
        if states.len() < super::PARKED {
            states.insert(self.claim.id, State::Parked(Box::new(hasher), self.offset));
        } else {
            states.remove(&self.claim.id);
        }
    }
}
