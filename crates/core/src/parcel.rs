//! What is in a parcel, where does each byte of it lie, and what does the far side have already?
//!
//! A parcel is a tar archive of a plain OCI image layout, cut into volumes, and a signed table of
//! contents beside it. The contents decide every byte of the archive: which entries it has, in
//! which order, with which headers. So nothing in an archive is ever trusted: it is compared.

mod contents;
mod receipt;
mod shape;
mod signed;
mod volume;

pub use contents::{
    Contents, ContentsError, ParcelBlob, ParcelCompanion, ParcelFeed, ParcelImage, ParcelRemoval,
};
pub use receipt::{HeldImage, Receipt, ReceiptError};
pub use shape::{ARCHIVE_END, ArchiveEntry, ArchiveShape};
pub use signed::{SignedError, SignedText};
pub use volume::{Medium, Volume, VolumeSize, volume_name};

/// The name of the table of contents among a parcel's files.
pub const CONTENTS: &str = "contents.jsonl";
/// The name of the archive among a parcel's files; of its volumes, followed by their number.
pub const ARCHIVE: &str = "parcel.tar";
/// The largest table of contents or receipt that is read, in bytes.
pub const SIGNED_LIMIT: usize = 64 * 1024 * 1024;
