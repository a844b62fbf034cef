//! What lies under a reference: its documents and configurations, read.

use std::collections::{BTreeMap, BTreeSet};

use futures_util::future::try_join_all;
use futures_util::stream::{self, StreamExt as _, TryStreamExt as _};
use larder_core::chart::ChartDescription;
use larder_core::digest::Digest;
use larder_core::document::{
    CONFIG_LIMIT, Descriptor, Document, HistoryStep, ImageConfig, ImageDetails, ManifestShape,
    media_type,
};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_transfer::{Source, TransferError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::health::ImageHealth;

/// What was found under a reference.
#[derive(Serialize, JsonSchema)]
pub(in crate::commands) struct Look {
    pub reference: String,
    #[schemars(with = "String")]
    pub digest: Digest,
    pub media_type: String,
    /// Of the index or manifest itself.
    pub size_bytes: u64,
    pub platforms: Vec<OnePlatform>,
    /// Manifests of the index that are no images: build records.
    pub build_records: usize,
    /// How it is, as far as this larder knows. null: nobody has taken advisories in here, or it is no image.
    pub health: Option<ImageHealth>,
}

#[derive(Serialize, JsonSchema)]
pub(in crate::commands) struct OnePlatform {
    /// None: it is made for none, as artifacts are.
    #[schemars(with = "Option<String>")]
    pub platform: Option<Platform>,
    /// What kind of artifact it is. null: it is an image.
    pub artifact_type: Option<String>,
    /// What it says of itself when it is a chart.
    pub chart: Option<ChartLook>,
    #[schemars(with = "String")]
    pub digest: Digest,
    /// All blobs together, as they are transferred.
    pub size_bytes: u64,
    pub layers: Vec<Layer>,
    pub created_at: Option<String>,
    pub entrypoint: Vec<String>,
    pub cmd: Vec<String>,
    pub user: Option<String>,
    pub labels: BTreeMap<String, String>,
    /// Variables, each as NAME=VALUE.
    pub env: Vec<String>,
    /// As PORT/PROTOCOL.
    pub ports: Vec<String>,
    pub volumes: Vec<String>,
    pub working_dir: Option<String>,
    pub stop_signal: Option<String>,
    /// The command that tells whether it is well. Empty: there is none.
    pub health_check: Vec<String>,
    /// How it was built, the first step first.
    pub history: Vec<BuildStep>,
    /// Those of the manifest.
    pub annotations: BTreeMap<String, String>,
}

/// A chart.
#[derive(Serialize, JsonSchema)]
pub(in crate::commands) struct ChartLook {
    pub name: String,
    pub version: String,
    /// The version of what it installs. null: it does not say.
    pub app_version: Option<String>,
    /// null: it does not say.
    pub description: Option<String>,
    /// The charts that it wants below it, each with the versions that will do.
    pub wants: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
pub(in crate::commands) struct BuildStep {
    pub created_at: Option<String>,
    /// null: not said.
    pub command: Option<String>,
    /// Whether it made a layer.
    pub makes_layer: bool,
}

#[derive(Serialize, JsonSchema, PartialEq)]
pub(in crate::commands) struct Layer {
    #[schemars(with = "String")]
    pub digest: Digest,
    pub size_bytes: u64,
    pub media_type: String,
}

/// Reads the documents and configurations of everything that is named there.
pub(in crate::commands) async fn examine(
    source: &dyn Source,
    selector: &Selector,
    reference: String,
) -> Result<Look, TransferError> {
    let (digest, document) = source.manifest(selector).await?;
    let mut images: Vec<(Option<Platform>, Digest, Document)> = Vec::new();
    let mut records = 0;
    let top = (None, digest.clone(), document.clone());
    gather(source, top, &mut images, (&mut records, &mut BTreeSet::new()), 0).await?;
    let platforms = images
        .into_iter()
        .map(|(platform, digest, document)| describe(source, platform, digest, document));
    let platforms = try_join_all(platforms).await?;
    Ok(Look {
        reference,
        digest,
        media_type: document.media_type.clone(),
        size_bytes: document.bytes.len() as u64,
        platforms,
        build_records: records,
        health: None,
    })
}

/// Manifests of one index that are asked for at once.
const AT_ONCE: usize = 16;

async fn gather(
    source: &dyn Source,
    (platform, digest, document): (Option<Platform>, Digest, Document),
    images: &mut Vec<(Option<Platform>, Digest, Document)>,
    (records, seen): (&mut usize, &mut BTreeSet<Digest>),
    depth: usize,
) -> Result<(), TransferError> {
    if let ManifestShape::Manifest { .. } = document.kind {
        images.push((platform, digest, document));
        return Ok(());
    }
    if depth > 4 {
        return Err(TransferError::Depth);
    }
    let (wanted, other): (Vec<&Descriptor>, Vec<&Descriptor>) = document
        .children()
        .iter()
        // Named once or ten thousand times, it is one image.
        .filter(|child| seen.insert(child.digest.clone()))
        .partition(|child| !child.platform().is_some_and(|p| p.is_unknown()));
    *records += other.len();
    if seen.len() > larder_core::document::FAMILY_LIMIT {
        return Err(TransferError::Family);
    }
    let fetched = wanted.iter().map(|child| async {
        match source.manifest(&Selector::Digest(child.digest.clone())).await {
            Ok((digest, document)) => Ok(Some((child.platform(), digest, document))),
            // A sparse index lists what was not brought in.
            Err(TransferError::Layout(_) | TransferError::NotHeld(_)) => Ok(None),
            Err(TransferError::Client(larder_client::ClientError::NotFound { .. })) => Ok(None),
            Err(error) => Err(error),
        }
    });
    let fetched = stream::iter(fetched).buffered(AT_ONCE).try_collect::<Vec<_>>();
    for child in fetched.await?.into_iter().flatten() {
        Box::pin(gather(source, child, images, (records, seen), depth + 1)).await?;
    }
    Ok(())
}

async fn describe(
    source: &dyn Source,
    platform: Option<Platform>,
    digest: Digest,
    document: Document,
) -> Result<OnePlatform, TransferError> {
    let ManifestShape::Manifest { config, layers } = &document.kind else {
        return Err(TransferError::Depth);
    };
    // An artifact's configuration may be anything; then there is nothing to tell from it.
    let (read, details, chart) = match config.size <= CONFIG_LIMIT as u64 {
        true => {
            let bytes = source.small_blob(config, CONFIG_LIMIT).await?;
            let chart = ChartDescription::of(&document, &bytes);
            (ImageConfig::read(&bytes).ok(), ImageDetails::read(&bytes), chart)
        }
        false => (None, ImageDetails::default(), None),
    };
    let made_for = platform.or_else(|| read.as_ref().and_then(ImageConfig::platform));
    let images = [media_type::CONFIG, media_type::SCHEMA2_CONFIG];
    let kind = document.artifact_type().filter(|kind| !images.contains(kind));
    let artifact_type = kind.filter(|_| made_for.is_none()).map(str::to_owned);
    let chart = chart.map(|chart| ChartLook {
        name: chart.name,
        version: chart.version,
        app_version: chart.app_version,
        description: chart.about,
        wants: chart.wants,
    });
    let run = read.as_ref().map(|config| config.run.clone()).unwrap_or_default();
    Ok(OnePlatform {
        platform: made_for,
        artifact_type,
        chart,
        digest,
        size_bytes: document.blobs().map(|blob| blob.size).sum(),
        layers: layers
            .iter()
            .map(|layer| Layer {
                digest: layer.digest.clone(),
                size_bytes: layer.size,
                media_type: layer.media_type.clone(),
            })
            .collect(),
        history: details.history.iter().map(BuildStep::of).collect(),
        created_at: read.and_then(|config| config.created),
        entrypoint: run.entrypoint,
        cmd: run.cmd,
        user: run.user,
        labels: run.labels,
        env: details.run.env,
        ports: details.run.ports,
        volumes: details.run.volumes,
        working_dir: details.run.working_dir.filter(|folder| !folder.is_empty()),
        stop_signal: details.run.stop_signal.filter(|signal| !signal.is_empty()),
        health_check: details.run.healthcheck.unwrap_or_default().test,
        annotations: document.annotations.clone(),
    })
}

impl BuildStep {
    fn of(step: &HistoryStep) -> Self {
        Self {
            created_at: step.created.clone(),
            command: step.created_by.clone().or_else(|| step.comment.clone()),
            makes_layer: !step.empty_layer,
        }
    }
}
