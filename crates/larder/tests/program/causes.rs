//! `larder why`: each cause, with the real situation set up.

mod events;
mod reach;
mod secrets;
pub mod upstreams;

use std::collections::BTreeSet;
use std::fs;

use larder_standin::{Api, FaultKind, ImagePlan, image};
use serde_json::{Value, json};

use crate::access::granted;
use crate::house::{House, OWN, Run};
use crate::node::shelves;
use crate::serving::Serving;
use crate::stub::{http, listen};

/// What `larder why` finds: the cause, and how sure it is.
#[track_caller]
fn cause(run: &Run) -> (String, String) {
    let found = &run.json()["images"][0]["findings"][0];
    let text = |key: &str| found[key].as_str().unwrap_or_else(|| panic!("{}", run.out)).to_owned();
    // Each cause that is found has its page.
    let page = format!("{}/../../docs/causes/{}.md", env!("CARGO_MANIFEST_DIR"), text("cause"));
    assert!(fs::exists(&page).unwrap(), "{page}");
    (text("cause"), text("confidence"))
}

#[track_caller]
fn finds(house: &House, line: &str, wanted: &str) -> Value {
    let run = house.larder(&format!("why --json {line}")).ends(1);
    assert_eq!(cause(&run), (wanted.to_owned(), "certain".to_owned()), "{line}\n{}", run.out);
    let found = run.json();
    for remedy in found["images"][0]["findings"][0]["remedies"].as_array().unwrap() {
        understands(house, remedy["command"].as_str().unwrap_or_default());
    }
    found
}

/// What is advised can be typed. Only what changes nothing is tried.
#[track_caller]
fn understands(house: &House, command: &str) {
    let Some(line) = command.strip_prefix("larder ") else { return };
    let reads =
        ["log ", "look ", "policy ", "handoff move FILE ", "handoff read FILE", "rewrite --"];
    if reads.iter().any(|read| line.starts_with(read)) {
        let run = house.larder(line);
        assert!(!run.err.contains("For more information, try '--help'"), "{command}\n{}", run.err);
    }
}

/// The same where the cause cannot be certain.
#[track_caller]
fn suspects(house: &House, line: &str, wanted: &str) {
    let run = house.larder(&format!("why --json {line}")).ends(1);
    let (found, confidence) = cause(&run);
    assert_eq!(found, wanted, "{line}\n{}", run.out);
    assert_ne!(confidence, "certain", "{line}\n{}", run.out);
}

/// One more upstream, and a node without mirrors that pulls from it.
fn upstream(house: &House, host: &str, endpoint: &str, more: &str) -> String {
    fs::create_dir_all(house.path("bare")).unwrap();
    house.add_upstream(host, endpoint, more);
    format!("{host}/library/kettle:2 --nodes bare --patience 2")
}

#[test]
fn names_that_no_node_can_read() {
    let house = House::new();
    for (written, wanted) in [
        ("https://bazaar.example/library/kettle:2", "scheme"),
        ("bazaar.example/library/\u{a0}kettle:2", "blank"),
        ("bazaar.example/library/Kettle:2", "upper-case"),
        ("bazaar.example/", "no-repository"),
        ("${REGISTRY}/kettle:2", "placeholder"),
        ("bazaar.example/library/kettle@sha256:12ab", "bad-digest"),
        ("bazaar.example/library/kettle:", "malformed"),
    ] {
        let mut command = house.command("why --json");
        let run = crate::house::run(command.arg(written)).ends(1);
        assert_eq!(cause(&run), (wanted.into(), "certain".into()), "{written}");
    }
    // In ten seconds: the cause, what to do, and where it broke.
    house.larder("why https://bazaar.example/library/kettle:2").ends(1).says(&[
        "a scheme is typed in front of the reference: https://bazaar.example/library/kettle:2",
        "try write bazaar.example/library/kettle:2",
        "✗ name",
        "larder help cause scheme",
    ]);
}

#[test]
fn a_pull_that_works_is_said_to_work() {
    let house = House::new();
    house.larder("why bazaar.example/library/kettle:2").ends(0).says(&[
        "it can be pulled: bazaar.example/library/kettle:2",
        "✓ name",
        "✓ reach",
        "✓ platform   bazaar.example: made for linux/amd64",
        "blobs are there, with the right sizes",
    ]);
    house
        .larder("why bazaar.example/library/kettle:2 --deep")
        .ends(0)
        .says(&["read, and unaltered"]);
    let before = crate::node::requests(&house.bazaar);
    assert!(before.iter().all(|(line, _)| line.starts_with("GET") || line.starts_with("HEAD")));
    assert_eq!(
        house.larder("why bazaar.example/library/kettle:2 --json").ends(0).json()["images"][0]["verdict"],
        "succeeds"
    );
}

#[test]
fn what_is_locked_but_not_here_and_what_is_not_for_this_platform() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let serving = Serving::start(&house);
    let at = format!("--larder {}", serving.address);
    house.larder("intake run").ends(0);
    house.larder(&format!("why {OWN}/vendor/kettle:2 {at}")).ends(0);
    // Locked for one platform alone: the index lists the other, and it is known to be absent.
    let arm = format!("{OWN}/vendor/brinedb:5.2 --platform linux/arm64 {at}");
    finds(&house, &arm, "child-missing");
    finds(
        &house,
        &format!("{OWN}/vendor/kettle:2 --platform linux/s390x {at}"),
        "platform-missing",
    );
    let single = format!("{OWN}/vendor/valve-twin:3.1 --platform linux/arm64 {at}");
    let told = finds(&house, &single, "wrong-architecture").to_string();
    assert!(told.contains("linux/amd64"), "{told}");
    // Locked, and not brought in.
    let other = House::new();
    other.larder("intake lock").ends(0);
    let serving = Serving::start(&other);
    let line = format!("{OWN}/vendor/kettle:2 --larder {}", serving.address);
    finds(&other, &line, "not-brought-in");
}

#[test]
fn a_tag_that_moved_and_a_short_name() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    fs::create_dir_all(house.path("bare")).unwrap();
    let moved = ImagePlan { layer_size: 40_000, ..ImagePlan::new("kettle") };
    house.hold(&house.bazaar, "library/kettle", "2", &image(&moved));
    let run = house.larder("why --json bazaar.example/library/kettle:2 --nodes bare").ends(0);
    assert_eq!(cause(&run).0, "tag-moved");
    // A short name means the public registry to a node, and another one here.
    let hides = listen(|line| http(line, "404 Not Found", "", ""));
    house.add_upstream("docker.io", &format!("http://{hides}"), "");
    finds(&house, "kettle:2 --nodes bare --online", "short-name");
}

#[test]
fn mirrors_that_are_not_read_and_mirrors_that_are_skipped() {
    let house = House::new();
    house.configure(&shelves(""));
    let serving = Serving::start(&house);
    let larder = format!("http://{OWN}");
    let at = format!("--larder {}", serving.address);
    let closed = "http://127.0.0.1:1";
    house.add_upstream("far.example", closed, "");
    let mirror =
        |host: &str, text: &str| house.write(&format!("nodes/certs.d/{host}/hosts.toml"), text);
    mirror("bazaar.example", &format!("server = \"{larder}\"\n[host]\n"));
    house
        .larder(&format!("why bazaar.example/library/kettle:2 --nodes nodes {at}"))
        .ends(0)
        .says(&[&format!("it asks {OWN}"), "it can be pulled"]);
    // Only what the shelf reaches.
    finds(
        &house,
        &format!("bazaar.example/community/pipewatch:1 --nodes nodes {at}"),
        "outside-shelf",
    );
    // Dropped in silence, so that the node goes where it cannot go.
    mirror("far.example", "[host.\"http://mirror.example\"\n");
    finds(&house, "far.example/library/kettle:2 --nodes nodes", "mirror-file");
    fs::remove_file(house.path("nodes/certs.d/far.example/hosts.toml")).unwrap();
    house.write("nodes/certs.d/far.example/host.toml", "");
    finds(&house, "far.example/library/kettle:2 --nodes nodes", "mirror-not-read");
    house.write("nodes/config.toml", "version = 2\n");
    let told = finds(&house, "far.example/library/kettle:2 --nodes nodes", "mirror-not-read");
    assert!(told.to_string().contains("config_path"), "{told}");
    fs::remove_file(house.path("nodes/config.toml")).unwrap();
    // Skipped, whatever it answers: the pull works, and the mirror is named.
    for status in
        ["401 Unauthorized", "403 Forbidden", "404 Not Found", "500 Internal Server Error"]
    {
        let skipped = listen(move |line| http(line, status, "", ""));
        mirror("bazaar.example", &format!("[host.\"http://{skipped}\"]\n"));
        let run = house.larder("why --json bazaar.example/library/kettle:2 --nodes nodes").ends(0);
        assert_eq!(cause(&run), ("mirror-skipped".into(), "certain".into()), "{status}");
        assert!(run.out.contains(&skipped), "the mirror is named");
    }
    // A node that names a cluster which is not believed.
    mirror("bazaar.example", &format!("server = \"{larder}/c/nobody\"\n[host]\n"));
    finds(&house, &format!("bazaar.example/library/kettle:2 --nodes nodes {at}"), "strange-node");
}

#[test]
fn an_upstream_behind_a_cached_shelf() {
    let house = House::new();
    house.configure(&shelves("recheck = \"0s\"\npatience = \"1s\""));
    let serving = Serving::start(&house);
    let at = format!("--larder {}", serving.address);
    house.larder(&format!("why {OWN}/bazaar/library/kettle:2 {at}")).ends(0);
    house.bazaar.faults.add(None, "/v2/", 100_000, FaultKind::Status(503, None));
    let run = house.larder(&format!("why --json {OWN}/bazaar/library/kettle:2 {at}")).ends(0);
    assert_eq!(cause(&run).0, "stale-served");
    finds(&house, &format!("{OWN}/bazaar/library/ashlog:1.4 {at}"), "upstream-down");
}

#[test]
fn events_alone_name_what_is_possible_and_then_the_hosts_are_asked() {
    let house = House::new();
    fs::create_dir_all(house.path("bare")).unwrap();
    let event = "Warning  Failed  rpc error: code = NotFound desc = failed to pull and unpack image \"bazaar.example/library/kettle:7\": failed to resolve reference \"bazaar.example/library/kettle:7\": bazaar.example/library/kettle:7: not found";
    let described = format!(
        "Events:\n  {event}\n  {event}\n  Normal BackOff Back-off pulling image \"bazaar.example/library/kettle:7\"\n"
    );
    let run = house.larder_reads("why --event - --offline --json", &described).ends(1);
    assert_eq!(cause(&run), ("absent-or-hidden".into(), "possible".into()));
    let run = house.larder_reads("why --event - --online --nodes bare --json", &described).ends(1);
    assert_eq!(cause(&run), ("tag-missing".into(), "certain".into()));
    assert_eq!(run.json()["images"].as_array().unwrap().len(), 1, "each failure once");
    house
        .larder_reads("why --event -", "all is well")
        .ends(2)
        .says(&["it tells of no failed pull"]);
    house.larder("why").ends(2).says(&["no image is named"]);
    // What nobody asked cannot be told, and then it is said what is missing.
    house
        .larder("why bazaar.example/library/kettle:2 --offline")
        .ends(3)
        .says(&["it cannot be told", "not known is what bazaar.example answers"]);
}

#[test]
fn a_workload_is_read_from_its_cluster_and_a_folder_as_a_table() {
    let house = granted("");
    let serving = Serving::start(&house);
    let api = Api::new("turbine-hall", &["scada", "historian"]).unwrap();
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("kubeconfig", api.kubeconfig(address));
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let template = json!({"spec": {"containers": [{"name": "one", "image": image}]}});
    api.put(
        "/apis/apps/v1/namespaces/scada/deployments/board",
        json!({"kind": "Deployment", "metadata": {"name": "board", "namespace": "scada"}, "spec": {"template": template}}),
    );
    api.put(
        "/api/v1/namespaces/scada/events/one",
        json!({"metadata": {"name": "one", "namespace": "scada"}, "involvedObject": {"name": "board-1"},
            "message": format!("Failed to pull image \"{image}\": failed to resolve reference \"{image}\": pulling from host {OWN} failed with status code [manifests 1.9.2]: 403 Forbidden: nobody signed in")}),
    );
    let line = format!(
        "--cluster turbine-hall --namespace scada --workload Deployment/board --kubeconfig kubeconfig --larder {}",
        serving.address
    );
    let told = finds(&house, &line, "no-credential");
    assert_eq!(told["images"][0]["event"]["cause"], "no-credential");
    house.larder("handoff apply turbine-hall --kubeconfig kubeconfig").ends(0);
    house
        .larder(&format!("why {line}"))
        .ends(0)
        .says(&["it can be pulled", "pull secret scada/larder-pull"]);
    house
        .larder(&line.replace("board", "nobody").replace("--cluster", "why --cluster"))
        .ends(1)
        .says(&["scada has no Deployment nobody"]);
    house
        .larder(&line.replace("Deployment/", "Turbine/").replace("--cluster", "why --cluster"))
        .ends(2)
        .says(&["is no kind of workload"]);
    // A whole folder, before it is rolled out.
    let table = house
        .larder(&format!("why --all deploy --cluster turbine-hall --larder {}", serving.address))
        .ends(1);
    let table = table.says(&["PULL", "works", "fails", "a scheme is typed in front", "would fail"]);
    drop(table);
    let json =
        house.larder("why --all deploy --cluster turbine-hall --offline --json").ends(1).json();
    assert_eq!(json["images"].as_array().unwrap().len(), 8);
}

#[test]
fn every_page_is_of_a_cause_and_every_cause_has_its_page() {
    let folder = format!("{}/../../docs/causes", env!("CARGO_MANIFEST_DIR"));
    let pages: BTreeSet<String> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| name != "README.md")
        .collect();
    let causes: BTreeSet<String> = larder_core::diagnosis::Cause::ALL
        .iter()
        .map(|cause| format!("{}.md", cause.word()))
        .collect();
    assert_eq!(pages, causes);
}
