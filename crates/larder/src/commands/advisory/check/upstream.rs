//! Newer tags where images come from, read to see whether they have what was published.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::advisory::{PackageVerdict, matched};
use larder_core::lock::Lock;
use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::Platform;
use larder_core::reference::Image;
use larder_core::selection::sort_newest_first;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::CheckedImage;
use crate::commands::intake::Upstreams;
use crate::config::Config;
use crate::context::{Context, read_lock, read_reference};
use crate::failure::Failure;
use crate::inventory::read;
use crate::output::count;

/// Images of upstreams that are asked about, and tags of each that are read.
const IMAGES: usize = 20;
const NEWEST: usize = 2;

/// A newer tag that is not here and lacks it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UpstreamTag {
    /// As the upstream calls it.
    pub image: String,
    /// Whether the lock has it: `larder intake run` brings it in.
    pub locked: bool,
}

/// What of one upstream's image is to be looked at: where the images that were checked are among `places`.
#[derive(Default)]
struct Asked {
    places: Vec<(usize, Tag)>,
}

/// Adds to each finding which newer tags of its upstream lack it, by reading these.
pub async fn look(
    images: &mut [CheckedImage],
    config: &Config,
    store: &Store,
    context: &Context,
) -> Result<(), Failure> {
    let lock = read_lock(config)?;
    let mut asked: BTreeMap<Image, Asked> = BTreeMap::new();
    for (place, image) in images.iter().enumerate() {
        if image.findings.is_empty() {
            continue;
        }
        for (origin, tag) in origins(image, config) {
            let places = &mut asked.entry(origin).or_default().places;
            if !places.iter().any(|(known, _)| *known == place) {
                places.push((place, tag));
            }
        }
    }
    if asked.len() > IMAGES {
        let more = count(asked.len() - IMAGES, "image");
        context.output.note(format!(
            "note: only {IMAGES} images are looked for at their upstreams; {more} are not: narrow it with `--shelf` or by name"
        ));
    }
    let upstreams = Upstreams::new(config);
    for (origin, asked) in asked.into_iter().take(IMAGES) {
        let mut tags = match upstreams.tags(&origin).await {
            Ok(tags) => tags,
            Err(failure) => {
                let told = format!("note: {}: {}", failure.what, failure.cause);
                context.output.note(told);
                continue;
            }
        };
        sort_newest_first(&mut tags);
        let mut read: BTreeMap<(Tag, Option<String>), Option<BTreeSet<String>>> = BTreeMap::new();
        for (place, tag) in asked.places {
            let platform = images[place].platform.clone();
            for candidate in candidates(&tags, &tag, &origin, &lock) {
                let key = (candidate.clone(), platform.clone());
                if !read.contains_key(&key) {
                    let name = format!("{origin}:{candidate}");
                    let on = platform.as_deref().and_then(|text| text.parse().ok());
                    let touched = touched(&name, on.as_ref(), config, store, context).await;
                    let touched = touched.unwrap_or_else(|failure| {
                        context.output.note(format!("note: {}: {}", failure.what, failure.cause));
                        None
                    });
                    read.insert(key.clone(), touched);
                }
                let Some(Some(touched)) = read.get(&key) else { continue };
                let locked = is_locked(&lock, &origin, &candidate);
                let image = format!("{origin}:{candidate}");
                for finding in &mut images[place].findings {
                    let is_here = finding.mended_by.iter().any(|name| ends_in(name, &candidate));
                    if !touched.contains(&*finding.advisory) && !is_here {
                        finding.mended_upstream.push(UpstreamTag { image: image.clone(), locked });
                    }
                }
            }
        }
    }
    Ok(())
}

fn ends_in(name: &str, tag: &Tag) -> bool {
    name.rsplit_once(':').is_some_and(|(_, own)| own == tag.as_str())
}

fn is_locked(lock: &Lock, origin: &Image, tag: &Tag) -> bool {
    lock.entries.keys().any(|want| want.image == *origin && want.tag == *tag)
}

/// Where an image comes from, with its tag, by each of its names. Empty: it is our own, or has none.
fn origins(image: &CheckedImage, config: &Config) -> Vec<(Image, Tag)> {
    let origins = config.routes().origins();
    let mut found = Vec::new();
    for name in &image.names {
        let Some((held, tag)) = name.rsplit_once(':') else { continue };
        let Ok(tag) = tag.parse::<Tag>() else { continue };
        let here = held.parse::<RepositoryName>().ok();
        let origin = here.and_then(|repository| origins.of(&repository));
        let origin = origin.or_else(|| {
            let read = read_reference(name, Some(config)).ok()?.reference;
            match config.larder.has_name(&read.host) {
                true => origins.of(&read.repository),
                false => config.upstream(&read.host).map(|_| read.image()),
            }
        });
        found.extend(origin.map(|origin| (origin, tag)));
    }
    found
}

/// The tags that are read: the next newer one, the newest, and those that the lock has.
fn candidates(tags: &[Tag], current: &Tag, origin: &Image, lock: &Lock) -> Vec<Tag> {
    let newer: Vec<&Tag> = tags.iter().take_while(|tag| *tag != current).collect();
    // Where its tag is not there any more, nobody can say what is newer.
    if newer.len() == tags.len() {
        return Vec::new();
    }
    let is_version = |tag: &Tag| !tag.moves_by_name();
    let mut chosen: Vec<Tag> = Vec::new();
    let locked = newer.iter().filter(|tag| is_locked(lock, origin, tag));
    let next = newer.last();
    for tag in newer.iter().take(NEWEST).chain(next).chain(locked.take(NEWEST)) {
        if is_version(tag) && !chosen.contains(tag) {
            chosen.push((*tag).clone());
        }
    }
    chosen
}

/// Which advisories touch an image of an upstream, by reading it. None: not all of it can be read.
async fn touched(
    name: &str,
    platform: Option<&Platform>,
    config: &Config,
    store: &Store,
    context: &Context,
) -> Result<Option<BTreeSet<String>>, Failure> {
    let named = read(name, platform, Some(config), context).await?;
    if !named.read.inventory.unread.is_empty() {
        return Ok(None);
    }
    let keys = matched(&named.read.inventory).into_iter().map(|(key, _)| key).collect();
    let found = store.findings_of(keys).await;
    let found =
        found.map_err(|error| Failure::store("cannot tell what advisories touch", &error))?;
    let touched = found.into_iter().filter(|(.., verdict)| *verdict != PackageVerdict::NotAffected);
    Ok(Some(touched.map(|(_, _, of, _)| of.advisory.id).collect()))
}
