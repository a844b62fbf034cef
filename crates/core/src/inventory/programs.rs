//! What a program says it was built from: the list of modules that Go puts into it, and the list of crates that an
//! auditing build of Rust does (ELF, System V ABI, chapters 4 and 5).
//!
//! A program streams by; what is kept of it is bounded.

use std::io::Read as _;

use serde::Deserialize;

use super::elf::{ElfLayout, MAGIC, number};
use super::{InstalledPackage, PackageStanding, kept};
use crate::version::Ecosystem;

/// Reads a program piece by piece.
pub struct ProgramReader {
    size: u64,
    at: u64,
    /// The beginning, until its headers are read.
    head: Vec<u8>,
    layout: Option<ElfLayout>,
    /// All of it that came by, for lists of Go that lie elsewhere. None: it is none of Go's, or too large.
    whole: Option<Vec<u8>>,
    /// The last bytes of the piece before.
    overlap: Vec<u8>,
    /// From where Go's list was found.
    list: Option<Vec<u8>>,
    /// What lies behind everything that is loaded: sections, and what Rust's auditing build puts there.
    tail: Vec<u8>,
    is_tail_cut: bool,
}

/// What a program of Go says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GoProgram {
    pub packages: Vec<InstalledPackage>,
    /// Whether its list lies where it was not read.
    pub has_hidden_list: bool,
}

/// The most that is kept of headers, of a whole program of Go, of Go's list, and of what is behind all segments.
const HEAD: usize = 64 * 1024;
const WHOLE: u64 = 64 * 1024 * 1024;
const LIST: usize = 4 * 1024 * 1024;
const TAIL: usize = 16 * 1024 * 1024;
/// The largest list of crates, inflated.
const CRATES: u64 = 16 * 1024 * 1024;
impl ProgramReader {
    /// Whether a file's first bytes are those of a program.
    pub fn is_program(first: &[u8]) -> bool {
        first.starts_with(b"\x7fELF")
    }

    /// Begins a program of so many bytes.
    pub fn new(size: u64) -> Self {
        Self {
            size,
            at: 0,
            head: Vec::new(),
            layout: None,
            whole: None,
            overlap: Vec::new(),
            list: None,
            tail: Vec::new(),
            is_tail_cut: false,
        }
    }

    /// Takes the next piece.
    pub fn feed(&mut self, piece: &[u8]) {
        if self.layout.is_none() && self.head.len() < HEAD {
            let room = piece.len().min(HEAD - self.head.len());
            self.head.extend_from_slice(&piece[..room]);
            // Read once all of it is there that is kept, or all there is.
            if self.head.len() < HEAD && (self.head.len() as u64) < self.size {
                return;
            }
            self.layout = ElfLayout::read(&self.head);
            if let Some(layout) = &self.layout
                && self.size <= WHOLE
                && layout.has_go_note(&self.head)
            {
                self.whole = Some(Vec::new());
            }
            // What was kept until now was not looked at yet.
            let head = std::mem::take(&mut self.head);
            self.take(&head);
            self.take(&piece[room..]);
            // No second time.
            self.head = vec![0; HEAD];
            return;
        }
        self.take(piece);
    }

    fn take(&mut self, piece: &[u8]) {
        let from = self.at;
        self.at += piece.len() as u64;
        let Some(layout) = &self.layout else { return };
        if let Some(whole) = &mut self.whole {
            whole.extend_from_slice(piece);
        }
        if self.at > layout.loaded {
            let start = usize::try_from(layout.loaded.saturating_sub(from)).unwrap_or(0);
            let more = &piece[start.min(piece.len())..];
            let room = more.len().min(TAIL - self.tail.len());
            self.tail.extend_from_slice(&more[..room]);
            self.is_tail_cut |= room < more.len();
        }
        if let Some(list) = &mut self.list {
            let room = piece.len().min(LIST.saturating_sub(list.len()));
            list.extend_from_slice(&piece[..room]);
            return;
        }
        // The last bytes of the piece before, and this one, as if they were one.
        let mut joined = std::mem::take(&mut self.overlap);
        let start = from - joined.len() as u64;
        let found = if joined.is_empty() {
            layout.find(piece, from)
        } else {
            let some = piece.len().min(MAGIC.len());
            joined.extend_from_slice(&piece[..some]);
            layout.find(&joined, start).or_else(|| layout.find(piece, from))
        };
        if let Some(found) = found {
            let mut list = Vec::new();
            if found < from {
                let before = usize::try_from(from - found).unwrap_or(0);
                let kept = usize::try_from(from - start).unwrap_or(0);
                list.extend_from_slice(&joined[kept - before..kept]);
                list.extend_from_slice(piece);
            } else {
                list.extend_from_slice(&piece[usize::try_from(found - from).unwrap_or(0)..]);
            }
            list.truncate(LIST);
            // What is in it needs nothing else.
            if list.get(15).is_some_and(|flags| flags & 2 != 0) {
                self.whole = None;
            }
            self.list = Some(list);
            return;
        }
        let keep = MAGIC.len() - 1;
        self.overlap = match piece.len() >= keep {
            true => piece[piece.len() - keep..].to_vec(),
            false => {
                let kept = usize::try_from(from - start).unwrap_or(0);
                joined.truncate(kept);
                joined.extend_from_slice(piece);
                joined.split_off(joined.len().saturating_sub(keep))
            }
        };
    }

    /// What it says, once all of it came: that of Go, and the crates of Rust. None: it is none of theirs.
    pub fn finish(mut self) -> (Option<GoProgram>, Option<Vec<InstalledPackage>>) {
        if self.layout.is_none() && !self.head.is_empty() && self.at == 0 {
            // It ended before the kept beginning was full.
            self.layout = ElfLayout::read(&self.head);
            let head = std::mem::take(&mut self.head);
            self.take(&head);
        }
        let Some(layout) = self.layout.take() else { return (None, None) };
        let go = self.list.as_deref().map(|list| {
            let (version, modules) = match list.get(15) {
                Some(flags) if flags & 2 != 0 => inline_texts(list),
                _ => match self.whole.as_deref() {
                    Some(whole) => pointed_texts(list, whole, &layout),
                    None => (None, None),
                },
            };
            match version {
                None => GoProgram { packages: Vec::new(), has_hidden_list: true },
                Some(version) => {
                    let modules = modules.unwrap_or_default();
                    GoProgram { packages: go_packages(&version, &modules), has_hidden_list: false }
                }
            }
        });
        let rust = layout.section(b".dep-v0", &self.tail).and_then(crates);
        (go, rust)
    }
}

/// The two texts that stand behind the list's head, each with its length before it (Go 1.18 and later).
fn inline_texts(list: &[u8]) -> (Option<String>, Option<Vec<u8>>) {
    let text = |from: usize| -> Option<(&[u8], usize)> {
        let (mut length, mut shift, mut at) = (0_u64, 0, from);
        loop {
            let byte = *list.get(at)?;
            at += 1;
            length |= u64::from(byte & 0x7f).checked_shl(shift)?;
            if byte & 0x80 == 0 {
                break;
            }
            shift += 7;
            if shift > 35 {
                return None;
            }
        }
        let end = at.checked_add(usize::try_from(length).ok()?)?;
        Some((list.get(at..end)?, end))
    };
    let Some((version, end)) = text(32) else { return (None, None) };
    let modules = text(end).map(|(modules, _)| modules.to_vec());
    (String::from_utf8(version.to_vec()).ok(), modules)
}

/// The two texts that the list points to: each of two addresses has an address and a length (before Go 1.18).
fn pointed_texts(
    list: &[u8],
    whole: &[u8],
    layout: &ElfLayout,
) -> (Option<String>, Option<Vec<u8>>) {
    let (Some(width), Some(flags)) = (list.get(14), list.get(15)) else { return (None, None) };
    let (width, is_big) = (usize::from(*width), flags & 1 != 0);
    if width != 4 && width != 8 {
        return (None, None);
    }
    let text = |at: usize| -> Option<Vec<u8>> {
        let pair = layout.offset_of(number(list, at as u64, width, is_big)?)?;
        let address = number(whole, pair, width, is_big)?;
        let length = number(whole, pair.checked_add(width as u64)?, width, is_big)?;
        if length > LIST as u64 {
            return None;
        }
        let from = usize::try_from(layout.offset_of(address)?).ok()?;
        whole.get(from..from.checked_add(usize::try_from(length).ok()?)?).map(<[u8]>::to_vec)
    };
    let version = text(16).and_then(|version| String::from_utf8(version).ok());
    // The second may be empty, and then points nowhere.
    (version, text(16 + width))
}

/// The packages of a program of Go: the release that built it, its own module, and those that it has in it.
fn go_packages(version: &str, modules: &[u8]) -> Vec<InstalledPackage> {
    let package = |name: &str, version: &str| {
        Some(InstalledPackage::of_language(Ecosystem::Go, kept(name)?, kept(version)?))
    };
    let mut all = Vec::new();
    all.extend(package("stdlib", &go_release(version)));
    // Sixteen bytes stand before and behind it, by which a debugger finds it.
    let modules = match modules.len() {
        length if length >= 33 && modules[length - 17] == b'\n' => &modules[16..length - 16],
        _ => modules,
    };
    let text = String::from_utf8_lossy(modules);
    for line in text.lines().take(100_000) {
        let mut parts = line.split('\t');
        match (parts.next(), parts.next(), parts.next()) {
            (Some("mod"), Some(name), Some(version)) => {
                all.extend(package(name, version).map(|mut main| {
                    main.standing = match main.version.as_str() {
                        "(devel)" => PackageStanding::Guessed,
                        _ => PackageStanding::Main,
                    };
                    main
                }));
            }
            (Some("dep"), Some(name), Some(version)) => all.extend(package(name, version)),
            // What stands in the place of the one before.
            (Some("=>"), Some(name), version) => {
                all.pop();
                all.extend(package(name, version.filter(|v| !v.is_empty()).unwrap_or("(devel)")));
            }
            _ => {}
        }
    }
    all
}

/// `go1.22rc1` as a version of its ecosystem: `1.22.0-rc.1`.
fn go_release(version: &str) -> String {
    let version = version.split([' ', '-']).next().unwrap_or(version);
    let Some(version) = version.strip_prefix("go") else { return "(devel)".to_owned() };
    let end = version.find(|c: char| c.is_ascii_alphabetic());
    let Some(end) = end else { return version.to_owned() };
    let (release, before) = version.split_at(end);
    let word = before.find(|c: char| c.is_ascii_digit()).unwrap_or(before.len());
    let (word, count) = before.split_at(word);
    let missing = 2_usize.saturating_sub(release.matches('.').count());
    let count = if count.is_empty() { String::new() } else { format!(".{count}") };
    format!("{release}{}-{word}{count}", ".0".repeat(missing))
}

#[derive(Deserialize)]
struct CrateList {
    packages: Vec<Crate>,
}

#[derive(Deserialize)]
struct Crate {
    name: String,
    version: String,
    source: String,
    #[serde(default)]
    kind: Option<String>,
    #[serde(default)]
    root: bool,
}

/// The crates of a section: a list in JSON, compressed (RFC 1950).
fn crates(section: &[u8]) -> Option<Vec<InstalledPackage>> {
    let mut json = Vec::new();
    let inflated = flate2::read::ZlibDecoder::new(section).take(CRATES).read_to_end(&mut json);
    inflated.ok()?;
    let list: CrateList = serde_json::from_slice(&json).ok()?;
    // What only built it is not in it.
    let inside = list.packages.into_iter().filter(|one| one.kind.as_deref() != Some("build"));
    let packages = inside.take(100_000).filter_map(|one| {
        let (name, version) = (kept(&one.name)?, kept(&one.version)?);
        let mut package = InstalledPackage::of_language(Ecosystem::Cargo, name, version);
        if one.root {
            package.standing = PackageStanding::Main;
        } else if !is_public_registry(&one.source) {
            // Of the same name, and not the same.
            package.standing = PackageStanding::Guessed;
        }
        Some(package)
    });
    Some(packages.collect())
}

/// Whether a crate came from the language's public registry, which its list calls by its name.
fn is_public_registry(source: &str) -> bool {
    source.split_once('.').is_some_and(|(name, end)| name == "crates" && end == "io")
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use super::*;

    /// A program with a list of Go in its second segment, and a section behind both.
    fn elf(data: &[u8], section: &[u8]) -> Vec<u8> {
        let mut file = vec![0; 64 + 2 * 56];
        file[..6].copy_from_slice(b"\x7fELF\x02\x01");
        file[32..40].copy_from_slice(&64_u64.to_le_bytes());
        file[54..56].copy_from_slice(&56_u16.to_le_bytes());
        file[56..58].copy_from_slice(&2_u16.to_le_bytes());
        file.resize(0x1000, 0);
        let mut segment = |index: usize, flags: u32, offset: u64, address: u64, length: u64| {
            let at = 64 + index * 56;
            file[at..at + 4].copy_from_slice(&1_u32.to_le_bytes());
            file[at + 4..at + 8].copy_from_slice(&flags.to_le_bytes());
            file[at + 8..at + 16].copy_from_slice(&offset.to_le_bytes());
            file[at + 16..at + 24].copy_from_slice(&address.to_le_bytes());
            file[at + 32..at + 40].copy_from_slice(&length.to_le_bytes());
        };
        segment(0, 5, 0, 0x40_0000, 0x1000);
        segment(1, 6, 0x1000, 0x50_0000, data.len() as u64);
        file.extend_from_slice(data);
        let at = file.len() as u64;
        file.extend_from_slice(section);
        let names_at = file.len() as u64;
        let names = b"\0.dep-v0\0.names\0";
        file.extend_from_slice(names);
        let headers = file.len() as u64;
        for (name, at, length) in
            [(0_u32, 0, 0), (1, at, section.len()), (10, names_at, names.len())]
        {
            let mut header = [0; 64];
            header[..4].copy_from_slice(&name.to_le_bytes());
            header[24..32].copy_from_slice(&at.to_le_bytes());
            header[32..40].copy_from_slice(&(length as u64).to_le_bytes());
            file.extend_from_slice(&header);
        }
        file[40..48].copy_from_slice(&headers.to_le_bytes());
        file[58..60].copy_from_slice(&64_u16.to_le_bytes());
        file[60..62].copy_from_slice(&3_u16.to_le_bytes());
        file[62..64].copy_from_slice(&2_u16.to_le_bytes());
        file
    }

    fn go_list(version: &str, modules: &str) -> Vec<u8> {
        let modules = format!("{}{modules}{}", "s".repeat(16), "e".repeat(16));
        let mut list = MAGIC.to_vec();
        list.extend_from_slice(&[8, 2]);
        list.resize(32, 0);
        for text in [version, &modules] {
            let mut length = text.len();
            while length > 0x7f {
                list.push(u8::try_from(length & 0x7f).unwrap() | 0x80);
                length >>= 7;
            }
            list.push(u8::try_from(length).unwrap());
            list.extend_from_slice(text.as_bytes());
        }
        list
    }

    fn read(file: &[u8], pieces: usize) -> (Option<GoProgram>, Option<Vec<InstalledPackage>>) {
        let mut reader = ProgramReader::new(file.len() as u64);
        for piece in file.chunks(pieces) {
            reader.feed(piece);
        }
        reader.finish()
    }

    const MODULES: &str = "path\temberfall.example/forge\nmod\temberfall.example/forge\t(devel)\t\ndep\tbazaar.example/bellows\tv1.2.3\th1:x\ndep\tbazaar.example/tongs\tv0.1.0\n=>\tbazaar.example/tongs-fork\tv0.2.0\th1:y\nbuild\t-compiler=gc\n";

    #[test]
    fn the_modules_of_go_are_found_wherever_pieces_end() {
        let mut data = vec![0; 0x230];
        data.extend_from_slice(&go_list("go1.22rc1 X:none", MODULES));
        data.resize(data.len() + 100, 0);
        let file = elf(&data, b"");
        for pieces in [1, 7, 13, 64, 4096, 0x1230, 0x1235, file.len()] {
            let (go, rust) = read(&file, pieces);
            let go = go.unwrap_or_else(|| panic!("in pieces of {pieces}"));
            let told: Vec<String> =
                go.packages.iter().map(|one| format!("{} {}", one.name, one.version)).collect();
            assert_eq!(
                told,
                [
                    "stdlib 1.22.0-rc.1",
                    "emberfall.example/forge (devel)",
                    "bazaar.example/bellows v1.2.3",
                    "bazaar.example/tongs-fork v0.2.0",
                ],
                "in pieces of {pieces}"
            );
            assert_eq!(rust, None);
        }
        // At an odd place, or in a segment that cannot be written to, it is none.
        let odd = elf(&[&[0; 0x231], &go_list("go1.22", MODULES)[..]].concat(), b"");
        assert_eq!(read(&odd, 4096), (None, None));
    }

    #[test]
    fn a_list_that_lies_elsewhere_is_read_where_it_is_kept_and_told_else() {
        let mut data = vec![0; 0x200];
        let put = |data: &mut Vec<u8>, at: usize, bytes: &[u8]| {
            data[at..at + bytes.len()].copy_from_slice(bytes);
        };
        let address = |at: u64| (0x50_0000 + at).to_le_bytes();
        put(&mut data, 0, b"go1.15.9");
        put(&mut data, 0x40, &address(0));
        put(&mut data, 0x48, &8_u64.to_le_bytes());
        put(&mut data, 0x100, MAGIC);
        put(&mut data, 0x10e, &[8, 0]);
        put(&mut data, 0x110, &address(0x40));
        let file = elf(&data, b"");
        let hidden = GoProgram { packages: Vec::new(), has_hidden_list: true };
        assert_eq!(read(&file, 4096).0, Some(hidden));
        let mut noted = file.clone();
        // Its first segment is a note now, which says that it is one of Go's.
        noted[64..68].copy_from_slice(&4_u32.to_le_bytes());
        noted[0x200..0x208].copy_from_slice(b"\x04\0\0\0Go\0\0");
        let (go, _) = read(&noted, 1000);
        let go = go.unwrap();
        assert!(!go.has_hidden_list);
        assert_eq!((&*go.packages[0].name, &*go.packages[0].version), ("stdlib", "1.15.9"));
    }

    #[test]
    fn the_crates_of_rust_are_found() {
        let public = ["crates", "io"].join(".");
        let json = format!(
            r#"{{"packages":[{{"name":"forge","version":"0.1.0","source":"local","root":true}},{{"name":"bellows","version":"1.2.3","source":"{public}","dependencies":[0]}},{{"name":"maker","version":"1.0.0","source":"{public}","kind":"build"}},{{"name":"own","version":"1.0.0","source":"local"}}]}}"#
        );
        let mut packed =
            flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::default());
        packed.write_all(json.as_bytes()).unwrap();
        let file = elf(&[0; 100], &packed.finish().unwrap());
        for pieces in [50, 4096, file.len()] {
            let (go, rust) = read(&file, pieces);
            assert_eq!(go, None);
            let told: Vec<_> =
                rust.unwrap().into_iter().map(|one| (one.name, one.standing)).collect();
            let expected = [
                ("forge".to_owned(), PackageStanding::Main),
                ("bellows".to_owned(), PackageStanding::Plain),
                ("own".to_owned(), PackageStanding::Guessed),
            ];
            assert_eq!(told, expected);
        }
    }

    #[test]
    fn releases_of_go_are_versions() {
        for (text, expected) in [
            ("go1.19.8", "1.19.8"),
            ("go1.22rc1", "1.22.0-rc.1"),
            ("go1.9.2beta3", "1.9.2-beta.3"),
            ("go1.20.5-fips", "1.20.5"),
            ("go1.21.3 X:boringcrypto", "1.21.3"),
            ("devel go1.23-abc", "(devel)"),
        ] {
            assert_eq!(go_release(text), expected);
        }
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(
            changes in proptest::collection::vec((0..0x1600_usize, proptest::prelude::any::<u8>()), 0..30),
            pieces in 1..5000_usize,
        ) {
            let data = [&[0; 0x230], &go_list("go1.22", MODULES)[..]].concat();
            let mut file = elf(&data, b"x\x9c");
            for (at, byte) in changes {
                let at = at % file.len();
                file[at] = byte;
            }
            let _read = read(&file, pieces);
        }
    }
}
