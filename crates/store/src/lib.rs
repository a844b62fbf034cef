//! Bytes and records of a larder: a blob store and a ledger.
//!
//! [`BlobStore`] keeps content under its digest, [`Ledger`] keeps what the content means: which
//! repository has which blobs, manifests and tags. [`Store`] joins the two so that the order of
//! writing is always the same: bytes first, verified and flushed; then the record.

mod blobs;
mod error;
mod journal;
mod ledger;
mod local;
mod sqlite;
mod store;

pub use blobs::{ABANDONED, BlobReader, BlobStore, BlobWriter, UploadId};
pub use error::StoreError;
pub use journal::{Brought, Event, IntakeRecord, Journal};
pub use ledger::{HeldTag, Ledger, ManifestRecord, NewManifest};
pub use local::LocalBlobs;
pub use sqlite::SqliteLedger;
pub use store::Store;
