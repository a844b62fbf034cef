//! What reaches each overlay, over all files that it lists, whether they are part of this run or not?

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};

use larder_core::rewrite::decide::{Decider, Others};
use larder_core::rewrite::overlays::{ALL, Name, Reached, Told, listed, name_of};
use larder_core::rewrite::{FILE_LIMIT, File, Finding, Wish, scan};

use super::{Candidate, Sight, real};
use crate::files::read_regular;

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
    let in_run: HashSet<PathBuf> = files.iter().map(|one| real(&one.path)).collect();
    let mut held: HashMap<PathBuf, BTreeMap<String, Told>> = HashMap::new();
    let mut files_read = HashMap::new();
    // Each round finds a name that is not held yet, or is the last.
    for round in 0_usize.. {
        let mut graph = Graph {
            sight,
            decider,
            in_run: &in_run,
            held: &held,
            others: HashMap::new(),
            files: std::mem::take(&mut files_read),
            reached: HashMap::new(),
            torn: Vec::new(),
            open: BTreeSet::new(),
            touched: (round < ROUNDS).then(HashSet::new),
        };
        for top in &tops {
            let is_component = text_of(top).and_then(|text| listed(&text));
            if !is_component.is_some_and(|listed| listed.is_component) {
                graph.overlay(top, DEPTH);
            }
        }
        let (others, torn, graph_open) = (graph.others, graph.torn, graph.open);
        files_read = graph.files;
        let (mut more, mut frozen) = (false, false);
        for (path, name, told) in torn {
            let its = held.entry(path.clone()).or_default();
            if its.insert(name, told).is_none() {
                more = true;
                files_read.remove(&path);
            }
        }
        // What cannot be settled by names stays as it is, with all that it is about.
        for path in graph_open {
            let its = held.entry(path.clone()).or_default();
            if !more && its.insert(ALL.to_owned(), Told::Torn).is_none() {
                frozen = true;
                files_read.remove(&path);
            }
        }
        if !more && !frozen {
            let mut others = others;
            for (path, names) in held {
                others.entry(path).or_default().held = names;
            }
            return others;
        }
    }
    HashMap::new()
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
        let file = File { name, custom: sight.custom, ..File::default() };
        let Ok(found) = scan(&text, &file) else { continue };
        let entries = found.findings.iter().filter(|one| one.is_overlay() && one.is_run());
        for (finding, entry) in entries.zip(&its.entries) {
            let told = entry.as_ref().and_then(|entry| match (&entry.told, &entry.wish) {
                (Some(Told::Mended), Wish::Entry { of, .. }) => {
                    Some(Told::Dangling(Some(of.clone())).to_string())
                }
                (told, _) => told.as_ref().map(ToString::to_string),
            });
            all.extend(
                told.map(|told| (crate::files::shown(&one.path), finding.position.line, told)),
            );
        }
    }
    all
}

/// What reaches an overlay, and the files from which it comes.
#[derive(Clone, Default)]
struct Below {
    reached: Reached,
    files: BTreeSet<PathBuf>,
}

struct Graph<'g> {
    sight: Sight<'g>,
    decider: &'g Decider<'g>,
    in_run: &'g HashSet<PathBuf>,
    held: &'g HashMap<PathBuf, BTreeMap<String, Told>>,
    others: HashMap<PathBuf, Others>,
    /// The names in each file that was read. None: it cannot be read.
    files: HashMap<PathBuf, Option<Vec<(String, String)>>>,
    /// What leaves each overlay.
    reached: HashMap<PathBuf, Below>,
    /// Names that are to stay, with the file in which each stands, and why.
    torn: Vec<(PathBuf, String, Told)>,
    /// The files of overlays that have an entry which cannot be settled.
    open: BTreeSet<PathBuf>,
    /// The files in which a name stays since this round. None: it does not matter any more.
    touched: Option<HashSet<PathBuf>>,
}

fn text_of(path: &Path) -> Option<String> {
    let limit = usize::try_from(FILE_LIMIT).unwrap_or(usize::MAX);
    String::from_utf8(read_regular(path, limit).ok()?).ok()
}

impl Graph<'_> {
    /// What leaves an overlay. Settles its entries if it is part of the run.
    fn overlay(&mut self, path: &Path, depth: usize) -> Below {
        if let Some(known) = self.reached.get(path) {
            return known.clone();
        }
        // Until it is known, nothing reaches it: overlays may not list each other in a circle.
        self.reached.insert(path.to_owned(), Below::default());
        let mut below =
            Below { reached: Reached { whole: true, ..Reached::default() }, ..Below::default() };
        self.put_upon(path, &mut below, depth);
        self.reached.insert(path.to_owned(), below.clone());
        below
    }

    /// Puts an overlay upon what reaches it, with what it lists itself.
    fn put_upon(&mut self, path: &Path, below: &mut Below, depth: usize) {
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
        let file = File { name, custom: self.sight.custom, ..File::default() };
        if let Ok(found) = scan(&text, &file) {
            let entries: Vec<&Finding> =
                found.findings.iter().filter(|one| one.is_overlay() && one.is_run()).collect();
            match self.in_run.contains(path) {
                true => {
                    below.files.insert(path.to_owned());
                    let none = BTreeMap::new();
                    let held = self.held.get(path).unwrap_or(&none);
                    let settled = below.reached.through(&entries, held, &self.decider.retarget);
                    for (finding, entry) in entries.iter().zip(&settled) {
                        let told = entry.as_ref().and_then(|one| one.told.as_ref());
                        if matches!(told, Some(Told::Torn | Told::Mixed(_))) {
                            self.open.extend(below.files.iter().cloned());
                        }
                        let name = match told {
                            Some(Told::Torn) => finding.overlays().map(str::to_owned),
                            Some(Told::Alike(other) | Told::Mixed(other)) => Some(other.clone()),
                            _ => None,
                        };
                        // One at a time in each file: what stays for one entry may settle the next.
                        let free = self.touched.as_ref().is_none_or(|touched| {
                            below.files.iter().all(|file| !touched.contains(file))
                        });
                        let stays = name.zip(told).filter(|_| free);
                        if let Some(touched) = self.touched.as_mut().filter(|_| stays.is_some()) {
                            touched.extend(below.files.iter().cloned());
                        }
                        self.torn.extend(stays.into_iter().flat_map(|(name, told)| {
                            below
                                .files
                                .iter()
                                .map(move |file| (file.clone(), name.clone(), told.clone()))
                        }));
                    }
                    let its = self.others.entry(path.to_owned()).or_default();
                    // Put upon several, it must say the same to all of them.
                    if its.entries.is_empty() {
                        its.entries = settled;
                    } else {
                        for (known, now) in its.entries.iter_mut().zip(settled) {
                            if let Some(known) =
                                known.as_mut().filter(|known| now.as_ref() != Some(known))
                            {
                                known.told = Some(Told::Torn);
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

    /// Adds what a file or a folder gives.
    fn add(&mut self, path: &Path, below: &mut Below, depth: usize) {
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

    fn file(&mut self, path: &Path, below: &mut Below) {
        if !self.files.contains_key(path) {
            let names = self.names(path);
            self.files.insert(path.to_owned(), names);
        }
        match self.files.get(path).and_then(Option::as_ref) {
            Some(names) => {
                let names =
                    names.iter().map(|(old, new)| Name { old: old.clone(), new: new.clone() });
                below.reached.names.extend(names);
                below.files.insert(path.to_owned());
            }
            None => below.reached.whole = false,
        }
    }

    fn names(&self, path: &Path) -> Option<Vec<(String, String)>> {
        let text = text_of(path)?;
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let file = File { name, custom: self.sight.custom, ..File::default() };
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
