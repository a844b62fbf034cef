//! What belongs to an image: found, locked, brought in and served.

use larder_core::digest::Digest;
use larder_core::reference::Selector;
use larder_standin::{FaultKind, UpstreamPlan, image};

use crate::house::{House, small};

const SIGNATURE: &str = "application/vnd.emberfall.signature+json";
const BILL: &str = "application/vnd.emberfall.materials+json";

const WITH_COMPANIONS: &str = r#"
[[intake]]
image = "bazaar.example/library/kettle"
tags = { exact = ["2"] }
companions = true
to = "vendor/kettle"
"#;

fn give(house: &House, about: &Digest, tag: Option<&str>, kind: &str) -> Digest {
    let tag = tag.map(|tag| tag.parse().unwrap());
    let repository = "library/kettle".parse().unwrap();
    let given = house.bazaar.hold_companion(&repository, about, tag.as_ref(), kind);
    house.runtime.block_on(given).unwrap()
}

/// What the larder's own registry says refers to a digest.
fn referrers(house: &House, about: &Digest) -> Vec<String> {
    let listed = house
        .larder(&format!("look --companions {}/vendor/kettle@{about} --json", crate::house::OWN));
    let json = listed.ends(0).json();
    let direct =
        json["companions"].as_array().unwrap().iter().filter(|one| one["about"] == about.as_str());
    direct.map(|one| one["digest"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn signatures_come_with_their_image_in_whichever_way_they_are_attached() {
    let house = House::new();
    house.configure(WITH_COMPANIONS);
    let kettle = image(&small("kettle"));
    let (index, child) = (kettle.digest().clone(), kettle.documents[0].0.clone());
    let bill = give(&house, &child, None, BILL);
    let signed_bill = give(&house, &bill, None, SIGNATURE);
    let beside = format!("sha256-{}.sig", index.hex());
    let old = give(&house, &index, Some(&beside), SIGNATURE);
    house.larder("intake lock").ends(0).says(&["new, with 3 companions (3 new)"]);
    let lock = house.read("larder.lock");
    for (digest, about) in [(&bill, &child), (&signed_bill, &bill), (&old, &index)] {
        assert!(lock.contains(&format!("\"{digest}\" = {{ about = \"{about}\"")), "{lock}");
    }
    assert!(lock.contains(&format!("tag = \"{beside}\"")), "{lock}");
    house.larder("intake run").ends(0);
    assert_eq!(referrers(&house, &child), [bill.to_string()]);
    assert_eq!(referrers(&house, &bill), [signed_bill.to_string()]);
    house.larder(&format!("shelf show vendor/kettle:{beside}")).ends(0);
    house.larder("intake run").ends(0).says(&["nothing to do"]);

    // A signature that comes later is told, and then brought in; the image is not fetched again.
    let new = give(&house, &index, None, SIGNATURE);
    house.larder("intake lock").ends(0).says(&["other companions, with 4 companions (1 new)"]);
    house.bazaar.take_requests();
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    let blobs = |line: &String| line.contains("/blobs/") && line.starts_with("GET");
    assert!(house.bazaar.take_requests().keys().filter(|line| blobs(line)).count() <= 1);
    assert_eq!(referrers(&house, &index), [new.to_string()]);

    // Other content under the tag, which nobody has signed, is told so.
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("another kettle")));
    house
        .larder("intake lock")
        .ends(0)
        .says(&["moved; was", &format!("companions that it has no more: {BILL}, {SIGNATURE}")]);
    // Without `companions` the lock has none.
    house.configure(&WITH_COMPANIONS.replace("companions = true", ""));
    house.larder("intake lock").ends(0);
    assert!(!house.read("larder.lock").contains("companions"));
}

#[test]
fn a_registry_without_the_referrers_end_point_keeps_them_under_a_tag() {
    let house = House::new();
    let digest = image(&small("kettle")).digest().clone();
    let bill = give(&house, &digest, None, BILL);
    house.configure(WITH_COMPANIONS);
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0);
    // Pushed to a registry that does not have the end point, it is put on the list there.
    let plain = house.start(UpstreamPlan { no_referrers: true, ..UpstreamPlan::default() });
    house.add_upstream("plain.example", &plain.endpoint(), "");
    let own = format!("{}/vendor/kettle", crate::house::OWN);
    house.larder(&format!("copy {own}:2 plain.example/library/kettle:2")).ends(0);
    house.larder(&format!("copy {own}@{bill} plain.example/library/kettle")).ends(0);
    let list = format!("sha256-{}", digest.hex());
    let (repository, list) = ("library/kettle".parse().unwrap(), list.parse().unwrap());
    let list = Selector::Tag(list);
    let found = plain.digest(&repository, &list);
    assert!(house.runtime.block_on(found).unwrap().is_some(), "the list was written");
    // And from there it is found again.
    house.configure(&WITH_COMPANIONS.replace("bazaar.example", "plain.example"));
    house.add_upstream("plain.example", &plain.endpoint(), "");
    house.larder("intake lock").ends(0).says(&["with 1 companion"]);
    assert!(house.read("larder.lock").contains(bill.as_str()));
    // What cannot be told leaves the lock of that image as it was.
    plain.faults.add(None, "/tags/list", 99, FaultKind::Status(500, None));
    let lock = house.read("larder.lock");
    house
        .larder("intake lock")
        .ends(3)
        .says(&["cannot list the tags of plain.example/library/kettle"]);
    assert_eq!(house.read("larder.lock"), lock);
}

#[test]
fn artifacts_that_are_no_images_are_brought_in_as_well() {
    let house = House::new();
    let chart = larder_standin::companion(
        &Digest::of(b"nothing"),
        "application/vnd.emberfall.chart",
        false,
    );
    house.hold(&house.bazaar, "charts/steam-board", "4.1.0", &chart);
    house.configure(
        "[[intake]]\nimage = \"bazaar.example/charts/steam-board\"\ntags = { exact = [\"4.1.0\"] }\nplatforms = [\"linux/amd64\"]\ncompanions = true\nto = \"vendor/charts\"\n",
    );
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    let json = house.larder("shelf show vendor/charts:4.1.0 --json").ends(0).json();
    assert_eq!(json["images"][0]["digest"], chart.digest().as_str());
    house.larder("intake run").ends(0).says(&["nothing to do"]);
}

#[test]
fn a_trimmed_index_has_another_digest_and_that_is_said() {
    let house = House::new();
    let entry = "[[intake]]\nimage = \"bazaar.example/library/brinedb\"\ntags = { exact = [\"5.2\"] }\nplatforms = [\"linux/amd64\"]\ntrim = true\ncompanions = true\nto = \"vendor/brinedb\"\n";
    house.configure(entry);
    house.larder("intake lock").ends(0).says(&["has another digest"]);
    assert!(house.read("larder.lock").contains("trimmed = { digest = \"sha256:"));
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    house.larder("intake run").ends(0).says(&["nothing to do"]);
    house.larder("intake diff").ends(0).says(&["trimmed", "in place"]);
    let json = house.larder("shelf show vendor/brinedb --json").ends(0).json();
    assert_ne!(json["images"][0]["digest"], image(&small("brinedb")).digest().as_str());
    assert_eq!(
        json["images"][0]["absent"],
        serde_json::json!([]),
        "nothing is listed that is not there"
    );
    let run = house.larder("rewrite deploy --pin --json");
    assert!(run.out.contains(json["images"][0]["digest"].as_str().unwrap()), "{}", run.out);

    // Other platforms: the lock no longer fits, and nothing else is put in its place.
    house.configure(&entry.replace("[\"linux/amd64\"]", "[\"linux/arm64\"]"));
    house.larder("intake lock --check").ends(1).says(&["locked for other platforms"]);
    house.larder("intake run").ends(1).says(&["locked for other platforms", "larder intake lock"]);
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
}
