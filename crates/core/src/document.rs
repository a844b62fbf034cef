//! What do these bytes describe? Indexes, manifests and image configurations as parsed views over
//! the original bytes, which are never written anew: their digest is their name.
//!
//! OCI Image Specification 1.1 ("Image Index", "Image Manifest", "Image Configuration") and the
//! older schema-2 media types, which have the same shape.

mod details;

pub use details::{HealthCheck, HistoryStep, ImageDetails, RunDetails};

use std::collections::{BTreeMap, BTreeSet};

use bytes::Bytes;
use serde::Deserialize;

use crate::digest::Digest;
use crate::platform::{Platform, Platforms};

/// Manifests that one image may be made of, with all indexes in indexes.
pub const FAMILY_LIMIT: usize = 10_000;
/// The largest manifest that is taken, in bytes (Distribution Specification, "Pushing manifests":
/// registries should take at least 4 MiB).
pub const MANIFEST_LIMIT: usize = 4 * 1024 * 1024;
/// The largest image configuration that is read, in bytes.
pub const CONFIG_LIMIT: usize = 4 * 1024 * 1024;
/// The most descriptors that one document may have.
pub const DESCRIPTOR_LIMIT: usize = 10_000;

/// What an image says it is built on.
const BASE_NAME: &str = "org.opencontainers.image.base.name";
const BASE_DIGEST: &str = "org.opencontainers.image.base.digest";

/// The base that annotations name by a tag alone.
pub fn unpinned_base(annotations: &BTreeMap<String, String>) -> Option<String> {
    let said = |key| annotations.get(key).map(String::as_str).filter(|text| !text.is_empty());
    let name = said(BASE_NAME).filter(|name| !name.contains('@'))?;
    said(BASE_DIGEST).is_none().then(|| crate::shown::cut(name, 200))
}

/// Media types by their family.
pub mod media_type {
    /// OCI image index.
    pub const INDEX: &str = "application/vnd.oci.image.index.v1+json";
    /// OCI image manifest.
    pub const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
    /// OCI image configuration.
    pub const CONFIG: &str = "application/vnd.oci.image.config.v1+json";
    /// The configuration of what has none: `{}`.
    pub const EMPTY: &str = "application/vnd.oci.empty.v1+json";
    /// OCI layer, plain tar.
    pub const LAYER: &str = "application/vnd.oci.image.layer.v1.tar";
    /// OCI layer, tar with gzip.
    pub const LAYER_GZIP: &str = "application/vnd.oci.image.layer.v1.tar+gzip";
    /// Schema 2's manifest list: an index.
    pub const SCHEMA2_LIST: &str = "application/vnd.docker.distribution.manifest.list.v2+json";
    /// Schema 2's manifest.
    pub const SCHEMA2_MANIFEST: &str = "application/vnd.docker.distribution.manifest.v2+json";
    /// Schema 2's image configuration.
    pub const SCHEMA2_CONFIG: &str = "application/vnd.docker.container.image.v1+json";
    /// What a client sends as `Accept` for a manifest.
    pub const ACCEPT: [&str; 4] = [INDEX, MANIFEST, SCHEMA2_LIST, SCHEMA2_MANIFEST];

    /// Whether this is an index's, in either family.
    pub fn is_index(media_type: &str) -> bool {
        matches!(media_type, INDEX | SCHEMA2_LIST)
    }

    /// Whether this is a layer's, in either family, however it is compressed; also of one that may not be passed on. What
    /// is encrypted is none that anybody can read.
    pub fn is_layer(media_type: &str) -> bool {
        let families = [
            LAYER,
            "application/vnd.oci.image.layer.nondistributable.v1.tar",
            "application/vnd.docker.image.rootfs.diff.tar",
            "application/vnd.docker.image.rootfs.foreign.diff.tar",
        ];
        let rest = families.iter().find_map(|family| media_type.strip_prefix(family));
        matches!(rest, Some("" | "+gzip" | "+zstd" | ".gzip" | ".zstd"))
    }

    /// Whether this is schema 1, which has no configuration and no digest of its own bytes.
    pub fn is_schema1(media_type: &str) -> bool {
        media_type.starts_with("application/vnd.docker.distribution.manifest.v1+")
    }
}

/// Why bytes are no document that we can use.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DocumentError {
    /// More bytes than any manifest may have.
    #[error("it has {0} bytes; a manifest has 4 MiB at most")]
    TooLarge(usize),
    /// No JSON of the right shape.
    #[error("it is not a readable manifest: {0}")]
    Shape(String),
    /// Schema 1.
    #[error(
        "it is in the old schema 1, which has no verifiable content; have it pushed again by a current builder"
    )]
    Schema1,
    /// A media type that is none of a manifest or index.
    #[error("`{0}` is not the media type of a manifest or an index")]
    MediaType(String),
    /// The type said outside and the type said inside differ (Distribution Specification,
    /// "Pushing manifests": they must not).
    #[error("it is announced as {announced}, but calls itself {inside}")]
    Disagree {
        /// From the header or the descriptor.
        announced: String,
        /// From the document.
        inside: String,
    },
    /// More descriptors than [`DESCRIPTOR_LIMIT`].
    #[error("it lists {0} descriptors; {DESCRIPTOR_LIMIT} are the most that are taken")]
    TooMany(usize),
}

/// A content descriptor (Image Specification, "Content Descriptors").
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// What the content is.
    #[serde(default)]
    pub media_type: String,
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// For which machine, in an index. None: not said, so the manifest's configuration must be read.
    #[serde(default, rename = "platform")]
    raw_platform: Option<RawPlatform>,
    /// Free facts. Empty when there are none.
    #[serde(default, deserialize_with = "null_is_default")]
    pub annotations: BTreeMap<String, String>,
    /// What kind of artifact the described manifest is. None: not said.
    #[serde(default)]
    pub artifact_type: Option<String>,
    /// Where else the content lies (Image Specification, "Descriptors"). Empty: nowhere. Registries often have nothing of
    /// layers that say so: their makers forbid to pass them on.
    #[serde(default, deserialize_with = "null_is_default")]
    pub urls: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct RawPlatform {
    #[serde(default)]
    os: String,
    #[serde(default)]
    architecture: String,
    #[serde(default)]
    variant: Option<String>,
}

impl Descriptor {
    /// Of something that says nothing of itself.
    pub fn plain(media_type: &str, digest: Digest, size: u64) -> Self {
        Self {
            media_type: media_type.to_owned(),
            digest,
            size,
            raw_platform: None,
            annotations: BTreeMap::new(),
            artifact_type: None,
            urls: Vec::new(),
        }
    }

    /// Whether it is a layer of a type that is read.
    pub fn is_layer(&self) -> bool {
        media_type::is_layer(&self.media_type)
    }

    /// The platform in the standard's spelling. None: the descriptor does not say.
    pub fn platform(&self) -> Option<Platform> {
        let raw = self.raw_platform.as_ref()?;
        (!raw.os.is_empty() || !raw.architecture.is_empty())
            .then(|| Platform::new(&raw.os, &raw.architecture, raw.variant.as_deref()))
    }

    /// Whether a child of an index is wanted for these platforms. None: it does not say for which
    /// it is, and its configuration must be asked. An index within an index is always looked into.
    pub fn is_wanted(&self, platforms: &Platforms) -> Option<bool> {
        match (self.platform(), platforms) {
            (Some(platform), _) => Some(platforms.want(&platform)),
            (None, Platforms::All) => Some(true),
            (None, Platforms::Some(_)) => media_type::is_index(&self.media_type).then_some(true),
        }
    }
}

/// A manifest or an index, with the bytes that it was read from.
#[derive(Debug, Clone)]
pub struct Document {
    pub bytes: Bytes,
    /// The media type under which the bytes go out again.
    pub media_type: String,
    /// What the document refers to.
    pub kind: ManifestShape,
    /// The manifest that this one is about (`subject`). None: it is about no other.
    pub subject: Option<Descriptor>,
    /// Free facts. Empty when there are none.
    pub annotations: BTreeMap<String, String>,
    /// What kind of artifact it says it is. None: it does not say.
    artifact_type: Option<String>,
}

/// The two shapes of a document.
#[derive(Debug, Clone)]
pub enum ManifestShape {
    /// An index: other documents, usually one for each platform.
    Index(Vec<Descriptor>),
    /// A manifest: one configuration and layers.
    Manifest {
        config: Descriptor,
        /// The layers from the lowest up.
        layers: Vec<Descriptor>,
    },
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct RawDocument {
    schema_version: Option<u32>,
    #[serde(default)]
    media_type: Option<String>,
    #[serde(default)]
    manifests: Option<Vec<Descriptor>>,
    #[serde(default)]
    config: Option<Descriptor>,
    #[serde(default)]
    layers: Option<Vec<Descriptor>>,
    #[serde(default)]
    fs_layers: Option<serde::de::IgnoredAny>,
    #[serde(default)]
    subject: Option<Descriptor>,
    #[serde(default)]
    artifact_type: Option<String>,
    #[serde(default, deserialize_with = "null_is_default")]
    annotations: BTreeMap<String, String>,
}

fn null_is_default<'de, D, T>(from: D) -> Result<T, D::Error>
where
    D: serde::Deserializer<'de>,
    T: Default + Deserialize<'de>,
{
    Option::<T>::deserialize(from).map(Option::unwrap_or_default)
}

impl Document {
    /// Reads a document.
    ///
    /// `announced` is the media type from the header or the descriptor; parameters after `;` are
    /// ignored, and None, an empty text or a general type (`application/json`) leaves it to the
    /// document itself.
    pub fn read(bytes: Bytes, announced: Option<&str>) -> Result<Self, DocumentError> {
        if bytes.len() > MANIFEST_LIMIT {
            return Err(DocumentError::TooLarge(bytes.len()));
        }
        let announced = announced.and_then(|t| t.split(';').next()).map(str::trim).filter(|t| {
            !matches!(*t, "" | "application/json" | "application/octet-stream" | "text/plain")
        });
        if announced.is_some_and(media_type::is_schema1) {
            return Err(DocumentError::Schema1);
        }
        let raw: RawDocument = serde_json::from_slice(&bytes)
            .map_err(|error| DocumentError::Shape(error.to_string()))?;
        if raw.fs_layers.is_some() || raw.schema_version == Some(1) {
            return Err(DocumentError::Schema1);
        }
        let inside = raw.media_type.as_deref().filter(|t| !t.is_empty());
        if let (Some(announced), Some(inside)) = (announced, inside)
            && announced != inside
        {
            return Err(DocumentError::Disagree {
                announced: announced.to_owned(),
                inside: inside.to_owned(),
            });
        }
        let stated = announced.or(inside);
        let (kind, default) = match (raw.manifests, raw.config, raw.layers) {
            (Some(children), None, None) => (ManifestShape::Index(children), media_type::INDEX),
            (None, Some(config), layers) => {
                let layers = layers.unwrap_or_default();
                (ManifestShape::Manifest { config, layers }, media_type::MANIFEST)
            }
            (Some(_), _, _) => {
                let both = "it has both `manifests` and `config` or `layers`";
                return Err(DocumentError::Shape(both.into()));
            }
            (None, None, _) => {
                let neither = "it has neither `manifests` nor `config`";
                return Err(DocumentError::Shape(neither.into()));
            }
        };
        let fitting: &[&str] = match kind {
            ManifestShape::Index(_) => &[media_type::INDEX, media_type::SCHEMA2_LIST],
            ManifestShape::Manifest { .. } => &[media_type::MANIFEST, media_type::SCHEMA2_MANIFEST],
        };
        let media_type = stated.unwrap_or(default).to_owned();
        if !fitting.contains(&media_type.as_str()) {
            return Err(DocumentError::MediaType(media_type));
        }
        let document = Self {
            bytes,
            media_type,
            kind,
            subject: raw.subject,
            annotations: raw.annotations,
            artifact_type: raw.artifact_type.filter(|kind| !kind.is_empty()),
        };
        match document.descriptors().count() {
            count if count > DESCRIPTOR_LIMIT => Err(DocumentError::TooMany(count)),
            _ => Ok(document),
        }
    }

    /// What kind of artifact it is: as it says itself, else by its configuration (Distribution
    /// Specification, "Listing Referrers"). None: an index that does not say.
    pub fn artifact_type(&self) -> Option<&str> {
        match (&self.artifact_type, &self.kind) {
            (Some(said), _) => Some(said),
            (None, ManifestShape::Manifest { config, .. }) => Some(&config.media_type),
            (None, ManifestShape::Index(_)) => None,
        }
    }

    /// The other documents that this one lists. Empty for a manifest.
    pub fn children(&self) -> &[Descriptor] {
        match &self.kind {
            ManifestShape::Index(children) => children,
            ManifestShape::Manifest { .. } => &[],
        }
    }

    /// The configuration. None: it is an index.
    pub fn config(&self) -> Option<&Descriptor> {
        match &self.kind {
            ManifestShape::Index(_) => None,
            ManifestShape::Manifest { config, .. } => Some(config),
        }
    }

    /// Whether a node could run it: an index, or anything with a layer of files, whatever else it says of itself.
    pub fn may_run(&self) -> bool {
        let of_files = |layer: &Descriptor| {
            let kind = layer.media_type.to_ascii_lowercase();
            kind.is_empty() || kind.contains("tar") || layer.is_layer()
        };
        match &self.kind {
            ManifestShape::Index(_) => true,
            ManifestShape::Manifest { layers, .. } => layers.iter().any(of_files),
        }
    }

    /// Whether an index lists a manifest as the image of a platform. What an index lists for no platform (`unknown`) are
    /// statements about it, and what it only names in an annotation it does not list.
    pub fn lists_platform(&self, digest: &Digest) -> bool {
        let of_platform = |child: &&Descriptor| {
            let is_one = |on: &RawPlatform| !on.os.is_empty() && on.os != "unknown";
            child.digest == *digest && child.raw_platform.as_ref().is_some_and(is_one)
        };
        self.children().iter().any(|child| of_platform(&child))
    }

    /// The blobs that this one needs: configuration, then layers. Empty for an index.
    pub fn blobs(&self) -> impl Iterator<Item = &Descriptor> {
        let (config, layers) = match &self.kind {
            ManifestShape::Index(_) => (None, &[][..]),
            ManifestShape::Manifest { config, layers } => (Some(config), layers.as_slice()),
        };
        config.into_iter().chain(layers)
    }

    /// The layers of an image, in their order. Empty: none of what a manifest names is a layer.
    pub fn image_layers(&self) -> &[Descriptor] {
        match &self.kind {
            ManifestShape::Manifest { layers, .. } if layers.iter().any(Descriptor::is_layer) => {
                layers
            }
            _ => &[],
        }
    }

    /// The base that it says it is built on, where it names that by a tag and not by its digest (Image Specification,
    /// "Pre-Defined Annotation Keys"). None: it names none, or says which one it was.
    pub fn unpinned_base(&self) -> Option<String> {
        unpinned_base(&self.annotations)
    }

    /// Everything that it refers to, but for the subject.
    pub fn descriptors(&self) -> impl Iterator<Item = &Descriptor> {
        self.children().iter().chain(self.blobs())
    }

    /// The same index with only these children, in new bytes: all else in it stays. None: it has no
    /// others, so its own bytes will do, or it is no index.
    pub fn trimmed(&self, keep: &BTreeSet<Digest>) -> Option<Self> {
        let kept = |child: &Descriptor| keep.contains(&child.digest);
        if self.children().iter().all(kept) {
            return None;
        }
        let mut value: serde_json::Value = serde_json::from_slice(&self.bytes).ok()?;
        let list = value.get_mut("manifests")?.as_array_mut()?;
        let mut kept = self.children().iter().map(kept);
        list.retain(|_| kept.next().unwrap_or(false));
        Self::read(value.to_string().into(), Some(&self.media_type)).ok()
    }

    /// The children among which a node's runtime looks for what it runs, in its order: those that are made for it,
    /// the nearest variant first, then those that do not say for what they are. An index among them is looked into
    /// in turn.
    pub fn children_for(&self, on: &Platform) -> Vec<&Descriptor> {
        let score = |child: &Descriptor| match child.platform() {
            Some(platform) => platform.suits(on).map(|score| u64::from(score) + 1),
            None => Some(0),
        };
        let all = self.children().iter().filter_map(|child| Some((score(child)?, child)));
        let mut all: Vec<(u64, &Descriptor)> = all.collect();
        all.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
        all.into_iter().map(|(_, child)| child).collect()
    }

    /// The child that a machine takes. None: no child is made for it. Where two are, the nearest
    /// variant wins, then the first (Image Specification, "Image Index").
    pub fn child_for(&self, on: &Platform) -> Option<&Descriptor> {
        let mut best: Option<(u32, &Descriptor)> = None;
        for child in self.children() {
            if let Some(score) = child.platform().and_then(|platform| platform.suits(on))
                && best.is_none_or(|(before, _)| score > before)
            {
                best = Some((score, child));
            }
        }
        best.map(|(_, child)| child)
    }
}

/// What an image is made for and how it starts: the parts of the configuration that people ask for.
#[derive(Debug, Clone, Deserialize)]
pub struct ImageConfig {
    #[serde(default)]
    os: String,
    #[serde(default)]
    architecture: String,
    #[serde(default)]
    variant: Option<String>,
    /// When it was built, as written. None: not said.
    #[serde(default)]
    pub created: Option<String>,
    /// How it is run.
    #[serde(default, rename = "config", deserialize_with = "null_is_default")]
    pub run: RunConfig,
}

/// How an image is run.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub struct RunConfig {
    #[serde(default, deserialize_with = "null_is_default")]
    pub entrypoint: Vec<String>,
    #[serde(default, deserialize_with = "null_is_default")]
    pub cmd: Vec<String>,
    /// Free facts.
    #[serde(default, deserialize_with = "null_is_default")]
    pub labels: BTreeMap<String, String>,
    /// As which user. None: not said, which means root.
    #[serde(default)]
    pub user: Option<String>,
}

impl RunConfig {
    /// Whether it is run as root (Image Specification, "Image Configuration", `User`).
    pub fn is_root(&self) -> bool {
        let user = self.user.as_deref().unwrap_or_default();
        matches!(user.split(':').next().unwrap_or_default(), "" | "0" | "root")
    }
}

impl ImageConfig {
    /// Reads a configuration blob.
    pub fn read(bytes: &[u8]) -> Result<Self, DocumentError> {
        serde_json::from_slice(bytes).map_err(|error| DocumentError::Shape(error.to_string()))
    }

    /// When it was built, in milliseconds since 1970. None: not said, or not in the standard's form
    /// (Image Specification, "Image Configuration": RFC 3339).
    pub fn built(&self) -> Option<i64> {
        let read: jiff::Timestamp = self.created.as_ref()?.parse().ok()?;
        Some(read.as_millisecond())
    }

    /// For which machine. None: not said, as in artifacts that are no images.
    pub fn platform(&self) -> Option<Platform> {
        (!self.os.is_empty() && !self.architecture.is_empty())
            .then(|| Platform::new(&self.os, &self.architecture, self.variant.as_deref()))
    }
}

#[cfg(test)]
mod tests;
