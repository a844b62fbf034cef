//! What is inside an image that the call names: its layers read, or what is known of them.

use larder_core::inventory::{ImageInventory, ImagePackage, InstalledPackage, PackageStanding};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_core::version::Ecosystem;
use larder_store::Store;
use larder_transfer::inventory::{LayerReading, ReadImage};
use larder_transfer::{Source, Watch as _};

use crate::commands::platform_of;
use crate::config::Config;
use crate::context::{Context, store_if_any};
use crate::failure::Failure;
use crate::place::{OpenedSource, Place};

/// The most layers that are read at once: each takes a processor.
const AT_ONCE: usize = 4;

/// An image, and what is in it.
pub struct NamedInventory {
    /// As it was named.
    pub reference: String,
    pub read: ReadImage,
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
    let place = Place::read(text, config)?;
    let OpenedSource { source, selector, .. } = place.source(config)?;
    let store = known(config, context);
    let what = || format!("cannot tell what is in {place}");
    let digest = platform_of(&*source, &selector, &place.to_string(), platform, config).await?;
    let read = of(&*source, store.as_ref(), &Selector::Digest(digest), context).await;
    let read = read.map_err(|error| Failure::transfer(what(), &error))?;
    Ok(NamedInventory { reference: place.to_string(), read })
}

/// Where it is kept what is known of layers. None: nowhere, or it cannot be opened, which is told.
fn known(config: Option<&Config>, context: &Context) -> Option<Store> {
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
) -> Result<ReadImage, larder_transfer::TransferError> {
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
