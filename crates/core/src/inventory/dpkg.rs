//! Debian's packages: `var/lib/dpkg/status`, and one file for each in `var/lib/dpkg/status.d`.

use super::content::beginning_of_hex;
use super::{
    InstalledPackage, LARGEST, OwnedFiles, PackageList, PackageStanding, SourcePackage,
    packages_of, stanzas,
};
use crate::version::Ecosystem;

/// All packages of a `status`.
pub fn dpkg_packages(text: &[u8]) -> PackageList {
    packages_of(text, |stanza| package(stanza, true))
}

/// The package of a file in `status.d`, which has no `Status`: it is there because its file is. None: it names none.
pub fn dpkg_package(text: &[u8]) -> Option<InstalledPackage> {
    let text = text.get(..LARGEST).unwrap_or(text);
    package(&stanzas(text).next()?, false)
}

/// None: it is not installed, or no package.
fn package(stanza: &[(&str, &str)], asks_status: bool) -> Option<InstalledPackage> {
    let field = |wanted: &str| {
        let found = stanza.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted));
        found.map(|(_, value)| *value).filter(|value| !value.is_empty())
    };
    let (name, version) = (field("Package")?, field("Version")?);
    // `want flag state`: a removed one may have left its configuration.
    let state = field("Status").and_then(|status| status.split_whitespace().nth(2));
    let is_there = match state {
        Some(state) => !matches!(state, "not-installed" | "config-files"),
        None => !asks_status,
    };
    if !is_there {
        return None;
    }
    // `NAME (VERSION)` where the version differs.
    let source = field("Source").map(|source| match source.split_once('(') {
        Some((source, of)) => SourcePackage {
            name: source.trim().to_owned(),
            version: of.trim_end_matches(')').trim().to_owned(),
        },
        None => SourcePackage { name: source.to_owned(), version: version.to_owned() },
    });
    Some(InstalledPackage {
        ecosystem: Ecosystem::Deb,
        name: name.to_owned(),
        version: version.to_owned(),
        architecture: field("Architecture").unwrap_or_default().to_owned(),
        source: source.filter(|source| source.name != name || source.version != version),
        standing: PackageStanding::Plain,
    })
}

/// The files of a package, as `info/NAME.list` has them: an absolute path a line. False: there are too many.
pub(super) fn dpkg_list(package: &str, text: &[u8], owned: &mut OwnedFiles) -> bool {
    let lines = text.split(|byte| *byte == b'\n').filter_map(|line| std::str::from_utf8(line).ok());
    lines.filter(|line| line.starts_with('/')).all(|line| owned.add(package, line, 0))
}

/// The contents of a package's files, as `info/NAME.md5sums` has them: the hash, two blanks and the path without a slash
/// before it. Files of configuration are not among them. False: there are too many.
pub(super) fn dpkg_sums(package: &str, text: &[u8], owned: &mut OwnedFiles) -> bool {
    let lines = text.split(|byte| *byte == b'\n').filter_map(|line| std::str::from_utf8(line).ok());
    let sums = lines.filter_map(|line| {
        let (hash, path) = line.split_once(' ')?;
        Some((beginning_of_hex(hash)?, path.trim_start()))
    });
    sums.into_iter().all(|(hash, path)| owned.add(package, path, hash))
}

#[cfg(test)]
mod tests {
    use super::*;

    const STATUS: &str = "Package: emberutils\nStatus: install ok installed\nArchitecture: amd64\nSource: ember-linux (2.38.1-5)\nVersion: 1:2.38.1-5\nDescription: made up\n more: of it\n .\n Package: not-this\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 1\n\n\npackage: held\nSTATUS: hold ok installed\nVersion: 2\nSource: held-source\nArchitecture: all\n\nPackage: unpacked\nStatus: install ok unpacked\nVersion: 3\nArchitecture: arm64\n\nPackage: unpacked\nStatus: install ok installed\nVersion: 3\nArchitecture: amd64\n\nPackage: nameless-version\nStatus: install ok installed\n\nPackage: half";

    #[test]
    fn what_is_installed_is_read_with_its_source() {
        let list = dpkg_packages(STATUS.as_bytes());
        let told: Vec<String> = list
            .packages
            .iter()
            .map(|one| {
                format!(
                    "{} {} {} {}={}",
                    one.name,
                    one.architecture,
                    one.version,
                    one.source_name(),
                    one.source_version()
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "emberutils amd64 1:2.38.1-5 ember-linux=2.38.1-5",
                "held all 2 held-source=2",
                "unpacked amd64 3 unpacked=3",
                "unpacked arm64 3 unpacked=3",
            ]
        );
        assert_eq!(list.left_out, None);
        assert_eq!(dpkg_packages(STATUS.replace('\n', "\r\n").as_bytes()), list);
    }

    #[test]
    fn a_file_of_its_own_needs_no_status() {
        let text = "Package: tiny\nVersion: 1.0\nArchitecture: amd64\n";
        assert_eq!(dpkg_package(text.as_bytes()).map(|one| one.name), Some("tiny".to_owned()));
        assert_eq!(dpkg_packages(text.as_bytes()).packages, []);
        let gone = format!("{text}Status: deinstall ok config-files\n");
        assert_eq!(dpkg_package(gone.as_bytes()), None);
        assert_eq!(dpkg_package(b"\xff\xfe"), None);
    }

    #[test]
    fn files_of_packages_are_told_with_their_contents() {
        let mut owned = OwnedFiles::default();
        assert!(dpkg_list("ember", b"/.\n/usr/bin\n/usr/bin/ember\n/bin/old\n", &mut owned));
        assert_eq!(owned.files.iter().map(|file| file.2).collect::<Vec<_>>(), [0, 0]);
        let mut owned = OwnedFiles::default();
        let sums = b"900150983cd24fb0d6963f7d28e17f72  usr/bin/ember\nnone  usr/bin/x\n\n";
        assert!(dpkg_sums("ember", sums, &mut owned));
        let print = super::super::ContentPrint::of(b"abc");
        assert_eq!(owned.files.iter().map(|file| file.2).collect::<Vec<_>>(), [print.md5]);
    }

    #[test]
    fn what_is_there_twice_is_there_as_it_was_last() {
        let one = |version: &str| {
            format!("Package: twice\nStatus: install ok installed\nVersion: {version}\n\n")
        };
        let list = dpkg_packages((one("1") + &one("2")).as_bytes());
        assert_eq!(list.packages.iter().map(|one| &*one.version).collect::<Vec<_>>(), ["2"]);
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..400), at in 0..400_usize) {
            let mut text = STATUS.as_bytes().to_vec();
            let at = at.min(text.len());
            text.splice(at..at, bytes);
            let list = dpkg_packages(&text);
            proptest::prop_assert!(list.packages.len() <= 8);
        }
    }
}
