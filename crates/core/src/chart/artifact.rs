//! A chart as registries have it: its description as the configuration, its archive as the one layer.

use bytes::Bytes;
use serde_json::json;

use super::archive::{ChartArchive, ChartError};
use super::wire;
use crate::digest::Digest;
use crate::document::{Descriptor, Document, media_type};

/// A chart as an artifact. The same archive gives the same bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChartArtifact {
    /// As its description has them.
    pub name: String,
    pub version: String,
    pub manifest: Bytes,
    pub digest: Digest,
    pub config: Bytes,
    pub config_digest: Digest,
    pub archive: Bytes,
    pub archive_digest: Digest,
}

impl ChartArtifact {
    /// Of an archive.
    ///
    /// # Errors
    /// It is no chart.
    pub fn of(archive: Bytes) -> Result<Self, ChartError> {
        let chart = ChartArchive::read(&archive)?;
        let config = Bytes::from(chart.description.to_string());
        let (config_digest, archive_digest) = (Digest::of(&config), Digest::of(&archive));
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": media_type::MANIFEST,
            "config": {
                "mediaType": wire::CONFIG, "digest": config_digest.as_str(), "size": config.len()
            },
            "layers": [{
                "mediaType": wire::CONTENT, "digest": archive_digest.as_str(), "size": archive.len()
            }],
            "annotations": {
                "org.opencontainers.image.title": chart.name,
                "org.opencontainers.image.version": chart.version,
            },
        });
        let manifest = Bytes::from(manifest.to_string());
        let digest = Digest::of(&manifest);
        let (name, version) = (chart.name, chart.version);
        Ok(Self { name, version, manifest, digest, config, config_digest, archive, archive_digest })
    }
}

/// The layer of a manifest in which a chart's archive lies. None: it is no chart.
pub fn chart_layer(document: &Document) -> Option<&Descriptor> {
    document.config().filter(|config| config.media_type == wire::CONFIG)?;
    document.blobs().find(|blob| blob.media_type == wire::CONTENT)
}

#[cfg(test)]
mod tests {
    use super::super::archive::tests::packed;
    use super::*;

    #[test]
    fn the_same_archive_is_the_same_artifact() {
        let bytes = Bytes::from(packed(&[("b/Chart.yaml", "version: 1.0.0\nname: b\n")]));
        let one = ChartArtifact::of(bytes.clone()).unwrap();
        assert_eq!(one, ChartArtifact::of(bytes.clone()).unwrap());
        let document = Document::read(one.manifest.clone(), None).unwrap();
        let layer = chart_layer(&document).unwrap();
        assert_eq!((&layer.digest, layer.size), (&Digest::of(&bytes), bytes.len() as u64));
        assert_eq!(document.artifact_type(), Some(wire::CONFIG));
        let config: serde_json::Value = serde_json::from_slice(&one.config).unwrap();
        assert_eq!(config, json!({ "name": "b", "version": "1.0.0" }));
    }
}
