//! An OCI image layout in a folder (Image Specification, "OCI Image Layout").

use std::fs;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use async_trait::async_trait;
use bytes::{Bytes, BytesMut};
use futures_util::stream::StreamExt as _;
use larder_core::companion::Companion;
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT, media_type};
use larder_core::reference::Selector;
use larder_store::{ContentFolder, Purpose, StoreError};
use serde_json::{Value, json};

use super::companions::among;
use super::ends::{WORTH_RESUMING, pour};
use super::{Content, LayoutError, ManifestRole, Source, Target, TransferError};

/// The annotation under which a layout names its images.
const REF_NAME: &str = "org.opencontainers.image.ref.name";
/// What the file `oci-layout` holds.
pub(super) const MARKER: &str = r#"{"imageLayoutVersion":"1.0.0"}"#;

/// A layout folder.
pub struct Layout {
    root: PathBuf,
    blobs: ContentFolder,
    /// Entries of `index.json`, changed while images are taken and written when they are whole.
    index: Mutex<Index>,
}

/// The entries of an `index.json`, kept as they are.
#[derive(Debug, Default)]
pub(super) struct Index {
    entries: Vec<Value>,
}

impl Index {
    /// Reads an `index.json`.
    pub fn read(bytes: &[u8], path: &str) -> Result<Self, TransferError> {
        let shape = |cause: String| LayoutError::Shape { path: path.to_owned(), cause };
        // Read as a document first: it must be an index like any other.
        let announced = Some(media_type::INDEX);
        Document::read(Bytes::copy_from_slice(bytes), announced)
            .map_err(|error| shape(format!("its index.json: {error}")))?;
        let document: Value = serde_json::from_slice(bytes)
            .map_err(|error| shape(format!("its index.json: {error}")))?;
        let entries =
            document.get("manifests").and_then(Value::as_array).cloned().unwrap_or_default();
        Ok(Self { entries })
    }

    /// The digests of its entries.
    pub fn digests(&self) -> Vec<Digest> {
        let digest = |entry: &Value| entry.get("digest")?.as_str()?.parse().ok();
        self.entries.iter().filter_map(digest).collect()
    }

    /// Its images: each with its name, or the beginning of its digest where it has none.
    pub fn images(&self) -> Vec<(String, Digest)> {
        let image = |entry: &Value| {
            let digest: Digest = entry.get("digest")?.as_str()?.parse().ok()?;
            let name = name(entry).map_or_else(|| digest.short().to_owned(), str::to_owned);
            Some((name, digest))
        };
        self.entries.iter().filter_map(image).collect()
    }

    /// The names of its images.
    pub fn names(&self) -> Vec<String> {
        self.entries.iter().filter_map(name).map(str::to_owned).collect()
    }

    /// The digest of an entry by its name; when no name is given, of the only entry, or of the only one that has a name:
    /// what lies beside it without one belongs to it, as its signatures do.
    pub fn find(&self, wanted: Option<&str>) -> Result<(Digest, Option<String>), LayoutError> {
        let entry = match wanted {
            Some(wanted) => self.entries.iter().find(|entry| {
                name(entry)
                    .is_some_and(|name| name == wanted || name.ends_with(&format!(":{wanted}")))
            }),
            None if self.entries.len() == 1 => self.entries.first(),
            None => {
                let mut named = self.entries.iter().filter(|entry| name(entry).is_some());
                named.next().filter(|_| named.next().is_none())
            }
        };
        let digest = |entry: &Value| entry.get("digest")?.as_str()?.parse().ok();
        match entry.and_then(|entry| Some((digest(entry)?, entry))) {
            Some((digest, entry)) => Ok((digest, name(entry).map(str::to_owned))),
            None => {
                let names = self.names().join(", ");
                Err(match wanted {
                    _ if self.entries.is_empty() => LayoutError::NotFound("any image".into()),
                    Some(wanted) => LayoutError::NoImage { wanted: wanted.to_owned(), names },
                    None => LayoutError::SeveralImages { count: self.entries.len(), names },
                })
            }
        }
    }

    /// Adds an image, in the place of one of the same name.
    pub fn add(&mut self, digest: &Digest, document: &Document, tag: Option<&str>) {
        self.entries.retain(|entry| match tag {
            Some(tag) => name(entry) != Some(tag),
            None => entry.get("digest").and_then(Value::as_str) != Some(digest.as_str()),
        });
        let mut entry = json!({
            "mediaType": document.media_type, "digest": digest, "size": document.bytes.len(),
        });
        if let Some(tag) = tag {
            entry["annotations"] = json!({ REF_NAME: tag });
        }
        self.entries.push(entry);
    }

    /// The text of `index.json`.
    pub fn text(&self) -> String {
        json!({ "schemaVersion": 2, "mediaType": media_type::INDEX, "manifests": self.entries })
            .to_string()
    }
}

fn name(entry: &Value) -> Option<&str> {
    entry.get("annotations")?.get(REF_NAME)?.as_str()
}

/// Refuses a small blob that is not small, before anything of it is read.
pub(super) fn check_small(blob: &Descriptor, limit: usize) -> Result<(), TransferError> {
    if blob.size > limit as u64 {
        let digest = blob.digest.clone();
        return Err(
            LayoutError::Length { digest, expected: limit as u64, actual: blob.size }.into()
        );
    }
    Ok(())
}

/// Refuses bytes that are not what their digest says.
pub(super) fn check_digest(expected: &Digest, bytes: &[u8]) -> Result<(), TransferError> {
    let mut hasher = Hasher::new(expected.algorithm());
    hasher.update(bytes);
    let actual = hasher.finish();
    if actual == *expected {
        Ok(())
    } else {
        Err(TransferError::Mismatch { expected: expected.clone(), actual })
    }
}

impl Layout {
    /// Opens a layout that is there.
    pub fn open(root: &Path) -> Result<Self, TransferError> {
        let shown = crate::files::named(root);
        fs::metadata(root).map_err(LayoutError::io(format!("cannot read {shown}")))?;
        let shape = |cause: String| LayoutError::Shape { path: shown.clone(), cause };
        let marker = crate::files::read_bounded(&root.join("oci-layout"), MANIFEST_LIMIT)
            .map_err(|error| shape(format!("its file oci-layout: {error}")))?;
        let marker: Value = serde_json::from_slice(&marker).unwrap_or_default();
        match marker.get("imageLayoutVersion").and_then(Value::as_str) {
            Some(version) if version.starts_with("1.") => {}
            _ => return Err(shape("its file oci-layout does not name version 1".into()).into()),
        }
        let index = crate::files::read_bounded(&root.join("index.json"), MANIFEST_LIMIT)
            .map_err(|error| shape(format!("its file index.json: {error}")))?;
        let index = Mutex::new(Index::read(&index, &shown)?);
        Ok(Self { root: root.to_owned(), blobs: ContentFolder::of_layout(root), index })
    }

    /// Opens a layout to write to, making it where there is none. A folder that holds something
    /// else is refused.
    pub fn make(root: &Path) -> Result<Self, TransferError> {
        let io =
            |doing: &str| LayoutError::io(format!("cannot {doing} {}", crate::files::named(root)));
        if root.join("oci-layout").exists() {
            let mut there = Self::open(root)?;
            there.blobs = ContentFolder::make_layout(root)?;
            return Ok(there);
        }
        if root.exists() && fs::read_dir(root).map_err(io("read"))?.next().is_some() {
            let path = crate::files::named(root);
            return Err(LayoutError::Occupied { path, by: "other files" }.into());
        }
        let blobs = ContentFolder::make_layout(root)?;
        fs::write(root.join("oci-layout"), MARKER).map_err(io("write to"))?;
        let made = Self { root: root.to_owned(), blobs, index: Mutex::default() };
        made.write_index()?;
        Ok(made)
    }

    /// The digest of one of its images, and its name: see [`Index::find`].
    pub fn find(&self, wanted: Option<&str>) -> Result<(Digest, Option<String>), LayoutError> {
        self.index.lock().unwrap_or_else(PoisonError::into_inner).find(wanted)
    }

    /// Its images: see [`Index::images`].
    pub fn images(&self) -> Vec<(String, Digest)> {
        self.index.lock().unwrap_or_else(PoisonError::into_inner).images()
    }

    fn write_index(&self) -> Result<(), TransferError> {
        let text = self.index.lock().unwrap_or_else(PoisonError::into_inner).text();
        let path = self.root.join("index.json");
        crate::files::replace(&path, text.as_bytes())
            .map_err(LayoutError::io(format!("cannot write {}", crate::files::named(&path))))
    }

    async fn whole(&self, digest: &Digest, limit: usize) -> Result<Bytes, TransferError> {
        let size = self
            .blobs
            .size(digest)
            .await?
            .ok_or_else(|| LayoutError::NotFound(digest.to_string()))?;
        if size > limit as u64 {
            let digest = digest.clone();
            return Err(LayoutError::Length { digest, expected: limit as u64, actual: size }.into());
        }
        let mut reader = self.blobs.read(digest, 0..size).await?;
        let mut bytes = Vec::new();
        while let Some(piece) = reader.next().await {
            bytes.extend_from_slice(&piece?);
        }
        check_digest(digest, &bytes)?;
        Ok(bytes.into())
    }
}

/// Reads a manifest that lies in a layout.
pub(super) fn document(digest: Digest, bytes: Bytes) -> Result<(Digest, Document), TransferError> {
    match Document::read(bytes, None) {
        Ok(document) => Ok((digest, document)),
        Err(source) => Err(TransferError::Document { digest, source }),
    }
}

#[async_trait]
impl Source for Layout {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        let digest = match selector {
            Selector::Digest(digest) => digest.clone(),
            Selector::Tag(tag) => self.find(Some(tag.as_str()))?.0,
        };
        let bytes = self.whole(&digest, MANIFEST_LIMIT).await?;
        document(digest, bytes)
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        let size = self.blobs.size(&blob.digest).await?;
        let actual = size.ok_or_else(|| LayoutError::NotFound(blob.digest.to_string()))?;
        if actual != blob.size {
            let digest = blob.digest.clone();
            return Err(LayoutError::Length { digest, expected: blob.size, actual }.into());
        }
        let reader = self.blobs.read(&blob.digest, 0..actual).await?;
        Ok(reader.map(|piece| piece.map_err(TransferError::Store)).boxed())
    }

    async fn blob_from(
        &self,
        _place: usize,
        blob: &Descriptor,
        from: u64,
    ) -> Result<Option<Content>, TransferError> {
        // One of another length is refused where it is read whole.
        if self.blobs.size(&blob.digest).await? != Some(blob.size) {
            return Ok(None);
        }
        let reader = self.blobs.read(&blob.digest, from..blob.size).await?;
        Ok(Some(reader.map(|piece| piece.map_err(TransferError::Store)).boxed()))
    }

    async fn piece(
        &self,
        blob: &Descriptor,
        range: &Range<u64>,
    ) -> Result<Option<Bytes>, TransferError> {
        if self.blobs.size(&blob.digest).await?.is_none_or(|size| size < range.end) {
            return Ok(None);
        }
        let mut reader = self.blobs.read(&blob.digest, range.clone()).await?;
        let mut piece = BytesMut::new();
        while let Some(part) = reader.next().await {
            piece.extend_from_slice(&part?);
        }
        Ok(Some(piece.freeze()))
    }

    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        let entries = self.index.lock().unwrap_or_else(PoisonError::into_inner).digests();
        among(self, entries, about).await
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        self.whole(&blob.digest, limit).await
    }
}

#[async_trait]
impl Target for Layout {
    async fn holds(&self, digest: &Digest) -> Result<bool, TransferError> {
        // Manifests are written after their blobs, but a layout made by others promises nothing.
        let Ok(bytes) = self.whole(digest, MANIFEST_LIMIT).await else { return Ok(false) };
        let (_, document) = document(digest.clone(), bytes)?;
        for needed in document.descriptors() {
            if self.blobs.size(&needed.digest).await? != Some(needed.size) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(self.blobs.size(&blob.digest).await? == Some(blob.size))
    }

    async fn take_blob(&self, blob: &Descriptor, content: Content) -> Result<(), TransferError> {
        let writer = pour(self.blobs.write(Purpose::Keep).await?, content).await?;
        self.blobs.commit(&blob.digest, writer).await?;
        Ok(())
    }

    async fn begun(&self, blob: &Descriptor) -> Result<u64, TransferError> {
        match blob.size < WORTH_RESUMING {
            true => Ok(0),
            false => Ok(self.blobs.begun(&blob.digest).await?),
        }
    }

    async fn take_rest(
        &self,
        blob: &Descriptor,
        from: u64,
        content: Content,
    ) -> Result<(), TransferError> {
        if blob.size < WORTH_RESUMING {
            return self.take_blob(blob, content).await;
        }
        let writer = match self.blobs.go_on(&blob.digest, from).await? {
            Some(writer) => writer,
            // Somebody else writes it at this moment, or what was there is not what it was.
            None if from == 0 => return self.take_blob(blob, content).await,
            None => return Err(StoreError::Busy(blob.digest.to_string()).into()),
        };
        let writer = pour(writer, content).await?;
        self.blobs.commit(&blob.digest, writer).await?;
        Ok(())
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        document: &Document,
        role: ManifestRole<'_>,
        _sparse: bool,
    ) -> Result<(), TransferError> {
        self.blobs.put(digest, document.bytes.clone()).await?;
        if let ManifestRole::Image(tag) = role {
            let tag = tag.map(larder_core::name::Tag::as_str);
            self.index.lock().unwrap_or_else(PoisonError::into_inner).add(digest, document, tag);
        }
        Ok(())
    }

    async fn finish(&self) -> Result<(), TransferError> {
        self.write_index()?;
        // What runs before this one have left, if they were killed.
        self.blobs.remove_abandoned(larder_store::ABANDONED).await?;
        // Only an empty folder is removed: another run may be writing beside us.
        match fs::remove_dir(self.root.join(".incoming")) {
            Ok(()) => Ok(()),
            Err(error) if error.kind() == std::io::ErrorKind::DirectoryNotEmpty => Ok(()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
            Err(source) => {
                Err(StoreError::Io { doing: "cannot remove .incoming".into(), source }.into())
            }
        }
    }
}
