//! What can be wrong with a parcel or a receipt.

use larder_core::parcel::{ContentsError, ReceiptError, SignedError};
use larder_core::signature::{KeyError, VerifyingKey};
use larder_store::StoreError;

use crate::failure::{Exit, Failure};

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
    /// The configuration or the key could have been written by somebody else.
    #[error("{0}")]
    Foreign(String),
    /// The system refuses.
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
    Stranger {
        /// The file.
        what: String,
        /// The key.
        key: VerifyingKey,
    },
    /// The signed text is none.
    #[error("{what}: {source}")]
    Signed {
        /// The file.
        what: String,
        /// Why.
        source: SignedError,
    },
    /// Nothing can be signed.
    #[error("larder.toml names no `sign` in [parcel]")]
    NoKey,
    /// A key that is none.
    #[error("{what}: {source}")]
    Key {
        /// The file.
        what: String,
        /// Why.
        source: KeyError,
    },
    /// The contents cannot be used.
    #[error("{0}")]
    Contents(#[from] ContentsError),
    /// The receipt cannot be used.
    #[error("{what}: {source}")]
    Receipt {
        /// The file.
        what: String,
        /// Why.
        source: ReceiptError,
    },
    /// Bytes that are not what the contents say.
    #[error("{}", .0.join("\n       "))]
    Altered(Vec<String>),
    /// Blobs that the parcel leaves out are not here.
    #[error("it leaves out {count} blobs that this larder does not have, such as {example}")]
    NotHeld {
        /// How many.
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
    pub(super) fn io(doing: impl Into<String>) -> impl FnOnce(std::io::Error) -> Self {
        let doing = doing.into();
        move |source| Self::Io { doing, source }
    }

    /// The error as the operator reads it.
    pub fn failure(&self, what: impl Into<String>) -> Failure {
        let (remedy, exit) = match self {
            Self::Io { source, .. } => {
                return Failure { cause: self.to_string(), ..Failure::io(what, source) };
            }
            Self::Store(error) => return Failure::store(what, error),
            Self::Files(_) => ("name the parcel's folder, or its files", Exit::Usage),
            Self::Incomplete(_) => ("have these files sent again", Exit::No),
            Self::Stranger { .. } => (
                "if it is whose it should be, add the key to `trust` in [parcel] of larder.toml",
                Exit::No,
            ),
            Self::NoKey => {
                ("`larder parcel sign-key` makes one; name it with `sign` in [parcel]", Exit::Usage)
            }
            Self::Shelf { .. } => (
                "`trust` in [parcel] names the shelves of each key; nothing was unpacked",
                Exit::No,
            ),
            Self::Foreign(_) => (
                "make the file yours and writable by you alone (`chown`, `chmod go-w`)",
                Exit::Usage,
            ),
            Self::Key { .. } => ("`larder parcel sign-key` makes one", Exit::Usage),
            Self::Receipt { .. } => ("`larder parcel receipt` writes one", Exit::Usage),
            Self::Signed { source: SignedError::Shape, .. } => {
                ("name the file that `larder parcel` wrote", Exit::Usage)
            }
            Self::Signed { .. } | Self::Contents(_) => ("have it sent again", Exit::Content),
            Self::Altered(_) => {
                ("have the bad files sent again; nothing of them was kept", Exit::Content)
            }
            Self::NotHeld { .. } => {
                ("have it packed without `--since`, or since a receipt of today", Exit::No)
            }
        };
        Failure::usage(what, self, remedy).ending(exit)
    }
}
