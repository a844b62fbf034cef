//! Tags that are not made for all wanted platforms, and how much an intake would move.

use larder_core::lock::Lock;
use larder_standin::{ImagePlan, image};

use crate::house::{House, OWN, small};

/// An image for amd64 alone.
fn amd64(name: &str) -> ImagePlan {
    small(name).for_platforms(&["linux/amd64"])
}

fn wants_newest(house: &House) {
    house.configure(
        "[[intake]]\nimage = \"bazaar.example/library/kettle\"\ntags = { semver = \"^1\", newest = 1 }\nplatforms = [\"linux/amd64\", \"linux/arm64\"]\nto = \"vendor/kettle\"\n",
    );
}

#[test]
fn a_tag_that_lacks_a_platform_makes_room_for_one_that_has_it() {
    let house = House::new();
    wants_newest(&house);
    house.hold(&house.bazaar, "library/kettle", "1.4.0", &image(&small("kettle 1.4")));
    house.hold(&house.bazaar, "library/kettle", "1.5.0", &image(&amd64("kettle 1.5")));
    house.hold(&house.bazaar, "library/kettle", "1.5", &image(&amd64("kettle 1.5")));
    house.hold(&house.bazaar, "library/kettle", "1.6.0", &image(&amd64("kettle 1.6")));
    house.larder("intake lock").ends(0).says(&[
        "bazaar.example/library/kettle:1.5.0",
        "passed over: it lacks linux/arm64",
        "larder.lock: 1 image",
    ]);
    let lock = Lock::read(&house.read("larder.lock")).unwrap();
    let tags: Vec<&str> = lock.entries.keys().map(|want| want.tag.as_str()).collect();
    assert_eq!(tags, ["1.4.0"]);
    let passed: Vec<&str> = lock.passed_over.keys().map(|want| want.tag.as_str()).collect();
    assert_eq!(passed, ["1.5.0", "1.6.0"]);
    house.larder("intake lock --check").ends(0);
    house.larder("intake lock --explain kettle").ends(0).says(&["it lacks linux/arm64"]);
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    // Nobody has to do anything, and nothing is asked for again but where the tags point.
    house.bazaar.take_requests();
    house.larder("intake diff").ends(0).says(&["passed over: it lacks linux/arm64"]);
    let asked = house.bazaar.take_requests();
    assert!(
        !asked.keys().any(|line| line.starts_with("GET") && line.contains("/manifests/")),
        "{asked:?}"
    );
    assert_eq!(house.larder("intake lock --json").ends(0).json()["changed"], false);

    // What is locked under the tag stands in for what moved there.
    house.hold(&house.bazaar, "library/kettle", "1.4.0", &image(&amd64("kettle 1.4 anew")));
    house.larder("intake lock").ends(0).says(&["moved, and lacks linux/arm64; the lock holds"]);
    let after = Lock::read(&house.read("larder.lock")).unwrap();
    assert_eq!(after.entries, lock.entries);
    house.larder("intake diff").ends(0).says(&["moved upstream and lacks linux/arm64"]);

    // Once the missing platform is there, the newest is taken.
    house.hold(&house.bazaar, "library/kettle", "1.6.0", &image(&small("kettle 1.6")));
    house.larder("intake diff").ends(1).says(&["wanted, not locked"]);
    house.larder("intake lock").ends(0);
    let lock = Lock::read(&house.read("larder.lock")).unwrap();
    let tags: Vec<&str> = lock.entries.keys().map(|want| want.tag.as_str()).collect();
    assert_eq!(tags, ["1.6.0"]);

    // When the platform is not wanted any more, the lock is out of date.
    house.hold(&house.bazaar, "library/kettle", "1.7.0", &image(&amd64("kettle 1.7")));
    house.larder("intake lock").ends(0);
    let text = house.read("larder.toml").replace(", \"linux/arm64\"]", "]");
    house.write("larder.toml", text);
    house.larder("intake lock --check").ends(1).says(&[
        "passed over for platforms that are not wanted now: bazaar.example/library/kettle:1.7.0",
    ]);
}

#[test]
fn what_nothing_stands_in_for_is_a_failure() {
    let house = House::new();
    wants_newest(&house);
    house.hold(&house.bazaar, "library/kettle", "1.5.0", &image(&amd64("kettle 1.5")));
    house.larder("intake lock").ends(1).says(&[
        "cannot lock bazaar.example/library/kettle",
        "none of the 1 tags that were looked at is made for linux/arm64",
    ]);
    let text =
        house.read("larder.toml").replace("semver = \"^1\", newest = 1", "exact = [\"1.5.0\"]");
    house.write("larder.toml", text);
    house.larder("intake lock").ends(1).says(&[
        "cannot lock bazaar.example/library/kettle:1.5.0",
        "it is not made for linux/arm64",
        "larder look bazaar.example/library/kettle:1.5.0",
    ]);
    house.larder("intake diff").ends(1).says(&["lacks linux/arm64"]);
    house
        .larder("intake lock --check")
        .ends(1)
        .says(&["wanted, but not made for linux/arm64: bazaar.example/library/kettle:1.5.0"]);
    house.larder("intake run").ends(1).says(&["wanted, but not made for linux/arm64"]);
    house.larder("rounds").says(&["is not made for linux/arm64"]);
    // What was locked before a platform more was wanted stays locked: tidying goes by it.
    let both = house.read("larder.toml");
    house.write("larder.toml", both.replace(", \"linux/arm64\"]", "]"));
    house.larder("intake lock").ends(0);
    house.write("larder.toml", both);
    house.larder("intake lock").ends(1).says(&["it is not made for linux/arm64"]);
    assert_eq!(Lock::read(&house.read("larder.lock")).unwrap().entries.len(), 1);
}

/// The same image under an index that does not say for which platforms its manifests are.
fn silent(plan: &ImagePlan) -> larder_standin::SampleImage {
    let mut made = image(plan);
    let (_, index) = made.documents.pop().unwrap();
    let mut value: serde_json::Value = serde_json::from_slice(&index.bytes).unwrap();
    for child in value["manifests"].as_array_mut().unwrap() {
        child.as_object_mut().unwrap().remove("platform").unwrap();
    }
    let bytes = serde_json::to_vec(&value).unwrap();
    let digest = larder_core::digest::Digest::of(&bytes);
    let index = larder_core::document::Document::read(bytes.into(), Some(&index.media_type));
    made.documents.push((digest, index.unwrap()));
    made
}

#[test]
fn manifests_of_which_an_index_says_nothing_are_asked_themselves() {
    let house = House::new();
    wants_newest(&house);
    house.hold(&house.bazaar, "library/kettle", "1.4.0", &image(&small("kettle 1.4")));
    house.hold(&house.bazaar, "library/kettle", "1.5.0", &silent(&small("kettle 1.5")));
    let plan = small("kettle 1.6").for_platforms(&["linux/amd64", "linux/s390x"]);
    house.hold(&house.bazaar, "library/kettle", "1.6.0", &silent(&plan));
    house.larder("intake lock").ends(0).says(&["passed over: it lacks linux/arm64"]);
    let lock = Lock::read(&house.read("larder.lock")).unwrap();
    let tags: Vec<&str> = lock.entries.keys().map(|want| want.tag.as_str()).collect();
    assert_eq!(tags, ["1.5.0"]);
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    assert_eq!(house.larder("intake lock --json").ends(0).json()["changed"], false);
}

#[test]
fn an_upstream_that_cannot_be_listed_is_told_where_nothing_is_locked() {
    let house = House::new();
    wants_newest(&house);
    house.bazaar.faults.add(
        Some("GET"),
        "/tags/list",
        99,
        larder_standin::FaultKind::Status(503, None),
    );
    for command in ["intake lock", "intake diff"] {
        house
            .larder(command)
            .ends(3)
            .says(&["cannot list the tags of bazaar.example/library/kettle"]);
    }
}

#[test]
fn plans_say_how_much_would_be_moved() {
    let house = House::new();
    house.configure(
        "[[intake]]\nimage = \"bazaar.example/library/kettle\"\ntags = { exact = [\"a\", \"b\"] }\nplatforms = [\"linux/amd64\"]\nto = \"vendor/kettle\"\n",
    );
    let plan = |name: &str| ImagePlan { layer_size: 60_000, own: 1, ..amd64(name) };
    house.hold(&house.bazaar, "library/kettle", "a", &image(&plan("kettle a")));
    house.hold(&house.bazaar, "library/kettle", "b", &image(&plan("kettle b")));
    house.larder("intake lock").ends(0);
    // Before there is a store, and with one.
    house.larder("intake diff").ends(1).says(&["to be brought in, ", "would be moved"]);
    let dry = house.larder("intake run --dry-run --json").ends(1).json();
    let images = dry["brought_in"].as_array().unwrap();
    let number = |value: &serde_json::Value| value.as_u64().unwrap();
    let sum: u64 = images.iter().map(|one| number(&one["size"]["new_bytes"])).sum();
    assert_eq!(number(&dry["forecast"]["new_bytes"]), sum);
    assert!(number(&dry["forecast"]["free_bytes"]) > 0);
    // The base that both share counts once.
    let all: u64 = images.iter().map(|one| number(&one["size"]["bytes"])).sum();
    assert!(all > sum, "{dry}");
    let run = house.larder("intake run --json").ends(0).json();
    assert_eq!(number(&run["copied_bytes"]), sum, "the forecast was right");
    // What is here already is not moved again.
    house.larder(&format!("shelf drop {OWN}/vendor/kettle:b --yes")).ends(0);
    house.larder("intake run --dry-run").ends(1).says(&["all of it here", "0 B would be moved"]);
    // Where each answer counts as a pull, nobody is asked unless that is wanted.
    let text = house.read("larder.toml").replace(
        "name = \"bazaar\"\n",
        "name = \"bazaar\"\nallowance = { pulls = 100, per = \"6h\" }\n",
    );
    house.write("larder.toml", text);
    house.bazaar.take_requests();
    house
        .larder("intake run --dry-run")
        .ends(1)
        .says(&["each answer counts there as a pull", "`--sizes`"]);
    assert!(house.bazaar.take_requests().is_empty());
    house.larder("intake run --dry-run --sizes").ends(1).says(&["would be moved"]);
    let table = house.larder("intake diff --sizes --markdown").ends(1);
    let table = table.says(&["to be brought in, all of it here"]);
    assert!(!table.out.contains("would be moved"), "{}", table.out);
}
