//! The documents in files that others publish: folders, archives, lists of lines; each read in turn and bounded.

use std::borrow::Cow;
use std::fs::{self, File};
use std::io::{self, BufRead as _, BufReader, Read};
use std::path::{Path, PathBuf};

use larder_core::advisory::{DocumentLine, DocumentLines, LARGEST_DOCUMENT};
use larder_core::digest::{Algorithm, Digest, Hasher};

/// The most documents of one import, and how deep folders are looked through.
const MOST: u64 = 10_000_000;
const DEEPEST: usize = 32;
/// What some editors write before a text.
const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";
/// The most that is inflated of one archive, in bytes.
const INFLATED: u64 = 64 * 1024 * 1024 * 1024;

/// Takes documents, each with the place that it has. False: it wants no more.
pub trait TakesDocuments {
    fn take(&mut self, place: &str, document: &[u8]) -> bool;
    /// What cannot be read, and why.
    fn refuse(&mut self, place: &str, cause: String);
}

/// Reads files one after the other.
pub struct PublishedFiles<'t, T> {
    takes: &'t mut T,
    hasher: Hasher,
    count: u64,
    is_full: bool,
}

/// A file whose bytes are hashed while they are read.
struct Hashed<'h, R> {
    from: R,
    hasher: &'h mut Hasher,
}

impl<R: Read> Read for Hashed<'_, R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let read = self.from.read(to)?;
        self.hasher.update(&to[..read]);
        Ok(read)
    }
}

impl<'t, T: TakesDocuments> PublishedFiles<'t, T> {
    pub fn new(takes: &'t mut T) -> Self {
        Self { takes, hasher: Hasher::new(Algorithm::Sha256), count: 0, is_full: false }
    }

    /// Of all that was read.
    pub fn digest(self) -> Digest {
        self.hasher.finish()
    }

    /// Reads a file, a folder, or `-`.
    pub fn read(&mut self, path: &Path) -> io::Result<()> {
        if path == Path::new("-") {
            return self.stream("-", io::stdin().lock());
        }
        self.path(path, 0)
    }

    fn path(&mut self, path: &Path, depth: usize) -> io::Result<()> {
        let about = if depth == 0 { fs::metadata(path)? } else { fs::symlink_metadata(path)? };
        if about.is_dir() {
            if depth > DEEPEST {
                let cause = format!("folders are looked through {DEEPEST} deep");
                self.takes.refuse(&shown(path), cause);
                return Ok(());
            }
            let mut inner: Vec<PathBuf> = fs::read_dir(path)?
                .map(|one| one.map(|one| one.path()))
                .collect::<io::Result<_>>()?;
            // The same folder is the same import, in whatever order its files lie.
            inner.sort();
            for one in inner {
                self.path(&one, depth + 1)?;
                if self.is_full {
                    break;
                }
            }
            return Ok(());
        }
        let ends = |ending: &str| {
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            name.to_ascii_lowercase().ends_with(ending)
        };
        let is_one = [".json", ".jsonl", ".ndjson", ".zip", ".gz"].into_iter().any(ends);
        // Of a folder only what can be one is read; links lead out of it.
        if depth > 0 && (!about.is_file() || !is_one) {
            return Ok(());
        }
        let file = File::open(path)?;
        if ends(".zip") {
            return self.archive(path, file);
        }
        let place = shown(path);
        if ends(".gz") {
            let inflated = flate2::read::MultiGzDecoder::new(file).take(INFLATED);
            return self.stream(&place, inflated);
        }
        self.stream(&place, file)
    }

    /// One document, an array of them, or one on each line, which is compressed by gzip.
    pub fn compressed(&mut self, place: &str, from: impl Read) -> io::Result<()> {
        let inflated = flate2::read::MultiGzDecoder::new(from).take(INFLATED);
        self.stream(place, inflated)
    }

    /// One document, an array of them, or one on each line.
    fn stream(&mut self, place: &str, from: impl Read) -> io::Result<()> {
        let mut hasher = self.hasher.clone();
        let mut lines = BufReader::new(Hashed { from, hasher: &mut hasher });
        let (mut line, mut document) = (Vec::new(), Vec::new());
        let (mut ends, mut number, mut first) = (DocumentLines::default(), 0_u64, 1);
        let read = loop {
            line.clear();
            let room = (LARGEST_DOCUMENT as u64 + 2).saturating_sub(document.len() as u64);
            let read = match lines.by_ref().take(room).read_until(b'\n', &mut line) {
                Err(error) => break Err(error),
                Ok(read) => read,
            };
            number += 1;
            if number == 1 && line.starts_with(BYTE_ORDER_MARK) {
                line.drain(..BYTE_ORDER_MARK.len());
            }
            let mut told = ends.take(&line);
            if told == DocumentLine::Anew {
                self.whole(&on_line(place, first), &document);
                document.clear();
                told = ends.take(&line);
            }
            if document.is_empty() {
                if line.trim_ascii().is_empty() && read > 0 {
                    continue;
                }
                first = number;
            }
            document.extend_from_slice(&line);
            if document.len() > LARGEST_DOCUMENT {
                let cause = "a document in it is larger than any that is read".to_owned();
                self.takes.refuse(&on_line(place, first), cause);
                break Ok(());
            }
            if told == DocumentLine::Last || (read == 0 && !document.is_empty()) {
                self.whole(&on_line(place, first), &document);
                document.clear();
            }
            if read == 0 || self.is_full {
                break Ok(());
            }
        };
        self.hasher = hasher;
        read
    }

    /// One document, or an array of them.
    fn whole(&mut self, place: &str, document: &[u8]) {
        let document = document.trim_ascii();
        if document.first() != Some(&b'[') {
            return self.give(place, document);
        }
        match serde_json::from_slice::<Vec<&serde_json::value::RawValue>>(document) {
            Ok(all) => {
                for (number, one) in all.into_iter().enumerate() {
                    self.give(&format!("{place}[{number}]"), one.get().as_bytes());
                }
            }
            Err(error) => self.takes.refuse(place, error.to_string()),
        }
    }

    fn give(&mut self, place: &str, document: &[u8]) {
        if self.is_full {
            return;
        }
        self.count += 1;
        if self.count > MOST {
            self.is_full = true;
            self.takes.refuse(place, format!("more than {MOST} documents are not read at once"));
        } else if !self.takes.take(place, document) {
            self.is_full = true;
        }
    }

    fn archive(&mut self, path: &Path, file: File) -> io::Result<()> {
        // The archive's own bytes are what is told by the digest.
        let mut hashed = Hashed { from: file.try_clone()?, hasher: &mut self.hasher };
        io::copy(&mut hashed, &mut io::sink())?;
        let place = shown(path);
        let mut archive = match zip::ZipArchive::new(BufReader::new(file)) {
            Ok(archive) => archive,
            Err(error) => {
                self.takes.refuse(&place, error.to_string());
                return Ok(());
            }
        };
        let mut left = INFLATED;
        for index in 0..archive.len() {
            let mut document = Vec::new();
            let (name, read) = match archive.by_index(index) {
                Err(error) => (format!("entry {index}"), Err(error.to_string())),
                Ok(entry) if entry.is_dir() => continue,
                Ok(entry) => {
                    let name = entry.name().map(Cow::into_owned).unwrap_or_default();
                    if !name.to_ascii_lowercase().ends_with(".json") {
                        continue;
                    }
                    let limit = (LARGEST_DOCUMENT as u64 + 1).min(left);
                    let read = entry.take(limit).read_to_end(&mut document);
                    (name, read.map_err(|error| error.to_string()))
                }
            };
            let at = format!("{place}!/{name}");
            left = left.saturating_sub(document.len() as u64);
            match read {
                Err(cause) => self.takes.refuse(&at, cause),
                Ok(_) if left == 0 => {
                    self.takes.refuse(&at, "the archive holds more than is read".to_owned());
                    return Ok(());
                }
                Ok(_) if document.len() > LARGEST_DOCUMENT => {
                    self.takes.refuse(&at, "it is larger than any that is read".to_owned());
                }
                Ok(_) => {
                    let text = document.strip_prefix(BYTE_ORDER_MARK).unwrap_or(&document);
                    self.whole(&at, text);
                }
            }
            if self.is_full {
                break;
            }
        }
        Ok(())
    }
}

/// The place of a document that begins on a line.
fn on_line(place: &str, line: u64) -> String {
    if line <= 1 { place.to_owned() } else { format!("{place}, line {line}") }
}

fn shown(path: &Path) -> String {
    larder_transfer::files::named(path)
}
