//! An OCI image layout in a tar archive, read in place.
//!
//! Nothing of an archive is ever unpacked to the file system: its entries are found once, and read
//! where they lie.

use std::collections::HashMap;
use std::io::{self, Read, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

use async_trait::async_trait;
use bytes::{Bytes, BytesMut};
use futures_util::stream::{self, StreamExt as _};
use larder_core::companion::Companion;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT};
use larder_core::reference::Selector;
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;

use super::companions::among;
use super::entries::{Entries, Spot, entries, read_at};
use super::layout::{Index, check_digest, check_small, document};
use super::{Content, LayoutError, Source, TransferError, saved};

const PIECE: usize = 512 * 1024;

/// A layout archive to read from.
pub struct Archive {
    path: PathBuf,
    /// Where each entry's content lies, as start and size in bytes.
    entries: HashMap<String, Spot>,
    /// Where blobs lie that have another name there.
    blobs: HashMap<Digest, Spot>,
    /// Manifests that the archive does not have, made from what it has.
    made: HashMap<Digest, Bytes>,
    index: Index,
}

impl Archive {
    /// Opens an archive that is there.
    pub fn open(path: &Path) -> Result<Self, TransferError> {
        let unreadable = || LayoutError::io(format!("cannot read {}", crate::files::named(path)));
        let file = crate::files::open_regular(path).map_err(unreadable())?;
        let entries = entries(path, &file)?;
        let readable = Entries { path, entries: &entries };
        if !entries.contains_key("oci-layout") && entries.contains_key("manifest.json") {
            let saved::SavedImages { index, blobs, made } = saved::read(&readable)?;
            return Ok(Self { path: path.to_owned(), entries, blobs, made, index });
        }
        readable.small("oci-layout", MANIFEST_LIMIT)?;
        let index = readable.small("index.json", MANIFEST_LIMIT)?;
        let index = Index::read(&index, &crate::files::named(path))?;
        let (blobs, made) = (HashMap::new(), HashMap::new());
        Ok(Self { path: path.to_owned(), entries, blobs, made, index })
    }

    /// The digest of one of its images, and its name.
    pub fn find(&self, wanted: Option<&str>) -> Result<(Digest, Option<String>), LayoutError> {
        self.index.find(wanted)
    }

    /// Its images, each with its name.
    pub fn images(&self) -> Vec<(String, Digest)> {
        self.index.images()
    }

    /// The names of its images.
    pub fn names(&self) -> Vec<String> {
        self.index.names()
    }

    /// Where a blob lies.
    fn place(&self, digest: &Digest) -> Result<Spot, TransferError> {
        let found =
            self.blobs.get(digest).or_else(|| self.entries.get(&blob_name(digest))).copied();
        found.ok_or_else(|| LayoutError::NotFound(digest.to_string()).into())
    }

    fn whole(&self, digest: &Digest, limit: usize) -> Result<Bytes, TransferError> {
        if let Some(made) = self.made.get(digest) {
            return Ok(made.clone());
        }
        let (start, size) = self.place(digest)?;
        if size > limit as u64 {
            let digest = digest.clone();
            return Err(LayoutError::Length { digest, expected: limit as u64, actual: size }.into());
        }
        let bytes = read_at(&self.path, start, size)
            .map_err(LayoutError::io(format!("cannot read {}", crate::files::named(&self.path))))?;
        check_digest(digest, &bytes)?;
        Ok(bytes.into())
    }
}

pub(super) fn blob_name(digest: &Digest) -> String {
    format!("blobs/{}/{}", digest.algorithm().name(), digest.hex())
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
                let mut file = crate::files::open_regular(&path)?;
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
                let error =
                    LayoutError::io(format!("cannot read {}", crate::files::named(&path)))(error);
                let _ = pieces.blocking_send(Err(error));
            }
        });
        Ok(stream::unfold(receiver, |mut receiver| async move {
            receiver.recv().await.map(|piece| (piece, receiver))
        })
        .boxed())
    }

    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        among(self, self.index.digests(), about).await
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        check_small(blob, limit)?;
        self.whole(&blob.digest, limit)
    }
}
