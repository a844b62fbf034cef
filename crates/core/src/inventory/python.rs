//! Python's packages: what each says of itself in `METADATA` or `PKG-INFO` (Python Packaging, "Core metadata").

use super::{InstalledPackage, kept};
use crate::version::Ecosystem;

/// Whether a path is that of what a package says of itself.
pub(super) fn is_metadata(path: &str) -> bool {
    let Some((folder, name)) = path.rsplit_once('/') else { return path.ends_with(".egg-info") };
    match name {
        "METADATA" => folder.ends_with(".dist-info"),
        "PKG-INFO" => folder.ends_with(".egg-info") || folder.ends_with(".egg/EGG-INFO"),
        name => name.len() > ".egg-info".len() && name.ends_with(".egg-info"),
    }
}

/// The package, by the headers before the first empty line. None: it names none.
pub(super) fn metadata(text: &[u8]) -> Option<InstalledPackage> {
    let (mut name, mut version) = (None, None);
    for line in text.split(|byte| *byte == b'\n') {
        let line = String::from_utf8_lossy(line);
        let line = line.trim_end();
        if line.is_empty() {
            break;
        }
        if let Some((key, value)) = line.split_once(':') {
            match key {
                _ if key.eq_ignore_ascii_case("Name") => name = kept(value).map(str::to_owned),
                _ if key.eq_ignore_ascii_case("Version") => {
                    version = kept(value).map(str::to_owned);
                }
                _ => {}
            }
        }
    }
    Some(InstalledPackage::of_language(Ecosystem::PyPi, &name?, &version?))
}

/// A name as its index compares it (Python Packaging, "Names and normalization").
pub fn normal_name(name: &str) -> String {
    let mut normal = String::with_capacity(name.len());
    for part in name.split(['-', '_', '.']).filter(|part| !part.is_empty()) {
        if !normal.is_empty() {
            normal.push('-');
        }
        normal.push_str(&part.to_lowercase());
    }
    normal
}

/// The package whose own copy of others a path lies in: `setuptools` of `setuptools/_vendor/…`.
pub(super) fn carrier(path: &str) -> Option<&str> {
    let (before, _) = path.split_once("/_vendor/")?;
    before.rsplit('/').next().filter(|name| !name.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_named_by_what_they_say() {
        let text = "Metadata-Version: 2.1\nName: zope.interface\nVersion: 8.7\nSummary: Name: no\n\nName: not.this\n";
        let package = metadata(text.as_bytes()).unwrap();
        assert_eq!((&*package.name, &*package.version), ("zope.interface", "8.7"));
        assert_eq!(normal_name("Zope._-Interface"), "zope-interface");
        assert_eq!(metadata(b"Name: x\n\nVersion: 1\n"), None);
        assert_eq!(metadata(b"\xff\xfe"), None);
    }

    #[test]
    fn only_its_own_places_are_read() {
        let lib = "usr/lib/python3/dist-packages";
        for (path, expected) in [
            (format!("{lib}/bellows-1.0.dist-info/METADATA"), true),
            (format!("{lib}/bellows.egg-info/PKG-INFO"), true),
            (format!("{lib}/bellows-1.0.egg-info"), true),
            (format!("{lib}/bellows-1.0.egg/EGG-INFO/PKG-INFO"), true),
            (format!("{lib}/bellows/METADATA"), false),
            ("PKG-INFO".to_owned(), false),
        ] {
            assert_eq!(is_metadata(&path), expected, "{path}");
        }
        let path = format!("{lib}/setuptools/_vendor/tomli-2.0.1.dist-info/METADATA");
        assert_eq!(carrier(&path), Some("setuptools"));
        assert_eq!(carrier(lib), None);
    }
}
