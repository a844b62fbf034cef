//! Who may ask at all, and the emergency stop.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;

use crate::access::{basic, granted};
use crate::house::{House, OWN};
use crate::node::field;
use crate::serving::{Serving, ask};

/// Sends lines as they are, and gives the status.
fn raw(serving: &Serving, lines: &[&str]) -> u16 {
    let mut stream = TcpStream::connect(serving.host()).unwrap();
    stream
        .write_all(format!("{}\r\nconnection: close\r\n\r\n", lines.join("\r\n")).as_bytes())
        .unwrap();
    let mut text = String::new();
    stream.read_to_string(&mut text).unwrap();
    text.split(' ').nth(1).unwrap().parse().unwrap()
}

#[test]
fn open_access_is_for_this_machines_programs_alone() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    let get = "GET /v2/vendor/kettle/manifests/2 HTTP/1.1";
    let here = format!("host: {}", serving.host());
    assert_eq!(raw(&serving, &[get, &here]), 200);
    assert_eq!(raw(&serving, &[get, &format!("host: {OWN}")]), 200);
    for lines in [
        vec![get, "host: rebound.example:5080"],
        vec![get, &here, "origin: http://rebound.example"],
        vec![get, &here, "sec-fetch-site: cross-site"],
        vec![
            "POST /v2/vendor/x/blobs/uploads/ HTTP/1.1",
            "host: rebound.example",
            "content-length: 0",
        ],
        vec![
            "POST /v2/vendor/x/blobs/uploads/ HTTP/1.1",
            &here,
            "origin: null",
            "content-length: 0",
        ],
    ] {
        assert_eq!(raw(&serving, &lines), 403, "{lines:?}");
    }
    assert_eq!(raw(&serving, &[get]), 400, "no host");
    assert_eq!(raw(&serving, &[get, &here, &here]), 400, "two hosts");
}

#[test]
fn nobody_is_told_which_clusters_and_upstreams_there_are() {
    let house = granted("\n[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\n");
    let serving = Serving::start(&house);
    let seen = |path: &str| {
        let answer = serving.ask("GET", path);
        let head = answer
            .head
            .lines()
            .filter(|line| !line.starts_with("date"))
            .collect::<Vec<_>>()
            .join("\n");
        (answer.status, head, answer.text())
    };
    assert_eq!(seen("/c/turbine-hall/v2/"), seen("/c/nowhere/v2/"));
    let strip = |(status, head, text): (u16, String, String)| {
        let clean = |text: &str| text.split('[').next().unwrap_or_default().to_owned();
        (status, clean(head.lines().next().unwrap_or_default()), clean(&text))
    };
    let [one, other] = ["turbine-hall", "nowhere"]
        .map(|name| strip(seen(&format!("/c/{name}/v2/vendor/kettle/manifests/2"))));
    assert_eq!(one, other);
    let unknown = seen("/v2/library/kettle/manifests/2?ns=x");
    assert!(!unknown.2.contains("bazaar.example"), "{}", unknown.2);
    let login =
        format!("authorization: {}", basic("turbine-hall", &house.issue("--cluster turbine-hall")));
    let host = format!("host: {}", serving.host());
    assert_eq!(raw(&serving, &["GET /v2/ HTTP/1.1", &host, &login, &login]), 400, "two sign-ins");
    assert_eq!(raw(&serving, &["GET /v2/ HTTP/1.1", &host, &login]), 200);
}

#[test]
fn blocked_content_is_refused_everywhere_at_once() {
    let (house, path) = super::door::house("", "");
    let serving = Serving::start(&house);
    let login = basic("turbine-hall", &house.issue("--cluster turbine-hall"));
    let get =
        |path: &str| ask(serving.host(), "GET", path, &[("authorization", &login)], b"").unwrap();
    let gauge = "/v2/vendor/steamgauge/manifests/1.9.2";
    let first = get(gauge);
    assert_eq!((first.status, get(gauge).status), (200, 200), "the second comes from memory");
    let digest = field(&first, "docker-content-digest");
    let index: serde_json::Value = serde_json::from_slice(&first.body).unwrap();
    let child = index["manifests"][0]["digest"].as_str().unwrap().to_owned();
    let image: serde_json::Value =
        serde_json::from_slice(&get(&format!("/v2/vendor/steamgauge/manifests/{child}")).body)
            .unwrap();
    let layer = image["layers"][0]["digest"].as_str().unwrap().to_owned();
    house
        .larder("shelf block vendor/steamgauge:1.9.2 --because x --dry-run")
        .ends(0)
        .says(&["would be blocked", &digest]);
    assert_eq!(get(gauge).status, 200);
    house
        .larder_words(&[
            "shelf",
            "block",
            "vendor/steamgauge:1.9.2",
            "--because",
            "it opens valves by itself",
        ])
        .ends(0)
        .says(&[&digest, &child]);
    for path in [
        gauge.to_owned(),
        format!("/v2/vendor/steamgauge/manifests/{digest}"),
        format!("/v2/vendor/steamgauge/manifests/{child}"),
    ] {
        let refused = get(&path);
        assert_eq!(refused.status, 403, "{path}");
        assert!(refused.text().contains("it opens valves by itself ["), "{}", refused.text());
    }
    let pod = super::door::pod(
        r#"{"containers":[{"name":"a","image":"ventworks.example/gauges/steamgauge:1.9.2"}]}"#,
    );
    let said = super::door::post(&serving, &path, &pod).text();
    assert!(said.contains(r#""allowed":false"#) && said.contains("opens valves"), "{said}");
    house
        .larder(&format!("policy explain {OWN}/vendor/steamgauge:1.9.2 --cluster turbine-hall"))
        .ends(1)
        .says(&["may not pull", "opens valves"]);
    house.larder("log --kind config").ends(0).says(&["blocked: it opens valves by itself"]);
    house
        .larder("shelf unblock vendor/steamgauge:1.9.2 --dry-run")
        .ends(0)
        .says(&["would be unblocked"]);
    house.larder("shelf unblock vendor/steamgauge:1.9.2").ends(0).says(&["unblocked"]);
    let again = get(gauge);
    assert_eq!(again.status, 200, "{} {}", again.head, again.text());
    // A layer takes the images with it that need it.
    house.larder_words(&["shelf", "block", &layer, "--because", "miner"]).ends(0).says(&[&child]);
    assert_eq!(get(&format!("/v2/vendor/steamgauge/blobs/{layer}")).status, 403);
    assert_eq!(get(&format!("/v2/vendor/steamgauge/manifests/{child}")).status, 403);
    house.larder("shelf unblock --all").ends(0);
    house.larder("shelf unblock --all").ends(0).says(&["nothing is blocked"]);
    assert_eq!(get(&format!("/v2/vendor/steamgauge/blobs/{layer}")).status, 200);
    house.larder("shelf unblock vendor/steamgauge:1.9.2").ends(1).says(&["is not blocked"]);
    house
        .larder("shelf block vendor/nothing:1 --because x")
        .ends(1)
        .says(&["holds nothing under that name"]);
    house.larder("shelf block").ends(2);
}

#[test]
fn figures_beyond_loopback_ask_for_a_key_or_are_warned_of() {
    let house = granted("");
    let text = house.read("larder.toml");
    let with = |more: &str| {
        house.write("larder.toml", text.replacen("[larder]\n", &format!("[larder]\n{more}\n"), 1));
    };
    with("metrics = \"192.0.2.1:5081\"");
    house.larder("check --offline").ends(0).says(&["metrics_key = true"]);
    with("metrics = \"127.0.0.1:0\"\nmetrics_key = true");
    assert!(!house.larder("check --offline").ends(0).out.contains("metrics_key"));
    let serving = Serving::start(&house);
    let at = serving
        .said
        .iter()
        .find_map(|line| line.split("figures http://").nth(1)?.strip_suffix("/metrics"))
        .unwrap()
        .to_owned();
    let get =
        |login: &str| ask(&at, "GET", "/metrics", &[("authorization", login)], b"").unwrap().status;
    assert_eq!(ask(&at, "GET", "/metrics", &[], b"").unwrap().status, 401);
    assert_eq!(get(&basic("turbine-hall", &house.issue("--cluster turbine-hall"))), 401);
    assert_eq!(get(&basic("ci", &house.issue("--account ci"))), 200);
    assert_eq!(ask(&at, "GET", "/healthz", &[], b"").unwrap().status, 200);
}
