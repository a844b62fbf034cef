//! `larder shelf show --tree`: which images share which layers.

use std::collections::BTreeMap;

use larder_core::digest::Digest;
use larder_store::{Holder, Store};

use super::shown::{ShownImage, ShownLayer};
use super::unreadable;
use crate::failure::Failure;
use crate::output::{DIM, Output, STRONG, bytes, count, paint, short};

/// Names of other images that are shown for a layer; the rest is counted.
const NAMES: usize = 3;

/// Says of each image which others share its layers, on any shelf.
pub(super) async fn add(store: &Store, shown: &mut [ShownImage]) -> Result<(), Failure> {
    let mut sharing: BTreeMap<Digest, Vec<Holder>> = BTreeMap::new();
    for (_, digest, _) in shown.iter().flat_map(|one| &one.blobs) {
        if !sharing.contains_key(digest) {
            let holders = store.holders(digest).await.map_err(|error| unreadable(&error))?;
            sharing.insert(digest.clone(), holders);
        }
    }
    let name = |holder: &Holder| match &holder.tag {
        Some(tag) => format!("{}:{tag}", holder.repository),
        None => format!("{}@{}", holder.repository, short(&holder.digest)),
    };
    for one in shown {
        let others = |digest: &Digest| {
            let holders = sharing.get(digest).map(Vec::as_slice).unwrap_or_default();
            let is_other = |holder: &&Holder| {
                holder.repository != one.repository || holder.digest != one.digest
            };
            holders.iter().filter(is_other).map(name).collect()
        };
        let layers = one.blobs.iter().map(|(platform, digest, size)| ShownLayer {
            platform: platform.clone(),
            digest: digest.clone(),
            size_bytes: *size,
            shared_with: others(digest),
        });
        one.layers = Some(layers.collect());
    }
    Ok(())
}

pub(super) fn show(images: &[ShownImage], out: &Output) {
    for (number, image) in images.iter().enumerate() {
        if number > 0 {
            out.result("");
        }
        out.result(format!(
            "{}  {}; {} would be free without it",
            paint(STRONG, image.name()),
            bytes(image.size_bytes),
            bytes(image.exclusive_bytes)
        ));
        let layers = image.layers.as_deref().unwrap_or_default();
        let mut platform = None;
        for (number, layer) in layers.iter().enumerate() {
            let after = layers[number + 1..].iter();
            let last_of_all = after.clone().all(|other| other.platform == layer.platform);
            if layer.platform != platform {
                platform.clone_from(&layer.platform);
                let name =
                    platform.as_ref().map_or_else(|| "other".to_owned(), ToString::to_string);
                let branch = if last_of_all { "└─" } else { "├─" };
                out.result(format!("{} {name}", paint(DIM, branch)));
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
            out.result(format!(
                "{} {}  {:>10}  {}",
                paint(DIM, branch),
                short(&layer.digest),
                bytes(layer.size_bytes),
                if others.is_empty() { paint(DIM, shared) } else { shared }
            ));
        }
    }
}
