//! A door that is asked with hostile objects stops nobody, and lets nobody in by being asked too much.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::access::granted;
use crate::house::House;
use crate::serving::{Answer, Serving, ask};

const EVIL: &str = "bazaar.example/community/pipewatch:1";

/// A house with a door, and the path at which its webhooks ask about the rules.
pub fn house(door: &str, more: &str) -> (House, String) {
    let house = granted(more);
    let text = house.read("larder.toml");
    let cluster = "name = \"turbine-hall\"\n";
    let with = format!("{cluster}door = {{ url = \"https://door.emberfall.example\", {door} }}\n");
    house.write("larder.toml", text.replacen(cluster, &with, 1));
    house.larder("handoff write turbine-hall --into handoff").ends(0);
    let hooks = house.read("handoff/door/webhooks.yaml");
    let paths = hooks.split("/door/turbine-hall/").skip(1);
    let paths: Vec<&str> =
        paths.map(|rest| rest.split(['"', '\n', '\'']).next().unwrap()).collect();
    let rules = paths.iter().find(|path| path.contains("/rules")).unwrap();
    let path = format!("/door/turbine-hall/{rules}");
    (house, path)
}

pub fn review(object: &str) -> String {
    format!(
        r#"{{"apiVersion":"admission.k8s.io/v1","kind":"AdmissionReview","request":{{"uid":"u-1","kind":{{"kind":"Pod"}},"namespace":"scada","operation":"CREATE","object":{object}}}}}"#
    )
}

pub fn pod(spec: &str) -> String {
    format!(r#"{{"apiVersion":"v1","kind":"Pod","metadata":{{"name":"x"}},"spec":{spec}}}"#)
}

pub fn post(serving: &Serving, path: &str, object: &str) -> Answer {
    let body = review(object);
    let json = [("content-type", "application/json")];
    ask(serving.host(), "POST", path, &json, body.as_bytes()).unwrap()
}

/// The same, and again where the machine had no time to decide: what is tested is what is decided.
fn decided(serving: &Serving, path: &str, object: &str) -> String {
    let mut text = String::new();
    for _ in 0..50 {
        text = post(serving, path, object).text();
        if !text.contains("in time") {
            break;
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    text
}

fn list(unit: &str) -> String {
    vec![unit; 3_000_000 / unit.len()].join(",")
}

#[test]
fn a_large_pod_of_any_shape_is_answered_while_pulls_go_on() {
    let (house, path) = house("", "");
    let serving = Serving::start(&house);
    let secret = house.issue("--cluster turbine-hall");
    let login = crate::access::basic("turbine-hall", &secret);
    let (ended, pulls) = (AtomicBool::new(false), AtomicUsize::new(0));
    let evil = format!(r#"{{"name":"e","image":"{EVIL}"}}"#);
    let shapes = [
        pod(&format!(
            r#"{{"containers":[{evil},{{"name":"a","image":"x","command":["sh","-c","{}"]}}]}}"#,
            format!("image: {EVIL}\\n").repeat(70_000)
        )),
        pod(&format!(
            r#"{{"containers":[{evil},{{"name":"a","image":"x","env":[{{"name":"IMAGE","value":"{}"}}]}}]}}"#,
            format!("{EVIL} ").repeat(80_000)
        )),
        pod(&format!(r#"{{"containers":[{evil},{}]}}"#, list(r#"{"image":"a:1"}"#))),
        pod(&format!(
            r#"{{"containers":[{evil}],"x":{{{}}}}}"#,
            (0..100_000).map(|n| format!(r#""k{n}Image":"a.b/c""#)).collect::<Vec<_>>().join(",")
        )),
        pod(&format!(
            r#"{{"containers":[{evil}],"imagePullSecrets":[{}]}}"#,
            list(r#"{"name":"a"}"#)
        )),
        format!(
            r#"{{"apiVersion":"v1","kind":"Pod","metadata":{{"name":"{}"}},"spec":{{"containers":[{evil},{}]}}}}"#,
            "x".repeat(1_500_000),
            vec![r#"{"image":"a:1"}"#; 9_000].join(",")
        ),
    ];
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !ended.load(Ordering::Relaxed) {
                let fields = [("authorization", login.as_str())];
                let got = ask(
                    serving.host(),
                    "GET",
                    "/v2/vendor/steamgauge/manifests/1.9.2",
                    &fields,
                    b"",
                );
                assert_eq!(got.unwrap().status, 200);
                pulls.fetch_add(1, Ordering::Relaxed);
            }
        });
        for object in &shapes {
            let (before, began) = (pulls.load(Ordering::Relaxed), Instant::now());
            let answer = post(&serving, &path, object);
            assert_eq!(answer.status, 200);
            let text = answer.text();
            assert!(
                text.contains(r#""allowed":false"#) && text.contains(r#""uid":"u-1""#),
                "{text}"
            );
            println!("{:?}, {} pulls", began.elapsed(), pulls.load(Ordering::Relaxed) - before);
        }
        ended.store(true, Ordering::Relaxed);
    });
    assert!(pulls.load(Ordering::Relaxed) > 0);
    // Whoever posts many at once is answered as well, and nobody else waits for it.
    let begun = std::sync::atomic::AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..12 {
            scope.spawn(|| {
                begun.fetch_add(1, Ordering::Relaxed);
                assert_eq!(post(&serving, &path, &shapes[0]).status, 200);
            });
        }
        while begun.load(Ordering::Relaxed) < 12 {
            std::thread::yield_now();
        }
        assert_eq!(serving.ask("GET", "/healthz").status, 200);
    });
}

#[test]
fn padding_slowness_and_spelling_let_nobody_in() {
    let asks = "\n[[rule]]\nname = \"apps are signed\"\nclasses = [\"vetted\"]\nasks = { age = \"1d\" }\nverdict = \"deny\"\nbecause = \"they must be known\"\n\n[[class]]\nname = \"vetted\"\nmatch = [\"other.example/**\"]\n";
    let (house, path) = house("", asks);
    assert!(path.ends_with("/rules/refuse"), "{path}");
    let serving = Serving::start(&house);
    let refused = |object: &str, why: &str| {
        let text = match why {
            "larder: " => post(&serving, &path, object).text(),
            _ => decided(&serving, &path, object),
        };
        assert!(text.contains(r#""allowed":false"#) && text.contains(why), "{why}: {text}");
    };
    let init = |number: usize| {
        format!(
            r#"{{"name":"i{number}","image":"{}/vendor/steamgauge@sha256:{number:064x}"}}"#,
            crate::house::OWN
        )
    };
    for (number, why) in
        [(0, "pipewatch"), (10, "pipewatch"), (500, "larder: "), (3_000, "larder: ")]
    {
        let padding: Vec<String> = (0..number).map(init).collect();
        let evil = vec![format!(r#"{{"name":"e","image":"{EVIL}"}}"#)];
        let all = [evil, padding].concat().join(",");
        let pod = pod(&format!(
            r#"{{"initContainers":[{all}],"containers":[{{"name":"a","image":"x"}}]}}"#
        ));
        refused(&pod, why);
    }
    for spelling in [
        r#"{"containers":[{"name":"e","image":"bazaar.example:443/community/pipewatch:1"}]}"#,
        r#"{"containers":[{"name":"e","im\u0061ge":"bazaar.example/community/pipewatch:1"}]}"#,
        r#"{"c\u006fntainers":[{"name":"e","im\u0061g\u0065":"bazaar.example/community/pipewatch:1"}]}"#,
    ] {
        refused(&pod(spelling), "pipewatch");
    }
    // Too deep, too many: what cannot be read is not let in.
    refused(
        &pod(&format!(r#"{{"image":1,"x":{}{}}}"#, "[".repeat(300), "]".repeat(300))),
        "nested too deep",
    );
    refused(&pod(&format!(r#"{{"containers":[{}]}}"#, list(r#"{"image":"a:1"}"#))), "larder: ");
    // A fact that nobody can ever know here is none that helps; one that the pull will tell waits for the pull.
    refused(
        &pod(r#"{"containers":[{"name":"e","image":"other.example/x/y:1"}]}"#),
        "cannot be told",
    );
    let ours = decided(
        &serving,
        &path,
        &pod(r#"{"containers":[{"name":"e","image":"nobody.example/x:1"}]}"#),
    );
    assert!(ours.contains(r#""allowed":true"#), "what is not ours is let in: {ours}");
    // A webhook from before keeps letting in what cannot be decided, until it is written anew.
    let old = path.replace("/refuse", "");
    let deep = pod(&format!(r#"{{"image":1,"x":{}{}}}"#, "[".repeat(300), "]".repeat(300)));
    assert!(post(&serving, &old, &deep).text().contains(r#""allowed":true"#));
    house.larder("check --offline").ends(0).says(&["unanswered = \"refuse\""]);
}

#[test]
fn policy_check_reads_what_the_door_reads() {
    let (house, _) = house("", "");
    for (name, text) in [
        (
            "a.yaml",
            "apiVersion: v1\nkind: Pod\nmetadata: {name: x, namespace: scada}\nspec:\n  containers:\n  - name: e\n    \"im\\x61ge\": bazaar.example/community/pipewatch:1\n",
        ),
        (
            "b.json",
            "{\"apiVersion\":\"v1\",\"kind\":\"Pod\",\"metadata\":{\"name\":\"x\",\"namespace\":\"scada\"},\"spec\":{\"containers\":[{\"name\":\"e\",\"im\\u0061ge\":\"bazaar.example/community/pipewatch:1\"}]}}",
        ),
        (
            "c.yaml",
            "apiVersion: v1\nkind: Pod\nmetadata: {name: x, namespace: scada}\nspec:\n  containers:\n  - {name: e, image: \"bazaar.example:443/community/pipewatch:1\"}\n",
        ),
    ] {
        house.write(name, text);
        house
            .larder(&format!("policy check {name} --cluster turbine-hall"))
            .ends(1)
            .says(&["pipewatch"]);
    }
}

#[test]
fn no_cluster_is_told_to_refuse_what_nobody_would_answer() {
    let (house, _) = house("", "");
    let _ = rustls::crypto::ring::default_provider().install_default();
    let api = larder_standin::Api::new("turbine-hall", &["default", "scada", "historian"]).unwrap();
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("kubeconfig", api.kubeconfig(address));
    let refused = house.larder("handoff apply turbine-hall --kubeconfig kubeconfig");
    refused.ends(3).says(&["does not", "unanswered = \"admit\"", "take it back"]);
    let keys = || house.larder("key list --json").json()["keys"].as_array().unwrap().len();
    assert_eq!(keys(), 2, "no key was issued for nothing");
    house.larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked").ends(0);
}
