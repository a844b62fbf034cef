//! What can be wrong with a parcel or a receipt.

use larder_core::parcel::{ContentsError, ReceiptError, SignedError};
use larder_core::signature::{SigningKeyError, VerifyingKey};
use larder_store::StoreError;

/// Why a parcel or a receipt cannot be made, read or believed.
#[derive(Debug, thiserror::Error)]
pub enum ParcelError {
    /// It brings something to a shelf for which its signer is not trusted.
    #[error("{signer} signed it, who is trusted for {allowed} alone, and it brings {image}")]
    Shelf {
        /// Whose key it is.
        signer: String,
        /// What it brings.
        image: String,
        /// The shelves for which it is trusted.
        allowed: String,
    },
    #[error("{doing}: {source}")]
    Io {
        /// What was being done, with the path.
        doing: String,
        /// The system's word.
        source: std::io::Error,
    },
    /// The files that were named are no parcel.
    #[error("{0}")]
    Files(String),
    /// Volumes are not there.
    #[error("it is not complete: {0}")]
    Incomplete(String),
    /// The signature is nobody's that we know.
    #[error("{what} is signed by a key that is not known here: {key}")]
    Stranger { what: String, key: VerifyingKey },
    /// The signed text is none.
    #[error("{what}: {source}")]
    Signed { what: String, source: SignedError },
    /// A key that is none.
    #[error("{what}: {source}")]
    Key { what: String, source: SigningKeyError },
    /// The contents cannot be used.
    #[error("{0}")]
    Contents(#[from] ContentsError),
    /// The receipt cannot be used.
    #[error("{what}: {source}")]
    Receipt { what: String, source: ReceiptError },
    /// Bytes that are not what the contents say.
    #[error("{}", .0.join("\n       "))]
    Altered(Vec<String>),
    /// Blobs that the parcel leaves out are not here.
    #[error("it leaves out {count} blobs that this larder does not have, such as {example}")]
    NotHeld {
        count: usize,
        /// One of them.
        example: String,
    },
    /// This larder's store.
    #[error("{0}")]
    Store(#[from] StoreError),
}

impl ParcelError {
    /// The system's word on a file.
    pub fn io(doing: impl Into<String>) -> impl FnOnce(std::io::Error) -> Self {
        let doing = doing.into();
        move |source| Self::Io { doing, source }
    }
}
