//! Taking things away again.

use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};

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
pub struct DropOutcome {
    pub tags: usize,
    pub manifests: usize,
    /// What was planned and stays, because it has changed since: a tag that points elsewhere now, a
    /// manifest that something new needs.
    pub changed: usize,
}

/// What was withdrawn because its content is gone or damaged.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Withdrawn {
    /// Tags that pointed to something incomplete.
    pub tags: Vec<(RepositoryName, Tag, Digest)>,
    /// Manifests that are incomplete.
    pub manifests: Vec<(RepositoryName, Digest)>,
}
