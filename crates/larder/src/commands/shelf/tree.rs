//! `larder shelf show --tree`: which images share which layers.

use std::collections::BTreeMap;

use larder_core::digest::Digest;
use larder_core::holdings::Place;
use serde::Serialize;

use super::House;
use super::show::Shown;
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
            let blobs = house.holdings.blobs_of(one.place);
            let layers = blobs.into_iter().map(|(digest, size)| {
                let others = sharing.get(digest).map(Vec::as_slice).unwrap_or_default();
                let others = others.iter().filter(|other| **other != one.place);
                Layer {
                    digest: digest.clone(),
                    size,
                    shared_with: others.map(|other| name(*other)).collect(),
                }
            });
            Image { shown: one, layers: layers.collect() }
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
        for (number, layer) in image.layers.iter().enumerate() {
            let branch = if number + 1 == image.layers.len() { "└─" } else { "├─" };
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
