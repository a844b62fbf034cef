//! What a bill of materials says, and what we have read ourselves: where the two differ.

use std::collections::{BTreeMap, BTreeSet};

use super::Sbom;
use crate::inventory::{ImageInventory, PackageStanding, normal_name};
use crate::purl::PackageUrl;

/// A package that only one of the two has, or has in another version.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct SbomDifference {
    /// As in package URLs.
    pub kind: String,
    pub name: String,
    /// The versions that it lists and that we did not find.
    pub listed: Vec<String>,
    /// The versions that we found and that it does not list.
    pub found: Vec<String>,
}

type Key = (String, String);

/// The name by which a package is compared: package URLs of different writers differ in their namespaces of systems, in
/// letters' case and in their qualifiers.
fn key(url: &PackageUrl) -> Key {
    let is_system = matches!(url.kind.as_str(), "deb" | "apk" | "rpm");
    let mut parts: Vec<&str> = Vec::new();
    if !is_system {
        parts.extend(url.namespace.iter().map(String::as_str));
    }
    parts.push(&url.name);
    let name = parts.join("/").to_lowercase();
    let name = if url.kind == "pypi" { normal_name(&name) } else { name };
    (url.kind.clone(), name)
}

fn version(url: &PackageUrl) -> String {
    let version = url.version.clone().unwrap_or_default();
    match url.qualifiers.get("epoch").filter(|epoch| *epoch != "0") {
        Some(epoch) => format!("{epoch}:{version}"),
        // Modules of Go are written with and without it.
        None if url.kind == "golang" => version.trim_start_matches('v').to_owned(),
        None => version,
    }
}

/// Where a bill of materials and our own reading differ, by kind and name. What we only guess is not compared.
pub fn differences(sbom: &Sbom, inventory: &ImageInventory) -> Vec<SbomDifference> {
    let mut listed: BTreeMap<Key, BTreeSet<String>> = BTreeMap::new();
    for package in &sbom.packages {
        listed.entry(key(&package.url)).or_default().insert(version(&package.url));
    }
    let mut found: BTreeMap<Key, BTreeSet<String>> = BTreeMap::new();
    let there = inventory.packages.iter().filter(|one| {
        one.removed.is_none()
            && !matches!(one.package.standing, PackageStanding::Guessed | PackageStanding::Virtual)
    });
    for one in there {
        let url = one.package.url(inventory.release.as_ref());
        found.entry(key(&url)).or_default().insert(version(&url));
    }
    let none = BTreeSet::new();
    let keys: BTreeSet<&Key> = listed.keys().chain(found.keys()).collect();
    let compared = keys.into_iter().map(|key| {
        let (listed, found) = (listed.get(key).unwrap_or(&none), found.get(key).unwrap_or(&none));
        SbomDifference {
            kind: key.0.clone(),
            name: key.1.clone(),
            listed: listed.difference(found).cloned().collect(),
            found: found.difference(listed).cloned().collect(),
        }
    });
    compared.filter(|one| !one.listed.is_empty() || !one.found.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use super::super::{SbomForm, SbomSubject, cyclonedx, read_sbom, spdx};
    use super::*;
    use crate::digest::Digest;
    use crate::inventory::{ImagePackage, InstalledPackage, OsRelease, Unread};
    use crate::version::Ecosystem;

    fn inventory() -> ImageInventory {
        let package = |ecosystem, name: &str, version: &str, path: &str| ImagePackage {
            package: InstalledPackage::of_language(ecosystem, name, version),
            path: path.to_owned(),
            layer: 0,
            removed: None,
            inside: None,
            owner: None,
        };
        let mut guessed = package(Ecosystem::Maven, "lone.jar", "1", "lone.jar");
        guessed.package.standing = PackageStanding::Guessed;
        ImageInventory {
            release: Some(OsRelease {
                id: "emberfall".to_owned(),
                version_id: Some("12".to_owned()),
                codename: None,
                name: None,
                like: Vec::new(),
                cpe: None,
                support_end: None,
            }),
            packages: vec![
                package(Ecosystem::Deb, "libember1", "1:2.3+b1", "var/lib/dpkg/status"),
                package(Ecosystem::Rpm, "ember", "2:1.0-1.el9", "var/lib/rpm/rpmdb.sqlite"),
                package(Ecosystem::PyPi, "Ember_Tools", "1.0", "a/METADATA"),
                package(Ecosystem::Npm, "@ember/bellows", "1.2.3", "a/package.json"),
                package(Ecosystem::Npm, "@ember/bellows", "1.2.3", "b/package.json"),
                package(Ecosystem::Go, "bazaar.example/tongs", "v0.1.0", "bin/x"),
                guessed,
            ],
            unread: vec![(0, Unread { path: "x".to_owned(), why: "it is damaged".to_owned() })],
        }
    }

    #[test]
    fn what_is_written_is_read_as_the_same() {
        let digest = Digest::of(b"image");
        let subject = SbomSubject {
            reference: "bazaar.example/library/kettle:2",
            digest: &digest,
            layers: &[Digest::of(b"layer")],
            made_at: "2026-11-30T00:00:00Z",
            version: "0.1.0",
        };
        let inventory = inventory();
        for (document, form) in [
            (spdx(&subject, &inventory), SbomForm::Spdx),
            (cyclonedx(&subject, &inventory), SbomForm::CycloneDx),
        ] {
            let text = document.to_string();
            assert!(text.contains("it is damaged"), "{text}");
            let read = read_sbom(text.as_bytes()).unwrap();
            assert_eq!((read.form, read.packages.len(), read.unnamed), (form, 6, 1), "{text}");
            assert!(read.made_by.contains("larder"), "{}", read.made_by);
            assert_eq!(differences(&read, &inventory), []);
            // In its envelopes too.
            let statement = format!(r#"{{"predicateType":"x","predicate":{text}}}"#);
            assert_eq!(read_sbom(statement.as_bytes()).unwrap(), read);
        }
    }

    #[test]
    fn other_spellings_are_the_same_and_other_versions_are_told() {
        let sbom = br#"{"bomFormat":"CycloneDX","specVersion":"1.5","metadata":{"tools":[{"name":"maker"}]},
          "components":[
            {"type":"library","name":"a","purl":"pkg:deb/debian/libember1@1:2.3+b1?arch=amd64"},
            {"type":"library","name":"a","purl":"pkg:rpm/redhat/ember@1.0-1.el9?epoch=2"},
            {"type":"library","name":"b","purl":"pkg:pypi/ember-tools@1.1","components":[
              {"type":"library","name":"c","purl":"pkg:npm/%40ember/bellows@1.2.3"}]},
            {"type":"library","name":"d","purl":"pkg:golang/bazaar.example/tongs@0.1.0"},
            {"type":"library","name":"e","purl":"pkg:npm/only-there@1"},
            {"type":"operating-system","name":"f"},{"type":"library","name":"g"}]}"#;
        let read = read_sbom(sbom).unwrap();
        assert_eq!((read.unnamed, &*read.made_by), (1, "maker"));
        let told = differences(&read, &inventory());
        let told: Vec<_> =
            told.iter().map(|one| (&*one.name, one.listed.clone(), one.found.clone())).collect();
        assert_eq!(
            told,
            [
                ("only-there", vec!["1".to_owned()], vec![]),
                ("ember-tools", vec!["1.1".to_owned()], vec!["1.0".to_owned()]),
            ]
        );
    }

    #[test]
    fn what_is_none_is_told() {
        for text in [
            "",
            "[]",
            "{}",
            "{\"bomFormat\":\"other\"}",
            "{\"payloadType\":\"x\",\"payload\":\"*\"}",
        ] {
            assert!(read_sbom(text.as_bytes()).is_err(), "{text}");
        }
        let mut deep = "{\"type\":\"library\",\"components\":[".repeat(100);
        deep.push_str(&"]}".repeat(100));
        let text = format!("{{\"bomFormat\":\"CycloneDX\",\"components\":[{deep}]}}");
        // Deeper than any reader goes.
        assert!(read_sbom(text.as_bytes()).is_err());
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..300)) {
            let _read = read_sbom(&bytes);
        }
    }
}
