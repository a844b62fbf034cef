//! A blob store in a local folder.
//!
//! `blobs/ALGORITHM/XX/HEX` holds content, `uploads/ID` what is not finished. An upload is written
//! and hashed by a thread of its own, fed through a short queue, so that hashing and the network
//! go on side by side; it is flushed, and renamed into its place only when its digest is right.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{Read, Seek as _, SeekFrom, Write as _};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::sync::{mpsc, oneshot};
use tokio::task::{JoinHandle, spawn_blocking};

use crate::blobs::{BlobReader, BlobStore, BlobWriter, UploadId};
use crate::error::StoreError;

/// Bytes that are read at once; two such pieces wait for a reader at most.
const PIECE: usize = 512 * 1024;
/// Pieces from the network that wait for the disk.
const QUEUE: usize = 16;
/// Parked uploads whose hash is remembered; others are hashed again when they are resumed.
const PARKED: usize = 1024;

/// Bytes after which the disk is told to write what came so far.
const FLUSH_EACH: u64 = 32 * 1024 * 1024;
/// The ending of the files of uploads that nobody takes up again.
const ONCE: &str = "once";

/// Content in a local folder.
#[derive(Clone)]
pub struct LocalBlobs {
    inner: Arc<Inner>,
}

/// How the folder is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    /// A store's: content in many small folders.
    Sharded,
    /// An OCI image layout's: content in one folder for each algorithm (Image Layout
    /// Specification, "Content").
    Flat,
}

struct Inner {
    root: PathBuf,
    form: Form,
    uploads: Mutex<HashMap<UploadId, State>>,
}

/// What is known of an upload in this process.
enum State {
    Active,
    Parked(Box<Hasher>, u64),
}

impl LocalBlobs {
    /// Opens a store's folder, making it where it is missing.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        let blobs = Self::new(root, Form::Sharded);
        blobs.make_folders()?;
        Ok(blobs)
    }

    /// Opens the blobs of an OCI image layout for reading; nothing is made or written.
    pub fn of_layout(root: &Path) -> Self {
        Self::new(root, Form::Flat)
    }

    /// Opens the blobs of an OCI image layout for writing, making the folders where they are
    /// missing. What is not finished lies in `.incoming`, which is no part of the layout.
    pub fn make_layout(root: &Path) -> Result<Self, StoreError> {
        let blobs = Self::new(root, Form::Flat);
        blobs.make_folders()?;
        Ok(blobs)
    }

    fn new(root: &Path, form: Form) -> Self {
        Self { inner: Arc::new(Inner { root: root.to_owned(), form, uploads: Mutex::default() }) }
    }

    fn make_folders(&self) -> Result<(), StoreError> {
        for folder in [self.inner.root.join("blobs"), self.inner.incoming()] {
            fs::create_dir_all(&folder)
                .map_err(StoreError::io(format!("cannot make the folder {}", folder.display())))?;
        }
        Ok(())
    }
}

impl Inner {
    fn blob(&self, digest: &Digest) -> PathBuf {
        let hex = digest.hex();
        let folder = self.root.join("blobs").join(digest.algorithm().name());
        match self.form {
            Form::Sharded => folder.join(&hex[..2]).join(hex),
            Form::Flat => folder.join(hex),
        }
    }

    /// Where uploads lie that are not finished.
    fn incoming(&self) -> PathBuf {
        self.root.join(match self.form {
            Form::Sharded => "uploads",
            Form::Flat => ".incoming",
        })
    }

    fn upload(&self, id: UploadId) -> PathBuf {
        self.incoming().join(id.to_string())
    }

    /// Makes the file of an upload that nobody takes up again. It is locked as long as its process
    /// lives.
    fn once(&self, id: UploadId) -> Result<(File, PathBuf), StoreError> {
        let path = self.incoming().join(format!("{id}.{ONCE}"));
        loop {
            let file = OpenOptions::new().read(true).write(true).create_new(true).open(&path);
            let file = file.map_err(io("write", &path))?;
            file.lock().map_err(io("lock", &path))?;
            // Between the two, somebody may have taken it for one that was left behind.
            if path.exists() {
                return Ok((file, path));
            }
        }
    }

    fn states(&self) -> MutexGuard<'_, HashMap<UploadId, State>> {
        self.uploads.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Moves a finished file to its place. The file itself is flushed already; the folder's entry
    /// is flushed here, so that the blob is there after a power cut too.
    fn settle(&self, from: &Path, digest: &Digest) -> Result<(), StoreError> {
        let to = self.blob(digest);
        if to.exists() {
            return fs::remove_file(from).map_err(io("remove", from));
        }
        let folder = to.parent().unwrap_or(&self.root);
        fs::create_dir_all(folder).map_err(io("make", folder))?;
        fs::rename(from, &to).map_err(io("write", &to))?;
        File::open(folder).and_then(|folder| folder.sync_all()).map_err(io("flush", folder))
    }
}

fn io(verb: &str, path: &Path) -> impl FnOnce(std::io::Error) -> StoreError {
    StoreError::io(format!("cannot {verb} {}", path.display()))
}

/// Runs what waits for the disk on a thread that may wait.
async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, StoreError> + Send + 'static,
) -> Result<T, StoreError> {
    spawn_blocking(work).await.map_err(|_| StoreError::Closed)?
}

#[async_trait]
impl BlobStore for LocalBlobs {
    async fn size(&self, digest: &Digest) -> Result<Option<u64>, StoreError> {
        let path = self.inner.blob(digest);
        blocking(move || match fs::metadata(&path) {
            Ok(metadata) => Ok(Some(metadata.len())),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(io("read", &path)(error)),
        })
        .await
    }

    async fn read(&self, digest: &Digest, range: Range<u64>) -> Result<BlobReader, StoreError> {
        let path = self.inner.blob(digest);
        let name = digest.to_string();
        let opened = path.clone();
        let mut file = blocking(move || match File::open(&opened) {
            Ok(file) => Ok(file),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                Err(StoreError::NotFound(name))
            }
            Err(error) => Err(io("read", &opened)(error)),
        })
        .await?;
        let (pieces, reader) = mpsc::channel(2);
        spawn_blocking(move || {
            let mut read = || -> Result<(), StoreError> {
                if range.start > 0 {
                    file.seek(SeekFrom::Start(range.start)).map_err(io("read", &path))?;
                }
                let mut left = range.end.saturating_sub(range.start);
                while left > 0 {
                    let want = usize::try_from(left).unwrap_or(PIECE).min(PIECE);
                    let mut piece = Vec::with_capacity(want);
                    let taken = Read::by_ref(&mut file).take(want as u64).read_to_end(&mut piece);
                    if taken.map_err(io("read", &path))? < want {
                        let short = std::io::ErrorKind::UnexpectedEof.into();
                        return Err(io("read", &path)(short));
                    }
                    left -= want as u64;
                    // The reader has gone: nobody misses the rest.
                    if pieces.blocking_send(Ok(piece.into())).is_err() {
                        return Ok(());
                    }
                }
                Ok(())
            };
            if let Err(error) = read() {
                let _ = pieces.blocking_send(Err(error));
            }
        });
        Ok(BlobReader::new(reader))
    }

    async fn begin(&self) -> Result<UploadId, StoreError> {
        let id = UploadId::fresh();
        let path = self.inner.upload(id);
        blocking(move || File::create_new(&path).map(drop).map_err(io("write", &path))).await?;
        Ok(id)
    }

    async fn resume(&self, id: UploadId) -> Result<Box<dyn BlobWriter>, StoreError> {
        let parked = match self.inner.states().insert(id, State::Active) {
            Some(State::Active) => return Err(StoreError::Busy(id.to_string())),
            Some(State::Parked(hasher, offset)) => Some((*hasher, offset)),
            None => None,
        };
        // From here on the upload is ours; the guard lets go of it on every way out.
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        let claim = Claim { inner, id, path: path.clone(), once: false };
        let (file, hasher, offset) = blocking(move || reopen(&path, id, parked)).await?;
        Ok(Box::new(LocalWriter::start(claim, file, hasher, offset)))
    }

    async fn write_once(&self) -> Result<Box<dyn BlobWriter>, StoreError> {
        let id = UploadId::fresh();
        let inner = Arc::clone(&self.inner);
        let (file, path) = blocking(move || inner.once(id)).await?;
        let claim = Claim { inner: Arc::clone(&self.inner), id, path, once: true };
        Ok(Box::new(LocalWriter::start(claim, file, Hasher::new(Algorithm::Sha256), 0)))
    }

    async fn uploaded(&self, id: UploadId) -> Result<u64, StoreError> {
        let path = self.inner.upload(id);
        blocking(move || {
            fs::metadata(&path).map(|m| m.len()).map_err(|e| upload_error(e, id, &path))
        })
        .await
    }

    async fn cancel(&self, id: UploadId) -> Result<(), StoreError> {
        if matches!(self.inner.states().get(&id), Some(State::Active)) {
            return Err(StoreError::Busy(id.to_string()));
        }
        self.inner.states().remove(&id);
        let path = self.inner.upload(id);
        blocking(move || fs::remove_file(&path).map_err(|e| upload_error(e, id, &path))).await
    }

    async fn remove_abandoned(&self, age: Duration) -> Result<usize, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let folder = inner.incoming();
            let mut removed = 0;
            for entry in fs::read_dir(&folder).map_err(io("read", &folder))?.flatten() {
                if entry.path().extension().is_some_and(|end| end == ONCE) {
                    removed += usize::from(remove_ended(&entry.path()));
                    continue;
                }
                let id = entry.file_name().to_str().and_then(|name| name.parse::<UploadId>().ok());
                let idle = entry.metadata().and_then(|metadata| metadata.modified());
                let idle = idle.ok().and_then(|since| since.elapsed().ok());
                // A file that goes away meanwhile was finished or given up by its owner.
                if let Some(id) = id
                    && idle.is_some_and(|idle| idle >= age)
                    && !matches!(inner.states().get(&id), Some(State::Active))
                    && fs::remove_file(entry.path()).is_ok()
                {
                    inner.states().remove(&id);
                    removed += 1;
                }
            }
            Ok(removed)
        })
        .await
    }

    async fn put(&self, digest: &Digest, content: Bytes) -> Result<(), StoreError> {
        let inner = Arc::clone(&self.inner);
        let digest = digest.clone();
        blocking(move || {
            let mut hasher = Hasher::new(digest.algorithm());
            hasher.update(&content);
            let actual = hasher.finish();
            if actual != digest {
                return Err(StoreError::Mismatch { expected: digest, actual });
            }
            if inner.blob(&digest).exists() {
                return Ok(());
            }
            let (mut file, path) = inner.once(UploadId::fresh())?;
            let written = file.write_all(&content).and_then(|()| file.sync_all());
            written
                .map_err(io("write", &path))
                .and_then(|()| inner.settle(&path, &digest))
                .inspect_err(|_| {
                    let _ = fs::remove_file(&path);
                })
        })
        .await
    }

    async fn remove(&self, digest: &Digest) -> Result<(), StoreError> {
        let path = self.inner.blob(digest);
        blocking(move || match fs::remove_file(&path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(io("remove", &path)(error))
            }
            _ => Ok(()),
        })
        .await
    }
}

/// Removes an upload whose process has ended. True: it is gone.
fn remove_ended(path: &Path) -> bool {
    let Ok(file) = OpenOptions::new().write(true).open(path) else { return false };
    file.try_lock().is_ok() && fs::remove_file(path).is_ok()
}

fn upload_error(error: std::io::Error, id: UploadId, path: &Path) -> StoreError {
    match error.kind() {
        std::io::ErrorKind::NotFound => StoreError::NotFound(format!("upload {id}")),
        _ => io("read", path)(error),
    }
}

/// Opens an upload's file at its end. What an earlier process wrote is hashed again: its hash
/// went with it.
fn reopen(
    path: &Path,
    id: UploadId,
    parked: Option<(Hasher, u64)>,
) -> Result<(File, Hasher, u64), StoreError> {
    let mut file = OpenOptions::new()
        .read(true)
        .write(true)
        .open(path)
        .map_err(|e| upload_error(e, id, path))?;
    let length = file.metadata().map_err(io("read", path))?.len();
    if let Some((hasher, offset)) = parked.filter(|(_, offset)| *offset == length) {
        file.seek(SeekFrom::End(0)).map_err(io("read", path))?;
        return Ok((file, hasher, offset));
    }
    let hasher = hash(&mut file, Algorithm::Sha256).map_err(io("read", path))?;
    Ok((file, hasher, length))
}

/// Hashes a file from its start and leaves it at its end.
fn hash(file: &mut File, algorithm: Algorithm) -> std::io::Result<Hasher> {
    file.seek(SeekFrom::Start(0))?;
    let mut hasher = Hasher::new(algorithm);
    let mut piece = vec![0; PIECE];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hasher),
            got => hasher.update(&piece[..got]),
        }
    }
}

/// That an upload is being written to. Dropped, it is free again, or gone.
struct Claim {
    inner: Arc<Inner>,
    id: UploadId,
    path: PathBuf,
    /// Whether nobody can take it up again.
    once: bool,
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

enum Order {
    Write(Bytes),
    Park(oneshot::Sender<Result<u64, StoreError>>),
    Commit(Digest, oneshot::Sender<Result<u64, StoreError>>),
}

/// The answer to the last order, and to whom it goes.
type Last = (oneshot::Sender<Result<u64, StoreError>>, Result<u64, StoreError>);

struct LocalWriter {
    orders: mpsc::Sender<Order>,
    offset: u64,
    failed: Arc<Mutex<Option<StoreError>>>,
}

impl LocalWriter {
    fn start(claim: Claim, file: File, hasher: Hasher, offset: u64) -> Self {
        let (orders, mut queue) = mpsc::channel(QUEUE);
        let failed = Arc::new(Mutex::new(None));
        let told = Arc::clone(&failed);
        spawn_blocking(move || {
            let flushed = offset;
            let mut work = Work { claim, file, hasher, offset, flushed, flushing: None };
            let outcome = work.run(&mut queue);
            // The upload is free, and a failure can be read, before the writer hears of the end.
            drop(work);
            match outcome {
                Ok(None) => {}
                Ok(Some((tell, answer))) => {
                    let _ = tell.send(answer);
                }
                Err(error) => *told.lock().unwrap_or_else(PoisonError::into_inner) = Some(error),
            }
            drop(queue);
        });
        Self { orders, offset, failed }
    }

    /// Why the writing thread has ended.
    fn cause(&self) -> StoreError {
        self.failed
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .take()
            .unwrap_or(StoreError::Closed)
    }

    async fn last(
        self: Box<Self>,
        order: impl FnOnce(oneshot::Sender<Result<u64, StoreError>>) -> Order + Send,
    ) -> Result<u64, StoreError> {
        let (tell, told) = oneshot::channel();
        if self.orders.send(order(tell)).await.is_err() {
            return Err(self.cause());
        }
        match told.await {
            Ok(outcome) => outcome,
            Err(_) => Err(self.cause()),
        }
    }
}

#[async_trait]
impl BlobWriter for LocalWriter {
    fn offset(&self) -> u64 {
        self.offset
    }

    async fn write(&mut self, chunk: Bytes) -> Result<(), StoreError> {
        let length = chunk.len() as u64;
        if self.orders.send(Order::Write(chunk)).await.is_err() {
            return Err(self.cause());
        }
        self.offset += length;
        Ok(())
    }

    async fn park(self: Box<Self>) -> Result<u64, StoreError> {
        self.last(Order::Park).await
    }

    async fn commit(self: Box<Self>, digest: &Digest) -> Result<u64, StoreError> {
        let digest = digest.clone();
        self.last(|tell| Order::Commit(digest, tell)).await
    }
}

/// The writing thread's own.
struct Work {
    claim: Claim,
    file: File,
    hasher: Hasher,
    offset: u64,
    /// Up to where the disk has been told to write.
    flushed: u64,
    flushing: Option<JoinHandle<()>>,
}

impl Work {
    /// Carries out orders until the last one, and gives what it is to be answered. None: the
    /// writer was dropped, which is as if it had parked the upload.
    fn run(&mut self, queue: &mut mpsc::Receiver<Order>) -> Result<Option<Last>, StoreError> {
        while let Some(order) = queue.blocking_recv() {
            match order {
                Order::Write(chunk) => {
                    self.file.write_all(&chunk).map_err(io("write", &self.claim.path))?;
                    self.hasher.update(&chunk);
                    self.offset += chunk.len() as u64;
                    self.flush_ahead();
                }
                Order::Park(tell) => {
                    self.remember();
                    return Ok(Some((tell, Ok(self.offset))));
                }
                Order::Commit(digest, tell) => {
                    let answer = self.commit(&digest);
                    return Ok(Some((tell, answer)));
                }
            }
        }
        self.remember();
        Ok(None)
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

    fn remember(&self) {
        if self.claim.once {
            return;
        }
        let mut states = self.claim.inner.states();
        if states.len() < PARKED {
            states.insert(self.claim.id, State::Parked(Box::new(self.hasher.clone()), self.offset));
        } else {
            states.remove(&self.claim.id);
        }
    }

    fn commit(&mut self, digest: &Digest) -> Result<u64, StoreError> {
        let inner = &self.claim.inner;
        let path = self.claim.path.clone();
        let hasher = match digest.algorithm() {
            Algorithm::Sha256 => self.hasher.clone(),
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
        inner.settle(&path, digest)?;
        Ok(self.offset)
    }
}
