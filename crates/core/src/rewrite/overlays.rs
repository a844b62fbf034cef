//! What is an overlay's entry about, and what must it say so that it goes on to be about it?
//!
//! An overlay finds images by the text of their names as they stand in its resources, after the overlays below it have
//! changed them. When these names become others, or became others in an earlier run, an entry that keeps its `name`
//! is about nothing: its tag and its digest are lost silently.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use super::finding::Finding;
use super::plan::FindingWish;
use crate::reference::Image;
use crate::retarget::{Retarget, RetargetAnswer};
use larder_yaml::parse;

/// An image's name on its way up: as it was, and as it becomes in this run. Texts, without tag and digest.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct OverlayName {
    /// Before this run.
    pub old: String,
    /// After it.
    pub new: String,
}

/// The names that reach an overlay from all that it lists.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ReachedNames {
    pub names: BTreeSet<OverlayName>,
    /// Nothing that it lists is out of sight (on another machine, missing, not to be read).
    pub whole: bool,
}

/// What becomes of an overlay's entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OverlayEntry {
    /// What it is about then, and the name that its images get.
    pub wish: FindingWish,
    /// Whether that is what stands there.
    pub same: bool,
    /// Something that is told of it.
    pub told: Option<EntryNote>,
}

/// Stands for every name where names are held.
pub const ALL: &str = "";

/// What is told of an entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryNote {
    /// Nothing that reaches it has its name. The name that it probably means. None: nobody knows.
    Dangling(Option<String>),
    /// It was about nothing, and is about what it meant again.
    Mended,
    /// Nothing has its name, and something that means the same image is written otherwise. That stays as it is: once
    /// both were the larder's, nobody could tell that the entry was about nothing. Its name.
    Alike(String),
    /// Something that it is not about would come to have the name of its images. The name that stays for that.
    Mixed(String),
    /// An entry of the overlay cannot be changed where it stands, so that what it is about stays as it is.
    Fixed,
    /// What it is about is named in several ways after this run, so that one entry cannot be about all of it.
    Torn,
}

impl std::fmt::Display for EntryNote {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Dangling(Some(meant)) => {
                write!(
                    f,
                    "nothing that it is about has this name any more; it is called {meant} there"
                )
            }
            Self::Dangling(None) => write!(f, "nothing that it is about has this name"),
            Self::Alike(other) => write!(
                f,
                "nothing that it is about has this name, but {other} means the same; write both alike"
            ),
            Self::Mended => write!(f, "it was about nothing, and is about its image again"),
            Self::Mixed(_) => write!(
                f,
                "it would be about more than now: the same image is written in two ways; write both alike"
            ),
            Self::Fixed => write!(f, "it cannot be changed where it stands"),
            Self::Torn => write!(
                f,
                "what it is about would be named in two ways, and one entry cannot be about both"
            ),
        }
    }
}

/// The name in a reference's text, as an overlay compares it.
pub fn name_of(text: &str) -> &str {
    let text = text.split('@').next().unwrap_or_default();
    let last = text.rfind('/').map_or(0, |slash| slash + 1);
    text[last..].find(':').map_or(text, |colon| &text[..last + colon])
}

impl ReachedNames {
    /// Settles the entries of one overlay, in their order, and what reaches those above it. `answer` says what becomes
    /// of an image that it names.
    pub fn through(
        &mut self,
        entries: &[&Finding],
        held: &BTreeMap<String, EntryNote>,
        retarget: &Retarget<'_>,
    ) -> Vec<Option<OverlayEntry>> {
        let mut settled = Vec::with_capacity(entries.len());
        // What is out of sight is taken to be what each entry is about, but for what an earlier entry makes.
        if !self.whole {
            let mut made: BTreeSet<&str> = BTreeSet::new();
            let known: HashSet<String> =
                self.names.iter().flat_map(|name| [name.old.clone(), name.new.clone()]).collect();
            for finding in entries {
                let Some(of) = finding.overlays() else { continue };
                if !known.contains(of) && !made.contains(of) {
                    self.names.insert(OverlayName { old: of.to_owned(), new: of.to_owned() });
                }
                made.extend(finding.renamed_to());
            }
        }
        let names = &mut OverlayNames::of(std::mem::take(&mut self.names), retarget);
        // Entries of one overlay are changed together: beside one that is about its image, another of the same image
        // that is about nothing never was.
        let alive: HashSet<&str> = entries
            .iter()
            .filter_map(|one| one.overlays())
            .filter(|of| names.by_old.contains_key(*of))
            .collect();
        let mut alive_images: HashMap<Image, Vec<&str>> = HashMap::new();
        for of in &alive {
            if let Some((image, _)) = retarget.origin_of(of) {
                alive_images.entry(image).or_default().push(of);
            }
        }
        let mut spent: BTreeSet<&str> = BTreeSet::new();
        for finding in entries {
            let Some(of) = finding.overlays() else {
                settled.push(None);
                continue;
            };
            let to = finding.renamed_to();
            let is_held = held.contains_key(to.unwrap_or(of)) || held.contains_key(ALL);
            // Nor was one whose images an earlier entry has given another name.
            let origin = retarget.origin_of(of);
            let others = origin.as_ref().and_then(|(image, _)| alive_images.get(image));
            let never =
                spent.contains(of) || others.into_iter().flatten().any(|other| *other != of);
            let entry =
                Self::entry(names, self.whole, (finding, of, to), retarget, (is_held, never));
            let (new_of, new_to) = match &entry.wish {
                FindingWish::Entry { of, to, .. } => (of.clone(), to.clone()),
                FindingWish::Become(_) => (of.to_owned(), to.unwrap_or(of).to_owned()),
            };
            names.pass((of, to.unwrap_or(of)), (&new_of, &new_to));
            settled.push(Some(entry));
            if to.is_some_and(|to| to != of) {
                spent.insert(of);
            }
        }
        self.names = std::mem::take(&mut names.all).into_iter().collect();
        settled
    }

    fn entry(
        names: &OverlayNames,
        whole: bool,
        (finding, of, to): (&Finding, &str, Option<&str>),
        retarget: &Retarget<'_>,
        (is_held, never): (bool, bool),
    ) -> OverlayEntry {
        let about: BTreeSet<&str> = names.with_old(of).map(|name| name.new.as_str()).collect();
        let mut told = None;
        let new_of = match about.len() {
            1 => {
                let new = about.first().copied().unwrap_or(of);
                // What it is not about now, and changes in this run, must not come to have its name. What has it already
                // has got it in an earlier run, and is what it was about before that.
                let mixed = names.with_new(new).find(|name| name.old != of && name.old != name.new);
                match mixed {
                    Some(other) => {
                        told = Some(EntryNote::Mixed(other.old.clone()));
                        of.to_owned()
                    }
                    None => new.to_owned(),
                }
            }
            0 => {
                let meant = names.meant(of, retarget).filter(|_| !never);
                match meant {
                    Some(meant) if whole => {
                        told = Some(EntryNote::Mended);
                        meant
                    }
                    meant => {
                        // A name that becomes this one in this run is what it is about from now on.
                        let again = names.with_new(of).next().is_some();
                        if whole && !again {
                            let alike = names.alike(of, retarget).filter(|_| !never);
                            told = alike.map(EntryNote::Alike).or(Some(EntryNote::Dangling(meant)));
                        }
                        of.to_owned()
                    }
                }
            }
            _ => {
                told = Some(EntryNote::Torn);
                of.to_owned()
            }
        };
        let keep = to.unwrap_or(of).to_owned();
        let (new_to, digest) = match (&told, retarget.answer(&finding.text, finding.tag_elsewhere))
        {
            (Some(told), _) if *told != EntryNote::Mended => (keep, None),
            _ if is_held => (keep, None),
            (_, RetargetAnswer::Become(new)) => {
                let digest = new.digest.as_ref().map(ToString::to_string).unwrap_or_default();
                let written = finding.text.split_once('@').map_or("", |(_, digest)| digest);
                (new.image().to_string(), (digest != written).then_some(digest))
            }
            // A new name that says the same as its own would be needless; any other stays.
            _ => (keep, None),
        };
        let same = new_of == of && new_to == to.unwrap_or(of) && digest.is_none();
        OverlayEntry { wish: FindingWish::Entry { of: new_of, to: new_to, digest }, same, told }
    }
}

/// The names that reach an overlay, found by what they were and by what they become.
struct OverlayNames {
    all: Vec<OverlayName>,
    by_old: HashMap<String, Vec<usize>>,
    by_new: HashMap<String, Vec<usize>>,
    /// What they were before the overlay's first entry, by the image that each means: its old and its new name, and
    /// whether the old one is the larder's.
    meant: HashMap<Image, Vec<(String, String, bool)>>,
}

impl OverlayNames {
    fn of(names: BTreeSet<OverlayName>, retarget: &Retarget<'_>) -> Self {
        let mut its = Self {
            all: Vec::new(),
            by_old: HashMap::new(),
            by_new: HashMap::new(),
            meant: HashMap::new(),
        };
        for (number, name) in names.into_iter().enumerate() {
            its.by_old.entry(name.old.clone()).or_default().push(number);
            its.by_new.entry(name.new.clone()).or_default().push(number);
            if let Some((image, ours)) = retarget.origin_of(&name.old) {
                let entry = (name.old.clone(), name.new.clone(), ours);
                its.meant.entry(image).or_default().push(entry);
            }
            its.all.push(name);
        }
        its
    }

    fn with_old(&self, old: &str) -> impl Iterator<Item = &OverlayName> {
        self.by_old.get(old).into_iter().flatten().filter_map(|number| self.all.get(*number))
    }

    fn with_new(&self, new: &str) -> impl Iterator<Item = &OverlayName> {
        self.by_new.get(new).into_iter().flatten().filter_map(|number| self.all.get(*number))
    }

    /// What an entry makes of them: as it was, and as it becomes.
    fn pass(&mut self, (of, to): (&str, &str), (new_of, new_to): (&str, &str)) {
        if of != to
            && let Some(its) = self.by_old.remove(of)
        {
            for number in &its {
                to.clone_into(&mut self.all[*number].old);
            }
            self.by_old.entry(to.to_owned()).or_default().extend(its);
        }
        if new_of != new_to
            && let Some(its) = self.by_new.remove(new_of)
        {
            for number in &its {
                new_to.clone_into(&mut self.all[*number].new);
            }
            self.by_new.entry(new_to.to_owned()).or_default().extend(its);
        }
    }

    /// A name that means the same image as another, is written otherwise, and would change.
    fn alike(&self, of: &str, retarget: &Retarget<'_>) -> Option<String> {
        let (image, ours) = retarget.origin_of(of)?;
        let all = self.meant.get(&image)?;
        all.iter().find(|(_, _, others)| *others == ours).map(|(old, ..)| old.clone())
    }

    /// The one name that means the same image as another, where one of both names the larder and the other does
    /// not: an earlier run changed one of them alone.
    fn meant(&self, of: &str, retarget: &Retarget<'_>) -> Option<String> {
        let (image, ours) = retarget.origin_of(of)?;
        let all = self.meant.get(&image)?;
        let found: BTreeSet<&str> = all
            .iter()
            .filter(|(_, _, others)| *others != ours)
            .map(|(_, new, _)| new.as_str())
            .collect();
        match found.len() {
            1 => found.first().map(|name| (*name).to_owned()),
            _ => None,
        }
    }
}

impl ReachedNames {
    /// What passes an overlay that stays as it is.
    pub fn pass(&mut self, entries: &[&Finding]) {
        for finding in entries {
            let Some(of) = finding.overlays() else { continue };
            let Some(to) = finding.renamed_to() else { continue };
            self.names = std::mem::take(&mut self.names)
                .into_iter()
                .map(|mut name| {
                    for side in [&mut name.old, &mut name.new] {
                        if side == of {
                            to.clone_into(side);
                        }
                    }
                    name
                })
                .collect();
        }
    }
}

/// What an overlay lists.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OverlayList {
    /// Files and folders beside it, in their order.
    pub files: Vec<String>,
    /// Overlays that are put upon what is listed before: they find their images among that.
    pub components: Vec<String>,
    /// It lists nothing that lies elsewhere, or that another program makes.
    pub whole: bool,
    /// It is put upon what others list.
    pub is_component: bool,
}

/// The files and folders that an overlay lists. None: it is none, or cannot be read.
pub fn listed(text: &str) -> Option<OverlayList> {
    const LISTS: [&str; 2] = ["resources", "bases"];
    const PATCHES: [&str; 3] = ["patches", "patchesStrategicMerge", "patchesJson6902"];
    const MAKERS: [&str; 4] =
        ["generators", "helmCharts", "helmChartInflationGenerator", "transformers"];
    let tree = parse(text).ok()?;
    let top = *tree.documents.first()?;
    if !tree.is_mapping(top) {
        return None;
    }
    let is_component = tree.text_of(top, "kind") == Some("Component");
    let mut listed = OverlayList { whole: true, is_component, ..OverlayList::default() };
    let items =
        |key: &str| tree.get(top, key).and_then(|list| tree.items(list)).into_iter().flatten();
    for one in LISTS.iter().flat_map(|key| items(key)) {
        match tree.filled(one) {
            Some(file) if is_beside(file) => listed.files.push(file.to_owned()),
            _ => listed.whole = false,
        }
    }
    for one in items("components") {
        match tree.filled(one) {
            Some(folder) if is_beside(folder) => listed.components.push(folder.to_owned()),
            _ => listed.whole = false,
        }
    }
    // What lists nothing is put upon something by others.
    listed.whole &= !listed.files.is_empty() || !listed.components.is_empty();
    for one in PATCHES.iter().flat_map(|key| items(key)) {
        let file = tree
            .text_of(one, "path")
            .or_else(|| tree.filled(one).filter(|text| !text.contains('\n')));
        listed.files.extend(file.filter(|file| is_beside(file)).map(str::to_owned));
    }
    listed.whole &= MAKERS.iter().all(|key| tree.get(top, key).is_none());
    Some(listed)
}

/// Whether a text names a file or a folder of this machine, beside the one who names it.
fn is_beside(file: &str) -> bool {
    file.len() <= 1024
        && !file.contains("://")
        && !file.contains(['\n', '?'])
        && !file.starts_with(['/', '~'])
        && !file.contains('@')
        && !file.contains('\0')
}
