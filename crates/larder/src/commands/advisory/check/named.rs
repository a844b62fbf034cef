//! What is named: its layers are read, or what is known of them is taken.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::advisory::{PackageKey, matched};
use larder_store::Store;

use super::judged::{Judged, RatedAdvisory, installed, once};
use super::{Args, CheckedImage};
use crate::commands::advisory::holdings::Holdings;
use crate::config::Config;
use crate::context::{Context, with_whole_digest};
use crate::failure::Failure;
use crate::inventory::{NamedInventory, read};

/// Checks the images that are named.
pub async fn check(
    args: &Args,
    config: &Config,
    store: &Store,
    context: &Context,
) -> Result<Vec<CheckedImage>, Failure> {
    let what = "cannot tell what advisories touch";
    let failed = |error| Failure::store(what, &error);
    store.note_held().await.map_err(failed)?;
    let texts = larder_transfer::files::with_stdin(&args.references);
    let texts = texts.map_err(|error| Failure::io("cannot read references from stdin", &error))?;
    let mut images = Vec::new();
    for text in texts {
        let text = with_whole_digest(&text, Some(config)).await?.into_owned();
        let named = read(&text, args.platform.as_ref(), Some(config), context).await?;
        let digests = [named.read.digest.clone()];
        let mut holdings = Holdings::about(config, store, digests, None, None).await?;
        let layers = named.read.layers.iter().map(|layer| &layer.digest);
        holdings.look_up_layers(store, layers).await.map_err(failed)?;
        images.push(image(&named, &holdings, store).await.map_err(failed)?);
    }
    Ok(images)
}

async fn image(
    named: &NamedInventory,
    holdings: &Holdings,
    store: &Store,
) -> Result<CheckedImage, larder_store::StoreError> {
    let NamedInventory { reference, read, .. } = named;
    let keys = matched(&read.inventory);
    let mut layers: BTreeMap<&PackageKey, BTreeSet<usize>> = BTreeMap::new();
    for (key, place) in &keys {
        layers.entry(key).or_default().insert(read.inventory.packages[*place].layer);
    }
    let found = store.findings_of(keys.iter().map(|(key, _)| key.clone()).collect()).await?;
    let (mut findings, mut unknown) = (Vec::new(), Vec::new());
    let mut newer = holdings.newer_than(&read.digest);
    for (key, _, of, verdict) in found {
        let layer = layers.get(&key).and_then(|all| all.first().copied()).unwrap_or(0);
        match RatedAdvisory::of(&of).judged(&key, verdict, layer) {
            Judged::Finding(mut finding) => {
                if let Some(layer) = read.layers.get(layer) {
                    finding.command.clone_from(&layer.step);
                    finding.layer_digest = Some(layer.digest.as_str().into());
                    let (count, with) =
                        holdings.others_with(&layer.digest, &read.digest, reference);
                    (finding.shared_count, finding.shared_with) = (count, with.into());
                }
                finding.mended_by = newer.lacking(&finding.advisory);
                finding.installed = installed(&finding, &read.inventory);
                findings.push(*finding);
            }
            Judged::Unknown(one) => unknown.push(one),
            Judged::Nothing => {}
        }
    }
    once(&mut findings);
    Ok(CheckedImage {
        names: vec![reference.clone()],
        digest: read.digest.to_string(),
        platform: read.platform.as_ref().map(ToString::to_string),
        findings,
        unknown,
        users: holdings.users_of(&read.digest, &holdings.uses()),
        not_read: read.inventory.unread.len(),
    })
}
