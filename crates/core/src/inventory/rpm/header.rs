//! A package's header: an index of tags, and their data (RPM, "Package format").

use super::super::content::beginning_of_hex;
use super::super::{InstalledPackage, OwnedFiles, PackageStanding, SourcePackage, kept};
use super::{be, be_place};
use crate::version::Ecosystem;

/// What was read of a header.
pub(super) struct Read {
    /// None: it is a key and no package.
    pub package: Option<InstalledPackage>,
    /// Whether there was room for all of its files.
    pub all_files: bool,
}

const NAME: u64 = 1000;
const VERSION: u64 = 1001;
const RELEASE: u64 = 1002;
const EPOCH: u64 = 1003;
const ARCHITECTURE: u64 = 1022;
const FILE_DIGESTS: u64 = 1035;
const SOURCE: u64 = 1044;
const FOLDER_NUMBERS: u64 = 1116;
const FILE_NAMES: u64 = 1117;
const FOLDERS: u64 = 1118;
/// The limits that RPM has itself.
const ENTRIES: usize = 0xffff;
const DATA: usize = 0x0fff_ffff;

struct Header<'b> {
    index: &'b [u8],
    data: &'b [u8],
}

struct Entry {
    kind: u64,
    at: usize,
    count: usize,
}

/// Reads a header. None: it is none.
pub(super) fn package(blob: &[u8], owned: &mut OwnedFiles) -> Option<Read> {
    let (entries, length) = (be_place(blob, 0, 4)?, be_place(blob, 4, 4)?);
    if entries > ENTRIES || length > DATA || blob.len() != 8 + 16 * entries + length {
        return None;
    }
    let (index, data) = blob[8..].split_at(16 * entries);
    let header = Header { index, data };
    let name = kept(header.text(NAME)?)?.to_owned();
    // Keys that packages are signed with stand among them.
    if name == "gpg-pubkey" {
        return Some(Read { package: None, all_files: true });
    }
    let (version, release) = (kept(header.text(VERSION)?)?, header.text(RELEASE).and_then(kept));
    let epoch = header.number(EPOCH).unwrap_or(0);
    let release = release.map(|release| format!("-{release}")).unwrap_or_default();
    let epoch = if epoch == 0 { String::new() } else { format!("{epoch}:") };
    let version = format!("{epoch}{version}{release}");
    let source = header.text(SOURCE).and_then(kept).and_then(source);
    let all_files = header.files(&name, owned).unwrap_or(true);
    let architecture = header.text(ARCHITECTURE).and_then(kept).unwrap_or_default().to_owned();
    Some(Read {
        package: Some(InstalledPackage {
            ecosystem: Ecosystem::Rpm,
            source: source
                .map(|(source, of)| {
                    // A source has the epoch of its packages, which its file's name leaves out.
                    SourcePackage { name: source.to_owned(), version: format!("{epoch}{of}") }
                })
                .filter(|source| source.name != name || source.version != version),
            name,
            version,
            architecture,
            standing: PackageStanding::Plain,
        }),
        all_files,
    })
}

/// `NAME-VERSION-RELEASE.src.rpm`: the name, and the rest.
fn source(file: &str) -> Option<(&str, &str)> {
    let stem = file.strip_suffix(".src.rpm").or_else(|| file.strip_suffix(".nosrc.rpm"))?;
    let release = stem.rfind('-')?;
    let version = stem[..release].rfind('-')?;
    (version > 0).then(|| (&stem[..version], &stem[version + 1..]))
}

impl<'b> Header<'b> {
    fn entry(&self, tag: u64) -> Option<Entry> {
        self.index.chunks_exact(16).find_map(|entry| {
            // A region's own entry holds an offset that is not to be followed, and is asked for by nobody.
            (be(entry, 0, 4)? == tag).then_some(())?;
            Some(Entry {
                kind: be(entry, 4, 4)?,
                at: be_place(entry, 8, 4).filter(|at| *at <= self.data.len())?,
                count: be_place(entry, 12, 4)?,
            })
        })
    }

    /// A text, or the first of several.
    fn text(&self, tag: u64) -> Option<&'b str> {
        let entry = self.entry(tag)?;
        matches!(entry.kind, 6 | 8 | 9).then_some(())?;
        self.texts_at(entry.at).next()
    }

    /// The texts from a place on, each of which ends in a zero.
    fn texts_at(&self, at: usize) -> impl Iterator<Item = &'b str> + use<'b> {
        let mut rest = self.data.get(at..).unwrap_or_default();
        std::iter::from_fn(move || {
            let end = rest.iter().position(|byte| *byte == 0)?;
            let text = &rest[..end];
            rest = &rest[end + 1..];
            // What is no text has its place in the list all the same.
            Some(std::str::from_utf8(text).unwrap_or_default())
        })
    }

    fn texts(&self, tag: u64) -> Option<impl Iterator<Item = &'b str> + use<'b>> {
        let entry = self.entry(tag).filter(|entry| entry.kind == 8)?;
        Some(self.texts_at(entry.at).take(entry.count))
    }

    fn number(&self, tag: u64) -> Option<u64> {
        let entry = self.entry(tag).filter(|entry| entry.kind == 4 && entry.count > 0)?;
        be(self.data, entry.at, 4)
    }

    /// Takes up its files: a name each, with the number of the folder that it lies in. None: it does not list them.
    fn files(&self, package: &str, owned: &mut OwnedFiles) -> Option<bool> {
        let folders: Vec<&str> = self.texts(FOLDERS)?.collect();
        let numbers = self.entry(FOLDER_NUMBERS).filter(|entry| entry.kind == 4)?;
        let mut digests = self.texts(FILE_DIGESTS);
        for (index, name) in self.texts(FILE_NAMES)?.take(numbers.count).enumerate() {
            let digest = digests.as_mut().and_then(Iterator::next).unwrap_or_default();
            let number = be_place(self.data, numbers.at.checked_add(index.checked_mul(4)?)?, 4)?;
            let Some(folder) = folders.get(number) else { continue };
            let content = beginning_of_hex(digest).unwrap_or(0);
            if !owned.add(package, &format!("{folder}{name}"), content) {
                return Some(false);
            }
        }
        Some(true)
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// A header with a name, a version and what else is given.
    pub(in super::super) fn header(name: &str, version: &str, source: &str) -> Vec<u8> {
        let texts = [
            (NAME, name),
            (VERSION, version),
            (RELEASE, "1.el9"),
            (ARCHITECTURE, "x86_64"),
            (SOURCE, source),
        ];
        let mut index: Vec<(u64, u64, usize, usize)> = vec![(63, 7, 0, 16)];
        let mut data = vec![0xff; 16];
        for (tag, text) in texts {
            index.push((tag, 6, data.len(), 1));
            data.extend_from_slice(text.as_bytes());
            data.push(0);
        }
        data.resize(data.len().next_multiple_of(4), 0);
        index.push((EPOCH, 4, data.len(), 1));
        data.extend_from_slice(&2_u32.to_be_bytes());
        index.push((FOLDER_NUMBERS, 4, data.len(), 2));
        data.extend_from_slice(&[0, 0, 0, 0, 0, 0, 0, 1]);
        for (tag, texts) in [
            (FILE_NAMES, ["ember", "package.json"]),
            (FOLDERS, ["/usr/bin/", "/usr/lib/node_modules/x/"]),
            (
                FILE_DIGESTS,
                ["", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"],
            ),
        ] {
            index.push((tag, 8, data.len(), 2));
            for text in texts {
                data.extend_from_slice(text.as_bytes());
                data.push(0);
            }
        }
        let mut all = Vec::new();
        all.extend_from_slice(&u32::try_from(index.len()).unwrap().to_be_bytes());
        all.extend_from_slice(&u32::try_from(data.len()).unwrap().to_be_bytes());
        for (tag, kind, at, count) in index {
            for number in [usize::try_from(tag).unwrap(), usize::try_from(kind).unwrap(), at, count]
            {
                all.extend_from_slice(&u32::try_from(number).unwrap().to_be_bytes());
            }
        }
        all.extend_from_slice(&data);
        all
    }

    #[test]
    fn a_header_says_what_is_installed() {
        let blob = header("libember", "1.2", "ember-core-1.3-1.el9.src.rpm");
        let mut owned = OwnedFiles::default();
        let read = package(&blob, &mut owned).unwrap();
        let one = read.package.unwrap();
        assert_eq!(
            (&*one.name, &*one.version, &*one.architecture),
            ("libember", "2:1.2-1.el9", "x86_64")
        );
        assert_eq!((one.source_name(), one.source_version()), ("ember-core", "2:1.3-1.el9"));
        let sha256 = super::super::super::ContentPrint::of(b"abc").sha256;
        let contents: Vec<u64> = owned.files.iter().map(|file| file.2).collect();
        assert_eq!((contents, read.all_files), (vec![0, sha256], true));
        let key = header("gpg-pubkey", "1", "");
        assert!(package(&key, &mut owned).unwrap().package.is_none());
        for length in 0..blob.len() {
            assert!(package(&blob[..length], &mut owned).is_none(), "{length}");
        }
        assert_eq!(source("a-1.src.rpm"), None);
        assert_eq!(source("a-b-1-2.src.rpm"), Some(("a-b", "1-2")));
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(
            changes in proptest::collection::vec((0..400_usize, proptest::prelude::any::<u8>()), 0..20),
        ) {
            let mut blob = header("libember", "1.2", "ember-core-1.3-1.el9.src.rpm");
            for (at, byte) in changes {
                let at = at % blob.len();
                blob[at] = byte;
            }
            let _read = package(&blob, &mut OwnedFiles::default());
        }
    }
}
