//! Digests that the lock does not have: asked of the larder or of the upstreams.

use std::collections::{BTreeMap, BTreeSet};

use futures_util::StreamExt as _;
use larder_core::digest::Digest;
use larder_core::reference::Reference;

use crate::config::Config;
use crate::context::Context;
use crate::place::Place;

/// Registries that are asked at once.
const AT_ONCE: usize = 8;

/// Asks for each reference. What cannot be told is noted, and then cannot be pinned.
pub(super) async fn digests(
    asked: &BTreeSet<Reference>,
    config: &Config,
    context: &Context,
) -> BTreeMap<Reference, Digest> {
    let origins = config.routes().origins();
    let one = |reference: &Reference| {
        // What a cached shelf would fetch is asked of its upstream.
        let image = origins.of_image(&reference.image());
        let origin = image.map(|image| image.with(reference.tag.clone(), None));
        let reference = reference.clone();
        async move {
            let from = origin.as_ref().unwrap_or(&reference).to_string();
            let found = async {
                let opened = Place::read(&from, Some(config))?.source(Some(config))?;
                let found = opened.source.manifest(&opened.selector).await;
                let what = || format!("cannot tell the digest of {from}");
                found.map_err(|error| crate::failure::Failure::transfer(what(), &error))
            };
            (reference, found.await.map(|(digest, _)| digest))
        }
    };
    let futures: Vec<_> = asked.iter().map(one).collect();
    let mut answers = futures_util::stream::iter(futures).buffer_unordered(AT_ONCE);
    let mut known = BTreeMap::new();
    while let Some((reference, found)) = answers.next().await {
        match found {
            Ok(digest) => {
                known.insert(reference, digest);
            }
            Err(failure) => context.output.failure(&failure),
        }
    }
    known
}
