//! What is inside images, as far as their layers have been read: noted, so that advisories find it.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::BuildHasher;
use std::sync::Arc;

use larder_core::advisory::{PackageVerdict, StatementStatus, matched, release_of, that_counts};
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT};
use larder_core::inventory::{LayerFacts, LayerOutcome, OsRelease, compose};
use larder_core::policy::{InsideFacts, InsideGap, InsideWish, TouchingAdvisory};

use crate::error::StoreError;
use crate::records::{InventoryGaps, NewInventory, NotedImage, NotedSystem, TouchingFinding};
use crate::store::Store;

/// The most manifests of which the layers are looked for at once.
const MOST_MANIFESTS: usize = 1_000_000;
/// Manifests that are looked through at once.
const PAGE: usize = 500;
/// Packages that are noted with one change.
const TOGETHER: usize = 20_000;
/// Advisories of one image of which all names are looked up.
const MOST_NAMED: usize = 1000;

/// How many images were noted with their packages.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct NotedImages {
    pub noted: usize,
    /// Images of which some layers have not been read.
    pub unread: usize,
}

/// What is known of layers, in their order.
pub fn outcomes_of<H: BuildHasher>(
    layers: &[Digest],
    known: &HashMap<Digest, Arc<LayerFacts>, H>,
) -> Vec<LayerOutcome> {
    let outcome = |layer: &Digest| match known.get(layer) {
        Some(facts) => LayerOutcome::Read(Arc::clone(facts)),
        None => LayerOutcome::NotRead("it has not been read".to_owned()),
    };
    layers.iter().map(outcome).collect()
}

/// A system as it is noted.
pub fn system_of(release: Option<&OsRelease>) -> NotedSystem {
    let Some(release) = release else { return NotedSystem::default() };
    NotedSystem {
        release: release_of(release).unwrap_or_default(),
        name: release.shown(),
        support_end: release.support_end.clone().unwrap_or_default(),
    }
}

/// The layers of images, and which image has which.
#[derive(Debug, Default)]
pub struct HeldLayers {
    /// Those that can be read.
    pub layers: BTreeMap<Digest, Descriptor>,
    pub images: BTreeMap<Digest, Vec<Descriptor>>,
}

impl HeldLayers {
    /// Takes up what a manifest names.
    pub fn add(&mut self, digest: Digest, document: &Document) {
        let layers = document.image_layers();
        if !layers.is_empty() {
            self.images.insert(digest, layers.to_vec());
            let readable = layers.iter().filter(|layer| layer.is_layer());
            self.layers.extend(readable.map(|layer| (layer.digest.clone(), layer.clone())));
        }
    }
}

/// A finding with the names of its advisory. None: it says that the package is not affected.
pub(crate) fn told(
    one: TouchingFinding,
    names: Vec<String>,
    known_at: i64,
) -> Option<TouchingAdvisory> {
    let (fixed, doubt) = match one.finding.verdict {
        PackageVerdict::Affected { fixed } => (fixed, None),
        PackageVerdict::Unknown(why) => (String::new(), Some(why)),
        PackageVerdict::NotAffected => return None,
    };
    let (package, version) = (one.finding.package.name, one.finding.package.version);
    let severity = one.severity;
    Some(TouchingAdvisory { names, severity, known_at, package, version, fixed, doubt })
}

/// What of noted images was not read.
pub(crate) fn gap_of(noted: &[(Digest, NotedImage)]) -> Option<InsideGap> {
    let unread: u64 = noted.iter().map(|(_, noted)| noted.unread).sum();
    let parts: u64 = noted.iter().map(|(_, noted)| noted.parts).sum();
    match (unread, parts) {
        (0, 0) => None,
        (0, parts) => Some(InsideGap::Unreadable(format!(
            "{parts} of its parts cannot be read (`larder inventory` says which)"
        ))),
        (layers, _) => Some(InsideGap::Unread(format!(
            "{layers} of its layers have not been read (`larder inventory --fill` reads what is here)"
        ))),
    }
}

impl Store {
    /// Notes the packages of images that were not noted yet, each with its layers.
    pub async fn note_images(
        &self,
        images: &BTreeMap<Digest, Vec<Descriptor>>,
    ) -> Result<NotedImages, StoreError> {
        let (mut all, mut together) = (NotedImages::default(), Vec::new());
        for (digest, noted) in self.unnoted(images.keys().cloned().collect()).await? {
            let Some(layers) = images.get(&digest) else { continue };
            // What is of no type that anybody reads stays unread for ever.
            let readable = layers.iter().filter(|layer| layer.is_layer());
            let readable: Vec<Digest> = readable.map(|layer| layer.digest.clone()).collect();
            let missing = self.unread_layers(readable).await?;
            all.unread += usize::from(!missing.is_empty());
            // No more is known of it than before.
            if noted == Some(missing.len()) {
                continue;
            }
            let digests: Vec<Digest> = layers.iter().map(|layer| layer.digest.clone()).collect();
            let known = self.layer_facts(&digests).await?;
            let inventory = compose(&outcomes_of(&digests, &known));
            let parts = inventory.unread.len().saturating_sub(missing.len());
            let keys = matched(&inventory).into_iter();
            let keys = keys.map(|(key, place)| (key, inventory.packages[place].layer)).collect();
            let system = system_of(inventory.release.as_ref());
            let is_known = known.keys().next().is_some();
            let gaps = InventoryGaps { layers: missing, parts };
            all.noted += usize::from(is_known);
            together.push(NewInventory { image: digest, system, gaps, packages: keys });
            let packages: usize = together.iter().map(|one| one.packages.len()).sum();
            if packages > TOGETHER || together.len() > PAGE {
                self.note_inventories(std::mem::take(&mut together)).await?;
            }
        }
        if !together.is_empty() {
            self.note_inventories(together).await?;
        }
        Ok(all)
    }

    /// Notes all manifests that are held and were not noted, as far as their layers have been read.
    pub async fn note_held(&self) -> Result<NotedImages, StoreError> {
        let mut all = NotedImages::default();
        let mut after: Option<Digest> = None;
        loop {
            let page = self.unnoted_after(after.as_ref(), PAGE).await?;
            let Some((last, _)) = page.last() else { return Ok(all) };
            after = Some(last.clone());
            let mut held = HeldLayers::default();
            let mut others = Vec::new();
            for (digest, body) in page {
                match Document::read(body.into(), None) {
                    Ok(document) if !document.image_layers().is_empty() => {
                        held.add(digest, &document);
                    }
                    Ok(_) | Err(_) => others.push(digest),
                }
            }
            self.note_others(others).await?;
            let noted = self.note_images(&held.images).await?;
            all.noted += noted.noted;
            all.unread += noted.unread;
        }
    }

    /// The layers of images of all platforms that are here.
    pub async fn layers_of_images(
        &self,
        images: impl IntoIterator<Item = Digest>,
    ) -> Result<HeldLayers, StoreError> {
        let mut held = HeldLayers::default();
        let mut seen: BTreeSet<Digest> = BTreeSet::new();
        let mut open: Vec<Digest> = images.into_iter().collect();
        while let Some(digest) = open.pop() {
            if seen.len() >= MOST_MANIFESTS || !seen.insert(digest.clone()) {
                continue;
            }
            let Some(size) =
                self.size(&digest).await?.filter(|size| *size <= MANIFEST_LIMIT as u64)
            else {
                continue;
            };
            let Ok(document) = Document::read(self.read_all(&digest, size).await?, None) else {
                continue;
            };
            open.extend(document.children().iter().map(|child| child.digest.clone()));
            held.add(digest, &document);
        }
        Ok(held)
    }

    /// What is known of what is inside an image, of all its platforms that are here, and of what was published about it.
    pub async fn inside(
        &self,
        digest: &Digest,
        document: &Document,
        wish: InsideWish,
    ) -> Result<InsideFacts, StoreError> {
        let images = match document.children().is_empty() {
            true => {
                let mut held = HeldLayers::default();
                held.add(digest.clone(), document);
                held.images
            }
            false => {
                let children = document.children().iter().map(|child| child.digest.clone());
                self.layers_of_images(children).await?.images
            }
        };
        // What was read since it was noted counts at once. While the store is moved elsewhere it counts later.
        match self.note_images(&images).await {
            Err(error) if !error.is_frozen() => return Err(error),
            Err(_) | Ok(_) => {}
        }
        let manifests: Vec<Digest> = images.keys().cloned().collect();
        let noted = self.noted(manifests.clone()).await?;
        let gap = match noted.len() < manifests.len() {
            true => Some(InsideGap::Unread("what was read of it was not noted yet".to_owned())),
            false => gap_of(&noted),
        };
        let found = self.touching(manifests, wish.most, wish.unknown).await?;
        let touching = self.unhidden(found).await?;
        let feeds = self.feeds().await?;
        let published = || feeds.iter().filter(|feed| feed.advisories > 0);
        let oldest =
            published().filter(|feed| !feed.is_trusted).min_by_key(|feed| feed.imported_at);
        Ok(InsideFacts {
            touching,
            gap,
            oldest_feed: oldest.map(|feed| (feed.name.clone(), feed.imported_at)),
            has_feeds: published().next().is_some(),
        })
    }

    /// What was found without what statements of our own hide, with all names.
    pub(crate) async fn unhidden(
        &self,
        mut found: Vec<TouchingFinding>,
    ) -> Result<Vec<TouchingAdvisory>, StoreError> {
        found.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.name.cmp(&b.name)));
        let numbers: BTreeSet<i64> =
            found.iter().map(|one| one.finding.advisory).take(MOST_NAMED).collect();
        let advisories = self.advisories_numbered(numbers.into_iter().collect()).await?;
        let names: BTreeSet<String> = advisories
            .values()
            .flat_map(|one| one.advisory.names().into_iter().map(str::to_owned))
            .collect();
        let statements = match names.is_empty() {
            true => Vec::new(),
            false => self.statements_about(names).await?,
        };
        // Of several feeds that have the same one, the first counts.
        let mut first: HashMap<String, i64> = HashMap::new();
        for one in &found {
            let at = first.entry(one.name.clone()).or_insert(one.known_at);
            *at = (*at).min(one.known_at);
        }
        let mut touching = Vec::new();
        for one in found {
            let names: Vec<String> = match advisories.get(&one.finding.advisory) {
                Some(of) => of.advisory.names().into_iter().map(str::to_owned).collect(),
                None => vec![one.name.clone()],
            };
            let package = &one.finding.package;
            let about = (0..statements.len()).filter(|place| {
                let (.., statement) = &statements[*place];
                statement.vulnerabilities.iter().any(|name| names.contains(name))
            });
            let counts = that_counts(&statements, about, package, &[&one.finding.image]);
            let (is_own, status) = counts.map_or((false, None), |place| {
                let (_, is_own, statement) = &statements[place];
                (*is_own, Some(statement.status))
            });
            if is_own && status.is_some_and(StatementStatus::hides) {
                continue;
            }
            let known_at = first.get(&one.name).copied().unwrap_or(one.known_at);
            touching.extend(told(one, names, known_at));
        }
        Ok(touching)
    }
}
