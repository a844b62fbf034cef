//! What goes, what stays and why; and what must hold whatever is written.

use std::time::Duration;

use proptest::prelude::*;

use super::*;

const DAY: i64 = 24 * 3_600_000;
const NOW: i64 = 20_000 * DAY;

fn days(count: u64) -> Span {
    Span(Duration::from_secs(count * 24 * 3600))
}

fn image(tag: &str, content: &str, since: i64, pulled: Option<i64>) -> HeldImage {
    HeldImage {
        tag: (!tag.is_empty()).then(|| tag.parse().unwrap()),
        digest: Digest::of(content.as_bytes()),
        since: NOW - since * DAY,
        pulled: pulled.map(|pulled| NOW - pulled * DAY),
    }
}

fn rule(repositories: &[&str]) -> KeepRule {
    KeepRule {
        line: ConfigLine::default(),
        repositories: repositories.iter().map(|text| text.parse().unwrap()).collect(),
        newest: None,
        unpulled: None,
        untagged: None,
        always: Vec::new(),
    }
}

fn fates(rule: &KeepRule, images: &[HeldImage]) -> Vec<String> {
    let judged = rule.judge(images, &|_| None, NOW, days(1));
    judged
        .into_iter()
        .map(|fate| match fate {
            Fate::Goes(because) => {
                format!(
                    "goes: {}",
                    because.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
                )
            }
            Fate::Stays(because) => format!("stays: {because}"),
        })
        .collect()
}

#[test]
fn the_most_specific_rule_decides_and_of_equal_ones_the_first() {
    let retention = Retention {
        rules: [
            &["**"][..],
            &["vendor/**"],
            &["vendor/*"],
            &["vendor/gauges/steamgauge"],
            &["vendor/gauges/*"],
            &["vendor/**"],
        ]
        .iter()
        .enumerate()
        .map(|(number, patterns)| KeepRule {
            line: ConfigLine { number, ..ConfigLine::default() },
            ..rule(patterns)
        })
        .collect(),
    };
    let decides = |name: &str| retention.rule_for(&name.parse().unwrap()).unwrap().line.number;
    assert_eq!(decides("own/board"), 0);
    assert_eq!(decides("vendor/a/b/c"), 1);
    assert_eq!(decides("vendor/kettle"), 2);
    assert_eq!(decides("vendor/gauges/steamgauge"), 3);
    assert_eq!(decides("vendor/gauges/valve"), 4);
    let none = Retention { rules: vec![rule(&["vendor/**"])] };
    assert!(none.rule_for(&"own/board".parse().unwrap()).is_none());
}

#[test]
fn the_newest_are_counted_by_version_within_each_variant_and_by_content() {
    let keep = KeepRule {
        newest: Some(Newest { count: 2, by: NewestBy::Version }),
        always: vec!["*-lts".parse().unwrap()],
        ..rule(&["**"])
    };
    let old = |tag: &str, content: &str| image(tag, content, 400, None);
    let images = [
        old("1.9", "b"),
        old("1.9.2", "b"),
        old("1.10.0", "c"),
        old("1.8.0", "a"),
        old("1.7.0-lts", "l"),
        old("1.8.0-alpine", "d"),
        old("latest", "c"),
        old("", "e"),
    ];
    assert_eq!(
        fates(&keep, &images),
        [
            "stays: number 2 of the 2 newest",
            "stays: number 2 of the 2 newest",
            "stays: number 1 of the 2 newest",
            "goes: number 3 by age, and 2 stay",
            "stays: `always` has *-lts",
            "stays: number 1 of the 2 newest",
            "stays: its tag is not a version, and versions are counted",
            "stays: its [[keep]] lets nothing like it go",
        ]
    );
    let by_time =
        KeepRule { newest: Some(Newest { count: 1, by: NewestBy::Time }), ..rule(&["**"]) };
    let images = [image("b", "b", 9, None), image("a", "a", 30, None), image("c", "b", 5, None)];
    assert_eq!(
        fates(&by_time, &images),
        [
            "stays: number 1 of the 1 newest",
            "goes: number 2 by age, and 1 stay",
            "stays: number 1 of the 1 newest"
        ]
    );
}

#[test]
fn every_condition_must_let_it_go() {
    let keep = KeepRule {
        newest: Some(Newest { count: 1, by: NewestBy::Version }),
        unpulled: Some(days(90)),
        untagged: Some(days(7)),
        ..rule(&["**"])
    };
    let images = [
        image("3", "c", 200, None),
        image("2", "b", 200, Some(10)),
        image("1", "a", 200, Some(91)),
        image("", "x", 200, Some(30)),
        image("", "y", 200, None),
        image("", "z", 0, None),
    ];
    assert_eq!(
        fates(&keep, &images),
        [
            "stays: number 1 of the 1 newest",
            "stays: pulled or set within 90d",
            "goes: number 3 by age, and 1 stay, not pulled for 90d",
            "stays: pulled or set within 90d",
            "goes: not pulled for 90d, without a tag for 7d",
            "stays: it came, or was pulled, a short time ago",
        ]
    );
    // A rule without a condition lets nothing go.
    assert_eq!(
        fates(&rule(&["**"]), &images[2..3]),
        ["stays: its [[keep]] lets nothing like it go"]
    );
}

#[test]
fn what_lies_under_a_digests_tag_goes_with_that_image_alone() {
    let keep = KeepRule { unpulled: Some(days(30)), ..rule(&["**"]) };
    let list = format!("sha256-{}", "a".repeat(64));
    let images = [image(&list, "list", 200, None), image(&format!("{list}.sig"), "sig", 200, None)];
    assert_eq!(fates(&keep, &images), ["stays: it goes with what it is about"; 2]);
}

#[test]
fn what_a_cluster_runs_or_may_run_counts_as_in_use() {
    let (repository, digest) = ("vendor/kettle".parse().unwrap(), Digest::of(b"k"));
    let mut uses = ClusterUse::of(["hall".to_owned(), "lab".to_owned()]);
    let at = NOW - 3 * DAY;
    let seen = Sighting { cluster: "hall".into(), at, how: "pulled" };
    uses.saw(&repository, &digest, seen.clone());
    let of = |unknown: &[(KnownAt, bool)], content: &Digest, within| {
        uses.of_image(&repository, [content], None, unknown, NOW, within)
    };
    let lab = KnownAt { cluster: "lab".into(), at: None };
    assert_eq!(uses.unknown(NOW, days(30)), std::slice::from_ref(&lab));
    assert_eq!(of(&[], &digest, days(30)), Some(InUse::Cluster(seen)));
    let other = Digest::of(b"other");
    assert_eq!(of(&[(lab.clone(), false)], &other, days(30)), None, "it may not pull it");
    assert_eq!(of(&[(lab.clone(), true)], &other, days(30)), Some(InUse::Unknown(lab)));
    // What is named by its tag is used, whatever that points to.
    let edge: Tag = "edge".parse().unwrap();
    let seen = Sighting { cluster: "hall".into(), at, how: "surveyed" };
    uses.saw_tag(&repository, &edge, seen.clone());
    let by_tag = |tag| uses.of_image(&repository, [&other], Some(tag), &[], NOW, days(30));
    assert_eq!(by_tag(&edge), Some(InUse::Cluster(seen)));
    assert_eq!(by_tag(&"1.0".parse().unwrap()), None);
    let of = |unknown: &[(KnownAt, bool)], content: &Digest, within| {
        uses.of_image(&repository, [content], None, unknown, NOW, within)
    };
    // What was learned is too old by now: whatever the hall may pull counts as well.
    assert_eq!(uses.unknown(NOW, days(2)).len(), 2);
    assert_eq!(of(&[], &digest, days(2)), None);
}

fn images() -> impl Strategy<Value = Vec<HeldImage>> {
    let tag = prop_oneof![
        Just(String::new()),
        (0u8..4, 0u8..4).prop_map(|(a, b)| format!("{a}.{b}")),
        (0u8..3).prop_map(|a| format!("{a}.0-alpine")),
        Just("latest".to_owned()),
        Just("1-lts".to_owned()),
    ];
    let one = (tag, 0u8..8, 0i64..300, proptest::option::of(0i64..300))
        .prop_map(|(tag, content, since, pulled)| image(&tag, &content.to_string(), since, pulled));
    proptest::collection::vec(one, 0..20)
}

fn rules() -> impl Strategy<Value = KeepRule> {
    let newest = proptest::option::of((0usize..4, any::<bool>()).prop_map(|(count, time)| {
        Newest { count, by: if time { NewestBy::Time } else { NewestBy::Version } }
    }));
    let span = || proptest::option::of((0u64..200).prop_map(days));
    (newest, span(), span(), any::<bool>()).prop_map(|(newest, unpulled, untagged, always)| {
        KeepRule {
            newest,
            unpulled,
            untagged,
            always: if always { vec!["*-lts".parse().unwrap()] } else { Vec::new() },
            ..rule(&["**"])
        }
    })
}

proptest! {
    #[test]
    fn what_is_in_use_pinned_or_young_never_goes(
        images in images(), keep in rules(), used in 0u8..8,
    ) {
        let used = Digest::of(used.to_string().as_bytes());
        let protects = |image: &HeldImage| (image.digest == used).then_some(InUse::Locked);
        for (image, fate) in images.iter().zip(keep.judge(&images, &protects, NOW, days(2))) {
            let Fate::Goes(because) = fate else { continue };
            prop_assert!(!because.is_empty(), "something lets it go");
            prop_assert_ne!(&image.digest, &used);
            prop_assert!(image.since <= NOW - 2 * DAY && image.pulled.is_none_or(|at| at <= NOW - 2 * DAY));
            let pinned = image.tag.as_ref().is_some_and(|tag| tag.as_str().ends_with("-lts"));
            prop_assert!(!pinned || keep.always.is_empty());
        }
    }

    #[test]
    fn a_plan_done_twice_does_nothing_the_second_time(images in images(), keep in rules()) {
        let judge = |images: &[HeldImage]| keep.judge(images, &|_| None, NOW, days(1));
        let left: Vec<HeldImage> = images
            .iter()
            .zip(judge(&images))
            .filter(|(_, fate)| matches!(fate, Fate::Stays(_)))
            .map(|(image, _)| image.clone())
            .collect();
        prop_assert!(judge(&left).iter().all(|fate| matches!(fate, Fate::Stays(_))));
    }

    #[test]
    fn one_more_condition_lets_no_more_go(images in images(), keep in rules(), days_ago in 0u64..200) {
        let keep = KeepRule { unpulled: None, ..keep };
        let stricter = KeepRule { unpulled: Some(days(days_ago)), ..keep.clone() };
        let goes = |keep: &KeepRule| -> Vec<bool> {
            let judged = keep.judge(&images, &|_| None, NOW, days(1));
            judged.iter().map(|fate| matches!(fate, Fate::Goes(_))).collect()
        };
        for (image, (loose, strict)) in images.iter().zip(goes(&keep).into_iter().zip(goes(&stricter))) {
            // Where nothing asked about tags before, the new condition does.
            let asked = image.tag.is_none() || keep.newest.is_some();
            prop_assert!(!asked || loose || !strict);
        }
    }
}
