//! Parcels on disks: the volumes of the archive, the signed table of contents beside them, and
//! receipts.

mod error;
mod new;
mod open;
mod receipt;
mod signed;
mod verify;
mod volumes;

pub use error::ParcelError;
pub use new::NewParcel;
pub use open::{Parcel, ParcelSource};
pub use receipt::{read_receipt, receipt_of, write_receipt};
pub use signed::{SignerTrust, make_key, read_key};
pub use verify::{Pour, verify};
