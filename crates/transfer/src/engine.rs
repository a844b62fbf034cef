//! The order of a move: what is missing, blobs first, manifests from the leaves up, the tag last.

use std::collections::{BTreeSet, HashMap};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use futures_util::stream::{self, StreamExt as _, TryStreamExt as _};
use larder_client::ClientError;
use larder_core::digest::Digest;
use larder_core::document::{
    CONFIG_LIMIT, Descriptor, Document, FAMILY_LIMIT, ImageConfig, ManifestShape,
};
use larder_core::name::Tag;
use larder_core::platform::{Platform, Platforms, listed};
use larder_core::reference::Selector;

use larder_store::StoreError;

use super::{Content, ManifestRole, Source, Target, TransferError};
use super::{Unwatched, Watch};

/// Blobs of one image that are moved at once.
const BLOBS_AT_ONCE: usize = 4;
/// How deep indexes may lie in indexes.
const DEPTH: usize = 4;
/// Whole attempts at one blob.
const ATTEMPTS: u32 = 3;

/// What is to be moved.
#[derive(Clone)]
pub struct MoveOrder<'o> {
    pub source: &'o dyn Source,
    /// What it is there.
    pub selector: Selector,
    /// Where it is wanted.
    pub target: &'o dyn Target,
    /// Under which tag. None: by its digest only.
    pub tag: Option<Tag>,
    pub platforms: &'o Platforms,
    /// Children of indexes that are left out, whatever they are made for.
    pub leave: &'o BTreeSet<Digest>,
    /// The digest of the index that is written anew with these platforms alone. None: the index
    /// stays as it is.
    pub trimmed: Option<&'o Digest>,
}

/// What a move did.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct MoveOutcome {
    /// The image's digest, the same on both sides. None: nothing was moved yet.
    pub digest: Option<Digest>,
    /// Manifests and indexes that were written.
    pub manifests: usize,
    /// Blobs that were moved.
    pub copied: usize,
    /// Blobs that were there already.
    pub present: usize,
    /// Bytes of the blobs that were moved.
    pub bytes: u64,
}

impl MoveOutcome {
    /// Adds what another move did.
    pub fn add(&mut self, other: &Self) {
        self.manifests += other.manifests;
        self.copied += other.copied;
        self.present += other.present;
        self.bytes += other.bytes;
    }
}

/// Moves images; several at once share it, so that a layer which two of them need goes once.
#[derive(Clone)]
pub struct Engine {
    progress: Arc<dyn Watch>,
    moving: Arc<Mutex<HashMap<Digest, Arc<tokio::sync::Mutex<()>>>>>,
}

/// Which parts of an image are wanted, and where they are.
struct Choice<'c> {
    source: &'c dyn Source,
    platforms: &'c Platforms,
    leave: &'c BTreeSet<Digest>,
    /// What was met already: a manifest that is named again, anywhere in the image, is fetched once.
    seen: Mutex<BTreeSet<Digest>>,
}

/// All that an image needs, without moving it.
pub struct Outline {
    /// The image's digest: that of the trimmed index where it is trimmed.
    pub digest: Digest,
    /// Its documents, each before those that list it.
    pub documents: Vec<(Digest, Document)>,
    /// Children of indexes that are not wanted.
    pub absent: Vec<Digest>,
}

impl Outline {
    /// Finds out what an image needs for these platforms; see [`MoveOrder::trimmed`] for the last.
    pub async fn of(
        source: &dyn Source,
        digest: &Digest,
        platforms: &Platforms,
        trimmed: Option<&Digest>,
    ) -> Result<Self, TransferError> {
        let (digest, document) = source.manifest(&Selector::Digest(digest.clone())).await?;
        let leave = BTreeSet::new();
        let choice = Choice { source, platforms, leave: &leave, seen: Mutex::default() };
        let mut wanted = collect(&choice, digest, document, 0, &mut Vec::new()).await?;
        if let Some(expected) = trimmed {
            wanted = wanted.trim(expected)?;
        }
        let digest = wanted.digest.clone();
        let mut outline = Self { digest, documents: Vec::new(), absent: Vec::new() };
        outline.add(wanted);
        // What one index lists again, another one brings.
        let brought: BTreeSet<&Digest> =
            outline.documents.iter().map(|(digest, _)| digest).collect();
        outline.absent.retain(|digest| !brought.contains(digest));
        Ok(outline)
    }

    /// All blobs that it needs, each once.
    pub fn blobs(&self) -> Vec<Descriptor> {
        let mut seen = BTreeSet::new();
        let all = self.documents.iter().flat_map(|(_, document)| document.blobs());
        all.filter(|blob| seen.insert(blob.digest.clone())).cloned().collect()
    }

    fn add(&mut self, wanted: WantedDocument) {
        let taken: BTreeSet<Digest> = wanted.children.iter().map(|c| c.digest.clone()).collect();
        let absent = wanted.document.children().iter().map(|child| child.digest.clone());
        self.absent.extend(absent.filter(|child| !taken.contains(child)));
        for child in wanted.children {
            self.add(child);
        }
        self.documents.push((wanted.digest, wanted.document));
    }
}

/// A document with those of its children that are wanted.
struct WantedDocument {
    digest: Digest,
    document: Document,
    children: Vec<WantedDocument>,
    sparse: bool,
}

impl Engine {
    /// An engine that tells somebody how far it is.
    pub fn new(watch: impl Watch + 'static) -> Self {
        Self { progress: Arc::new(watch), moving: Arc::default() }
    }

    /// An engine that tells nobody.
    pub fn silent() -> Self {
        Self::new(Unwatched)
    }

    /// Moves one image.
    pub async fn run(&self, order: &MoveOrder<'_>) -> Result<MoveOutcome, TransferError> {
        let (digest, document) = order.source.manifest(&order.selector).await?;
        let mut present = Vec::new();
        let choice = Choice {
            source: order.source,
            platforms: order.platforms,
            leave: order.leave,
            seen: Mutex::default(),
        };
        let wanted = collect(&choice, digest, document, 0, &mut present).await?;
        // An artifact is made for no platform, so none can be missing.
        if !present.is_empty() || !wanted.document.children().is_empty() {
            check_all_there(order.platforms, &present)?;
        }
        let wanted = match order.trimmed {
            Some(expected) => wanted.trim(expected)?,
            None => wanted,
        };
        let mut moved =
            MoveOutcome { digest: Some(wanted.digest.clone()), ..MoveOutcome::default() };
        let mut blobs = Vec::new();
        missing_blobs(order.target, &wanted, &mut blobs, &mut BTreeSet::new()).await?;
        self.progress.expect(blobs.iter().map(|blob| blob.size).sum());
        // After a failure nothing new is begun, but what is on its way comes to its end: it is kept,
        // and nothing is left half written.
        let failed = AtomicBool::new(false);
        let outcomes: Vec<Result<bool, TransferError>> = stream::iter(blobs.clone())
            .take_while(|_| std::future::ready(!failed.load(Ordering::Relaxed)))
            .map(|blob| async move { self.blob(order, &blob).await })
            .buffered(BLOBS_AT_ONCE)
            .inspect_err(|_| failed.store(true, Ordering::Relaxed))
            .collect()
            .await;
        for (blob, copied) in blobs.iter().zip(outcomes) {
            if copied? {
                moved.copied += 1;
                moved.bytes += blob.size;
            } else {
                moved.present += 1;
            }
        }
        self.manifests(order, &wanted, ManifestRole::Image(order.tag.as_ref()), &mut moved).await?;
        Ok(moved)
    }

    /// Moves a blob unless it is there. True: it was moved.
    async fn blob(&self, order: &MoveOrder<'_>, blob: &Descriptor) -> Result<bool, TransferError> {
        let turn = {
            let mut moving = self.moving.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(moving.entry(blob.digest.clone()).or_default())
        };
        // Another image that needs the same blob waits here, and then finds it there.
        let _turn = turn.lock().await;
        let there =
            order.target.has_blob(blob).await? || order.target.adopts(blob, order.source).await?;
        if there {
            self.progress.advance(blob.size);
            return Ok(false);
        }
        let mut met = Vec::new();
        for place in 0..order.source.places() {
            match self.blob_from(place, order, blob).await {
                Ok(()) => return Ok(true),
                // Another place cannot mend our own disk.
                Err(error @ TransferError::Store(StoreError::Io { .. })) => return Err(error),
                Err(error) => met.push(error),
            }
        }
        order.target.give_up(blob).await;
        Err(TransferError::together(met))
    }

    async fn blob_from(
        &self,
        place: usize,
        order: &MoveOrder<'_>,
        blob: &Descriptor,
    ) -> Result<(), TransferError> {
        let (mut attempt, mut anew) = (1, false);
        loop {
            let moved = Arc::new(AtomicU64::new(0));
            let from = if anew { 0 } else { order.target.begun(blob).await? };
            let outcome = self.pass_on(place, order, blob, from, &moved).await;
            match outcome {
                Ok(()) => return Ok(()),
                // What was left was of something else, or is damaged: it is gone now.
                // Or somebody else goes on with it at this moment, or a registry does not.
                Err(
                    TransferError::Store(StoreError::Mismatch { .. } | StoreError::Busy(_))
                    | TransferError::Client(ClientError::Refused { .. }),
                ) if from > 0 && attempt < ATTEMPTS => {
                    anew = true;
                    self.progress.take_back(moved.load(Ordering::Relaxed));
                    attempt += 1;
                }
                Err(TransferError::Client(error)) if error.is_passing() && attempt < ATTEMPTS => {
                    self.progress.take_back(moved.load(Ordering::Relaxed));
                    tracing::debug!(%error, digest = %blob.digest, "moving a blob again");
                    tokio::time::sleep(Duration::from_millis(200) * attempt).await;
                    attempt += 1;
                }
                Err(error) => {
                    self.progress.take_back(moved.load(Ordering::Relaxed));
                    return Err(error);
                }
            }
        }
    }

    /// Moves a blob, or what is missing of it.
    async fn pass_on(
        &self,
        place: usize,
        order: &MoveOrder<'_>,
        blob: &Descriptor,
        from: u64,
        moved: &Arc<AtomicU64>,
    ) -> Result<(), TransferError> {
        if from > 0
            && from < blob.size
            && let Some(rest) = order.source.blob_from(place, blob, from).await?
        {
            self.progress.advance(from);
            moved.fetch_add(from, Ordering::Relaxed);
            return order.target.take_rest(blob, from, self.watched(rest, moved)).await;
        }
        let content = order.source.blob_at(place, blob).await?;
        order.target.take_rest(blob, 0, self.watched(content, moved)).await
    }

    /// Tells the bar and the counter of this attempt what goes past.
    fn watched(&self, content: Content, moved: &Arc<AtomicU64>) -> Content {
        let (progress, moved) = (self.progress.clone(), Arc::clone(moved));
        content
            .inspect_ok(move |chunk| {
                progress.advance(chunk.len() as u64);
                moved.fetch_add(chunk.len() as u64, Ordering::Relaxed);
            })
            .boxed()
    }

    async fn manifests(
        &self,
        order: &MoveOrder<'_>,
        wanted: &WantedDocument,
        role: ManifestRole<'_>,
        moved: &mut MoveOutcome,
    ) -> Result<(), TransferError> {
        for child in &wanted.children {
            // An index that is held may be sparse and lack what is wanted now; a manifest that is held
            // is whole.
            if !child.children.is_empty() || !order.target.holds(&child.digest).await? {
                Box::pin(self.manifests(order, child, ManifestRole::Child, moved)).await?;
            }
        }
        order.target.take_manifest(&wanted.digest, &wanted.document, role, wanted.sparse).await?;
        moved.manifests += 1;
        Ok(())
    }
}

/// The same index with the wanted platforms alone. One that has no others, and what is no index,
/// comes back as it is.
pub async fn trim(
    source: &dyn Source,
    document: &Document,
    platforms: &Platforms,
) -> Result<Document, TransferError> {
    let mut keep = BTreeSet::new();
    for child in document.children() {
        if want_child(source, child, platforms).await?.0 {
            keep.insert(child.digest.clone());
        }
    }
    Ok(document.trimmed(&keep).unwrap_or_else(|| document.clone()))
}

impl WantedDocument {
    /// The same with an index that lists only what is wanted; it must be the locked one.
    fn trim(self, expected: &Digest) -> Result<Self, TransferError> {
        let keep = self.children.iter().map(|child| child.digest.clone()).collect();
        let (digest, document) = match self.document.trimmed(&keep) {
            Some(document) => (Digest::of(&document.bytes), document),
            None => (self.digest, self.document),
        };
        if digest != *expected {
            return Err(TransferError::Trimmed { expected: expected.clone(), actual: digest });
        }
        Ok(Self { digest, document, children: self.children, sparse: false })
    }
}

/// Fetches the documents of all wanted platforms; `present` takes those that there are.
async fn collect(
    choice: &Choice<'_>,
    digest: Digest,
    document: Document,
    depth: usize,
    present: &mut Vec<Platform>,
) -> Result<WantedDocument, TransferError> {
    if depth > DEPTH {
        return Err(TransferError::Depth);
    }
    let mut children = Vec::new();
    let mut sparse = false;
    match &document.kind {
        ManifestShape::Manifest { config, .. } => {
            if let (0, Platforms::Some(_)) = (depth, choice.platforms) {
                present.extend(platform_of(choice.source, config).await?);
            }
        }
        ManifestShape::Index(list) => {
            for child in list {
                if choice.leave.contains(&child.digest) {
                    sparse = true;
                    continue;
                }
                let (new, number) = {
                    let mut seen = choice.seen.lock().unwrap_or_else(PoisonError::into_inner);
                    (seen.insert(child.digest.clone()), seen.len())
                };
                if number > FAMILY_LIMIT {
                    return Err(TransferError::Family);
                }
                if !new {
                    continue;
                }
                let (wanted, platform) = want_child(choice.source, child, choice.platforms).await?;
                present.extend(platform);
                if !wanted {
                    sparse = true;
                    continue;
                }
                let selector = Selector::Digest(child.digest.clone());
                let (digest, document) = choice.source.manifest(&selector).await?;
                let child = Box::pin(collect(choice, digest, document, depth + 1, present)).await?;
                children.push(child);
            }
        }
    }
    Ok(WantedDocument { digest, document, children, sparse })
}

/// Whether a child of an index is wanted, and for which platform it is. One that does not say is
/// asked itself.
async fn want_child(
    source: &dyn Source,
    child: &Descriptor,
    platforms: &Platforms,
) -> Result<(bool, Option<Platform>), TransferError> {
    if let Some(wanted) = child.is_wanted(platforms) {
        return Ok((wanted, child.platform()));
    }
    let (_, document) = source.manifest(&Selector::Digest(child.digest.clone())).await?;
    match &document.kind {
        // An index that was not announced as one.
        ManifestShape::Index(_) => Ok((true, None)),
        ManifestShape::Manifest { config, .. } => {
            let platform = platform_of(source, config).await?;
            let wanted = platform.as_ref().is_some_and(|platform| platforms.want(platform));
            Ok((wanted, platform))
        }
    }
}

/// The blobs of all documents that the target does not hold already, each once.
async fn missing_blobs(
    target: &dyn Target,
    wanted: &WantedDocument,
    blobs: &mut Vec<Descriptor>,
    seen: &mut BTreeSet<Digest>,
) -> Result<(), TransferError> {
    if !wanted.children.is_empty() {
        for child in &wanted.children {
            Box::pin(missing_blobs(target, child, blobs, seen)).await?;
        }
    } else if !target.holds(&wanted.digest).await? {
        blobs.extend(
            wanted.document.blobs().filter(|blob| seen.insert(blob.digest.clone())).cloned(),
        );
    }
    Ok(())
}

/// The platform that an image's configuration names. None: it is no image.
async fn platform_of(
    source: &dyn Source,
    config: &Descriptor,
) -> Result<Option<Platform>, TransferError> {
    let bytes = source.small_blob(config, CONFIG_LIMIT).await?;
    Ok(ImageConfig::read(&bytes).ok().and_then(|config| config.platform()))
}

/// Refuses an image that lacks a wanted platform: better told now than by a node.
pub fn check_all_there(platforms: &Platforms, present: &[Platform]) -> Result<(), TransferError> {
    let lacking = platforms.lacking(&present.iter());
    if lacking.is_empty() {
        return Ok(());
    }
    let present: Vec<Platform> =
        present.iter().filter(|platform| !platform.is_unknown()).cloned().collect();
    Err(TransferError::NoPlatform { wanted: listed(&lacking), present: listed(&present) })
}
