//! What cached shelves know.

use larder_core::digest::Digest;
use larder_core::name::{Host, RepositoryName, Tag};

/// That a tag of an upstream moved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// The repository in the larder, shelf first.
    pub repository: RepositoryName,
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
pub struct UpstreamRecord {
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
