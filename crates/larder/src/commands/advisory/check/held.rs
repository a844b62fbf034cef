//! All that the larder holds: what was noted of its images, held together with who uses them.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use larder_core::digest::Digest;
use larder_core::document::{
    CONFIG_LIMIT, Descriptor, Document, ImageConfig, ImageDetails, ManifestShape,
};
use larder_core::inventory::{build_layers, compose};
use larder_core::name::{RepositoryName, Tag};
use larder_core::selection::sort_newest_first;
use larder_store::{NotedFinding, Store, StoreError};

use super::judged::{Judged, RatedAdvisory, installed, once};
use super::{Args, CheckedImage, User};
use crate::commands::shelf::{KnownUse, UseWish, UsesBy};
use crate::config::Config;
use crate::context::{Context, every_tag};
use crate::failure::{Exit, Failure};
use crate::inventory::{layers_of, note_held, outcomes_of};
use crate::output::time;

/// Manifests that are looked through at once.
const PAGE: usize = 500;
/// Other images that are named with a layer, newer tags that are named, and images of which the build steps are read.
const NAMED: usize = 10;
const MENDING: usize = 5;
const STEPS: usize = 200;

/// A manifest with layers.
struct HeldImage {
    config: Descriptor,
    layers: Vec<Digest>,
}

/// What the larder holds, by its names.
pub struct Holdings {
    images: HashMap<Digest, HeldImage>,
    /// The manifests below each index, and the indexes above each manifest.
    children: HashMap<Digest, Vec<Digest>>,
    parents: HashMap<Digest, Vec<Digest>>,
    /// Every tag, with the manifests of its image.
    tags: Vec<(RepositoryName, Tag, Vec<Digest>)>,
    /// The tags of each repository, by their places above, the newest first.
    of_repository: HashMap<RepositoryName, Vec<usize>>,
    /// The tags of each manifest, by their places above.
    of_manifest: HashMap<Digest, Vec<usize>>,
    with_layer: HashMap<Digest, BTreeSet<usize>>,
    findings: HashMap<Digest, Vec<NotedFinding>>,
    /// The advisories of each manifest, by their ids.
    touched: HashMap<Digest, BTreeSet<String>>,
    /// Images of which layers were not read, and those of whose layers something could not be.
    unnoted: BTreeSet<Digest>,
    partly: BTreeSet<Digest>,
    advisories: HashMap<i64, RatedAdvisory>,
    uses: KnownUse,
}

impl Holdings {
    /// Reads all of it.
    pub async fn read(config: &Config, store: &Store) -> Result<Self, Failure> {
        let failed =
            |error: StoreError| Failure::store("cannot tell what advisories touch", &error);
        let (mut images, mut children) = (HashMap::new(), HashMap::new());
        let mut after: Option<Digest> = None;
        loop {
            let page = store.manifests_after(after.as_ref(), PAGE).await.map_err(failed)?;
            let Some((last, _)) = page.last() else { break };
            after = Some(last.clone());
            for (digest, body) in page {
                let Ok(document) = Document::read(body.into(), None) else { continue };
                let below: Vec<Digest> =
                    document.children().iter().map(|child| child.digest.clone()).collect();
                let layers: Vec<Digest> =
                    layers_of(&document).iter().map(|layer| layer.digest.clone()).collect();
                match document.kind {
                    ManifestShape::Manifest { config, .. } if !layers.is_empty() => {
                        images.insert(digest, HeldImage { config, layers });
                    }
                    ManifestShape::Manifest { .. } => {}
                    ManifestShape::Index { .. } => drop(children.insert(digest, below)),
                }
            }
        }
        let unnoted = store.unnoted(images.keys().cloned().collect()).await.map_err(failed)?;
        let partly = store.partly_read().await.map_err(failed)?;
        let fold = |all: &mut HashMap<Digest, Vec<NotedFinding>>, one: NotedFinding| {
            all.entry(one.image.clone()).or_default().push(one);
        };
        let findings = store.fold_findings(None, HashMap::new(), fold).await.map_err(failed)?;
        let numbers: BTreeSet<i64> =
            findings.values().flatten().map(|one: &NotedFinding| one.advisory).collect();
        let advisories =
            store.advisories_numbered(numbers.into_iter().collect()).await.map_err(failed)?;
        let advisories: HashMap<i64, RatedAdvisory> =
            advisories.iter().map(|(number, one)| (*number, RatedAdvisory::of(one))).collect();
        let mut touched: HashMap<Digest, BTreeSet<String>> = HashMap::new();
        for one in findings.values().flatten() {
            if let Some(of) = advisories.get(&one.advisory) {
                touched.entry(one.image.clone()).or_default().insert(of.id.clone());
            }
        }
        let uses = KnownUse::read(config, store, None, UseWish::Everything).await?;
        let mut holdings = Self {
            images,
            parents: parents(&children),
            children,
            tags: Vec::new(),
            of_repository: HashMap::new(),
            of_manifest: HashMap::new(),
            with_layer: HashMap::new(),
            findings,
            touched,
            unnoted: unnoted.into_iter().map(|(digest, _)| digest).collect(),
            partly: partly.into_iter().collect(),
            advisories,
            uses,
        };
        for (repository, tag, digest) in every_tag(store).await.map_err(failed)? {
            // What is made from the digest of an image is no version of it.
            if larder_core::companion::is_made_from_digest(&tag) {
                continue;
            }
            holdings.add_tag(repository, tag, &digest);
        }
        holdings.order_tags();
        Ok(holdings)
    }

    fn order_tags(&mut self) {
        let mut by_name: HashMap<RepositoryName, BTreeMap<Tag, usize>> = HashMap::new();
        for (place, (repository, tag, _)) in self.tags.iter().enumerate() {
            by_name.entry(repository.clone()).or_default().insert(tag.clone(), place);
        }
        for (repository, places) in by_name {
            let mut ordered: Vec<Tag> = places.keys().cloned().collect();
            sort_newest_first(&mut ordered);
            let ordered = ordered.iter().filter_map(|tag| places.get(tag).copied()).collect();
            self.of_repository.insert(repository, ordered);
        }
    }

    fn add_tag(&mut self, repository: RepositoryName, tag: Tag, digest: &Digest) {
        let mut manifests = Vec::new();
        let mut open = vec![digest.clone()];
        let mut seen = BTreeSet::new();
        while let Some(one) = open.pop() {
            if !seen.insert(one.clone()) {
                continue;
            }
            open.extend(self.children.get(&one).into_iter().flatten().cloned());
            if self.images.contains_key(&one) {
                manifests.push(one);
            }
        }
        let place = self.tags.len();
        for manifest in &manifests {
            self.of_manifest.entry(manifest.clone()).or_default().push(place);
            for layer in self.images.get(manifest).into_iter().flat_map(|image| &image.layers) {
                self.with_layer.entry(layer.clone()).or_default().insert(place);
            }
        }
        self.tags.push((repository, tag, manifests));
    }

    fn name(&self, place: usize) -> String {
        let (repository, tag, _) = &self.tags[place];
        format!("{repository}:{tag}")
    }

    fn names(&self, manifest: &Digest) -> Vec<String> {
        let places = self.of_manifest.get(manifest).into_iter().flatten();
        places.map(|place| self.name(*place)).collect()
    }

    /// Whether all of an image was read, so that what was not found is not there.
    fn is_read(&self, manifest: &Digest) -> bool {
        !self.unnoted.contains(manifest) && !self.partly.contains(manifest)
    }

    /// How many other images have a layer, and the names of some of them.
    pub fn others_with(
        &self,
        layer: &Digest,
        manifest: &Digest,
        name: &str,
    ) -> (usize, Vec<String>) {
        let own = self.of_manifest.get(manifest).map(Vec::as_slice).unwrap_or_default();
        let Some(all) = self.with_layer.get(layer) else { return (0, Vec::new()) };
        // What is named may be here under the very name.
        let is_own = |place: &&usize| own.contains(place) || name.ends_with(&self.name(**place));
        let names = all.iter().filter(|place| !is_own(place)).take(NAMED);
        let names: Vec<String> = names.map(|place| self.name(*place)).collect();
        let owned = own.iter().filter(|place| all.contains(place)).count();
        (all.len().saturating_sub(owned).max(names.len()), names)
    }

    /// Newer tags of the same repository that do not have what an advisory is about, the newest first. What is not read
    /// whole mends nothing that anybody could tell.
    pub fn mended_by(&self, manifest: &Digest, advisory: &str) -> Vec<String> {
        let mut named: Vec<String> = Vec::new();
        for place in self.of_manifest.get(manifest).into_iter().flatten() {
            let (repository, ..) = &self.tags[*place];
            let ordered = self.of_repository.get(repository).into_iter().flatten();
            for newer in ordered.take_while(|newer| *newer != place) {
                let (_, _, manifests) = &self.tags[*newer];
                let lacks = |one: &Digest| {
                    self.is_read(one)
                        && !self.touched.get(one).is_some_and(|all| all.contains(advisory))
                };
                let name = self.name(*newer);
                if !manifests.is_empty() && manifests.iter().all(lacks) && !named.contains(&name) {
                    named.push(name);
                }
                if named.len() >= MENDING {
                    return named;
                }
            }
        }
        named
    }

    /// Who was seen to use an image, the last first.
    pub fn users_of(&self, manifest: &Digest) -> Vec<User> {
        let mut users = BTreeSet::new();
        for place in self.of_manifest.get(manifest).into_iter().flatten() {
            let (repository, tag, _) = &self.tags[*place];
            let Some(uses) = self.uses.all.get(repository) else { continue };
            let above = self.parents.get(manifest).into_iter().flatten();
            let by = UsesBy::of(uses);
            for (who, workload, how, last) in by.users(above.chain([manifest]), Some(tag)) {
                users.insert(User {
                    image: self.name(*place),
                    who: who.map(str::to_owned),
                    workload: workload.map(str::to_owned),
                    how,
                    used_at: time(last),
                    last,
                });
            }
        }
        let mut users: Vec<User> = users.into_iter().collect();
        users.sort_by(|a, b| b.last.cmp(&a.last).then_with(|| a.cmp(b)));
        users
    }
}

fn parents(children: &HashMap<Digest, Vec<Digest>>) -> HashMap<Digest, Vec<Digest>> {
    let mut parents: HashMap<Digest, Vec<Digest>> = HashMap::new();
    for (top, below) in children {
        for one in below {
            parents.entry(one.clone()).or_default().push(top.clone());
        }
    }
    parents
}

/// Checks all images that are held; also gives those of which not everything is known.
pub async fn check(
    args: &Args,
    config: &Config,
    store: &Store,
    context: &Context,
) -> Result<(Vec<CheckedImage>, Vec<String>), Failure> {
    let failed = |error: StoreError| Failure::store("cannot tell what advisories touch", &error);
    if let Some(shelf) = &args.shelf
        && !config.shelves.iter().any(|one| one.name.get_ref().as_str() == shelf.as_str())
        && !config.storing_shelves().iter().any(|one| one == shelf)
    {
        let cause = format!("there is no shelf {}", larder_core::shown::shown(shelf));
        let remedy = "`larder shelf list` shows them";
        return Err(Failure::usage("cannot check a shelf", cause, remedy).ending(Exit::No));
    }
    if let Some(cluster) = &args.cluster {
        let who = larder_core::access::Who::cluster(cluster, None);
        crate::handoff::declared(config, "cannot check what a cluster uses", who)?;
    }
    note_held(store, context).await.map_err(failed)?;
    let holdings = Holdings::read(config, store).await?;
    let (mut images, mut not_read) = (Vec::new(), BTreeSet::new());
    let is_in_shelf = |place: &usize| {
        let (repository, ..) = &holdings.tags[*place];
        args.shelf.as_ref().is_none_or(|shelf| repository.first_component() == shelf.as_str())
    };
    let manifests: BTreeSet<&Digest> = holdings.of_manifest.keys().collect();
    for manifest in manifests {
        let Some(image) = holdings.images.get(manifest) else { continue };
        let places = &holdings.of_manifest[manifest];
        if !places.iter().any(is_in_shelf) {
            continue;
        }
        let users = holdings.users_of(manifest);
        let is_used = |cluster: &str| {
            users.iter().any(|user| {
                user.who.as_deref().is_some_and(|who| who.split('/').next() == Some(cluster))
            })
        };
        if args.cluster.as_deref().is_some_and(|cluster| !is_used(cluster)) {
            continue;
        }
        if !holdings.is_read(manifest) {
            not_read.extend(holdings.names(manifest));
        }
        let (mut findings, mut unknown) = (Vec::new(), Vec::new());
        for one in holdings.findings.get(manifest).into_iter().flatten() {
            let Some(of) = holdings.advisories.get(&one.advisory) else { continue };
            let said = of.judged(&one.package, one.verdict.clone(), one.layer);
            match said {
                Judged::Finding(mut finding) => {
                    if let Some(layer) = image.layers.get(one.layer) {
                        finding.layer_digest = Some(layer.to_string());
                        (finding.shared_count, finding.shared_with) =
                            holdings.others_with(layer, manifest, "");
                    }
                    finding.mended_by = holdings.mended_by(manifest, &finding.advisory);
                    findings.push(*finding);
                }
                Judged::Unknown(one) => unknown.push(one),
                Judged::Nothing => {}
            }
        }
        once(&mut findings);
        images.push((
            manifest,
            CheckedImage {
                names: holdings.names(manifest),
                digest: manifest.to_string(),
                platform: None,
                findings,
                unknown,
                users,
                not_read: 0,
            },
        ));
    }
    let mut described = 0;
    for (manifest, image) in &mut images {
        if described < STEPS && !image.findings.is_empty() {
            described += 1;
            describe(image, &holdings.images[*manifest], store).await.map_err(failed)?;
        }
    }
    let images = images.into_iter().map(|(_, image)| image).collect();
    Ok((images, not_read.into_iter().collect()))
}

/// Adds what is told of few images only: the platform and the build steps, which the configuration says, and the names
/// by which packages are there.
async fn describe(
    image: &mut CheckedImage,
    held: &HeldImage,
    store: &Store,
) -> Result<(), StoreError> {
    let known = store.layer_facts(&held.layers).await?;
    let inventory = compose(&outcomes_of(&held.layers, &known));
    image.not_read = inventory.unread.len();
    for finding in &mut image.findings {
        finding.installed = installed(finding, &inventory);
    }
    if held.config.size > CONFIG_LIMIT as u64 || store.size(&held.config.digest).await?.is_none() {
        return Ok(());
    }
    let bytes = store.read_all(&held.config.digest, held.config.size).await?;
    let config = ImageConfig::read(&bytes).ok();
    image.platform = config.and_then(|config| config.platform()).map(|one| one.to_string());
    let history = ImageDetails::read(&bytes).history;
    let layers = held.layers.iter().map(|digest| (digest, 0));
    let layers = build_layers(layers, &history);
    for finding in &mut image.findings {
        finding.command = layers.get(finding.layer - 1).and_then(|layer| layer.step.clone());
    }
    Ok(())
}
