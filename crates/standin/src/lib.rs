//! Simulated third-party registries and clusters, for the demo and the tests only.
//!
//! The upstreams are the larder's own server with sign-in and faults in front; the cluster pulls
//! over HTTP as a node does and reports in the platform's words. Everything listens on loopback.

mod api;
mod cluster;
mod fault;
mod image;
mod sample;
mod sign_in;
mod upstream;

pub use api::Api;
pub use cluster::{Cluster, Event, Pod};
pub use fault::{Fault, Faults, What};
pub use image::{Image, ImagePlan, Layer, companion, image};
pub use sample::{
    BAZAAR, DEPLOYMENTS, VENTWORKS, VENTWORKS_LOGIN, bazaar_images, moved_steamgauge,
    ventworks_images,
};
pub use sign_in::SignIn;
pub use upstream::{Upstream, UpstreamPlan};
