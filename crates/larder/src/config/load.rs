//! Finding and reading the configuration's files.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use larder_core::nearest::nearest;
use larder_core::pattern::Pattern;
use larder_core::policy::Classes;
use toml::Spanned;

use super::access;
use super::deployments;
use super::fault;
use super::fingerprint::fingerprint;
use super::model::{Config, ConfigFile, Larder};
use super::owned::foreign;
use super::parcel::ParcelConfig;
use super::shelf::CachingConfig;
use super::source::ConfigSource;
use super::trust::TrustConfig;
use super::upstream::{UpstreamConfig, UpstreamForm};
use super::values::Destination;
use super::{keep, trust};
use crate::failure::Failure;

/// The file that is read when none is named.
const NAME: &str = "larder.toml";
/// The largest configuration file that is read, in bytes.
const LIMIT: u64 = 8 * 1024 * 1024;

/// Finds `larder.toml` in this folder or the nearest parent that has one.
pub fn find(from: &Path) -> Result<PathBuf, Failure> {
    let found = from.ancestors().map(|folder| folder.join(NAME)).find(|path| path.is_file());
    found.ok_or_else(|| {
        Failure::usage(
            "cannot find the configuration",
            format!(
                "there is no {NAME} in {} or a folder above it",
                larder_transfer::files::named(from)
            ),
            "`larder init` writes one; `--config FILE` names one elsewhere",
        )
    })
}

/// How a configuration came to be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Provenance {
    /// It was named on the command line: all that it includes is meant, and the secrets that it names.
    Named,
    /// It was found here or in a folder above.
    Found,
}

/// Reads the configuration and all that it includes.
pub fn load(path: &Path, provenance: Provenance) -> Result<Config, Failure> {
    let mut config = load_all(path)?;
    config.provenance = provenance;
    if provenance == Provenance::Found {
        config.foreign =
            config.sources.iter().filter(|path| path.is_file()).find_map(|path| foreign(path));
    }
    Ok(config)
}

fn load_all(path: &Path) -> Result<Config, Failure> {
    let mut sources = vec![read(path)?];
    let includes = std::mem::take(&mut sources[0].file.include);
    let mut folders = Vec::new();
    for include in &includes {
        let base = path.parent().unwrap_or(Path::new("."));
        let folder = include.get_ref().rsplit_once('/').map_or(".", |(folder, _)| folder);
        folders.push(base.join(folder));
        for included in expand(&sources[0], include)? {
            sources.push(read(&included)?);
        }
    }
    merge(sources, folders)
}

fn read(path: &Path) -> Result<ConfigSource, Failure> {
    let what = || format!("cannot read {}", larder_transfer::files::named(path));
    let size = fs::metadata(path).map_err(|error| Failure::io(what(), &error))?.len();
    if size > LIMIT {
        return Err(Failure::usage(what(), format!("it has {size} bytes; 8 MiB are the most"), ""));
    }
    let text = fs::read_to_string(path).map_err(|error| Failure::io(what(), &error))?;
    if let Some(failure) = fault::list_for_table(path, &text) {
        return Err(failure);
    }
    let file = toml::from_str(&text).map_err(|error| fault::toml(path, &text, &error))?;
    let shown = larder_transfer::files::shown(path).into();
    Ok(ConfigSource { path: path.to_owned(), shown, text, file })
}

/// The files that an `include` pattern names, in the order of their names.
fn expand(source: &ConfigSource, include: &Spanned<String>) -> Result<Vec<PathBuf>, Failure> {
    let pattern = include.get_ref();
    let wrong = |message: &str, remedy: &str| source.fault(include, message, remedy);
    let base = source.path.parent().unwrap_or(Path::new("."));
    let (folder, name) = pattern.rsplit_once('/').unwrap_or((".", pattern));
    if folder.contains(['*', '?', '[']) || Path::new(pattern).is_absolute() {
        return Err(wrong(
            "an include names files in one folder, from this file's",
            "write it as \"intake/*.toml\"",
        ));
    }
    let matcher: Pattern = name.parse().map_err(|error| wrong(&format!("{error}"), ""))?;
    let folder = base.join(folder);
    let entries = fs::read_dir(&folder).map_err(|error| {
        wrong(
            &format!(
                "the folder {} cannot be read: {error}",
                larder_transfer::files::named(&folder)
            ),
            "",
        )
    })?;
    let mut found: Vec<PathBuf> = entries
        .flatten()
        .filter(|entry| entry.file_name().to_str().is_some_and(|name| matcher.matches(name)))
        .map(|entry| entry.path())
        .filter(|path| path.is_file() && *path != source.path)
        .collect();
    found.sort();
    if found.is_empty() && !name.contains(['*', '?', '[']) {
        return Err(wrong(
            &format!("there is no file {}", folder.join(name).display()),
            "check the path",
        ));
    }
    Ok(found)
}

/// Refuses names that stand twice, and those that cannot be names of shelves.
fn check_names(sources: &[ConfigSource]) -> Result<(), Failure> {
    check_twice(sources, "upstream", |file| {
        file.upstream.iter().map(|u| (&u.name, u.name.get_ref().clone())).collect()
    })?;
    check_twice(sources, "upstream's host", |file| {
        let host = |u: &UpstreamConfig| match &u.path {
            None => u.host.to_string(),
            Some(path) => format!("{}/{path}", u.host),
        };
        file.upstream.iter().map(|u| (&u.name, host(u))).collect()
    })?;
    check_twice(sources, "shelf", |file| {
        file.shelf.iter().map(|s| (&s.name, s.name.get_ref().to_string())).collect()
    })?;
    check_twice(sources, "image of an intake entry", |file| {
        file.intake.iter().map(|i| (&i.image, i.image.get_ref().to_string())).collect()
    })?;
    check_twice(sources, "target of an intake entry", |file| {
        file.intake.iter().map(|i| (&i.to, i.to.get_ref().to_string())).collect()
    })?;
    check_twice(sources, "receiver of events", |file| {
        file.notify.iter().map(|n| (&n.name, n.name().to_owned())).collect()
    })?;
    for source in sources {
        source.file.notify.iter().try_for_each(|one| one.check(source))?;
        if let Some(entry) =
            source.file.intake.iter().find(|entry| entry.to.get_ref().is_on_no_shelf())
        {
            let name = entry.to.get_ref();
            return Err(source.fault(
                &entry.to,
                "`to` names a shelf and a repository on it",
                &format!("write it as \"vendor/{name}\""),
            ));
        }
        if let Some(shelf) =
            source.file.shelf.iter().find(|shelf| !shelf.name.get_ref().is_single())
        {
            return Err(source.fault(&shelf.name, "a shelf's name has no slash in it", ""));
        }
    }
    Ok(())
}

/// Tables that stand once, in the first file.
#[derive(Default)]
struct Only {
    larder: Option<Larder>,
    parcel: Option<ParcelConfig>,
    trust: Option<TrustConfig>,
}

impl Only {
    /// Takes those of a file.
    ///
    /// # Errors
    /// It is not the first, and has one of them, or includes others.
    fn take(&mut self, first: bool, source: &mut ConfigSource) -> Result<(), Failure> {
        let wrong =
            |at: usize, message: &str| Err(fault::at(&source.path, &source.text, at, message, ""));
        let (larder, parcel) = (source.file.larder.take(), source.file.parcel.take());
        let trust = source.file.trust.take();
        if let Some(include) = source.file.include.first() {
            return wrong(include.span().start, "an included file includes no others");
        }
        if first {
            self.larder = larder.map(Spanned::into_inner);
            self.parcel = parcel.map(Spanned::into_inner);
            self.trust = trust.map(Spanned::into_inner);
            return Ok(());
        }
        let found = [
            ("larder", larder.map(|found| found.span())),
            ("parcel", parcel.map(|found| found.span())),
            ("trust", trust.map(|found| found.span())),
        ];
        for (name, span) in found {
            if let Some(span) = span {
                return wrong(span.start, &format!("[{name}] stands in the first file only"));
            }
        }
        Ok(())
    }
}

fn merge(mut sources: Vec<ConfigSource>, folders: Vec<PathBuf>) -> Result<Config, Failure> {
    check_names(&sources)?;
    check_caches(&sources)?;
    let fingerprint = fingerprint(&sources);
    let all = || sources.iter().flat_map(|source| &source.file.class);
    let classes = Classes::new(all().map(|class| (class.name.as_str(), class.r#match.as_slice())));
    let classes = classes.map_err(|error| {
        Failure::usage(
            format!("{} cannot be used", larder_transfer::files::named(&sources[0].path)),
            error,
            "",
        )
    })?;
    let grants = access::grants(&sources)?;
    let signers = trust::signers(&sources)?;
    let names: Vec<&str> = signers.iter().map(|one| one.name.get_ref().as_str()).collect();
    let rules = access::rules(&sources, &grants, &classes, &names)?;
    let asks_for_signature = access::asks_for_signature(&sources);
    let resources = deployments::resources(&sources);
    let keeps = keep::keeps(&sources)?;
    let own = sources[0].file.larder.as_ref().map(|larder| &larder.get_ref().url.host);
    let exceptions = match own {
        Some(own) => deployments::routes(&sources, own)?,
        None => Vec::new(),
    };
    let path = sources[0].path.clone();
    let mut files: Vec<PathBuf> =
        sources.iter().map(|source| source.path.clone()).chain(folders).collect();
    // What is locked is part of what holds at the doors of clusters.
    files.push(path.parent().unwrap_or(Path::new(".")).join("larder.lock"));
    let mut only = Only::default();
    for (number, source) in sources.iter_mut().enumerate() {
        only.take(number == 0, source)?;
    }
    let (mut upstreams, mut shelves, mut intake, mut clusters) = (vec![], vec![], vec![], vec![]);
    let (mut accounts, mut notify) = (Vec::new(), Vec::new());
    for ConfigSource { file, .. } in sources {
        upstreams.extend(file.upstream);
        shelves.extend(file.shelf);
        intake.extend(file.intake);
        clusters.extend(file.cluster);
        accounts.extend(file.account);
        notify.extend(file.notify);
    }
    let larder = only.larder.ok_or_else(|| {
        Failure::usage(
            format!("{} cannot be used", larder_transfer::files::named(&path)),
            "it has no [larder] table",
            "`larder init` writes a commented configuration to start from",
        )
    })?;
    let (parcel, believed) = (only.parcel.unwrap_or_default(), only.trust.unwrap_or_default());
    let folder = path.parent().unwrap_or(Path::new("."));
    files.extend(trust::named_files(folder, &signers, &believed));
    Ok(Config {
        path,
        larder,
        upstreams,
        shelves,
        intake,
        classes,
        clusters,
        accounts,
        grants,
        rules,
        fingerprint,
        sources: files,
        parcel,
        keeps,
        signers,
        trust: believed,
        notify,
        exceptions,
        resources,
        asks_for_signature,
        provenance: Provenance::Named,
        new_store: false,
        foreign: None,
    })
}

/// Refuses shelves that cache what is no upstream, and intake entries that bring to one that caches.
fn check_caches(sources: &[ConfigSource]) -> Result<(), Failure> {
    let upstreams: Vec<&str> = sources
        .iter()
        .flat_map(|source| source.file.upstream.iter().map(|one| one.name.get_ref().as_str()))
        .collect();
    let shelves = || sources.iter().flat_map(|source| source.file.shelf.iter());
    for source in sources {
        let caching = source.file.shelf.iter().filter_map(|shelf| shelf.caching.as_ref());
        for CachingConfig { upstream, .. } in caching {
            let is_index = |one: &UpstreamConfig| one.form == UpstreamForm::ChartIndex;
            let named = |one: &&UpstreamConfig| one.name.get_ref() == upstream.get_ref();
            let mut all = sources.iter().flat_map(|source| &source.file.upstream);
            if all.find(named).is_some_and(is_index) {
                let message =
                    format!("`{}` is an index of charts, which is not cached", upstream.get_ref());
                let remedy =
                    "bring its charts in: `larder intake add HOST/CHART:VERSION --to SHELF/NAME`";
                return Err(source.fault(upstream, &message, remedy));
            }
            if !upstreams.contains(&upstream.get_ref().as_str()) {
                let message = format!("no [[upstream]] has the name `{}`", upstream.get_ref());
                let remedy = nearest(upstream.get_ref(), upstreams.iter().copied()).map_or_else(
                    || "declare it with [[upstream]]".to_owned(),
                    |near| format!("write \"{near}\""),
                );
                return Err(source.fault(upstream, &message, &remedy));
            }
        }
        for intake in &source.file.intake {
            let Destination { host, repository } = intake.to.get_ref();
            let shelf = repository.first_component();
            let caches =
                shelves().any(|one| one.caching.is_some() && one.name.get_ref().as_str() == shelf);
            if host.is_none() && caches {
                let message = format!("the shelf `{shelf}` caches; nothing is brought to it");
                return Err(source.fault(&intake.to, &message, "name a shelf that stores"));
            }
        }
    }
    Ok(())
}

/// Refuses names that must be there once and are there twice, and says where.
fn check_twice<'s, T: 's>(
    sources: &'s [ConfigSource],
    what: &str,
    names: impl Fn(&'s ConfigFile) -> Vec<(&'s Spanned<T>, String)>,
) -> Result<(), Failure> {
    let mut seen: HashMap<String, &Path> = HashMap::new();
    for source in sources {
        for (place, name) in names(&source.file) {
            if let Some(first) = seen.insert(name.clone(), &source.path) {
                let message = format!(
                    "the {what} `{name}` is there twice; first in {}",
                    larder_transfer::files::named(first)
                );
                return Err(source.fault(place, &message, "leave one of them out"));
            }
        }
    }
    Ok(())
}
