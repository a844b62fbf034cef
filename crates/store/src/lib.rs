//! Bytes and records of a larder: a blob store and a ledger.
//!
//! [`BlobStore`] keeps content under its digest, [`Ledger`] keeps what the content means: which
//! repository has which blobs, manifests and tags, [`Upkeep`] takes away, [`Journal`] keeps what was
//! done, [`Keyring`] whom we let in, [`Record`] who did what. [`Store`] joins them so that the order of
//! writing is always the same: bytes first, verified and flushed; then the record.

mod blobs;
mod cache;
mod clock;
mod error;
mod facts;
mod journal;
mod keyring;
mod ledger;
mod local;
mod record;
mod secret;
mod serving;
mod sqlite;
mod store;
mod upkeep;

pub use blobs::{ABANDONED, BlobReader, BlobStore, BlobWriter, Growing, Purpose, Stored, UploadId};
pub use cache::{CacheRecords, Move, RETRY, Standing, Traffic};
pub use clock::now;
pub use error::StoreError;
pub use facts::real_child;
pub use journal::{Brought, Event, IntakeRecord, Journal, Use, Used};
pub use keyring::{KeyRecord, Keyring};
pub use ledger::{Demand, HeldSince, HeldTag, Ledger, ManifestRecord, Moment, NewManifest, Totals};
pub use local::LocalBlobs;
pub use record::{Entry, Filter, Kind, Record};
pub use secret::local_secret;
pub use serving::Serving;
pub use sqlite::SqliteLedger;
pub use store::Store;
pub use upkeep::{Dropped, Idle, Removal, Upkeep, Withdrawn};
