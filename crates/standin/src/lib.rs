//! Simulated third-party registries and clusters, for the demo and the tests only.
//!
//! The upstreams are the larder's own server with sign-in and faults in front; the cluster pulls
//! over HTTP as a node does and reports in the platform's words. Everything listens on loopback.
//!
//! * [`api`] - the cluster's API
//! * [`charts`] - a chart, and a plain chart repository
//! * [`cluster`] - a cluster that runs pods
//! * [`door`] - the cluster's admission
//! * [`fault`] - faults in front of a working server
//! * [`image`](mod@image) - made-up images
//! * [`live`] - a cluster that goes on by itself
//! * [`pulling`] - the secrets with which a pod pulls
//! * [`receiver`] - who is told of events
//! * [`sample`] - Emberfall Geothermal: images and deployments
//! * [`sign_in`] - how upstreams sign clients in
//! * [`upstream`] - a registry

mod api;
mod charts;
mod cluster;
mod door;
mod fault;
mod image;
mod live;
mod pulling;
mod receiver;
mod sample;
mod sign_in;
mod upstream;

pub use api::Api;
pub use charts::{BOILER, ChartRepository, chart_image, packed_chart};
pub use cluster::{Cluster, Pod, PodEvent};
pub use fault::{Fault, FaultKind, Faults};
pub use image::{ImagePlan, SampleImage, SampleLayer, companion, image};
pub use receiver::{EventReceiver, PostedEvent};
pub use sample::{
    ADVISORY, BAZAAR, DEPLOYMENTS, VENTWORKS, VENTWORKS_LOGIN, bazaar_images, mended_steamgauge,
    moved_kettle, moved_steamgauge, ventworks_images,
};
/// Serves a router on a free loopback port until the program ends.
async fn serve_on_loopback(
    what: &'static str,
    router: axum::Router,
    tls: Option<larder_server::Tls>,
) -> std::io::Result<std::net::SocketAddr> {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    tokio::spawn(async move {
        let never = std::future::pending();
        let listener = larder_server::Listener { tls, ..larder_server::Listener::plain(listener) };
        let service = hyper_util::service::TowerToHyperService::new(router);
        let grace = std::time::Duration::ZERO;
        if let Err(error) = larder_server::serve(listener, service, never, grace).await {
            tracing::error!(%error, "{what} failed");
        }
    });
    Ok(address)
}

pub use sign_in::SignIn;
pub use upstream::{Upstream, UpstreamPlan};
