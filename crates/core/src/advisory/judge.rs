//! Is a version of a package affected? (OSV 1.6, "Evaluation".)

use std::cmp::Ordering;

use super::ecosystem::{Applies, applies, ecosystem_of};
use super::osv::{Advisory, Affected, RangeEvent};
use super::{PackageKey, matched_name};
use crate::version::{Ecosystem, Version};

/// What an advisory says of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PackageVerdict {
    /// It is vulnerable. `fixed` is the first version that is not; empty: none is known.
    Affected {
        fixed: String,
    },
    NotAffected,
    /// Nobody can say, and why.
    Unknown(String),
}

/// The most events of one range that are compared.
const MOST: usize = 1000;

/// What an advisory says of a package. One that is withdrawn says nothing any more.
pub fn judge(advisory: &Advisory, package: &PackageKey) -> PackageVerdict {
    let mut verdict = PackageVerdict::NotAffected;
    if advisory.withdrawn.is_some() {
        return verdict;
    }
    for affected in &advisory.affected {
        let Some(of) = &affected.package else { continue };
        if ecosystem_of(&of.ecosystem) != Some(package.ecosystem)
            || matched_name(package.ecosystem, &of.name) != package.name
        {
            continue;
        }
        match applies(&of.ecosystem, &package.release) {
            Applies::No => {}
            Applies::Unknown => {
                let why = "it is not known of which release the system is".to_owned();
                verdict = worse(verdict, PackageVerdict::Unknown(why));
            }
            Applies::Yes => verdict = worse(verdict, entry(affected, package)),
        }
    }
    verdict
}

/// What says more stands: affected, then unknown.
fn worse(one: PackageVerdict, other: PackageVerdict) -> PackageVerdict {
    use PackageVerdict::{Affected, NotAffected, Unknown};
    match (one, other) {
        (Affected { fixed }, Affected { fixed: other }) => {
            Affected { fixed: if fixed.is_empty() { other } else { fixed } }
        }
        (Affected { fixed }, _) | (_, Affected { fixed }) => Affected { fixed },
        (Unknown(why), _) | (_, Unknown(why)) => Unknown(why),
        (NotAffected, NotAffected) => NotAffected,
    }
}

/// A version as the package has it: some records of Red Hat put the architecture behind it.
fn cleaned(ecosystem: Ecosystem, text: &str) -> &str {
    if ecosystem != Ecosystem::Rpm {
        return text;
    }
    let ends = [".src", ".noarch", ".x86_64", ".aarch64", ".ppc64le", ".s390x", ".i686"];
    ends.iter().find_map(|end| text.strip_suffix(end)).unwrap_or(text)
}

fn entry(affected: &Affected, package: &PackageKey) -> PackageVerdict {
    let ecosystem = package.ecosystem;
    let is_listed =
        affected.versions.iter().any(|version| cleaned(ecosystem, version) == package.version);
    let ranges = || affected.ranges.iter().filter(|range| range.kind != "GIT");
    let mut verdict = match is_listed {
        true => PackageVerdict::Affected { fixed: String::new() },
        false => PackageVerdict::NotAffected,
    };
    if affected.versions.is_empty() && ranges().next().is_none() {
        let why = "it names no versions that can be compared".to_owned();
        return PackageVerdict::Unknown(why);
    }
    let mut fixes: Vec<String> = Vec::new();
    for range in ranges() {
        let (found, mut later) = walk(ecosystem, &range.events, &package.version);
        fixes.append(&mut later);
        verdict = worse(verdict, found);
    }
    if let PackageVerdict::Affected { fixed } = &mut verdict
        && fixed.is_empty()
    {
        *fixed = least(ecosystem, fixes);
    }
    verdict
}

/// The first of several versions.
fn least(ecosystem: Ecosystem, versions: Vec<String>) -> String {
    let read = |text: &str| Version::read(ecosystem, text).ok();
    let mut first = String::new();
    for version in versions {
        let is_earlier = match (read(&version), read(&first)) {
            (Some(new), Some(old)) => new.compare(&old) == Some(Ordering::Less),
            _ => first.is_empty(),
        };
        if is_earlier {
            first = version;
        }
    }
    first
}

/// Where an event stands: `0` stands before everything.
enum Place {
    Start,
    At(Version),
}

impl Place {
    /// Whether it stands before a version, at it, or behind it. None: that cannot be said.
    fn compare(&self, version: &Version) -> Option<Ordering> {
        match self {
            Self::Start => Some(Ordering::Less),
            Self::At(at) => at.compare(version),
        }
    }

    fn order(&self, other: &Self) -> Option<Ordering> {
        match (self, other) {
            (Self::Start, Self::Start) => Some(Ordering::Equal),
            (Self::Start, Self::At(_)) => Some(Ordering::Less),
            (Self::At(_), Self::Start) => Some(Ordering::Greater),
            (Self::At(one), Self::At(other)) => one.compare(other),
        }
    }
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Turn {
    Introduced,
    Fixed,
    LastAffected,
}

/// Sorts by an order that need be none for all: Maven's is not. What is the same stays as it stands.
pub fn sorted<T>(mut all: Vec<T>, compare: impl Fn(&T, &T) -> Option<Ordering>) -> Vec<T> {
    for end in 1..all.len() {
        let mut at = end;
        while at > 0 && compare(&all[at - 1], &all[at]) == Some(Ordering::Greater) {
            all.swap(at - 1, at);
            at -= 1;
        }
    }
    all
}

/// Walks through a range; gives what it says, and the versions that mend it and are later than this one.
fn walk(
    ecosystem: Ecosystem,
    events: &[RangeEvent],
    version: &str,
) -> (PackageVerdict, Vec<String>) {
    let unknown = |why: String| (PackageVerdict::Unknown(why), Vec::new());
    let version = match Version::read(ecosystem, version) {
        Ok(version) => version,
        Err(error) => return unknown(format!("its own version cannot be compared: {error}")),
    };
    if events.len() > MOST {
        return unknown(format!("it has more than {MOST} events"));
    }
    let (mut turns, mut limits) = (Vec::new(), Vec::new());
    for event in events {
        let all = [
            (Turn::Introduced, &event.introduced),
            (Turn::Fixed, &event.fixed),
            (Turn::LastAffected, &event.last_affected),
        ];
        for (turn, text) in all {
            let Some(text) = text else { continue };
            match place(ecosystem, text) {
                Some(place) => turns.push((turn, place, text)),
                None => return unknown(format!("its version {} cannot be compared", shown(text))),
            }
        }
        if let Some(text) = event.limit.as_ref().filter(|text| *text != "*") {
            match place(ecosystem, text) {
                Some(place) => limits.push(place),
                None => return unknown(format!("its version {} cannot be compared", shown(text))),
            }
        }
    }
    if !limits.is_empty()
        && !limits.iter().any(|limit| limit.compare(&version) == Some(Ordering::Greater))
    {
        return (PackageVerdict::NotAffected, Vec::new());
    }
    let turns = sorted(turns, |(_, one, _), (_, other, _)| one.order(other));
    let (mut is_affected, mut later) = (false, Vec::new());
    for (turn, place, text) in &turns {
        let Some(order) = place.compare(&version) else {
            return unknown(format!("its version {} cannot be compared", shown(text)));
        };
        match turn {
            Turn::Introduced if order != Ordering::Greater => is_affected = true,
            Turn::Fixed if order != Ordering::Greater => is_affected = false,
            Turn::Fixed => later.push(cleaned(ecosystem, text).to_owned()),
            Turn::LastAffected if order == Ordering::Less => is_affected = false,
            Turn::Introduced | Turn::LastAffected => {}
        }
    }
    match is_affected {
        true => (PackageVerdict::Affected { fixed: String::new() }, later),
        false => (PackageVerdict::NotAffected, Vec::new()),
    }
}

fn place(ecosystem: Ecosystem, text: &str) -> Option<Place> {
    if text == "0" {
        return Some(Place::Start);
    }
    Version::read(ecosystem, cleaned(ecosystem, text)).ok().map(Place::At)
}

fn shown(text: &str) -> String {
    crate::shown::cut(text, 60)
}

#[cfg(test)]
mod tests {
    use super::super::osv::read_advisory;
    use super::*;

    fn verdict(affected: &str, name: &str, release: &str, version: &str) -> PackageVerdict {
        let text = format!(
            r#"{{"id":"EMBER-2026-0001","modified":"2026-10-01T00:00:00Z","affected":[{affected}]}}"#
        );
        let advisory = read_advisory(text.as_bytes()).unwrap();
        let of = &advisory.affected[0].package.as_ref().unwrap().ecosystem;
        let package = PackageKey {
            ecosystem: ecosystem_of(of).unwrap(),
            name: name.to_owned(),
            release: release.to_owned(),
            version: version.to_owned(),
        };
        judge(&advisory, &package)
    }

    fn affected(fixed: &str) -> PackageVerdict {
        PackageVerdict::Affected { fixed: fixed.to_owned() }
    }

    #[test]
    fn ranges_are_walked_in_the_order_of_versions() {
        // As real records have them: not sorted, and with two ways out.
        let range = r#"{"package":{"ecosystem":"npm","name":"damper"},"ranges":[{"type":"SEMVER","events":[
            {"introduced":"0"},{"introduced":"2.0.0"},{"fixed":"2.0.1"},{"fixed":"1.3.2"}]}]}"#;
        for (version, expected) in [
            ("1.0.0", affected("1.3.2")),
            ("1.3.2", PackageVerdict::NotAffected),
            ("1.9.0", PackageVerdict::NotAffected),
            ("2.0.0", affected("2.0.1")),
            ("2.0.1", PackageVerdict::NotAffected),
        ] {
            assert_eq!(verdict(range, "damper", "", version), expected, "{version}");
        }
        assert_eq!(verdict(range, "other", "", "1.0.0"), PackageVerdict::NotAffected);
        assert!(matches!(verdict(range, "damper", "", "1.x"), PackageVerdict::Unknown(_)));
        let last = r#"{"package":{"ecosystem":"PyPI","name":"Ember_Tools"},"ranges":[{"type":"ECOSYSTEM","events":[
            {"introduced":"1.0"},{"last_affected":"1.4"}]}]}"#;
        for (version, expected) in [
            ("0.9", PackageVerdict::NotAffected),
            ("1.0", affected("")),
            ("1.4.0", affected("")),
            ("1.4.1", PackageVerdict::NotAffected),
        ] {
            assert_eq!(verdict(last, "ember-tools", "", version), expected, "{version}");
        }
        let limit = r#"{"package":{"ecosystem":"Go","name":"stdlib"},"ranges":[{"type":"SEMVER","events":[
            {"introduced":"1.22.0-0"},{"limit":"1.23.0"}]}]}"#;
        assert_eq!(verdict(limit, "stdlib", "", "1.22.0-rc.1"), affected(""));
        assert_eq!(verdict(limit, "stdlib", "", "1.23.0"), PackageVerdict::NotAffected);
        assert_eq!(verdict(limit, "stdlib", "", "1.21.9"), PackageVerdict::NotAffected);
    }

    #[test]
    fn lists_of_versions_and_what_cannot_be_compared() {
        let listed = r#"{"package":{"ecosystem":"Maven","name":"example.ember:bellows"},"versions":["1.0","1.1-jre"],
            "ranges":[{"type":"GIT","events":[{"introduced":"0"}]}]}"#;
        assert_eq!(verdict(listed, "example.ember:bellows", "", "1.1-jre"), affected(""));
        assert_eq!(
            verdict(listed, "example.ember:bellows", "", "1.1"),
            PackageVerdict::NotAffected
        );
        let commits = r#"{"package":{"ecosystem":"npm","name":"damper"},"ranges":[{"type":"GIT","events":[{"introduced":"0"}]}]}"#;
        assert!(matches!(verdict(commits, "damper", "", "1.0.0"), PackageVerdict::Unknown(_)));
        let all = r#"{"package":{"ecosystem":"npm","name":"damper"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"}]}]}"#;
        assert_eq!(verdict(all, "damper", "", "9.9.9"), affected(""));
        let odd = r#"{"package":{"ecosystem":"Alpine:v3.23","name":"ember"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"1.0A"}]}]}"#;
        assert!(matches!(
            verdict(odd, "ember", "Alpine:v3.23", "0.9-r0"),
            PackageVerdict::Unknown(_)
        ));
    }

    #[test]
    fn systems_are_matched_by_their_release() {
        let debian = |release: &str| {
            format!(
                r#"{{"package":{{"ecosystem":"{release}","name":"ember"}},"ranges":[{{"type":"ECOSYSTEM","events":[{{"introduced":"0"}},{{"fixed":"2.4-1"}}]}}]}}"#
            )
        };
        assert_eq!(verdict(&debian("Debian:12"), "ember", "Debian:12", "2.3"), affected("2.4-1"));
        assert_eq!(
            verdict(&debian("Debian:11"), "ember", "Debian:12", "2.3"),
            PackageVerdict::NotAffected
        );
        assert!(matches!(
            verdict(&debian("Debian:12"), "ember", "", "2.3"),
            PackageVerdict::Unknown(_)
        ));
        let both = format!("{},{}", debian("Debian:11"), debian("Debian:12"));
        assert_eq!(verdict(&both, "ember", "Debian:12", "2.3"), affected("2.4-1"));
        let hat = r#"{"package":{"ecosystem":"Red Hat:enterprise_linux:9::baseos","name":"ember"},"ranges":[{"type":"ECOSYSTEM","events":[
            {"introduced":"0"},{"fixed":"0:2.13.3-3.el9.src"}]}]}"#;
        assert_eq!(verdict(hat, "ember", "Red Hat:9", "2.13.3-2.el9"), affected("0:2.13.3-3.el9"));
        assert_eq!(verdict(hat, "ember", "Red Hat:9", "2.13.3-3.el9"), PackageVerdict::NotAffected);
    }
}
