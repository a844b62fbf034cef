//! A blob store in a local folder.
//!
//! `blobs/ALGORITHM/XX/HEX` holds content, `uploads/ID` what is not finished. An upload is written
//! and hashed beside the network, through a short queue; it is flushed, and renamed into its place
//! only when its digest is right.

mod crowd;
mod lane;
mod output;
mod reader;
mod stage;
mod writer;

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::ops::Range;
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use async_trait::async_trait;
use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::task::spawn_blocking;

use crate::blobs::{BlobReader, BlobStore, BlobWriter, Purpose, Stored, UploadId};
use crate::error::StoreError;
use crate::local::crowd::Crowd;
use crate::local::output::Output;
use crate::local::reader::{PIECE, Pieces, read_piece};
use crate::local::writer::{Claim, LocalWriter};

/// Parked uploads whose hash is remembered; others are hashed again when they are resumed.
const PARKED: usize = 1024;

/// The ending of the files of uploads that nobody takes up again.
const ONCE: &str = "once";
/// The folder of content that was found damaged.
const QUARANTINE: &str = "quarantine";

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
    crowd: Crowd,
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
        let (root, uploads, crowd) = (root.to_owned(), Mutex::default(), Crowd::new());
        Self { inner: Arc::new(Inner { root, form, uploads, crowd }) }
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

    /// What a store keeps is for its owner alone; a layout is for whoever is given it.
    fn private<'o>(&self, options: &'o mut OpenOptions) -> &'o mut OpenOptions {
        match self.form {
            Form::Sharded => options.mode(0o600),
            Form::Flat => options,
        }
    }

    fn upload(&self, id: UploadId) -> PathBuf {
        self.incoming().join(id.to_string())
    }

    /// Makes the file of an upload that nobody takes up again. It is locked as long as its process
    /// lives.
    fn once(&self, id: UploadId) -> Result<(File, PathBuf), StoreError> {
        let path = self.incoming().join(format!("{id}.{ONCE}"));
        loop {
            let mut options = OpenOptions::new();
            options.read(true).write(true).create_new(true);
            let file = self.private(&mut options).open(&path);
            let file = file.map_err(io("write", &path))?;
            file.lock().map_err(io("lock", &path))?;
            // Between the two, somebody may have taken it for one that was left behind.
            if path.exists() {
                return Ok((file, path));
            }
        }
    }

    /// The blobs whose digests begin with a byte.
    fn part(&self, part: u8) -> Result<Vec<Stored>, StoreError> {
        let mut found = Vec::new();
        let first = format!("{part:02x}");
        for algorithm in [Algorithm::Sha256, Algorithm::Sha512] {
            let folder = self.root.join("blobs").join(algorithm.name());
            let folder = if self.form == Form::Sharded { folder.join(&first) } else { folder };
            let entries = match fs::read_dir(&folder) {
                Ok(entries) => entries,
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
                Err(error) => return Err(io("read", &folder)(error)),
            };
            for entry in entries {
                let entry = entry.map_err(io("read", &folder))?;
                let name = entry.file_name();
                let Some(name) = name.to_str().filter(|name| name.starts_with(&first)) else {
                    continue;
                };
                let Ok(digest) = format!("{}:{name}", algorithm.name()).parse::<Digest>() else {
                    continue;
                };
                // One that goes away meanwhile was removed by somebody else.
                let Ok(metadata) = entry.metadata() else { continue };
                found.push(Stored { digest, size: metadata.len(), age: age(&metadata) });
            }
        }
        found.sort_by(|a, b| a.digest.cmp(&b.digest));
        Ok(found)
    }

    fn states(&self) -> MutexGuard<'_, HashMap<UploadId, State>> {
        self.uploads.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Moves a finished file to its place. The file itself is flushed already; the folder's entry
    /// is flushed here, so that the blob is there after a power cut too.
    fn settle(&self, from: &Path, digest: &Digest) -> Result<(), StoreError> {
        // One that is there already is replaced, so that it is young again, and whole should it have
        // been damaged.
        let to = self.blob(digest);
        let folder = to.parent().unwrap_or(&self.root);
        let flush = |folder: &Path| {
            File::open(folder).and_then(|open| open.sync_all()).map_err(io("flush", folder))
        };
        if !folder.is_dir() {
            fs::create_dir_all(folder).map_err(io("make", folder))?;
            // A folder that is new must be there after a power cut as well.
            folder.ancestors().skip(1).take_while(|up| *up != self.root).try_for_each(flush)?;
            flush(&self.root)?;
        }
        fs::rename(from, &to).map_err(io("write", &to))?;
        flush(folder)
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
        let length = range.end.saturating_sub(range.start);
        blocking(move || {
            let file = File::open(&path).map_err(|error| match error.kind() {
                std::io::ErrorKind::NotFound => StoreError::NotFound(name),
                _ => io("read", &path)(error),
            })?;
            // What fits into one piece is read where the file was opened.
            let Some(length) = usize::try_from(length).ok().filter(|length| *length <= PIECE)
            else {
                return Ok(BlobReader::new(Pieces::new(Arc::new((file, path)), range)));
            };
            let piece = read_piece(&file, &path, range.start, length)?;
            Ok(BlobReader::new(futures_util::stream::iter([Ok(piece)])))
        })
        .await
    }

    async fn begin(&self) -> Result<UploadId, StoreError> {
        let id = UploadId::fresh();
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let mut options = OpenOptions::new();
            options.write(true).create_new(true);
            inner.private(&mut options).open(&path).map(drop).map_err(io("write", &path))
        })
        .await?;
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
        let output = Output::new(file, offset);
        Ok(Box::new(LocalWriter::new(claim, output, hasher, Purpose::Read)?))
    }

    async fn write_once(&self, purpose: Purpose) -> Result<Box<dyn BlobWriter>, StoreError> {
        let id = UploadId::fresh();
        let inner = Arc::clone(&self.inner);
        let (file, path) = blocking(move || inner.once(id)).await?;
        let claim = Claim { inner: Arc::clone(&self.inner), id, path, once: true };
        let output = Output::new(file, 0);
        let hasher = Hasher::new(Algorithm::Sha256);
        Ok(Box::new(LocalWriter::new(claim, output, hasher, purpose)?))
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
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let _locked = claim_file(&path, id)?;
            fs::remove_file(&path).map_err(|e| upload_error(e, id, &path))?;
            inner.states().remove(&id);
            Ok(())
        })
        .await
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
                let idle = entry.metadata().ok().map(|metadata| self::age(&metadata));
                // A file that goes away meanwhile was finished or given up by its owner.
                if let Some(id) = id
                    && idle.is_some_and(|idle| idle >= age)
                    && !matches!(inner.states().get(&id), Some(State::Active))
                    && let Ok(locked) = claim_file(&entry.path(), id)
                    // Somebody may have written to it since it was listed.
                    && locked.metadata().is_ok_and(|metadata| self::age(&metadata) >= age)
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
            let there = inner.blob(&digest);
            if let Ok(file) = File::open(&there) {
                // Young again, so that no collection takes it before it is recorded.
                return file.set_modified(SystemTime::now()).map_err(io("touch", &there));
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

    async fn part(&self, part: u8) -> Result<Vec<Stored>, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || inner.part(part)).await
    }

    async fn quarantine(&self, digest: &Digest) -> Result<Option<String>, StoreError> {
        let inner = Arc::clone(&self.inner);
        let digest = digest.clone();
        blocking(move || {
            let folder = inner.root.join(QUARANTINE);
            fs::create_dir_all(&folder).map_err(io("make", &folder))?;
            let aside = folder.join(format!("{}-{}", digest.algorithm().name(), digest.hex()));
            match fs::rename(inner.blob(&digest), &aside) {
                Ok(()) => {
                    Ok(Some(format!("{QUARANTINE}/{}-{}", digest.algorithm().name(), digest.hex())))
                }
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
                Err(error) => Err(io("write", &aside)(error)),
            }
        })
        .await
    }

    async fn room(&self) -> Result<Option<u64>, StoreError> {
        let root = self.inner.root.clone();
        blocking(move || {
            let state =
                rustix::fs::statvfs(&root).map_err(|error| io("measure", &root)(error.into()))?;
            Ok(Some(state.f_bavail.saturating_mul(state.f_frsize)))
        })
        .await
    }

    fn is_there(&self, digest: &Digest) -> Result<bool, StoreError> {
        let path = self.inner.blob(digest);
        path.try_exists().map_err(io("read", &path))
    }

    fn free(&self, digest: &Digest, grace: Duration) -> Result<Option<u64>, StoreError> {
        let path = self.inner.blob(digest);
        let metadata = match fs::metadata(&path) {
            Ok(metadata) => metadata,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(io("read", &path)(error)),
        };
        if age(&metadata) < grace {
            return Ok(None);
        }
        fs::remove_file(&path).map_err(io("remove", &path))?;
        Ok(Some(metadata.len()))
    }
}

/// How long ago a file was written. One from the future was written now.
fn age(metadata: &fs::Metadata) -> Duration {
    let written = metadata.modified().ok();
    written.and_then(|written| written.elapsed().ok()).unwrap_or_default()
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

/// Opens an upload's file and locks it: as long as it is open, nobody else writes to it or removes it, in this
/// process or another one.
///
/// # Errors
/// [`StoreError::Busy`] while somebody has it; [`StoreError::NotFound`] when it was finished or given up.
fn claim_file(path: &Path, id: UploadId) -> Result<File, StoreError> {
    let missing = |error| upload_error(error, id, path);
    let file = OpenOptions::new().read(true).write(true).open(path).map_err(missing)?;
    match file.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => return Err(StoreError::Busy(id.to_string())),
        Err(TryLockError::Error(error)) => return Err(io("lock", path)(error)),
    }
    // Between the two it may have been finished: then this is a blob's file by now.
    let (ours, there) = (file.metadata(), fs::metadata(path).map_err(missing)?);
    let ours = ours.map_err(io("read", path))?;
    if (ours.dev(), ours.ino()) != (there.dev(), there.ino()) {
        return Err(StoreError::NotFound(format!("upload {id}")));
    }
    Ok(file)
}

/// Opens an upload's file at its end. What an earlier process wrote is hashed again: its hash
/// went with it.
fn reopen(
    path: &Path,
    id: UploadId,
    parked: Option<(Hasher, u64)>,
) -> Result<(File, Hasher, u64), StoreError> {
    let mut file = claim_file(path, id)?;
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
