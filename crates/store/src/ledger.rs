//! What the content means: repositories, manifests, tags.

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};

/// A manifest that a repository has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ManifestRecord {
    pub digest: Digest,
    /// The media type under which it was given.
    pub media_type: String,
    /// The size of the manifest itself, in bytes.
    pub size: u64,
}

/// A manifest that is about another, as lists of such manifests tell it (Distribution Specification, "Listing
/// Referrers").
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Referrer {
    pub manifest: ManifestRecord,
    /// What it says that it is. None: it does not.
    pub artifact_type: Option<String>,
    /// The bytes of its annotations, for callers that have to bound them before asking for them.
    pub annotations_size: u64,
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
pub(crate) struct NewManifest {
    /// Whether the tag stays where it is set, if it is.
    pub immutable: bool,
    /// In whose name, and what may be held.
    pub bringer: crate::records::Bringer,
    pub record: ManifestRecord,
    pub body: Bytes,
    /// Its kind, and its annotations as JSON.
    pub described: (Option<String>, Option<String>),
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
    pub repository: RepositoryName,
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

/// A moment in the life of what a repository holds. Between two equal ones no name of it has come to point elsewhere and
/// nothing of it was taken away.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Moment(pub(crate) [u8; 32]);

/// How much is recorded; what several repositories have counts once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Totals {
    /// Repositories with a manifest.
    pub repositories: u64,
    pub tags: u64,
    pub manifests: u64,
    pub blobs: u64,
    /// The sizes of all of them together, in bytes.
    pub bytes: u64,
}
