//! An OCI image layout in a tar archive: read in place, and written in one go.
//!
//! Nothing of an archive is ever unpacked to the file system: its entries are found once, and read
//! where they lie.

use std::collections::{BTreeSet, HashMap};
use std::fs::File;
use std::io::{self, Read, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use async_trait::async_trait;
use bytes::{Buf as _, Bytes, BytesMut};
use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT};
use larder_core::reference::Selector;
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;

use super::layout::{Index, MARKER, check_digest, check_small, document};
use super::{Content, LayoutError, Role, Source, Target, TransferError};

/// Entries that an archive may have.
const ENTRY_LIMIT: usize = 200_000;
const PIECE: usize = 512 * 1024;

/// A layout archive, either one that is read or one that is written.
pub struct Archive {
    path: PathBuf,
    state: State,
}

enum State {
    Reading { entries: HashMap<String, (u64, u64)>, index: Index },
    Writing(Arc<Mutex<Writing>>, tokio::sync::Mutex<()>),
}

struct Writing {
    /// None: it was finished.
    builder: Option<tar::Builder<File>>,
    partial: PathBuf,
    written: BTreeSet<Digest>,
    index: Index,
}

impl Drop for Writing {
    fn drop(&mut self) {
        if self.builder.is_some() {
            // Not finished: what there is helps nobody.
            let _ = std::fs::remove_file(&self.partial);
        }
    }
}

fn refused(path: &Path, cause: impl Into<String>) -> TransferError {
    LayoutError::Shape { path: path.display().to_string(), cause: cause.into() }.into()
}

impl Archive {
    /// Opens an archive that is there.
    pub fn open(path: &Path) -> Result<Self, TransferError> {
        let unreadable = || LayoutError::io(format!("cannot read {}", path.display()));
        let file = File::open(path).map_err(unreadable())?;
        let entries = entries(path, &file)?;
        let small = |name: &str| -> Result<Vec<u8>, TransferError> {
            let (start, size) =
                *entries.get(name).ok_or_else(|| refused(path, format!("it has no {name}")))?;
            if size > MANIFEST_LIMIT as u64 {
                return Err(refused(path, format!("its {name} has {size} bytes")));
            }
            read_at(path, start, size).map_err(unreadable())
        };
        small("oci-layout")?;
        let index = Index::read(&small("index.json")?, &path.display().to_string())?;
        Ok(Self { path: path.to_owned(), state: State::Reading { entries, index } })
    }

    /// Begins an archive. It lies beside its place until it is whole; a file that is there already
    /// is refused.
    pub fn make(path: &Path) -> Result<Self, TransferError> {
        if path.exists() {
            let path = path.display().to_string();
            return Err(LayoutError::Occupied { path, by: "a file" }.into());
        }
        let mut partial = path.as_os_str().to_owned();
        partial.push(format!(".partial-{}", std::process::id()));
        let partial = PathBuf::from(partial);
        let file = File::create(&partial)
            .map_err(LayoutError::io(format!("cannot write {}", partial.display())))?;
        let writing = Writing {
            builder: Some(tar::Builder::new(file)),
            partial,
            written: BTreeSet::new(),
            index: Index::default(),
        };
        let state = State::Writing(Arc::new(Mutex::new(writing)), tokio::sync::Mutex::default());
        Ok(Self { path: path.to_owned(), state })
    }

    /// The digest of one of its images, and its name.
    pub fn find(&self, wanted: Option<&str>) -> Result<(Digest, Option<String>), LayoutError> {
        match &self.state {
            State::Reading { index, .. } => index.find(wanted),
            State::Writing(writing, _) => {
                writing.lock().unwrap_or_else(PoisonError::into_inner).index.find(wanted)
            }
        }
    }

    /// Where a blob lies. An archive that is being written is not read.
    fn place(&self, digest: &Digest) -> Result<(u64, u64), TransferError> {
        let found = match &self.state {
            State::Reading { entries, .. } => entries.get(&blob_name(digest)).copied(),
            State::Writing(..) => None,
        };
        found.ok_or_else(|| LayoutError::NotFound(digest.to_string()).into())
    }

    fn whole(&self, digest: &Digest, limit: usize) -> Result<Bytes, TransferError> {
        let (start, size) = self.place(digest)?;
        if size > limit as u64 {
            let digest = digest.clone();
            return Err(LayoutError::Length { digest, expected: limit as u64, actual: size }.into());
        }
        let bytes = read_at(&self.path, start, size)
            .map_err(LayoutError::io(format!("cannot read {}", self.path.display())))?;
        check_digest(digest, &bytes)?;
        Ok(bytes.into())
    }

    fn writing(&self) -> Result<(&Arc<Mutex<Writing>>, &tokio::sync::Mutex<()>), TransferError> {
        match &self.state {
            State::Writing(writing, turn) => Ok((writing, turn)),
            State::Reading { .. } => Err(refused(&self.path, "it was opened for reading")),
        }
    }

    /// Does something with the builder on a thread that may wait for the disk.
    async fn write(
        &self,
        work: impl FnOnce(&mut Writing) -> Result<(), TransferError> + Send + 'static,
    ) -> Result<(), TransferError> {
        let writing = Arc::clone(self.writing()?.0);
        let done = spawn_blocking(move || {
            work(&mut writing.lock().unwrap_or_else(PoisonError::into_inner))
        });
        done.await.unwrap_or_else(|_| Err(refused(&self.path, "the writing thread ended")))
    }
}

fn blob_name(digest: &Digest) -> String {
    format!("blobs/{}/{}", digest.algorithm().name(), digest.hex())
}

/// Finds the regular files of an archive. Links, devices and names that climb are refused; so are
/// names that stand there twice, because readers differ on which one counts.
fn entries(path: &Path, file: &File) -> Result<HashMap<String, (u64, u64)>, TransferError> {
    let unreadable =
        |error: io::Error| refused(path, format!("it cannot be read as a tar archive: {error}"));
    let mut start = [0; 2];
    let mut head = file;
    if head.read_exact(&mut start).is_ok() && start == [0x1f, 0x8b] {
        return Err(refused(path, "it is compressed with gzip; unpack it with gunzip first"));
    }
    head.seek(SeekFrom::Start(0)).map_err(unreadable)?;
    let length = file.metadata().map_err(unreadable)?.len();
    let mut archive = tar::Archive::new(file);
    let mut found = HashMap::new();
    for entry in archive.entries_with_seek().map_err(unreadable)? {
        let entry = entry.map_err(unreadable)?;
        let name = String::from_utf8(entry.path_bytes().into_owned())
            .map_err(|_| refused(path, "it has a name that is no UTF-8"))?;
        let name = name.strip_prefix("./").unwrap_or(&name).trim_end_matches('/').to_owned();
        let kind = entry.header().entry_type();
        if kind.is_dir() {
            continue;
        }
        if name.starts_with('/') || name.split('/').any(|part| part == "..") {
            return Err(refused(
                path,
                format!("its entry `{}` leads out of it", name.escape_debug()),
            ));
        }
        if !kind.is_file() {
            return Err(refused(
                path,
                format!("its entry `{}` is no regular file", name.escape_debug()),
            ));
        }
        let place = (entry.raw_file_position(), entry.size());
        if place.0.checked_add(place.1).is_none_or(|end| end > length) {
            return Err(refused(
                path,
                format!("it ends before its entry `{}` does", name.escape_debug()),
            ));
        }
        if found.len() >= ENTRY_LIMIT {
            return Err(refused(path, format!("it has more than {ENTRY_LIMIT} entries")));
        }
        if found.insert(name.clone(), place).is_some() {
            return Err(refused(
                path,
                format!("its entry `{}` is there twice", name.escape_debug()),
            ));
        }
    }
    Ok(found)
}

/// Reads a small piece of a file.
fn read_at(path: &Path, start: u64, size: u64) -> io::Result<Vec<u8>> {
    let mut file = File::open(path)?;
    file.seek(SeekFrom::Start(start))?;
    let mut bytes = Vec::new();
    file.take(size).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == size { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

#[async_trait]
impl Source for Archive {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        let digest = match selector {
            Selector::Digest(digest) => digest.clone(),
            Selector::Tag(tag) => self.find(Some(tag.as_str()))?.0,
        };
        let bytes = self.whole(&digest, MANIFEST_LIMIT)?;
        document(digest, bytes)
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        let (start, actual) = self.place(&blob.digest)?;
        if actual != blob.size {
            let digest = blob.digest.clone();
            return Err(LayoutError::Length { digest, expected: blob.size, actual }.into());
        }
        let path = self.path.clone();
        let (pieces, receiver) = mpsc::channel(2);
        spawn_blocking(move || {
            let read = || -> io::Result<()> {
                let mut file = File::open(&path)?;
                file.seek(SeekFrom::Start(start))?;
                let mut left = actual;
                while left > 0 {
                    let mut piece =
                        BytesMut::zeroed(usize::try_from(left).unwrap_or(PIECE).min(PIECE));
                    file.read_exact(&mut piece)?;
                    left -= piece.len() as u64;
                    if pieces.blocking_send(Ok(piece.freeze())).is_err() {
                        return Ok(());
                    }
                }
                Ok(())
            };
            if let Err(error) = read() {
                let error = LayoutError::io(format!("cannot read {}", path.display()))(error);
                let _ = pieces.blocking_send(Err(error));
            }
        });
        Ok(stream::unfold(receiver, |mut receiver| async move {
            receiver.recv().await.map(|piece| (piece, receiver))
        })
        .boxed())
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        check_small(blob, limit)?;
        self.whole(&blob.digest, limit)
    }
}

#[async_trait]
impl Target for Archive {
    async fn holds(&self, digest: &Digest) -> Result<bool, TransferError> {
        let (writing, _) = self.writing()?;
        Ok(writing.lock().unwrap_or_else(PoisonError::into_inner).written.contains(digest))
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        self.holds(&blob.digest).await
    }

    async fn take_blob(
        &self,
        blob: &Descriptor,
        mut content: Content,
    ) -> Result<(), TransferError> {
        // A tar has one end: blobs go into it one after the other.
        let _turn = self.writing()?.1.lock().await;
        let (pieces, receiver) = mpsc::channel::<Option<Bytes>>(16);
        let (digest, size) = (blob.digest.clone(), blob.size);
        let path = self.path.clone();
        let written = self.write(move |writing| {
            let mut reader = Pieces { receiver, current: Bytes::new() };
            append(writing, &blob_name(&digest), size, &mut reader, &path)?;
            writing.written.insert(digest);
            Ok(())
        });
        // Hashed here while the other thread writes. Content that turns out wrong ends the whole
        // archive, which nobody has seen yet.
        let mut hasher = Hasher::new(blob.digest.algorithm());
        let feed = async {
            while let Some(chunk) = content.next().await {
                match chunk {
                    // The writer has ended; it says why.
                    Ok(chunk) => {
                        hasher.update(&chunk);
                        if pieces.send(Some(chunk)).await.is_err() {
                            break;
                        }
                    }
                    Err(error) => {
                        let _ = pieces.send(None).await;
                        return Err(error);
                    }
                }
            }
            drop(pieces);
            Ok(())
        };
        let (written, fed) = tokio::join!(written, feed);
        fed.and(written)?;
        let actual = hasher.finish();
        if actual == blob.digest {
            return Ok(());
        }
        Err(TransferError::Mismatch { expected: blob.digest.clone(), actual })
    }

    fn can_take_again(&self) -> bool {
        false
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        role: Role<'_>,
        _sparse: bool,
    ) -> Result<(), TransferError> {
        let (digest, document, path) = (digest.clone(), document.clone(), self.path.clone());
        let entry = match role {
            Role::Child => None,
            Role::Image(tag) => Some(tag.map(ToString::to_string)),
        };
        self.write(move |writing| {
            let size = document.bytes.len() as u64;
            if writing.written.insert(digest.clone()) {
                append(
                    writing,
                    &blob_name(&digest),
                    size,
                    &mut document.bytes.clone().reader(),
                    &path,
                )?;
            }
            if let Some(tag) = entry {
                writing.index.add(&digest, &document, tag.as_deref());
            }
            Ok(())
        })
        .await
    }

    async fn finish(&self) -> Result<(), TransferError> {
        let path = self.path.clone();
        self.write(move |writing| {
            let index = writing.index.text();
            append(writing, "oci-layout", MARKER.len() as u64, &mut MARKER.as_bytes(), &path)?;
            append(writing, "index.json", index.len() as u64, &mut index.as_bytes(), &path)?;
            let Some(builder) = writing.builder.take() else { return Ok(()) };
            let settle = || -> io::Result<()> {
                let mut file = builder.into_inner()?;
                file.flush()?;
                file.sync_all()?;
                std::fs::rename(&writing.partial, &path)
            };
            settle().map_err(LayoutError::io(format!("cannot write {}", path.display())))
        })
        .await
    }
}

fn append(
    writing: &mut Writing,
    name: &str,
    size: u64,
    content: &mut impl Read,
    path: &Path,
) -> Result<(), TransferError> {
    let Some(mut builder) = writing.builder.take() else {
        return Err(refused(path, "writing it has failed or is done already"));
    };
    let mut header = tar::Header::new_ustar();
    header.set_size(size);
    header.set_mode(0o644);
    let mut content = Counted { inner: content, count: 0 };
    let outcome = builder.append_data(&mut header, name, &mut content);
    // After a failure the archive has a piece that is no entry: it is given up.
    if outcome.is_err() || content.count != size {
        let _ = std::fs::remove_file(&writing.partial);
    } else {
        writing.builder = Some(builder);
    }
    outcome.map_err(LayoutError::io(format!("cannot write {}", path.display())))?;
    if content.count == size {
        return Ok(());
    }
    Err(refused(path, format!("{name} has {} bytes instead of {size}", content.count)))
}

/// Counts what goes through: a tar entry must be as long as its header says.
struct Counted<R> {
    inner: R,
    count: u64,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.inner.read(buffer)?;
        self.count += got as u64;
        Ok(got)
    }
}

/// Pieces from the network as something to read.
struct Pieces {
    receiver: mpsc::Receiver<Option<Bytes>>,
    current: Bytes,
}

impl Read for Pieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.current.is_empty() {
            match self.receiver.blocking_recv() {
                Some(Some(piece)) => self.current = piece,
                Some(None) => return Err(io::Error::other("the source failed")),
                None => return Ok(0),
            }
        }
        let count = buffer.len().min(self.current.len());
        self.current.copy_to_slice(&mut buffer[..count]);
        Ok(count)
    }
}
