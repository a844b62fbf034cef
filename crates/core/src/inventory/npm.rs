//! Packages of npm: `node_modules/NAME/package.json`, nested ones too.

use serde::Deserialize;

use super::{InstalledPackage, kept};
use crate::version::Ecosystem;

/// Whether a path is that of a package which is installed, and not of a test or of the program itself.
pub(super) fn is_package(path: &str) -> bool {
    let mut parts = path.rsplit('/');
    if parts.next() != Some("package.json") || parts.next().is_none_or(|name| name.starts_with('@'))
    {
        return false;
    }
    match parts.next() {
        Some("node_modules") => true,
        Some(scope) => scope.starts_with('@') && parts.next() == Some("node_modules"),
        None => false,
    }
}

#[derive(Deserialize)]
struct PackageJson {
    name: Option<String>,
    version: Option<String>,
}

/// The package, by its file. None: it has no name or no version.
pub(super) fn package(text: &[u8]) -> Option<InstalledPackage> {
    let text = text.strip_prefix(b"\xef\xbb\xbf").unwrap_or(text);
    let json: PackageJson = serde_json::from_slice(text).ok()?;
    let (name, version) = (json.name?, json.version?);
    Some(InstalledPackage::of_language(Ecosystem::Npm, kept(&name)?, kept(&version)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_installed_packages_are_read() {
        for (path, expected) in [
            ("app/node_modules/bellows/package.json", true),
            ("node_modules/@ember/bellows/package.json", true),
            ("app/node_modules/a/node_modules/b/package.json", true),
            ("app/package.json", false),
            ("package.json", false),
            ("app/node_modules/bellows/test/package.json", false),
            ("app/node_modules/bellows/test/fixtures/package.json", false),
            ("app/node_modules/@ember/package.json", false),
            ("app/node_modules/package.json", false),
        ] {
            assert_eq!(is_package(path), expected, "{path}");
        }
    }

    #[test]
    fn names_keep_their_letters() {
        let text = br#"{"name": "JSONStream", "version": "1.3.5", "private": true}"#;
        let package = package(text).unwrap();
        assert_eq!((&*package.name, &*package.version), ("JSONStream", "1.3.5"));
        for text in [&br#"{"name": "x"}"#[..], b"[]", b"{", b"", br#"{"name": 1, "version": "1"}"#]
        {
            assert_eq!(super::package(text), None);
        }
    }
}
