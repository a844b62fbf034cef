//! What was done, and when.

use larder_core::digest::Digest;
use larder_core::lock::Want;
use larder_core::name::RepositoryName;

/// Something that happened to a wanted image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum IntakeEvent {
    /// The upstream was asked what the tag points to, and answered.
    Seen(Digest),
    /// It was brought in.
    Brought(BroughtIn),
    /// The upstream could not be asked, or does not have it; the cause in words.
    Unresolved(String),
    /// It could not be brought in; the cause in words.
    Failed(String),
}

/// What was brought in, and to where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BroughtIn {
    /// What the tag points to there.
    pub digest: Digest,
    /// Where, as `host/repository`.
    pub to: String,
    /// A digest over everything that was wanted with it: platforms and companions. Where it is the
    /// same again, nothing can be missing.
    pub whole: Digest,
}

/// What is known of a wanted image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IntakeRecord {
    pub want: Want,
    /// When the upstream last answered, in milliseconds since 1970. None: never.
    pub checked: Option<i64>,
    /// What it answered.
    pub seen: Option<Digest>,
    /// When an answer last differed from the one before. None: never.
    pub moved: Option<i64>,
    /// What was brought in last, and when. None: never.
    pub brought: Option<(BroughtIn, i64)>,
    /// Why it could not be brought in last, and when that was, unless it was brought in since; else
    /// why the upstream could not be asked, unless it has answered since.
    pub failed: Option<(String, i64)>,
}

/// How often clients asked for a manifest on one day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Use {
    pub repository: RepositoryName,
    pub digest: Digest,
    /// The day, counted from 1970.
    pub day: i64,
    /// How often it was fetched.
    pub pulls: u64,
    /// When it was last asked for, fetched or not, in milliseconds since 1970.
    pub last: i64,
}

/// How much a manifest is used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ManifestUse {
    pub repository: RepositoryName,
    pub digest: Digest,
    /// How often it was fetched since the day that was asked for.
    pub pulls: u64,
    /// When it was last asked for, in milliseconds since 1970.
    pub last: i64,
}
