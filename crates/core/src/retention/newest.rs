//! Which tag is the newest, which the second, …?

use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap};

use super::{HeldImage, NewestBy};
use crate::digest::Digest;
use crate::selection::version::TagVersion;

/// The rank of each image, counted from 1, the newest first. Tags of one content have one rank. None: it cannot be
/// ranked: it has no tag, or is no version where versions are compared.
pub(super) fn ranks(images: &[HeldImage], by: NewestBy) -> Vec<Option<usize>> {
    let mut ranks = vec![None; images.len()];
    match by {
        NewestBy::Time => {
            let mut tagged: Vec<usize> =
                (0..images.len()).filter(|number| images[*number].tag.is_some()).collect();
            tagged.sort_by_key(|number| (Reverse(images[*number].since), &images[*number].tag));
            count(images, &tagged, &mut ranks);
        }
        NewestBy::Version => {
            let mut variants: BTreeMap<String, Vec<(TagVersion, usize)>> = BTreeMap::new();
            for (number, image) in images.iter().enumerate() {
                if let Some(read) =
                    image.tag.as_ref().and_then(|tag| TagVersion::read(tag.as_str()))
                {
                    variants.entry(read.suffix.clone()).or_default().push((read, number));
                }
            }
            for mut variant in variants.into_values() {
                // A longer form says more than a short one of the same version.
                variant.sort_by(|a, b| {
                    let age = |one: &(TagVersion, usize)| {
                        (Reverse(one.0.version.clone()), Reverse(one.0.parts), one.1)
                    };
                    age(a).cmp(&age(b))
                });
                let numbers: Vec<usize> = variant.into_iter().map(|(_, number)| number).collect();
                count(images, &numbers, &mut ranks);
            }
        }
    }
    ranks
}

/// Gives ranks in an order; a content that comes again has the rank that it had first.
fn count(images: &[HeldImage], order: &[usize], ranks: &mut [Option<usize>]) {
    let mut seen: HashMap<&Digest, usize> = HashMap::new();
    for number in order {
        let next = seen.len() + 1;
        ranks[*number] = Some(*seen.entry(&images[*number].digest).or_insert(next));
    }
}
