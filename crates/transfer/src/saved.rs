//! Archives in the older layout in which container daemons save images: `manifest.json` names
//! configurations and layers by their paths in the archive, and there are no manifests.
//!
//! A manifest is made from what is there: the layers' digests are those that the configuration
//! names for their uncompressed content, which is how they lie there.

use std::collections::HashMap;
use std::io::{Read as _, Seek as _, SeekFrom};

use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_core::document::{CONFIG_LIMIT, Document, MANIFEST_LIMIT, media_type};
use serde::Deserialize;
use serde_json::json;

use super::entries::{Entries, Spot, refused};
use super::layout::Index;
use super::{LayoutError, TransferError};

/// The most images of one archive.
const IMAGE_LIMIT: usize = 10_000;
const PIECE: usize = 512 * 1024;

/// What was found.
pub(super) struct SavedImages {
    pub index: Index,
    pub blobs: HashMap<Digest, Spot>,
    pub made: HashMap<Digest, Bytes>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct SavedManifest {
    config: String,
    #[serde(default)]
    repo_tags: Option<Vec<String>>,
    #[serde(default)]
    layers: Option<Vec<String>>,
}

#[derive(Deserialize)]
struct SavedConfig {
    rootfs: RootFs,
}

#[derive(Deserialize)]
struct RootFs {
    diff_ids: Vec<Digest>,
}

/// Reads `manifest.json` and what it names.
pub(super) fn read(archive: &Entries<'_>) -> Result<SavedImages, TransferError> {
    let wrong = |cause: String| refused(archive.path, cause);
    let list = archive.small("manifest.json", MANIFEST_LIMIT)?;
    let list: Vec<SavedManifest> = serde_json::from_slice(&list)
        .map_err(|error| wrong(format!("its manifest.json cannot be read: {error}")))?;
    if list.len() > IMAGE_LIMIT {
        return Err(wrong(format!("it has more than {IMAGE_LIMIT} images")));
    }
    let mut read =
        SavedImages { index: Index::default(), blobs: HashMap::new(), made: HashMap::new() };
    for saved in &list {
        let (digest, document) = read.image(archive, saved)?;
        let names = saved.repo_tags.as_deref().unwrap_or_default();
        for name in names {
            read.index.add(&digest, &document, Some(name));
        }
        if names.is_empty() {
            read.index.add(&digest, &document, None);
        }
        read.made.insert(digest, document.bytes);
    }
    Ok(read)
}

impl SavedImages {
    fn image(
        &mut self,
        archive: &Entries<'_>,
        saved: &SavedManifest,
    ) -> Result<(Digest, Document), TransferError> {
        let wrong = |cause: String| refused(archive.path, cause);
        let shown = saved.config.escape_debug();
        let bytes = archive.small(&saved.config, CONFIG_LIMIT)?;
        let config: SavedConfig = serde_json::from_slice(&bytes)
            .map_err(|error| wrong(format!("its {shown} is no image configuration: {error}")))?;
        let layers = saved.layers.as_deref().unwrap_or_default();
        let ids = config.rootfs.diff_ids;
        if layers.len() != ids.len() {
            let (layers, ids) = (layers.len(), ids.len());
            return Err(wrong(format!("its {shown} names {ids} layers, and {layers} are there")));
        }
        let digest = Digest::of(&bytes);
        let size = bytes.len();
        self.blobs.insert(digest.clone(), archive.entries[&saved.config]);
        let mut described = Vec::new();
        for (name, id) in layers.iter().zip(ids) {
            let missing = || wrong(format!("it has no {}", name.escape_debug()));
            let spot = *archive.entries.get(name).ok_or_else(missing)?;
            let (digest, media_type) = layer(archive, spot, id)?;
            described.push(json!({ "mediaType": media_type, "digest": digest, "size": spot.1 }));
            self.blobs.insert(digest, spot);
        }
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": media_type::MANIFEST,
            "config": { "mediaType": media_type::CONFIG, "digest": digest, "size": size },
            "layers": described,
        });
        let bytes = Bytes::from(manifest.to_string());
        let digest = Digest::of(&bytes);
        let document = Document::read(bytes, Some(media_type::MANIFEST))
            .map_err(|source| TransferError::Document { digest: digest.clone(), source })?;
        Ok((digest, document))
    }
}

/// The digest of a layer as it lies there. Most lie there uncompressed, and the configuration says
/// what their digest is; the receiver of the layer verifies it.
fn layer(
    archive: &Entries<'_>,
    (start, size): Spot,
    id: Digest,
) -> Result<(Digest, &'static str), TransferError> {
    let hash = || -> std::io::Result<Option<Digest>> {
        let mut file = crate::files::open_regular(archive.path)?;
        file.seek(SeekFrom::Start(start))?;
        let mut file = file.take(size);
        let mut piece = vec![0; PIECE];
        let mut got = file.read(&mut piece)?;
        if !piece[..got].starts_with(&[0x1f, 0x8b]) {
            return Ok(None);
        }
        let mut hasher = Hasher::new(Algorithm::Sha256);
        while got > 0 {
            hasher.update(&piece[..got]);
            got = file.read(&mut piece)?;
        }
        Ok(Some(hasher.finish()))
    };
    let reading = format!("cannot read {}", crate::files::named(archive.path));
    match hash().map_err(LayoutError::io(reading))? {
        Some(digest) => Ok((digest, media_type::LAYER_GZIP)),
        None => Ok((id, media_type::LAYER)),
    }
}
