//! What lies beside an image as a signature, read for those who examine it.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::companion::list_tag;
use larder_core::digest::Digest;
use larder_core::reference::Selector;
use larder_core::signature::{FoundBy, GatheredCompanion, SIGNATURE_TAGS, layer_limit};

use super::{Source, TransferError};

/// The most companions that are read, and the most bytes of all their layers.
const COMPANIONS: usize = 1000;
const BYTES: u64 = 64 * 1024 * 1024;

/// Reads what lies beside these manifests. What cannot be read of one companion does not stop the others: that it is not
/// here is told when it is examined.
pub async fn signatures(
    source: &dyn Source,
    about: impl IntoIterator<Item = Digest>,
) -> Result<Vec<GatheredCompanion>, TransferError> {
    let mut found: Vec<(Digest, Digest, FoundBy)> = Vec::new();
    for about in about {
        for (digest, _) in source.companions(&about).await? {
            found.push((digest, about.clone(), FoundBy::Reference));
        }
        for ending in SIGNATURE_TAGS {
            let Ok(tag) = format!("{}.{ending}", list_tag(&about)).parse() else { continue };
            match source.manifest(&Selector::Tag(tag)).await {
                Ok((digest, _)) => found.push((digest, about.clone(), FoundBy::Tag)),
                Err(error) if error.is_missing() || error.is_broken_content() => {}
                Err(error) => return Err(error),
            }
        }
        if found.len() > COMPANIONS {
            return Err(TransferError::TooManyCompanions(COMPANIONS));
        }
    }
    let (mut all, mut seen, mut left) = (Vec::new(), BTreeSet::new(), BYTES);
    for (digest, about, how) in found {
        if !seen.insert((digest.clone(), about.clone())) {
            continue;
        }
        let manifest = match source.manifest(&Selector::Digest(digest.clone())).await {
            Ok((_, document)) => document,
            Err(error) if error.is_missing() || error.is_broken_content() => continue,
            Err(error) => return Err(error),
        };
        let mut layers = BTreeMap::new();
        for layer in manifest.blobs().skip(1) {
            let Some(limit) = layer_limit(&layer.media_type) else { continue };
            if layer.size > limit || layer.size > left {
                continue;
            }
            let most = usize::try_from(limit).unwrap_or(usize::MAX);
            match source.small_blob(layer, most).await {
                Ok(bytes) => {
                    left -= layer.size;
                    layers.insert(layer.digest.clone(), bytes.to_vec());
                }
                Err(error) if error.is_missing() || error.is_broken_content() => {}
                Err(error) => return Err(error),
            }
        }
        all.push(GatheredCompanion { digest, about, how, manifest: manifest.bytes, layers });
    }
    Ok(all)
}
