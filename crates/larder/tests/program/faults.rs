//! What can go wrong on the way in, each as an operator meets it.

use larder_core::reference::Selector;
use larder_standin::{FaultKind, UpstreamPlan, image};

use crate::house::{House, small};

/// Runs the intake with one fault in the way, and again without it.
fn with(fault: impl Fn(&House), exit: i32, words: &[&str]) {
    let house = House::new();
    house.larder("intake lock").ends(0);
    fault(&house);
    house.larder("intake run").ends(exit).says(words);
    assert_eq!(house.unfinished(), 0, "nothing is left half written");
    house.bazaar.faults.clear();
    house.ventworks.faults.clear();
    house.larder("intake run").ends(0);
    house.larder("intake diff").ends(0);
}

#[test]
fn bursts_of_failures_are_waited_out() {
    for what in [
        FaultKind::Status(429, None),
        FaultKind::Status(429, Some(1)),
        FaultKind::Status(500, None),
        FaultKind::Status(503, None),
    ] {
        with(
            |house| house.bazaar.faults.add(Some("GET"), "/blobs/", 2, what.clone()),
            0,
            &["5 images brought in"],
        );
    }
}

#[test]
fn failures_without_end_are_told_and_the_rest_comes_in() {
    with(
        |house| {
            house.bazaar.faults.add(
                Some("GET"),
                "/kettle/blobs/",
                999,
                FaultKind::Status(503, None),
            );
        },
        3,
        &["4 images brought in", "bazaar.example answered 503", "try again later"],
    );
}

#[test]
fn wrong_content_is_told_and_not_kept() {
    with(
        |house| house.bazaar.faults.add(Some("GET"), "/kettle/blobs/", 999, FaultKind::Altered),
        4,
        &["cannot bring in bazaar.example/library/kettle:2", "it was not kept"],
    );
    with(
        |house| house.bazaar.faults.add(Some("GET"), "/kettle/manifests/", 999, FaultKind::Altered),
        4,
        &["sent content for sha256:"],
    );
    with(
        |house| house.bazaar.faults.add(Some("GET"), "/kettle/blobs/", 999, FaultKind::Longer(7)),
        4,
        &["its descriptor says"],
    );
}

#[test]
fn a_stream_that_stalls_is_given_up_and_taken_up_again() {
    let house = House::new();
    let text = house
        .read("larder.toml")
        .replace("host = \"bazaar.example\"", "host = \"bazaar.example\"\ntimeout = \"1s\"");
    house.write("larder.toml", text);
    house.larder("intake lock").ends(0);
    house.bazaar.faults.add(Some("GET"), "/kettle/blobs/", 1, FaultKind::StallAfter(5_000));
    house.larder("intake run").ends(0).says(&["5 images brought in"]);
}

#[test]
fn a_token_that_ends_in_the_middle_is_renewed() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    // The first blob comes late; until then all tokens have been forgotten.
    house.ventworks.faults.add(Some("GET"), "/steamgauge/blobs/", 1, FaultKind::CutAfter(5_000));
    let forgotten = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            // Ever more seldom: where all is slow, a token must be good for the request it was had for.
            let mut pause = std::time::Duration::from_millis(40);
            while !forgotten.load(std::sync::atomic::Ordering::Relaxed) {
                house.ventworks.forget_tokens();
                std::thread::sleep(pause);
                pause = (pause * 2).min(std::time::Duration::from_secs(5));
            }
        });
        let run = house.larder("intake run");
        forgotten.store(true, std::sync::atomic::Ordering::Relaxed);
        run.ends(0).says(&["5 images brought in"]);
    });
}

#[test]
fn credentials_do_not_follow_a_redirect_to_another_host() {
    let house = House::new();
    let elsewhere = house.start(UpstreamPlan::default());
    house.hold(&elsewhere, "gauges/steamgauge", "1.9.2", &image(&small("steamgauge")));
    house.hold(
        &elsewhere,
        "gauges/valve-twin",
        "3.1",
        &image(&small("valve-twin").for_platforms(&["linux/amd64"])),
    );
    house.larder("intake lock").ends(0);
    // Another name for the loopback address is another host.
    let to = elsewhere.endpoint().replace("127.0.0.1", "localhost");
    house.ventworks.faults.add(Some("GET"), "/blobs/", 999, FaultKind::Redirect(to));
    elsewhere.take_signed();
    house.larder("intake run").ends(0).says(&["5 images brought in"]);
    assert!(!elsewhere.take_requests().is_empty(), "it was asked");
    assert_eq!(elsewhere.take_signed(), 0, "no credentials reached it");
}

#[test]
fn a_tag_that_moves_between_lock_and_run_changes_nothing() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("another kettle")));
    house.larder("intake run").ends(0).says(&["5 images brought in"]);
    let json = house.larder("shelf show vendor/kettle:2 --json").ends(0).json();
    assert_eq!(json["images"][0]["digest"], image(&small("kettle")).digest().as_str());
    house.larder("intake diff").ends(1).says(&["moved upstream; the lock holds"]);
    house.larder("intake status --json").says(&["\"moved_at\": \"20"]);
}

#[test]
fn a_manifest_that_vanishes_is_told_and_what_is_held_stays() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let digest = image(&small("kettle")).digest().clone();
    house.bazaar.faults.add(
        None,
        &format!("/manifests/{digest}"),
        999,
        FaultKind::Status(404, None),
    );
    house.larder("intake run").ends(3).says(&[
        "4 images brought in",
        "bazaar.example has no manifest sha256:",
        "the registry lost it",
    ]);
    house.larder("intake status").ends(1).says(&["failed just now", "has no manifest"]);
    // That the upstream answers does not mend it.
    house.larder("intake diff").ends(1);
    house.larder("intake status").ends(1).says(&["failed just now", "has no manifest"]);
    let (repository, tag) = ("library/kettle".parse().unwrap(), "2".parse().unwrap());
    let tag = Selector::Tag(tag);
    assert!(house.runtime.block_on(house.bazaar.digest(&repository, &tag)).unwrap().is_some());
}
