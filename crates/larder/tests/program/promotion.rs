//! Many images at once: promotion between shelves, copies by lists and patterns, several logins of one host.

use crate::house::{House, OWN, small};

const SHELVES: &str = "[[shelf]]\nname = \"dev\"\n\n[[shelf]]\nname = \"prod\"\n";

/// A house with two images on the shelf of the developers.
fn developed() -> House {
    let house = House::new();
    house.configure(SHELVES);
    for (from, to) in [("kettle:2", "app:1.4.0"), ("brinedb:5.2", "team/store:1.0")] {
        house.larder(&format!("copy bazaar.example/library/{from} {OWN}/dev/{to}")).ends(0);
    }
    house
}

#[test]
fn a_plan_needs_no_reason_and_a_shelf_is_no_host() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"dev\"\n\n[[shelf]]\nname = \"prod\"\n\n[[keep]]\nmatch = [\"dev/**\"]\nunpulled = \"9d\"\nnamed_by = [\"nowhere.json\"]\n");
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/dev/kettle:2")).ends(0);
    house.larder("promote dev/kettle:2 prod/ --dry-run").ends(0).says(&["prod/kettle:2"]);
    house.larder("promote dev/kettle:2 prod/").ends(2).says(&["--because"]);
    house
        .larder("copy bazaar.example/library/kettle:2 prod/kettle:2")
        .ends(2)
        .says(&[&format!("write {OWN}/prod/kettle:2 for this larder")]);
    // A survey that cannot be read is told before anything is tidied, or is not.
    house.larder("check").says(&["nothing can be tidied: cannot read the survey nowhere.json"]);
    house.larder("shelf tidy").ends(2).says(&["cannot read the survey nowhere.json"]);
}

#[test]
fn what_is_promoted_is_the_same_by_digest_and_in_the_record_with_who_and_why() {
    let house = developed();
    let digest = |image: &str| {
        let shown = house.larder(&format!("--json shelf show {image}")).ends(0).json();
        shown["images"][0]["digest"].as_str().unwrap().to_owned()
    };
    let promote = |rest: &str| {
        let mut words = vec!["promote"];
        words.extend(rest.split(' '));
        words.extend(["--because", "passed on the bench"]);
        house.larder_words(&words)
    };
    house.larder("promote dev/app:1.4.0 prod/").ends(2).says(&["--because"]);
    promote("dev/** prod/ --dry-run").ends(0).says(&[
        "prod/app:1.4.0",
        "prod/team/store:1.0",
        "2 images would be copied, 0 there",
    ]);
    house.larder("shelf show prod").ends(0).says(&["prod is empty"]);
    promote("dev/** prod/").ends(0).says(&["2 images copied, 0 there already, 0 failed; 0 blobs"]);
    assert_eq!(digest("dev/app"), digest("prod/app"));
    promote("dev/** prod/").ends(0).says(&["0 images copied, 2 there already"]);
    let told = house.larder("log --kind promote").ends(0);
    told.says(&[
        "prod/app:1.4.0",
        "from dev/app:1.4.0",
        "because passed on the bench",
        "larder promote",
    ]);
    // The same tag has another content now: it stays where it is unless that is said.
    house.larder(&format!("copy bazaar.example/library/brinedb:5.2 {OWN}/dev/app:1.4.0")).ends(0);
    let before = digest("prod/app");
    promote("dev/app:1.4.* prod/").ends(1).says(&["is another image", "--move"]);
    assert_eq!(digest("prod/app"), before);
    promote("dev/app:1.4.* prod/ --move --dry-run").ends(0).says(&["moves"]);
    let moved = promote("dev/app:1.4.* prod/ --move --json").ends(0).json();
    assert_eq!((&moved["copied"], &moved["images"][0]["was"]), (&1.into(), &before.into()));
    // Another name, one repository for several, and what cannot be.
    promote("dev/app:1.4.0 prod/other:stable").ends(0);
    house.larder("shelf show prod/other:stable").ends(0);
    promote("dev/** prod/one").ends(0).says(&["prod/one:1.4.0", "prod/one:1.0"]);
    promote("dev/** prod/one:stable")
        .ends(2)
        .says(&["would both become", "end the target with `/`"]);
    promote("dev/app:1.4.0 dev/").ends(2).says(&["would go to where it is"]);
    promote("dev/none:1 prod/").ends(1);
    promote("dev/no* prod/").ends(1).says(&["no image there matches"]);
    promote("dev/app:1.4.0 somewhere/").ends(2).says(&["it names no registry"]);
    promote("dev/app:1.4.0 prod").ends(2).says(&["prod is a shelf", "write prod/"]);
    promote("dev/app:1.4.0 prod/ --platform linux/s390x --dry-run").ends(1).says(&["linux/s390x"]);
    house
        .larder_reads("promote - prod/ --because x", "# nothing\n")
        .ends(2)
        .says(&["stdin names no image"]);
}

#[test]
fn many_are_copied_by_lists_and_patterns_and_again_for_what_failed() {
    let house = House::new();
    house.configure(SHELVES);
    for tag in ["1.0", "1.1", "2.0"] {
        house.hold(&house.bazaar, "library/kettle", tag, &larder_standin::image(&small(tag)));
    }
    let copy = |from: &str, rest: &str| {
        let mut words = vec!["copy", from];
        words.extend(rest.split(' '));
        house.larder_words(&words)
    };
    let to = format!("{OWN}/dev/");
    copy("bazaar.example/library/k*:1.*", &format!("{to} --dry-run")).ends(0).says(&[
        "dev/kettle:1.0",
        "dev/kettle:1.1",
        "2 images would be copied",
        "to send",
    ]);
    copy("bazaar.example/library/k*:1.*", &to).ends(0).says(&["2 images copied"]);
    // A list: lines with patterns, notes and empty lines.
    let list =
        "# what we need\nbazaar.example/library/kettle:2*\n\nbazaar.example/library/brinedb:5.2\n";
    house
        .larder_reads(&format!("copy - {to} --because kitchen"), list)
        .ends(0)
        .says(&["3 images copied, 0 there already"]);
    house.larder("log --kind copy --about dev/brinedb").ends(0).says(&["because kitchen"]);
    // What fails is told, and the rest is done.
    let list = "bazaar.example/library/kettle:1.0\nbazaar.example/library/gone:9\nbazaar.example/library/ashlog:1.4\n";
    let failed = house.larder_reads(&format!("copy - {to}"), list).ends(3);
    failed.says(&["1 image copied, 1 there already, 1 failed", "has no repository library/gone"]);
    // One platform, with an index of its own.
    let trimmed = format!("{OWN}/prod/ --platform linux/arm64 --trim --json");
    let done = copy("bazaar.example/library/kettle:1.0", &trimmed).ends(0).json();
    assert_eq!(done["copied"], 1);
    let index = house.larder(&format!("look {OWN}/prod/kettle:1.0")).ends(0);
    assert!(
        index.out.contains("linux/arm64") && !index.out.contains("linux/amd64"),
        "{}",
        index.out
    );
    copy("bazaar.example/library/kettle:1.0", &trimmed).ends(0);
    // What cannot be.
    copy("bazaar.example/library/k*:1.*", "./layout").ends(2).says(&["is a path", "larder parcel"]);
    copy("bazaar.example/library/k*:1.*", "dev/").ends(2).says(&["it names no registry", OWN]);
    copy("bazaar.example/library/k*:1.*", &format!("{to} --account nobody"))
        .ends(2)
        .says(&["no [[upstream]] is named nobody"]);
}

#[test]
fn a_host_has_several_logins_by_path_and_by_name() {
    let house = House::new();
    house.configure(SHELVES);
    let text = house.read("larder.toml");
    let with = "credentials = { env = \"VENTWORKS_LOGIN\" }\n";
    let endpoint = house.ventworks.endpoint();
    // The host's own entry has no login; the one for a path has.
    let text = text.replace(with, "");
    let more = format!(
        "\n[[upstream]]\nname = \"gauges\"\nhost = \"ventworks.example\"\npath = \"gauges\"\nendpoint = \"{endpoint}\"\n{with}"
    );
    house.write("larder.toml", &text);
    let from = "ventworks.example/gauges/steamgauge:1.9.2";
    house.larder(&format!("copy {from} {OWN}/dev/steamgauge")).ends(3);
    house.write("larder.toml", format!("{text}{more}"));
    house.larder(&format!("copy {from} {OWN}/dev/steamgauge")).ends(0);
    house.larder(&format!("copy {from} {OWN}/dev/gauges/")).ends(0).says(&["1 image copied"]);
    // To write with a chosen login.
    let push = |rest: &str| house.larder(&format!("copy {OWN}/dev/steamgauge:1.9.2 {rest}"));
    push("ventworks.example/gauges/new:1 --account ventworks").ends(3);
    push("ventworks.example/gauges/new:1 --account gauges").ends(0).says(&["1 image copied"]);
    push("bazaar.example/x:1 --account gauges").ends(2).says(&["is of ventworks.example"]);
    // The same path twice is one too many.
    house.write(
        "larder.toml",
        format!("{text}{more}{}", more.replace("\"gauges\"\nhost", "\"g2\"\nhost")),
    );
    house.larder("check").ends(2).says(&["`ventworks.example/gauges` is there twice"]);
}
