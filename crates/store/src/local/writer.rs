//! Writing an upload: hashed by one thread and written by another, which are taken only while there is
//! something to do, so that a slow sender holds none.

use std::fs::{self, File};
use std::path::PathBuf;
use std::sync::Arc;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::FutureExt as _;
use futures_util::future::BoxFuture;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::sync::watch;
use tokio::task::{AbortHandle, JoinError, JoinHandle, spawn_blocking};

use super::output::Output;
use super::reader::Pieces;
use super::{Inner, State, hash, io};
use crate::blobs::{BlobReader, BlobWriter, Growing, UploadId};
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
    both: BoxFuture<'static, (Result<Hasher, JoinError>, Result<Written, JoinError>)>,
    handles: [AbortHandle; 2],
}

type Written = (Work, Result<(), StoreError>);

impl Running {
    fn new(hashing: JoinHandle<Hasher>, writing: JoinHandle<Written>) -> Self {
        let handles = [hashing.abort_handle(), writing.abort_handle()];
        Self { both: futures_util::future::join(hashing, writing).boxed(), handles }
    }

    fn is_finished(&self) -> bool {
        self.handles.iter().all(AbortHandle::is_finished)
    }
}

pub(super) struct LocalWriter {
    /// None: a thread has it.
    idle: Option<Work>,
    running: Option<Running>,
    waiting: Vec<Bytes>,
    waiting_bytes: usize,
    offset: u64,
    path: PathBuf,
    written: Arc<watch::Sender<u64>>,
}

impl LocalWriter {
    pub fn new(claim: Claim, output: Output, hasher: Hasher) -> Self {
        let offset = output.position();
        let (path, written) = (claim.path.clone(), Arc::new(watch::Sender::new(offset)));
        let work = Work {
            claim,
            output,
            hasher: Some(hasher),
            offset,
            written: Arc::clone(&written),
            flushed: offset,
            flushing: None,
        };
        let (idle, waiting) = (Some(work), Vec::new());
        Self { idle, running: None, waiting, waiting_bytes: 0, offset, path, written }
    }

    /// Waits for the thread, if one is busy, and hands it what waits.
    async fn hand_over(&mut self) -> Result<(), StoreError> {
        if let Some(running) = &mut self.running {
            let (hasher, written) = (&mut running.both).await;
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
        self.running = Some(Running::new(hashing, writing));
        Ok(())
    }

    /// All that came is written; then the work is done to its end on a thread that may wait.
    async fn end<T: Send + 'static>(
        mut self: Box<Self>,
        last: impl FnOnce(Work) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.advance().await?;
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

    fn growing(&self) -> Result<Growing, StoreError> {
        let file = File::open(&self.path).map_err(io("read", &self.path))?;
        let file = Arc::new((file, self.path.clone()));
        let open = move |range| BlobReader::new(Pieces::new(Arc::clone(&file), range));
        Ok(Growing::new(self.written.subscribe(), open))
    }

    async fn advance(&mut self) -> Result<(), StoreError> {
        self.hand_over().await?;
        self.hand_over().await
    }

    async fn has_digest(&mut self, digest: &Digest) -> Result<bool, StoreError> {
        self.advance().await?;
        let mut work = self.idle.take().ok_or(StoreError::Closed)?;
        let wanted = digest.clone();
        let (work, same) = super::blocking(move || {
            let same = work.digest(wanted.algorithm()).map(|actual| actual == wanted);
            Ok((work, same))
        })
        .await?;
        self.idle = Some(work);
        same
    }

    async fn park(self: Box<Self>) -> Result<u64, StoreError> {
        self.end(|mut work| work.settle().map(drop).map(|()| work.offset)).await
    }

    async fn commit(self: Box<Self>, digest: &Digest) -> Result<u64, StoreError> {
        let digest = digest.clone();
        self.end(move |work| work.commit(&digest)).await
    }
}

/// An upload's file and its hash so far. Dropped, the upload is parked.
struct Work {
    claim: Claim,
    output: Output,
    /// None: it is not known, or need not be: the upload has ended, or failed.
    hasher: Option<Hasher>,
    /// How much was given; some of it may still be in memory.
    offset: u64,
    written: Arc<watch::Sender<u64>>,
    /// Up to where the disk has been told to write.
    flushed: u64,
    flushing: Option<JoinHandle<()>>,
}

impl Work {
    fn write(&mut self, chunks: &[Bytes]) -> Result<(), StoreError> {
        for chunk in chunks {
            let read_along = self.written.receiver_count() > 0;
            let written = self.output.write(chunk, read_along);
            written.map_err(io("write", &self.claim.path))?;
            self.offset += chunk.len() as u64;
            self.written.send_replace(self.output.position());
        }
        self.flush_ahead();
        Ok(())
    }

    /// Writes what is still in memory.
    fn settle(&mut self) -> Result<&mut File, StoreError> {
        let path = &self.claim.path;
        let file = self.output.settle().map_err(io("write", path))?;
        self.written.send_replace(self.offset);
        Ok(file)
    }

    /// Has what came so far written to the disk while more comes, so that the last flush, for which
    /// everybody waits, has little left to do.
    fn flush_ahead(&mut self) {
        let idle = self.flushing.as_ref().is_none_or(JoinHandle::is_finished);
        if idle
            && !self.output.is_direct()
            && self.offset - self.flushed >= FLUSH_EACH
            && let Ok(file) = self.output.try_clone()
        {
            self.flushed = self.offset;
            self.flushing = Some(spawn_blocking(move || {
                // A failure comes again with the last flush, which is the one that counts.
                let _ = file.sync_data();
            }));
        }
    }

    /// The digest of all that was written.
    fn digest(&mut self, algorithm: Algorithm) -> Result<Digest, StoreError> {
        let hasher = match algorithm {
            Algorithm::Sha256 => self.hasher.clone().ok_or(StoreError::Closed)?,
            // Which algorithm is wanted is known only now.
            Algorithm::Sha512 => {
                let path = self.claim.path.clone();
                hash(self.settle()?, Algorithm::Sha512).map_err(io("read", &path))?
            }
        };
        Ok(hasher.finish())
    }

    fn commit(mut self, digest: &Digest) -> Result<u64, StoreError> {
        let path = self.claim.path.clone();
        let actual = self.digest(digest.algorithm())?;
        self.hasher = None;
        if actual != *digest {
            fs::remove_file(&path).map_err(io("remove", &path))?;
            return Err(StoreError::Mismatch { expected: digest.clone(), actual });
        }
        self.settle()?.sync_all().map_err(io("flush", &path))?;
        self.claim.inner.settle(&path, digest)?;
        Ok(self.offset)
    }
}

impl Drop for Work {
    fn drop(&mut self) {
        let Some(hasher) = self.hasher.take().filter(|_| !self.claim.once) else { return };
        // What cannot be written is not there; the hash of the rest is found again from the file.
        let whole = self.settle().is_ok();
        let mut states = self.claim.inner.states();
        if whole && states.len() < super::PARKED {
            states.insert(self.claim.id, State::Parked(Box::new(hasher), self.offset));
        } else {
            states.remove(&self.claim.id);
        }
    }
}
