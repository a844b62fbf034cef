//! Nodes that are led through the larder, and what they are led by.

use std::collections::BTreeMap;

use larder_standin::{Cluster, FaultKind, image};

use crate::house::{House, OWN, small};
use crate::node::{requests, shelves, wait_until};
use crate::serving::Serving;

/// A cluster whose nodes reach the larder under its name, and the upstream.
fn cluster(house: &House, serving: &Serving, upstream: bool) -> Cluster {
    // The stand-in's nodes speak from this very process.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut hosts = BTreeMap::from([(OWN.to_owned(), serving.address.clone())]);
    if upstream {
        hosts.insert("bazaar.example".into(), house.bazaar.endpoint());
    }
    Cluster::new("control-room", "linux/amd64".parse().unwrap(), hosts)
}

fn pod(image: &str) -> String {
    format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{name: k}}\nspec: {{containers: [{{name: k, image: {image}}}]}}\n"
    )
}

fn start(house: &House, cluster: &mut Cluster, image: &str) -> String {
    let pods = house.runtime.block_on(cluster.apply(&pod(image))).unwrap();
    pods[0].to_string()
}

#[test]
fn nodes_pull_an_upstreams_images_through_the_larder() {
    let house = House::new();
    house.configure(&shelves(""));
    let wrote = house.larder("handoff write control-room --nodes --into handoff").ends(0);
    wrote.says(&[
        "written   handoff/certs.d/bazaar.example/hosts.toml",
        "handoff/certs.d/ventworks.example/hosts.toml",
        "handoff/registries.conf.d/50-larder-control-room.conf",
        "handoff/NODES.md",
        "what the larder refuses is refused",
    ]);
    house
        .larder("handoff write control-room --nodes --into handoff")
        .ends(0)
        .says(&["unchanged handoff/certs.d/bazaar.example/hosts.toml"]);
    house.larder("check --nodes handoff").ends(0).says(&[
        "bazaar.example",
        "http://larder.emberfall.example:5080/c/control-room",
        "http://larder.emberfall.example:5080/bazaar",
    ]);
    let serving = Serving::start(&house);
    let mut nodes = cluster(&house, &serving, true);
    nodes.configure_nodes(&house.path("handoff/certs.d"));
    let runs = start(&house, &mut nodes, "bazaar.example/library/kettle:2");
    assert!(runs.contains("Running"), "{runs}");
    wait_until("the log tells of it", || serving.log().contains("cluster=\"control-room\""));
    assert!(
        requests(&house.bazaar).iter().all(|(line, _)| !line.starts_with("HEAD")),
        "not the node"
    );
    // The same everywhere; then the upstream's tag moves.
    let report = nodes.node_report().to_string();
    house.write("nodes.json", report);
    let prove = "look bazaar/library/kettle:2 --upstream --nodes nodes.json";
    house.larder(prove).ends(0).says(&["upstream", "larder", "control-room-1", "the same"]);
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("moved")));
    let differs = house.larder(&format!("{prove} --json")).ends(1).json();
    assert_eq!(differs["same"], false);
    assert_ne!(differs["places"][0]["digest"], differs["places"][1]["digest"]);
    assert_eq!(differs["places"][1]["digest"], differs["places"][2]["digest"]);
    // Closed: what the larder refuses is refused, although the upstream has it.
    house.hold(&house.bazaar, "community/pipewatch", "1", &image(&small("pipewatch")));
    let refused = start(&house, &mut nodes, "bazaar.example/community/pipewatch:1");
    assert!(refused.contains("403 Forbidden: community/pipewatch is outside of the shelf bazaar, which reaches only library/**"), "{refused}");
    // Open: the node goes on to the upstream.
    house
        .larder("handoff write control-room --nodes --open --into handoff")
        .ends(0)
        .says(&["can still be pulled from the upstream"]);
    let runs = start(&house, &mut nodes, "bazaar.example/community/pipewatch:1");
    assert!(runs.contains("Running"), "{runs}");
    let check = house.larder("check --nodes handoff/certs.d").ends(0);
    check.says(&["note:", "also for what the larder refuses"]);
    // The larder is away: an open node goes on, a closed one does not.
    assert_eq!(serving.stop("TERM"), 0);
    nodes.renew_nodes();
    assert!(start(&house, &mut nodes, "bazaar.example/library/brinedb:5.2").contains("Running"));
    house.larder("handoff write control-room --nodes --into handoff").ends(0);
    let away = start(&house, &mut nodes, "bazaar.example/library/ashlog:1.4");
    assert!(away.contains("ImagePullBackOff"), "{away}");
}

#[test]
fn one_folder_serves_all_other_upstreams() {
    let house = House::new();
    house.configure(&shelves(""));
    let write = "handoff write control-room --nodes --upstream bazaar --default --into handoff";
    house.larder(&format!("{write} --dry-run")).ends(0).says(&["would be written"]);
    assert!(!house.path("handoff").exists());
    house.larder(write).ends(0).says(&["certs.d/_default/hosts.toml"]);
    assert!(!house.path("handoff/certs.d/ventworks.example").exists());
    let serving = Serving::start(&house);
    let mut nodes = cluster(&house, &serving, true);
    nodes.configure_nodes(&house.path("handoff/certs.d"));
    let runs = start(&house, &mut nodes, "ventworks.example/gauges/steamgauge:1.9.2");
    assert!(runs.contains("Running"), "the account is the larder's: {runs}");
    let refused = start(&house, &mut nodes, "elsewhere.example/x/y:1");
    assert!(refused.contains("ImagePullBackOff") && refused.contains("403"), "{refused}");
    house.bazaar.faults.add(None, "/v2/", 1000, FaultKind::Status(429, Some(600)));
    let limited = start(&house, &mut nodes, "bazaar.example/library/kettle:2");
    assert!(limited.contains("503"), "{limited}");
}

#[test]
fn what_a_runtime_would_leave_out_is_told() {
    let house = House::new();
    house.configure(&shelves(""));
    let ours = "server = \"http://larder.emberfall.example:5080/c/control-room\"\n[host]\n";
    house.write("certs.d/ventworks.example/hosts.toml", ours);
    for (file, text, words) in [
        (
            "hosts.toml",
            "server = \"http://larder.emberfall.example:5080\"\n",
            "an empty one is enough",
        ),
        ("hosts.toml", "[host.\"http://elsewhere.example\"]\n", "does not lead to the larder"),
        (
            "hosts.toml",
            "[host.\"http://larder.emberfall.example:5080/c/nowhere\"]\n",
            "knows no cluster `nowhere`",
        ),
        (
            "hosts.toml",
            "server = \"http://larder.emberfall.example:5080\"\nca = \"/nowhere/ca.pem\"\n[host]\n",
            "every pull fails",
        ),
        ("host.toml", ours, "host.toml is not read"),
    ] {
        let _ = std::fs::remove_dir_all(house.path("certs.d/bazaar.example"));
        house.write(&format!("certs.d/bazaar.example/{file}"), text);
        house.larder("check --nodes certs.d").ends(1).says(&[words, "wrong:"]);
    }
    std::fs::remove_dir_all(house.path("certs.d/bazaar.example")).unwrap();
    let nothing = house.larder("check --nodes certs.d --json").ends(1).json();
    let rows = nothing["upstreams"].as_array().unwrap();
    let bazaar = rows.iter().find(|row| row["upstream"] == "bazaar.example").unwrap();
    assert!(bazaar["file"].is_null() && bazaar["remarks"][0]["bad"] == true, "{bazaar}");
    house.write("certs.d/Not A Host/hosts.toml", ours);
    house.larder("check --nodes certs.d").ends(1).says(&["never looks here"]);
    house.write("registries.conf.d/x.conf", "[[registry]]\nprefix = \"bazaar.example\"\nlocation = \"larder.emberfall.example:5080/vendor\"\ninsecure = true\n");
    house.larder("check --nodes registries.conf.d").ends(1).says(&["the shelf is `bazaar`"]);
    house.larder("check --nodes nowhere").ends(2).says(&["it is no folder"]);
}

#[test]
fn a_handoff_that_cannot_work_is_not_written() {
    let house = House::new();
    house.configure(&shelves(""));
    for (line, words) in [
        (
            "handoff write nobody --nodes --into x",
            &["there is no cluster `nobody`", "control-room"][..],
        ),
        ("handoff write control-room --into x", &["is declared without namespaces"]),
        ("handoff write control-room --nodes --into x --upstream y", &["no shelf caches `y`"]),
        (
            "handoff write control-room --nodes --into x --ca larder.toml",
            &["no certificate in PEM"],
        ),
        (
            "look kettle:2@sha256:0c969425b3bfb6ca4d6213e510a83c833d2b2069f99605d981bcc62ddcc3e17e --upstream",
            &["names the same content everywhere"],
        ),
        ("look elsewhere.example/x:1 --upstream", &["it lies on no cached shelf"]),
        ("look kettle:2 --upstream --nodes larder.toml", &["no Node objects"]),
    ] {
        house.larder(line).ends(2).says(words);
    }
    house.write("ca.pem", "-----BEGIN CERTIFICATE-----\nMA==\n-----END CERTIFICATE-----\n");
    house
        .larder("handoff write control-room --nodes --into x --ca ca.pem")
        .ends(2)
        .says(&["`--ca` is for HTTPS"]);
    let text = house.read("larder.toml");
    house.write("larder.toml", text.replace(&format!("http://{OWN}"), &format!("https://{OWN}")));
    house.larder("handoff write control-room --nodes --into x").ends(0).says(&["must trust"]);
    house.larder("handoff write control-room --nodes --into x --ca ca.pem").ends(0);
    let hosts = house.read("x/certs.d/bazaar.example/hosts.toml");
    assert!(
        hosts.contains("ca = \"/etc/containerd/certs.d/bazaar.example/larder-ca.pem\""),
        "{hosts}"
    );
    house.larder("check --nodes x").ends(0);
    let shows = "--client-cert /etc/larder/node.pem --client-key /etc/larder/node.key";
    let write = "handoff write control-room --nodes --into x --ca ca.pem";
    house.larder(&format!("{write} {shows} --open")).ends(0);
    let hosts = house.read("x/certs.d/bazaar.example/hosts.toml");
    assert!(hosts.contains("client = [[\"/etc/larder/node.pem\", \"/etc/larder/node.key\"]]"));
    house.larder("check --nodes x").ends(0);
    house.larder(&format!("{write} --client-cert a.pem")).ends(2).says(&["--client-key"]);
    house.configure("[[cluster]]\nname = \"control-room\"\n");
    house
        .larder("handoff write control-room --nodes --into y")
        .ends(0)
        .says(&["y/certs.d/larder.emberfall.example_5080_/hosts.toml"]);
    house
        .larder("handoff write control-room --upstream bazaar.example --into z")
        .ends(2)
        .says(&["no shelf caches `bazaar.example`"]);
}
