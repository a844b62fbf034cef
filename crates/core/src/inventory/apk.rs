//! Alpine's packages: `lib/apk/db/installed`.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use super::content::beginning;
use super::{
    InstalledPackage, OwnedFiles, PackageList, PackageStanding, SourcePackage, packages_of,
};
use crate::version::Ecosystem;

/// All packages of an `installed`. Its keys are letters, and those of both cases differ.
pub fn apk_packages(text: &[u8]) -> PackageList {
    let mut owned = OwnedFiles::default();
    let mut all_kept = true;
    let mut list = packages_of(text, |stanza| {
        let field = |wanted: &str| {
            let found = stanza.iter().find(|(name, _)| *name == wanted);
            found.map(|(_, value)| *value).filter(|value| !value.is_empty())
        };
        let (name, version) = (field("P")?, field("V")?);
        all_kept &= files_of(name, stanza, &mut owned);
        let source = field("o").filter(|origin| *origin != name);
        Some(InstalledPackage {
            ecosystem: Ecosystem::Apk,
            name: name.to_owned(),
            version: version.to_owned(),
            architecture: field("A").unwrap_or_default().to_owned(),
            source: source.map(|origin| SourcePackage {
                name: origin.to_owned(),
                version: version.to_owned(),
            }),
            // Made by who builds an image, to be removed together.
            standing: match name.starts_with('.') {
                true => PackageStanding::Virtual,
                false => PackageStanding::Plain,
            },
        })
    });
    list.owned = owned;
    if !all_kept {
        list.left_out.get_or_insert_with(|| "it owns more files than are kept".to_owned());
    }
    list
}

/// The files of a package: `F` a directory, `R` a file in it, `Z` what its content was. False: there are too many.
fn files_of(name: &str, stanza: &[(&str, &str)], owned: &mut OwnedFiles) -> bool {
    let (mut folder, mut file, mut fit) = ("", None, true);
    let mut add = |folder: &str, file: Option<&str>, content: u64| {
        if let Some(file) = file {
            let path = if folder.is_empty() { file.to_owned() } else { format!("{folder}/{file}") };
            fit &= owned.add(name, &path, content);
        }
    };
    for (key, value) in stanza {
        match *key {
            "F" => {
                add(folder, file.take(), 0);
                folder = value;
            }
            "R" => {
                add(folder, file.take(), 0);
                file = Some(*value);
            }
            "Z" => {
                let hash = value.strip_prefix("Q1").and_then(|text| STANDARD.decode(text).ok());
                add(folder, file.take(), hash.map_or(0, |hash| beginning(&hash)));
            }
            _ => {}
        }
    }
    add(folder, file, 0);
    fit
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_installed_is_read_with_its_origin() {
        let text = "C:Q1abc=\nP:libember\nV:1.2.4-r2\nA:x86_64\no:ember\nL:MIT\nF:usr/lib/node_modules/ember\nM:0:0:1777\nR:package.json\na:0:0:755\nZ:Q1qZk+NkcGgWq6PiVxeFDCbJzQ2J0=\nR:readme\nF:usr/bin\nR:ember\n\nP:.build-deps\nV:20261101.120000\nA:noarch\n\nP:alone\nV:3-r0\n\nV:9\n\nP:no-version\n";
        let list = apk_packages(text.as_bytes());
        let told: Vec<_> = list
            .packages
            .iter()
            .map(|one| (&*one.name, &*one.version, one.source_name(), one.standing))
            .collect();
        assert_eq!(
            told,
            [
                (".build-deps", "20261101.120000", ".build-deps", PackageStanding::Virtual),
                ("alone", "3-r0", "alone", PackageStanding::Plain),
                ("libember", "1.2.4-r2", "ember", PackageStanding::Plain),
            ]
        );
        assert_eq!(list.packages[2].architecture, "x86_64");
        assert_eq!(list.left_out, None);
        let print = super::super::ContentPrint::of(b"abc");
        let places: Vec<_> = list.owned.files.iter().map(|(_, _, hash)| *hash).collect();
        assert_eq!(places, [print.sha1, 0]);
        assert_eq!(list.owned.packages, ["libember"]);
    }
}
