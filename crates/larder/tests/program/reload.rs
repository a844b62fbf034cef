//! A changed configuration while the larder serves: what takes effect, and what is said of it.

use crate::house::House;
use crate::node::{requests, serve, shelves, straight, wait_until};
use crate::serving::Serving;

/// What the log says of the configuration.
fn told(serving: &Serving) -> Vec<String> {
    let log = serving.log();
    log.lines()
        .filter(|line| line.contains("configuration") || line.contains("new start"))
        .map(str::to_owned)
        .collect()
}

/// Has the configuration read, and waits until that is told once more than before.
fn reread(serving: &Serving) -> String {
    let before = told(serving).len();
    serving.signal("HUP");
    wait_until("the configuration is read", || told(serving).len() > before);
    told(serving).pop().unwrap()
}

#[test]
fn a_comment_changes_nothing_and_that_is_said() {
    let house = House::new();
    let serving = serve(&house, "");
    let text = house.read("larder.toml");
    house.write("larder.toml", format!("# one more line above everything\n{text}"));
    let said = reread(&serving);
    assert!(said.contains("nothing in it changed"), "{said}");
    assert_eq!(serving.stop("TERM"), 0);
    house.larder("log --kind config").ends(1);
}

#[test]
fn shelves_and_upstreams_are_exchanged_while_it_serves() {
    let house = House::new();
    let serving = serve(&house, "");
    let node = straight(&serving);
    let kettle = node.pull("bazaar/library/kettle", "2").unwrap();
    // A second shelf over the same upstream, and one that takes pushes.
    let text = house.read("larder.toml");
    let more =
        "\n[[shelf]]\nname = \"second\"\ncaches = \"bazaar\"\n\n[[shelf]]\nname = \"fresh\"\n";
    house.write("larder.toml", format!("{text}{more}"));
    let said = reread(&serving);
    assert!(said.contains("is in force: routes, [[shelf]]"), "{said}");
    assert_eq!(node.pull("second/library/kettle", "2").unwrap(), kettle);
    assert_eq!(serving.ask("POST", "/v2/fresh/x/blobs/uploads/").status, 202);
    // What was cached is still known: no manifest is asked for again.
    house.bazaar.take_requests();
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), kettle);
    assert_eq!(requests(&house.bazaar), []);
    // The upstream moves to where nobody answers, and back.
    let there = house.read("larder.toml");
    let endpoint = house.bazaar.endpoint();
    assert!(there.contains(&endpoint), "{there}");
    house.write("larder.toml", there.replace(&endpoint, "http://127.0.0.1:9"));
    let said = reread(&serving);
    assert!(said.contains("is in force: [[upstream]]"), "{said}");
    assert!(node.pull("bazaar/library/ashlog", "1.4").is_err());
    house.write("larder.toml", &there);
    reread(&serving);
    assert!(node.pull("bazaar/library/ashlog", "1.4").is_ok());
    // The shelf goes: nothing is fetched there any more.
    house.write("larder.toml", &text);
    reread(&serving);
    assert_eq!(serving.ask("POST", "/v2/fresh/x/blobs/uploads/").status, 404);
    assert_eq!(serving.stop("TERM"), 0);
}

#[test]
fn what_needs_a_new_start_is_named_key_by_key_and_nothing_else_is() {
    let house = House::new();
    let serving = serve(&house, "");
    let text = house.read("larder.toml");
    let changed =
        text.replacen("[larder]\n", "[larder]\nread_only = true\nmetrics = \"127.0.0.1:0\"\n", 1);
    house.write("larder.toml", changed.replace("listen = \"127.0.0.1:0\"\n", ""));
    reread(&serving);
    wait_until("both are told", || told(&serving).len() >= 2);
    let said = told(&serving).join("\n");
    assert!(said.contains("is in force: read_only"), "{said}");
    assert!(said.contains("only after a new start: ") && said.contains("metrics"), "{said}");
    assert!(!said.contains("data") && !said.contains("tls"), "{said}");
    assert_eq!(serving.ask("POST", "/v2/vendor/x/blobs/uploads/").status, 403);
    house.write("larder.toml", &text);
    reread(&serving);
    wait_until("it is as before", || told(&serving).join("\n").contains("again as"));
    assert_eq!(serving.stop("TERM"), 0);
}

#[test]
fn a_change_right_after_the_start_is_not_missed() {
    let house = House::new();
    house.configure(&shelves(""));
    let text = house.read("larder.toml");
    let serving = Serving::start(&house);
    house.write("larder.toml", text.replacen("[larder]\n", "[larder]\nread_only = true\n", 1));
    wait_until("it is noticed without a signal", || {
        serving.ask("POST", "/v2/vendor/x/blobs/uploads/").status == 403
    });
    assert_eq!(serving.stop("TERM"), 0);
}
