//! Alpine's packages: `lib/apk/db/installed`.

use super::{InstalledPackage, PackageList, SourcePackage, packages_of};
use crate::version::Ecosystem;

/// All packages of an `installed`. Its keys are letters, and those of both cases differ.
pub fn apk_packages(text: &[u8]) -> PackageList {
    packages_of(text, |stanza| {
        let field = |wanted: &str| {
            let found = stanza.iter().find(|(name, _)| *name == wanted);
            found.map(|(_, value)| *value).filter(|value| !value.is_empty())
        };
        let (name, version) = (field("P")?, field("V")?);
        Some(InstalledPackage {
            name: name.to_owned(),
            version: version.to_owned(),
            architecture: field("A").unwrap_or_default().to_owned(),
            source: SourcePackage {
                name: field("o").unwrap_or(name).to_owned(),
                version: version.to_owned(),
            },
            ecosystem: Ecosystem::Apk,
            // Made by who builds an image, to be removed together.
            is_virtual: name.starts_with('.'),
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_installed_is_read_with_its_origin() {
        let text = "C:Q1abc=\nP:libember\nV:1.2.4-r2\nA:x86_64\no:ember\nL:MIT\nF:lib\nR:libember.so\na:0:0:755\nM:0:0:1777\n\nP:.build-deps\nV:20261101.120000\nA:noarch\n\nP:alone\nV:3-r0\n\nV:9\n\nP:no-version\n";
        let list = apk_packages(text.as_bytes());
        let told: Vec<_> = list
            .packages
            .iter()
            .map(|one| (&*one.name, &*one.version, &*one.source.name, one.is_virtual))
            .collect();
        assert_eq!(
            told,
            [
                (".build-deps", "20261101.120000", ".build-deps", true),
                ("alone", "3-r0", "alone", false),
                ("libember", "1.2.4-r2", "ember", false),
            ]
        );
        assert_eq!(list.packages[2].architecture, "x86_64");
        assert!(!list.is_cut);
    }
}
