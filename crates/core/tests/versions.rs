//! The order of versions, as each ecosystem's own tool has given it.
#![allow(clippy::unwrap_used)]

use std::cmp::Ordering;

use larder_core::version::{Ecosystem, UnreadableVersion, Version};
use proptest::prelude::*;

const TABLES: [(Ecosystem, &str); 8] = [
    (Ecosystem::Deb, include_str!("versions/deb.tsv")),
    (Ecosystem::Rpm, include_str!("versions/rpm.tsv")),
    (Ecosystem::Apk, include_str!("versions/apk.tsv")),
    (Ecosystem::Npm, include_str!("versions/npm.tsv")),
    (Ecosystem::Go, include_str!("versions/go.tsv")),
    (Ecosystem::PyPi, include_str!("versions/pypi.tsv")),
    (Ecosystem::Maven, include_str!("versions/maven.tsv")),
    (Ecosystem::RubyGems, include_str!("versions/rubygems.tsv")),
];

fn read(ecosystem: Ecosystem, text: &str) -> Version {
    Version::read(ecosystem, text).unwrap_or_else(|error| panic!("{ecosystem} `{text}`: {error}"))
}

#[test]
fn versions_stand_as_their_own_tools_have_them() {
    let (mut pairs, mut wrong) = (0, Vec::new());
    for (ecosystem, table) in TABLES {
        for line in table.lines() {
            let parts: Vec<&str> = line.split('\t').collect();
            match parts[..] {
                [text, "refused"] => {
                    if Version::read(ecosystem, text).is_ok() {
                        wrong.push(format!("{ecosystem} `{text}` is read"));
                    }
                }
                [a, order, b] => {
                    pairs += 1;
                    let expected = match order {
                        "<" => Ordering::Less,
                        "=" => Ordering::Equal,
                        _ => Ordering::Greater,
                    };
                    let (first, second) = (read(ecosystem, a), read(ecosystem, b));
                    if first.compare(&second) != Some(expected) {
                        wrong.push(format!("{ecosystem} {a} {order} {b}"));
                    }
                    assert_eq!(second.compare(&first), Some(expected.reverse()), "{line}");
                }
                _ => panic!("{line}"),
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {pairs}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(pairs > 500, "{pairs}");
}

#[test]
fn an_order_is_one_whoever_is_compared() {
    // Maven's own is none: 0 < a < 0-alpha < 0.
    for (ecosystem, table) in TABLES.into_iter().filter(|(one, _)| *one != Ecosystem::Maven) {
        let mut all: Vec<Version> = table
            .lines()
            .flat_map(|line| line.split('\t').map(str::to_owned).collect::<Vec<_>>())
            .filter_map(|text| Version::read(ecosystem, &text).ok())
            .collect();
        all.sort_by(|a, b| a.compare(b).unwrap());
        for pair in all.windows(2) {
            assert_ne!(pair[0].compare(&pair[1]), Some(Ordering::Greater));
        }
        for a in all.iter().step_by(7) {
            for (b, c) in all.iter().zip(all.iter().skip(5)) {
                if a.compare(b) == Some(Ordering::Less) && b.compare(c) == Some(Ordering::Less) {
                    let (a, b, c) = (a.as_str(), b.as_str(), c.as_str());
                    let order = read(ecosystem, a).compare(&read(ecosystem, c));
                    assert_eq!(order, Some(Ordering::Less), "{a} {b} {c}");
                }
            }
        }
    }
}

#[test]
fn what_is_long_or_of_another_kind_is_not_compared() {
    let long = "1".repeat(257);
    assert_eq!(Version::read(Ecosystem::Deb, &long).unwrap_err(), UnreadableVersion::Long);
    let huge = "9".repeat(200);
    let next = format!("1{}", "0".repeat(200));
    for (ecosystem, _) in TABLES.iter().filter(|(one, _)| *one != Ecosystem::Npm) {
        let of = |text: &str| match ecosystem {
            Ecosystem::Go => read(*ecosystem, &format!("{text}.0.0")),
            _ => read(*ecosystem, text),
        };
        assert_eq!(of(&huge).compare(&of(&next)), Some(Ordering::Less), "{ecosystem}");
    }
    let (deb, rpm) = (read(Ecosystem::Deb, "1"), read(Ecosystem::Rpm, "1"));
    assert_eq!(deb.compare(&rpm), None);
    assert_eq!(
        read(Ecosystem::Cargo, "1.0.0").compare(&read(Ecosystem::Npm, "v1.0.0")),
        Some(Ordering::Equal)
    );
    assert!(Version::read(Ecosystem::Cargo, "v1.0.0").is_err());
    let said = Version::read(Ecosystem::Apk, "1.0-1").unwrap_err().to_string();
    assert_eq!(said, "it is no version as apk has them");
}

proptest! {
    /// Whatever stands there, it is read or refused, and compared with itself it is the same.
    #[test]
    fn nothing_that_is_read_breaks_anything(text in "[0-9a-zA-Z.~^+_:!-]{0,24}", other in "\\PC{0,24}") {
        for (ecosystem, _) in TABLES {
            if let Ok(version) = Version::read(ecosystem, &text) {
                prop_assert_eq!(version.compare(&version), Some(Ordering::Equal));
                if let Ok(other) = Version::read(ecosystem, &other) {
                    let order = version.compare(&other).unwrap();
                    prop_assert_eq!(other.compare(&version), Some(order.reverse()));
                }
            }
        }
    }
}
