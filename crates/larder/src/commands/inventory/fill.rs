//! `larder inventory --fill`: reading all layers that the larder holds and that nobody has read yet.

use larder_core::digest::Digest;
use larder_core::document::{Document, MANIFEST_LIMIT};
use larder_store::{HeldLayers, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::inventory::{LayersRead, read_unread};
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
    /// Images whose packages were noted now, for advisories to be held against.
    images_noted: usize,
    failed: Vec<UnreadLayer>,
}

/// A layer that could not be read.
#[derive(Serialize, JsonSchema)]
pub struct UnreadLayer {
    #[schemars(with = "String")]
    layer: Digest,
    cause: String,
}

/// Reads what nobody has read yet; a layer that cannot be read stops no other.
pub async fn run(context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = "cannot read what is in the larder's images";
    let failed = |error| Failure::store(what, &error);
    let held = held(&store).await.map_err(failed)?;
    let read = read_unread(&store, held.layers, context).await.map_err(failed)?;
    let noted = store.note_images(&held.images).await.map_err(failed)?;
    let report = FillReport { images_noted: noted.noted, ..FillReport::of(&read) };
    context.output.tell(&report);
    Ok(if report.failed.is_empty() { Exit::Done } else { Exit::No })
}

/// Every image of the larder, with its layers.
async fn held(store: &Store) -> Result<HeldLayers, StoreError> {
    let mut held = HeldLayers::default();
    let mut after: Option<Digest> = None;
    loop {
        let page = store.bodies_after(after.as_ref(), PAGE).await?;
        let Some((last, _)) = page.last() else { return Ok(held) };
        after = Some(last.clone());
        for (digest, body) in page.into_iter().filter(|(_, body)| body.len() <= MANIFEST_LIMIT) {
            if let Ok(document) = Document::read(body, None) {
                held.add(digest, &document);
            }
        }
    }
}

impl UnreadLayer {
    /// Those that could not be read.
    pub fn all(read: &LayersRead) -> Vec<Self> {
        let one =
            |(layer, cause): &(Digest, String)| Self { layer: layer.clone(), cause: cause.clone() };
        read.failed.iter().map(one).collect()
    }

    /// For people.
    pub fn line(&self) -> String {
        format!("not read: layer {}: {}", short(&self.layer), self.cause)
    }
}

impl FillReport {
    fn of(read: &LayersRead) -> Self {
        let failed = UnreadLayer::all(read);
        let (known, read_bytes) = (read.known, read.bytes);
        Self { read: read.read, read_bytes, known, images_noted: 0, failed }
    }
}

impl Report for FillReport {
    const KIND: &'static str = "inventory-fill";

    fn show(&self, out: &Output) {
        let (read, known) = (count(self.read, "layer"), count(self.known, "layer"));
        let size = bytes(self.read_bytes);
        out.result(format!("read {read} ({size}); {known} had been read before"));
        self.failed.iter().for_each(|one| out.result(one.line()));
    }
}
