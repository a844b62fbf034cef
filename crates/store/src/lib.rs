//! The store of a larder: its bytes and its records, as one room.
//!
//! [`Store`] has a verb for each deed and keeps its parts to itself: objects, which hold bytes, and records, which say what
//! they mean. [`ContentFolder`] is apart from it: content under its digest, as layouts, parcels and backups have it.
//!
//! * [`backup`] - copies, and stores from copies
//! * [`blobs`] - uploads and streams
//! * [`cache`] - what cached shelves know
//! * [`clock`] - the clock of the records
//! * [`error`] - what can go wrong
//! * [`facts`] - what rules ask of an image
//! * [`folder`] - content under its digest, for layouts and backups
//! * [`journal`] - what was brought in, and when
//! * [`keyring`] - keys
//! * [`leases`] - one at a time, among threads and processes
//! * [`ledger`] - repositories, manifests, tags
//! * [`local`] - objects in a folder
//! * `moving` - from one place to another
//! * [`record`] - who did what
//! * [`secret`] - the larder's own secret
//! * [`serving`] - one `serve` at a time
//! * [`records`] - the records
//! * [`sql`] - the databases that they are kept in
//! * [`store`](mod@store) - `Store` itself
//! * [`upkeep`] - drops, collections, repairs

mod backup;
mod blobs;
mod cache;
mod clock;
mod error;
mod facts;
mod folder;
mod health;
mod inside;
mod journal;
mod keyring;
mod leases;
mod ledger;
mod local;
#[cfg(feature = "replicas")]
mod moving;
mod objects;
mod record;
mod records;
mod rehearsal;
mod secret;
mod serving;
mod signatures;
mod sql;
mod store;
mod upkeep;

pub use backup::{BackupCopy, stranger_in};
pub use blobs::{ABANDONED, BlobReader, GrowingBlob, Purpose, UploadId};
pub use cache::{Move, RETRY, Traffic, UpstreamRecord};
pub use clock::now;
pub use error::StoreError;
pub use facts::real_child;
pub use folder::ContentFolder;
pub use health::counted;
pub use inside::{HeldLayers, NotedImages, outcomes_of, system_of};
pub use journal::{BroughtIn, IntakeEvent, IntakeRecord, ManifestUse, Use};
pub use keyring::KeyRecord;
pub use leases::Lease;
pub use ledger::{Demand, HeldSince, HeldTag, ManifestRecord, Moment, Referrer, Totals};
pub use local::BlobWriter;
#[cfg(feature = "replicas")]
pub use moving::{MovePlace, Moved};
#[cfg(feature = "replicas")]
pub use objects::{BucketError, BucketKey, BucketPlace};
pub use record::{Filter, Pulled, RecordEntry, RecordKind};
pub use records::{
    AbandonedUploads, Conversion, DayPulls, Feed, FeedAdvisory, Holder, ImageHome, ImageNames,
    InventoryGaps, LayerSharers, LineRefusals, ListedAdvisory, Mark, NotedFinding, NotedImage,
    NotedSystem, Peer, PulledImage, QuotaPassed, Sample, SeenBy, SeenWorkload, ShelfTotals,
    StoredBlob, TakenAdvisories, TouchingFinding, WeightyImage,
};
#[cfg(feature = "replicas")]
pub use records::{MoveStage, MoveState};
pub use rehearsal::Rehearsal;
pub use secret::local_secret;
pub use serving::ServingLock;
#[cfg(feature = "replicas")]
pub use sql::{Server, ServerError};
pub use store::{DiskRoom, Store, TagSetting};
pub use upkeep::{DropOutcome, Removal, Withdrawn};
