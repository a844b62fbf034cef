//! Nodes that are led to the larder by its own name: what is written for them, and what it answers to them.

use crate::access::{basic, granted};
use crate::house::{House, OWN};
use crate::serving::{Serving, ask};

const GAUGE: &str = "vendor/steamgauge/manifests/1.9.2";

/// The status of a pull as a node makes it that has a file for all hosts (`_default`), of one that asks by another
/// address, and of one without files.
fn statuses(serving: &Serving, login: Option<&str>) -> Vec<u16> {
    let fields: Vec<(&str, &str)> = login.iter().map(|login| ("authorization", *login)).collect();
    [
        format!("/c/turbine-hall/v2/{GAUGE}?ns={OWN}"),
        format!("/v2/{GAUGE}?ns={OWN}"),
        format!("/v2/{GAUGE}?ns=other.emberfall.example:5080"),
        format!("/v2/{GAUGE}"),
    ]
    .iter()
    .map(|path| ask(serving.host(), "GET", path, &fields, b"").unwrap().status)
    .collect()
}

/// A cluster with or without believed nodes, and with or without a namespace that has grants of its own.
fn house(nodes: bool, own: bool) -> House {
    let house = granted("");
    let text = house.read("larder.toml");
    let mut cluster = String::from("name = \"turbine-hall\"\n");
    if nodes {
        cluster.push_str("nodes = [\"127.0.0.0/8\"]\n");
    }
    let mut text = text.replacen("name = \"turbine-hall\"\n", &cluster, 1);
    let namespaces = "{ name = \"historian\", pull = [\"vendor/steamgauge\"] }";
    assert!(text.contains(namespaces), "{text}");
    let instead =
        if own { "{ name = \"historian\", pull = [\"vendor/kettle\"] }" } else { "\"historian\"" };
    text = text.replacen(namespaces, instead, 1);
    let aliases = "[larder]\naliases = [\"other.emberfall.example:5080\"]\n";
    house.write("larder.toml", text.replacen("[larder]\n", aliases, 1));
    house
}

#[test]
fn our_own_images_are_asked_for_with_the_key_where_it_says_more_than_the_node() {
    for (nodes, own) in [(false, false), (false, true), (true, false), (true, true)] {
        let house = house(nodes, own);
        let serving = Serving::start(&house);
        let good =
            basic("turbine-hall/scada", &house.issue("--cluster turbine-hall --namespace scada"));
        let narrow = basic(
            "turbine-hall/historian",
            &house.issue("--cluster turbine-hall --namespace historian"),
        );
        let case = format!("nodes {nodes}, own grants {own}");
        // The node suffices where it is believed, and no namespace has grants of its own.
        let by_node = if nodes && !own { 200 } else { 401 };
        assert_eq!(statuses(&serving, None), [by_node, 401, 401, 401], "{case}, no key");
        assert_eq!(statuses(&serving, Some(&good)), [200; 4], "{case}, a good key");
        let narrow_gets = if own { [403; 4] } else { [200; 4] };
        assert_eq!(statuses(&serving, Some(&narrow)), narrow_gets, "{case}, another's key");
        let wrong = basic("turbine-hall", "nonsense");
        let refused = statuses(&serving, Some(&wrong));
        assert!(refused.iter().all(|status| matches!(status, 401 | 403)), "{case}: {refused:?}");
        // What is not the larder's own name is still an upstream, which nothing caches here.
        let path = format!("/c/turbine-hall/v2/{GAUGE}?ns=bazaar.example");
        let other = ask(serving.host(), "GET", &path, &[], b"").unwrap();
        assert_eq!(other.status, 403, "{}", other.text());
    }
}

#[test]
fn nodes_are_told_how_the_larder_speaks() {
    let house = house(false, false);
    // Without any cached shelf too.
    house.larder("handoff write turbine-hall --into plain").ends(0).says(&["NODES.md"]);
    let file = house.read(&format!("plain/certs.d/{}/hosts.toml", OWN.replacen(':', "_", 1) + "_"));
    assert!(
        file.contains(&format!("server = \"http://{OWN}\"")) && file.contains("\n[host]\n"),
        "{file}"
    );
    let alias = house.read("plain/certs.d/other.emberfall.example_5080_/hosts.toml");
    assert!(alias.contains("server = \"http://other.emberfall.example:5080\""), "{alias}");
    let dropped = house.read("plain/registries.conf.d/50-larder-turbine-hall.conf");
    assert!(dropped.contains(&format!("location = \"{OWN}\"\ninsecure = true")), "{dropped}");
    house.larder("check --nodes plain").ends(0).says(&[OWN, &format!("http://{OWN}")]);
    let pages = house.read("plain/NODES.md") + &house.read("plain/HANDOFF.md");
    for words in ["## Test", "## Undo", "--hosts-dir", "io.containerd.cri.v1.images"] {
        assert!(pages.contains(words), "{words}");
    }
    // A node that has only the others' files asks by HTTPS, and that is told.
    std::fs::remove_dir_all(house.path(&format!("plain/certs.d/{}_", OWN.replacen(':', "_", 1))))
        .unwrap();
    std::fs::remove_dir_all(house.path("plain/registries.conf.d")).unwrap();
    house.larder("check --nodes plain").ends(1).says(&["it speaks plain HTTP"]);
    let serving = Serving::start(&house);
    house
        .larder(&format!(
            "why {OWN}/vendor/steamgauge:1.9.2 --cluster turbine-hall --namespace scada --nodes plain --larder {}",
            serving.address
        ))
        .ends(1)
        .says(&["speaks plain HTTP"]);
    // HTTPS with an authority of one's own.
    let text = house.read("larder.toml");
    house.write("larder.toml", text.replace(&format!("http://{OWN}"), &format!("https://{OWN}")));
    house.write("ca.pem", "-----BEGIN CERTIFICATE-----\n");
    house
        .larder("handoff write turbine-hall --nodes --into tls --ca ca.pem --client-cert /n.pem --client-key /n.key")
        .ends(0);
    let folder = format!("{}_", OWN.replacen(':', "_", 1));
    let file = house.read(&format!("tls/certs.d/{folder}/hosts.toml"));
    assert!(file.contains(&format!("server = \"https://{OWN}\"")), "{file}");
    assert!(
        file.contains(&format!("ca = \"/etc/containerd/certs.d/{folder}/larder-ca.pem\"")),
        "{file}"
    );
    assert!(file.contains("client = [[\"/n.pem\", \"/n.key\"]]"), "{file}");
    assert!(house.path(&format!("tls/containers-certs.d/{OWN}/ca.crt")).exists());
    assert!(
        !house.read("tls/registries.conf.d/50-larder-turbine-hall.conf").contains("[[registry]]")
    );
}

#[test]
fn what_cannot_work_is_said_with_the_line_that_mends_it() {
    let house = house(false, false);
    let text = house.read("larder.toml");
    house.write("larder.toml", text + "\n[[upstream]]\nname = \"bz\"\nhost = \"cached.example\"\n\n[[shelf]]\nname = \"hub\"\ncaches = \"bz\"\n");
    for line in ["handoff write turbine-hall --into h", "check --offline", "check --nodes h"] {
        let run = house.larder(line);
        let said = format!("{}{}", run.out, run.err);
        assert!(
            said.contains("write `nodes = [\"10.4.0.0/16\"]`") && said.contains("turbine-hall"),
            "{line}: {said}"
        );
    }
    assert!(house.read("h/NODES.md").contains("Before you copy them"));
    house.larder("check --nodes h").ends(1);
    let text = house.read("larder.toml");
    let nodes = "name = \"turbine-hall\"\nnodes = [\"127.0.0.0/8\"]\n";
    house.write("larder.toml", text.replacen("name = \"turbine-hall\"\n", nodes, 1));
    house.larder("check --nodes h").ends(0);
}
