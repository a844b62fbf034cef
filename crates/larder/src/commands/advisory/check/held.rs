//! All that the larder holds: what was noted of its images, held together with who uses them.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use larder_core::digest::Digest;
use larder_core::document::{CONFIG_LIMIT, Document, ImageConfig, ImageDetails};
use larder_core::inventory::{build_layers, compose};
use larder_store::{NotedFinding, Store, StoreError, outcomes_of};

use super::judged::{Judged, RatedAdvisory, installed, once};
use super::{Args, CheckedImage};
use crate::commands::advisory::holdings::{Holdings, Touched, User};
use crate::config::Config;
use crate::failure::{Exit, Failure};

/// Images of which the build steps are read, and that are named as not read whole.
const STEPS: usize = 200;
const NOT_READ: usize = 1000;

/// A layer's digest, how many other images have it, and the names of some of them.
type SharedLayer = (Arc<str>, usize, Arc<[String]>);

/// What was found of all images.
pub struct HeldOutcome {
    pub images: Vec<CheckedImage>,
    /// Images of which not everything is known.
    pub not_read: Vec<String>,
    /// Whether there are more of these.
    pub is_cut: bool,
}

/// Checks all images that are held, for these advisories; None: for all.
pub async fn check(
    args: &Args,
    config: &Config,
    store: &Store,
    only: Option<Vec<i64>>,
) -> Result<HeldOutcome, Failure> {
    let failed = |error: StoreError| Failure::store("cannot tell what advisories touch", &error);
    check_names(args, config)?;
    store.note_held().await.map_err(failed)?;
    let fold = |all: &mut HashMap<Digest, Vec<NotedFinding>>, one: NotedFinding| {
        all.entry(one.image.clone()).or_default().push(one);
    };
    let findings = store.fold_findings(only, HashMap::new(), fold).await.map_err(failed)?;
    let numbers: BTreeSet<i64> = findings.values().flatten().map(|one| one.advisory).collect();
    let advisories = store.advisories_numbered(numbers.into_iter().collect()).await;
    let advisories: HashMap<i64, RatedAdvisory> = advisories
        .map_err(failed)?
        .iter()
        .map(|(number, one)| (*number, RatedAdvisory::of(one)))
        .collect();
    let mut touched = Touched::new();
    for one in findings.values().flatten() {
        if let Some(of) = advisories.get(&one.advisory) {
            touched.entry(one.image.clone()).or_default().insert(Arc::clone(&of.id));
        }
    }
    let holdings = Holdings::about(config, store, findings.keys().cloned(), Some(touched), None);
    let mut holdings = holdings.await?;
    let mut touched: BTreeMap<&Digest, (&Vec<NotedFinding>, Vec<User>)> = BTreeMap::new();
    let uses = holdings.uses();
    for (manifest, found) in &findings {
        let users = holdings.users_of(manifest, &uses);
        if is_asked_for(args, &holdings, manifest, &users) {
            touched.insert(manifest, (found, users));
        }
    }
    drop(uses);
    let layers = layers_of(store, touched.keys().copied()).await.map_err(failed)?;
    let wanted: BTreeSet<&Digest> = touched
        .iter()
        .flat_map(|(manifest, (found, _))| found.iter().map(move |one| (*manifest, one.layer)))
        .filter_map(|(manifest, layer)| layers.get(manifest)?.layers.get(layer))
        .collect();
    holdings.look_up_layers(store, wanted).await.map_err(failed)?;
    let mut images = Vec::new();
    for (manifest, (found, users)) in touched {
        let held = layers.get(manifest);
        let (mut findings, mut unknown) = (Vec::new(), Vec::new());
        let mut newer = holdings.newer_than(manifest);
        let mut shared: HashMap<usize, SharedLayer> = HashMap::new();
        for one in found {
            let Some(of) = advisories.get(&one.advisory) else { continue };
            match of.judged(&one.package, one.verdict.clone(), one.layer) {
                Judged::Finding(mut finding) => {
                    if let Some(layer) = held.and_then(|held| held.layers.get(one.layer)) {
                        let (digest, count, with) = shared.entry(one.layer).or_insert_with(|| {
                            let (count, with) = holdings.others_with(layer, manifest, "");
                            (layer.as_str().into(), count, with.into())
                        });
                        finding.layer_digest = Some(Arc::clone(digest));
                        finding.shared_count = *count;
                        finding.shared_with = Arc::clone(with);
                    }
                    finding.mended_by = newer.lacking(&finding.advisory);
                    findings.push(*finding);
                }
                Judged::Unknown(one) => unknown.push(one),
                Judged::Nothing => {}
            }
        }
        once(&mut findings);
        let mut image = CheckedImage {
            names: holdings.names(manifest),
            digest: manifest.to_string(),
            platform: None,
            findings,
            unknown,
            users,
            not_read: 0,
        };
        if let Some(held) = held.filter(|_| images.len() < STEPS) {
            describe(&mut image, held, store).await.map_err(failed)?;
        }
        images.push(image);
    }
    let (not_read, is_cut) = not_read(args, config, store).await?;
    Ok(HeldOutcome { images, not_read, is_cut })
}

fn check_names(args: &Args, config: &Config) -> Result<(), Failure> {
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
    Ok(())
}

/// Whether an image is of the shelf, and used by the cluster, that was asked for. One without a name is of none.
fn is_asked_for(args: &Args, holdings: &Holdings, manifest: &Digest, users: &[User]) -> bool {
    let is_in = |shelf: &String| {
        let mut homes = holdings.homes(manifest).iter();
        homes.any(|home| home.repository.first_component() == shelf.as_str())
    };
    let is_used = |cluster: &String| {
        let mut names = users.iter().filter_map(|user| user.who.as_deref());
        names.any(|who| who.split('/').next() == Some(cluster.as_str()))
    };
    !holdings.homes(manifest).is_empty()
        && args.shelf.as_ref().is_none_or(is_in)
        && args.cluster.as_ref().is_none_or(is_used)
}

/// The names of images that were not read whole, and whether there are more.
async fn not_read(
    args: &Args,
    config: &Config,
    store: &Store,
) -> Result<(Vec<String>, bool), Failure> {
    let failed = |error: StoreError| Failure::store("cannot tell what advisories touch", &error);
    let (count, some) = store.not_whole(NOT_READ).await.map_err(failed)?;
    let is_cut = count > some.len() as u64;
    if some.is_empty() {
        return Ok((Vec::new(), false));
    }
    let holdings = Holdings::about(config, store, some.clone(), Some(Touched::new()), None).await?;
    let mut names = BTreeSet::new();
    let uses = holdings.uses();
    for manifest in &some {
        let users = holdings.users_of(manifest, &uses);
        if is_asked_for(args, &holdings, manifest, &users) {
            names.extend(holdings.names(manifest));
        }
    }
    Ok((names.into_iter().collect(), is_cut))
}

/// A manifest with layers.
struct HeldImage {
    document: Document,
    layers: Vec<Digest>,
}

async fn layers_of(
    store: &Store,
    manifests: impl Iterator<Item = &Digest>,
) -> Result<HashMap<Digest, HeldImage>, StoreError> {
    let bodies = store.bodies_of(manifests.cloned().collect()).await?;
    let read = |(digest, body): (Digest, Vec<u8>)| {
        let document = Document::read(body.into(), None).ok()?;
        let layers = document.image_layers().iter().map(|layer| layer.digest.clone()).collect();
        Some((digest, HeldImage { document, layers }))
    };
    Ok(bodies.into_iter().filter_map(read).collect())
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
    let Some(config) = held.document.config() else { return Ok(()) };
    if config.size > CONFIG_LIMIT as u64 || store.size(&config.digest).await?.is_none() {
        return Ok(());
    }
    let bytes = store.read_all(&config.digest, config.size).await?;
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
