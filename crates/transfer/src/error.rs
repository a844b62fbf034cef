//! What can go wrong while an image is moved.

use larder_client::ClientError;
use larder_core::digest::Digest;
use larder_core::document::DocumentError;
use larder_store::StoreError;

/// What ended the moving of an image.
#[derive(Debug, thiserror::Error)]
pub enum TransferError {
    /// A registry.
    #[error("{0}")]
    Client(#[from] ClientError),
    /// This larder's store.
    #[error("{0}")]
    Store(#[from] StoreError),
    /// A layout folder or archive.
    #[error("{0}")]
    Layout(#[from] LayoutError),
    /// This larder does not hold it.
    #[error("this larder has no {0}")]
    NotHeld(String),
    /// The image is not made for a platform that is wanted.
    #[error("it is not made for {wanted}; it is made for {present}")]
    NoPlatform {
        /// Wanted and not there.
        wanted: String,
        present: String,
    },
    /// Content that is not what its digest says; it was not kept.
    #[error("the content has the digest {actual}, not {expected}")]
    Mismatch {
        /// What was asked for.
        expected: Digest,
        actual: Digest,
    },
    /// A manifest that cannot be used.
    #[error("the manifest {digest} cannot be used: {source}")]
    Document { digest: Digest, source: DocumentError },
    /// An index that was cut down is not the one that was locked.
    #[error("its index for the wanted platforms has the digest {actual}; {expected} is locked")]
    Trimmed {
        /// By the lock.
        expected: Digest,
        /// As it comes out now.
        actual: Digest,
    },
    /// Each of several places failed.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; then "))]
    Everywhere(Vec<TransferError>),
    /// More belongs to it than anybody can have meant.
    #[error("more than {0} companions belong to it")]
    TooManyCompanions(usize),
    /// An image of more manifests than any has.
    #[error("its indexes list more than {} manifests", larder_core::document::FAMILY_LIMIT)]
    Family,
    /// Indexes within indexes without end.
    #[error("its indexes are nested more than four deep")]
    Depth,
}

impl TransferError {
    /// Whether it says that something is not there.
    pub fn is_missing(&self) -> bool {
        matches!(
            self,
            Self::Layout(LayoutError::NotFound(_) | LayoutError::NoImage { .. })
                | Self::NotHeld(_)
                | Self::Client(ClientError::NotFound { .. })
                | Self::Store(StoreError::NotFound(_))
        )
    }

    /// Whether it says that one content is broken, whatever else is there.
    pub fn is_broken_content(&self) -> bool {
        matches!(self, Self::Document { .. } | Self::Mismatch { .. })
    }
}

/// What is wrong with a layout folder or an archive.
#[derive(Debug, thiserror::Error)]
pub enum LayoutError {
    #[error("{doing}: {source}")]
    Io {
        /// What was being done, with the path.
        doing: String,
        /// The system's word.
        source: std::io::Error,
    },
    /// It is no OCI image layout.
    #[error("{path} is no OCI image layout: {cause}")]
    Shape {
        /// The folder or file.
        path: String,
        /// What is missing or wrong.
        cause: String,
    },
    /// Something else is in its place, which is never replaced.
    #[error("{path} is taken by {by}")]
    Occupied {
        /// The folder or file.
        path: String,
        /// What is there.
        by: &'static str,
    },
    /// It does not hold that.
    #[error("it does not hold {0}")]
    NotFound(String),
    /// It holds no image of that name.
    #[error("it holds no image named {wanted}; it has: {names}")]
    NoImage {
        wanted: String,
        /// Those that it has.
        names: String,
    },
    /// It holds several images, and none was named.
    #[error("it holds {count} images: {names}")]
    SeveralImages { count: usize, names: String },
    /// A blob of another length than its descriptor says.
    #[error("{digest} has {actual} bytes there; its descriptor says {expected}")]
    Length {
        digest: Digest,
        /// By its descriptor.
        expected: u64,
        /// As it lies there.
        actual: u64,
    },
}

impl TransferError {
    /// What several places met, one after the other.
    pub(super) fn together(mut met: Vec<Self>) -> Self {
        match met.len() {
            1 => met.remove(0),
            _ => Self::Everywhere(met),
        }
    }
}

impl LayoutError {
    /// The system's word on a layout or an archive.
    pub fn io(doing: impl Into<String>) -> impl FnOnce(std::io::Error) -> TransferError {
        let doing = doing.into();
        move |source| TransferError::Layout(Self::Io { doing, source })
    }
}
