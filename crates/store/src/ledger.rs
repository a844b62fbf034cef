//! What the content means: the promises that every ledger keeps.

use async_trait::async_trait;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;

use crate::error::StoreError;

/// A manifest that a repository has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ManifestRecord {
    /// Its digest; the bytes lie in the blob store.
    pub digest: Digest,
    /// The media type under which it was given.
    pub media_type: String,
    /// The size of the manifest itself, in bytes.
    pub size: u64,
}

/// What must be there of what a manifest needs, for it to be recorded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Demand {
    /// All of it.
    #[default]
    All,
    /// The blobs; manifests that it lists may be missing: those of platforms that nobody wanted.
    Blobs,
    /// Nothing: a cached shelf fetches what is missing when somebody asks for it.
    Nothing,
}

/// A manifest to be recorded, with all that it needs.
#[derive(Debug, Clone)]
pub struct NewManifest {
    /// The manifest.
    pub record: ManifestRecord,
    /// Blobs that it needs, with their sizes in bytes.
    pub blobs: Vec<(Digest, u64)>,
    /// Manifests that it lists, with their sizes in bytes.
    pub children: Vec<(Digest, u64)>,
    /// The manifest that it is about. None: it is about no other.
    pub subject: Option<Digest>,
    /// What of that must be there.
    pub demand: Demand,
    /// The tag that shall point to it. None: no tag changes.
    pub tag: Option<Tag>,
    /// Now, in milliseconds since 1970.
    pub at: i64,
}

/// One tag of a repository, and what lies there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldTag {
    /// The repository.
    pub repository: RepositoryName,
    /// The tag.
    pub tag: Tag,
    /// What it points to.
    pub manifest: ManifestRecord,
    /// The sizes of all blobs that it needs together, each once, in bytes.
    pub content: u64,
    /// When the tag was set, in milliseconds since 1970.
    pub since: i64,
}

/// Since when a repository has a manifest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HeldSince {
    /// When it was recorded first, in milliseconds since 1970.
    pub added: i64,
    /// Whether that was after ages began to count from then.
    pub counts: bool,
}

/// A moment in a ledger's life. Between two equal ones no name has come to point elsewhere and nothing
/// was taken away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moment(pub(crate) [u8; 16]);

/// How much is recorded; what several repositories have counts once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Totals {
    /// Repositories with a manifest.
    pub repositories: u64,
    /// Tags.
    pub tags: u64,
    /// Manifests and indexes.
    pub manifests: u64,
    /// Blobs.
    pub blobs: u64,
    /// The sizes of all of them together, in bytes.
    pub bytes: u64,
}

/// Records of repositories.
///
/// What an implementation promises:
/// - Each call is done whole or not at all, and what it has answered for survives the end of the
///   process and of the machine.
/// - A tag never points to a manifest that is not recorded, and a manifest is never recorded while
///   its repository lacks something that its [`Demand`] asks for.
/// - Lists are in the order of their bytes, and each page continues exactly where the last ended.
/// - Several processes may work on the same ledger.
#[async_trait]
pub trait Ledger: Send + Sync {
    /// Records that a repository has a blob. The blob must be in the blob store already.
    ///
    /// # Errors
    /// [`StoreError::Vanished`] when it is not: it was collected before it was recorded.
    async fn link_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: u64,
    ) -> Result<(), StoreError>;

    /// The size in bytes of a blob that the repository has. None: it does not have it.
    async fn blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<u64>, StoreError>;

    /// Records a manifest and points the tag to it.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the repository lacks what the manifest needs, [`StoreError::Size`] when that has
    /// another size than it says; nothing changes.
    async fn put_manifest(
        &self,
        repository: &RepositoryName,
        manifest: NewManifest,
    ) -> Result<(), StoreError>;

    /// What a tag or digest names. None: the repository has nothing under it.
    async fn manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<ManifestRecord>, StoreError>;

    /// Whether a manifest of the repository lists this digest as a child although the repository
    /// does not have it: a platform that was not brought in.
    async fn is_absent_child(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError>;

    /// Whether a manifest of the repository lists this digest as a child.
    async fn is_listed(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError>;

    /// The indexes of the repository that list this digest as a child.
    async fn listing(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Vec<Digest>, StoreError>;

    /// The manifests of the repository that are about this digest, sorted by their own: at most
    /// `limit` after `after`. Empty when there are none, and for a repository that is not there.
    async fn referrers(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<ManifestRecord>, StoreError>;

    /// At most `limit` tags after `after`. None: there is no such repository.
    async fn tags(
        &self,
        repository: &RepositoryName,
        after: Option<&Tag>,
        limit: usize,
    ) -> Result<Option<Vec<Tag>>, StoreError>;

    /// The present moment, whichever process changed something last. Cheap: it may be asked for with
    /// every request. None: it cannot be told, so nothing may be taken for unchanged.
    fn moment(&self) -> Option<Moment>;

    /// Looks whether another process changed something without telling, because it was killed just
    /// then. To be called now and then where [`moment`](Self::moment) is relied on.
    async fn notice_others(&self);

    /// At most `limit` repositories after `after` that have a manifest.
    async fn repositories(
        &self,
        after: Option<&RepositoryName>,
        limit: usize,
    ) -> Result<Vec<RepositoryName>, StoreError>;

    /// How much is recorded.
    async fn totals(&self) -> Result<Totals, StoreError>;

    /// All tags of the repositories that are `prefix` or lie below it, with what they hold. None
    /// as prefix: of all repositories.
    async fn held(&self, prefix: Option<&RepositoryName>) -> Result<Vec<HeldTag>, StoreError>;

    /// All tags of all repositories and what they point to, sorted. Unlike [`held`](Self::held) it
    /// adds nothing up.
    async fn all_tags(&self) -> Result<Vec<(RepositoryName, Tag, Digest)>, StoreError>;

    /// Every blob and manifest that some repository has, each once, sorted.
    async fn digests(&self) -> Result<Vec<Digest>, StoreError>;

    /// Since when the repository has a manifest. None: it does not have it.
    async fn held_since(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<HeldSince>, StoreError>;

    /// Another repository that has this blob, from which it can be had without sending it again.
    /// None: nobody has it.
    async fn anywhere(&self, digest: &Digest) -> Result<Option<u64>, StoreError>;
}
