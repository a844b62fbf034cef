//! Images by name, over the shelves and the upstreams.

use crate::house::{House, OWN};

#[test]
fn images_are_found_here_and_upstream_with_where_each_stands() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let find = |word: &str| house.larder(&format!("find {word}"));
    // Nothing is here yet: what is locked will be.
    find("kettle").ends(0).says(&[
        "*  bazaar.example/library/kettle",
        "locked",
        "vendor/kettle",
        "1 image found",
    ]);
    house.larder("intake run --new-store").ends(0);
    let told = find("kettle").ends(0);
    told.says(&[
        "larder.emberfall.example:5080/vendor/kettle",
        "here",
        "brought in",
        "* is what kettle without",
    ]);
    let json = house.larder("--json find kettle --tags").ends(0).json();
    let images = json["images"].as_array().unwrap();
    assert_eq!(images.len(), 2, "{json}");
    assert_eq!(images[0]["image"], format!("{OWN}/vendor/kettle"));
    assert_eq!((&images[1]["upstream"], &images[1]["is_short"]), (&"bazaar".into(), &true.into()));
    assert_eq!(images[1]["tags"][0], "2");
    // By its tag, by patterns, by nothing that is there.
    find("kettle:2").ends(0).says(&["2 images found"]);
    find("kettle:9*").ends(1).says(&["0 images found"]);
    find("gauges/*").ends(0).says(&["gauges/steamgauge", "gauges/valve-twin"]);
    find("**/brine* --limit 1").ends(0);
    find("nosuchthing").ends(1);
    house.larder_words(&["find", ""]).ends(2).says(&["it is empty"]);
    // Without asking anybody: what is here, wanted and locked.
    find("steamgauge --offline").ends(0).says(&["ventworks.example/gauges/steamgauge"]);
    // One that cannot be reached is told, and the rest is found.
    let text = house.read("larder.toml");
    let gone = "\n[[upstream]]\nname = \"gone\"\nhost = \"gone.example\"\nendpoint = \"http://127.0.0.1:9\"\n";
    house.write("larder.toml", format!("{text}{gone}"));
    find("kettle").ends(0).says(&["gone.example could not be asked", "2 images found"]);
    find("nosuchthing").ends(3);
}

#[test]
fn what_a_cached_shelf_reaches_is_told_as_cached() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\nonly = [\"library/**\"]\n");
    house.larder("find kettle").ends(0).says(&["cached", "bazaar/library/kettle"]);
    house.larder("find steamgauge").ends(0).says(&["uncovered"]);
}
