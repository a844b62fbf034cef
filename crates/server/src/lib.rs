//! The OCI distribution protocol as a server.
//!
//! A handler reads the request, asks `larder-core` to decide, moves bytes to or from the store and
//! answers. One protocol resource is one file.

mod app;
mod base;
mod blobs;
mod error;
mod headers;
mod listen;
mod manifests;
mod path;
mod referrers;
mod router;
mod tags;
mod uploads;

pub use app::App;
pub use error::{ApiError, Code};
pub use listen::{Tls, serve};
pub use path::{PathError, Target};
pub use router::router;
