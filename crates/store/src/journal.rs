//! What was done, and when: the promises that every journal keeps.

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::lock::Want;
use larder_core::name::{Host, RepositoryName};

use crate::error::StoreError;

/// Something that happened to a wanted image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// The upstream was asked what the tag points to, and answered.
    Seen(Digest),
    /// It was brought in.
    Brought(Brought),
    /// The upstream could not be asked, or does not have it; the cause in words.
    Unresolved(String),
    /// It could not be brought in; the cause in words.
    Failed(String),
}

/// What was brought in, and to where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Brought {
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
    /// Which.
    pub want: Want,
    /// When the upstream last answered, in milliseconds since 1970. None: never.
    pub checked: Option<i64>,
    /// What it answered.
    pub seen: Option<Digest>,
    /// When an answer last differed from the one before. None: never.
    pub moved: Option<i64>,
    /// What was brought in last, and when. None: never.
    pub brought: Option<(Brought, i64)>,
    /// Why it could not be brought in last, and when that was, unless it was brought in since; else
    /// why the upstream could not be asked, unless it has answered since.
    pub failed: Option<(String, i64)>,
}

/// How often clients asked for a manifest on one day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Use {
    /// The repository.
    pub repository: RepositoryName,
    /// The manifest.
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
pub struct Used {
    /// The repository.
    pub repository: RepositoryName,
    /// The manifest.
    pub digest: Digest,
    /// How often it was fetched since the day that was asked for.
    pub pulls: u64,
    /// When it was last asked for, in milliseconds since 1970.
    pub last: i64,
}

/// Records of what was done.
///
/// What an implementation promises: as for the [`Ledger`](crate::Ledger), each call is done whole
/// or not at all, and several processes may write.
#[async_trait]
pub trait Journal: Send + Sync {
    /// Notes what happened to wanted images at a time, all together.
    async fn note(&self, events: Vec<(Want, Event)>, at: i64) -> Result<(), StoreError>;

    /// What is known of all images that were ever wanted, sorted by image and tag.
    async fn intake(&self) -> Result<Vec<IntakeRecord>, StoreError>;

    /// Notes pulls from a registry.
    async fn note_pulls(&self, host: &Host, count: u64, at: i64) -> Result<(), StoreError>;

    /// The pulls from a registry after a time: when, and how many.
    async fn pulls(&self, host: &Host, since: i64) -> Result<Vec<(i64, u64)>, StoreError>;

    /// Adds to how often clients asked for manifests. Those that are not recorded are left out.
    async fn note_uses(&self, uses: Vec<Use>) -> Result<(), StoreError>;

    /// How much each manifest that was ever asked for is used, counted from a day on.
    async fn uses(&self, from_day: i64) -> Result<Vec<Used>, StoreError>;

    /// Notes that a repository of another registry has these blobs.
    async fn note_placed(
        &self,
        host: &Host,
        repository: &RepositoryName,
        blobs: Vec<Digest>,
    ) -> Result<(), StoreError>;

    /// A repository of another registry that once had the blob. None: none is known.
    async fn placed(
        &self,
        host: &Host,
        digest: &Digest,
    ) -> Result<Option<RepositoryName>, StoreError>;

    /// The number of the last parcel of somebody, and of the one before it. None: there was none.
    async fn last_parcel(&self, whose: &str) -> Result<Option<(u64, Option<u64>)>, StoreError>;

    /// Records the number of somebody's last parcel, and of the one before it. A smaller number changes nothing.
    async fn note_parcel(
        &self,
        whose: &str,
        sequence: u64,
        before: Option<u64>,
    ) -> Result<(), StoreError>;
}
