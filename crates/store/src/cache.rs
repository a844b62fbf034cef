//! What cached shelves know: the promises that every implementation keeps.

use async_trait::async_trait;
use larder_core::cached::{Belief, Kept};
use larder_core::digest::Digest;
use larder_core::name::{Host, RepositoryName, Tag};

use crate::blobs::UploadId;
use crate::error::StoreError;
use crate::ledger::NewManifest;

/// That a tag of an upstream moved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// The repository in the larder, shelf first.
    pub repository: RepositoryName,
    /// The tag.
    pub tag: Tag,
    /// What it pointed to.
    pub before: Digest,
    /// What it points to since. None: the upstream has it no more.
    pub after: Option<Digest>,
    /// When that was found out, in milliseconds since 1970.
    pub at: i64,
}

/// What a cached shelf did on one day, or in all.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Traffic {
    /// The shelf.
    pub shelf: String,
    /// The day, counted from 1970; for sums the first one.
    pub day: i64,
    /// Answers that needed no content from the upstream.
    pub hits: u64,
    /// Answers for which content was fetched.
    pub misses: u64,
    /// Bytes of content that clients were sent.
    pub sent: u64,
    /// Bytes of content that were fetched from the upstream.
    pub fetched: u64,
}

/// How an upstream stood when somebody who asks it last said so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Standing {
    /// The upstream.
    pub host: Host,
    /// In a word: `well`, `ailing`, `limited`, `resting`.
    pub condition: String,
    /// Until when, in milliseconds since 1970. None: no end is known.
    pub until: Option<i64>,
    /// What went wrong last. None: nothing since it last answered.
    pub cause: Option<String>,
    /// How many pulls it lets us make still. None: it does not say.
    pub remaining: Option<u64>,
    /// When this was, in milliseconds since 1970.
    pub at: i64,
}

/// The condition by which the operator wishes that an upstream is asked again.
pub const RETRY: &str = "retry";

/// Records of cached shelves.
///
/// What an implementation promises: as for the [`Ledger`](crate::Ledger), each call is done whole or
/// not at all, and several processes may work on the same records. A tag points to a manifest that is
/// recorded; what that needs may still be missing, and is fetched when somebody asks for it.
#[async_trait]
pub trait CacheRecords: Send + Sync {
    /// What is believed of a tag. None: nothing.
    async fn belief(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
    ) -> Result<Option<Belief>, StoreError>;

    /// Records a manifest that the upstream has just named, without asking for what it needs. With a
    /// tag, that points to it from now on and is confirmed; where it pointed elsewhere, the move is
    /// recorded.
    async fn believe(
        &self,
        repository: &RepositoryName,
        manifest: NewManifest,
    ) -> Result<(), StoreError>;

    /// Records that the upstream has just confirmed a tag. False: it points elsewhere here meanwhile.
    async fn confirm(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
        digest: &Digest,
        at: i64,
    ) -> Result<bool, StoreError>;

    /// Records that the upstream has a tag no more. The tag and what it points to stay for those who use it. Tells
    /// whether that is new.
    async fn note_gone(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
        at: i64,
    ) -> Result<bool, StoreError>;

    /// The tags of a shelf that the upstream has no more, each with when that was noticed, in milliseconds since 1970.
    async fn gone(&self, shelf: &str) -> Result<Vec<(RepositoryName, Tag, i64)>, StoreError>;

    /// The last moves of a shelf's tags, the youngest first: at most `limit`.
    async fn moves(&self, shelf: &str, limit: usize) -> Result<Vec<Move>, StoreError>;

    /// When the upstream last confirmed each tag of a shelf, in milliseconds since 1970.
    async fn confirmed(&self, shelf: &str) -> Result<Vec<(RepositoryName, Tag, i64)>, StoreError>;

    /// The size in bytes of a blob that a manifest of the repository needs, whether it is there or
    /// not. None: no manifest of it does.
    async fn wanted(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, StoreError>;

    /// A manifest of the repository that needs a blob. None: none does.
    async fn needed_by(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<Digest>, StoreError>;

    /// The upload that holds a part of a blob, as this repository of an upstream gave it: another one has not given
    /// it. None: there is none.
    async fn part_of(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<UploadId>, StoreError>;

    /// Records which upload holds a part of a blob.
    async fn note_part(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        upload: UploadId,
    ) -> Result<(), StoreError>;

    /// Records that an upload holds no part of a blob any more.
    async fn forget_part(&self, digest: &Digest, upload: UploadId) -> Result<(), StoreError>;

    /// Adds to what shelves did.
    async fn note_traffic(&self, traffic: Vec<Traffic>) -> Result<(), StoreError>;

    /// What a shelf did since a day, in all.
    async fn traffic(&self, shelf: &str, from_day: i64) -> Result<Traffic, StoreError>;

    /// Records how upstreams stand.
    async fn note_standing(&self, standing: Vec<Standing>) -> Result<(), StoreError>;

    /// How each upstream stood when that was last recorded.
    async fn standing(&self) -> Result<Vec<Standing>, StoreError>;

    /// The images of a shelf.
    async fn kept(&self, shelf: &str) -> Result<Vec<Kept>, StoreError>;

    /// The bytes that some shelves take together, each content once.
    async fn bytes_of(&self, shelves: &[String]) -> Result<u64, StoreError>;

    /// Lets go of an image: its tags, its manifests and what is about them as far as nothing else
    /// lists them, and the blobs that its repository then has no use for. Nothing goes when it was
    /// asked for after `since`, in milliseconds since 1970. Gives what went; the bytes are still there.
    async fn let_go(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        since: i64,
    ) -> Result<Vec<Digest>, StoreError>;

    /// Lets go of blobs of a shelf that no manifest has needed since `before`, in milliseconds since
    /// 1970; at most `limit` of them, the oldest first. Gives them.
    async fn let_go_loose(
        &self,
        shelf: &str,
        before: i64,
        limit: usize,
    ) -> Result<Vec<Digest>, StoreError>;
}
