//! `larder inventory --fill`: reading all layers that the larder holds and that nobody has read yet.

use std::collections::BTreeMap;

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT, ManifestShape, media_type};
use larder_core::name::RepositoryName;
use larder_store::{Store, StoreError};
use larder_transfer::inventory::LayerReading;
use larder_transfer::{Own, Watch as _};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::inventory::at_once;
use crate::output::{Output, Report, bytes, count, short};

/// Manifests that are looked through at once.
const PAGE: usize = 500;

/// What was read.
#[derive(Serialize, JsonSchema)]
pub struct FillReport {
    /// Layers that were read now, and their bytes as they are stored.
    read: usize,
    read_bytes: u64,
    /// Layers that had been read before.
    known: usize,
    failed: Vec<FailedLayer>,
}

#[derive(Serialize, JsonSchema)]
struct FailedLayer {
    #[schemars(with = "String")]
    layer: Digest,
    cause: String,
}

/// Reads what nobody has read yet; a layer that cannot be read stops no other.
pub async fn run(context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = "cannot read what is in the larder's images";
    let layers = layers(&store).await.map_err(|error| Failure::store(what, &error))?;
    let unread = store.unread_layers(layers.keys().cloned().collect()).await;
    let unread = unread.map_err(|error| Failure::store(what, &error))?;
    let known = layers.len() - unread.len();
    let wanted: Vec<&Descriptor> = unread.iter().filter_map(|digest| layers.get(digest)).collect();
    let progress = context.output.progress();
    progress.expect(wanted.iter().map(|layer| layer.size).sum());
    progress.say("reading layers");
    // Every layer is read by its digest, whichever repository has it.
    let repository: RepositoryName = "all"
        .parse()
        .map_err(|error| Failure::usage(what, error, "tell us: this name is our own"))?;
    let source = Own::new(store.clone(), repository).reading_all();
    let tell = |bytes| progress.advance(bytes);
    let reading = LayerReading {
        source: &source,
        store: Some(&store),
        at_once: 1,
        is_gentle: true,
        tell: &tell,
    };
    let mut report = FillReport { read: 0, read_bytes: 0, known, failed: Vec::new() };
    let reads = wanted
        .iter()
        .map(|layer| async { (*layer, reading.layers(std::slice::from_ref(*layer)).await) });
    let mut reads = stream::iter(reads).buffer_unordered(at_once());
    while let Some((layer, read)) = reads.next().await {
        let cause = match read {
            Ok((_, 1)) => {
                report.read += 1;
                report.read_bytes += layer.size;
                continue;
            }
            Ok((outcomes, _)) => outcomes
                .into_iter()
                .find_map(|outcome| match outcome {
                    larder_core::inventory::LayerOutcome::NotRead(why) => Some(why),
                    larder_core::inventory::LayerOutcome::Read(_) => None,
                })
                // Somebody else was quicker.
                .unwrap_or_default(),
            Err(error) => error.to_string(),
        };
        if !cause.is_empty() {
            report.failed.push(FailedLayer { layer: layer.digest.clone(), cause });
        }
    }
    drop(reads);
    progress.done();
    report.failed.sort_by(|a, b| a.layer.cmp(&b.layer));
    context.output.tell(&report);
    Ok(if report.failed.is_empty() { Exit::Done } else { Exit::No })
}

/// Every layer that a manifest of the larder names.
async fn layers(store: &Store) -> Result<BTreeMap<Digest, Descriptor>, StoreError> {
    let mut layers = BTreeMap::new();
    let mut after: Option<Digest> = None;
    loop {
        let page = store.manifests_after(after.as_ref(), PAGE).await?;
        let Some((last, _)) = page.last() else { return Ok(layers) };
        after = Some(last.clone());
        for (_, body) in page {
            if body.len() > MANIFEST_LIMIT {
                continue;
            }
            let Ok(document) = Document::read(body.into(), None) else { continue };
            if let ManifestShape::Manifest { layers: of_it, .. } = document.kind {
                let of_it = of_it.into_iter().filter(|one| media_type::is_layer(&one.media_type));
                layers.extend(of_it.map(|layer| (layer.digest.clone(), layer)));
            }
        }
    }
}

impl Report for FillReport {
    const KIND: &'static str = "inventory-fill";

    fn show(&self, out: &Output) {
        let (read, known) = (count(self.read, "layer"), count(self.known, "layer"));
        let size = bytes(self.read_bytes);
        out.result(format!("read {read} ({size}); {known} had been read before"));
        for one in &self.failed {
            out.result(format!("not read: {}: {}", short(&one.layer), one.cause));
        }
    }
}
