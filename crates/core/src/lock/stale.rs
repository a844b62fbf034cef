//! Does the lock fit the configuration? As far as it can be told without asking anybody.

use super::{Lock, Want};
use crate::document::media_type;
use crate::platform::{Platform, Platforms, listed};
use crate::reference::Image;
use crate::selection::Tags;

/// What an intake entry asks of all its tags.
#[derive(Debug, Clone, Copy)]
pub struct TagWish<'w> {
    pub image: &'w Image,
    /// Which of its tags.
    pub tags: &'w Tags,
    pub platforms: &'w Platforms,
    /// Whether an index is written anew for them.
    pub trim: bool,
}

impl TagWish<'_> {
    /// For which platforms an index is written anew, sorted. None: it stays as it is.
    pub fn trimmed_to(&self) -> Option<Vec<Platform>> {
        match self.platforms {
            Platforms::Some(list) if self.trim => {
                let mut list = list.clone();
                list.sort();
                list.dedup();
                Some(list)
            }
            _ => None,
        }
    }
}

/// What stands between the configuration and the lock, as far as it can be told without asking
/// anybody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stale {
    /// A tag is wanted by name and not locked.
    NotLocked(Want),
    /// A tag is wanted by name, and is not made for these platforms, which are wanted.
    Lacks(Want, Vec<Platform>),
    /// Tags of the image are wanted by a rule, and none is locked.
    NothingLocked(Image),
    /// Its index is locked for other platforms than those that are wanted.
    OtherPlatforms(Want),
    /// It is locked, and no entry can want it any more.
    Unwanted(Want),
    /// It was passed over for platforms that are not wanted any more.
    PassedOver(Want),
}

impl std::fmt::Display for Stale {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NotLocked(want) => {
                write!(f, "wanted, but not locked: {}:{}", want.image, want.tag)
            }
            Self::Lacks(want, lacks) => {
                write!(f, "wanted, but not made for {}: {want}", listed(lacks))
            }
            Self::NothingLocked(image) => write!(f, "wanted, but not locked: {image}"),
            Self::OtherPlatforms(want) => {
                write!(f, "its index is locked for other platforms: {}:{}", want.image, want.tag)
            }
            Self::Unwanted(want) => {
                write!(f, "locked, but not wanted: {}:{}", want.image, want.tag)
            }
            Self::PassedOver(want) => {
                write!(f, "passed over for platforms that are not wanted now: {want}")
            }
        }
    }
}

/// Compares what the entries want with the lock.
pub fn stale(entries: &[TagWish<'_>], lock: &Lock) -> Vec<Stale> {
    let mut found = Vec::new();
    for wish @ TagWish { image, tags, .. } in entries {
        let trimmed_to = wish.trimmed_to();
        let of_image = lock.of_image(image).filter(|(tag, locked)| {
            let trimmed = locked.trimmed.as_ref().map(|trimmed| &trimmed.platforms);
            tags.want(tag)
                && media_type::is_index(&locked.media_type)
                && trimmed != trimmed_to.as_ref()
        });
        found.extend(of_image.map(|(tag, _)| {
            Stale::OtherPlatforms(Want { image: (*image).clone(), tag: tag.clone() })
        }));
        let passed = lock.passed_over.iter().filter(|(want, passed)| {
            want.image == **image && tags.want(&want.tag) && !passed.is_lacking(wish.platforms)
        });
        found.extend(passed.map(|(want, _)| Stale::PassedOver(want.clone())));
        if tags.need_listing() {
            if !lock.of_image(image).any(|(tag, _)| tags.want(tag)) {
                found.push(Stale::NothingLocked((*image).clone()));
            }
            continue;
        }
        let wants = tags.select(&[]).into_iter().map(|tag| Want { image: (*image).clone(), tag });
        let missing = wants.filter(|want| !lock.entries.contains_key(want));
        found.extend(missing.map(|want| match lock.passed_over.get(&want) {
            Some(passed) if passed.is_lacking(wish.platforms) => {
                Stale::Lacks(want, passed.lacks.clone())
            }
            _ => Stale::NotLocked(want),
        }));
    }
    let wanted = |want: &Want| {
        entries.iter().any(|wish| *wish.image == want.image && wish.tags.want(&want.tag))
    };
    let unwanted = lock.entries.keys().filter(|want| !wanted(want)).cloned();
    found.extend(unwanted.map(Stale::Unwanted));
    found
}
