//! Which files are deployments, and what is in them? Read side by side, one at a time by each worker.

mod charts;
pub mod live;
pub mod overlays;
mod walk;

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::SystemTime;

use larder_core::rewrite::{
    Above, CustomResource, FILE_LIMIT, FileContext, Finding, Over, Scan, scan, speaks_of_images,
};
use larder_transfer::files::{shown, shown_from};
use schemars::JsonSchema;
use serde::Serialize;

use crate::failure::{Exit, Failure};
pub use charts::Family;
use charts::{Charts, FolderFacts};

/// The most files that a worker takes at once.
const ROW: usize = 64;

/// What is looked at, and how.
#[derive(Clone, Copy, Default)]
pub struct Sight<'a> {
    /// Where kinds that others made name images.
    pub custom: &'a [CustomResource],
    /// Hidden files and folders are read too.
    pub hidden: bool,
    /// The registries that families of charts get in this run, by the file that writes each.
    pub agreed: Option<&'a HashMap<PathBuf, String>>,
    /// Whether a file may be changed in this run. None: it does not matter.
    pub may_change: Option<fn(&Path) -> bool>,
}

impl<'a> Sight<'a> {
    /// Whether a file may be changed in this run.
    pub fn may_change(&self, path: &Path) -> bool {
        self.may_change.is_none_or(|may| may(path))
    }

    /// With kinds that others made.
    pub fn with(custom: &'a [CustomResource]) -> Self {
        Self { custom, ..Self::default() }
    }
}

/// Something that could name an image and was passed over.
#[derive(Debug, Clone, Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord)]
pub struct PassedOver {
    /// Why, as a short stable word.
    pub why: &'static str,
    /// The file, as written from here.
    pub file: String,
    /// Its line. None: all of the file, or of the folder.
    pub line: Option<usize>,
    pub text: String,
    /// Why, as it is said.
    #[serde(skip)]
    pub said: &'static str,
}

/// A reason that belongs to a whole file: its word, and what is said.
type FileReason = (&'static str, &'static str);

const HIDDEN: FileReason = ("hidden", "a hidden file or folder; `--hidden` reads them");
const STORE: FileReason = ("store", "the store of a larder");
const NO_JSON: FileReason =
    ("no-json", "JSON that cannot be read, and that does not speak of images");
const NO_YAML: FileReason = ("no-yaml", "a text that speaks of objects in a script, and is none");

impl PassedOver {
    fn file(file: String, (why, said): FileReason) -> Self {
        Self { why, file, line: None, text: String::new(), said }
    }
}

/// A file that could not be looked into.
#[derive(Debug, Clone, Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord)]
pub struct BrokenFile {
    /// Which, as written from here.
    pub file: String,
    pub cause: String,
}

/// A file that may name images.
pub struct Deployment {
    pub path: PathBuf,
    /// The path as written from here.
    pub shown: String,
    pub text: String,
}

/// What came of many files: in their order, one result for each that could be read.
pub struct FilesOutcome<T> {
    pub done: Vec<T>,
    pub broken: Vec<BrokenFile>,
    /// What could name an image and was passed over.
    pub passed: Vec<PassedOver>,
}

/// A file that was found, and what is known of it before it is read.
pub struct Candidate {
    pub path: PathBuf,
    /// The operator named it, so it is told when it cannot be read.
    named: bool,
    facts: FolderFacts,
}

/// Finds all deployments below the paths and gives each to `work` once, several at a time. A folder's ignore
/// rules (`.gitignore`, `.ignore`) are respected, hidden files are left out but for those of pipelines, links are not
/// followed. One bad file never stops the others.
pub fn each<T: Send>(
    paths: &[PathBuf],
    sight: Sight<'_>,
    work: impl Fn(&Deployment, &Scan<'_>) -> Result<T, String> + Sync,
) -> FilesOutcome<T> {
    let found = candidates(paths, sight);
    let mut outcome = each_of(&found.files, sight, work);
    outcome.broken.extend(found.broken);
    outcome.broken.sort();
    outcome.broken.dedup();
    outcome.passed.extend(found.passed);
    outcome.passed.sort();
    outcome
}

/// The same for files that were found before.
pub fn each_of<T: Send>(
    candidates: &[Candidate],
    sight: Sight<'_>,
    work: impl Fn(&Deployment, &Scan<'_>) -> Result<T, String> + Sync,
) -> FilesOutcome<T> {
    let mut broken = Vec::new();
    let mut passed = Vec::new();
    let next = AtomicUsize::new(0);
    let here = std::env::current_dir().unwrap_or_default();
    let workers = workers().min(candidates.len().max(1));
    // Those who write at the same time into one folder wait for each other, so each worker takes a
    // row of files; towards the end the rows are short.
    let row = |from: usize| {
        let row = candidates.len().saturating_sub(from) / (4 * workers);
        from..from + row.clamp(1, ROW)
    };
    let take = || {
        let first = next.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |at| Some(row(at).end));
        row(first.unwrap_or_else(|at| at))
    };
    let run = || {
        let (mut done, mut broken, mut passed) = (Vec::new(), Vec::new(), Vec::new());
        loop {
            let row = take();
            if row.start >= candidates.len() {
                return (done, broken, passed);
            }
            for (number, one) in candidates.iter().enumerate().take(row.end).skip(row.start) {
                match one.work(sight, &here, &work, &mut passed) {
                    Ok(Some(result)) => done.push((number, result)),
                    Ok(None) => {}
                    Err(cause) => broken.push(BrokenFile { file: shown(&one.path), cause }),
                }
            }
        }
    };
    let mut done = Vec::with_capacity(candidates.len());
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..workers).map(|_| scope.spawn(run)).collect();
        let mut take = |(mine, bad, over): (Vec<(usize, T)>, Vec<BrokenFile>, Vec<PassedOver>)| {
            done.extend(mine);
            broken.extend(bad);
            passed.extend(over);
        };
        take(run());
        for other in others {
            match other.join() {
                Ok(its) => take(its),
                // A panic is a fault of ours and is shown as one.
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
    });
    done.sort_by_key(|(number, _)| *number);
    broken.sort();
    broken.dedup();
    passed.sort();
    FilesOutcome { done: done.into_iter().map(|(_, result)| result).collect(), broken, passed }
}

/// What files name, without their texts.
pub struct NamedImages {
    /// The file, as written from here.
    pub shown: String,
    pub findings: Vec<Finding>,
    /// It is a template.
    pub template: bool,
}

impl NamedImages {
    /// What a file names.
    pub fn of(shown: &str, scan: &Scan<'_>) -> Self {
        Self { shown: shown.to_owned(), findings: scan.findings.clone(), template: scan.template }
    }

    /// The references under which images are pulled, with their tags.
    pub fn pulled(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(|one| one.is_asked_for())
    }
}

/// What all deployments below the paths name.
pub fn named(paths: &[PathBuf], sight: Sight<'_>) -> FilesOutcome<NamedImages> {
    let is_stdin = |path: &&PathBuf| path.as_os_str() == "-";
    let files: Vec<PathBuf> = paths.iter().filter(|path| !is_stdin(path)).cloned().collect();
    let mut read = each(&files, sight, |one, scan| Ok(NamedImages::of(&one.shown, scan)));
    if paths.iter().any(|path| is_stdin(&path)) {
        match stdin_named("cannot read the deployments", sight.custom) {
            Ok(Ok(named)) => read.done.push(named),
            Ok(Err(broken)) => read.broken.push(broken),
            Err(failure) => {
                read.broken.push(BrokenFile { file: "stdin".into(), cause: failure.cause });
            }
        }
    }
    read
}

/// How a command ends because of the paths that it was given: one that is not there is a wrong call.
pub fn missing(paths: &[PathBuf]) -> Exit {
    let there = |path: &PathBuf| path.as_os_str() == "-" || fs::symlink_metadata(path).is_ok();
    if paths.iter().all(there) { Exit::Done } else { Exit::Usage }
}

/// What comes from stdin, or why it cannot be understood.
pub fn stdin_named(
    what: &str,
    custom: &[CustomResource],
) -> Result<Result<NamedImages, BrokenFile>, Failure> {
    let text = stdin(what)?;
    Ok(match scan(&text, &FileContext { custom, ..FileContext::default() }) {
        Ok(scan) => Ok(NamedImages::of("stdin", &scan)),
        Err(error) => Err(BrokenFile { file: "stdin".into(), cause: error.to_string() }),
    })
}

/// The files that were found.
pub struct Candidates {
    /// They, in their order.
    pub files: Vec<Candidate>,
    broken: Vec<BrokenFile>,
    passed: Vec<PassedOver>,
}

impl Candidates {
    /// The families of charts among them.
    pub fn families(&self) -> Vec<Arc<Family>> {
        let mut met = HashSet::new();
        let families = self.files.iter().filter_map(|one| one.facts.family.as_ref());
        families.filter(|family| met.insert(family.top.clone())).cloned().collect()
    }

    /// Adds what went wrong while they were found.
    pub fn into_told(self) -> (Vec<BrokenFile>, Vec<PassedOver>) {
        (self.broken, self.passed)
    }
}

/// Finds all files below the paths that may name images.
pub fn candidates(paths: &[PathBuf], sight: Sight<'_>) -> Candidates {
    let mut found = Candidates { files: Vec::new(), broken: Vec::new(), passed: Vec::new() };
    let mut charts = Charts::default();
    for path in paths {
        if !walk::is_folder(path) {
            found.files.push(Candidate::new(path.clone(), true, &mut charts));
            continue;
        }
        let mut below = walk::walk(path, sight.hidden, workers());
        // By their bytes: comparing paths part by part takes many times as long.
        below.files.sort_unstable_by(|a, b| a.as_os_str().cmp(b.as_os_str()));
        found
            .files
            .extend(below.files.into_iter().map(|path| Candidate::new(path, false, &mut charts)));
        found.broken.extend(below.broken);
        found.passed.extend(below.passed);
    }
    // Below one path no file is met twice.
    if paths.len() > 1 {
        let mut met = HashSet::new();
        found.files.retain(|one| met.insert(real(&one.path)));
    }
    found
}

/// Reads a text from stdin.
pub fn stdin(what: &str) -> Result<String, Failure> {
    let mut bytes = Vec::new();
    let read = std::io::stdin().take(FILE_LIMIT + 1).read_to_end(&mut bytes);
    read.map_err(|error| Failure::io(what, &error))?;
    let unreadable = |cause: String| {
        Failure::usage(what, cause, "mend it first; nothing was written").ending(Exit::No)
    };
    if bytes.len() as u64 > FILE_LIMIT {
        let limit = crate::output::bytes(FILE_LIMIT);
        return Err(Failure::usage(what, format!("it is larger than {limit}"), ""));
    }
    if let Some(form) = wide_form(&bytes) {
        return Err(unreadable(format!("it is written in {form}, and only UTF-8 is read")));
    }
    String::from_utf8(bytes).map_err(|_| unreadable("it is no UTF-8 text".into()))
}

/// A file by whatever way it is named. What is not there is told later.
pub fn real(path: &Path) -> PathBuf {
    fs::canonicalize(path).unwrap_or_else(|_| path.to_owned())
}

fn workers() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

impl Candidate {
    fn new(path: PathBuf, named: bool, charts: &mut Charts) -> Self {
        let facts = charts.facts(path.parent().unwrap_or(Path::new("")));
        Self { path, named, facts }
    }

    /// One file by its path, as if the operator named it.
    pub fn one(path: PathBuf) -> Self {
        Self::new(path, true, &mut Charts::default())
    }

    fn work<T>(
        &self,
        sight: Sight<'_>,
        here: &Path,
        work: &impl Fn(&Deployment, &Scan<'_>) -> Result<T, String>,
        passed: &mut Vec<PassedOver>,
    ) -> Result<Option<T>, String> {
        let text = read(&self.path)?;
        let name = self.path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let family = self.facts.family.as_deref();
        let agreed = family.zip(sight.agreed).and_then(|(family, all)| all.get(&family.top));
        let is_top = family.is_some_and(|family| family.top == self.path);
        let takes = family.filter(|family| family.members.contains(&self.path));
        let file = FileContext {
            name,
            template: self.facts.template,
            app_version: self.facts.app_version.as_deref(),
            custom: sight.custom,
            variables: self.facts.variables.as_deref(),
            built: &self.facts.built,
            registry: takes
                .map(|family| Above { now: &family.registry, becomes: agreed.map(String::as_str) }),
            shared_registry: is_top
                && agreed.is_none()
                && family.is_some_and(|family| !family.members.is_empty() || !family.whole),
            ..FileContext::default()
        };
        let deployment =
            Deployment { path: self.path.clone(), shown: shown_from(&self.path, here), text };
        let over = |reason| PassedOver::file(deployment.shown.clone(), reason);
        match scan(&deployment.text, &file) {
            Ok(scan) => {
                passed.extend(scan.passed.iter().map(|one| PassedOver {
                    why: one.why.word(),
                    file: deployment.shown.clone(),
                    line: (one.why != Over::Names).then_some(one.position.line),
                    text: one.text.clone(),
                    said: one.why.why(),
                }));
                work(&deployment, &scan).map(Some)
            }
            // A JSON file of a folder need not be a deployment at all, nor what has no ending.
            Err(_) if !self.named && file.is_json() && !speaks_of_images(&deployment.text) => {
                passed.push(over(NO_JSON));
                Ok(None)
            }
            Err(_) if !self.named && FileContext::is_named_plainly(name) => {
                passed.push(over(NO_YAML));
                Ok(None)
            }
            Err(error) => Err(error.to_string()),
        }
    }
}

/// Reads until a piece of memory is full or there is no more, and says how much there was.
fn fill(file: &mut fs::File, piece: &mut [u8]) -> io::Result<usize> {
    let mut got = 0;
    while got < piece.len() {
        match file.read(&mut piece[got..]) {
            Ok(0) => break,
            Ok(more) => got += more,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(got)
}

/// The encoding of a text whose characters have two or four bytes each, by its mark or by the zeros in it.
fn wide_form(bytes: &[u8]) -> Option<&'static str> {
    const LOOKED_AT: usize = 256;
    let head = &bytes[..bytes.len().min(LOOKED_AT) & !3];
    let zeros = |at: usize, of: usize| {
        let all = head.iter().skip(at).step_by(of);
        let count = all.clone().count();
        count > 3 && all.filter(|byte| **byte == 0).count() * 10 >= count * 9
    };
    match bytes {
        [0xff, 0xfe, 0, 0, ..] | [0, 0, 0xfe, 0xff, ..] => Some("UTF-32"),
        [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => Some("UTF-16"),
        _ if (zeros(1, 4) && zeros(2, 4) && zeros(3, 4))
            || (zeros(0, 4) && zeros(1, 4) && zeros(2, 4)) =>
        {
            Some("UTF-32")
        }
        _ if zeros(1, 2) || zeros(0, 2) => Some("UTF-16"),
        _ => None,
    }
}

/// Reads a whole text, such as it is at one moment.
pub fn read(path: &Path) -> Result<String, String> {
    const TRIES: usize = 3;
    let text = |error: std::io::Error| error.to_string();
    for _ in 0..TRIES {
        let mut file = fs::File::open(path).map_err(text)?;
        let before = file.metadata().map_err(text)?;
        if before.is_dir() {
            return Err("it is a folder".into());
        }
        let too_large = || format!("it is larger than {}", crate::output::bytes(FILE_LIMIT));
        if before.len() > FILE_LIMIT {
            return Err(too_large());
        }
        let mut bytes = vec![0; usize::try_from(before.len()).unwrap_or_default()];
        let got = fill(&mut file, &mut bytes).map_err(text)?;
        // What is no file does not tell its size; what grew is read again.
        if !before.is_file() || got < bytes.len() {
            bytes.truncate(got);
            (&mut file).take(FILE_LIMIT + 1 - got as u64).read_to_end(&mut bytes).map_err(text)?;
        }
        if bytes.len() as u64 > FILE_LIMIT {
            return Err(too_large());
        }
        let after = file.metadata().map_err(text)?;
        let same =
            |one: &fs::Metadata| (one.len(), one.modified().unwrap_or(SystemTime::UNIX_EPOCH));
        if before.is_file() && (same(&before) != same(&after) || after.len() != bytes.len() as u64)
        {
            continue;
        }
        if let Some(form) = wide_form(&bytes) {
            return Err(format!("it is written in {form}, and only UTF-8 is read; convert it"));
        }
        return String::from_utf8(bytes).map_err(|error| {
            format!("it is no UTF-8 text (at byte {})", error.utf8_error().valid_up_to())
        });
    }
    Err("it changes while it is read; try again when nobody writes it".into())
}
