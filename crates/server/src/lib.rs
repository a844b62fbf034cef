//! The OCI distribution protocol as a server.
//!
//! A handler reads the request, asks `larder-core` to decide, moves bytes to or from the store and
//! answers. One protocol resource is one file.
//!
//! * [`access`] - sign-in, grants, rules and the record of them
//! * [`account`] - one line and the figures of each request
//! * [`app`] - what every handler works with
//! * [`base`] - `/v2/`
//! * [`blobs`] - GET of blobs
//! * [`blocked`] - content that an operator has blocked
//! * [`cache`] - cached shelves: fetching, keeping, evicting
//! * [`cached`] - requests for what lies on a cached shelf
//! * [`catalog`] - the list of repositories
//! * [`crew`] - threads that serve connections
//! * [`door`] - a cluster's admission reviews
//! * [`error`] - refusals in the form of the standard
//! * [`front`] - what no request may be
//! * [`full`] - what to do about a full disk
//! * [`headers`] - header fields that several handlers share
//! * [`health`] - `/healthz` and `/readyz`
//! * [`limits`] - bounds for one client
//! * [`listen`] - connections
//! * [`manifests`] - GET, PUT and DELETE of manifests
//! * [`meters`] - figures
//! * [`mirror`] - nodes that ask for an upstream's image
//! * [`operation`] - what a request does, and what follows from it
//! * [`path`] - which end point a path names
//! * [`peers`] - other larders that serve the same store
//! * [`plan`] - everything that is exchanged while it runs
//! * [`quota`] - pushes that a quota refuses
//! * [`range`] - Range and Content-Range
//! * [`referrers`] - the referrers API
//! * [`remembered`] - answers kept in memory
//! * [`rest`] - bodies that are no longer needed
//! * [`router`](mod@router) - which handler answers
//! * [`sightings`] - what clusters run, seen at their doors
//! * [`tags`] - lists of tags
//! * [`tally`] - counts of pulls
//! * [`tls`] - certificates, read again when they change
//! * [`traced`] - spans of requests
//! * [`uploads`] - POST, PATCH and PUT of blobs
//! * [`watched`] - bounds on HTTP/2 streams
//! * [`workers`] - processor work whose length a client chooses

mod access;
mod account;
mod app;
mod base;
mod blobs;
mod blocked;
mod cache;
mod cached;
mod catalog;
mod crew;
mod door;
mod error;
mod flights;
mod front;
mod full;
mod headers;
mod health;
mod limits;
mod listen;
mod manifests;
mod meters;
mod mirror;
mod operation;
mod path;
mod peers;
mod plan;
mod quota;
mod range;
mod referrers;
mod remembered;
mod rest;
mod router;
mod sightings;
mod tags;
mod tally;
mod tls;
mod traced;
mod uploads;
mod watched;
mod workers;

pub use app::App;
pub use cache::{
    Cache, CachePlan, CacheUpstream, CachedShelf, ShelfPlan, Trouble, UpstreamPlan, WarmedLayers,
};
pub use crew::Crew;
pub use error::{ApiError, Code};
pub use limits::Limits;
pub use listen::{Listener, serve};
pub use meters::{Figure, SampledValue, ServiceTotals};
pub use path::{EndPoint, PathError};
pub use plan::{ClusterIdentity, KeySource, Plan, PlannedCluster, PlannedPipeline, PlannedShelf};
pub use range::{RequestedRange, read_content_range, read_range};
pub use router::{Figures, RegistryService, router};
pub use tls::{Certificates, Tls, TlsError};
pub use traced::{SPANS, SpanParents, trace_requests};

/// For `fuzz/`: what reads bytes from outside and has no other door.
#[cfg(fuzzing)]
pub mod fuzzing {
    pub use crate::access::fuzzing::{authorization, token_form};

    /// Whom a proxy names.
    pub fn forwarded(text: &str) {
        let Ok(proxies) = "127.0.0.0/8".parse().map(|network| [network]) else { return };
        let peer = std::net::IpAddr::from([127, 0, 0, 1]);
        let _ = larder_core::access::network::true_client(peer, &proxies, &[text], &[text]);
    }
}
