//! Tags that were passed over, as they stand in the lock: a review sees what was not taken, and why.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use serde::Deserialize;

use super::{LockError, Want};
use crate::digest::Digest;
use crate::name::Tag;
use crate::platform::{Platform, Platforms};
use crate::reference::Image;

/// A tag that is not made for all wanted platforms.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PassedOver {
    /// The digest that the tag had: what it points to later may lack nothing.
    pub digest: Digest,
    /// Which of the platforms that were wanted then it lacks.
    pub lacks: Vec<Platform>,
}

impl PassedOver {
    /// Whether it lacks something that is wanted now.
    pub fn is_lacking(&self, wanted: &Platforms) -> bool {
        match wanted {
            Platforms::All => false,
            Platforms::Some(list) => self.lacks.iter().any(|lacks| list.contains(lacks)),
        }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawPassedOver {
    name: Image,
    tag: Tag,
    digest: Digest,
    lacks: Vec<Platform>,
}

/// Reads them, each tag once.
pub(super) fn read(raw: Vec<RawPassedOver>) -> Result<BTreeMap<Want, PassedOver>, LockError> {
    let mut all = BTreeMap::new();
    for RawPassedOver { name, tag, digest, lacks } in raw {
        let want = Want { image: name, tag };
        let told = want.to_string();
        if all.insert(want, PassedOver { digest, lacks }).is_some() {
            return Err(LockError::Twice(told));
        }
    }
    Ok(all)
}

/// Writes them behind the images.
pub(super) fn write(all: &BTreeMap<Want, PassedOver>, text: &mut String) {
    for (Want { image, tag }, PassedOver { digest, lacks }) in all {
        let lacks: Vec<String> = lacks.iter().map(|one| format!("\"{one}\"")).collect();
        let lacks = lacks.join(", ");
        let _ = write!(
            text,
            "\n[[passed_over]]\nname = \"{image}\"\ntag = \"{tag}\"\ndigest = \"{digest}\"\nlacks = [{lacks}]\n"
        );
    }
}
