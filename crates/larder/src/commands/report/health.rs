//! How the images of a larder are, for its report.

use std::collections::{BTreeMap, HashMap};

use futures_util::stream::{self, StreamExt as _, TryStreamExt as _};
use larder_core::companion::is_made_from_digest;
use larder_core::digest::Digest;
use larder_core::health::HealthWord;
use larder_store::{Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::every_tag;
use crate::health::{self, ImageHealth};

/// Images that are looked at, and those that are named.
const LOOKED: usize = 10_000;
const NAMED: usize = 50;
/// Images of which it is found out at once how they are.
const AT_ONCE: usize = 8;

/// How images are.
#[derive(Serialize, JsonSchema)]
pub struct HealthFigures {
    pub words: Vec<HealthCount>,
    /// Those that are poor, by name.
    pub poor: Vec<PoorImage>,
    /// Whether there are more images, or more poor ones, than are told here.
    pub is_cut: bool,
}

/// How many images are so.
#[derive(Serialize, JsonSchema)]
pub struct HealthCount {
    pub word: &'static str,
    pub images: usize,
}

/// An image that is poor.
#[derive(Serialize, JsonSchema)]
pub struct PoorImage {
    pub image: String,
    pub because: String,
}

impl HealthFigures {
    /// Of all images. None: nobody has taken advisories in.
    pub async fn gather(store: &Store) -> Result<Option<Self>, StoreError> {
        if !health::is_asked(store).await? {
            return Ok(None);
        }
        // Several tags of one image are one image.
        let mut names: BTreeMap<Digest, String> = BTreeMap::new();
        for (repository, tag, digest) in every_tag(store).await? {
            if !is_made_from_digest(&tag) {
                names.entry(digest).or_insert_with(|| format!("{repository}:{tag}"));
            }
        }
        let mut is_cut = names.len() > LOOKED;
        let each = names.into_iter().take(LOOKED).map(|(digest, name)| async move {
            let found = health::of_held(store, &digest).await;
            found.map(|health| (name, health))
        });
        let each = stream::iter(each).buffer_unordered(AT_ONCE);
        let all: Vec<(String, Option<ImageHealth>)> = each.try_collect().await?;
        let mut counted: HashMap<HealthWord, usize> = HashMap::new();
        let mut poor = Vec::new();
        for (image, health) in all {
            let Some(health) = health else { continue };
            *counted.entry(health.is()).or_default() += 1;
            if health.is() == HealthWord::Poor {
                poor.push(PoorImage { image, because: health.because() });
            }
        }
        poor.sort_by(|a, b| a.image.cmp(&b.image));
        is_cut |= poor.len() > NAMED;
        poor.truncate(NAMED);
        let count = |word: HealthWord| HealthCount {
            word: word.word(),
            images: counted.get(&word).copied().unwrap_or(0),
        };
        let words = HealthWord::ALL.into_iter().rev().map(count).collect();
        Ok(Some(Self { words, poor, is_cut }))
    }
}
