//! Retention: what `[[keep]]` lets go, what stays all the same, and what the record says.

use std::process::Stdio;

use larder_standin::image;

use crate::house::{House, OWN, ended, small, spawn};
use crate::node::{ACCEPT, straight};
use crate::serving::Serving;

/// A house with five versions of a board on a shelf of its own, all of them old.
fn boards(keep: &str) -> House {
    let house = House::new();
    house.configure(&format!("[[shelf]]\nname = \"own\"\n\n{keep}"));
    for tag in ["1.0", "1.1", "1.2", "1.2-alpine", "1.0-lts"] {
        house.hold(&house.bazaar, "library/board", tag, &image(&small(&format!("board{tag}"))));
        house
            .larder(&format!("copy bazaar.example/library/board:{tag} {OWN}/own/board:{tag}"))
            .ends(0);
    }
    age(&house, 100);
    house
}

/// Lets all that is recorded of tags, manifests and pulls be so many days older.
fn age(house: &House, days: i64) {
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    let by = days * 24 * 3_600_000;
    for statement in [
        format!("UPDATE tags SET since = since - {by}"),
        format!("UPDATE manifests SET added = added - {by}"),
        format!("UPDATE uses SET last = last - {by}"),
        format!("UPDATE record SET last = last - {by}"),
    ] {
        ledger.execute(&statement, []).unwrap();
    }
}

fn tags(house: &House) -> Vec<String> {
    let shown = house.larder("--json shelf show own").json();
    let images = shown["images"].as_array().cloned().unwrap_or_default();
    images.iter().map(|one| one["tag"].as_str().unwrap_or("-").to_owned()).collect()
}

const KEEP: &str = "[[keep]]\nmatch = [\"own/**\"]\nnewest = 1\nunpulled = \"30d\"\nuntagged = \"7d\"\nalways = [\"*-lts\"]\n";

#[test]
fn what_the_rules_let_go_is_shown_goes_once_and_is_in_the_record() {
    let house = boards(KEEP);
    let plan = house.larder("shelf tidy").ends(0).says(&[
        "own/board:1.0",
        "goes: number 3 by age, and 1 stay, not pulled for 30d",
        "2 images would go and 3 images stay",
        "`--yes` does it",
    ]);
    assert!(!plan.out.contains("alpine"), "each variant has its newest: {}", plan.out);
    house.larder("shelf tidy own --explain").ends(0).says(&[
        "stays: `always` has *-lts",
        "stays: number 1 of the 1 newest",
        "larder.toml:",
    ]);
    house.larder("shelf tidy vendor").ends(1).says(&["holds nothing under vendor"]);
    house.larder("shelf tidy own/board:1.0 --yes").ends(2).says(&["names images", "shelf drop"]);
    assert_eq!(tags(&house).len(), 5, "nothing has gone yet");
    let done = house.larder("--json shelf tidy --yes").ends(0).json();
    assert_eq!((&done["dry_run"], &done["kept_images"]), (&false.into(), &3.into()));
    assert_eq!(done["removed"].as_array().unwrap().len(), 2);
    assert!(done["freed_bytes"].as_u64().unwrap() > 0);
    assert_eq!(tags(&house), ["1.0-lts", "1.2", "1.2-alpine"]);
    // Done twice, it does nothing the second time.
    house.larder("shelf tidy --yes").ends(0).says(&["nothing goes; 3 images stay"]);
    house.larder("log --kind delete").ends(0).says(&[
        "own/board:1.0",
        "tidied: number 3 by age",
        "decided by larder.toml:",
    ]);
    house.larder("store verify").ends(0);
}

#[test]
fn what_is_named_used_or_perhaps_used_stays() {
    // What the lock has, and what a survey names.
    let named =
        KEEP.replace("untagged", "named_by = [\"lock\", \"running\", \"seen.json\"]\nuntagged");
    let house = boards(&named);
    house.write("pod.yaml", format!("kind: Pod\napiVersion: v1\nmetadata: {{name: p}}\nspec: {{containers: [{{name: c, image: '{OWN}/own/board:1.0'}}]}}\n"));
    house.larder("shelf tidy").ends(2).says(&["cannot read the survey seen.json"]);
    house.write("seen.json", "{}");
    house.larder("shelf tidy").ends(2).says(&["larder survey --json", "nothing was removed"]);
    house.write("seen.json", house.larder("--json survey pod.yaml").out);
    house
        .larder("shelf tidy --explain")
        .ends(0)
        .says(&["stays: seen.json names it", "1 image would go and 4 images stay"]);
    // A cluster that may pull it, and of which nothing is known.
    let text = house.read("larder.toml");
    let cluster = "\n[[cluster]]\nname = \"turbine-hall\"\npull = [\"own/**\"]\n";
    house.write("larder.toml", format!("{text}{cluster}"));
    house
        .larder("shelf tidy")
        .ends(0)
        .says(&["nothing goes", "turbine-hall: nothing was learned of it yet"]);
    let shown = house.larder("--json shelf tidy").ends(0).json();
    assert_eq!(shown["unknown_clusters"][0]["cluster"], "turbine-hall");
    house.write("larder.toml", &text);
    // What just came stays, whatever its version says.
    house.larder(&format!("copy bazaar.example/library/board:1.1 {OWN}/own/board:1.1.1")).ends(0);
    house.larder("shelf tidy --explain").ends(0).says(&["a short time ago"]);
}

#[test]
fn a_pull_that_is_written_down_late_saves_what_it_pulled() {
    let house = boards(KEEP);
    let serving = Serving::start(&house);
    let tidy = spawn(&mut house.command("shelf tidy --yes"), Stdio::null());
    let node = straight(&serving);
    assert_eq!(node.get("GET", "own/board/manifests/1.0", ACCEPT).unwrap().status, 200);
    assert_eq!(ended(tidy).exit, 0);
    assert_eq!(tags(&house), ["1.0", "1.0-lts", "1.2", "1.2-alpine"]);
    // It stays as long as that pull counts as use.
    drop(serving);
    house
        .larder("shelf tidy --explain")
        .ends(0)
        .says(&["stays: pulled by somebody who did not sign in"]);
    age(&house, 31);
    house.larder("shelf tidy --yes").ends(0).says(&["1 image gone"]);
}

#[test]
fn what_has_no_tag_goes_by_its_own_condition() {
    let house = boards(KEEP);
    house.larder(&format!("copy bazaar.example/library/board:1.2 {OWN}/own/board:1.0")).ends(0);
    age(&house, 100);
    let plan = house.larder("--json shelf tidy").ends(0).json();
    let untagged: Vec<&serde_json::Value> =
        plan["removed"].as_array().unwrap().iter().filter(|one| one["tag"].is_null()).collect();
    assert_eq!(untagged.len(), 1, "{plan}");
    assert!(untagged[0]["because"].as_str().unwrap().contains("without a tag for 7d"));
    // The same content under an older tag counts once.
    assert_eq!(plan["removed"].as_array().unwrap().len(), 2, "{plan}");
}

#[test]
fn companions_go_with_what_they_are_about_and_stay_with_what_stays() {
    let house = boards(KEEP);
    let digest = |tag: &str| {
        let shown = house.larder(&format!("--json shelf show own/board:{tag}")).json();
        shown["images"][0]["digest"].as_str().unwrap().replace(':', "-")
    };
    // Signatures of the older scheme lie under a tag of the digest.
    let (goes, stays) = (digest("1.0"), digest("1.2"));
    for tag in [&goes, &stays] {
        let to = format!("{OWN}/own/board:{tag}.sig");
        house.larder(&format!("copy bazaar.example/library/kettle:2 {to}")).ends(0);
    }
    age(&house, 100);
    let removed = house.larder("--json shelf tidy --yes").ends(0).json();
    let removed = removed["removed"].as_array().unwrap();
    let signature = removed.iter().find(|one| one["tag"] == format!("{goes}.sig")).unwrap();
    assert_eq!(signature["because"], "goes with the image that it is about");
    assert!(tags(&house).contains(&format!("{stays}.sig")), "{:?}", tags(&house));
    assert!(!tags(&house).contains(&format!("{goes}.sig")));
}

#[test]
fn a_tidy_that_is_killed_leaves_whole_images_and_goes_on() {
    let house = boards(KEEP);
    for pause in [0, 3000, 3050, 3100, 3200] {
        let mut tidy = spawn(&mut house.command("shelf tidy --yes"), Stdio::null());
        std::thread::sleep(std::time::Duration::from_millis(pause));
        let _ = tidy.kill();
        let _ = tidy.wait();
        house.larder("store verify").ends(0);
    }
    house.larder("shelf tidy --yes").ends(0);
    assert_eq!(tags(&house), ["1.0-lts", "1.2", "1.2-alpine"]);
    let log = house.larder("log --kind delete").ends(0).out;
    assert_eq!(log.matches("tidied:").count(), 2, "each removal is recorded once: {log}");
}

#[test]
fn wrong_retention_is_refused_with_what_is_meant() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"own\"\n");
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/own/kettle:2")).ends(0);
    house.larder("shelf tidy").ends(2).says(&["has no [[keep]]", "`untagged`"]);
    let shelf = "[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\n\n";
    for (keep, words) in [
        ("match = [\"bazaar/**\"]\nnewest = 3\n", &["cached shelves have `keep` of their own"][..]),
        ("match = []\n", &["names the repositories"][..]),
        ("match = [\"own/**\"]\nnewest = 0\n", &["`newest` is a number, 1 or more"][..]),
        (
            "match = [\"own/**\"]\nnewest = { count = 2, by = \"size\" }\n",
            &["`by` is \"version\" or \"time\", not \"size\""][..],
        ),
        ("match = [\"own/**\"]\nunpulled = \"soon\"\n", &["not a span of time"][..]),
        ("match = [\"own/**\"]\nolder = \"3d\"\n", &["`older` is not a key here"][..]),
    ] {
        house.configure(&format!("{shelf}[[keep]]\n{keep}"));
        house.larder("check").ends(2).says(words);
    }
}

#[test]
fn immutable_tags_stay_where_they_were_set() {
    let house = House::new();
    house.configure(
        "[[shelf]]\nname = \"own\"\nimmutable = [\"*\"]\nmovable = [\"latest\", \"board:edge-*\"]\n",
    );
    let copy = |from: &str, to: &str| {
        house.larder(&format!("copy bazaar.example/library/{from} {OWN}/own/board:{to}"))
    };
    for tag in ["1.0", "latest", "edge-1"] {
        copy("kettle:2", tag).ends(0);
        copy("kettle:2", tag).ends(0);
    }
    copy("brinedb:5.2", "1.0")
        .ends(1)
        .says(&["the tag 1.0 is immutable: it points to sha256:", "name it in `movable`"]);
    copy("brinedb:5.2", "latest").ends(0);
    copy("brinedb:5.2", "edge-1").ends(0);
    copy("brinedb:5.2", "1.1").ends(0);
    // A client is refused alike, and cannot remove what it may not move.
    let serving = Serving::start(&house);
    let get = |tag: &str| serving.ask("GET", &format!("/v2/own/board/manifests/{tag}"));
    let (kettle, other) = (get("1.0"), get("1.1"));
    assert_ne!(kettle.body, other.body);
    let put = |tag: &str, manifest: &crate::serving::Answer| {
        let kind = [("content-type", "application/vnd.oci.image.index.v1+json")];
        let path = format!("/v2/own/board/manifests/{tag}");
        crate::serving::ask(serving.host(), "PUT", &path, &kind, &manifest.body).unwrap()
    };
    assert_eq!(put("1.0", &kettle).status, 201, "the same again");
    let refused = put("1.0", &other);
    assert_eq!(refused.status, 403, "{}", refused.text());
    assert!(refused.text().contains("is immutable"), "{}", refused.text());
    assert_eq!(put("edge-1", &kettle).status, 201);
    let digest = larder_core::digest::Digest::of(&kettle.body);
    for named in ["1.0", digest.as_str()] {
        let gone = serving.ask("DELETE", &format!("/v2/own/board/manifests/{named}"));
        assert_eq!(gone.status, 403, "{named}: {}", gone.text());
    }
    assert_eq!(serving.ask("DELETE", "/v2/own/board/manifests/edge-1").status, 202);
    assert_eq!(get("1.0").body, kettle.body);
    // The operator removes it.
    house.larder("shelf drop own/board:1.0 --yes").ends(0);
    assert_eq!(put("1.0", &other).status, 201);
}

#[test]
fn what_is_brought_in_does_not_move_an_immutable_tag_either() {
    let house = House::new();
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        format!("{text}\n[[shelf]]\nname = \"vendor\"\nimmutable = [\"2\"]\n"),
    );
    house.bring_in();
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("moved")));
    house.larder("intake lock").ends(0).says(&["moved"]);
    house.larder("intake run").ends(1).says(&["the tag 2 is immutable", "`movable`"]);
    let shelf = |more: &str| {
        let text = house.read("larder.toml");
        house.write("larder.toml", text.replace("immutable = [\"2\"]\n", more));
    };
    shelf("immutable = [\"2\"]\nmovable = [\"kettle:2\"]\n");
    house.larder("intake run").ends(0).says(&["brought in", "vendor/kettle:2"]);
    // Wrong keys are told.
    house.configure("[[shelf]]\nname = \"own\"\nmovable = [\"2\"]\n");
    house.larder("check").ends(2).says(&["exceptions from `immutable`"]);
    house.configure("[[shelf]]\nname = \"b\"\ncaches = \"bazaar\"\nimmutable = [\"2\"]\n");
    house.larder("check").ends(2).says(&["`immutable` is for shelves that store"]);
}

#[test]
fn who_uses_an_image_is_told_both_ways_and_before_it_is_dropped() {
    let house = House::new();
    let grants = "[[shelf]]\nname = \"own\"\n\n[[cluster]]\nname = \"turbine-hall\"\nnamespaces = [\"scada\"]\npull = [\"own/**\"]\n\n[[cluster]]\nname = \"field-lab\"\npull = [\"own/b*\"]\n";
    house.configure(grants);
    let text = house.read("larder.toml").replace("access = \"open\"\n", "");
    house.write("larder.toml", text);
    for to in ["board:1", "board:2", "bell:1"] {
        let from = if to == "bell:1" { "brinedb:5.2" } else { "kettle:2" };
        house.larder(&format!("copy bazaar.example/library/{from} {OWN}/own/{to}")).ends(0);
    }
    house.larder("shelf users").ends(0).says(&["nobody was seen to use any of it"]);
    house.larder("key issue --cluster turbine-hall --namespace scada --into hall.key").ends(0);
    let serving = Serving::start(&house);
    let login = format!("turbine-hall/scada:{}", house.read("hall.key").trim());
    let basic = {
        use base64::Engine as _;
        base64::engine::general_purpose::STANDARD.encode(login)
    };
    let pull = |path: &str| {
        let fields = [("authorization", format!("Basic {basic}")), ("accept", ACCEPT.to_owned())];
        let fields: Vec<(&str, &str)> = fields.iter().map(|(a, b)| (*a, b.as_str())).collect();
        crate::serving::ask(serving.host(), "GET", path, &fields, b"").unwrap()
    };
    assert_eq!(pull("/v2/own/board/manifests/1").status, 200);
    crate::node::wait_until("the pull is in the record", || {
        house.larder("shelf users own/board").out.contains("turbine-hall/scada")
    });
    // Both tags are the same image.
    let used = house.larder("--json shelf users own").ends(0).json();
    let images = used["images"].as_array().unwrap();
    assert_eq!(images.len(), 2, "{used}");
    assert_eq!(images[0]["users"][0]["who"], "turbine-hall/scada");
    assert_eq!(images[0]["unknown_clusters"][0], "field-lab");
    for (call, words) in [
        ("--cluster turbine-hall", &["own/board:1", "own/board:2", "2 images"][..]),
        ("--cluster turbine-hall --namespace scada", &["own/board:1"]),
        ("--cluster field-lab", &["nobody was seen to use any of it"]),
        ("own/board:1 --since 1h", &["1 image", "just now"]),
        ("--unused", &["own/bell:1", "not known of field-lab, which may pull it", "1 image that"]),
    ] {
        house.larder(&format!("shelf users {call}")).ends(0).says(words);
    }
    house.larder("shelf users --cluster fieldlab").ends(2).says(&["did you mean field-lab?"]);
    house.larder("shelf users own/none").ends(1).says(&["holds nothing under that name"]);
    house
        .larder("shelf drop own/board:1 --dry-run")
        .ends(0)
        .says(&["used by turbine-hall/scada, last just now"]);
}

/// Serves until the larder has tidied by itself, and gives what it says came of it.
fn tidied_while_serving(house: &House) -> String {
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    ledger.busy_timeout(std::time::Duration::from_secs(10)).unwrap();
    let set = "INSERT INTO marks (name, value, at) VALUES ('tidy/last', '', 0)
        ON CONFLICT (name) DO UPDATE SET at = 0, value = ''";
    ledger.execute(set, []).unwrap();
    let serving = Serving::start(house);
    let said = || -> String {
        let ask = "SELECT value FROM marks WHERE name = 'tidy/last'";
        ledger.query_row(ask, [], |row| row.get(0)).unwrap()
    };
    crate::node::wait_until("it has tidied", || !said().is_empty());
    assert_eq!(serving.stop("TERM"), 0);
    said()
}

#[test]
fn serve_tidies_by_rules_that_a_person_carried_out_and_leaves_much_to_people() {
    let house = boards(KEEP);
    let at = |time: &str| {
        let text = house.read("larder.toml");
        let text = text.replacen("[larder]\n", &format!("[larder]\ntidy = \"{time}\"\n"), 1);
        house.write("larder.toml", text);
    };
    let plain = house.read("larder.toml");
    at("daily 3:00");
    house.larder("check").ends(2).says(&["`daily 3:00` is no time of each day or week"]);
    house.write("larder.toml", plain);
    at("daily 03:00");
    let said = tidied_while_serving(&house);
    assert!(said.contains("nobody has carried these [[keep]] out yet"), "{said}");
    assert_eq!(tags(&house).len(), 5);
    // A person does it once; from then on it goes by itself, as long as it is not much.
    house.larder("shelf tidy --yes").ends(0).says(&["2 images gone"]);
    let bring = |tag: &str| {
        house.hold(&house.bazaar, "library/board", tag, &image(&small(&format!("board{tag}"))));
        let copy = format!("copy bazaar.example/library/board:{tag} {OWN}/own/board:{tag}");
        house.larder(&copy).ends(0);
    };
    bring("0.8");
    bring("0.9");
    age(&house, 100);
    let said = tidied_while_serving(&house);
    assert!(said.contains("what goes of own waits for `larder shelf tidy --yes`"), "{said}");
    assert_eq!(tags(&house).len(), 5);
    for tag in ["2-lts", "3-lts", "4-lts", "5-lts", "6-lts", "7-lts", "8-lts"] {
        bring(tag);
    }
    age(&house, 100);
    let said = tidied_while_serving(&house);
    assert!(said.starts_with("2 images gone"), "{said}");
    assert_eq!(tags(&house).len(), 10);
    house.larder("log --kind delete --limit 2").ends(0).says(&["tidied:", "larder serve"]);
    // Other rules want a person again.
    let text = house.read("larder.toml").replace("unpulled = \"30d\"", "unpulled = \"1d\"");
    house.write("larder.toml", text);
    let said = tidied_while_serving(&house);
    assert!(said.contains("nobody has carried these"), "{said}");
}
