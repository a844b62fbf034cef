//! Files of ours and the operator's, replaced so that nobody ever sees half of one.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File, Metadata, OpenOptions, Permissions};
use std::io::{self, Read as _, Write as _};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _, fchown};
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};

use rustix::fs::OFlags;
use rustix::io::Errno;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use tempfile::NamedTempFile;

/// The longest file of authorities that are trusted (PEM), in bytes.
pub const CA_LIMIT: usize = 1024 * 1024;

/// Reads a small file of somebody else's, and refuses one that is larger than it can be.
pub fn read_bounded(path: &Path, limit: usize) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    File::open(path)?.take(limit as u64 + 1).read_to_end(&mut bytes)?;
    if bytes.len() > limit {
        return Err(io::Error::other(format!("it is larger than {limit} bytes")));
    }
    Ok(bytes)
}

/// Opens a file to read, and nothing that only looks like one: opening a pipe would wait for its writer.
pub fn open_regular(path: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    let flags = OFlags::NONBLOCK.bits().cast_signed();
    let file = options.read(true).custom_flags(flags).open(path)?;
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(io::Error::other("it is no regular file")),
    }
}

/// The same for a file of which so many bytes are read at most.
pub fn read_regular(path: &Path, limit: usize) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    open_regular(path)?.take(limit as u64 + 1).read_to_end(&mut bytes)?;
    if bytes.len() > limit {
        return Err(io::Error::other(format!("it is larger than {limit} bytes")));
    }
    Ok(bytes)
}

/// A path as the operator would write it from here.
pub fn shown(path: &Path) -> String {
    shown_from(path, &std::env::current_dir().unwrap_or_default())
}

/// A path as it is named in a sentence: on one line, whatever it is made of.
pub fn named(path: impl AsRef<Path>) -> String {
    larder_core::shown::shown(&path.as_ref().display().to_string()).into_owned()
}

/// The same from a folder.
pub fn shown_from(path: &Path, here: &Path) -> String {
    let path = path.strip_prefix(here).unwrap_or(path);
    named(path.strip_prefix("./").unwrap_or(path))
}

/// Puts new content in the place of a file: written beside it, flushed, then renamed. Mode is kept;
/// a symbolic link stays one, and the file that it leads to is replaced.
pub fn replace(path: &Path, content: &[u8]) -> io::Result<()> {
    let path = match fs::canonicalize(path) {
        Ok(real) => real,
        Err(error) if error.kind() == io::ErrorKind::NotFound => path.to_owned(),
        Err(error) => return Err(error),
    };
    let folder = folder_of(&path);
    let mut new = new_beside(&path)?;
    let old = at(&path)?;
    write_alike(new.as_file_mut(), old.as_ref(), content)?;
    new.as_file().sync_all()?;
    new.persist(&path).map_err(|failed| failed.error)?;
    File::open(folder)?.sync_all()
}

/// An empty file of ours beside another, under a name that nobody else has. It is gone again when it is not kept.
fn new_beside(path: &Path) -> io::Result<NamedTempFile> {
    const LONGEST: usize = 200;
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let mut end = LONGEST.min(name.len());
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    let prefix = format!(".{}.", &name[..end]);
    tempfile::Builder::new()
        .prefix(&prefix)
        .suffix(".new")
        .rand_bytes(10)
        .tempfile_in(folder_of(path))
}

/// The same for a file that its owner alone may read, whatever its mode was.
pub fn write_secret(path: &Path, content: &[u8]) -> io::Result<()> {
    let folder = folder_of(path);
    // Made with mode 0600 from the beginning.
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(content)?;
    file.as_file().sync_all()?;
    file.persist(path)?;
    File::open(folder)?.sync_all()
}

/// Writes the new content, with the owner and the mode of the file whose place it takes, which come first:
/// nobody reads the content who may not. None: there is no such file.
fn write_alike(file: &mut File, old: Option<&Metadata>, content: &[u8]) -> io::Result<()> {
    let mut ours = file.metadata()?;
    if let Some(old) = old.filter(|old| (old.uid(), old.gid()) != (ours.uid(), ours.gid())) {
        fchown(&*file, Some(old.uid()), Some(old.gid())).map_err(|error| {
            io::Error::new(error.kind(), format!("its owner cannot be kept: {error}"))
        })?;
        // A change of owner takes some bits of the mode away.
        ours = file.metadata()?;
    }
    let wanted = old.map_or(0o644, |old| old.mode() & 0o7777);
    if ours.mode() & 0o7777 != wanted {
        file.set_permissions(Permissions::from_mode(wanted))?;
    }
    file.write_all(content)
}

/// The folder in which a file lies.
fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// What is at a path. None: nothing.
fn at(path: &Path) -> io::Result<Option<Metadata>> {
    match fs::metadata(path) {
        Ok(metadata) => Ok(Some(metadata)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// Many files that are replaced together: each whole, as [`replace`] does it, with one flush for all
/// of them instead of two for each. Several threads may add to it at once.
#[derive(Default)]
pub struct Replacements {
    waiting: Mutex<WaitingReplacement>,
}

#[derive(Default)]
struct WaitingReplacement {
    pending: Vec<PendingFile>,
    folders: BTreeSet<PathBuf>,
    failed: Vec<(PathBuf, io::Error)>,
}

/// A file that is written beside the one whose place it takes.
struct PendingFile {
    named: PathBuf,
    path: PathBuf,
    device: u64,
    new: NamedTempFile,
}

/// The most files that are open at once.
const TOGETHER: usize = 2048;

/// Fewer than these are not worth a thread of their own.
const SIDE_BY_SIDE: usize = 64;

/// How many files may be open at once: half of what the process may have, which is asked for first.
fn together() -> usize {
    static MOST: LazyLock<usize> = LazyLock::new(|| {
        let mut limit = getrlimit(Resource::Nofile);
        let wanted = 2 * TOGETHER as u64;
        // None stands for no limit.
        if limit.current.is_some_and(|current| current < wanted) {
            let more = Some(limit.maximum.map_or(wanted, |most| most.min(wanted)));
            if setrlimit(Resource::Nofile, Rlimit { current: more, ..limit }).is_ok() {
                limit.current = more;
            }
        }
        let most = limit.current.and_then(|most| usize::try_from(most / 2).ok());
        most.map_or(TOGETHER, |most| most.clamp(1, TOGETHER))
    });
    *MOST
}

impl Replacements {
    fn waiting(&self) -> MutexGuard<'_, WaitingReplacement> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Writes new content beside a file. It takes the file's place with one of the next calls.
    pub fn add(&self, named: &Path, content: &[u8]) -> io::Result<()> {
        let mut old = fs::symlink_metadata(named)?;
        let mut path = named.to_owned();
        if old.is_symlink() {
            path = fs::canonicalize(named)?;
            old = fs::metadata(&path)?;
        }
        let mut new = new_beside(&path)?;
        write_alike(new.as_file_mut(), Some(&old), content)?;
        // What takes a file's place lies beside it, on the same file system.
        let device = old.dev();
        let full = {
            let mut waiting = self.waiting();
            let named = named.to_owned();
            waiting.pending.push(PendingFile { named, path, device, new });
            let full = waiting.pending.len() >= together();
            full.then(|| std::mem::take(&mut waiting.pending))
        };
        // The others go on while what there is goes to the disk.
        if let Some(full) = full {
            self.put(full);
        }
        Ok(())
    }

    /// Flushes what was written, and only then lets it take its places.
    fn put(&self, mut pending: Vec<PendingFile>) {
        // One flush of a file system does for all that was written to it before.
        let mut flushed = BTreeMap::new();
        for one in &pending {
            flushed.entry(one.device).or_insert_with(|| rustix::fs::syncfs(one.new.as_file()));
        }
        // Those of one folder go one after the other, and folders side by side.
        pending.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        let workers = std::thread::available_parallelism().map_or(1, usize::from);
        let each = pending.len().div_ceil(workers).max(SIDE_BY_SIDE);
        let place =
            |part: Vec<PendingFile>| part.into_iter().for_each(|one| self.place(one, &flushed));
        let mut parts = Vec::new();
        while !pending.is_empty() {
            parts.push(pending.split_off(pending.len().saturating_sub(each)));
        }
        std::thread::scope(|scope| {
            let mine = parts.pop();
            for part in parts {
                scope.spawn(move || place(part));
            }
            place(mine.unwrap_or_default());
        });
    }

    /// Has one take its place, if its file system is flushed.
    fn place(&self, one: PendingFile, flushed: &BTreeMap<u64, rustix::io::Result<()>>) {
        let flushed = flushed.get(&one.device).copied().unwrap_or(Err(Errno::IO));
        let done = flushed
            .map_err(io::Error::from)
            .and_then(|()| one.new.persist(&one.path).map_err(|failed| failed.error));
        match done {
            Ok(_) => {
                self.waiting().folders.insert(folder_of(&one.path).to_owned());
            }
            Err(error) => self.waiting().failed.push((one.named, error)),
        }
    }

    /// Puts the rest in place. Gives those that could not be replaced; they are as they were.
    pub fn finish(self) -> Vec<(PathBuf, io::Error)> {
        let rest = std::mem::take(&mut self.waiting().pending);
        self.put(rest);
        let WaitingReplacement { folders, mut failed, .. } =
            self.waiting.into_inner().unwrap_or_else(PoisonError::into_inner);
        for folder in &folders {
            if let Err(error) = File::open(folder).and_then(|folder| folder.sync_all()) {
                failed.push((folder.clone(), error));
            }
        }
        failed
    }
}

/// Opens a file of ours for writing, as it is, making it where it is missing.
///
/// # Errors
/// Also when a link lies there, or a file that has a second name: what that leads to is not ours.
pub fn open_own(path: &Path) -> io::Result<File> {
    let foreign = || {
        let name = path.display();
        io::Error::other(format!("{name} is in the way: it leads to another file; remove it"))
    };
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(false);
    let flags = OFlags::NOFOLLOW | OFlags::NONBLOCK;
    let special = || {
        let name = named(path);
        io::Error::other(format!("{name} is in the way: it is no regular file; remove it"))
    };
    let opened = options.custom_flags(flags.bits().cast_signed()).open(path);
    let file = opened.map_err(|error| match error.raw_os_error() {
        Some(code) if code == Errno::LOOP.raw_os_error() => foreign(),
        // A pipe that nobody reads.
        Some(code) if code == Errno::NXIO.raw_os_error() => special(),
        _ => error,
    })?;
    let metadata = file.metadata()?;
    match metadata.nlink() {
        _ if !metadata.is_file() => Err(special()),
        0 | 1 => Ok(file),
        _ => Err(foreign()),
    }
}

/// Opens an empty file beside the one that is to be written, always under the same name, so that
/// runs that are killed leave one such file at most. It is ours alone as long as it is open.
///
/// # Errors
/// [`io::ErrorKind::WouldBlock`] when somebody else writes it; see [`open_own`] too.
pub fn beside(path: &Path) -> io::Result<(File, PathBuf)> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".partial");
    let beside = path.with_file_name(name);
    loop {
        let file = open_own(&beside)?;
        file.try_lock()?;
        // While we waited it may have become the file itself: then ours is a new one.
        let ours = file.metadata()?;
        if fs::symlink_metadata(&beside).is_ok_and(|now| is_same(&now, &ours)) {
            // What was killed may have left something in it.
            if ours.len() > 0 {
                file.set_len(0)?;
            }
            return Ok((file, beside));
        }
    }
}

fn is_same(one: &Metadata, other: &Metadata) -> bool {
    (one.dev(), one.ino()) == (other.dev(), other.ino())
}

/// Arguments with `-` taken as the lines of stdin, blank ones and comments left out.
pub fn with_stdin(all: &[String]) -> std::io::Result<Vec<String>> {
    const LIMIT: u64 = 16 * 1024 * 1024;
    let mut given = Vec::new();
    for one in all {
        if one != "-" {
            given.push(one.clone());
            continue;
        }
        let mut text = String::new();
        std::io::Read::take(std::io::stdin(), LIMIT).read_to_string(&mut text)?;
        let lines = text.lines().map(str::trim);
        given.extend(
            lines.filter(|line| !line.is_empty() && !line.starts_with('#')).map(str::to_owned),
        );
    }
    Ok(given)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn a_file_is_replaced_whole_and_keeps_its_mode_and_its_links() {
        let folder = tempfile::tempdir().unwrap();
        let (file, link) = (folder.path().join("file"), folder.path().join("link"));
        replace(&file, b"one").unwrap();
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o644);
        fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).unwrap();
        symlink(&file, &link).unwrap();
        replace(&link, b"two").unwrap();
        assert_eq!(fs::read(&file).unwrap(), b"two");
        assert!(fs::symlink_metadata(&link).unwrap().is_symlink());
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing temporary is left");
        assert!(replace(&folder.path().join("no/file"), b"x").is_err());
    }

    #[test]
    fn many_files_are_replaced_together() {
        let folder = tempfile::tempdir().unwrap();
        let file = |n: usize| folder.path().join(format!("{n}"));
        let all = Replacements::default();
        for n in 0..together() + 3 {
            fs::write(file(n), b"old").unwrap();
            fs::set_permissions(file(n), fs::Permissions::from_mode(0o640)).unwrap();
            all.add(&file(n), b"new").unwrap();
        }
        assert_eq!(fs::read(file(together() + 2)).unwrap(), b"old", "not before the end");
        assert!(all.add(&folder.path().join("none"), b"x").is_err());
        fs::remove_dir_all(folder.path().join("none")).unwrap_err();
        assert!(all.finish().is_empty());
        for n in 0..together() + 3 {
            assert_eq!(fs::read(file(n)).unwrap(), b"new");
            assert_eq!(fs::metadata(file(n)).unwrap().permissions().mode() & 0o777, 0o640);
        }
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), TOGETHER + 3);
    }

    #[test]
    fn small_files_have_a_limit() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("file");
        fs::write(&file, b"12345").unwrap();
        assert_eq!(read_bounded(&file, 5).unwrap(), b"12345");
        assert!(read_bounded(&file, 4).is_err());
        assert!(read_bounded(Path::new("/dev/zero"), 1000).is_err(), "endless files end");
    }
}
