//! Rules that ask what was published about an image: for pulls, at the door, on the way in, and in what is said of them.

use larder_standin::image;

use crate::access::basic;
use crate::advisories::{CRITICAL, gauge, house, osv, severe};
use crate::house::{House, OWN};
use crate::serving::{Serving, ask};

const HIGH: &str = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N";
const CLUSTERS: &str = "[[cluster]]\nname = \"turbine-hall\"\nnamespaces = [\"scada\"]\npull = [\"vendor/**\"]\nDOOR\n\
    [[cluster]]\nname = \"field-lab\"\npull = [\"vendor/**\"]\n\n[[shelf]]\nname = \"vendor\"\n\n\
    [[class]]\nname = \"ours\"\nmatch = [\"larder.example/**\", \"ventworks.example/**\", \"127.0.0.1:*/**\"]\n\n";

/// One rule about all images, with these asks and whatever else it says.
fn rule(asks: &str, more: &str) -> String {
    format!(
        "[[rule]]\nname = \"known holes\"\nimages = [\"**\"]\nverdict = \"deny\"\nbecause = \"mend it first\"\nasks = {{ {asks} }}\n{more}\n"
    )
}

/// The same house with clusters and this rule.
fn ruled(house: &House, rule: &str) {
    house.configure(&(CLUSTERS.replace("DOOR\n", "") + rule));
}

fn takes_in(house: &House, id: &str, vector: &str) {
    let text = osv(id, "npm", "pressurekit", "2.2.0", &severe(vector));
    house.write(&format!("feed/{id}.json"), text);
    house.larder("advisory import feed").ends(0);
}

/// The ruling and its reason for an image and a cluster.
fn ruling(house: &House, image: &str, cluster: &str) -> (String, String) {
    let line = format!("--json policy check {OWN}/vendor/{image} --cluster {cluster}");
    let said = house.larder(&line).json();
    let row = &said["images"][0];
    let text = |field: &str| row[field].as_str().unwrap_or_default().to_owned();
    (text("verdict"), text("reason"))
}

#[test]
fn what_rules_ask_of_advisories_is_read_and_refused_in_words() {
    let house = house();
    let limit = "advisories = \"none above high\"";
    for (text, said) in [
        (rule("advisories = \"high\"", ""), "write \"none\", or \"none above high\""),
        (rule("advisories = \"none above critical\"", ""), "nothing is above `critical`"),
        (rule("advisories = \"none above grave\"", ""), "is no severity"),
        (rule("advisories = 7", ""), "asks"),
        (
            rule("age = \"7d\"", "grace = \"3d\""),
            "`grace` is for rules that ask what was published",
        ),
        (rule("inventory_age = \"7d\"", "grace = \"3d\""), "`grace` is for rules that ask"),
        (rule(limit, "running = \"stop\""), "running"),
        (rule(limit, "except = [{ advisory = \"A-1\", until = 2026-12-31 }]"), "says why"),
        (rule(limit, "except = [{ advisory = \"A-1\", because = \"x\" }]"), "until"),
        (
            rule(limit, "except = [{ advisory = \"A-1\", until = \"soon\", because = \"x\" }]"),
            "wants a day",
        ),
        (
            rule(limit, "except = [{ advisory = \"A 1\", until = 2026-12-31, because = \"x\" }]"),
            "no name of an advisory",
        ),
        (rule(limit, "running = \"warn\"").replace("deny", "warn"), "soften a rule that denies"),
    ] {
        ruled(&house, &text);
        house.larder("check").ends(2).says(&[said]);
    }
    let all = "grace = \"3d\"\nrunning = \"refuse\"\nexcept = [{ advisory = \"EMBER-2026-0001\", until = 2026-12-31, because = \"x\" }, { advisory = \"B\", until = \"2026-12-31T12:00:00Z\", because = \"y\" }]";
    ruled(
        &house,
        &rule("advisories = \"none above medium, unknown passes\", inventory_age = \"7d\"", all),
    );
    house.larder("policy explain vendor/steamgauge:1.8 --cluster field-lab").says(&["known holes"]);
}

#[test]
fn an_image_is_judged_by_what_was_published_and_what_nobody_knows_does_not_pass() {
    let house = house();
    ruled(&house, &rule("advisories = \"none above high\"", ""));
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "field-lab");
    assert_eq!(verdict, "unknown", "{reason}");
    assert!(reason.contains("no advisories were taken in"), "{reason}");
    takes_in(&house, "EMBER-2026-0002", HIGH);
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "allow");
    takes_in(&house, "EMBER-2026-0001", CRITICAL);
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "field-lab");
    assert_eq!(verdict, "deny");
    assert!(
        reason.contains("rule `known holes`: mend it first; EMBER-2026-0001 (critical, pressurekit 2.1.0, mended in 2.2.0) touches it"),
        "{reason}"
    );
    assert_eq!(ruling(&house, "steamgauge:1.9", "field-lab").0, "allow", "it has the mended one");
    ruled(&house, &rule("advisories = \"none above medium\"", ""));
    let (_, reason) = ruling(&house, "steamgauge:1.8", "field-lab");
    assert!(reason.contains("and 1 more touch it"), "{reason}");
    // An exception counts until it ends, and for its advisory alone.
    let except = |until: &str| {
        format!(
            "except = [{{ advisory = \"EMBER-2026-0001\", until = {until}, because = \"not reached\" }}]"
        )
    };
    ruled(&house, &rule("advisories = \"none above high\"", &except("2099-01-01")));
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "allow");
    ruled(&house, &rule("advisories = \"none above medium\"", &except("2099-01-01")));
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "field-lab");
    assert!(verdict == "deny" && reason.contains("EMBER-2026-0002"), "{reason}");
    ruled(&house, &rule("advisories = \"none above high\"", &except("2026-01-01")));
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "deny");
    house.larder("rounds").says(&["the exception of rule `known holes` for EMBER-2026-0001 ended"]);
    // For a while it is warned of only.
    ruled(&house, &rule("advisories = \"none above high\"", "grace = \"30d\""));
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "field-lab");
    assert!(verdict == "warn" && reason.contains("it is let through until 20"), "{reason}");
    // What nobody has read is not what has nothing.
    house.hold(
        &house.ventworks,
        "gauges/unread",
        "1",
        &image(&gauge("unread 1", "vendor-9", "9.0.0")),
    );
    house.larder(&format!("copy ventworks.example/gauges/unread:1 {OWN}/vendor/unread:1")).ends(0);
    for limit in ["none above high", "none above high, unknown passes"] {
        ruled(&house, &rule(&format!("advisories = \"{limit}\""), ""));
        let (verdict, reason) = ruling(&house, "unread:1", "field-lab");
        assert_eq!(verdict, "unknown", "{reason}");
        assert!(reason.contains("3 of its layers have not been read"), "{reason}");
    }
    house.larder("inventory --fill").ends(0);
    assert_eq!(ruling(&house, "unread:1", "field-lab").0, "allow");
    // What our own statement hides is not counted.
    let vex = r#"{"@context":"https://openvex.dev/ns/v0.2.0","@id":"x","author":"Emberfall","timestamp":"2026-10-01T00:00:00Z","version":1,"statements":[{"vulnerability":{"name":"EMBER-2026-0001"},"products":[{"@id":"pkg:npm/pressurekit@2.1.0"}],"status":"not_affected","justification":"vulnerable_code_not_present"}]}"#;
    house.write("own.json", vex);
    house.larder("advisory import own.json --feed strangers").ends(0);
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "deny", "anybody may say so");
    house.larder("advisory import own.json --feed ours --own").ends(0);
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "allow");
    // How old what is known may be.
    ruled(&house, &rule("inventory_age = \"7d\"", ""));
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "allow");
    ruled(&house, &rule("inventory_age = \"1s\"", ""));
    std::thread::sleep(std::time::Duration::from_millis(1100));
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "field-lab");
    assert!(
        verdict == "deny" && reason.contains("the advisories of feed were taken in"),
        "{reason}"
    );
    house.larder("rounds").ends(1).says(&["the advisories of feed were taken in last"]);
}

#[test]
fn what_a_cluster_runs_is_warned_of_and_what_it_does_not_run_is_refused() {
    let house = house();
    let grants = |rule: &str| {
        ruled(&house, rule);
        let text = house.read("larder.toml").replace("access = \"open\"", "access = \"grants\"");
        house.write("larder.toml", text);
    };
    let limit = "advisories = \"none above high\"";
    grants(&rule(limit, ""));
    let key = |who: &str, user: &str| {
        let issued = house.larder(&format!("--json key issue {who}")).ends(0).json();
        basic(user, issued["secret"].as_str().unwrap())
    };
    let hall = key("--cluster turbine-hall --namespace scada", "turbine-hall/scada");
    let lab = key("--cluster field-lab", "field-lab");
    takes_in(&house, "EMBER-2026-0002", HIGH);
    let pull = |serving: &Serving, login: &str, what: &str| {
        let headers = [("authorization", login), ("accept", "*/*")];
        let path = format!("/v2/vendor/steamgauge/manifests/{what}");
        ask(serving.host(), "GET", &path, &headers, b"").unwrap()
    };
    let serving = Serving::start(&house);
    assert_eq!(pull(&serving, &hall, "1.8").status, 200);
    takes_in(&house, "EMBER-2026-0001", CRITICAL);
    let answer = pull(&serving, &lab, "1.8");
    assert_eq!(answer.status, 403, "{}", answer.text());
    assert!(answer.text().contains("EMBER-2026-0001 (critical"), "{}", answer.text());
    assert_eq!(pull(&serving, &lab, "1.9").status, 200);
    assert_eq!(serving.stop("TERM"), 0);
    // It runs there, as the record has it by now.
    let serving = Serving::start(&house);
    let answer = pull(&serving, &hall, "1.8");
    assert_eq!(answer.status, 200, "{}", answer.text());
    let warning = answer.header("warning").unwrap_or_default();
    assert!(warning.contains("it is let through because it runs there"), "{warning}");
    assert_eq!(serving.stop("TERM"), 0);
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "turbine-hall");
    assert!(verdict == "warn" && reason.contains("because it runs there"), "{reason}");
    assert_eq!(ruling(&house, "steamgauge:1.8", "field-lab").0, "deny");
    house.larder("rounds").ends(1).says(&[
        "EMBER-2026-0001 (critical) touches vendor/steamgauge:1.8, which turbine-hall uses; rule `known holes` refuses it where it does not run yet",
        "EMBER-2026-0002 (high) touches",
        "larder advisory check --only EMBER-2026-0001 --cluster turbine-hall",
    ]);
    // What was recorded would be warned of, or refused where the rule says so.
    let rehearsal = |more: &str| {
        grants(&rule(limit, more));
        std::fs::copy(house.path("larder.toml"), house.path("changed.toml")).unwrap();
        house.larder("--json policy rehearse --rules changed.toml").json()
    };
    let said = rehearsal("");
    assert_eq!(said["refused"].as_array().unwrap().len(), 0, "{said}");
    assert_eq!(said["warned"].as_array().unwrap().len(), 1, "{said}");
    let said = rehearsal("running = \"refuse\"");
    assert_eq!(said["refused"].as_array().unwrap().len(), 1, "{said}");
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "turbine-hall");
    assert!(verdict == "deny" && !reason.contains("let through"), "{reason}");
    // A later rule refuses what is let through by this one.
    let later = "[[rule]]\nname = \"later\"\nimages = [\"**\"]\nverdict = \"deny\"\nbecause = \"because\"\n";
    grants(&(rule(limit, "") + later));
    let (verdict, reason) = ruling(&house, "steamgauge:1.8", "turbine-hall");
    assert!(verdict == "deny" && reason.contains("rule `later`"), "{reason}");
    let later = later.replace("deny", "allow");
    grants(&(rule(limit, "") + &later));
    assert_eq!(ruling(&house, "steamgauge:1.8", "turbine-hall").0, "warn");
}

#[test]
fn the_door_says_what_pulls_are_told() {
    let house = house();
    let door = "door = { url = \"https://door.emberfall.example\", rules = \"enforce\" }\n";
    let limit = "advisories = \"none above high\"";
    house.configure(&(CLUSTERS.replace("DOOR\n", door) + &rule(limit, "")));
    takes_in(&house, "EMBER-2026-0001", CRITICAL);
    house.larder("handoff write turbine-hall --into handoff").ends(0);
    let text = house.read("handoff/door/webhooks.yaml");
    let at = text.rfind("/door/turbine-hall/").unwrap();
    let path = text[at..].split(['"', '\n', '\'']).next().unwrap();
    let serving = Serving::start(&house);
    let review = |tag: &str| {
        let pod = format!(
            r#"{{"apiVersion":"v1","kind":"Pod","spec":{{"containers":[{{"name":"a","image":"{OWN}/vendor/steamgauge:{tag}"}}]}}}}"#
        );
        let review = format!(
            r#"{{"apiVersion":"admission.k8s.io/v1","kind":"AdmissionReview","request":{{"uid":"u","kind":{{"kind":"Pod"}},"namespace":"scada","object":{pod}}}}}"#
        );
        let json = [("content-type", "application/json")];
        ask(serving.host(), "POST", path, &json, review.as_bytes()).unwrap().text()
    };
    let refused = review("1.8");
    assert!(refused.contains("\"allowed\":false"), "{refused}");
    assert!(refused.contains("EMBER-2026-0001 (critical, pressurekit 2.1.0"), "{refused}");
    assert!(review("1.9").contains("\"allowed\":true"));
    assert_eq!(serving.stop("TERM"), 0);
}

#[test]
fn what_a_rule_refuses_gets_no_tag_and_comes_with_an_exception_without_being_fetched_again() {
    let house = house();
    let intake = "[[intake]]\nimage = \"ventworks.example/gauges/late\"\ntags = { exact = [\"1\", \"2\"] }\nto = \"vendor/late\"\n\n";
    let limit = "advisories = \"none above high\"";
    let write = |more: &str| ruled(&house, &(rule(limit, more) + intake));
    for (tag, layer, version) in [("1", "late", "2.1.0"), ("2", "late-2", "2.3.0")] {
        let plan = gauge(&format!("late {tag}"), layer, version);
        house.hold(&house.ventworks, "gauges/late", tag, &image(&plan));
    }
    write("");
    takes_in(&house, "EMBER-2026-0001", CRITICAL);
    house.larder("intake lock").ends(0);
    let run = house.larder("--json intake run").ends(1).json();
    assert_eq!(run["brought_in"].as_array().unwrap().len(), 1, "{run}");
    let failed = &run["failed"][0];
    assert_eq!(failed["image"], "ventworks.example/gauges/late:1");
    assert!(failed["cause"].as_str().unwrap().contains("EMBER-2026-0001 (critical"), "{failed}");
    let tags = || house.larder("shelf show vendor/late").out;
    assert!(tags().contains("vendor/late:2") && !tags().contains("vendor/late:1"), "{}", tags());
    write(
        "except = [{ advisory = \"EMBER-2026-0001\", until = 2099-12-31, because = \"not reached\" }]",
    );
    let run = house.larder("--json intake run").ends(0).json();
    assert_eq!((&run["blobs_copied"], &run["there_already"]), (&0.into(), &1.into()), "{run}");
    assert!(tags().contains("vendor/late:1"), "{}", tags());
    // What was here before a rule came stays.
    write("");
    assert_eq!(house.larder("--json intake run").ends(0).json()["there_already"], 2);
}
