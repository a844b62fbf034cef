//! Which files are deployments, and what is in them? Read side by side, one at a time by each worker.

pub mod live;

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use larder_core::rewrite::{
    CustomResource, FILE_LIMIT, File, Finding, Role, Scan, app_version, scan,
};
use serde::Serialize;

use crate::files::{read_regular, shown, shown_from};

/// The largest description of a chart that is read, in bytes.
const CHART_LIMIT: usize = 1024 * 1024;

/// The most files that a worker takes at once.
const ROW: usize = 64;

/// A file that could not be looked into.
#[derive(Debug, Clone, Serialize, PartialEq, Eq, PartialOrd, Ord)]
pub struct Broken {
    /// Which, as written from here.
    pub file: String,
    /// Why.
    pub cause: String,
}

/// A file that may name images.
pub struct Deployment {
    /// Where it is.
    pub path: PathBuf,
    /// The path as written from here.
    pub shown: String,
    /// Its text.
    pub text: String,
}

/// What came of many files: in their order, one result for each that could be read.
pub struct Outcome<T> {
    /// The results.
    pub done: Vec<T>,
    /// The others.
    pub broken: Vec<Broken>,
}

/// A file that was found, and what is known of it before it is read.
struct Candidate {
    path: PathBuf,
    /// The operator named it, so it is told when it cannot be read.
    named: bool,
    chart: Option<Arc<str>>,
    template: bool,
}

/// Finds all deployments below the paths and gives each to `work` once, several at a time. A folder's ignore
/// rules (`.gitignore`, `.ignore`) are respected, hidden files are left out, links are not
/// followed. One bad file never stops the others.
pub fn each<T: Send>(
    paths: &[PathBuf],
    custom: &[CustomResource],
    work: impl Fn(&Deployment, &Scan<'_>) -> Result<T, String> + Sync,
) -> Outcome<T> {
    let mut broken = Vec::new();
    let candidates = candidates(paths, &mut broken);
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
        let (mut done, mut broken) = (Vec::new(), Vec::new());
        loop {
            let row = take();
            if row.start >= candidates.len() {
                return (done, broken);
            }
            for (number, one) in candidates.iter().enumerate().take(row.end).skip(row.start) {
                match one.work(custom, &here, &work) {
                    Ok(Some(result)) => done.push((number, result)),
                    Ok(None) => {}
                    Err(cause) => broken.push(Broken { file: shown(&one.path), cause }),
                }
            }
        }
    };
    let mut done = Vec::with_capacity(candidates.len());
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..workers).map(|_| scope.spawn(run)).collect();
        let mut take = |(mine, bad): (Vec<(usize, T)>, Vec<Broken>)| {
            done.extend(mine);
            broken.extend(bad);
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
    Outcome { done: done.into_iter().map(|(_, result)| result).collect(), broken }
}

/// What files name, without their texts.
pub struct Named {
    /// The file, as written from here.
    pub shown: String,
    /// The references.
    pub findings: Vec<Finding>,
    /// It is a template.
    pub template: bool,
}

impl Named {
    /// The references under which images are pulled, with their tags.
    pub fn pulled(&self) -> impl Iterator<Item = &Finding> {
        self.findings
            .iter()
            .filter(|one| matches!(one.role, Role::Pulled | Role::Likely) && !one.tag_elsewhere)
    }
}

/// What all deployments below the paths name.
pub fn named(paths: &[PathBuf], custom: &[CustomResource]) -> Outcome<Named> {
    each(paths, custom, |one, scan| {
        Ok(Named {
            shown: one.shown.clone(),
            findings: scan.findings.clone(),
            template: scan.template,
        })
    })
}

fn candidates(paths: &[PathBuf], broken: &mut Vec<Broken>) -> Vec<Candidate> {
    let mut found = Vec::new();
    let mut charts = Charts::default();
    for path in paths {
        if !path.is_dir() {
            found.push(charts.candidate(path.clone(), true));
            continue;
        }
        let (mut inside, wrong) = walk(path);
        // By their bytes: comparing paths part by part takes many times as long.
        inside.sort_unstable_by(|a, b| a.as_os_str().cmp(b.as_os_str()));
        found.extend(inside.into_iter().map(|path| charts.candidate(path, false)));
        broken.extend(wrong);
    }
    // Below one path no file is met twice.
    if paths.len() > 1 {
        let mut met = HashSet::new();
        // What is not there is told later.
        let real = |path: &Path| fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        found.retain(|one| met.insert(real(&one.path)));
    }
    found
}

/// The files below a folder that are worth a look.
fn walk(folder: &Path) -> (Vec<PathBuf>, Vec<Broken>) {
    let found = Mutex::new((Vec::new(), Vec::new()));
    let mut walk = ignore::WalkBuilder::new(folder);
    walk.require_git(false).threads(workers()).build_parallel().run(|| {
        Box::new(|entry| {
            let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
            match entry {
                Ok(entry) => {
                    let is_folder = entry.file_type().is_some_and(|kind| kind.is_dir());
                    if is_folder && entry.path().join(".ignore").exists() {
                        let file = crate::files::named(entry.path().join(".ignore"));
                        tracing::warn!("{file} leaves files out: what it names is not looked at");
                    }
                    let is_file = entry.file_type().is_some_and(|kind| kind.is_file());
                    if is_file && entry.file_name().to_str().is_some_and(File::is_candidate) {
                        found.0.push(entry.into_path());
                    }
                }
                Err(error) => {
                    found.1.push(Broken { file: shown(folder), cause: error.to_string() });
                }
            }
            ignore::WalkState::Continue
        })
    });
    found.into_inner().unwrap_or_else(PoisonError::into_inner)
}

fn workers() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// The charts of the folders that were met.
#[derive(Default)]
struct Charts {
    known: HashMap<PathBuf, Option<Chart>>,
    /// The folder that was asked for last: whether it holds templates, and its chart's version.
    last: Option<(PathBuf, bool, Option<Arc<str>>)>,
}

/// A chart, as far as it matters here.
#[derive(Clone)]
struct Chart {
    /// The version of what it installs. None: it does not say.
    app_version: Option<Arc<str>>,
}

impl Charts {
    /// The chart in a folder. None: it holds none.
    fn of(&mut self, folder: &Path) -> Option<Chart> {
        let read = || {
            let bytes = read_regular(&folder.join("Chart.yaml"), CHART_LIMIT).ok()?;
            let text = String::from_utf8(bytes).ok()?;
            Some(Chart { app_version: app_version(&text).map(Arc::from) })
        };
        self.known.entry(folder.to_owned()).or_insert_with(read).clone()
    }

    fn candidate(&mut self, path: PathBuf, named: bool) -> Candidate {
        let folder = path.parent().unwrap_or(Path::new(""));
        // Files of one folder come one after the other.
        if self.last.as_ref().is_none_or(|(known, ..)| known != folder) {
            // `templates` and what lies in it, beside a chart.
            let folder = folder.to_owned();
            let mut template = false;
            for above in folder.ancestors().take(4) {
                if above.file_name().is_some_and(|name| name == "templates") {
                    template |= self.of(above.parent().unwrap_or(Path::new(""))).is_some();
                }
            }
            let chart = self.of(&folder).and_then(|chart| chart.app_version);
            self.last = Some((folder, template, chart));
        }
        let (template, chart) = match &self.last {
            Some((_, template, chart)) => (*template, chart.clone()),
            None => (false, None),
        };
        Candidate { path, named, chart, template }
    }
}

impl Candidate {
    fn work<T>(
        &self,
        custom: &[CustomResource],
        here: &Path,
        work: &impl Fn(&Deployment, &Scan<'_>) -> Result<T, String>,
    ) -> Result<Option<T>, String> {
        let text = read(&self.path)?;
        let name = self.path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let file = File {
            name,
            template: self.template,
            app_version: self.chart.as_deref(),
            custom,
            ..File::default()
        };
        let deployment =
            Deployment { path: self.path.clone(), shown: shown_from(&self.path, here), text };
        match scan(&deployment.text, &file) {
            Ok(scan) => work(&deployment, &scan).map(Some),
            // A JSON file of a folder need not be a deployment at all.
            Err(_) if !self.named && name.to_ascii_lowercase().ends_with(".json") => Ok(None),
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
        if bytes.starts_with(&[0xff, 0xfe]) || bytes.starts_with(&[0xfe, 0xff]) {
            return Err("it is written in UTF-16, and only UTF-8 is read; convert it".into());
        }
        return String::from_utf8(bytes).map_err(|error| {
            format!("it is no UTF-8 text (at byte {})", error.utf8_error().valid_up_to())
        });
    }
    Err("it changes while it is read; try again when nobody writes it".into())
}
