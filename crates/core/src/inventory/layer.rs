//! Reading a layer: one stream, once, into what is remembered of it.

use std::cell::Cell;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::{self, BufReader, Read};
use std::rc::Rc;

use super::archive::{EntryKind, TarEntries, TarEntry, TarFault};
use super::content::{ContentPrint, path_print};
use super::dpkg::{dpkg_list, dpkg_sums};
use super::facts::{DatabaseFacts, FoundPackage, LayerFacts, PathPrints, Unread};
use super::programs::ProgramReader;
use super::{
    Inflated, InstalledPackage, LARGEST, OsRelease, OwnedFiles, PackageList, apk_packages,
    dpkg_package, dpkg_packages, java, npm, python, read_release, rpm_packages, ruby,
};
use crate::shown::shown;

/// The bounds of one layer. What lies behind one is told as not read.
#[derive(Debug, Clone, Copy)]
pub struct LayerLimits {
    /// Bytes, inflated.
    pub bytes: u64,
    pub entries: u64,
    /// Packages that files name.
    pub packages: usize,
    /// What a small file may have.
    pub small: u64,
    /// What a database of RPM, and an archive of Java, may have: each is held whole while it is read.
    pub large: u64,
}

impl Default for LayerLimits {
    fn default() -> Self {
        Self {
            bytes: 64 * 1024 * 1024 * 1024,
            entries: 10_000_000,
            packages: 1_000_000,
            small: 1024 * 1024,
            large: 256 * 1024 * 1024,
        }
    }
}

/// The most that is told of what was not read.
const TOLD: usize = 1000;
/// The longest path that is kept, in bytes.
const LONGEST: usize = 4096;
/// How much is inflated at once.
const PIECE: usize = 256 * 1024;

/// What a file is read for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wanted {
    DpkgStatus,
    /// A database of one package.
    DpkgOne,
    DpkgList,
    DpkgSums,
    Apk,
    Rpm,
    RpmLog,
    Release,
    Python,
    Npm,
    Gem,
    Archive,
}

impl Wanted {
    fn of(path: &str) -> Option<Self> {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let ends = |ending: &str| name.len() > ending.len() && name.ends_with(ending);
        match (folder, name) {
            ("var/lib/dpkg", "status") => Some(Self::DpkgStatus),
            ("var/lib/dpkg/status.d", _) if ends(".md5sums") => Some(Self::DpkgSums),
            ("var/lib/dpkg/status.d", _) => Some(Self::DpkgOne),
            ("var/lib/dpkg/info", _) if ends(".list") => Some(Self::DpkgList),
            ("var/lib/dpkg/info", _) if ends(".md5sums") => Some(Self::DpkgSums),
            ("lib/apk/db" | "usr/lib/apk/db", "installed") => Some(Self::Apk),
            (
                "var/lib/rpm" | "usr/lib/sysimage/rpm",
                "rpmdb.sqlite" | "Packages.db" | "Packages",
            ) => Some(Self::Rpm),
            ("var/lib/rpm" | "usr/lib/sysimage/rpm", "rpmdb.sqlite-wal") => Some(Self::RpmLog),
            ("etc" | "usr/lib", "os-release") => Some(Self::Release),
            _ if python::is_metadata(path) => Some(Self::Python),
            _ if npm::is_package(path) => Some(Self::Npm),
            _ if ruby::is_specification(path) => Some(Self::Gem),
            _ if java::is_archive(path) => Some(Self::Archive),
            _ => None,
        }
    }

    /// The most bytes of it that are read.
    fn limit(self, limits: &LayerLimits) -> u64 {
        match self {
            Self::DpkgStatus | Self::Apk => LARGEST as u64,
            // Lists of packages with very many files.
            Self::DpkgList | Self::DpkgSums => limits.small.saturating_mul(16),
            Self::Rpm | Self::RpmLog | Self::Archive => limits.large,
            _ => limits.small,
        }
    }

    /// Whether packages of a system hang on it.
    fn is_database(self) -> bool {
        matches!(self, Self::DpkgStatus | Self::DpkgOne | Self::Apk | Self::Rpm | Self::RpmLog)
    }
}

/// A source that remembers whether it was the one that failed.
struct Watched<R> {
    source: R,
    failed: Rc<Cell<Option<io::Error>>>,
}

impl<R: Read> Read for Watched<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        self.source.read(to).map_err(|error| {
            let told = io::Error::new(error.kind(), "the layer's source failed");
            self.failed.set(Some(error));
            told
        })
    }
}

/// What was found so far.
#[derive(Default)]
struct Findings {
    whiteouts: Vec<String>,
    opaque: Vec<String>,
    names: HashSet<u64>,
    databases: BTreeMap<String, Vec<InstalledPackage>>,
    packages: BTreeMap<String, Vec<FoundPackage>>,
    links: BTreeMap<String, String>,
    owned: BTreeMap<String, OwnedFiles>,
    releases: BTreeMap<String, OsRelease>,
    unread: Vec<Unread>,
    /// Databases of RPM until their logs are known, by their paths.
    rpm: HashMap<String, Vec<u8>>,
    count: usize,
}

/// Reads a layer. What is wrong with it is told in its facts, with what was read until then; only where its source fails
/// is that an error, since another try may bring the rest. The source is read as far as its archive goes.
pub fn read_layer(source: impl Read, limits: &LayerLimits) -> io::Result<LayerFacts> {
    let failed = Rc::new(Cell::new(None));
    let watched = Watched { source, failed: Rc::clone(&failed) };
    let mut findings = Findings::default();
    let mut facts = LayerFacts::default();
    let read = match Inflated::new(watched) {
        Ok(inflated) => {
            let mut entries = TarEntries::new(BufReader::with_capacity(PIECE, inflated));
            let read = findings.read(&mut entries, limits, &mut facts.entries);
            facts.size_bytes = entries.read_bytes();
            read
        }
        Err(error) => Err(error.into()),
    };
    if let Some(error) = failed.take() {
        return Err(error);
    }
    if let Err(fault) = read {
        let why = match fault {
            TarFault::Io(error) if error.kind() == io::ErrorKind::UnexpectedEof => {
                "it ends in the middle".to_owned()
            }
            fault => shown(&fault.to_string()).into_owned(),
        };
        let why = format!("only its first {} entries were read: {why}", facts.entries);
        findings.unread.insert(0, Unread { path: String::new(), why });
    }
    findings.finish_rpm();
    facts.whiteouts = findings.whiteouts;
    facts.opaque = findings.opaque;
    facts.names = PathPrints::new(findings.names.into_iter().collect());
    let database = |(path, packages)| DatabaseFacts { path, packages };
    facts.databases = findings.databases.into_iter().map(database).collect();
    facts.packages = findings.packages.into_values().flatten().collect();
    facts.links = findings.links.into_iter().collect();
    facts.owned = findings.owned.into_iter().filter(|(_, owned)| !owned.is_empty()).collect();
    facts.releases = findings.releases.into_iter().collect();
    facts.unread = findings.unread;
    Ok(facts)
}

impl Findings {
    fn tell(&mut self, path: &str, why: impl Into<String>) {
        if self.unread.len() < TOLD {
            self.unread.push(Unread { path: shown(path).into_owned(), why: why.into() });
        } else if self.unread.len() == TOLD {
            let why = "and more, of which no list is kept".to_owned();
            self.unread.push(Unread { path: String::new(), why });
        }
    }

    fn read<R: io::BufRead>(
        &mut self,
        entries: &mut TarEntries<R>,
        limits: &LayerLimits,
        count: &mut u64,
    ) -> Result<(), TarFault> {
        while let Some(entry) = entries.next()? {
            *count += 1;
            if *count > limits.entries || entries.read_bytes() > limits.bytes {
                *count -= 1;
                return Err(TarFault::Io(io::Error::other("it has more than is read")));
            }
            if entry.path.len() > LONGEST {
                self.tell("", "an entry's name is longer than any that is read");
                continue;
            }
            self.entry(&entry, entries, limits)?;
        }
        Ok(())
    }

    fn entry<R: io::BufRead>(
        &mut self,
        entry: &TarEntry,
        entries: &mut TarEntries<R>,
        limits: &LayerLimits,
    ) -> Result<(), TarFault> {
        let path = String::from_utf8_lossy(&entry.path).into_owned();
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
        if let Some(hidden) = name.strip_prefix(".wh.") {
            let whole = |name: &str| match folder {
                "" => name.to_owned(),
                folder => format!("{folder}/{name}"),
            };
            match hidden {
                "" => self.tell(&path, "a whiteout that names nothing"),
                ".wh..opq" => self.opaque.push(folder.to_owned()),
                hidden if hidden.starts_with(".wh.") => self.name(entry),
                hidden => self.whiteouts.push(whole(hidden)),
            }
            return Ok(());
        }
        if entry.kind == EntryKind::Directory {
            // Of one name in one archive, the last entry stands.
            if self.names.remove(&path_print(&entry.path)) {
                self.forget(&path);
            }
            return Ok(());
        }
        if entry.kind == EntryKind::NullDevice {
            self.whiteouts.push(path);
            return Ok(());
        }
        if path.is_empty() {
            return Ok(());
        }
        self.name(entry);
        let wanted = Wanted::of(&path);
        match (entry.kind, wanted) {
            (EntryKind::File, Some(wanted)) if entry.size > wanted.limit(limits) => {
                let (size, limit) = (entry.size, wanted.limit(limits));
                self.tell(&path, format!("it has {size} bytes, and {limit} are read"));
                // What was there is gone all the same.
                if wanted.is_database() {
                    self.databases.insert(path, Vec::new());
                }
            }
            (EntryKind::File, Some(wanted)) => {
                let content = entries.content()?;
                self.file(&path, wanted, content, limits);
            }
            (EntryKind::File, None) if entry.size >= 64 => self.program(&path, entries, limits)?,
            (EntryKind::HardLink, wanted) => {
                let target = String::from_utf8_lossy(&entry.target).into_owned();
                if wanted.is_some() || self.packages.contains_key(&target) {
                    self.links.insert(path, target);
                }
            }
            (EntryKind::Sparse, Some(_)) => self.tell(&path, "it is written with holes in it"),
            (EntryKind::Symlink, Some(wanted)) if wanted.is_database() => {
                self.tell(&path, "it is a link; what it leads to is not looked for");
            }
            _ => {}
        }
        Ok(())
    }

    /// Takes up the name of what is no directory. An earlier entry of that name in the same archive is no more.
    fn name(&mut self, entry: &TarEntry) {
        if !self.names.insert(path_print(&entry.path)) {
            self.forget(&String::from_utf8_lossy(&entry.path));
        }
    }

    fn forget(&mut self, path: &str) {
        self.count -= self.packages.remove(path).map_or(0, |gone| gone.len());
        self.databases.remove(path);
        self.links.remove(path);
        self.owned.remove(path);
        self.releases.remove(path);
        self.rpm.remove(path);
    }

    fn file(&mut self, path: &str, wanted: Wanted, content: Vec<u8>, limits: &LayerLimits) {
        let stem = |ending: &str| {
            let name = path.rsplit('/').next().unwrap_or(path);
            let name = name.strip_suffix(ending).unwrap_or(name);
            // Where several architectures may be installed, the list says of which it is.
            name.split(':').next().unwrap_or(name).to_owned()
        };
        match wanted {
            Wanted::DpkgStatus => self.database(path, dpkg_packages(&content)),
            Wanted::Apk => self.database(path, apk_packages(&content)),
            Wanted::DpkgOne => {
                if let Some(package) = dpkg_package(&content) {
                    self.found(path, vec![package], None, limits);
                }
            }
            Wanted::DpkgList | Wanted::DpkgSums => {
                let mut owned = OwnedFiles::default();
                let all = match wanted {
                    Wanted::DpkgList => dpkg_list(&stem(".list"), &content, &mut owned),
                    _ => dpkg_sums(&stem(".md5sums"), &content, &mut owned),
                };
                if !all {
                    self.tell(path, "it lists more files than are kept");
                }
                self.owned.insert(path.to_owned(), owned);
            }
            Wanted::Rpm | Wanted::RpmLog => {
                // They are held until all are there: together they are no larger than one may be.
                let held: usize = self.rpm.values().map(Vec::len).sum();
                if (held + content.len()) as u64 > limits.large {
                    self.tell(path, "with the others like it, it is larger than what is read");
                    self.databases.insert(path.to_owned(), Vec::new());
                } else {
                    self.rpm.insert(path.to_owned(), content);
                }
            }
            Wanted::Release => match read_release(&content) {
                Some(release) => drop(self.releases.insert(path.to_owned(), release)),
                None => self.tell(path, "it names no system"),
            },
            Wanted::Python => self.one(path, python::metadata(&content), &content, limits),
            Wanted::Npm => self.one(path, npm::package(&content), &content, limits),
            Wanted::Gem => self.one(path, ruby::gem(path, &content), &content, limits),
            Wanted::Archive => {
                let (artifacts, unread) = java::artifacts(path, &content);
                let print = Some(ContentPrint::of(&content));
                for (place, package) in artifacts {
                    self.found(path, vec![package], print, limits);
                    if let Some(found) = self.packages.get_mut(path).and_then(|all| all.last_mut())
                    {
                        found.path = place;
                    }
                }
                for Unread { path, why } in unread {
                    self.tell(&path, why);
                }
            }
        }
    }

    fn one(
        &mut self,
        path: &str,
        package: Option<InstalledPackage>,
        content: &[u8],
        limits: &LayerLimits,
    ) {
        if let Some(package) = package {
            self.found(path, vec![package], Some(ContentPrint::of(content)), limits);
        }
    }

    fn database(&mut self, path: &str, list: PackageList) {
        if let Some(left_out) = list.left_out {
            self.tell(path, left_out);
        }
        self.databases.insert(path.to_owned(), list.packages);
        self.owned.insert(path.to_owned(), list.owned);
    }

    fn found(
        &mut self,
        path: &str,
        packages: Vec<InstalledPackage>,
        content: Option<ContentPrint>,
        limits: &LayerLimits,
    ) {
        if self.count + packages.len() > limits.packages {
            return self.tell(path, format!("there are more than {} packages", limits.packages));
        }
        self.count += packages.len();
        let inside = python::carrier(path).map(str::to_owned);
        let found = packages.into_iter().map(|package| FoundPackage {
            path: path.to_owned(),
            package,
            inside: inside.clone(),
            content,
        });
        self.packages.entry(path.to_owned()).or_default().extend(found);
    }

    /// Reads a file for what a program says of itself, if it is one.
    fn program<R: io::BufRead>(
        &mut self,
        path: &str,
        entries: &mut TarEntries<R>,
        limits: &LayerLimits,
    ) -> Result<(), TarFault> {
        let size = entries.rest();
        let mut first = [0; 4];
        let mut have = 0;
        while have < first.len() {
            let piece = entries.piece()?;
            let some = piece.len().min(first.len() - have);
            first[have..have + some].copy_from_slice(&piece[..some]);
            have += some;
            entries.consume(some);
        }
        if !ProgramReader::is_program(&first) {
            return Ok(());
        }
        let mut program = ProgramReader::new(size);
        program.feed(&first);
        loop {
            let piece = entries.piece()?;
            if piece.is_empty() {
                break;
            }
            program.feed(piece);
            let length = piece.len();
            entries.consume(length);
        }
        let (go, rust) = program.finish();
        if let Some(go) = go {
            if go.has_hidden_list {
                self.tell(path, "a program of Go, whose list of modules lies where it is not read");
            }
            self.found(path, go.packages, None, limits);
        }
        if let Some(crates) = rust {
            self.found(path, crates, None, limits);
        }
        Ok(())
    }

    /// Reads the databases of RPM, each with the log beside it.
    fn finish_rpm(&mut self) {
        let mut files = std::mem::take(&mut self.rpm);
        let mut paths: Vec<String> = files.keys().cloned().collect();
        paths.sort();
        for path in paths {
            if let Some(of) = path.strip_suffix("-wal") {
                let is_empty = files.get(&path).is_none_or(Vec::is_empty);
                if !is_empty && !self.databases.contains_key(of) {
                    self.tell(&path, "changes to a database that another layer has");
                }
                continue;
            }
            let log = files.get(&format!("{path}-wal")).map(Vec::as_slice).unwrap_or_default();
            let Some(bytes) = files.get(&path) else { continue };
            let list = rpm_packages(bytes, log);
            files.remove(&path);
            self.database(&path, list);
        }
    }
}
