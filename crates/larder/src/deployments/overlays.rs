//! What reaches each overlay, over all files that it lists, whether they are part of this run or not?

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};

use larder_core::rewrite::decide::{Decider, Others};
use larder_core::rewrite::overlays::{
    ALL, EntryNote, OverlayEntry, OverlayName, ReachedNames, listed, name_of,
};
use larder_core::rewrite::{FILE_LIMIT, FileContext, Finding, FindingWish, Scan, scan};
use larder_transfer::files::read_regular;

use super::{Candidate, Sight, real};

/// The names under which an overlay is found in its folder.
const NAMES: [&str; 3] = ["kustomization.yaml", "kustomization.yml", "Kustomization"];
/// How deep overlays lie upon each other.
const DEPTH: usize = 32;
/// Files that are read for overlays at most.
const MOST: usize = 1_000_000;
/// How often names that must stay are looked for one by one; then all at once.
const ROUNDS: usize = 64;

/// Whether a file is the overlay of its folder.
fn is_overlay(path: &Path) -> bool {
    path.file_name().and_then(|name| name.to_str()).is_some_and(|name| NAMES.contains(&name))
}

/// What is known of files from others, by their real paths. Empty where there are no overlays.
pub fn settle(
    files: &[Candidate],
    sight: Sight<'_>,
    decider: &Decider<'_>,
) -> HashMap<PathBuf, Others> {
    let tops: Vec<PathBuf> =
        files.iter().filter(|one| is_overlay(&one.path)).map(|one| real(&one.path)).collect();
    if tops.is_empty() {
        return HashMap::new();
    }
    // A file that may not be changed keeps its names; an overlay among these keeps what it is about.
    let may_change = |one: &&Candidate| is_overlay(&one.path) || sight.may_change(&one.path);
    let in_run: HashSet<PathBuf> =
        files.iter().filter(may_change).map(|one| real(&one.path)).collect();
    let run = Rounds { sight, decider, in_run: &in_run };
    let none = HashMap::new();
    let mut names = HashMap::new();
    let mut first = run.graph(&tops, &none, &mut names, None);
    if first.open.is_empty() && first.torn.is_empty() {
        return first.others;
    }
    // Those that share files are settled together, and apart from all others.
    let stirred: BTreeSet<PathBuf> = first
        .torn
        .drain(..)
        .map(|(path, ..)| path)
        .chain(std::mem::take(&mut first.open).into_keys())
        .collect();
    let mut others = first.others;
    for group in groups(&tops, &first.reached, &stirred) {
        others.extend(run.settle(&group, &mut names));
    }
    others
}

/// The overlays that have to be settled together: those that share files, and have one that is stirred.
fn groups(
    tops: &[PathBuf],
    reached: &HashMap<PathBuf, OverlaysBelow>,
    stirred: &BTreeSet<PathBuf>,
) -> Vec<Vec<PathBuf>> {
    // The group of each file, by the number of the first overlay that was met in it.
    let mut of_file: HashMap<&Path, usize> = HashMap::new();
    let mut leader: Vec<usize> = (0..tops.len()).collect();
    for (number, top) in tops.iter().enumerate() {
        let files = reached.get(top).map(|below| &below.files);
        for file in files.into_iter().flatten().chain([top]) {
            let other = *of_file.entry(file).or_insert(number);
            let (a, b) = (find(&mut leader, number), find(&mut leader, other));
            leader[a] = b;
        }
    }
    let mut groups: BTreeMap<usize, (Vec<PathBuf>, bool)> = BTreeMap::new();
    for (number, top) in tops.iter().enumerate() {
        let group = groups.entry(find(&mut leader, number)).or_default();
        group.0.push(top.clone());
        let files = reached.get(top).map(|below| &below.files);
        group.1 |= files.into_iter().flatten().chain([top]).any(|file| stirred.contains(file));
    }
    groups.into_values().filter(|(_, stirred)| *stirred).map(|(tops, _)| tops).collect()
}

/// The first overlay of the group that one belongs to.
fn find(leader: &mut [usize], mut at: usize) -> usize {
    while leader[at] != at {
        leader[at] = leader[leader[at]];
        at = leader[at];
    }
    at
}

/// Names that stay, by the file in which they stand, and why.
type KeptNames = HashMap<PathBuf, BTreeMap<String, EntryNote>>;
/// The names in each file that was read, before and after. None: it cannot be read.
type NamesByFile = HashMap<PathBuf, Option<Vec<(String, String)>>>;

/// What all rounds of one run know.
struct Rounds<'g> {
    sight: Sight<'g>,
    decider: &'g Decider<'g>,
    in_run: &'g HashSet<PathBuf>,
}

impl Rounds<'_> {
    fn graph(
        &self,
        tops: &[PathBuf],
        held: &KeptNames,
        names: &mut NamesByFile,
        touched: Option<HashSet<PathBuf>>,
    ) -> SettledRound {
        let mut graph = Graph {
            sight: self.sight,
            decider: self.decider,
            in_run: self.in_run,
            held,
            files: std::mem::take(names),
            touched,
            settled: SettledRound::default(),
        };
        for top in tops {
            let is_component = text_of(top).and_then(|text| listed(&text));
            if !is_component.is_some_and(|listed| listed.is_component) {
                graph.overlay(top, DEPTH);
            }
        }
        *names = graph.files;
        graph.settled
    }

    /// Settles overlays that share files. Each round finds a name that is not held yet, or is the last.
    fn settle(&self, tops: &[PathBuf], names: &mut NamesByFile) -> HashMap<PathBuf, Others> {
        let mut held = KeptNames::new();
        for round in 0_usize.. {
            let touched = (round < ROUNDS).then(HashSet::new);
            let settled = self.graph(tops, &held, names, touched);
            let mut more = false;
            for (path, name, told) in settled.torn {
                let its = held.entry(path.clone()).or_default();
                if its.insert(name, told).is_none() {
                    more = true;
                    names.remove(&path);
                }
            }
            // What cannot be settled by names stays as it is, with all that it is about.
            let mut frozen = false;
            for (path, told) in settled.open.iter().filter(|_| !more) {
                let its = held.entry(path.clone()).or_default();
                if its.insert(ALL.to_owned(), told.clone()).is_none() {
                    frozen = true;
                    names.remove(path);
                }
            }
            if !more && !frozen {
                let mut others = settled.others;
                for (path, names) in held {
                    others.entry(path).or_default().held = names;
                }
                return others;
            }
        }
        HashMap::new()
    }
}

/// The entries of the overlays among the files that are about nothing: the file, the line, and what is said.
pub fn dangling(
    files: &[Candidate],
    sight: Sight<'_>,
    decider: &Decider<'_>,
) -> Vec<(String, usize, String)> {
    let others = settle(files, sight, decider);
    let mut all = Vec::new();
    for one in files {
        let Some(its) = others.get(&real(&one.path)).filter(|its| !its.entries.is_empty()) else {
            continue;
        };
        let Some(text) = text_of(&one.path) else { continue };
        let name = one.path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let file = FileContext { name, custom: sight.custom, ..FileContext::default() };
        let Ok(found) = scan(&text, &file) else { continue };
        let entries = found.findings.iter().filter(|one| one.is_overlay() && one.is_run());
        for (finding, entry) in entries.zip(&its.entries) {
            let told = entry.as_ref().and_then(|entry| match (&entry.told, &entry.wish) {
                (Some(EntryNote::Mended), FindingWish::Entry { of, .. }) => {
                    Some(EntryNote::Dangling(Some(of.clone())).to_string())
                }
                (told, _) => told.as_ref().map(ToString::to_string),
            });
            all.extend(told.map(|told| {
                (larder_transfer::files::shown(&one.path), finding.position.line, told)
            }));
        }
    }
    all
}

/// What reaches an overlay, and the files from which it comes.
#[derive(Clone, Default)]
struct OverlaysBelow {
    reached: ReachedNames,
    files: BTreeSet<PathBuf>,
}

/// What one round comes to.
#[derive(Default)]
struct SettledRound {
    others: HashMap<PathBuf, Others>,
    /// What leaves each overlay.
    reached: HashMap<PathBuf, OverlaysBelow>,
    /// Names that are to stay, with the file in which each stands, and why.
    torn: Vec<(PathBuf, String, EntryNote)>,
    /// The files of overlays that have an entry which cannot be settled, and why.
    open: BTreeMap<PathBuf, EntryNote>,
}

struct Graph<'g> {
    sight: Sight<'g>,
    decider: &'g Decider<'g>,
    in_run: &'g HashSet<PathBuf>,
    held: &'g KeptNames,
    files: NamesByFile,
    /// The files in which a name stays since this round. None: it does not matter any more.
    touched: Option<HashSet<PathBuf>>,
    settled: SettledRound,
}

fn text_of(path: &Path) -> Option<String> {
    let limit = usize::try_from(FILE_LIMIT).unwrap_or(usize::MAX);
    String::from_utf8(read_regular(path, limit).ok()?).ok()
}

impl Graph<'_> {
    /// What leaves an overlay. Settles its entries if it is part of the run.
    fn overlay(&mut self, path: &Path, depth: usize) -> OverlaysBelow {
        if let Some(known) = self.settled.reached.get(path) {
            return known.clone();
        }
        // Until it is known, nothing reaches it: overlays may not list each other in a circle.
        self.settled.reached.insert(path.to_owned(), OverlaysBelow::default());
        let mut below = OverlaysBelow {
            reached: ReachedNames { whole: true, ..ReachedNames::default() },
            ..OverlaysBelow::default()
        };
        self.put_upon(path, &mut below, depth);
        self.settled.reached.insert(path.to_owned(), below.clone());
        below
    }

    /// Puts an overlay upon what reaches it, with what it lists itself.
    fn put_upon(&mut self, path: &Path, below: &mut OverlaysBelow, depth: usize) {
        // Long: one round over overlays and bases, whose order matters.
        let text = text_of(path).filter(|_| depth > 0);
        let Some((text, listed)) = text.and_then(|text| listed(&text).map(|listed| (text, listed)))
        else {
            below.reached.whole = false;
            return;
        };
        below.reached.whole &= listed.whole || listed.is_component;
        let folder = path.parent().unwrap_or(Path::new(""));
        for one in &listed.files {
            self.add(&folder.join(one), below, depth - 1);
        }
        for one in &listed.components {
            let folder = real(&folder.join(one));
            match NAMES.iter().map(|name| folder.join(name)).find(|path| path.is_file()) {
                Some(component) => self.put_upon(&component, below, depth - 1),
                None => below.reached.whole = false,
            }
        }
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let file = FileContext { name, custom: self.sight.custom, ..FileContext::default() };
        if let Ok(found) = scan(&text, &file) {
            let entries: Vec<&Finding> =
                found.findings.iter().filter(|one| one.is_overlay() && one.is_run()).collect();
            match self.in_run.contains(path) {
                true => {
                    below.files.insert(path.to_owned());
                    let none = BTreeMap::new();
                    let held = self.held.get(path).unwrap_or(&none);
                    let settled = below.reached.through(&entries, held, &self.decider.retarget);
                    if !self.can_say(path, &found, &entries, &settled) {
                        let open = below.files.iter().map(|file| (file.clone(), EntryNote::Fixed));
                        self.settled.open.extend(open);
                    }
                    for (finding, entry) in entries.iter().zip(&settled) {
                        let told = entry.as_ref().and_then(|one| one.told.as_ref());
                        if matches!(told, Some(EntryNote::Torn | EntryNote::Mixed(_))) {
                            let open =
                                below.files.iter().map(|file| (file.clone(), EntryNote::Torn));
                            self.settled.open.extend(open);
                        }
                        let name = match told {
                            Some(EntryNote::Torn) => finding.overlays().map(str::to_owned),
                            Some(EntryNote::Alike(other) | EntryNote::Mixed(other)) => {
                                Some(other.clone())
                            }
                            _ => None,
                        };
                        // One at a time in each file: what stays for one entry may settle the next.
                        let free = self.touched.as_ref().is_none_or(|touched| {
                            below.files.iter().all(|file| !touched.contains(file))
                        });
                        // What stays already needs no round of its own.
                        let is_new = |name: &String| {
                            let known = |file| {
                                self.held.get(file).is_some_and(|its| its.contains_key(name))
                            };
                            !below.files.iter().all(known)
                        };
                        let stays = name.filter(is_new).zip(told).filter(|_| free);
                        if let Some(touched) = self.touched.as_mut().filter(|_| stays.is_some()) {
                            touched.extend(below.files.iter().cloned());
                        }
                        self.settled.torn.extend(stays.into_iter().flat_map(|(name, told)| {
                            below
                                .files
                                .iter()
                                .map(move |file| (file.clone(), name.clone(), told.clone()))
                        }));
                    }
                    let its = self.settled.others.entry(path.to_owned()).or_default();
                    // Put upon several, it must say the same to all of them.
                    if its.entries.is_empty() {
                        its.entries = settled;
                    } else {
                        for (known, now) in its.entries.iter_mut().zip(settled) {
                            if let Some(known) =
                                known.as_mut().filter(|known| now.as_ref() != Some(known))
                            {
                                known.told = Some(EntryNote::Torn);
                            }
                        }
                    }
                }
                false => below.reached.pass(&entries),
            }
        } else {
            below.reached.whole = false;
        }
    }

    /// Whether an overlay can be made to say what was settled: it may be changed, and each entry can be written.
    fn can_say(
        &self,
        path: &Path,
        found: &Scan<'_>,
        entries: &[&Finding],
        settled: &[Option<OverlayEntry>],
    ) -> bool {
        // What keeps its name is about the same images, whatever else is said of them.
        let moves = |finding: &Finding, entry: &OverlayEntry| matches!(&entry.wish, FindingWish::Entry { of, .. } if finding.overlays() != Some(of));
        let changes = entries
            .iter()
            .zip(settled)
            .any(|(finding, entry)| entry.as_ref().is_some_and(|entry| moves(finding, entry)));
        // An entry whose place is not certain could be about any of it.
        if entries.iter().any(|one| one.overlays().is_none()) {
            return false;
        }
        if !changes {
            return true;
        }
        let others = Others { entries: settled.to_vec(), ..Others::default() };
        let wished = settled.iter().flatten().filter(|entry| !entry.same).count();
        let decided = self.decider.decide(found, &others);
        let written = found.findings.iter().zip(&decided.decisions);
        let written = written
            .filter(|(one, decision)| one.is_overlay() && one.is_run() && decision.to.is_some());
        self.sight.may_change(path) && written.count() >= wished
    }

    /// Adds what a file or a folder gives.
    fn add(&mut self, path: &Path, below: &mut OverlaysBelow, depth: usize) {
        let path = real(path);
        if self.files.len() > MOST || depth == 0 {
            below.reached.whole = false;
        } else if path.is_dir() {
            let overlay = NAMES.iter().map(|name| path.join(name)).find(|path| path.is_file());
            match overlay {
                Some(overlay) => {
                    let its = self.overlay(&overlay, depth);
                    below.reached.names.extend(its.reached.names);
                    below.reached.whole &= its.reached.whole;
                    below.files.extend(its.files);
                }
                None => {
                    let entries = std::fs::read_dir(&path).into_iter().flatten().flatten();
                    let mut files: Vec<PathBuf> =
                        entries.map(|entry| entry.path()).take(MOST).collect();
                    files.sort();
                    for file in files.iter().filter(|file| is_objects(file)) {
                        self.file(file, below);
                    }
                }
            }
        } else if is_objects(&path) {
            self.file(&path, below);
        } else {
            below.reached.whole = false;
        }
    }

    fn file(&mut self, path: &Path, below: &mut OverlaysBelow) {
        if !self.files.contains_key(path) {
            let names = self.names(path);
            self.files.insert(path.to_owned(), names);
        }
        match self.files.get(path).and_then(Option::as_ref) {
            Some(names) => {
                let names = names
                    .iter()
                    .map(|(old, new)| OverlayName { old: old.clone(), new: new.clone() });
                below.reached.names.extend(names);
                below.files.insert(path.to_owned());
            }
            None => below.reached.whole = false,
        }
    }

    fn names(&self, path: &Path) -> Option<Vec<(String, String)>> {
        let text = text_of(path)?;
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let file = FileContext { name, custom: self.sight.custom, ..FileContext::default() };
        let found = scan(&text, &file).ok()?;
        if self.in_run.contains(path) {
            let held = self.held.get(path).cloned().unwrap_or_default();
            return Some(self.decider.names(&found, &Others { held, ..Others::default() }));
        }
        let run = found.findings.iter().filter(|one| one.is_run() && !one.is_overlay());
        Some(
            run.map(|one| (name_of(&one.text).to_owned(), name_of(&one.text).to_owned())).collect(),
        )
    }
}

/// Whether a file can hold objects of a cluster, by its name.
fn is_objects(path: &Path) -> bool {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    ["yaml", "yml", "json"].iter().any(|one| ending.eq_ignore_ascii_case(one)) && path.is_file()
}
