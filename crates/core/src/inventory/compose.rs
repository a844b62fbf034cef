//! What an image has, from what each of its layers does to those below it (OCI Image Specification, "Image Layer
//! Filesystem Changeset").

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use super::content::ContentPrint;
use super::facts::with_parents;
use super::owners::owned_print;
use super::{
    FoundPackage, InstalledPackage, LayerFacts, OsRelease, OwnedFiles, PackageStanding, Unread,
};
use crate::digest::Digest;
use crate::document::HistoryStep;

/// A layer of an image, and the step that made it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuildLayer {
    pub digest: Digest,
    pub size_bytes: u64,
    /// None: the history does not say, or does not fit to the layers.
    pub step: Option<String>,
}

/// Whether a layer could be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LayerOutcome {
    Read(Arc<LayerFacts>),
    /// It was not, and why.
    NotRead(String),
}

/// What an image has, and had.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ImageInventory {
    /// None: nothing in it says which system it is.
    pub release: Option<OsRelease>,
    /// By ecosystem, name, version and path; first those that are there.
    pub packages: Vec<ImagePackage>,
    /// What was not read, by the number of its layer. Nothing may be taken to be absent because of it.
    pub unread: Vec<(usize, Unread)>,
}

/// A package that an image has, or had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImagePackage {
    pub package: InstalledPackage,
    /// What says that it is there.
    pub path: String,
    /// The layer that brought it, counted from 0.
    pub layer: usize,
    /// None: it is there.
    pub removed: Option<Removal>,
    /// Which package carries it inside of itself. None: it stands for itself.
    pub inside: Option<String>,
    /// The package of the system that it belongs to. None: it belongs to none.
    pub owner: Option<PackageOwner>,
}

/// How a package went.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Removal {
    pub layer: usize,
    /// The version that came instead. None: it is gone.
    pub replaced_by: Option<String>,
}

/// The package of a system that brought a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageOwner {
    pub name: String,
    /// Whether the file is another by now: somebody has put his own over the system's.
    pub is_altered: bool,
}

impl ImagePackage {
    /// Whether advisories are to be matched with it: what the system's packages brought is theirs.
    pub fn can_be_matched(&self) -> bool {
        let is_owned = self.owner.as_ref().is_some_and(|owner| !owner.is_altered);
        self.removed.is_none() && !is_owned && self.package.standing.can_be_matched()
    }
}

/// An image's layers, each with the step that made it: the steps that made none are passed over. Where they do not fit
/// together, no layer has one.
pub fn build_layers<'l>(
    layers: impl ExactSizeIterator<Item = (&'l Digest, u64)>,
    history: &[HistoryStep],
) -> Vec<BuildLayer> {
    let steps: Vec<&HistoryStep> = history.iter().filter(|step| !step.empty_layer).collect();
    let fits = steps.len() == layers.len();
    layers
        .enumerate()
        .map(|(index, (digest, size_bytes))| BuildLayer {
            digest: digest.clone(),
            size_bytes,
            step: steps
                .get(index)
                .filter(|_| fits)
                .and_then(|step| step.created_by.clone().or_else(|| step.comment.clone())),
        })
        .collect()
}

/// A package while layers are laid one over the other.
struct Item {
    path: String,
    /// Of what is part of an archive, the archive's path.
    file: String,
    package: InstalledPackage,
    inside: Option<String>,
    content: Option<ContentPrint>,
    layer: usize,
    removed: Option<Removal>,
    is_of_database: bool,
}

/// Lays layers one over the other, the lowest first.
pub fn compose(layers: &[LayerOutcome]) -> ImageInventory {
    let mut state = State::default();
    for (number, layer) in layers.iter().enumerate() {
        match layer {
            LayerOutcome::Read(facts) => state.lay(number, facts),
            LayerOutcome::NotRead(why) => {
                let unread = Unread { path: String::new(), why: why.clone() };
                state.unread.push((number, unread));
            }
        }
    }
    state.finish()
}

#[derive(Default)]
struct State {
    items: Vec<Item>,
    owned: BTreeMap<String, (usize, OwnedFiles)>,
    releases: BTreeMap<String, OsRelease>,
    unread: Vec<(usize, Unread)>,
}

/// What a layer takes away from those below it.
struct Taking<'f> {
    whiteouts: BTreeSet<&'f str>,
    opaque: BTreeSet<&'f str>,
    facts: &'f LayerFacts,
}

impl<'f> Taking<'f> {
    fn new(facts: &'f LayerFacts) -> Self {
        Self {
            whiteouts: facts.whiteouts.iter().map(String::as_str).collect(),
            opaque: facts.opaque.iter().map(String::as_str).collect(),
            facts,
        }
    }

    /// Whether a file of a lower layer is gone.
    fn takes(&self, path: &str) -> bool {
        if self.opaque.contains("") {
            return true;
        }
        with_parents(path).enumerate().any(|(above, place)| {
            self.whiteouts.contains(place)
                || self.facts.names.has(place)
                || (above > 0 && self.opaque.contains(place))
        })
    }
}

impl State {
    fn lay(&mut self, number: usize, facts: &LayerFacts) {
        let taking = Taking::new(facts);
        let new_databases: BTreeSet<&str> =
            facts.databases.iter().map(|database| database.path.as_str()).collect();
        // Many items lie in the same file or folder.
        let mut asked: HashMap<&str, bool> = HashMap::new();
        let mut gone = Vec::new();
        for (index, item) in self.items.iter().enumerate() {
            // What a database says is compared with what the new one says.
            if item.removed.is_some()
                || (item.is_of_database && new_databases.contains(item.path.as_str()))
            {
                continue;
            }
            if *asked.entry(&item.file).or_insert_with(|| taking.takes(&item.file)) {
                gone.push(index);
            }
        }
        for index in gone {
            self.items[index].removed = Some(Removal { layer: number, replaced_by: None });
        }
        self.owned.retain(|path, _| !taking.takes(path));
        self.releases.retain(|path, _| !taking.takes(path));
        self.owned.extend(
            facts.owned.iter().map(|(path, owned)| (path.clone(), (number, owned.clone()))),
        );
        self.releases.extend(facts.releases.iter().cloned());
        for database in &facts.databases {
            self.replace_database(number, &database.path, &database.packages);
        }
        for found in &facts.packages {
            self.put_file(number, found);
        }
        self.follow_links(number, facts);
        self.unread.extend(facts.unread.iter().map(|unread| (number, unread.clone())));
    }

    /// A database takes the place of the one before: what only that had is gone, what only this has came with it.
    fn replace_database(&mut self, number: usize, path: &str, packages: &[InstalledPackage]) {
        type Key<'p> = (&'p str, &'p str);
        let key = |package: &'_ InstalledPackage| -> (String, String) {
            (package.name.clone(), package.architecture.clone())
        };
        let mut new: HashMap<Key, Vec<&InstalledPackage>> = HashMap::new();
        for package in packages {
            new.entry((&package.name, &package.architecture)).or_default().push(package);
        }
        let mut kept: BTreeSet<((String, String), String)> = BTreeSet::new();
        for item in &mut self.items {
            if item.removed.is_some() || !item.is_of_database || item.path != path {
                continue;
            }
            let place = (item.package.name.as_str(), item.package.architecture.as_str());
            let there = new.get(&place).map(Vec::as_slice).unwrap_or_default();
            if there.iter().any(|one| one.version == item.package.version) {
                kept.insert((key(&item.package), item.package.version.clone()));
                continue;
            }
            // Where several are installed, none of them took the place of another.
            let replaced_by = match there {
                [one] => Some(one.version.clone()),
                _ => None,
            };
            item.removed = Some(Removal { layer: number, replaced_by });
        }
        for package in packages {
            if !kept.contains(&(key(package), package.version.clone())) {
                self.items.push(Item {
                    path: path.to_owned(),
                    file: path.to_owned(),
                    package: package.clone(),
                    inside: None,
                    content: None,
                    layer: number,
                    removed: None,
                    is_of_database: true,
                });
            }
        }
    }

    fn put_file(&mut self, number: usize, found: &FoundPackage) {
        let file = found.path.split("!/").next().unwrap_or(&found.path);
        // The one that lay there before has gone with this layer: by which version it was replaced is known now.
        for item in self.items.iter_mut().rev() {
            if let Some(removed) = &mut item.removed
                && removed.layer == number
                && removed.replaced_by.is_none()
                && item.path == found.path
                && item.package.name == found.package.name
                && item.package.ecosystem == found.package.ecosystem
            {
                removed.replaced_by = Some(found.package.version.clone());
            }
        }
        self.items.push(Item {
            path: found.path.clone(),
            file: file.to_owned(),
            package: found.package.clone(),
            inside: found.inside.clone(),
            content: found.content,
            layer: number,
            removed: None,
            is_of_database: false,
        });
    }

    /// What is found under a second name of a file is there twice.
    fn follow_links(&mut self, number: usize, facts: &LayerFacts) {
        for (path, target) in &facts.links {
            let there = self.items.iter().filter(|item| {
                item.removed.is_none() && !item.is_of_database && item.file == *target
            });
            let found: Vec<FoundPackage> = there
                .map(|item| FoundPackage {
                    path: path.clone(),
                    package: item.package.clone(),
                    inside: item.inside.clone(),
                    content: item.content,
                })
                .collect();
            if found.is_empty() {
                let why = format!("a link to {target}, of which nothing is known");
                self.unread.push((number, Unread { path: path.clone(), why }));
            }
            for one in &found {
                self.put_file(number, one);
            }
        }
    }

    /// Who owns a file, and whether it is still as it came.
    fn owners(&self) -> HashMap<u64, (&str, usize, u64)> {
        let mut owners: HashMap<u64, (&str, usize, u64)> = HashMap::new();
        for (layer, owned) in self.owned.values() {
            for (path, package, content) in &owned.files {
                let Some(name) = owned.packages.get(*package as usize) else { continue };
                let new = (name.as_str(), *layer, *content);
                owners
                    .entry(*path)
                    // A list that says what the content was is the better one.
                    .and_modify(|old| {
                        if old.2 == 0 {
                            *old = (name, old.1.max(*layer), *content);
                        }
                    })
                    .or_insert(new);
            }
        }
        owners
    }

    fn finish(self) -> ImageInventory {
        let owners = self.owners();
        let owner = |item: &Item| {
            if item.is_of_database {
                return None;
            }
            let (name, layer, content) = owners.get(&owned_print(&item.file))?;
            let is_altered = match item.content {
                Some(print) if *content != 0 => !print.has(*content),
                // A file that came later than the package that has it is another one.
                _ => item.layer > *layer,
            };
            Some(PackageOwner { name: (*name).to_owned(), is_altered })
        };
        let owned_by: Vec<Option<PackageOwner>> = self.items.iter().map(owner).collect();
        // `etc/os-release` is a link to the other, or stands for itself.
        let release = ["etc/os-release", "usr/lib/os-release"]
            .iter()
            .find_map(|path| self.releases.get(*path))
            .cloned();
        let packages = self.items.into_iter().zip(owned_by);
        let mut packages: Vec<ImagePackage> = packages
            .map(|(item, owner)| ImagePackage {
                package: item.package,
                path: item.path,
                layer: item.layer,
                removed: item.removed,
                inside: item.inside,
                owner,
            })
            .collect();
        let key = |one: &ImagePackage| {
            let package = one.package.clone();
            (
                one.removed.is_some(),
                package.ecosystem,
                package.name,
                package.version,
                one.path.clone(),
            )
        };
        packages.sort_by_cached_key(key);
        merge(&mut packages);
        ImageInventory { release, packages, unread: self.unread }
    }
}

/// A system's package that two databases have is there once.
fn merge(packages: &mut Vec<ImagePackage>) {
    use crate::version::Ecosystem::{Apk, Deb, Rpm};
    let mut seen = BTreeSet::new();
    packages.retain(|one| {
        let package = &one.package;
        one.removed.is_some()
            || !matches!(package.ecosystem, Apk | Deb | Rpm)
            || package.standing == PackageStanding::Virtual
            || seen.insert((
                package.ecosystem,
                package.name.clone(),
                package.version.clone(),
                package.architecture.clone(),
            ))
    });
}
