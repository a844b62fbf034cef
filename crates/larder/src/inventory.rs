//! What is inside an image that the call names: its layers read, or what is known of them.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use futures_util::stream::{self, StreamExt as _};
use larder_core::advisory::{matched, release_of};
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT, ManifestShape, media_type};
use larder_core::inventory::{
    ImageInventory, ImagePackage, InstalledPackage, LayerFacts, LayerOutcome, PackageStanding,
    compose,
};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_core::version::Ecosystem;
use larder_store::{InventoryGaps, Store, StoreError};
use larder_transfer::inventory::{FoundSbom, LayerReading, ReadImage, sboms};
use larder_transfer::{Own, Source, TransferError, Watch as _};

use crate::commands::platform_of;
use crate::config::Config;
use crate::context::{Context, reference_here, store_if_any};
use crate::failure::Failure;
use crate::place::{OpenedSource, Place};

/// The most layers that are read at once: each takes a processor.
const AT_ONCE: usize = 4;
/// The most manifests of which the layers are read after one run.
const MOST_MANIFESTS: usize = 1_000_000;

/// An image, and what is in it.
pub struct NamedInventory {
    /// As it was named.
    pub reference: String,
    pub read: ReadImage,
    /// Bills of materials that came with it.
    pub sboms: Vec<FoundSbom>,
}

/// So many layers are read at once.
pub fn at_once() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from).min(AT_ONCE)
}

/// Reads what an image has, for one platform.
pub async fn read(
    text: &str,
    platform: Option<&Platform>,
    config: Option<&Config>,
    context: &Context,
) -> Result<NamedInventory, Failure> {
    let place = match (Place::read(text, config)?, config) {
        // What lies on a shelf may be named by it.
        (Place::Registry(_), Some(config)) => Place::Registry(reference_here(text, config)?),
        (place, _) => place,
    };
    let OpenedSource { source, selector, .. } = place.source(config)?;
    let store = facts_store(config, context);
    let what = || format!("cannot tell what is in {place}");
    let digest = platform_of(&*source, &selector, &place.to_string(), platform, config).await?;
    let failed = |error: TransferError| Failure::transfer(what(), &error);
    let read = of(&*source, store.as_ref(), &Selector::Digest(digest), context).await;
    let read = read.map_err(failed)?;
    let (top, document) = source.manifest(&selector).await.map_err(failed)?;
    let sboms = sboms(&*source, (&top, &document), &read.digest).await.map_err(failed)?;
    Ok(NamedInventory { reference: place.to_string(), read, sboms })
}

/// Where it is kept what is known of layers. None: nowhere, or it cannot be opened, which is told.
fn facts_store(config: Option<&Config>, context: &Context) -> Option<Store> {
    match store_if_any(config?) {
        Ok(store) => store,
        Err(failure) => {
            let told = "note: what is known of layers cannot be looked up";
            context.output.note(format!("{told}: {}", failure.cause));
            None
        }
    }
}

/// Reads the image of one platform.
async fn of(
    source: &dyn Source,
    store: Option<&Store>,
    selector: &Selector,
    context: &Context,
) -> Result<ReadImage, TransferError> {
    let (digest, document) = source.manifest(selector).await?;
    let progress = context.output.progress();
    progress.say("reading layers");
    progress.expect(document.blobs().map(|blob| blob.size).sum());
    let tell = |bytes| progress.advance(bytes);
    let reading = LayerReading { source, store, at_once: at_once(), is_gentle: false, tell: &tell };
    let read = reading.image(digest, &document).await;
    progress.done();
    read
}

/// What was read of the layers that the larder holds.
#[derive(Debug, Default)]
pub struct LayersRead {
    pub read: usize,
    /// As they are stored.
    pub bytes: u64,
    /// Layers that had been read before.
    pub known: usize,
    /// Those that could not be read, and why.
    pub failed: Vec<(Digest, String)>,
}

/// Reads those of the layers that nobody has read yet, at low priority; one that cannot be read stops no other.
pub async fn read_unread(
    store: &Store,
    layers: BTreeMap<Digest, Descriptor>,
    context: &Context,
) -> Result<LayersRead, StoreError> {
    let unread = store.unread_layers(layers.keys().cloned().collect()).await?;
    let known = layers.len() - unread.len();
    let mut all = LayersRead { known, ..LayersRead::default() };
    let wanted: Vec<&Descriptor> = unread.iter().filter_map(|digest| layers.get(digest)).collect();
    if wanted.is_empty() {
        return Ok(all);
    }
    let progress = context.output.progress();
    progress.expect(wanted.iter().map(|layer| layer.size).sum());
    progress.say("reading layers");
    let source = Own::everything(store.clone());
    let tell = |bytes| progress.advance(bytes);
    let reading = LayerReading {
        source: &source,
        store: Some(store),
        at_once: 1,
        is_gentle: true,
        tell: &tell,
    };
    let reads = wanted
        .iter()
        .map(|layer| async { (*layer, reading.layers(std::slice::from_ref(*layer)).await) });
    let mut reads = stream::iter(reads).buffer_unordered(at_once());
    while let Some((layer, read)) = reads.next().await {
        let why = match read {
            Ok((outcomes, _)) => outcomes.into_iter().find_map(|outcome| match outcome {
                LayerOutcome::NotRead(why) => Some(why),
                LayerOutcome::Read(_) => None,
            }),
            Err(error) => Some(error.to_string()),
        };
        match why {
            Some(why) => all.failed.push((layer.digest.clone(), why)),
            None => {
                all.read += 1;
                all.bytes += layer.size;
            }
        }
    }
    drop(reads);
    progress.done();
    all.failed.sort();
    Ok(all)
}

/// How many images were noted with their packages.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct NotedImages {
    pub noted: usize,
    /// Images of which some layers have not been read.
    pub unread: usize,
}

/// Manifests that are looked through at once.
const PAGE: usize = 500;

/// Notes the packages of images that were not noted yet, each with its layers.
pub async fn note_images(
    store: &Store,
    images: &BTreeMap<Digest, Vec<Descriptor>>,
) -> Result<NotedImages, StoreError> {
    let mut all = NotedImages::default();
    for (digest, noted) in store.unnoted(images.keys().cloned().collect()).await? {
        let Some(layers) = images.get(&digest) else { continue };
        // What is of no type that anybody reads stays unread for ever.
        let readable = layers.iter().filter(|layer| is_readable(layer));
        let readable: Vec<Digest> = readable.map(|layer| layer.digest.clone()).collect();
        let count = readable.len();
        let missing = store.unread_layers(readable).await?.len();
        all.unread += usize::from(missing > 0);
        // Nothing is known of it, or no more than before.
        if missing == count || noted == Some(missing) {
            continue;
        }
        let digests: Vec<Digest> = layers.iter().map(|layer| layer.digest.clone()).collect();
        let known = store.layer_facts(&digests).await?;
        let inventory = compose(&outcomes_of(&digests, &known));
        let parts = inventory.unread.len().saturating_sub(missing);
        let keys = matched(&inventory).into_iter();
        let keys = keys.map(|(key, place)| (key, inventory.packages[place].layer)).collect();
        let release = inventory.release.as_ref().and_then(release_of).unwrap_or_default();
        store
            .note_inventory(&digest, &release, InventoryGaps { layers: missing, parts }, keys)
            .await?;
        all.noted += 1;
    }
    Ok(all)
}

/// What is known of layers, in their order.
pub fn outcomes_of(
    layers: &[Digest],
    known: &HashMap<Digest, Arc<LayerFacts>>,
) -> Vec<LayerOutcome> {
    let outcome = |layer: &Digest| match known.get(layer) {
        Some(facts) => LayerOutcome::Read(Arc::clone(facts)),
        None => LayerOutcome::NotRead("it has not been read".to_owned()),
    };
    layers.iter().map(outcome).collect()
}

/// Notes the packages of all images that are held, as far as their layers have been read, so that advisories find them.
pub async fn note_held(store: &Store, context: &Context) -> Result<NotedImages, StoreError> {
    let mut all = NotedImages::default();
    let mut after: Option<Digest> = None;
    let progress = context.output.progress();
    progress.say("noting packages");
    loop {
        let page = store.manifests_after(after.as_ref(), PAGE).await?;
        let Some((last, _)) = page.last() else { break };
        after = Some(last.clone());
        let mut held = HeldLayers::default();
        for (digest, body) in page {
            if let Ok(document) = Document::read(body.into(), None) {
                held.add(digest, &document);
            }
        }
        let noted = note_images(store, &held.images).await?;
        all.noted += noted.noted;
        all.unread += noted.unread;
    }
    progress.done();
    Ok(all)
}

/// Whether it is a layer of a type that is read.
fn is_readable(layer: &Descriptor) -> bool {
    media_type::is_layer(&layer.media_type)
}

/// The layers of an image, in their order. Empty: none of what a manifest names is a layer.
pub fn layers_of(document: &Document) -> &[Descriptor] {
    match &document.kind {
        ManifestShape::Manifest { layers, .. } if layers.iter().any(is_readable) => layers,
        _ => &[],
    }
}

/// The layers of images, and which image has which.
#[derive(Debug, Default)]
pub struct HeldLayers {
    /// Those that can be read.
    pub layers: BTreeMap<Digest, Descriptor>,
    pub images: BTreeMap<Digest, Vec<Descriptor>>,
}

impl HeldLayers {
    /// Takes up what a manifest names.
    pub fn add(&mut self, digest: Digest, document: &Document) {
        let layers = layers_of(document);
        if !layers.is_empty() {
            self.images.insert(digest, layers.to_vec());
            let readable = layers.iter().filter(|layer| is_readable(layer));
            self.layers.extend(readable.map(|layer| (layer.digest.clone(), layer.clone())));
        }
    }
}

/// The layers of images that were brought in, of all platforms that are here.
pub async fn layers_of_images(
    store: &Store,
    images: impl IntoIterator<Item = Digest>,
) -> Result<HeldLayers, StoreError> {
    let mut held = HeldLayers::default();
    let mut seen: BTreeSet<Digest> = BTreeSet::new();
    let mut open: Vec<Digest> = images.into_iter().collect();
    while let Some(digest) = open.pop() {
        if seen.len() >= MOST_MANIFESTS || !seen.insert(digest.clone()) {
            continue;
        }
        let Some(size) = store.size(&digest).await?.filter(|size| *size <= MANIFEST_LIMIT as u64)
        else {
            continue;
        };
        let Ok(document) = Document::read(store.read_all(&digest, size).await?, None) else {
            continue;
        };
        open.extend(document.children().iter().map(|child| child.digest.clone()));
        held.add(digest, &document);
    }
    Ok(held)
}

/// What an ecosystem is called in a column.
pub fn kind(ecosystem: Ecosystem) -> &'static str {
    match ecosystem {
        Ecosystem::Deb => "deb",
        Ecosystem::Rpm => "rpm",
        Ecosystem::Apk => "apk",
        Ecosystem::Npm => "npm",
        Ecosystem::Go => "go",
        Ecosystem::Cargo => "rust",
        Ecosystem::PyPi => "python",
        Ecosystem::Maven => "java",
        Ecosystem::RubyGems => "ruby",
    }
}

/// The ecosystem of such a name.
pub fn ecosystem(name: &str) -> Option<Ecosystem> {
    Ecosystem::ALL.into_iter().find(|one| kind(*one) == name)
}

/// What is to be said of a package beside its name and version. Empty: nothing.
pub fn remark(one: &ImagePackage) -> String {
    let mut remarks = Vec::new();
    match &one.owner {
        Some(owner) if owner.is_altered => {
            remarks.push(format!("put over what {} brought", owner.name));
        }
        Some(owner) => remarks.push(format!("part of {}", owner.name)),
        None => {}
    }
    remarks.extend(one.inside.as_ref().map(|carrier| format!("inside {carrier}")));
    match one.package.standing {
        PackageStanding::Plain => {}
        PackageStanding::Virtual => remarks.push("holds others together".to_owned()),
        PackageStanding::Guessed => remarks.push("guessed".to_owned()),
        PackageStanding::Main => remarks.push("the program itself".to_owned()),
    }
    remarks.join("; ")
}

/// How many packages of each kind are there.
pub fn kinds(inventory: &ImageInventory) -> Vec<(Ecosystem, usize)> {
    let mut counted: Vec<(Ecosystem, usize)> = Vec::new();
    for one in inventory.packages.iter().filter(|one| one.removed.is_none()) {
        let InstalledPackage { ecosystem, .. } = &one.package;
        match counted.iter_mut().find(|(known, _)| known == ecosystem) {
            Some((_, number)) => *number += 1,
            None => counted.push((*ecosystem, 1)),
        }
    }
    counted
}
