//! What stands between the wish, the lock, the upstream and the larder?

use std::collections::BTreeMap;

use super::{Lock, Want};
use crate::digest::Digest;
use crate::platform::Platform;

/// What the upstream says of a wanted image now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UpstreamNow {
    /// The tag points there.
    At(Digest),
    /// The tag points there, and what lies there lacks platforms that are wanted.
    Lacks {
        digest: Digest,
        /// Which.
        lacks: Vec<Platform>,
        /// Whether the tag is wanted by its name: no other can stand in for it.
        named: bool,
    },
    /// The upstream has no such tag.
    Gone,
    /// It could not be asked; the cause in words.
    Unreached(String),
}

/// What stands between the wish, the lock, the upstream and the larder for one image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    pub want: Want,
    /// An intake entry wants it. False: it is only locked.
    pub wanted: bool,
    /// The locked digest. None: it is not locked.
    pub locked: Option<Digest>,
    /// The upstream's word. None: it was not asked, because nobody wants the image any more.
    pub upstream: Option<UpstreamNow>,
    /// The digest under which the larder is to have it: another than the locked one where the
    /// index is trimmed. None: it is not locked.
    pub here: Option<Digest>,
    /// Where the larder's tag points. None: the larder does not have it.
    pub held: Option<Digest>,
}

/// What a difference asks of the operator.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// Nothing: wanted, locked, unmoved and held.
    Nothing,
    /// `intake lock`: it is wanted, but not locked.
    Lock,
    /// `intake run`: it is locked, but the larder does not hold that content under the tag.
    Run,
    /// The tag moved upstream; the lock holds. Review, then `intake lock` takes the new content.
    Review,
    /// The upstream has it no longer; what is held stays.
    Gone,
    /// Nothing can be brought in: it is named, and it lacks platforms that are wanted.
    Lacks,
    /// Nothing: it lacks platforms that are wanted, and what is locked, or another tag, stands in
    /// for it.
    PassedOver,
    /// It is locked, but no entry wants it any more; `intake lock` drops it from the lock.
    Unwanted,
    /// The upstream could not be asked.
    Unknown,
}

impl Difference {
    /// What to do. Bringing in what is locked comes first: nothing else protects a deployment.
    pub fn next(&self) -> Next {
        match (&self.locked, &self.upstream) {
            _ if !self.wanted => Next::Unwanted,
            (None, Some(UpstreamNow::Unreached(_)) | None) => Next::Unknown,
            (None, Some(UpstreamNow::Gone)) => Next::Gone,
            (None, Some(UpstreamNow::At(_))) => Next::Lock,
            (None, Some(UpstreamNow::Lacks { named: true, .. })) => Next::Lacks,
            (None, Some(UpstreamNow::Lacks { .. })) => Next::PassedOver,
            (Some(_), _) if self.held != self.here => Next::Run,
            (Some(locked), Some(UpstreamNow::At(now))) if locked != now => Next::Review,
            (Some(_), Some(UpstreamNow::At(_))) => Next::Nothing,
            (Some(_), Some(UpstreamNow::Lacks { .. })) => Next::PassedOver,
            (Some(_), Some(UpstreamNow::Gone)) => Next::Gone,
            (Some(_), Some(UpstreamNow::Unreached(_)) | None) => Next::Unknown,
        }
    }
}

/// Compares the wish with the lock, the upstream's answers and what the larder's tags point to.
///
/// `held` is asked for each image that is wanted or locked and gives the digest of the larder's
/// tag, None when there is none. The result is sorted by image and tag.
pub fn difference(
    wants: &BTreeMap<Want, UpstreamNow>,
    lock: &Lock,
    held: impl Fn(&Want) -> Option<Digest>,
) -> Vec<Difference> {
    let mut all: Vec<&Want> = wants.keys().chain(lock.entries.keys()).collect();
    all.sort();
    all.dedup();
    all.into_iter()
        .map(|want| Difference {
            want: want.clone(),
            wanted: wants.contains_key(want),
            locked: lock.entries.get(want).map(|locked| locked.digest.clone()),
            here: lock.entries.get(want).map(|locked| locked.here().clone()),
            upstream: wants.get(want).cloned(),
            held: held(want),
        })
        .collect()
}
