//! A local folder of content, and of uploads that are not finished.
//!
//! An upload is written and hashed beside the network, through a short queue; it is flushed, and renamed into its
//! place only when its digest is right.

mod crowd;
mod lane;
mod objects;
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

use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::task::spawn_blocking;

use crate::blobs::{BlobReader, Purpose, UploadId};
use crate::error::StoreError;
use crate::local::crowd::Crowd;
use crate::local::output::BlobOutput;
use crate::local::reader::{PIECE, Pieces, read_piece};
use crate::local::writer::Claim;

pub use writer::BlobWriter;

/// Parked uploads whose hash is remembered; others are hashed again when they are resumed.
const PARKED: usize = 1024;

/// The ending of the files of uploads that nobody takes up again.
const ONCE: &str = "once";
/// The folder of content that was found damaged.
const QUARANTINE: &str = "quarantine";
/// The folder of objects.
const CONTENT: &str = "content";
/// The folder of content that lies under its digest alone.
pub(crate) const BLOBS: &str = "blobs";
/// The folder of uploads that are not finished.
const UPLOADS: &str = "uploads";

/// A folder in which content lies under names that tell its digest.
#[derive(Clone)]
pub(crate) struct Folder {
    inner: Arc<BlobsInner>,
}

/// How the folder is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum FolderForm {
    /// A store's: each object under a name of its own, in many small folders.
    Objects,
    /// A backup's: content in many small folders, each once.
    Sharded,
    /// An OCI image layout's: content in one folder for each algorithm (Image Layout
    /// Specification, "Content").
    Flat,
}

struct BlobsInner {
    root: PathBuf,
    form: FolderForm,
    uploads: Mutex<HashMap<UploadId, UploadState>>,
    crowd: Crowd,
}

/// What is known of an upload in this process.
enum UploadState {
    Active,
    Parked(Box<Hasher>, u64),
}

/// Content that has been verified, flushed and given its place.
///
/// Its file stays locked as long as this lives, so that nobody takes it for one that was left behind before it is recorded.
#[derive(Debug, Clone)]
pub(crate) struct SealedContent {
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// Where it lies in the folder.
    pub place: String,
    locked: Option<Arc<File>>,
}

impl SealedContent {
    /// Content that lies in no folder.
    #[cfg(feature = "replicas")]
    pub fn elsewhere(digest: Digest, size: u64, place: String) -> Self {
        Self { digest, size, place, locked: None }
    }

    /// The same once it has been taken elsewhere.
    #[cfg(feature = "replicas")]
    pub fn taken(self) -> Self {
        Self { locked: None, ..self }
    }

    /// Whether others see that somebody is about to record it.
    pub fn is_held(&self) -> bool {
        self.locked.is_some()
    }
}

impl Folder {
    /// Opens a folder; nothing is made or written.
    pub fn new(root: &Path, form: FolderForm) -> Self {
        let (root, uploads, crowd) = (root.to_owned(), Mutex::default(), Crowd::new());
        Self { inner: Arc::new(BlobsInner { root, form, uploads, crowd }) }
    }

    /// Opens a folder, making it where it is missing.
    pub fn make(root: &Path, form: FolderForm) -> Result<Self, StoreError> {
        let folder = Self::new(root, form);
        for path in [folder.inner.contents(), folder.inner.incoming()] {
            fs::create_dir_all(&path)
                .map_err(StoreError::io(format!("cannot make the folder {}", path.display())))?;
        }
        Ok(folder)
    }

    /// The place for content that is new: in a store one that nothing ever had or has again.
    pub fn fresh_place(&self, digest: &Digest) -> String {
        self.inner.fresh_place(digest)
    }

    /// Where content of a digest lies that lies under its digest alone.
    pub fn place_of(&self, digest: &Digest) -> String {
        self.inner.place_of(digest)
    }
}

impl BlobsInner {
    /// Where content lies that has its place.
    fn contents(&self) -> PathBuf {
        self.root.join(match self.form {
            FolderForm::Objects => CONTENT,
            FolderForm::Sharded | FolderForm::Flat => BLOBS,
        })
    }

    fn place_of(&self, digest: &Digest) -> String {
        let (name, hex) = (digest.algorithm().name(), digest.hex());
        match self.form {
            FolderForm::Objects | FolderForm::Sharded => {
                format!("{BLOBS}/{name}/{}/{hex}", &hex[..2])
            }
            FolderForm::Flat => format!("{BLOBS}/{name}/{hex}"),
        }
    }

    /// The place for content that is new: in a store one that nothing ever had or has again.
    fn fresh_place(&self, digest: &Digest) -> String {
        match self.form {
            FolderForm::Objects => {
                let (name, hex) = (digest.algorithm().name(), digest.hex());
                let object = uuid::Uuid::now_v7().simple();
                format!("{CONTENT}/{name}/{}/{hex}.{object}", &hex[..2])
            }
            FolderForm::Sharded | FolderForm::Flat => self.place_of(digest),
        }
    }

    fn at(&self, place: &str) -> PathBuf {
        self.root.join(place)
    }

    /// Where uploads lie that are not finished.
    fn incoming(&self) -> PathBuf {
        self.root.join(match self.form {
            FolderForm::Objects | FolderForm::Sharded => UPLOADS,
            FolderForm::Flat => ".incoming",
        })
    }

    /// What a store keeps is for its owner alone; a layout is for those who are given it.
    fn private<'o>(&self, options: &'o mut OpenOptions) -> &'o mut OpenOptions {
        match self.form {
            FolderForm::Objects | FolderForm::Sharded => options.mode(0o600),
            FolderForm::Flat => options,
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

    /// The files whose digests begin with a byte, below one of the folders of contents; without their sizes and ages
    /// where `bare`.
    fn part(&self, top: &str, part: u8, bare: bool) -> Result<Vec<Object>, StoreError> {
        let mut found = Vec::new();
        let first = format!("{part:02x}");
        for algorithm in [Algorithm::Sha256, Algorithm::Sha512] {
            let mut place = format!("{top}/{}", algorithm.name());
            if self.form != FolderForm::Flat {
                place = format!("{place}/{first}");
            }
            let folder = self.at(&place);
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
                let hex = name.split('.').next().unwrap_or_default();
                let Ok(digest) = format!("{}:{hex}", algorithm.name()).parse::<Digest>() else {
                    continue;
                };
                let mut object = Object {
                    digest,
                    place: format!("{place}/{name}"),
                    size: 0,
                    age: Duration::ZERO,
                };
                if !bare {
                    // One that goes away meanwhile was removed by somebody else.
                    let Ok(metadata) = entry.metadata() else { continue };
                    (object.size, object.age) = (metadata.len(), age(&metadata));
                }
                found.push(object);
            }
        }
        found.sort_by(|a, b| (&a.digest, &a.place).cmp(&(&b.digest, &b.place)));
        Ok(found)
    }

    fn states(&self) -> MutexGuard<'_, HashMap<UploadId, UploadState>> {
        self.uploads.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The uploads that are not finished, each with its file.
    fn unfinished(&self) -> Result<Vec<(PathBuf, UnfinishedUpload)>, StoreError> {
        let folder = self.incoming();
        let entries = fs::read_dir(&folder).map_err(io("read", &folder))?;
        let mut found = Vec::new();
        for entry in entries {
            let entry = entry.map_err(io("read", &folder))?;
            let path = entry.path();
            let id = entry.file_name().to_str().and_then(|name| name.parse::<UploadId>().ok());
            if id.is_none() && path.extension().is_none_or(|end| end != ONCE) {
                continue;
            }
            // One that goes away meanwhile was finished or given up.
            let Ok(metadata) = entry.metadata() else { continue };
            found
                .push((path, UnfinishedUpload { id, bytes: metadata.len(), idle: age(&metadata) }));
        }
        Ok(found)
    }

    /// Moves a finished file to its place. The file itself is flushed already; the folder's entry is flushed here, so that
    /// it is there after a power cut too.
    fn settle(&self, from: &Path, place: &str) -> Result<(), StoreError> {
        // Where content lies under its digest alone, one that is there already is replaced: it is whole then, should it
        // have been damaged.
        let to = self.at(place);
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

/// A file of the folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Object {
    /// What its name says that its digest is.
    pub digest: Digest,
    pub place: String,
    /// Its size in bytes.
    pub size: u64,
    /// How long ago it was written.
    pub age: Duration,
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

/// Who has what lies at a place.
#[derive(Debug)]
pub(crate) enum UploadHolder {
    /// Nothing lies there.
    Nothing,
    /// Somebody has just written it, and is about to record it.
    Theirs,
    /// We have it, as long as this lives. Where nothing can be held, nobody else has it.
    Ours(Option<File>),
}

/// An upload that is not finished.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct UnfinishedUpload {
    /// Its name. None: nobody can take it up again.
    pub id: Option<UploadId>,
    pub bytes: u64,
    /// How long ago somebody wrote to it.
    pub idle: Duration,
}

/// Uploads, and content by the place where it lies.
impl Folder {
    /// Opens a range of what lies at a place, which must lie within its size.
    pub async fn read(&self, place: &str, range: Range<u64>) -> Result<BlobReader, StoreError> {
        let (path, place) = (self.inner.at(place), place.to_owned());
        let length = range.end.saturating_sub(range.start);
        blocking(move || {
            let file = File::open(&path).map_err(|error| match error.kind() {
                std::io::ErrorKind::NotFound => StoreError::NotFound(place),
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

    /// The size in bytes of what lies at a place. None: nothing does.
    pub async fn size(&self, place: &str) -> Result<Option<u64>, StoreError> {
        let path = self.inner.at(place);
        blocking(move || match fs::metadata(&path) {
            Ok(metadata) => Ok(Some(metadata.len())),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(io("read", &path)(error)),
        })
        .await
    }

    /// Opens an upload with nothing in it.
    pub async fn begin(&self, id: UploadId) -> Result<(), StoreError> {
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let mut options = OpenOptions::new();
            options.write(true).create_new(true);
            inner.private(&mut options).open(&path).map(drop).map_err(io("write", &path))
        })
        .await
    }

    /// Takes up an upload.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn resume(&self, id: UploadId, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        let parked = match self.inner.states().insert(id, UploadState::Active) {
            Some(UploadState::Active) => return Err(StoreError::Busy(id.to_string())),
            Some(UploadState::Parked(hasher, offset)) => Some((*hasher, offset)),
            None => None,
        };
        // From here on the upload is ours; the guard releases it on every way out.
        let path = self.inner.upload(id);
        let inner = Arc::clone(&self.inner);
        let claim = Claim { inner, id, path: path.clone(), once: false };
        let (file, hasher, offset) = blocking(move || reopen(&path, id, parked)).await?;
        let output = BlobOutput::new(file, offset);
        BlobWriter::new(claim, output, hasher, purpose)
    }

    /// Opens an upload that nobody can take up again: as soon as its writer has ended, by whatever means, without
    /// having been sealed, nothing of it is kept.
    pub async fn write_once(&self, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        let id = UploadId::fresh();
        let inner = Arc::clone(&self.inner);
        let (file, path) = blocking(move || inner.once(id)).await?;
        let claim = Claim { inner: Arc::clone(&self.inner), id, path, once: true };
        let output = BlobOutput::new(file, 0);
        let hasher = Hasher::new(Algorithm::Sha256);
        BlobWriter::new(claim, output, hasher, purpose)
    }

    /// How many bytes an upload has.
    pub async fn uploaded(&self, id: UploadId) -> Result<u64, StoreError> {
        let path = self.inner.upload(id);
        blocking(move || {
            fs::metadata(&path).map(|m| m.len()).map_err(|e| upload_error(e, id, &path))
        })
        .await
    }

    /// Gives an upload up; nothing of it stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn cancel(&self, id: UploadId) -> Result<(), StoreError> {
        if matches!(self.inner.states().get(&id), Some(UploadState::Active)) {
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

    /// Gives up uploads that nobody has written to for `age`, whichever process began them, and those that nobody can
    /// take up again and whose process has ended, whatever their age. Gives them.
    pub async fn remove_abandoned(
        &self,
        age: Duration,
    ) -> Result<Vec<UnfinishedUpload>, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || {
            let mut removed = Vec::new();
            for (path, one) in inner.unfinished()? {
                let gone = match one.id {
                    None => remove_ended(&path),
                    Some(id) => {
                        let gone = one.idle >= age
                            && !matches!(inner.states().get(&id), Some(UploadState::Active))
                            && claim_file(&path, id).is_ok_and(|locked| {
                                // Somebody may have written to it since it was listed.
                                locked.metadata().is_ok_and(|metadata| self::age(&metadata) >= age)
                                    && fs::remove_file(&path).is_ok()
                            });
                        if gone {
                            inner.states().remove(&id);
                        }
                        gone
                    }
                };
                // A file that goes away meanwhile was finished or given up by its owner.
                if gone {
                    removed.push(one);
                }
            }
            Ok(removed)
        })
        .await
    }

    /// All uploads that are not finished.
    pub async fn unfinished(&self) -> Result<Vec<UnfinishedUpload>, StoreError> {
        let inner = Arc::clone(&self.inner);
        blocking(move || Ok(inner.unfinished()?.into_iter().map(|(_, one)| one).collect())).await
    }

    /// Keeps content that is at hand whole, which must have this digest, at a place.
    pub async fn put(
        &self,
        digest: &Digest,
        content: Bytes,
        place: String,
    ) -> Result<SealedContent, StoreError> {
        let inner = Arc::clone(&self.inner);
        let digest = digest.clone();
        blocking(move || {
            let mut hasher = Hasher::new(digest.algorithm());
            hasher.update(&content);
            let actual = hasher.finish();
            if actual != digest {
                return Err(StoreError::Mismatch { expected: digest, actual });
            }
            let size = content.len() as u64;
            if inner.form != FolderForm::Objects
                && let there = inner.at(&place)
                && let Ok(file) = File::open(&there)
            {
                // Young again, so that nobody takes it for one that was left behind.
                file.set_modified(SystemTime::now()).map_err(io("touch", &there))?;
                return Ok(SealedContent { digest, size, place, locked: Some(Arc::new(file)) });
            }
            let (mut file, path) = inner.once(UploadId::fresh())?;
            let written = file.write_all(&content).and_then(|()| file.sync_all());
            written
                .map_err(io("write", &path))
                .and_then(|()| inner.settle(&path, &place))
                .inspect_err(|_| {
                    let _ = fs::remove_file(&path);
                })?;
            Ok(SealedContent { digest, size, place, locked: Some(Arc::new(file)) })
        })
        .await
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
