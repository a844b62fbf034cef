//! Where images are in the larder: their names, who uses them, who else has their layers, and what mends them.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use larder_core::companion::is_made_from_digest;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::selection::sort_newest_first;
use larder_store::{ImageHome, LayerSharers, NotedImage, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::shelf::{KnownUse, UseWish, UsesBy};
use crate::config::Config;
use crate::failure::Failure;
use crate::output::time;

/// Other images that are named with a layer, and newer tags that are named.
const NAMED: usize = 10;
const MENDING: usize = 5;

/// Who uses an image.
#[derive(Serialize, JsonSchema, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct User {
    /// The name of the image that was used.
    pub image: String,
    /// A cluster, CLUSTER/NAMESPACE, or an account. null: nobody signed in.
    pub who: Option<String>,
    /// Its kind and name. null: that is not known.
    pub workload: Option<String>,
    /// How it is known: `pulled`, `admitted at its door`, `surveyed`.
    pub how: &'static str,
    /// Since when, as far as it is recorded. null: since before that was counted.
    pub since: Option<String>,
    pub used_at: String,
    #[serde(skip)]
    pub first: Option<i64>,
    #[serde(skip)]
    pub last: i64,
}

/// Which advisories touch each image, by their ids, as far as it is known.
pub type Touched = HashMap<Digest, HashSet<Arc<str>>>;

/// Newer tags of an image's repositories, each with what touches it.
pub struct NewerTags<'h> {
    all: Vec<(String, Vec<&'h HashSet<Arc<str>>>)>,
    /// What was asked before.
    known: HashMap<Arc<str>, Arc<[String]>>,
}

impl NewerTags<'_> {
    /// Those that do not have what an advisory is about.
    pub fn lacking(&mut self, advisory: &Arc<str>) -> Arc<[String]> {
        if let Some(known) = self.known.get(advisory) {
            return Arc::clone(known);
        }
        let lacks =
            |touched: &[&HashSet<Arc<str>>]| !touched.iter().any(|all| all.contains(advisory));
        let mut named: Vec<String> = Vec::new();
        for (name, _) in self.all.iter().filter(|(_, touched)| lacks(touched)) {
            if named.len() < MENDING && !named.contains(name) {
                named.push(name.clone());
            }
        }
        let named: Arc<[String]> = named.into();
        self.known.insert(Arc::clone(advisory), Arc::clone(&named));
        named
    }
}

/// What is known of some images.
pub struct Holdings {
    /// The tags that lead to each.
    homes: HashMap<Digest, Vec<ImageHome>>,
    sharers: HashMap<Digest, LayerSharers>,
    /// The tags of their repositories, each with the manifests of its images; the newest first.
    repositories: HashMap<RepositoryName, Vec<(Tag, Vec<Digest>)>>,
    /// What was noted of the images of those tags.
    noted: HashMap<Digest, NotedImage>,
    touched: Touched,
    uses: KnownUse,
}

fn failed(error: &StoreError) -> Failure {
    Failure::store("cannot tell what advisories touch", error)
}

/// The repository, where it is only one: then no more than what is of it has to be read.
fn one_of<'h>(homes: impl Iterator<Item = &'h ImageHome>) -> Option<RepositoryName> {
    let names: BTreeSet<&RepositoryName> = homes.map(|home| &home.repository).collect();
    match names.len() {
        1 => names.first().map(|name| (*name).clone()),
        _ => None,
    }
}

impl Holdings {
    /// Reads what is known of these images. With `touched` it is known of all images which advisories touch them; else it
    /// is looked up. Only what was used within a time counts as used; None: whatever is in the record.
    pub async fn about(
        config: &Config,
        store: &Store,
        manifests: impl IntoIterator<Item = Digest>,
        touched: Option<Touched>,
        within: Option<Span>,
    ) -> Result<Self, Failure> {
        let manifests: BTreeSet<Digest> = manifests.into_iter().collect();
        let homes = store.homes_of(manifests.into_iter().collect()).await;
        let mut homes: HashMap<Digest, Vec<ImageHome>> =
            homes.map_err(|error| failed(&error))?.into_iter().collect();
        // What is made from the digest of an image is no version of it.
        for all in homes.values_mut() {
            all.retain(|home| !is_made_from_digest(&home.tag));
        }
        let repositories = {
            let all = homes.values().flatten().map(|home| home.repository.clone());
            tags_of(store, all.collect()).await.map_err(|error| failed(&error))?
        };
        let members: BTreeSet<&Digest> =
            repositories.values().flatten().flat_map(|(_, manifests)| manifests).collect();
        let members: Vec<Digest> = members.into_iter().cloned().collect();
        let noted = store.noted(members.clone()).await.map_err(|error| failed(&error))?;
        let touched = match touched {
            Some(touched) => touched,
            None => touched_of(store, members).await.map_err(|error| failed(&error))?,
        };
        let wish = one_of(homes.values().flatten());
        let wish = wish.as_ref().map_or(UseWish::Everything, UseWish::Of);
        let uses = KnownUse::read(config, store, within, wish).await?;
        let noted = noted.into_iter().collect();
        Ok(Self { homes, sharers: HashMap::new(), repositories, noted, touched, uses })
    }

    /// Looks up who else has these layers.
    pub async fn look_up_layers<'d>(
        &mut self,
        store: &Store,
        layers: impl IntoIterator<Item = &'d Digest>,
    ) -> Result<(), StoreError> {
        let own = self.homes.values().map(Vec::len).max().unwrap_or(0);
        for layer in layers {
            if !self.sharers.contains_key(layer) {
                let sharers = store.sharers_of(layer, NAMED + own.min(1000) + 1).await?;
                self.sharers.insert(layer.clone(), sharers);
            }
        }
        Ok(())
    }

    /// The tags that lead to an image.
    pub fn homes(&self, manifest: &Digest) -> &[ImageHome] {
        self.homes.get(manifest).map(Vec::as_slice).unwrap_or_default()
    }

    /// Their names.
    pub fn names(&self, manifest: &Digest) -> Vec<String> {
        self.homes(manifest).iter().map(|home| name(&home.repository, &home.tag)).collect()
    }

    /// How many other images have a layer, and the names of some of them.
    pub fn others_with(
        &self,
        layer: &Digest,
        manifest: &Digest,
        named: &str,
    ) -> (usize, Vec<String>) {
        let own = self.homes(manifest);
        let Some(all) = self.sharers.get(layer) else { return (0, Vec::new()) };
        // What is named may be here under the very name.
        let is_own = |repository: &RepositoryName, tag: &Tag| {
            own.iter().any(|home| (&home.repository, &home.tag) == (repository, tag))
                || named.ends_with(&name(repository, tag))
        };
        let others = all
            .some
            .iter()
            .filter(|(repository, tag)| !is_own(repository, tag) && !is_made_from_digest(tag));
        let names: Vec<String> =
            others.take(NAMED).map(|(repository, tag)| name(repository, tag)).collect();
        let owned = match own.is_empty() {
            true => all.some.iter().filter(|(repository, tag)| is_own(repository, tag)).count(),
            false => own.len(),
        };
        let count = usize::try_from(all.count).unwrap_or(usize::MAX);
        (count.saturating_sub(owned).max(names.len()), names)
    }

    /// Whether all of an image was read, so that what was not found is not there.
    fn is_read(&self, manifest: &Digest) -> bool {
        self.noted.get(manifest).is_some_and(NotedImage::is_whole)
    }

    /// Newer tags of the same repository, the newest first.
    pub fn newer_than(&self, manifest: &Digest) -> NewerTags<'_> {
        let mut newer = NewerTags { all: Vec::new(), known: HashMap::new() };
        for home in self.homes(manifest) {
            let ordered = self.repositories.get(&home.repository).into_iter().flatten();
            for (tag, manifests) in ordered.take_while(|(tag, _)| *tag != home.tag) {
                let is_image = manifests
                    .iter()
                    .any(|one| self.noted.get(one).is_some_and(|noted| noted.is_image));
                // What is not read whole mends nothing that anybody could tell.
                if is_image && manifests.iter().all(|one| self.is_read(one)) {
                    let touched = manifests.iter().filter_map(|one| self.touched.get(one));
                    newer.all.push((name(&home.repository, tag), touched.collect()));
                }
            }
        }
        newer
    }

    /// What was seen to be used, by repository.
    pub fn uses(&self) -> HashMap<&RepositoryName, UsesBy<'_>> {
        self.uses.all.iter().map(|(repository, uses)| (repository, UsesBy::of(uses))).collect()
    }

    /// Who was seen to use an image, the last first.
    pub fn users_of(
        &self,
        manifest: &Digest,
        uses: &HashMap<&RepositoryName, UsesBy<'_>>,
    ) -> Vec<User> {
        let mut users = BTreeSet::new();
        for home in self.homes(manifest) {
            let Some(by) = uses.get(&home.repository) else { continue };
            let contents = self.homes(manifest).iter().map(|home| &home.top).chain([manifest]);
            for user in by.users(contents, Some(&home.tag)) {
                users.insert(User {
                    image: name(&home.repository, &home.tag),
                    who: user.who.map(str::to_owned),
                    workload: user.workload.map(str::to_owned),
                    how: user.how,
                    since: user.first.map(time),
                    used_at: time(user.last),
                    first: user.first,
                    last: user.last,
                });
            }
        }
        let mut users: Vec<User> = users.into_iter().collect();
        users.sort_by(|a, b| b.last.cmp(&a.last).then_with(|| a.cmp(b)));
        users
    }
}

fn name(repository: &RepositoryName, tag: &Tag) -> String {
    format!("{repository}:{tag}")
}

/// The tags of repositories, the newest first.
async fn tags_of(
    store: &Store,
    repositories: BTreeSet<RepositoryName>,
) -> Result<HashMap<RepositoryName, Vec<(Tag, Vec<Digest>)>>, StoreError> {
    let mut all = HashMap::new();
    for repository in repositories {
        let mut tags: HashMap<Tag, Vec<Digest>> =
            store.tagged_manifests(&repository).await?.into_iter().collect();
        let mut ordered: Vec<Tag> =
            tags.keys().filter(|tag| !is_made_from_digest(tag)).cloned().collect();
        sort_newest_first(&mut ordered);
        let ordered = ordered.into_iter().filter_map(|tag| tags.remove_entry(&tag)).collect();
        all.insert(repository, ordered);
    }
    Ok(all)
}

/// Which advisories touch these images.
async fn touched_of(store: &Store, manifests: Vec<Digest>) -> Result<Touched, StoreError> {
    let findings = store.findings_in(manifests).await?;
    let numbers: BTreeSet<i64> = findings.iter().map(|one| one.advisory).collect();
    let advisories = store.advisories_numbered(numbers.into_iter().collect()).await?;
    let mut touched = Touched::new();
    for one in findings {
        if let Some(of) = advisories.get(&one.advisory) {
            touched.entry(one.image).or_default().insert(of.advisory.id.as_str().into());
        }
    }
    Ok(touched)
}
