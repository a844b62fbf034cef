//! Taking things away again: the promises that everything that removes keeps.

use std::collections::HashSet;
use std::path::Path;
use std::time::Duration;

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::holdings::{DropPlan, Records};
use larder_core::name::{RepositoryName, Tag};

use crate::blobs::UploadId;
use crate::error::StoreError;

/// What became of a wish to remove something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Removal<T> {
    /// It was not there.
    NotThere,
    /// It stays: these manifests of the repository need it.
    Needed(Vec<Digest>),
    /// It is gone.
    Done(T),
}

/// What a dropped plan has taken away.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Dropped {
    /// How many tags.
    pub tags: usize,
    /// How many manifests.
    pub manifests: usize,
    /// What was planned and stays, because it has changed since: a tag that points elsewhere now, a
    /// manifest that something new needs.
    pub changed: usize,
}

/// A blob that a repository has and nothing in it needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Idle {
    /// The repository.
    pub repository: RepositoryName,
    /// The blob.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// What was withdrawn because its content is gone or damaged.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Withdrawn {
    /// Tags that pointed to something incomplete.
    pub tags: Vec<(RepositoryName, Tag, Digest)>,
    /// Manifests that are incomplete.
    pub manifests: Vec<(RepositoryName, Digest)>,
}

/// Takes things away.
///
/// What an implementation promises:
/// - As for the [`Ledger`](crate::Ledger), each call is done whole or not at all.
/// - What something needs is not removed: a blob while a manifest of its repository names it, a
///   manifest while an index of its repository lists it. Nothing can come to need it meanwhile.
/// - A blob's bytes go only when no record of any repository names them, and while no record can
///   come to do so; what was put there within the grace time stays.
#[async_trait]
pub trait Upkeep: Send + Sync {
    /// Everything that is recorded of what repositories hold.
    async fn records(&self) -> Result<Records, StoreError>;

    /// Takes a tag away; what it pointed to stays. None: it was not there.
    async fn remove_tag(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
    ) -> Result<Option<Digest>, StoreError>;

    /// Takes a manifest away, with the tags that point to it.
    async fn remove_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<Vec<Tag>>, StoreError>;

    /// Takes a blob from a repository.
    async fn unlink_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<()>, StoreError>;

    /// Carries out a plan as far as it still holds.
    async fn drop_planned(&self, plan: DropPlan) -> Result<Dropped, StoreError>;

    /// Blobs that nothing in their repository has needed since `before`, in milliseconds since 1970.
    async fn idle(&self, before: i64) -> Result<Vec<Idle>, StoreError>;

    /// Takes those blobs from their repositories, and tells how many these were.
    async fn unlink_idle(&self, before: i64) -> Result<usize, StoreError>;

    /// The digests that some record names and that begin with this byte; without blobs that are idle
    /// since before `but_idle` wherever they are recorded. None: with all of them.
    async fn recorded(
        &self,
        part: u8,
        but_idle: Option<i64>,
    ) -> Result<HashSet<Digest>, StoreError>;

    /// Removes the bytes of those that no record names and that were not put there within `grace`;
    /// gives them with their sizes in bytes.
    async fn free(
        &self,
        digests: Vec<Digest>,
        grace: Duration,
    ) -> Result<Vec<(Digest, u64)>, StoreError>;

    /// Writes a copy of all records, of one moment, to a new file, and gives every blob and manifest
    /// that it names, each once.
    async fn copy_to(&self, path: &Path) -> Result<Vec<Digest>, StoreError>;

    /// Takes back every record of contents that are gone or damaged, and with them every manifest
    /// and tag that is incomplete without them. With `dry` it only tells which these are; without it,
    /// contents that are there again are left alone.
    async fn withdraw(&self, lost: Vec<Digest>, dry: bool) -> Result<Withdrawn, StoreError>;

    /// Records whose an upload is: of which repository, and who began it. False: that one has `most` open already.
    async fn begin_upload(
        &self,
        id: UploadId,
        repository: &RepositoryName,
        account: &str,
        most: usize,
    ) -> Result<bool, StoreError>;

    /// Whether an upload is somebody's in a repository.
    async fn is_upload_of(
        &self,
        id: UploadId,
        repository: &RepositoryName,
        account: &str,
    ) -> Result<bool, StoreError>;

    /// The uploads of somebody that were begun before a time, in milliseconds since 1970, the oldest first.
    async fn uploads_before(&self, account: &str, at: i64) -> Result<Vec<UploadId>, StoreError>;

    /// Forgets an upload: it has ended, in whichever way.
    async fn end_upload(&self, id: UploadId) -> Result<(), StoreError>;

    /// Forgets all uploads that were begun before a time, in milliseconds since 1970.
    async fn forget_uploads(&self, at: i64) -> Result<(), StoreError>;
}
