//! What changed behind a tag that moved?

use std::collections::BTreeSet;

use larder_core::digest::Digest;
use larder_core::lock::{LockedTag, Want};
use larder_core::reference::Selector;
use larder_store::{HeldTag, Store};
use larder_transfer::{Own, Source, TransferError};

use super::upstream::Upstreams;
use crate::commands::look::{Look, differences, examine};
use crate::config::Config;
use crate::context::now;
use crate::output::ago;

/// The differences in words, from the coarse to the fine, and since when the larder holds what the
/// lock named. What cannot be seen any more is said, and is no failure: the lock does not need it.
pub async fn describe(
    config: &Config,
    upstreams: &Upstreams<'_>,
    store: Option<&Store>,
    want: &Want,
    (before, after): (&Digest, &Digest),
) -> Vec<String> {
    let mut told = Vec::new();
    let Ok(remote) = upstreams.source(want) else { return told };
    let new = see(&remote, after).await;
    // What was locked is best seen here; an upstream may have thrown it away.
    let target = config.intake_of(&want.image).map(|intake| config.destination(intake));
    let own = store.zip(target.filter(|target| target.host == config.larder.url.host));
    let mut old = None;
    if let Some((store, target)) = own {
        match store.held(&target.repository).await {
            Ok(held) => {
                let is_it =
                    |held: &&HeldTag| held.tag == want.tag && held.manifest.digest == *before;
                let held = held.iter().find(is_it);
                told.extend(held.map(|held| {
                    format!("the locked image was brought in {}", ago(held.since, now()))
                }));
            }
            Err(error) => told.push(format!("what the larder holds cannot be read: {error}")),
        }
        old = see(&Own::new(store.clone(), target.repository), before).await.ok();
    }
    let old = match old {
        Some(old) => Ok(old),
        None => see(&remote, before).await,
    };
    match (old, new) {
        (Ok(old), Ok(new)) => told.extend(differences(&old, &new, ["locked image", "new one"])),
        (Err(error), _) => told.push(format!("the locked image cannot be read any more: {error}")),
        (_, Err(error)) => told.push(format!("the new image cannot be read: {error}")),
    }
    told
}

/// What of the kinds of companions that it had it has no more: somebody who pushes other content
/// under a tag can seldom sign it.
pub fn companions(before: &LockedTag, after: &LockedTag) -> Option<String> {
    let kinds = |locked: &LockedTag| -> BTreeSet<String> {
        locked.companions.values().map(|companion| companion.kind.clone()).collect()
    };
    let after = kinds(after);
    let lost: Vec<String> =
        kinds(before).into_iter().filter(|kind| !after.contains(kind)).collect();
    (!lost.is_empty()).then(|| format!("companions that it has no more: {}", lost.join(", ")))
}

/// Whose signatures came or went: a signer that is gone is to be seen in a review.
pub fn signers(before: &LockedTag, after: &LockedTag) -> Vec<String> {
    let gone = before.signed_by.difference(&after.signed_by);
    let gone = gone.map(|name| format!("no longer signed by {name}"));
    let come = after.signed_by.difference(&before.signed_by);
    gone.chain(come.map(|name| format!("now signed by {name}"))).collect()
}

async fn see(source: &dyn Source, digest: &Digest) -> Result<Look, TransferError> {
    examine(source, &Selector::Digest(digest.clone()), digest.to_string()).await
}
