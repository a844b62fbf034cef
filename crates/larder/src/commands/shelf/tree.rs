//! `larder shelf show --tree`: which images share which layers.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::digest::Digest;
use larder_core::holdings::Place;
use larder_core::platform::Platform;
use serde::Serialize;

use super::House;
use super::shown::Shown;
use crate::context::Context;
use crate::failure::Exit;
use crate::output::{DIM, STRONG, bytes, count, paint, short};

/// Names of other images that are shown for a layer; the rest is counted.
const NAMES: usize = 3;

#[derive(Serialize)]
struct Image<'s> {
    #[serde(flatten)]
    shown: &'s Shown,
    layers: Vec<Layer>,
}

#[derive(Serialize)]
struct Layer {
    /// Of which platform it is. None: the image is no index, or it is of none of its platforms.
    platform: Option<Platform>,
    digest: Digest,
    size: u64,
    /// The other images that have it, on any shelf.
    shared_with: Vec<String>,
}

pub(super) fn show(house: &House, shown: &[Shown], context: &Context) -> Exit {
    let records = house.holdings.records();
    // Every image that a name leads to, wherever it lies: what shares a layer may be on another shelf.
    let all: Vec<Place> = (0..records.manifests.len())
        .filter(|place| {
            house.holdings.tags_of(*place).next().is_some() || house.holdings.stands_alone(*place)
        })
        .collect();
    let sharing: BTreeMap<&Digest, Vec<Place>> = house.holdings.sharing(&all);
    let name = |place: Place| -> String {
        let row = &records.manifests[place];
        let repository = &records.repositories[row.repository];
        let mut tags = house.holdings.tags_of(place);
        match tags.next() {
            Some(tag) => format!("{repository}:{}", tag.tag),
            None => format!("{repository}@{}", short(&row.digest)),
        }
    };
    let images: Vec<Image<'_>> = shown
        .iter()
        .map(|one| {
            let repository = records.manifests[one.place].repository;
            let layer = |platform: Option<&Platform>, digest: &Digest, size: u64| {
                let others = sharing.get(digest).map(Vec::as_slice).unwrap_or_default();
                let others = others.iter().filter(|other| **other != one.place);
                Layer {
                    platform: platform.cloned(),
                    digest: digest.clone(),
                    size,
                    shared_with: others.map(|other| name(*other)).collect(),
                }
            };
            let mut layers = Vec::new();
            for (digest, platform) in &one.parts {
                let Some(place) = house.holdings.place(repository, digest) else { continue };
                let blobs = house.holdings.blobs_of(place).into_iter();
                layers.extend(blobs.map(|(digest, size)| layer(Some(platform), digest, size)));
            }
            let listed: BTreeSet<Digest> = layers.iter().map(|one| one.digest.clone()).collect();
            let rest = house.holdings.blobs_of(one.place).into_iter();
            let rest = rest.filter(|(digest, _)| !listed.contains(*digest));
            layers.extend(rest.map(|(digest, size)| layer(None, digest, size)));
            Image { shown: one, layers }
        })
        .collect();
    if context.output.json {
        context.output.document(&images);
        return Exit::Done;
    }
    for (number, image) in images.iter().enumerate() {
        if number > 0 {
            context.output.result("");
        }
        context.output.result(format!(
            "{}  {}; {} would be free without it",
            paint(STRONG, image.shown.name()),
            bytes(image.shown.content),
            bytes(image.shown.freed)
        ));
        let mut platform = None;
        for (number, layer) in image.layers.iter().enumerate() {
            let after = image.layers[number + 1..].iter();
            let last_of_all = after.clone().all(|other| other.platform == layer.platform);
            if layer.platform != platform {
                platform.clone_from(&layer.platform);
                let name =
                    platform.as_ref().map_or_else(|| "other".to_owned(), ToString::to_string);
                let branch = if last_of_all { "└─" } else { "├─" };
                context.output.result(format!("{} {name}", paint(DIM, branch)));
            }
            let trunk = match (&layer.platform, last_of_all) {
                (None, _) => "",
                (Some(_), false) => "│  ",
                (Some(_), true) => "   ",
            };
            let last = after.clone().next().is_none_or(|other| other.platform != layer.platform);
            let branch = format!("{trunk}{}", if last { "└─" } else { "├─" });
            let others = &layer.shared_with;
            let shared = match others.len() {
                0 => "its own".to_owned(),
                all => {
                    let named = others.iter().take(NAMES).cloned().collect::<Vec<_>>().join(", ");
                    let more = all.saturating_sub(NAMES);
                    let more = if more > 0 {
                        format!(" and {}", count(more, "other"))
                    } else {
                        String::new()
                    };
                    format!("shared with {named}{more}")
                }
            };
            context.output.result(format!(
                "{} {}  {:>10}  {}",
                paint(DIM, branch),
                short(&layer.digest),
                bytes(layer.size),
                if others.is_empty() { paint(DIM, shared) } else { shared }
            ));
        }
    }
    Exit::Done
}
