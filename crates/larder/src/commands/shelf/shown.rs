//! An image as it is shown.

use larder_core::digest::Digest;
use larder_core::holdings::Place;
use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::Platform;
use serde::Serialize;

use crate::output::short;

#[derive(Serialize)]
pub(super) struct Shown {
    pub repository: RepositoryName,
    /// None: no tag points to it.
    pub tag: Option<Tag>,
    pub digest: Digest,
    pub media_type: String,
    /// Platforms that are there.
    pub platforms: Vec<Platform>,
    /// Platforms that the index names and that were not brought in.
    pub absent: Vec<Platform>,
    /// What it takes, in bytes.
    pub content: u64,
    /// What nothing but it uses, in bytes.
    pub freed: u64,
    /// When the tag was set; without a tag, when it was put there.
    pub since: String,
    /// When it was last asked for. None: never.
    pub pulled: Option<String>,
    /// How often it was fetched in the last 30 days.
    pub pulls: u64,
    /// On a cached shelf: when the upstream last confirmed the tag.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub confirmed: Option<String>,
    /// On a cached shelf: when it goes if nobody pulls it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expires: Option<String>,
    #[serde(skip)]
    pub goes: Option<i64>,
    #[serde(skip)]
    pub checked: Option<i64>,
    #[serde(skip)]
    pub at: i64,
    #[serde(skip)]
    pub last: Option<i64>,
    #[serde(skip)]
    pub place: Place,
    /// What it lists and is there, each for its platform. Empty: it is no index.
    #[serde(skip)]
    pub parts: Vec<(Digest, Platform)>,
    /// Its blobs, each of one of its platforms or of none, with its size in bytes. Empty: nobody asked for them.
    #[serde(skip)]
    pub layers: Vec<(Option<Platform>, Digest, u64)>,
}

impl Shown {
    pub fn name(&self) -> String {
        match &self.tag {
            Some(tag) => format!("{}:{tag}", self.repository),
            None => format!("{}@{}", self.repository, short(&self.digest)),
        }
    }
}
