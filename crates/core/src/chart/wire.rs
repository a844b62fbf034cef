//! The media types that charts have in registries, which their form needs.

/// A chart's description, as JSON.
pub(super) const CONFIG: &str = "application/vnd.cncf.helm.config.v1+json";
/// Its archive.
pub(super) const CONTENT: &str = "application/vnd.cncf.helm.chart.content.v1.tar+gzip";
