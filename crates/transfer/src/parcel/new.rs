//! A parcel that is being made: each blob has its place in the archive, and several are written at
//! once.

use std::collections::{BTreeSet, HashMap};
use std::fs::{File, TryLockError};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use async_trait::async_trait;
use futures_util::StreamExt as _;
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Descriptor, Document};
use larder_core::parcel::{ArchiveShape, CONTENTS, Contents, SignedText};
use larder_core::signature::SigningKey;
use tokio::task::spawn_blocking;

use super::ParcelError;
use super::volumes::{NewVolumes, PIECE};
use crate::{Content, LayoutError, ManifestRole, Target, TransferError, receive};

/// A parcel that is being made.
pub struct NewParcel {
    folder: PathBuf,
    contents: Contents,
    /// Where each blob begins and how long it is.
    places: HashMap<Digest, (u64, u64)>,
    volumes: Arc<NewVolumes>,
    /// Whether a run before has left something of it.
    resumed: bool,
    written: Mutex<BTreeSet<Digest>>,
    _lock: File,
}

impl NewParcel {
    /// Begins a parcel in a folder. One that holds a finished parcel is refused; what a run that was
    /// killed has left there is resumed.
    pub fn begin(
        folder: &Path,
        contents: Contents,
        size: Option<u64>,
    ) -> Result<Self, ParcelError> {
        let shown = crate::files::named(folder);
        let doing = || ParcelError::io(format!("cannot write to {shown}"));
        std::fs::create_dir_all(folder).map_err(doing())?;
        // The folder is ours until the parcel is sealed: two runs that write the same files, or one
        // that takes up what the other has just finished, would spoil each other's work.
        let lock = File::open(folder).map_err(doing())?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                return Err(ParcelError::Files(format!("another run is packing into {shown}")));
            }
            Err(TryLockError::Error(error)) => return Err(doing()(error)),
        }
        if folder.join(CONTENTS).exists() {
            return Err(ParcelError::Files(format!("{shown} holds a finished parcel already")));
        }
        let shape = ArchiveShape::of(&contents);
        let size = size.unwrap_or(shape.total).min(shape.total);
        let (volumes, resumed) = NewVolumes::make(folder, shape.total, size).map_err(doing())?;
        let mut places = HashMap::new();
        for entry in &shape.entries {
            let mut stretch = volumes.at(entry.start);
            let written = stretch.write(&entry.head()).and_then(|()| match &entry.fixed {
                Some(text) => stretch.write(text.as_bytes()),
                None => Ok(()),
            });
            written.map_err(doing())?;
            stretch.done();
            if let Some(digest) = &entry.digest {
                places.insert(digest.clone(), (entry.content(), entry.size));
            }
        }
        let (folder, volumes) = (folder.to_owned(), Arc::new(volumes));
        let written = Mutex::default();
        Ok(Self { folder, contents, places, volumes, resumed, written, _lock: lock })
    }

    /// Finishes it: flushes the volumes, then writes the signed contents. Until then it is no parcel.
    pub fn seal(mut self, key: &SigningKey) -> Result<Contents, ParcelError> {
        let shown = crate::files::named(&self.folder);
        let doing = || ParcelError::io(format!("cannot write to {shown}"));
        let written = self.written.lock().unwrap_or_else(PoisonError::into_inner).len();
        if written != self.places.len() {
            let lacking = self.places.len() - written;
            return Err(ParcelError::Files(format!(
                "{lacking} blobs of the parcel were not written"
            )));
        }
        self.contents.volumes = self.volumes.finish().map_err(doing())?;
        let text = SignedText::write(&self.contents.write(), key);
        crate::files::replace(&self.folder.join(CONTENTS), text.as_bytes()).map_err(doing())?;
        Ok(self.contents)
    }

    /// Removes what was written.
    pub fn give_up(&self) {
        self.volumes.remove();
    }

    fn is_written(&self, digest: &Digest) -> bool {
        self.written.lock().unwrap_or_else(PoisonError::into_inner).contains(digest)
    }

    fn remember(&self, digest: &Digest) {
        self.written.lock().unwrap_or_else(PoisonError::into_inner).insert(digest.clone());
    }

    fn place(&self, digest: &Digest) -> Result<(u64, u64), TransferError> {
        let missing = || LayoutError::NotFound(digest.to_string());
        Ok(self.places.get(digest).copied().ok_or_else(missing)?)
    }

    /// Whether a run before has written the blob already. It is hashed, so this is certain.
    async fn is_left(&self, digest: &Digest) -> Result<bool, TransferError> {
        let (start, size) = self.place(digest)?;
        let (volumes, digest) = (Arc::clone(&self.volumes), digest.clone());
        let read = spawn_blocking(move || -> std::io::Result<bool> {
            let mut hasher = Hasher::new(digest.algorithm());
            let mut stretch = volumes.at(start);
            let mut piece = vec![0; PIECE];
            let mut left = size;
            while left > 0 {
                let count = usize::try_from(left).unwrap_or(PIECE).min(PIECE);
                volumes.volumes().read_at(start + size - left, &mut piece[..count])?;
                // What nobody has written yet is zero.
                if left == size && size > 4096 && piece[..4096].iter().all(|byte| *byte == 0) {
                    return Ok(false);
                }
                hasher.update(&piece[..count]);
                stretch.keep(&piece[..count])?;
                left -= count as u64;
            }
            let same = hasher.finish() == digest;
            if same {
                stretch.done();
            }
            Ok(same)
        });
        let read = read.await.unwrap_or_else(|_| Err(std::io::Error::other("the thread ended")));
        read.map_err(LayoutError::io(format!("cannot read {}", crate::files::named(&self.folder))))
    }

    async fn write(&self, digest: &Digest, content: Content) -> Result<(), TransferError> {
        let (start, size) = self.place(digest)?;
        let volumes = Arc::clone(&self.volumes);
        let shown = crate::files::named(&self.folder);
        let written = receive(digest, size, content, move |pieces| {
            let mut stretch = volumes.at(start);
            while let Some(piece) = pieces.next()? {
                let failed = LayoutError::io(format!("cannot write to {shown}"));
                stretch.write(&piece).map_err(failed)?;
            }
            stretch.done();
            Ok(())
        });
        written.await?;
        self.remember(digest);
        Ok(())
    }
}

#[async_trait]
impl Target for NewParcel {
    async fn holds(&self, _: &Digest) -> Result<bool, TransferError> {
        Ok(false)
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        if self.contents.is_held(&blob.digest) || self.is_written(&blob.digest) {
            return Ok(true);
        }
        let left = self.resumed && self.is_left(&blob.digest).await?;
        if left {
            self.remember(&blob.digest);
        }
        Ok(left)
    }

    async fn take_blob(&self, blob: &Descriptor, content: Content) -> Result<(), TransferError> {
        self.write(&blob.digest, content).await
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        _role: ManifestRole<'_>,
        _sparse: bool,
    ) -> Result<(), TransferError> {
        if self.contents.is_held(digest) || self.is_written(digest) {
            return Ok(());
        }
        let bytes = document.bytes.clone();
        let content = futures_util::stream::once(async move { Ok(bytes) });
        self.write(digest, content.boxed()).await
    }
}
