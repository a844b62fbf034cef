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
mod uploads;
mod writer;

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::Write as _;
use std::ops::Range;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use tokio::task::spawn_blocking;

use crate::blobs::{BlobReader, UploadId};
use crate::error::StoreError;
use crate::local::crowd::Crowd;
use crate::local::reader::{PIECE, Pieces, read_piece};
use crate::local::uploads::age;

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
