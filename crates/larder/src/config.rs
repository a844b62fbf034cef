//! `larder.toml`: found, read, checked. What is wrong is shown with its file, line and column.

mod access;
mod credentials;
mod deployments;
mod fault;
mod fingerprint;
mod identity;
mod keep;
mod load;
mod model;
mod notify;
mod owned;
mod parcel;
mod registry;
mod remote;
mod shelf;
mod signing;
mod source;
mod trust;
mod upstream;
mod values;
mod warnings;

pub use access::ClusterConfig;
pub use identity::Identity;
pub use load::{Provenance, find, load};
pub use model::{Config, Intake, Strangers, TlsFiles};
pub use notify::NotifyConfig;
pub use remote::SharedStore;
pub use shelf::CachingConfig;
pub use signing::read_private_key;
pub use trust::SignerConfig;
pub use upstream::{UpstreamConfig, UpstreamForm};
pub use values::Destination;
pub use warnings::{served_certificate_end, strange_nodes, warnings};
