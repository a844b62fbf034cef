//! An OCI image layout in a tar archive, written in one go.
//!
//! It lies beside its place until it is whole. A tar has one end, so blobs go into it one after the
//! other; each is hashed on one thread while another writes it.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read, Write as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use async_trait::async_trait;
use bytes::{Buf as _, Bytes};
use futures_util::stream::StreamExt as _;
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Descriptor, Document};
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;

use crate::files::beside;

use super::archive::blob_name;
use super::entries::refused;
use super::layout::{Index, MARKER};
use super::{Content, LayoutError, Role, Target, TransferError};

/// A tar that is being written. None: writing it has failed, or it is finished.
type Tar = Option<tar::Builder<File>>;

/// A layout archive to write to. Dropped before it is finished, it leaves nothing.
pub struct NewArchive {
    path: PathBuf,
    partial: PathBuf,
    /// Writers wait for it without holding up a thread that others need.
    tar: Arc<tokio::sync::Mutex<Tar>>,
    written: Mutex<BTreeSet<Digest>>,
    index: Mutex<Index>,
    finished: AtomicBool,
}

impl Drop for NewArchive {
    fn drop(&mut self) {
        if !self.finished.load(Ordering::Relaxed) {
            // What there is helps nobody; it may be gone already.
            let _ = std::fs::remove_file(&self.partial);
        }
    }
}

impl NewArchive {
    /// Begins an archive. A file that is there already is refused.
    pub fn make(path: &Path) -> Result<Self, TransferError> {
        if path.exists() {
            let path = crate::files::named(path);
            return Err(LayoutError::Occupied { path, by: "a file" }.into());
        }
        let (file, partial) = beside(path).map_err(|error| match error.kind() {
            io::ErrorKind::WouldBlock => {
                LayoutError::Occupied { path: crate::files::named(path), by: "another run" }.into()
            }
            _ => LayoutError::io(format!("cannot write {}", crate::files::named(path)))(error),
        })?;
        Ok(Self {
            path: path.to_owned(),
            partial,
            tar: Arc::new(tokio::sync::Mutex::new(Some(tar::Builder::new(file)))),
            written: Mutex::default(),
            index: Mutex::default(),
            finished: AtomicBool::new(false),
        })
    }

    /// Does something with the tar on a thread that may wait for the disk.
    async fn write(
        &self,
        work: impl FnOnce(&mut Tar) -> Result<(), TransferError> + Send + 'static,
    ) -> Result<(), TransferError> {
        let mut tar = Arc::clone(&self.tar).lock_owned().await;
        let done = spawn_blocking(move || work(&mut tar)).await;
        done.unwrap_or_else(|_| Err(refused(&self.path, "the writing thread ended")))
    }

    fn has(&self, digest: &Digest) -> bool {
        self.written.lock().unwrap_or_else(PoisonError::into_inner).contains(digest)
    }

    fn remember(&self, digest: &Digest) {
        self.written.lock().unwrap_or_else(PoisonError::into_inner).insert(digest.clone());
    }
}

#[async_trait]
impl Target for NewArchive {
    async fn holds(&self, digest: &Digest) -> Result<bool, TransferError> {
        Ok(self.has(digest))
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(self.has(&blob.digest))
    }

    async fn take_blob(
        &self,
        blob: &Descriptor,
        mut content: Content,
    ) -> Result<(), TransferError> {
        let (pieces, receiver) = mpsc::channel::<Option<Bytes>>(16);
        let (name, size, path) = (blob_name(&blob.digest), blob.size, self.path.clone());
        let written = self.write(move |tar| {
            let mut reader = Pieces { receiver, current: Bytes::new() };
            append(tar, &name, size, &mut reader, &path)
        });
        // Content that turns out wrong ends the whole archive, which nobody has seen yet.
        let mut hasher = Hasher::new(blob.digest.algorithm());
        let feed = async {
            while let Some(chunk) = content.next().await {
                match chunk {
                    Ok(chunk) => {
                        hasher.update(&chunk);
                        // The writer has ended; it says why.
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
        if actual != blob.digest {
            return Err(TransferError::Mismatch { expected: blob.digest.clone(), actual });
        }
        self.remember(&blob.digest);
        Ok(())
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
        if !self.has(digest) {
            let (name, path, bytes) =
                (blob_name(digest), self.path.clone(), document.bytes.clone());
            let size = bytes.len() as u64;
            self.write(move |tar| append(tar, &name, size, &mut bytes.reader(), &path)).await?;
            self.remember(digest);
        }
        if let Role::Image(tag) = role {
            let tag = tag.map(ToString::to_string);
            let mut index = self.index.lock().unwrap_or_else(PoisonError::into_inner);
            index.add(digest, document, tag.as_deref());
        }
        Ok(())
    }

    async fn finish(&self) -> Result<(), TransferError> {
        let (path, partial) = (self.path.clone(), self.partial.clone());
        let index = self.index.lock().unwrap_or_else(PoisonError::into_inner).text();
        let settled = self.write(move |tar| {
            append(tar, "oci-layout", MARKER.len() as u64, &mut MARKER.as_bytes(), &path)?;
            append(tar, "index.json", index.len() as u64, &mut index.as_bytes(), &path)?;
            let Some(builder) = tar.take() else { return Ok(()) };
            let settle = || -> io::Result<()> {
                let mut file = builder.into_inner()?;
                file.flush()?;
                file.sync_all()?;
                std::fs::rename(&partial, &path)
            };
            settle()
                .map_err(LayoutError::io(format!("cannot write {}", crate::files::named(&path))))
        });
        settled.await?;
        self.finished.store(true, Ordering::Relaxed);
        Ok(())
    }
}

/// Appends one entry. After a failure the tar has a piece that is no entry: it is given up.
fn append(
    tar: &mut Tar,
    name: &str,
    size: u64,
    content: &mut impl Read,
    path: &Path,
) -> Result<(), TransferError> {
    let Some(mut builder) = tar.take() else {
        return Err(refused(path, "writing it has failed or is done already"));
    };
    let mut header = tar::Header::new_ustar();
    header.set_size(size);
    header.set_mode(0o644);
    let mut content = Counted { inner: content, count: 0 };
    let outcome = builder.append_data(&mut header, name, &mut content);
    outcome.map_err(LayoutError::io(format!("cannot write {}", crate::files::named(path))))?;
    if content.count != size {
        let cause = format!("{name} has {} bytes instead of {size}", content.count);
        return Err(refused(path, cause));
    }
    *tar = Some(builder);
    Ok(())
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
