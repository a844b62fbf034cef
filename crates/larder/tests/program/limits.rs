//! What upstreams let us pull: allowances that are stated, and limits that registries tell.

use std::io::{BufRead as _, BufReader};
use std::time::{Duration, Instant};

use larder_standin::FaultKind;

use crate::house::House;

const TWO: &str = r#"
[[intake]]
image = "plain.example/library/kettle"
tags = { exact = ["2"] }
to = "vendor/kettle"

[[intake]]
image = "plain.example/library/ashlog"
tags = { exact = ["1.4"] }
to = "vendor/ashlog"
"#;

/// A house with two images, of three pulls each, and this said of their upstream.
fn house(said: &str) -> House {
    let house = House::new();
    house.configure(TWO);
    house.add_upstream("plain.example", &house.bazaar.endpoint(), said);
    house.larder("intake lock").ends(0);
    house
}

#[test]
fn an_allowance_is_planned_for() {
    let house = house("allowance = { pulls = 4, per = \"3s\" }");
    house
        .larder("intake diff")
        .ends(1)
        .says(&["6 pulls from plain.example: only 4 left, and no more than 4 at once"]);
    house.larder("intake run").ends(1).says(&[
        "1 image brought in",
        "cannot bring in plain.example/library/",
        "are back at 20",
        "--wait",
    ]);
    house.larder("intake status").ends(1).says(&["failed just now", "in place"]);
    let began = Instant::now();
    house.larder("intake run --wait").ends(0).says(&["waiting until", "1 image brought in"]);
    assert!(began.elapsed() < Duration::from_secs(60));
    let json = house.larder("intake diff --json").ends(0).json();
    assert_eq!(json["costs"], serde_json::json!([]));
    house.larder("intake status").ends(0).says(&["in place"]);
}

#[test]
fn what_a_registry_says_of_its_limit_counts() {
    let house = house("");
    house.bazaar.faults.add(
        None,
        "/",
        99,
        FaultKind::Says("ratelimit-limit", "100;w=21600".into()),
    );
    house.larder("intake diff").ends(1).says(&["no limit is known"]);
    let left = || FaultKind::Says("ratelimit-remaining", "2;w=1".into());
    house.bazaar.faults.clear();
    house.bazaar.faults.add(None, "/", 9999, left());
    let json = house.larder("intake diff --json").ends(1).json();
    assert_eq!(json["costs"][0]["pulls"], 6);
    assert_eq!(json["costs"][0]["left"], 2);
    assert!(json["costs"][0]["back_at"].is_string(), "{json}");
}

#[test]
fn a_registry_that_says_too_many_is_left_alone_or_waited_for() {
    let house = house("");
    house.bazaar.faults.add(Some("GET"), "/manifests/", 9999, FaultKind::Status(429, Some(9000)));
    house.bazaar.take_requests();
    house.larder("intake run").ends(3).says(&["limits our rate", "asks to wait 9000 s"]);
    let asked: usize = house.bazaar.take_requests().values().sum();
    assert!(asked <= 2, "{asked} requests after the first refusal");
    house.bazaar.faults.clear();
    house.bazaar.faults.add(Some("GET"), "/manifests/", 1, FaultKind::Status(429, Some(61)));
    let mut waiting = house.command("intake run --wait");
    waiting.stderr(std::process::Stdio::piped());
    let mut child = waiting.spawn().unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap());
    let mut said = String::new();
    while !said.contains("plain.example limits our rate: waiting 61 s") {
        assert!(lines.read_line(&mut said).unwrap() > 0, "it ended: {said}");
    }
    assert!(child.try_wait().unwrap().is_none(), "it waits");
    child.kill().unwrap();
    child.wait().unwrap();
    house.larder("intake run").ends(0);
}

#[test]
fn a_parcel_straight_from_the_upstreams_keeps_to_their_limits_too() {
    let house = house("allowance = { pulls = 4, per = \"3s\" }");
    house.larder("parcel sign-key key.pem").ends(0);
    let text = house.read("larder.toml") + "\n[parcel]\nsign = \"key.pem\"\n";
    house.write("larder.toml", text);
    house.larder("parcel pack parcel --upstreams").ends(1).says(&["are back at 20", "--wait"]);
    assert!(!house.path("parcel/contents.jsonl").exists());
    house.larder("parcel pack parcel --wait").ends(2);
    house.larder("parcel pack parcel --upstreams --wait").ends(0).says(&["2 images"]);
}
