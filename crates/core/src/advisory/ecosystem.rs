//! Where a package is one, as OSV names it, and which system an image is made of.

use crate::inventory::OsRelease;
use crate::version::Ecosystem;

/// Whether what is said of one system is said of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Applies {
    Yes,
    No,
    /// The system is of that kind, and nobody knows which one it is.
    Unknown,
}

/// Systems, by OSV's name, with how their versions are compared.
const SYSTEMS: [(&str, Ecosystem); 19] = [
    ("Debian", Ecosystem::Deb),
    ("Ubuntu", Ecosystem::Deb),
    ("Alpine", Ecosystem::Apk),
    ("Wolfi", Ecosystem::Apk),
    ("Chainguard", Ecosystem::Apk),
    ("Alpaquita", Ecosystem::Apk),
    ("BellSoft Hardened Containers", Ecosystem::Apk),
    ("MinimOS", Ecosystem::Apk),
    ("Red Hat", Ecosystem::Rpm),
    ("Rocky Linux", Ecosystem::Rpm),
    ("AlmaLinux", Ecosystem::Rpm),
    ("SUSE", Ecosystem::Rpm),
    ("openSUSE", Ecosystem::Rpm),
    ("Photon OS", Ecosystem::Rpm),
    ("Mageia", Ecosystem::Rpm),
    ("openEuler", Ecosystem::Rpm),
    ("Azure Linux", Ecosystem::Rpm),
    ("Amazon Linux", Ecosystem::Rpm),
    ("Oracle Linux", Ecosystem::Rpm),
];

/// How versions of an ecosystem are compared, and what it is called without its release. None: it is not known.
pub fn ecosystem_of(text: &str) -> Option<Ecosystem> {
    let (name, _) = text.split_once(':').unwrap_or((text, ""));
    // The registry of Rust's crates is called by its host's name.
    let is_crates =
        name.split_once('.').is_some_and(|(first, last)| first == "crates" && last == "io");
    match name {
        "npm" => Some(Ecosystem::Npm),
        "PyPI" => Some(Ecosystem::PyPi),
        "Go" => Some(Ecosystem::Go),
        "Maven" => Some(Ecosystem::Maven),
        "RubyGems" => Some(Ecosystem::RubyGems),
        _ if is_crates => Some(Ecosystem::Cargo),
        _ => SYSTEMS.iter().find(|(system, _)| *system == name).map(|(_, ecosystem)| *ecosystem),
    }
}

/// A system as OSV names it: `Debian:12`. None: advisories name none of that kind, or it says no release.
pub fn release_of(release: &OsRelease) -> Option<String> {
    let version = release.version_id.as_deref()?;
    let major = version.split('.').next().unwrap_or(version);
    let minor = || {
        let mut parts = version.split('.');
        Some(format!("{}.{}", parts.next()?, parts.next()?))
    };
    let pretty = release.name.as_deref().unwrap_or_default();
    Some(match release.id.as_str() {
        "debian" => format!("Debian:{major}"),
        "ubuntu" => format!("Ubuntu:{version}"),
        "alpine" => format!("Alpine:v{}", minor()?),
        // Both are rolling: their records name no release.
        "wolfi" => "Wolfi".to_owned(),
        "chainguard" => "Chainguard".to_owned(),
        "rhel" => format!("Red Hat:{major}"),
        "rocky" => format!("Rocky Linux:{major}"),
        "almalinux" => format!("AlmaLinux:{major}"),
        "ol" => format!("Oracle Linux:{major}"),
        "amzn" => format!("Amazon Linux:{version}"),
        "azurelinux" | "mariner" => format!("Azure Linux:{major}"),
        "mageia" => format!("Mageia:{major}"),
        "photon" => format!("Photon OS:{version}"),
        "openEuler" | "openeuler" => format!("openEuler:{version}"),
        id if id.starts_with("opensuse") => match pretty.strip_prefix("openSUSE ") {
            Some(rest) => format!("openSUSE:{rest}"),
            None => format!("openSUSE:Leap {version}"),
        },
        id if id == "sles" || id.starts_with("sle_") => match pretty.strip_prefix("SUSE ") {
            Some(rest) => format!("SUSE:{rest}"),
            None => format!("SUSE:Linux Enterprise Server {version}"),
        },
        _ => return None,
    })
}

/// Whether an advisory of an ecosystem is about packages of a system. A package of a language has none, and `release` is
/// empty.
pub fn applies(of: &str, release: &str) -> Applies {
    let (name, wanted) = of.split_once(':').unwrap_or((of, ""));
    let is_system = SYSTEMS.iter().any(|(system, _)| *system == name);
    if !is_system {
        return Applies::Yes;
    }
    if release.is_empty() {
        return Applies::Unknown;
    }
    let (own, number) = release.split_once(':').unwrap_or((release, ""));
    if own != name {
        return Applies::No;
    }
    // Without a release it is about all of them.
    if wanted.is_empty() {
        return Applies::Yes;
    }
    let same = match name {
        "Ubuntu" => {
            let wanted = wanted.strip_prefix("Pro:").unwrap_or(wanted);
            wanted.split(':').next() == Some(number)
        }
        // A product in the words of CPE: `enterprise_linux:9::baseos`.
        // A product in the words of CPE: `enterprise_linux:9::baseos`. Others have packages of the same names.
        "Red Hat" => wanted
            .strip_prefix("enterprise_linux:")
            .and_then(|rest| rest.split([':', '.']).next())
            .is_some_and(|version| version == number),
        _ => wanted == number,
    };
    if same { Applies::Yes } else { Applies::No }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::inventory::read_release;

    #[test]
    fn systems_are_named_as_advisories_do() {
        for (text, expected) in [
            ("ID=debian\nVERSION_ID=\"12\"", Some("Debian:12")),
            ("ID=debian\nVERSION_CODENAME=sid", None),
            ("ID=alpine\nVERSION_ID=3.23.6", Some("Alpine:v3.23")),
            ("ID=ubuntu\nVERSION_ID=\"22.04\"", Some("Ubuntu:22.04")),
            ("ID=\"rhel\"\nVERSION_ID=\"9.4\"", Some("Red Hat:9")),
            ("ID=\"rocky\"\nVERSION_ID=\"9.3\"", Some("Rocky Linux:9")),
            (
                "ID=opensuse-leap\nVERSION_ID=15.5\nPRETTY_NAME=\"openSUSE Leap 15.5\"",
                Some("openSUSE:Leap 15.5"),
            ),
            ("ID=emberfall\nVERSION_ID=12", None),
        ] {
            let release = read_release(text.as_bytes()).unwrap();
            assert_eq!(release_of(&release).as_deref(), expected, "{text}");
        }
    }

    #[test]
    fn what_is_said_of_one_release_is_not_said_of_another() {
        use Applies::{No, Unknown, Yes};
        for (of, release, expected) in [
            ("Debian:12", "Debian:12", Yes),
            ("Debian:11", "Debian:12", No),
            ("Debian", "Debian:12", Yes),
            ("Debian:12", "Ubuntu:22.04", No),
            ("Debian:12", "", Unknown),
            ("Alpine:v3.22", "Alpine:v3.23", No),
            ("Ubuntu:22.04:LTS", "Ubuntu:22.04", Yes),
            ("Ubuntu:Pro:22.04:LTS", "Ubuntu:22.04", Yes),
            ("Ubuntu:24.04:LTS", "Ubuntu:22.04", No),
            ("Red Hat:enterprise_linux:9::baseos", "Red Hat:9", Yes),
            ("Red Hat:enterprise_linux:8::baseos", "Red Hat:9", No),
            ("Red Hat:rhel_eus:9.2::baseos", "Red Hat:9", No),
            ("Wolfi", "Wolfi", Yes),
            ("npm", "", Yes),
            ("Maven:https://bazaar.example", "", Yes),
        ] {
            assert_eq!(applies(of, release), expected, "{of} {release}");
        }
        assert_eq!(ecosystem_of("Maven:https://bazaar.example"), Some(Ecosystem::Maven));
        assert_eq!(ecosystem_of("Debian:12"), Some(Ecosystem::Deb));
        assert_eq!(ecosystem_of("Emberfall:12"), None);
    }
}
