//! Figures, what the documentation says of them, and the alerts that rest on them.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::house::{House, OWN};
use crate::node::wait_until;
use crate::serving::{Serving, ask};

/// A file of the documentation.
fn page(name: &str) -> String {
    let path = format!("{}/../../docs/monitoring/{name}", env!("CARGO_MANIFEST_DIR"));
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{path}: {error}"))
}

/// A larder that serves with figures, two shelves, a cached one and a cluster with a door.
fn told() -> (House, Serving, String) {
    let house = House::new();
    house.bring_in();
    let text = house.read("larder.toml").replacen(
        "[larder]\n",
        "[larder]\nmetrics = \"127.0.0.1:0\"\nreserve = \"32 MiB\"\n",
        1,
    );
    let text = text.replace(
        "host = \"bazaar.example\"\n",
        "host = \"bazaar.example\"\nallowance = { pulls = 100, per = \"6h\" }\n",
    );
    house.write(
        "larder.toml",
        format!(
            "{text}\n[[shelf]]\nname = \"bz\"\ncaches = \"bazaar\"\n\n[[shelf]]\nname = \"vendor\"\nquota = {{ shelf = \"1 GiB\", repository = \"1 GiB\", account = \"2 GiB\" }}\n"
        ),
    );
    let serving = Serving::start(&house);
    let line = serving.said.iter().find_map(|line| line.strip_prefix("  figures http://"));
    let host = line.unwrap().strip_suffix("/metrics").unwrap().to_owned();
    (house, serving, host)
}

fn figures(host: &str) -> String {
    ask(host, "GET", "/metrics", &[], b"").unwrap().text()
}

/// The names of figures in a text.
fn names(text: &str) -> BTreeSet<String> {
    let is_of_name = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    let words = text.split(|c| !is_of_name(c));
    words
        .filter(|word| word.starts_with("larder_") || word.starts_with("process_"))
        .map(|word| {
            let ends = ["_bucket", "_sum", "_count"];
            ends.iter().find_map(|end| word.strip_suffix(end)).unwrap_or(word).to_owned()
        })
        .collect()
}

#[test]
fn what_is_worked_out_is_told_as_it_is() {
    let (house, serving, host) = told();
    let pull = |path: &str| {
        assert_eq!(serving.ask("GET", path).status, 200, "{path}");
    };
    pull("/v2/bz/library/kettle/manifests/2");
    pull("/v2/vendor/kettle/manifests/2");
    house.larder("store verify").ends(0);
    wait_until("everything is told", || figures(&host).contains("larder_shelf_tags"));
    let said = figures(&host);
    for line in [
        "larder_build_info{version=\"",
        "larder_replicas 1",
        "larder_replica_configurations 1",
        "larder_configuration_good 1",
        "larder_configuration_waiting 0",
        "larder_store_tags 6",
        "larder_store_reserve_bytes 33554432",
        "larder_shelf_tags{shelf=\"vendor\"} 5",
        "larder_shelf_quota_bytes{shelf=\"vendor\"} 1073741824",
        "larder_account_quota_bytes{shelf=\"vendor\"} 2147483648",
        "larder_repository_quota_bytes{shelf=\"vendor\"} 1073741824",
        "larder_repository_bytes{repository=\"vendor/kettle\"}",
        "larder_uploads_open 0",
        "larder_uploads_open_bytes 0",
        "larder_intake_wanted 5",
        "larder_intake_missing 0",
        "larder_intake_failed 0",
        "larder_intake_moved 0",
        "larder_last_run_timestamp_seconds{what=\"backup\"} 0",
        "larder_upstream_available{host=\"bazaar.example\"} 1",
        "larder_upstream_back_timestamp_seconds{host=\"bazaar.example\"} 0",
        "larder_upstream_pulls_most{host=\"bazaar.example\"} 100",
        "larder_upstream_answers_total{host=\"bazaar.example\",outcome=\"answered\"}",
        "larder_upstream_seconds_count{host=\"bazaar.example\"}",
        "larder_advisories{severity=\"critical\"} 0",
    ] {
        assert!(said.contains(line), "`{line}` is not in\n{said}");
    }
    let value = |name: &str| -> f64 {
        let line = said.lines().find(|line| line.starts_with(name));
        let line = line.unwrap_or_else(|| panic!("{name} is not in\n{said}"));
        line.rsplit(' ').next().unwrap().parse().unwrap()
    };
    let left = value("larder_upstream_pulls_left{host=\"bazaar.example\"}");
    assert!(left < 100.0, "{left}");
    let back = value("larder_upstream_pulls_back_timestamp_seconds{host=\"bazaar.example\"}");
    let now = larder_store::now() as f64 / 1000.0;
    assert!(back > now && back < now + 6.0 * 3600.0 + 60.0, "{back} is not within six hours");
    let started = value("process_start_time_seconds");
    assert!(started > now - 600.0 && started <= now, "{started}");
    let brought = value("larder_last_run_timestamp_seconds{what=\"intake\"}");
    assert!(brought > now - 600.0 && brought <= now, "{brought}");
    // What the larder refuses by itself is told by the rule's name; what it holds by its own name is nobody's host.
    assert!(!said.contains(&format!("host=\"{OWN}\"")), "{said}");
}

#[test]
fn a_configuration_that_is_wrong_is_a_figure() {
    let (house, serving, host) = told();
    house.write("larder.toml", house.read("larder.toml") + "\nnonsense = 1\n");
    serving.signal("HUP");
    wait_until("it is told", || serving.log().contains("cannot be used"));
    let waits = std::time::Instant::now();
    // It is worked out twice a minute.
    while !figures(&host).contains("larder_configuration_good 0") {
        assert!(waits.elapsed().as_secs() < 90, "{}", figures(&host));
        std::thread::sleep(std::time::Duration::from_millis(500));
    }
}

#[test]
fn every_figure_is_in_the_documentation_and_every_alert_rests_on_one() {
    let (_house, serving, host) = told();
    assert_eq!(serving.ask("GET", "/v2/bz/library/kettle/manifests/2").status, 200);
    wait_until("everything is told", || figures(&host).contains("larder_intake_wanted"));
    let said = figures(&host);
    let families = said.lines().filter_map(|line| line.strip_prefix("# TYPE "));
    let told: BTreeSet<String> =
        families.map(|line| line.split(' ').next().unwrap().to_owned()).collect();
    let documented = names(&page("README.md"));
    let missing: Vec<_> = told.difference(&documented).collect();
    assert!(missing.is_empty(), "docs/monitoring/README.md lacks {missing:?}");
    // A figure with labels is told from its first value on: those that had none here are known by their source.
    let source = format!("{}/../server/src", env!("CARGO_MANIFEST_DIR"));
    let mut named = BTreeSet::new();
    for file in ["meters.rs", "meters/sampled.rs", "cache/upstream.rs"] {
        named.extend(names(&std::fs::read_to_string(format!("{source}/{file}")).unwrap()));
    }
    let gone: Vec<_> = documented.difference(&named).collect();
    assert!(gone.is_empty(), "docs/monitoring/README.md has {gone:?}, which nothing tells");
    let unknown: Vec<_> = names(&page("alerts.yml")).difference(&documented).cloned().collect();
    assert!(unknown.is_empty(), "alerts.yml rests on {unknown:?}, which nothing tells");
}

#[test]
fn what_alerts_tell_to_type_can_be_typed() {
    let house = House::new();
    let alerts = page("alerts.yml");
    let mut commands = 0;
    for action in alerts.lines().filter_map(|line| line.trim().strip_prefix("action: ")) {
        for call in action.trim_matches('"').split("; ") {
            let Some(call) = call.strip_prefix("larder ") else { continue };
            let call = call.split(", ").next().unwrap().split(" says ").next().unwrap();
            let call =
                call.replace("{{ $labels.shelf }}", "vendor").replace("{{ $labels.host }}", "h");
            house.larder(&format!("{call} --help")).ends(0);
            commands += 1;
        }
    }
    assert!(commands > 15, "{commands}");
}

#[test]
fn the_checker_of_prometheus_finds_nothing_wrong() {
    if Command::new("promtool").arg("--version").output().is_err() {
        eprintln!("left out: promtool is not here");
        return;
    }
    let alerts = format!("{}/../../docs/monitoring/alerts.yml", env!("CARGO_MANIFEST_DIR"));
    let checked = Command::new("promtool").args(["check", "rules", &alerts]).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    let (_house, serving, host) = told();
    assert_eq!(serving.ask("GET", "/v2/bz/library/kettle/manifests/2").status, 200);
    wait_until("everything is told", || figures(&host).contains("larder_intake_wanted"));
    let mut linted = Command::new("promtool");
    linted.args(["check", "metrics"]).stdin(Stdio::piped()).stderr(Stdio::piped());
    let mut linted = linted.stdout(Stdio::piped()).spawn().unwrap();
    linted.stdin.take().unwrap().write_all(figures(&host).as_bytes()).unwrap();
    let linted = linted.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&linted.stderr);
    assert!(linted.status.success() && said.is_empty(), "{said}");
}
