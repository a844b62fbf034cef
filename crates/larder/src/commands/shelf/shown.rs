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
    #[serde(skip)]
    pub at: i64,
    #[serde(skip)]
    pub last: Option<i64>,
    #[serde(skip)]
    pub place: Place,
    /// What it lists and is there, each for its platform. Empty: it is no index.
    #[serde(skip)]
    pub parts: Vec<(Digest, Platform)>,
}

impl Shown {
    pub fn name(&self) -> String {
        match &self.tag {
            Some(tag) => format!("{}:{tag}", self.repository),
            None => format!("{}@{}", self.repository, short(&self.digest)),
        }
    }
}
