//! `larder shelf show --tree`: which images share which layers.

use std::collections::BTreeMap;

use larder_core::digest::Digest;
use larder_core::platform::Platform;
use larder_store::{Holder, Store};
use serde::Serialize;

use super::shown::Shown;
use super::unreadable;
use crate::context::Context;
use crate::failure::{Exit, Outcome};
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

pub(super) async fn show(store: &Store, shown: &[Shown], context: &Context) -> Outcome {
    // Every image that a name leads to, wherever it lies: what shares a layer may be on another shelf.
    let mut sharing: BTreeMap<&Digest, Vec<Holder>> = BTreeMap::new();
    for (_, digest, _) in shown.iter().flat_map(|one| &one.layers) {
        if !sharing.contains_key(digest) {
            let holders = store.holders(digest).await.map_err(|error| unreadable(&error))?;
            sharing.insert(digest, holders);
        }
    }
    let name = |holder: &Holder| match &holder.tag {
        Some(tag) => format!("{}:{tag}", holder.repository),
        None => format!("{}@{}", holder.repository, short(&holder.digest)),
    };
    let images: Vec<Image<'_>> = shown
        .iter()
        .map(|one| {
            let others = |digest: &Digest| {
                let holders = sharing.get(digest).map(Vec::as_slice).unwrap_or_default();
                let is_other = |holder: &&Holder| {
                    holder.repository != one.repository || holder.digest != one.digest
                };
                holders.iter().filter(is_other).map(name).collect()
            };
            let layers = one.layers.iter().map(|(platform, digest, size)| Layer {
                platform: platform.clone(),
                digest: digest.clone(),
                size: *size,
                shared_with: others(digest),
            });
            Image { shown: one, layers: layers.collect() }
        })
        .collect();
    if context.output.json {
        context.output.document(&images);
        return Ok(Exit::Done);
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
    Ok(Exit::Done)
}
