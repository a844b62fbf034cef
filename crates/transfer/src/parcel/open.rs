//! A parcel that is there: its files found, its contents believed, its blobs to be read.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use async_trait::async_trait;
use bytes::{Bytes, BytesMut};
use futures_util::stream::{self, StreamExt as _};
use larder_core::companion::Companion;
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT};
use larder_core::parcel::{
    ARCHIVE, ArchiveShape, CONTENTS, Contents, ParcelCompanion, SIGNED_LIMIT,
};
use larder_core::reference::Selector;
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;

use super::volumes::{PIECE, Volumes};
use super::{ParcelError, SignerTrust};
use crate::companions::among;
use crate::{Content, LayoutError, Source, TransferError};

/// A parcel with believed contents and all its volumes. Their bytes are not verified yet.
pub struct Parcel {
    pub contents: Contents,
    /// Whose key signed it, by the name that we know it by.
    pub signed_by: String,
    pub shape: ArchiveShape,
    pub volumes: Volumes,
    /// Where each blob begins.
    starts: HashMap<Digest, u64>,
}

impl Parcel {
    /// Opens the parcel whose files are these, or lie in these folders.
    pub fn open(paths: &[PathBuf], trust: &SignerTrust) -> Result<Self, ParcelError> {
        let ParcelFiles { contents: (path, text), volumes } = ParcelFiles::find(paths)?;
        let (said, signed_by) = trust.read(&crate::files::named(path), &text)?;
        let contents = Contents::read(said)?;
        let shape = ArchiveShape::of(&contents);
        let size = shape.volume_size(&contents)?;
        let mut found = Vec::new();
        let mut wrong = Vec::new();
        for volume in &contents.volumes {
            let Some(path) = volumes.get(&volume.name) else {
                wrong.push(format!("{} is missing", volume.name));
                continue;
            };
            let shown = crate::files::named(path);
            let metadata =
                std::fs::metadata(path).map_err(ParcelError::io(format!("cannot read {shown}")))?;
            if !metadata.is_file() {
                wrong.push(format!("{shown} is no regular file"));
            } else if metadata.len() != volume.size {
                let (actual, expected) = (metadata.len(), volume.size);
                wrong.push(format!("{shown} has {actual} bytes instead of {expected}"));
            }
            found.push(path.clone());
        }
        if !wrong.is_empty() {
            return Err(ParcelError::Incomplete(wrong.join("; ")));
        }
        let starts = shape
            .entries
            .iter()
            .filter_map(|entry| Some((entry.digest.clone()?, entry.content())))
            .collect();
        Ok(Self { contents, signed_by, shape, volumes: Volumes::new(found, size), starts })
    }

    /// A blob's bytes on their way; they are not verified here. None: it does not come along.
    pub fn content(&self, digest: &Digest) -> Option<(Content, u64)> {
        let (start, size) = (*self.starts.get(digest)?, self.contents.size(digest)?);
        let (pieces, receiver) = mpsc::channel(2);
        let volumes = self.volumes.clone();
        spawn_blocking(move || {
            let mut at = start;
            while at < start + size {
                let count = usize::try_from(start + size - at).unwrap_or(PIECE).min(PIECE);
                let read = volumes.piece(at, count);
                let failed = read.is_err();
                let doing = || LayoutError::io("cannot read the parcel");
                let sent = read.map(Bytes::from).map_err(|error| doing()(error));
                if pieces.blocking_send(sent).is_err() || failed {
                    return;
                }
                at += count as u64;
            }
        });
        let content = stream::unfold(receiver, |mut receiver| async move {
            receiver.recv().await.map(|piece| (piece, receiver))
        });
        Some((content.boxed(), size))
    }
}

/// The files of a parcel.
struct ParcelFiles {
    contents: (PathBuf, String),
    volumes: BTreeMap<String, PathBuf>,
}

impl ParcelFiles {
    fn find(paths: &[PathBuf]) -> Result<Self, ParcelError> {
        let mut all = Vec::new();
        for path in paths {
            let doing = format!("cannot read {}", crate::files::named(path));
            if !path.is_dir() {
                all.push(path.clone());
                continue;
            }
            for entry in std::fs::read_dir(path).map_err(ParcelError::io(doing.clone()))? {
                all.push(entry.map_err(ParcelError::io(doing.clone()))?.path());
            }
        }
        // Whether these are two parcels is the first question.
        all.sort_by_key(|path| path.file_name().is_none_or(|name| name != CONTENTS));
        let mut contents: Option<(PathBuf, String)> = None;
        let mut volumes: BTreeMap<String, PathBuf> = BTreeMap::new();
        for path in all {
            let name =
                path.file_name().and_then(|name| name.to_str()).unwrap_or_default().to_owned();
            if name == CONTENTS {
                let text = Self::read(&path)?;
                match &contents {
                    // Each disk may bring a copy.
                    Some((_, known)) if *known == text => {}
                    Some((first, _)) => {
                        let (first, second) =
                            (crate::files::named(first), crate::files::named(&path));
                        let text = format!("these are two parcels: {first} and {second} differ");
                        return Err(ParcelError::Files(text));
                    }
                    None => contents = Some((path, text)),
                }
            } else if name == ARCHIVE || name.starts_with(&format!("{ARCHIVE}.")) {
                if let Some(first) = volumes.insert(name.clone(), path.clone()) {
                    let (first, second) = (crate::files::named(&first), crate::files::named(&path));
                    let text = format!("{name} is there twice: {first} and {second}");
                    return Err(ParcelError::Files(text));
                }
            } else if paths.contains(&path) {
                let text = format!("{} is not a file of a parcel", crate::files::named(&path));
                return Err(ParcelError::Files(text));
            }
        }
        let Some(contents) = contents else {
            let shown: Vec<String> = paths.iter().map(crate::files::named).collect();
            let text = format!("there is no {CONTENTS} in {}", shown.join(", "));
            return Err(ParcelError::Files(text));
        };
        Ok(Self { contents, volumes })
    }

    fn read(path: &Path) -> Result<String, ParcelError> {
        let doing = || ParcelError::io(format!("cannot read {}", crate::files::named(path)));
        let bytes = crate::files::read_bounded(path, SIGNED_LIMIT).map_err(doing())?;
        String::from_utf8(bytes).map_err(|_| doing()(std::io::Error::other("it is no UTF-8")))
    }
}

/// A parcel as a source, with another place for what it leaves out.
pub struct ParcelSource {
    pub parcel: Arc<Parcel>,
    /// Where that is which the far side has: the far side itself.
    pub held: Box<dyn Source>,
    /// What the contents name as belonging to the image that is read.
    pub companions: Vec<ParcelCompanion>,
}

impl ParcelSource {
    async fn whole(&self, digest: &Digest, limit: usize) -> Result<Option<Bytes>, TransferError> {
        let Some((mut content, size)) = self.parcel.content(digest) else { return Ok(None) };
        if size > limit as u64 {
            let (digest, expected) = (digest.clone(), limit as u64);
            return Err(LayoutError::Length { digest, expected, actual: size }.into());
        }
        let mut bytes = BytesMut::new();
        while let Some(piece) = content.next().await {
            bytes.extend_from_slice(&piece?);
        }
        let mut hasher = Hasher::new(digest.algorithm());
        hasher.update(&bytes);
        let actual = hasher.finish();
        if actual != *digest {
            return Err(TransferError::Mismatch { expected: digest.clone(), actual });
        }
        Ok(Some(bytes.freeze()))
    }
}

#[async_trait]
impl Source for ParcelSource {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        let digest = match selector {
            Selector::Digest(digest) => digest,
            Selector::Tag(tag) => {
                let mut named = self.companions.iter().filter(|one| one.tag.as_ref() == Some(tag));
                let found = named.next().map(|one| &one.digest);
                found.ok_or_else(|| TransferError::NotHeld(selector.to_string()))?
            }
        };
        match self.whole(digest, MANIFEST_LIMIT).await? {
            Some(bytes) => match Document::read(bytes, None) {
                Ok(document) => Ok((digest.clone(), document)),
                Err(source) => Err(TransferError::Document { digest: digest.clone(), source }),
            },
            None => self.held.manifest(&Selector::Digest(digest.clone())).await,
        }
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        match self.parcel.content(&blob.digest) {
            Some((content, size)) if size == blob.size => Ok(content),
            Some((_, actual)) => {
                let (digest, expected) = (blob.digest.clone(), blob.size);
                Err(LayoutError::Length { digest, expected, actual }.into())
            }
            None => self.held.blob(blob).await,
        }
    }

    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        let named = self.companions.iter().filter(|one| one.tag.is_none());
        among(self, named.map(|one| one.digest.clone()).collect(), about).await
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        match self.whole(&blob.digest, limit).await? {
            Some(bytes) => Ok(bytes),
            None => self.held.small_blob(blob, limit).await,
        }
    }
}
