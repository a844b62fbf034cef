//! What does a larder hold, what is shared, and what goes with an image that is dropped?
//!
//! Records of manifests, of what they need and of tags become a graph. Sizes count each content
//! once; what is *freed* is what nothing else on any shelf uses.

mod named;

pub use named::{HeldImages, HeldPattern, HeldPatternError};

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use crate::digest::Digest;
use crate::name::{RepositoryName, Tag};

/// The records of some repositories, as the store keeps them.
#[derive(Debug, Default, Clone)]
pub struct HoldingRecords {
    /// The repositories; the other records name them by their place here.
    pub repositories: Vec<RepositoryName>,
    pub manifests: Vec<ManifestRow>,
    /// What each manifest needs.
    pub needs: Vec<NeedRow>,
    /// Blobs that repositories have.
    pub blobs: Vec<BlobRow>,
    pub tags: Vec<TagRow>,
    /// The contents that an image of a repository uses too which is not among these.
    pub elsewhere: Vec<Digest>,
}

/// A manifest of a repository.
#[derive(Debug, Clone)]
pub struct ManifestRow {
    /// The place of its repository.
    pub repository: usize,
    pub digest: Digest,
    pub media_type: String,
    /// The size of the manifest itself, in bytes.
    pub size: u64,
    /// What it is about. None: about no other.
    pub subject: Option<Digest>,
    /// When it was recorded, in milliseconds since 1970.
    pub added: i64,
}

/// A blob that a repository has.
#[derive(Debug, Clone)]
pub struct BlobRow {
    /// The place of the repository.
    pub repository: usize,
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// That a manifest needs something.
#[derive(Debug, Clone)]
pub struct NeedRow {
    /// The place of the repository.
    pub repository: usize,
    pub manifest: Digest,
    pub target: Digest,
    /// Whether that is a manifest, not a blob.
    pub is_child: bool,
}

/// A tag of a repository.
#[derive(Debug, Clone)]
pub struct TagRow {
    /// The place of its repository.
    pub repository: usize,
    pub tag: Tag,
    /// What it points to.
    pub digest: Digest,
    /// When it was set, in milliseconds since 1970.
    pub since: i64,
}

/// A manifest in its repository: its place among the records.
pub type ManifestPlace = usize;

/// The records as a graph.
pub struct Holdings {
    records: HoldingRecords,
    places: HashMap<(usize, Digest), ManifestPlace>,
    /// The manifests that each one lists and that are there.
    children: Vec<Vec<ManifestPlace>>,
    parents: Vec<Vec<ManifestPlace>>,
    /// The manifests that are about each one.
    companions: Vec<Vec<ManifestPlace>>,
    /// The contents (blobs and the manifest itself) of each manifest, as numbers.
    contents: Vec<Vec<usize>>,
    tags: Vec<Vec<usize>>,
    /// The size of each content in bytes.
    sizes: Vec<u64>,
    /// The digest of each content.
    digests: Vec<Digest>,
    /// How many manifests use each content; all of other repositories are one.
    users: Vec<u32>,
}

/// How much images take, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct HeldVolume {
    /// The sizes of the images added up: what they would take if nothing were shared.
    pub apart: u64,
    /// What they take: each content once.
    pub together: u64,
    /// What nothing but them uses: what would be free without them.
    pub alone: u64,
}

/// What goes when images are dropped.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DropPlan {
    /// The tags that go.
    pub tags: Vec<(RepositoryName, Tag, Digest)>,
    /// The manifests that go, each before what it lists.
    pub manifests: Vec<(RepositoryName, Digest)>,
    /// Wanted manifests that stay, and because of what: a tag or a manifest that needs them.
    pub kept: Vec<(RepositoryName, Digest, String)>,
    /// What nothing uses then, in bytes.
    pub freed: u64,
}

/// What shall be dropped.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum DropTarget {
    /// A tag; and what it points to, when nothing else holds that.
    Tag(usize, Tag),
    /// A manifest with all tags on it.
    Manifest(usize, Digest),
}

impl Holdings {
    /// Makes the graph.
    pub fn new(records: HoldingRecords) -> Self {
        let count = records.manifests.len();
        let mut places = HashMap::with_capacity(count);
        let mut numbers: HashMap<Digest, usize> = HashMap::new();
        let (mut sizes, mut digests) = (Vec::new(), Vec::new());
        let mut number = |digest: &Digest, size: u64| -> usize {
            *numbers.entry(digest.clone()).or_insert_with(|| {
                sizes.push(size);
                digests.push(digest.clone());
                sizes.len() - 1
            })
        };
        let blobs: HashMap<(usize, &Digest), u64> =
            records.blobs.iter().map(|row| ((row.repository, &row.digest), row.size)).collect();
        let mut contents: Vec<Vec<usize>> = Vec::with_capacity(count);
        for (place, row) in records.manifests.iter().enumerate() {
            places.insert((row.repository, row.digest.clone()), place);
            contents.push(vec![number(&row.digest, row.size)]);
        }
        let (mut children, mut parents) = (vec![Vec::new(); count], vec![Vec::new(); count]);
        let mut companions = vec![Vec::new(); count];
        for need in &records.needs {
            let Some(&place) = places.get(&(need.repository, need.manifest.clone())) else {
                continue;
            };
            if !need.is_child {
                // What its repository does not have, as on a cached shelf nobody has asked for it, takes nothing.
                if let Some(size) = blobs.get(&(need.repository, &need.target)) {
                    contents[place].push(number(&need.target, *size));
                }
            } else if let Some(&child) = places.get(&(need.repository, need.target.clone())) {
                children[place].push(child);
                parents[child].push(place);
            }
        }
        for (place, row) in records.manifests.iter().enumerate() {
            let subject = row.subject.as_ref().map(|subject| (row.repository, subject.clone()));
            if let Some(&about) = subject.and_then(|subject| places.get(&subject)) {
                companions[about].push(place);
            }
        }
        let mut tags = vec![Vec::new(); count];
        for (number, row) in records.tags.iter().enumerate() {
            if let Some(&place) = places.get(&(row.repository, row.digest.clone())) {
                tags[place].push(number);
            }
        }
        let mut users = vec![0; sizes.len()];
        for used in contents.iter().flatten() {
            users[*used] += 1;
        }
        for number in records.elsewhere.iter().filter_map(|digest| numbers.get(digest)) {
            users[*number] += 1;
        }
        Self {
            records,
            places,
            children,
            parents,
            companions,
            contents,
            tags,
            sizes,
            digests,
            users,
        }
    }

    /// The records.
    pub fn records(&self) -> &HoldingRecords {
        &self.records
    }

    /// Where a manifest of a repository stands. None: it is not there.
    pub fn place(&self, repository: usize, digest: &Digest) -> Option<ManifestPlace> {
        self.places.get(&(repository, digest.clone())).copied()
    }

    /// The tags that point to a manifest.
    pub fn tags_of(&self, place: ManifestPlace) -> impl Iterator<Item = &TagRow> {
        self.tags[place].iter().map(|number| &self.records.tags[*number])
    }

    /// The manifests that an index lists and that are there.
    pub fn children(&self, place: ManifestPlace) -> &[ManifestPlace] {
        &self.children[place]
    }

    /// Whether an index of the repository lists a manifest.
    pub fn is_listed(&self, place: ManifestPlace) -> bool {
        !self.parents[place].is_empty()
    }

    /// Whether no tag points to a manifest, no index lists it, and it is about no other.
    pub fn stands_alone(&self, place: ManifestPlace) -> bool {
        let row = &self.records.manifests[place];
        let about = row.subject.as_ref().and_then(|subject| self.place(row.repository, subject));
        self.tags[place].is_empty() && self.parents[place].is_empty() && about.is_none()
    }

    /// Manifests and all that they list, each once.
    fn closure(&self, roots: impl IntoIterator<Item = ManifestPlace>) -> BTreeSet<ManifestPlace> {
        reach(roots, |place| self.children[place].clone())
    }

    /// The same with all that is about them.
    fn closure_with_companions(
        &self,
        roots: impl IntoIterator<Item = ManifestPlace>,
    ) -> BTreeSet<ManifestPlace> {
        reach(roots, |place| [&self.children[place][..], &self.companions[place]].concat())
    }

    fn contents_of(&self, places: &BTreeSet<ManifestPlace>) -> HashMap<usize, u32> {
        let mut used = HashMap::new();
        for content in places.iter().flat_map(|place| &self.contents[*place]) {
            *used.entry(*content).or_insert(0) += 1;
        }
        used
    }

    /// The blobs of a manifest and of all that it lists, without the manifests themselves: digest
    /// and size in bytes.
    pub fn blobs_of(&self, place: ManifestPlace) -> Vec<(&Digest, u64)> {
        let own: HashSet<usize> =
            self.closure([place]).iter().map(|place| self.contents[*place][0]).collect();
        let mut seen = HashSet::new();
        let all = self.closure([place]);
        all.iter()
            .flat_map(|place| &self.contents[*place])
            .filter(|content| !own.contains(content) && seen.insert(**content))
            .map(|content| (&self.digests[*content], self.sizes[*content]))
            .collect()
    }

    /// How much some images take; each is named by its manifest.
    pub fn volume(&self, images: &[ManifestPlace]) -> HeldVolume {
        let sum =
            |used: &HashMap<usize, u32>| used.keys().map(|content| self.sizes[*content]).sum();
        let mut volume = HeldVolume::default();
        for image in images {
            volume.apart += sum(&self.contents_of(&self.closure([*image])));
        }
        let used = self.contents_of(&self.closure(images.iter().copied()));
        volume.together = sum(&used);
        let alone = used.iter().filter(|(content, count)| self.users[**content] == **count);
        volume.alone = alone.map(|(content, _)| self.sizes[*content]).sum();
        volume
    }

    /// For each content that more than one of these images use: the images.
    pub fn sharing(&self, images: &[ManifestPlace]) -> BTreeMap<&Digest, Vec<ManifestPlace>> {
        let mut users: BTreeMap<&Digest, Vec<ManifestPlace>> = BTreeMap::new();
        for image in images {
            for content in self.contents_of(&self.closure([*image])).keys() {
                users.entry(&self.digests[*content]).or_default().push(*image);
            }
        }
        users.retain(|_, images| images.len() > 1);
        users
    }

    /// What goes when these are dropped: with an image go what it lists and what is about it, as far
    /// as nothing else holds them.
    pub fn plan_drop(&self, unwanted: &BTreeSet<DropTarget>) -> DropPlan {
        let mut plan = DropPlan::default();
        let mut dropped = HashSet::new();
        let (mut roots, mut named) = (Vec::new(), HashSet::new());
        for one in unwanted {
            match one {
                DropTarget::Tag(repository, tag) => {
                    let found = self
                        .records
                        .tags
                        .iter()
                        .position(|row| row.repository == *repository && row.tag == *tag);
                    if let Some(number) = found {
                        dropped.insert(number);
                        let row = &self.records.tags[number];
                        roots.extend(self.place(*repository, &row.digest));
                    }
                }
                DropTarget::Manifest(repository, digest) => {
                    if let Some(place) = self.place(*repository, digest) {
                        dropped.extend(&self.tags[place]);
                        named.insert(place);
                        roots.push(place);
                    }
                }
            }
        }
        let candidates = self.closure_with_companions(roots.iter().copied());
        let stays =
            |place: &ManifestPlace| self.tags[*place].iter().any(|tag| !dropped.contains(tag));
        // What stays keeps what it lists and what is about it.
        let held = candidates.iter().copied().filter(|place| {
            stays(place) || self.parents[*place].iter().any(|up| !candidates.contains(up))
        });
        let kept = self.closure_with_companions(held);
        let gone: BTreeSet<ManifestPlace> =
            candidates.iter().copied().filter(|place| !kept.contains(place)).collect();
        let name = |place: ManifestPlace| {
            let row = &self.records.manifests[place];
            (self.records.repositories[row.repository].clone(), row.digest.clone())
        };
        for place in named.iter().filter(|place| kept.contains(place)) {
            let (repository, digest) = name(*place);
            let holder = self.parents[*place].iter().find(|up| !gone.contains(up));
            let because = holder.map_or_else(
                || "something else needs it".to_owned(),
                |up| format!("the index {} lists it", name(*up).1),
            );
            // Its tags stay as well: a drop of a manifest is done whole or not at all.
            for tag in &self.tags[*place] {
                dropped.remove(tag);
            }
            plan.kept.push((repository, digest, because));
        }
        let mut tags: Vec<usize> = dropped.into_iter().collect();
        tags.sort_unstable();
        plan.tags = tags
            .into_iter()
            .map(|number| {
                let row = &self.records.tags[number];
                let repository = self.records.repositories[row.repository].clone();
                (repository, row.tag.clone(), row.digest.clone())
            })
            .collect();
        plan.manifests = self.parents_first(&gone).into_iter().map(name).collect();
        let used = self.contents_of(&gone);
        let freed = used.iter().filter(|(content, count)| self.users[**content] == **count);
        plan.freed = freed.map(|(content, _)| self.sizes[*content]).sum();
        plan
    }

    /// Sorts manifests so that each stands before what it lists. A digest cannot name itself, so
    /// there is such an order.
    fn parents_first(&self, places: &BTreeSet<ManifestPlace>) -> Vec<ManifestPlace> {
        let mut left: HashMap<ManifestPlace, usize> = places
            .iter()
            .map(|place| {
                (*place, self.parents[*place].iter().filter(|up| places.contains(up)).count())
            })
            .collect();
        let mut ready: Vec<ManifestPlace> =
            places.iter().copied().filter(|place| left[place] == 0).rev().collect();
        let mut sorted = Vec::with_capacity(places.len());
        while let Some(place) = ready.pop() {
            sorted.push(place);
            for child in &self.children[place] {
                if let Some(count) = left.get_mut(child) {
                    *count -= 1;
                    if *count == 0 {
                        ready.push(*child);
                    }
                }
            }
        }
        sorted
    }
}

/// Everything that is reached, the roots with it.
fn reach(
    roots: impl IntoIterator<Item = ManifestPlace>,
    next: impl Fn(ManifestPlace) -> Vec<ManifestPlace>,
) -> BTreeSet<ManifestPlace> {
    let mut found = BTreeSet::new();
    let mut waiting: Vec<ManifestPlace> = roots.into_iter().collect();
    while let Some(place) = waiting.pop() {
        if found.insert(place) {
            waiting.extend(next(place));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn digest(name: &str) -> Digest {
        Digest::of(name.as_bytes())
    }

    /// `index` lists `amd` and `arm`; `amd` and `single` share the layer `base`; `signature` is about
    /// `index`. Sizes: manifests 10, blobs 100.
    fn holdings(tags: &[(&str, &str)]) -> Holdings {
        let manifest = |name: &str, subject: Option<&str>| ManifestRow {
            repository: 0,
            digest: digest(name),
            media_type: String::new(),
            size: 10,
            subject: subject.map(digest),
            added: 0,
        };
        let need = |manifest: &str, target: &str, is_child: bool| NeedRow {
            repository: 0,
            manifest: digest(manifest),
            target: digest(target),
            is_child,
        };
        Holdings::new(HoldingRecords {
            repositories: vec!["vendor/a".parse().unwrap()],
            manifests: vec![
                manifest("amd", None),
                manifest("arm", None),
                manifest("index", None),
                manifest("single", None),
                manifest("signature", Some("index")),
            ],
            needs: vec![
                need("index", "amd", true),
                need("index", "arm", true),
                need("amd", "base", false),
                need("amd", "top", false),
                need("arm", "other", false),
                need("single", "base", false),
                need("signature", "note", false),
            ],
            blobs: ["base", "top", "other", "note"]
                .map(|name| BlobRow { repository: 0, digest: digest(name), size: 100 })
                .to_vec(),
            tags: tags
                .iter()
                .map(|(tag, name)| TagRow {
                    repository: 0,
                    tag: tag.parse().unwrap(),
                    digest: digest(name),
                    since: 0,
                })
                .collect(),
            elsewhere: Vec::new(),
        })
    }

    fn unwanted(tag: &str) -> BTreeSet<DropTarget> {
        BTreeSet::from([DropTarget::Tag(0, tag.parse().unwrap())])
    }

    #[test]
    fn content_is_counted_once_and_alone_is_what_nothing_else_uses() {
        let holdings = holdings(&[("1", "index"), ("2", "single")]);
        let place = |name| holdings.place(0, &digest(name)).unwrap();
        let volume = holdings.volume(&[place("index")]);
        assert_eq!(volume, HeldVolume { apart: 330, together: 330, alone: 230 });
        let both = holdings.volume(&[place("index"), place("single")]);
        assert_eq!(both, HeldVolume { apart: 440, together: 340, alone: 340 });
        let shared = holdings.sharing(&[place("index"), place("single")]);
        assert_eq!(shared.keys().copied().collect::<Vec<_>>(), [&digest("base")]);
        assert_eq!(holdings.blobs_of(place("index")).len(), 3);
        assert!(!holdings.stands_alone(place("signature")));
        assert!(!holdings.stands_alone(place("amd")));
    }

    #[test]
    fn with_an_image_go_what_it_lists_and_what_is_about_it() {
        let plan = holdings(&[("1", "index"), ("2", "single")]).plan_drop(&unwanted("1"));
        assert_eq!(plan.tags.len(), 1);
        let names: Vec<Digest> = plan.manifests.iter().map(|(_, digest)| digest.clone()).collect();
        for name in ["index", "amd", "arm", "signature"] {
            assert!(names.contains(&digest(name)), "{name}");
        }
        let at = |name| names.iter().position(|one| *one == digest(name)).unwrap();
        assert!(at("index") < at("amd") && at("index") < at("arm"));
        assert_eq!(plan.freed, 40 + 300);
    }

    #[test]
    fn what_something_else_holds_stays() {
        // A second tag on the same image: only the tag goes.
        let plan = holdings(&[("1", "index"), ("lts", "index")]).plan_drop(&unwanted("1"));
        assert_eq!((plan.tags.len(), plan.manifests.len(), plan.freed), (1, 0, 0));
        // A tag on a child: the child stays, its index goes.
        let plan = holdings(&[("1", "index"), ("amd", "amd")]).plan_drop(&unwanted("1"));
        assert!(!plan.manifests.iter().any(|(_, one)| *one == digest("amd")));
        assert!(plan.manifests.iter().any(|(_, one)| *one == digest("arm")));
        // A child alone cannot go while its index is there; neither can its tag be lost by that.
        let child = BTreeSet::from([DropTarget::Manifest(0, digest("amd"))]);
        let plan = holdings(&[("1", "index"), ("amd", "amd")]).plan_drop(&child);
        assert_eq!((plan.tags.len(), plan.manifests.len(), plan.kept.len()), (0, 0, 1));
        assert!(plan.kept[0].2.contains("lists it"));
        // Together with its index it goes.
        let both = BTreeSet::from([
            DropTarget::Manifest(0, digest("amd")),
            DropTarget::Manifest(0, digest("index")),
        ]);
        let plan = holdings(&[("1", "index")]).plan_drop(&both);
        assert_eq!((plan.tags.len(), plan.kept.len()), (1, 0));
    }

    proptest::proptest! {
        /// Whatever is dropped: what stays lacks nothing that it lists, and no tag loses its image.
        #[test]
        fn what_stays_is_complete(
            edges in proptest::collection::vec((0usize..12, 0usize..12), 0..30),
            tags in proptest::collection::vec(0usize..12, 0..8),
            subjects in proptest::collection::vec((0usize..12, 0usize..12), 0..5),
            dropped in proptest::collection::vec((proptest::bool::ANY, 0usize..12), 0..4),
        ) {
            let name = |n: usize| digest(&n.to_string());
            let subject = |n: usize| subjects.iter().find(|(from, to)| *from == n && to < from).map(|(_, to)| name(*to));
            let tag = |n: usize| -> Tag { format!("t{n}").parse().unwrap() };
            let records = HoldingRecords {
                repositories: vec!["a/b".parse().unwrap()],
                manifests: (0..12).map(|n| ManifestRow {
                    repository: 0, digest: name(n), media_type: String::new(), size: 1, subject: subject(n), added: 0,
                }).collect(),
                // Only to smaller numbers: digests know no circles.
                needs: edges.iter().filter(|(from, to)| to < from).map(|(from, to)| NeedRow {
                    repository: 0, manifest: name(*from), target: name(*to), is_child: true,
                }).collect(),
                blobs: Vec::new(),
                tags: tags.iter().enumerate().map(|(n, to)| TagRow {
                    repository: 0, tag: tag(n), digest: name(*to), since: 0,
                }).collect(),
                elsewhere: Vec::new(),
            };
            let unwanted = dropped.iter().map(|(is_tag, n)| {
                if *is_tag { DropTarget::Tag(0, tag(*n)) } else { DropTarget::Manifest(0, name(*n)) }
            }).collect();
            let plan = Holdings::new(records.clone()).plan_drop(&unwanted);
            let gone: HashSet<&Digest> = plan.manifests.iter().map(|(_, digest)| digest).collect();
            proptest::prop_assert_eq!(gone.len(), plan.manifests.len());
            let lost: HashSet<&Tag> = plan.tags.iter().map(|(_, tag, _)| tag).collect();
            for need in &records.needs {
                proptest::prop_assert!(!gone.contains(&need.target) || gone.contains(&need.manifest));
            }
            for row in &records.tags {
                proptest::prop_assert!(!gone.contains(&row.digest) || lost.contains(&row.tag));
            }
            let mut passed = HashSet::new();
            for (_, one) in &plan.manifests {
                let early = records.needs.iter().filter(|need| need.manifest == *one);
                for need in early {
                    proptest::prop_assert!(!passed.contains(&need.target));
                }
                passed.insert(one.clone());
            }
        }
    }
}
