//! An image as it is shown.

use larder_core::digest::Digest;
use larder_core::holdings::ManifestPlace;
use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::Platform;
use schemars::JsonSchema;
use serde::Serialize;

use crate::health::ImageHealth;
use crate::output::short;

#[derive(Serialize, JsonSchema)]
pub(super) struct ShownImage {
    #[schemars(with = "String")]
    pub repository: RepositoryName,
    /// None: no tag points to it.
    #[schemars(with = "Option<String>")]
    pub tag: Option<Tag>,
    #[schemars(with = "String")]
    pub digest: Digest,
    pub media_type: String,
    /// Platforms that are there.
    #[schemars(with = "Vec<String>")]
    pub platforms: Vec<Platform>,
    /// Platforms that the index names and that were not brought in.
    #[schemars(with = "Vec<String>")]
    pub absent: Vec<Platform>,
    /// What it takes.
    pub size_bytes: u64,
    /// What nothing but it uses: what dropping it would free.
    pub exclusive_bytes: u64,
    /// When the tag was set; without a tag, when it was put there.
    pub changed_at: String,
    /// When it was last asked for. None: never.
    pub pulled_at: Option<String>,
    /// How often it was fetched in the last 30 days.
    pub pulls_in_30_days: u64,
    /// When the upstream last confirmed the tag. None: it never did, or the shelf does not cache.
    pub confirmed_at: Option<String>,
    /// When it is evicted if nobody pulls it. None: never.
    pub expires_at: Option<String>,
    /// Its blobs, with `--tree`. None: nobody asked for them.
    pub layers: Option<Vec<ShownLayer>>,
    /// How it is, as far as is known. None: nobody has taken advisories in, it is no image, or there are more than 500 and
    /// nobody asked for it.
    pub health: Option<ImageHealth>,
    #[serde(skip)]
    pub goes: Option<i64>,
    #[serde(skip)]
    pub checked: Option<i64>,
    #[serde(skip)]
    pub at: i64,
    #[serde(skip)]
    pub last: Option<i64>,
    #[serde(skip)]
    pub place: ManifestPlace,
    /// What it lists and is there, each for its platform. Empty: it is no index.
    #[serde(skip)]
    pub parts: Vec<(Digest, Platform)>,
    /// Its blobs, each of one of its platforms or of none, with its size in bytes. Empty: nobody asked for them.
    #[serde(skip)]
    pub blobs: Vec<(Option<Platform>, Digest, u64)>,
}

impl ShownImage {
    pub fn name(&self) -> String {
        image_name(&self.repository, self.tag.as_ref(), &self.digest)
    }
}

/// What an image of the larder is called: by its tag, or by its digest where it has none.
pub(super) fn image_name(
    repository: &RepositoryName,
    tag: Option<&Tag>,
    digest: &Digest,
) -> String {
    match tag {
        Some(tag) => format!("{repository}:{tag}"),
        None => format!("{repository}@{}", short(digest)),
    }
}

/// One blob of an image.
#[derive(Serialize, JsonSchema)]
pub(super) struct ShownLayer {
    /// None: the image is no index, or it is of none of its platforms.
    #[schemars(with = "Option<String>")]
    pub platform: Option<Platform>,
    #[schemars(with = "String")]
    pub digest: Digest,
    pub size_bytes: u64,
    /// The other images that have it, on any shelf.
    pub shared_with: Vec<String>,
}
