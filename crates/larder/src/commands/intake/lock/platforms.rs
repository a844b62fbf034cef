//! For which platforms is what a tag points to made?

use std::collections::{BTreeMap, BTreeSet};

use larder_core::digest::Digest;
use larder_core::document::{
    CONFIG_LIMIT, Descriptor, Document, FAMILY_LIMIT, ImageConfig, ManifestShape,
};
use larder_core::platform::{Platform, Platforms};
use larder_core::reference::Selector;
use larder_transfer::{Source, TransferError};

/// The platform that a manifest says itself, where its index does not.
async fn platform_itself(
    source: &dyn Source,
    document: &Document,
) -> Result<Option<Platform>, TransferError> {
    let Some(config) = document.config().filter(|config| config.size <= CONFIG_LIMIT as u64) else {
        return Ok(None);
    };
    let config = source.small_blob(config, CONFIG_LIMIT).await?;
    Ok(ImageConfig::read(&config).ok().and_then(|config| config.platform()))
}

/// For which platforms an image is made, with the manifest of each. Manifests of which an index does not say it are
/// asked themselves where only `wanted` ones are taken.
pub async fn of(
    source: &dyn Source,
    digest: &Digest,
    document: &Document,
    wanted: &Platforms,
) -> Result<BTreeMap<Platform, Digest>, TransferError> {
    let mut found = BTreeMap::new();
    let ManifestShape::Index(children) = &document.kind else {
        found.extend(platform_itself(source, document).await?.map(|on| (on, digest.clone())));
        return Ok(found);
    };
    let (mut silent, mut asked) = (Vec::new(), BTreeSet::new());
    let note = |children: &[Descriptor],
                found: &mut BTreeMap<Platform, Digest>,
                silent: &mut Vec<Digest>| {
        for child in children {
            match child.platform() {
                Some(platform) if platform.is_unknown() => {}
                Some(platform) => {
                    found.entry(platform).or_insert_with(|| child.digest.clone());
                }
                None => silent.push(child.digest.clone()),
            }
        }
    };
    note(children, &mut found, &mut silent);
    while let Some(digest) = silent.pop().filter(|_| *wanted != Platforms::All) {
        if !asked.insert(digest.clone()) {
            continue;
        }
        if asked.len() > FAMILY_LIMIT {
            return Err(TransferError::Family);
        }
        let (_, document) = source.manifest(&Selector::Digest(digest.clone())).await?;
        if let ManifestShape::Index(children) = &document.kind {
            note(children, &mut found, &mut silent);
        } else if let Some(platform) = platform_itself(source, &document).await? {
            found.entry(platform).or_insert(digest);
        }
    }
    Ok(found)
}
