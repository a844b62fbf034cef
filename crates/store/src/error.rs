//! What can go wrong with the store, in the terms of its users.

use larder_core::digest::Digest;

/// What the store refuses or cannot do.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// There is no such blob or upload.
    #[error("{0} is not in the store")]
    NotFound(String),
    /// The content is not what its digest says. Nothing of it was kept.
    #[error("the content has the digest {actual}, not {expected}")]
    Mismatch {
        /// What was announced.
        expected: Digest,
        actual: Digest,
    },
    /// A manifest refers to content that its repository does not have.
    #[error("the repository does not have {}", list(.0))]
    Missing(Vec<Digest>),
    /// A manifest says of content that it has another size than it has.
    #[error("it says that {digest} has {said} bytes, and it has {actual}")]
    Size {
        /// What it is about.
        digest: Digest,
        /// What the manifest says.
        said: u64,
        actual: u64,
    },
    /// The tag points to something else already, and does not move.
    #[error("the tag {tag} is immutable: it points to {digest}, and does not move")]
    Immutable { tag: larder_core::name::Tag, digest: Digest },
    /// A quota would be passed. Nothing of it was kept.
    #[error("{0}")]
    Quota(Box<crate::QuotaPassed>),
    /// What was to be recorded is not in the blob store: it was collected this instant.
    #[error("{0} was removed this instant, because nothing referred to it; send it again")]
    Vanished(Digest),
    /// Somebody else is writing to the same upload.
    #[error("upload {0} is being written to already")]
    Busy(String),
    /// Another process serves the store.
    #[error("another `larder serve` serves this store already")]
    Served,
    /// The disk has no more room than its reserve and what was promised to others.
    #[error("the disk has {left} bytes left, and {reserve} of them are its reserve{}", also(*.promised))]
    Full {
        /// Bytes that are left.
        left: u64,
        /// Bytes that nobody may take.
        reserve: u64,
        /// Bytes that what is being written will still need.
        promised: u64,
    },
    /// The store has the form of an earlier version.
    #[error(
        "the store has the form of an earlier version ({found}); this program works with version {known}"
    )]
    Earlier {
        /// Found there.
        found: i64,
        /// Known here.
        known: i64,
    },
    /// The store cannot be converted while somebody else has it open.
    #[error("another process has the store open")]
    InUse,
    /// The store cannot be converted on so full a disk.
    #[error("converting the store takes up to {needed} bytes, and the disk has {left} left")]
    NoRoomToConvert {
        /// Bytes that are left.
        left: u64,
        /// Bytes that it takes at most.
        needed: u64,
    },
    /// The operating system refused.
    #[error("{doing}: {source}")]
    Io {
        /// What was being done, with the path.
        doing: String,
        /// The system's word.
        source: std::io::Error,
    },
    /// The object store refused, or did not answer.
    #[error("the object store cannot {doing}: {cause}")]
    Objects {
        /// What was being done.
        doing: &'static str,
        /// Its word.
        cause: String,
    },
    /// The database refused.
    #[error("the ledger cannot {doing}: {source}")]
    Ledger {
        /// What was being done.
        doing: &'static str,
        /// The database's word.
        source: crate::sql::Error,
    },
    /// The database could not begin or finish a change; nothing of it was kept.
    #[error("the ledger could not be written: {cause}")]
    Commit {
        /// The database's word.
        cause: String,
        /// Whether the disk was full.
        full: bool,
        /// Whether the database could not be reached.
        away: bool,
    },
    /// The store was written by a later version.
    #[error("the store is of version {found}; this program works with version {known}")]
    Version {
        /// Written there.
        found: i64,
        /// Known here.
        known: i64,
    },
    /// What is to be written into holds something already.
    #[error("the database holds the records of a store already")]
    Occupied,
    /// The place in the object store belongs to another store.
    #[error("the place in the object store belongs to another store: its `{0}` says so")]
    Foreign(String),
    /// The store moves, or has moved, to another place.
    #[error("the store moves to {0}, or has moved there already")]
    Moving(String),
    /// The store is being closed.
    #[error("the store is closed")]
    Closed,
}

fn also(promised: u64) -> String {
    match promised {
        0 => String::new(),
        promised => format!("; uploads under way will need {promised} more"),
    }
}

impl StoreError {
    /// Whether there is no room for what was to be written.
    pub fn is_full(&self) -> bool {
        use std::io::ErrorKind::{QuotaExceeded, StorageFull};
        match self {
            Self::Full { .. } => true,
            Self::Io { source, .. } => matches!(source.kind(), StorageFull | QuotaExceeded),
            Self::Ledger { source, .. } => source.is_full(),
            Self::Commit { full, .. } => *full,
            _ => false,
        }
    }

    /// Whether a server that has part of the store could not be reached, or did not answer.
    pub fn is_away(&self) -> bool {
        match self {
            Self::Objects { .. } => true,
            Self::Ledger { source, .. } => source.is_away(),
            Self::Commit { away, .. } => *away,
            _ => false,
        }
    }

    /// Whether the database server refuses who asks it.
    pub fn is_refused(&self) -> bool {
        matches!(self, Self::Ledger { source, .. } if source.is_refused())
    }

    /// Whether the store is moved elsewhere, so that it is only read.
    pub fn is_frozen(&self) -> bool {
        matches!(self, Self::Ledger { source, .. } if source.is_frozen())
    }

    pub(crate) fn io(doing: impl Into<String>) -> impl FnOnce(std::io::Error) -> Self {
        let doing = doing.into();
        move |source| Self::Io { doing, source }
    }

    pub(crate) fn ledger<E: Into<crate::sql::Error>>(
        doing: &'static str,
    ) -> impl FnOnce(E) -> Self {
        move |source| Self::Ledger { doing, source: source.into() }
    }
}

fn list(digests: &[Digest]) -> String {
    let shown: Vec<&str> = digests.iter().take(5).map(Digest::as_str).collect();
    let more = digests.len().saturating_sub(5);
    if more > 0 { format!("{} and {more} more", shown.join(", ")) } else { shown.join(", ") }
}
