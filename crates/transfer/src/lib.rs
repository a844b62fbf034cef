//! Moving one image from where it is to where it is wanted: registry, this larder's store, OCI
//! layout folder or archive, in any direction.
//!
//! Everything goes by digest. Blobs first, several at once, each streamed and hashed once; then the
//! manifests, children before their index; the tag last. So whatever ends the program leaves
//! nothing half visible, and the next run goes on where this one was.

mod archive;
mod companions;
mod ends;
mod engine;
mod entries;
mod error;
pub mod files;
pub mod inventory;
mod layout;
mod new_archive;
mod own;
pub mod parcel;
mod received;
mod remote;
mod saved;
mod several;
mod signatures;
#[cfg(test)]
mod tests;
mod watch;

pub use archive::Archive;
pub use companions::{belonging, companions};
pub use ends::{Content, ManifestRole, Source, Target, pour};
pub use engine::{Engine, MoveOrder, MoveOutcome, Outline, check_all_there, trim};
pub use error::{LayoutError, TransferError};
pub use layout::Layout;
pub use new_archive::NewArchive;
pub use own::Own;
pub use received::receive;
pub use remote::Remote;
pub use several::Several;
pub use signatures::signatures;
pub use watch::{Unwatched, Watch};
