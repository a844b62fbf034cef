//! Cached shelves: pulls as a node's runtime makes them.

use std::thread;
use std::time::Duration;

use larder_core::digest::Digest;
use larder_standin::{FaultKind, ImagePlan, SampleImage, image};

use crate::house::{House, small};
use crate::node::{ACCEPT, Way, field, requests, serve, shelves, straight, wait_until};
use crate::serving::{Serving, ask};

fn replace(house: &House, name: &str, tag: &str) -> SampleImage {
    let image = image(&small(&format!("{name} anew")));
    house.hold(&house.bazaar, &format!("library/{name}"), tag, &image);
    image
}

#[test]
fn what_was_pulled_once_asks_the_upstream_no_more() {
    let house = House::new();
    let serving = serve(&house, "");
    let node = straight(&serving);
    let first = node.pull("bazaar/library/kettle", "2").unwrap();
    let asked = requests(&house.bazaar);
    assert!(asked.iter().all(|(_, times)| *times == 1), "{asked:?}");
    assert_eq!(
        asked.len(),
        2 + 4,
        "an index, a manifest, a configuration, three layers: {asked:?}"
    );
    assert!(asked.iter().any(|(line, _)| line == "GET /v2/library/kettle/manifests/2"));
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), first);
    assert_eq!(requests(&house.bazaar), []);
    // The upstream's account is used, and only there; both families of media types pass.
    node.pull("gauges/gauges/steamgauge", "1.9.2").unwrap();
    node.pull("bazaar/library/ashlog", "1.4").unwrap();
    // What was cached survives a restart, and the upstream's end.
    assert_eq!(serving.stop("TERM"), 0);
    let serving = Serving::start(&house);
    house.bazaar.take_requests();
    assert_eq!(straight(&serving).pull("bazaar/library/kettle", "2").unwrap(), first);
    assert_eq!(requests(&house.bazaar), []);
}

#[test]
fn nodes_ask_for_the_upstreams_name_and_are_known_by_path_or_header() {
    let house = House::new();
    let text = shelves("");
    house.configure(&text);
    let config = house
        .read("larder.toml")
        .replace("access = \"open\"", "access = \"open\"\nstrangers = \"refuse\"");
    house.write("larder.toml", config);
    let serving = Serving::start(&house);
    let host = serving.host();
    let known = Way { host, prefix: "/c/control-room", query: "?ns=bazaar.example" };
    let digest = known.pull("library/kettle", "2").unwrap();
    let direct = straight(&serving).pull("bazaar/library/kettle", "2");
    assert_eq!(direct, Ok(digest.clone()), "who names the shelf is no such node");
    let by_header = ask(
        host,
        "HEAD",
        "/v2/library/kettle/manifests/2?ns=bazaar.example",
        &[("larder-cluster", "control-room")],
        b"",
    );
    assert_eq!(field(&by_header.unwrap(), "docker-content-digest"), digest.to_string());
    // A stranger, a cluster that does not exist, and an upstream that is not cached: 403, never 401.
    for (way, words) in [
        (Way { host, prefix: "", query: "?ns=bazaar.example" }, "serves the nodes of its clusters"),
        (Way { host, prefix: "/c/turbine-hall", query: "?ns=bazaar.example" }, "knows no cluster"),
        (
            Way { host, prefix: "/c/control-room", query: "?ns=elsewhere.example%3A5000" },
            "no shelf of this larder caches elsewhere.example:5000; it caches: bazaar.example",
        ),
    ] {
        let refused = way.pull("library/kettle", "2").unwrap_err();
        assert!(refused.starts_with("HTTP/1.1 403 Forbidden: "), "{refused}");
        assert!(refused.contains(words), "{refused}");
    }
    let log = serving.log();
    assert!(log.contains("cluster=\"control-room\""), "{log}");
}

#[test]
fn what_lies_outside_of_a_shelf_is_refused_with_its_patterns() {
    let house = House::new();
    house.hold(&house.bazaar, "community/pipewatch", "1", &image(&small("pipewatch")));
    let serving = serve(&house, "skip = [\"library/brinedb\"]");
    let node = straight(&serving);
    let refused = node.pull("bazaar/community/pipewatch", "1").unwrap_err();
    assert!(refused.contains("403") && refused.contains("reaches only library/**"), "{refused}");
    let refused = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(refused.contains("leaves out library/brinedb"), "{refused}");
    let tags = serving.ask("GET", "/v2/bazaar/community/pipewatch/tags/list");
    assert_eq!(tags.status, 403, "{}", tags.text());
    assert_eq!(requests(&house.bazaar), [], "nobody was asked");
    // Clients change nothing on it.
    for (method, path) in [
        ("POST", "/v2/bazaar/library/kettle/blobs/uploads/"),
        ("PUT", "/v2/bazaar/library/kettle/manifests/2"),
        ("DELETE", "/v2/bazaar/library/kettle/manifests/2"),
    ] {
        let refused = serving.ask(method, path);
        assert_eq!(refused.status, 403, "{method} {path}: {}", refused.text());
        let text = refused.text();
        assert!(text.contains("the shelf bazaar caches bazaar.example"), "{text}");
    }
    let text = serving.ask("PUT", "/v2/bazaar/library/kettle/manifests/2").text();
    assert!(text.contains("push to one of: vendor"), "{text}");
}

#[test]
fn a_crowd_that_wants_the_same_is_fed_by_one_fetch() {
    let house = House::new();
    let plan =
        ImagePlan { layer_size: 3_000_000, shared: Vec::new(), own: 5, ..ImagePlan::new("crowd") };
    house.hold(&house.bazaar, "library/crowd", "1", &image(&plan));
    let serving = serve(&house, "");
    let host = serving.host().to_owned();
    let crowd: Vec<_> = (0..100)
        .map(|_| {
            let host = host.clone();
            thread::spawn(move || {
                Way { host: &host, prefix: "", query: "" }.pull("bazaar/library/crowd", "1")
            })
        })
        .collect();
    let digests: Vec<_> = crowd.into_iter().map(|one| one.join().unwrap().unwrap()).collect();
    assert!(digests.iter().all(|digest| *digest == digests[0]));
    let asked = requests(&house.bazaar);
    assert!(asked.iter().all(|(_, times)| *times == 1), "{asked:?}");
    assert_eq!(asked.iter().filter(|(line, _)| line.contains("/blobs/")).count(), 6, "{asked:?}");
}

#[test]
fn a_tag_is_compared_when_its_time_has_come() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"");
    let node = straight(&serving);
    let before = node.pull("bazaar/library/kettle", "2").unwrap();
    requests(&house.bazaar);
    node.pull("bazaar/library/kettle", "2").unwrap();
    let asked = requests(&house.bazaar);
    let head = ("HEAD /v2/library/kettle/manifests/2".to_owned(), 1);
    assert_eq!(asked, std::slice::from_ref(&head), "one HEAD and nothing else");
    let moved = replace(&house, "kettle", "2");
    // Between HEAD and GET the tag moves: what HEAD told is still there.
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), *moved.digest());
    let old =
        node.get("GET", &format!("bazaar/library/kettle/manifests/{before}"), ACCEPT).unwrap();
    assert_eq!(old.status, 200, "{}", old.head);
    assert_eq!(Digest::of(&old.body), before);
    assert!(serving.log().contains("a tag moved"));
    // What the upstream has no more stays for those who use it, and that is told.
    house.bazaar.faults.add(None, "/library/kettle/", 99, FaultKind::Status(404, None));
    for _ in 0..2 {
        let tag = "bazaar/library/kettle/manifests/2";
        let answer = node.get("HEAD", tag, ACCEPT).unwrap();
        assert_eq!(answer.status, 200, "{}", answer.head);
        assert!(crate::node::field(&answer, "warning").contains("has no"), "{}", answer.head);
    }
    assert!(serving.log().contains("the upstream has a tag no more"));
    let told = "bazaar/library/kettle:2: the upstream no longer has it";
    house.larder("shelf show bazaar").ends(0).says(&[told]);
    // It has it again.
    house.bazaar.faults.clear();
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), *moved.digest());
    assert!(!house.larder("shelf show bazaar").ends(0).out.contains(told));
}

#[test]
fn the_other_platforms_are_fetched_ahead_with_what_belongs_to_them() {
    let house = House::new();
    let kettle = image(&small("kettle"));
    let digest = kettle.digest().clone();
    let name = "library/kettle".parse().unwrap();
    let kind = "application/vnd.example.signature.v1";
    let held = house.bazaar.hold_companion(&name, &digest, None, kind);
    house.runtime.block_on(held).unwrap();
    let serving = serve(
        &house,
        "platforms = [\"linux/amd64\", \"linux/arm64\"]\ncompanions = true\nrecheck = \"0s\"",
    );
    let node = straight(&serving);
    node.pull("bazaar/library/kettle", "2").unwrap();
    let asked = std::cell::RefCell::new(Vec::new());
    wait_until("all of it came", || {
        asked.borrow_mut().extend(requests(&house.bazaar));
        let blobs = asked.borrow().iter().filter(|(line, _)| line.contains("/blobs/")).count();
        blobs >= kettle.blobs.len()
    });
    let kept = || {
        let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
        let is_there = |table: &str, digest: &dyn std::fmt::Display| {
            let count = format!("SELECT COUNT(*) FROM {table} WHERE digest = ?1");
            ledger.query_row(&count, [digest.to_string()], |row| row.get::<_, i64>(0)).unwrap() > 0
        };
        kettle.documents.iter().all(|(document, _)| is_there("manifests", document))
            && kettle.blobs.iter().all(|blob| is_there("blobs", &blob.digest))
    };
    wait_until("it is settled", || house.unfinished() == 0 && kept());
    wait_until("what refers to it came", || {
        let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
        let companions = "SELECT COUNT(*) FROM manifests WHERE subject IS NOT NULL";
        ledger.query_row(companions, [], |row| row.get::<_, i64>(0)).unwrap() > 0
    });
    // The upstream goes down: everything is there, what refers to it as well.
    house.bazaar.faults.add(None, "/v2/", 10_000, FaultKind::Status(503, None));
    for (document, _) in &kettle.documents {
        let path = format!("bazaar/library/kettle/manifests/{document}");
        assert_eq!(node.get("GET", &path, ACCEPT).unwrap().status, 200);
    }
    for blob in &kettle.blobs {
        let path = format!("bazaar/library/kettle/blobs/{}", blob.digest);
        assert_eq!(node.get("GET", &path, "*/*").unwrap().status, 200);
    }
    let about = serving.ask("GET", &format!("/v2/bazaar/library/kettle/referrers/{digest}"));
    assert!(about.text().contains("vnd.example.signature"), "{}", about.text());
}

#[test]
fn lists_come_from_the_upstream() {
    let house = House::new();
    for tag in ["1", "3", "4"] {
        house.hold(&house.bazaar, "library/kettle", tag, &image(&small("kettle")));
    }
    let serving = serve(&house, "");
    let page = serving.ask("GET", "/v2/bazaar/library/kettle/tags/list?n=2&last=1");
    assert_eq!(page.text(), r#"{"name":"bazaar/library/kettle","tags":["2","3"]}"#);
    assert!(page.head.contains("last=3"), "{}", page.head);
    let last = serving.ask("GET", "/v2/bazaar/library/kettle/tags/list?last=3");
    assert_eq!(last.text(), r#"{"name":"bazaar/library/kettle","tags":["4"]}"#);
    assert_eq!(requests(&house.bazaar).len(), 1, "the list is remembered");
    assert_eq!(serving.ask("GET", "/v2/bazaar/library/nothing/tags/list").status, 404);
}

#[test]
fn short_names_are_those_of_the_upstream_that_they_mean() {
    let house = House::new();
    let serving = serve(&house, "");
    let node = straight(&serving);
    let digest = node.pull("bazaar/kettle", "2").unwrap();
    requests(&house.bazaar);
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    let named = Way { query: "?ns=bazaar.example", ..node };
    assert_eq!(named.pull("kettle", "2").unwrap(), digest);
    assert_eq!(requests(&house.bazaar), [], "it is the same image");
    let tags = serving.ask("GET", "/v2/bazaar/kettle/tags/list");
    assert_eq!(tags.text(), r#"{"name":"bazaar/library/kettle","tags":["2"]}"#);
    assert_eq!(serving.ask("GET", "/v2/gauges/kettle/tags/list").status, 404, "not by that one");
}

#[test]
fn whoever_asks_when_a_tags_time_runs_out_it_is_asked_about_once() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"2s\"");
    straight(&serving).get_tag("bazaar/library/kettle", "2");
    wait_until("its time runs out", || {
        let shown = house.larder("--json shelf show bazaar/library/kettle:2").ends(0).json();
        let confirmed = shown["images"][0]["confirmed_at"].as_str().map(str::to_owned);
        let since = |text: String| {
            let at: jiff::Timestamp = text.parse().unwrap();
            jiff::Timestamp::now().as_millisecond() - at.as_millisecond()
        };
        // It is told in whole seconds.
        confirmed.is_some_and(|at| since(at) > 3_000)
    });
    requests(&house.bazaar);
    // The answer comes late: all of them wait for the same one.
    let late = FaultKind::Late(Duration::from_millis(500));
    house.bazaar.faults.add(Some("HEAD"), "/manifests/", 1, late);
    let host = serving.host().to_owned();
    let all: Vec<_> = (0..50)
        .map(|_| {
            let host = host.clone();
            thread::spawn(move || {
                let way = Way { host: &host, prefix: "", query: "" };
                way.get_tag("bazaar/library/kettle", "2");
            })
        })
        .collect();
    for one in all {
        one.join().unwrap();
    }
    let asked = requests(&house.bazaar);
    assert_eq!(asked, [("HEAD /v2/library/kettle/manifests/2".to_owned(), 1)]);
}
