//! Reading the layers of an image for what is in them, each once for all images that have it.

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::Arc;

use bytes::Bytes;
use futures_util::stream::{self, StreamExt as _, TryStreamExt as _};
use larder_core::companion;
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{
    CONFIG_LIMIT, Descriptor, Document, ImageConfig, ImageDetails, ManifestShape, media_type,
};
use larder_core::inventory::{
    BuildLayer, ImageInventory, LayerFacts, LayerLimits, LayerOutcome, build_layers, compose,
    read_layer,
};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_core::sbom::{self, Sbom, read_sbom};
use larder_store::Store;
use tokio::sync::{mpsc, oneshot};

use super::{Content, Source, TransferError};

/// Pieces of a layer that wait to be read.
const WAITING: usize = 8;

/// An image of one platform, with all that is in it.
#[derive(Debug, Clone)]
pub struct ReadImage {
    /// Of its manifest.
    pub digest: Digest,
    /// Of its manifest, in bytes.
    pub size_bytes: u64,
    pub media_type: String,
    /// None: its configuration does not say.
    pub platform: Option<Platform>,
    /// None: it has none that can be read.
    pub config: Option<ImageConfig>,
    pub layers: Vec<BuildLayer>,
    pub inventory: ImageInventory,
    /// Layers that were read now; of the others it was known.
    pub read: usize,
}

/// A bill of materials that came with an image.
#[derive(Debug, Clone)]
pub struct FoundSbom {
    /// Of the companion, or of the record of its building.
    pub digest: Digest,
    /// Err: why it cannot be read.
    pub sbom: Result<Sbom, String>,
}

/// The most bills of materials that are read of one image.
const SBOMS: usize = 20;

/// The bills of materials that came with an image: as companions of its manifest or of its index, or among the records of
/// its building. What is something else is passed over.
pub async fn sboms(
    source: &dyn Source,
    top: (&Digest, &Document),
    image: &Digest,
) -> Result<Vec<FoundSbom>, TransferError> {
    let mut manifests: Vec<(Digest, bool)> = Vec::new();
    let mut about = vec![image];
    about.extend((top.0 != image).then_some(top.0));
    for about in about {
        for (digest, companion) in source.companions(about).await? {
            if companion::may_be_sbom(&companion.kind) {
                manifests.push((digest, !companion.kind.contains("in-toto")));
            }
        }
    }
    let records = top.1.children().iter().filter(|child| {
        child.annotations.get(companion::RECORDED_DIGEST).is_some_and(|of| *of == image.as_str())
    });
    manifests.extend(records.map(|child| (child.digest.clone(), false)));
    let mut found = Vec::new();
    for (digest, says_so) in manifests.into_iter().take(SBOMS) {
        let (_, document) = match source.manifest(&Selector::Digest(digest.clone())).await {
            Ok(manifest) => manifest,
            Err(error) if error.is_missing() => continue,
            Err(error) => return Err(error),
        };
        let ManifestShape::Manifest { layers, .. } = &document.kind else { continue };
        for layer in layers.iter().take(SBOMS) {
            let sbom = match layer.size {
                size if size > sbom::LARGEST as u64 => Err(sbom::MalformedSbom::Large),
                _ => {
                    let bytes = source.small_blob(layer, sbom::LARGEST).await?;
                    tokio::task::spawn_blocking(move || read_sbom(&bytes))
                        .await
                        .map_err(|_| larder_store::StoreError::Closed)?
                }
            };
            let sbom = match sbom {
                // Statements are about other things as well.
                Err(_) if !says_so => continue,
                sbom => sbom.map_err(|error| error.to_string()),
            };
            found.push(FoundSbom { digest: digest.clone(), sbom });
        }
    }
    Ok(found)
}

/// How layers are read.
#[derive(Clone, Copy)]
pub struct LayerReading<'r> {
    pub source: &'r dyn Source,
    /// Where it is kept what is known of layers. None: nowhere.
    pub store: Option<&'r Store>,
    /// How many layers are read at once.
    pub at_once: usize,
    /// Whether others go first at the processor.
    pub is_gentle: bool,
    /// Is told of every layer that was read, with its bytes.
    pub tell: &'r (dyn Fn(u64) + Sync),
}

impl LayerReading<'_> {
    /// Reads an image. What is no image has no layers that can be read.
    pub async fn image(
        &self,
        digest: Digest,
        document: &Document,
    ) -> Result<ReadImage, TransferError> {
        let ManifestShape::Manifest { config, layers } = &document.kind else {
            return Err(TransferError::Depth);
        };
        let (config, details) = match config.size <= CONFIG_LIMIT as u64 {
            true => {
                let bytes = self.source.small_blob(config, CONFIG_LIMIT).await?;
                (ImageConfig::read(&bytes).ok(), ImageDetails::read(&bytes))
            }
            false => (None, ImageDetails::default()),
        };
        let (outcomes, read) = self.layers(layers).await?;
        let digests = layers.iter().map(|layer| (&layer.digest, layer.size));
        Ok(ReadImage {
            digest,
            size_bytes: document.bytes.len() as u64,
            media_type: document.media_type.clone(),
            platform: config.as_ref().and_then(ImageConfig::platform),
            config,
            layers: build_layers(digests, &details.history),
            inventory: compose(&outcomes),
            read,
        })
    }

    /// What is known of layers, in their order, and how many of them were read now.
    pub async fn layers(
        &self,
        layers: &[Descriptor],
    ) -> Result<(Vec<LayerOutcome>, usize), TransferError> {
        let mut wanted: Vec<&Descriptor> = Vec::new();
        for layer in layers.iter().filter(|layer| media_type::is_layer(&layer.media_type)) {
            // Some images have the same layer many times.
            if !wanted.iter().any(|one| one.digest == layer.digest) {
                wanted.push(layer);
            }
        }
        let mut known: HashMap<Digest, Arc<LayerFacts>> = match self.store {
            Some(store) => {
                let digests: Vec<Digest> =
                    wanted.iter().map(|layer| layer.digest.clone()).collect();
                store.layer_facts(&digests).await?
            }
            None => HashMap::new(),
        };
        wanted.retain(|layer| !known.contains_key(&layer.digest));
        let reads = wanted.iter().map(|layer| async {
            let read = self.layer(layer).await?;
            (self.tell)(layer.size);
            Ok::<_, TransferError>((layer.digest.clone(), read))
        });
        let all: Vec<(Digest, Result<LayerFacts, String>)> =
            stream::iter(reads).buffer_unordered(self.at_once.max(1)).try_collect().await?;
        let read = all.iter().filter(|(_, read)| read.is_ok()).count();
        let mut missing: HashMap<Digest, String> = HashMap::new();
        for (digest, outcome) in all {
            match outcome {
                Ok(facts) => drop(known.insert(digest, Arc::new(facts))),
                Err(why) => drop(missing.insert(digest, why)),
            }
        }
        let outcomes = layers.iter().map(|layer| match known.get(&layer.digest) {
            Some(facts) => LayerOutcome::Read(Arc::clone(facts)),
            None => {
                LayerOutcome::NotRead(missing.get(&layer.digest).cloned().unwrap_or_else(|| {
                    let kind = larder_core::shown::cut(&layer.media_type, 100);
                    format!("it is of the type `{kind}`, which is none of a layer that is read")
                }))
            }
        });
        Ok((outcomes.collect(), read))
    }

    /// Reads a layer and keeps what is known of it. Err: why it is not there.
    async fn layer(&self, layer: &Descriptor) -> Result<Result<LayerFacts, String>, TransferError> {
        let content = match self.source.blob(layer).await {
            Ok(content) => content,
            Err(error) if error.is_missing() => {
                let elsewhere =
                    if layer.urls.is_empty() { "" } else { "; its maker forbids to pass it on" };
                return Ok(Err(format!("it is not there: {error}{elsewhere}")));
            }
            Err(error) => return Err(error),
        };
        let facts = read(content, layer, self.is_gentle).await?;
        if let Some(store) = self.store
            && let Err(error) = store.keep_layer_facts(&layer.digest, &facts).await
        {
            // It is read again another time.
            tracing::warn!(%error, layer = %layer.digest, "what a layer holds could not be noted");
        }
        Ok(Ok(facts))
    }
}

/// A layer's content, verified while it is read.
struct Pieces {
    from: mpsc::Receiver<Result<Bytes, TransferError>>,
    piece: Bytes,
    hasher: Hasher,
    /// What its descriptor says that is still to come.
    rest: u64,
    failed: Option<TransferError>,
}

impl Read for Pieces {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        while self.piece.is_empty() {
            match self.from.blocking_recv() {
                None => return Ok(0),
                Some(Ok(piece)) if piece.len() as u64 > self.rest => {
                    return Err(io::Error::other("it is longer than its descriptor says"));
                }
                Some(Ok(piece)) => {
                    self.hasher.update(&piece);
                    self.rest -= piece.len() as u64;
                    self.piece = piece;
                }
                Some(Err(error)) => {
                    self.failed = Some(error);
                    return Err(io::Error::other("its source failed"));
                }
            }
        }
        let length = to.len().min(self.piece.len());
        to[..length].copy_from_slice(&self.piece.split_to(length));
        Ok(length)
    }
}

/// Reads what a content holds, if it is the one that its descriptor says.
async fn read(
    mut content: Content,
    layer: &Descriptor,
    is_gentle: bool,
) -> Result<LayerFacts, TransferError> {
    let (to, from) = mpsc::channel(WAITING);
    let (answer, answered) = oneshot::channel();
    let pieces = Pieces {
        from,
        piece: Bytes::new(),
        hasher: Hasher::new(layer.digest.algorithm()),
        rest: layer.size,
        failed: None,
    };
    let expected = layer.digest.clone();
    // A thread of its own: others may go first there, and it takes long.
    let thread = std::thread::Builder::new().name("inventory".to_owned()).spawn(move || {
        if is_gentle {
            let _ = rustix::process::nice(10);
        }
        // Nobody may wait for it any more.
        let _ = answer.send(read_verified(pieces, expected));
    });
    thread.map_err(|source| larder_store::StoreError::Io {
        doing: "cannot start a thread".to_owned(),
        source,
    })?;
    while let Some(piece) = content.next().await {
        let is_last = piece.is_err();
        // Who reads has met what is wrong with it.
        if to.send(piece).await.is_err() || is_last {
            break;
        }
    }
    drop(to);
    answered.await.unwrap_or(Err(larder_store::StoreError::Closed.into()))
}

fn read_verified(mut pieces: Pieces, expected: Digest) -> Result<LayerFacts, TransferError> {
    let facts = read_layer(&mut pieces, &LayerLimits::default());
    // What stands behind the archive belongs to what the digest is of.
    let rest = match &facts {
        Ok(_) => io::copy(&mut pieces, &mut io::sink()).map(drop),
        Err(_) => Ok(()),
    };
    if let Some(error) = pieces.failed.take() {
        return Err(error);
    }
    let Pieces { hasher, rest: missing, .. } = pieces;
    let actual = hasher.finish();
    match (facts, rest) {
        (Ok(facts), Ok(())) if missing == 0 && actual == expected => Ok(facts),
        _ => Err(TransferError::Mismatch { expected, actual }),
    }
}
