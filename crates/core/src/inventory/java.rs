//! Artifacts of Maven in the archives of Java, nested ones too.

use std::io::{Cursor, Read as _};

use super::{InstalledPackage, PackageStanding, Unread, kept};
use crate::version::Ecosystem;

/// The deepest archive in an archive, the most entries of all of them, and the most bytes of all of them, inflated.
const DEEPEST: usize = 4;
const ENTRIES: usize = 100_000;
const INFLATED: u64 = 256 * 1024 * 1024;
/// The largest small file that is read.
const SMALL: u64 = 1024 * 1024;
/// The longest path of an archive in an archive, in bytes.
const LONGEST: usize = 4096;

/// Archives while they are read, with what is left of the bounds.
struct ArchiveReader {
    entries: usize,
    bytes: u64,
    found: Vec<(String, InstalledPackage)>,
    unread: Vec<Unread>,
}

/// Whether a path is that of an archive.
pub(super) fn is_archive(path: &str) -> bool {
    let end = path.len().saturating_sub(4);
    let end = path.as_bytes().get(end..).unwrap_or_default();
    [b".jar", b".war", b".ear"].iter().any(|one| end.eq_ignore_ascii_case(*one))
}

/// The artifacts in an archive, each with the path of the archive that has it, and what was not read.
pub fn artifacts(path: &str, bytes: &[u8]) -> (Vec<(String, InstalledPackage)>, Vec<Unread>) {
    let (found, unread) = (Vec::new(), Vec::new());
    let mut reader = ArchiveReader { entries: ENTRIES, bytes: INFLATED, found, unread };
    reader.read(path, bytes, 1);
    (reader.found, reader.unread)
}

impl ArchiveReader {
    fn tell(&mut self, path: &str, why: impl Into<String>) {
        self.unread.push(Unread { path: path.to_owned(), why: why.into() });
    }

    /// Reads an archive that lies in so many others, itself counted.
    fn read(&mut self, path: &str, bytes: &[u8], depth: usize) {
        let mut archive = match zip::ZipArchive::new(Cursor::new(bytes)) {
            Ok(archive) => archive,
            Err(error) => return self.tell(path, format!("it is no archive of Java: {error}")),
        };
        if archive.len() > self.entries {
            return self
                .tell(path, format!("it has more entries than the {ENTRIES} that are read"));
        }
        self.entries -= archive.len();
        let (mut manifest, before) = (None, self.found.len());
        for index in 0..archive.len() {
            let name = archive.name_for_index(index).and_then(|name| Some(name.ok()?.into_owned()));
            let Some(name) = name else { continue };
            let is_properties =
                name.starts_with("META-INF/maven/") && name.ends_with("/pom.properties");
            let is_inner = is_archive(&name);
            if !is_properties && !is_inner && name != "META-INF/MANIFEST.MF" {
                continue;
            }
            let place = format!("{path}!/{name}");
            if place.len() > LONGEST {
                self.tell(path, "a path in it is too long");
                continue;
            }
            if is_inner && depth >= DEEPEST {
                self.tell(&place, format!("archives in archives are read {DEEPEST} deep"));
                continue;
            }
            let limit = if is_inner { self.bytes } else { SMALL.min(self.bytes) };
            let content = match archive.by_index(index) {
                Ok(entry) => limited(entry, limit),
                Err(error) => Err(error.to_string()),
            };
            let content = match content {
                Ok(Some(content)) => content,
                Ok(None) => {
                    self.tell(&place, "it is larger than what is read");
                    continue;
                }
                Err(error) => {
                    self.tell(&place, format!("it cannot be read: {error}"));
                    continue;
                }
            };
            self.bytes -= content.len() as u64;
            if is_properties {
                self.found.extend(artifact(&content).map(|package| (path.to_owned(), package)));
            } else if is_inner {
                self.read(&place, &content, depth + 1);
            } else {
                manifest = Some(content);
            }
        }
        let has_own = self.found[before..].iter().any(|(of, _)| of == path);
        if !has_own && let Some(package) = manifest.and_then(|text| guessed(&text, path)) {
            self.found.push((path.to_owned(), package));
        }
    }
}

/// A content of at most so many bytes. None: it has more.
fn limited(from: impl std::io::Read, limit: u64) -> Result<Option<Vec<u8>>, String> {
    let mut content = Vec::new();
    let read = from.take(limit.saturating_add(1)).read_to_end(&mut content);
    read.map_err(|error| error.to_string())?;
    Ok((content.len() as u64 <= limit).then_some(content))
}

/// What a `pom.properties` says: `GROUP:ARTIFACT` and the version.
fn artifact(text: &[u8]) -> Option<InstalledPackage> {
    let text = String::from_utf8_lossy(text);
    let value = |wanted: &str| {
        text.lines().find_map(|line| {
            let line = line.trim();
            let (key, value) = line.split_once(['=', ':'])?;
            (!line.starts_with(['#', '!']) && key.trim() == wanted).then(|| kept(value)).flatten()
        })
    };
    let name = format!("{}:{}", value("groupId")?, value("artifactId")?);
    Some(InstalledPackage::of_language(Ecosystem::Maven, kept(&name)?, value("version")?))
}

/// What a manifest says of an archive that no builder has named: neither its name nor its version are those that
/// advisories use (JAR File Specification, "JAR Manifest").
fn guessed(manifest: &[u8], path: &str) -> Option<InstalledPackage> {
    let text = String::from_utf8_lossy(manifest).replace("\r\n", "\n");
    // A line that begins with a blank goes on with the one before. What follows an empty line is about single entries.
    let main = text.split("\n\n").next().unwrap_or_default().replace("\n ", "");
    let value = |wanted: &str| {
        let mut lines = main.lines().filter_map(|line| line.split_once(':'));
        lines.find_map(|(key, value)| {
            key.eq_ignore_ascii_case(wanted).then(|| kept(value)).flatten()
        })
    };
    let version = value("Implementation-Version").or_else(|| value("Bundle-Version"))?;
    let symbolic = value("Bundle-SymbolicName").and_then(|name| kept(name.split(';').next()?));
    let file = || kept(path.rsplit('/').next()?);
    let name = symbolic.or_else(|| value("Implementation-Title")).or_else(file)?;
    let mut package = InstalledPackage::of_language(Ecosystem::Maven, name, version);
    package.standing = PackageStanding::Guessed;
    Some(package)
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use zip::write::SimpleFileOptions;

    use super::*;

    fn archive(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
        for (name, content) in files {
            let how = match is_archive(name) {
                true => zip::CompressionMethod::Stored,
                false => zip::CompressionMethod::Deflated,
            };
            let options = SimpleFileOptions::default().compression_method(how);
            writer.start_file(*name, options).unwrap();
            writer.write_all(content).unwrap();
        }
        writer.finish().unwrap().into_inner()
    }

    const PROPERTIES: &[u8] =
        b"#made up\r\nversion=31.1-jre\r\ngroupId=example.ember\r\nartifactId=bellows\r\n";

    #[test]
    fn artifacts_are_found_in_archives_of_archives() {
        let place = "META-INF/maven/example.ember/bellows/pom.properties";
        let inner = archive(&[(place, PROPERTIES), ("x.class", b"\xca\xfe")]);
        let manifest: &[u8] = b"Manifest-Version: 1.0\r\nImplementation-Version: 2.0\r\nBundle-SymbolicName: example.ember.lo\r\n ng;singleton:=true\r\n\r\nName: x\r\nImplementation-Version: 9\r\n";
        let outer = archive(&[
            ("META-INF/MANIFEST.MF", manifest),
            ("BOOT-INF/lib/bellows.jar", &inner),
            ("BOOT-INF/lib/broken.jar", b"PK"),
        ]);
        let (found, unread) = artifacts("app/forge.jar", &outer);
        let told: Vec<String> = found
            .iter()
            .map(|(path, one)| format!("{path} {} {} {:?}", one.name, one.version, one.standing))
            .collect();
        assert_eq!(
            told,
            [
                "app/forge.jar!/BOOT-INF/lib/bellows.jar example.ember:bellows 31.1-jre Plain",
                "app/forge.jar example.ember.long 2.0 Guessed",
            ]
        );
        assert_eq!(unread.len(), 1);
        assert_eq!(unread[0].path, "app/forge.jar!/BOOT-INF/lib/broken.jar");
    }

    #[test]
    fn depth_and_size_are_bounded_and_told() {
        let mut nested = archive(&[("META-INF/maven/a/b/pom.properties", PROPERTIES)]);
        for _ in 0..6 {
            nested = archive(&[("in.jar", &nested)]);
        }
        let (found, unread) = artifacts("deep.jar", &nested);
        assert_eq!((found.len(), unread.len()), (0, 1));
        assert!(unread[0].why.contains("4 deep"), "{}", unread[0].why);
        let large = vec![0; usize::try_from(SMALL).unwrap() + 1];
        let bytes = archive(&[("META-INF/maven/a/b/pom.properties", &large)]);
        let (found, unread) = artifacts("large.jar", &bytes);
        assert_eq!((found.len(), unread.len()), (0, 1));
        assert_eq!(artifacts("x.jar", b"no archive").1.len(), 1);
        assert!(is_archive("a/B.WAR") && !is_archive("jar") && !is_archive("a.jarx"));
    }
}
