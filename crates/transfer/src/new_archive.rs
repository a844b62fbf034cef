//! An OCI image layout in a tar archive that is being made.
//!
//! It lies beside its place until it is whole. A blob's descriptor says how long it is, so each gets its place at once
//! and several are written at the same time.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use futures_util::StreamExt as _;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::parcel::{ARCHIVE_END, ArchiveEntry};
use tokio::task::spawn_blocking;

use crate::files::{beside, named};

use super::archive::blob_name;
use super::entries::refused;
use super::layout::{Index, MARKER};
use super::received::receive;
use super::{Content, LayoutError, ManifestRole, Target, TransferError};

/// A layout archive to write to. Dropped before it is finished, it leaves nothing.
pub struct NewArchive {
    path: PathBuf,
    partial: PathBuf,
    file: Arc<File>,
    inside: Mutex<Inside>,
    finished: AtomicBool,
}

/// What goes into the archive.
#[derive(Default)]
struct Inside {
    /// Where each blob lies, and whether it is whole.
    blobs: HashMap<Digest, (ArchiveEntry, bool)>,
    index: Index,
    /// Where the next entry begins, in bytes.
    end: u64,
}

impl Inside {
    fn place(&mut self, name: String, size: u64) -> ArchiveEntry {
        let entry = ArchiveEntry::at(self.end, name, size);
        self.end = entry.end();
        entry
    }
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
        let occupied = |by| LayoutError::Occupied { path: named(path), by };
        if path.exists() {
            return Err(occupied("a file").into());
        }
        let (file, partial) = beside(path).map_err(|error| match error.kind() {
            io::ErrorKind::WouldBlock => occupied("another run").into(),
            _ => LayoutError::io(format!("cannot write {}", named(path)))(error),
        })?;
        Ok(Self {
            path: path.to_owned(),
            partial,
            file: Arc::new(file),
            inside: Mutex::default(),
            finished: AtomicBool::new(false),
        })
    }

    fn inside(&self) -> MutexGuard<'_, Inside> {
        self.inside.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn has(&self, digest: &Digest) -> bool {
        self.inside().blobs.get(digest).is_some_and(|(_, whole)| *whole)
    }

    /// Writes a blob where it has its place. What broke off is written there again.
    async fn write(
        &self,
        digest: &Digest,
        size: u64,
        content: Content,
    ) -> Result<(), TransferError> {
        let entry = {
            let mut inside = self.inside();
            let placed = inside.blobs.get(digest).map(|(entry, _)| entry.clone());
            placed.unwrap_or_else(|| {
                let entry = inside.place(blob_name(digest), size);
                inside.blobs.insert(digest.clone(), (entry.clone(), false));
                entry
            })
        };
        if entry.size != size {
            let (digest, expected, actual) = (digest.clone(), entry.size, size);
            return Err(LayoutError::Length { digest, expected, actual }.into());
        }
        let (file, shown) = (Arc::clone(&self.file), named(&self.path));
        let written = receive(digest, size, content, move |pieces| {
            let write = |bytes: &[u8], at| {
                let failed = LayoutError::io(format!("cannot write {shown}"));
                file.write_all_at(bytes, at).map_err(failed)
            };
            write(&entry.head(), entry.start)?;
            let mut at = entry.content();
            while let Some(piece) = pieces.next()? {
                write(&piece, at)?;
                at += piece.len() as u64;
            }
            Ok(())
        });
        written.await?;
        if let Some((_, whole)) = self.inside().blobs.get_mut(digest) {
            *whole = true;
        }
        Ok(())
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

    async fn take_blob(&self, blob: &Descriptor, content: Content) -> Result<(), TransferError> {
        self.write(&blob.digest, blob.size, content).await
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        role: ManifestRole<'_>,
        _sparse: bool,
    ) -> Result<(), TransferError> {
        if !self.has(digest) {
            let bytes = document.bytes.clone();
            let size = bytes.len() as u64;
            let content = futures_util::stream::once(async move { Ok(bytes) });
            self.write(digest, size, content.boxed()).await?;
        }
        if let ManifestRole::Image(tag) = role {
            let tag = tag.map(ToString::to_string);
            self.inside().index.add(digest, document, tag.as_deref());
        }
        Ok(())
    }

    async fn finish(&self) -> Result<(), TransferError> {
        let (path, partial) = (self.path.clone(), self.partial.clone());
        let file = Arc::clone(&self.file);
        let (last, total) = {
            let mut inside = self.inside();
            if inside.blobs.values().any(|(_, whole)| !whole) {
                return Err(refused(&path, "a blob of it was not written"));
            }
            let index = inside.index.text();
            let last = [("oci-layout", MARKER.to_owned()), ("index.json", index)]
                .map(|(name, text)| (inside.place(name.to_owned(), text.len() as u64), text));
            (last, inside.end + ARCHIVE_END)
        };
        let settled = spawn_blocking(move || -> io::Result<()> {
            for (entry, text) in last {
                file.write_all_at(&entry.head(), entry.start)?;
                file.write_all_at(text.as_bytes(), entry.content())?;
            }
            file.set_len(total)?;
            file.sync_all()?;
            std::fs::rename(&partial, &path)
        });
        let settled =
            settled.await.unwrap_or_else(|_| Err(io::Error::other("the writing thread ended")));
        settled.map_err(LayoutError::io(format!("cannot write {}", named(&self.path))))?;
        self.finished.store(true, Ordering::Relaxed);
        Ok(())
    }
}
