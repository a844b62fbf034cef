//! What is inside an image that the call names: its layers read, or what is known of them.

use std::collections::BTreeMap;

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::Descriptor;
use larder_core::inventory::{
    ImageInventory, ImagePackage, InstalledPackage, LayerOutcome, PackageStanding,
};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_core::version::Ecosystem;
use larder_store::{Store, StoreError};
use larder_transfer::inventory::{FoundSbom, LayerReading, ReadImage, sboms};
use larder_transfer::{Own, Source, TransferError, Watch as _};

use crate::commands::platform_of;
use crate::config::Config;
use crate::context::{Context, reference_here, store_if_any};
use crate::failure::Failure;
use crate::place::{OpenedSource, Place};

/// The most layers that are read at once: each takes a processor.
const AT_ONCE: usize = 4;

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
