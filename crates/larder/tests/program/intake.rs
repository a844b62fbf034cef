//! `larder intake`: add, lock, diff, run.

use std::process::Stdio;
use std::time::Duration;

use larder_standin::{FaultKind, ImagePlan, image};

use crate::house::{House, small, spawn};

#[test]
fn images_are_wanted_locked_brought_in_and_then_left_alone() {
    let house = House::new();
    house
        .larder("intake run")
        .ends(1)
        .says(&["wanted, but not locked: bazaar.example/library/kettle:2", "nothing to do"]);
    house.larder("intake diff").ends(1).says(&["wanted, not locked", "Next: `larder intake lock`"]);
    house.larder("intake lock --dry-run").ends(0).says(&["would be written"]);
    assert!(!house.path("larder.lock").exists());
    house.larder("intake lock").ends(0).says(&["new", "wrote larder.lock: 5 images"]);
    let lock = house.read("larder.lock");
    house.larder("intake lock").ends(0).says(&["same", "larder.lock is up to date: 5 images"]);
    assert_eq!(house.read("larder.lock"), lock);
    house.larder("intake diff").ends(1).says(&["to be brought in"]);
    house
        .larder("intake run --dry-run")
        .ends(1)
        .says(&["would bring in", "5 images would be brought in"]);
    house.ventworks.take_requests();
    house.larder("intake run").ends(0).says(&["5 images brought in, 0 there already"]);
    let twice: Vec<_> = house
        .bazaar
        .take_requests()
        .into_iter()
        .filter(|(line, count)| line.contains("GET") && line.contains("/blobs/") && *count > 1)
        .collect();
    assert!(twice.is_empty(), "fetched twice: {twice:?}");
    house.larder("intake diff").ends(0).says(&["in place"]);
    assert!(house.larder("intake diff --markdown").ends(0).out.ends_with("in place, 0 not.\n"));
    house.ventworks.take_requests();
    house.larder("intake run").ends(0).says(&["nothing to do: 5 images locked, all there"]);
    assert!(
        house.bazaar.take_requests().keys().all(|line| line.starts_with("HEAD")),
        "only the diff asked"
    );
    assert!(house.ventworks.take_requests().is_empty());
    assert_eq!(house.unfinished(), 0);

    // The larder's content is the upstream's, byte for byte.
    for (name, plan) in [
        ("vendor/kettle:2", small("kettle")),
        ("vendor/ashlog:1.4", ImagePlan { schema2: true, ..small("ashlog") }),
    ] {
        let json = house.larder(&format!("shelf show {name} --json")).ends(0).json();
        assert_eq!(json["images"][0]["digest"], image(&plan).digest().as_str());
    }
    let brinedb = house.larder("shelf show vendor/brinedb --json").ends(0).json();
    assert_eq!(brinedb["images"][0]["platforms"], serde_json::json!(["linux/amd64"]));
    assert_eq!(brinedb["images"][0]["absent"], serde_json::json!(["linux/arm64"]));
    house.larder("shelf list").ends(0).says(&["vendor  5             5"]);
    house.larder("shelf show other").ends(1).says(&["holds nothing under that name"]);
}

#[test]
fn layers_that_images_share_are_moved_once() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.bazaar.take_requests();
    house.ventworks.take_requests();
    let json = house.larder("intake run --json").ends(0).json();
    let fetched: usize = [house.bazaar.take_requests(), house.ventworks.take_requests()]
        .into_iter()
        .flatten()
        .filter(|(line, _)| line.starts_with("GET") && line.contains("/blobs/"))
        .map(|(_, count)| count)
        .sum();
    // What is here already is asked for at a few places only, which is one request for layers as small as these.
    let number = |key: &str| usize::try_from(json[key].as_u64().unwrap()).unwrap();
    assert_eq!(fetched, number("blobs_copied") + number("blobs_present"));
    assert!(json["blobs_present"].as_u64().unwrap() >= 4, "the base layers were shared: {json}");
}

#[test]
fn a_tag_that_moves_is_told_and_the_lock_protects() {
    let house = House::new();
    house.bring_in();
    house.hold(&house.ventworks, "gauges/steamgauge", "1.9.2", &image(&small("steamgauge again")));
    let table = house.larder("intake diff --markdown").ends(1).out;
    let lines: Vec<&str> = table.lines().collect();
    assert_eq!(
        lines[2..4],
        ["| Image | Locked | Upstream now | Larder | Next |", "|---|---|---|---|---|"]
    );
    assert!(
        lines[4].starts_with("| `") && lines[4].ends_with("| moved upstream; the lock holds |")
    );
    assert!(lines.iter().all(|line| !line.contains("in place |")), "{table}");
    house.larder("intake diff --markdown --json").ends(2).says(&["cannot be used with"]);
    house.larder("intake diff").ends(1).says(&["moved upstream; the lock holds"]);
    house.larder("intake run").ends(0).says(&["nothing to do"]);
    let before = image(&small("steamgauge")).digest().short().to_owned();
    house.larder("intake lock").ends(0).says(&[
        "moved; was",
        &before,
        "gauges/steamgauge:1.9.2 moved:",
        "the locked image was brought in just now",
        "linux/amd64: 1 of 3 layers shared",
        "labels changed",
    ]);
    house.larder("intake diff").ends(1).says(&["to be brought in"]);
    house.larder("intake status").ends(1).says(&["locked anew; not brought in yet"]);
    house.larder("intake run").ends(0).says(&["1 image brought in, 4 there already"]);
    house.larder("intake status").ends(0);
    house.larder("intake diff").ends(0);
}

#[test]
fn what_nobody_wants_any_more_and_what_is_gone_is_told() {
    let house = House::new();
    house.bring_in();
    let text = house
        .read("larder.toml")
        .replace("tags = { exact = [\"2\"] }", "tags = { exact = [\"3\"] }");
    house.write("larder.toml", text);
    house
        .larder("intake diff")
        .ends(1)
        .says(&["the upstream has it no longer", "locked, but nobody wants it"]);
    house.larder("intake lock").ends(3).says(&[
        "dropped: nothing wants it",
        "has no tag 3 in library/kettle",
        "wrote larder.lock: 4 images",
    ]);
    house.ventworks.faults.add(None, "/", 999, FaultKind::Status(500, None));
    house.larder("intake diff").ends(3).says(&["not reached", "could not be told"]);
    house.larder("intake lock").ends(3).says(&["not resolved"]);
    assert!(
        house.read("larder.lock").contains("gauges/valve-twin"),
        "what could not be asked stays locked"
    );
}

#[test]
fn a_damaged_lock_is_told() {
    let house = House::new();
    house.write("larder.lock", "version = 1\n[[image]]\nname = 3\n");
    house.larder("intake run").ends(2).says(&["larder.lock:3 cannot be used", "version control"]);
    house.write("larder.lock", "version = 7\n");
    house.larder("intake diff").ends(2).says(&["of version 7"]);
}

#[test]
fn corrupt_content_is_never_kept() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.bazaar.faults.add(Some("GET"), "/blobs/", 999, FaultKind::Altered);
    let run = house.larder("intake run").ends(4).says(&[
        "cannot bring in bazaar.example/library/kettle:2",
        "has the digest",
        "it was not kept",
    ]);
    assert!(
        run.out.contains("2 images brought in"),
        "the vendor's images came all the same: {}",
        run.out
    );
    assert_eq!(house.unfinished(), 0);
    house.larder("shelf show vendor/kettle").ends(1);
    house.bazaar.faults.clear();
    house.larder("intake run").ends(0).says(&["3 images brought in, 2 there already"]);
}

#[test]
fn a_stream_that_breaks_off_is_resumed() {
    let house = House::new();
    let large = ImagePlan {
        layer_size: 3_000_000,
        ..ImagePlan::new("large").for_platforms(&["linux/amd64"])
    };
    house.hold(&house.bazaar, "library/kettle", "2", &image(&large));
    house.larder("intake lock").ends(0);
    house.bazaar.take_requests();
    house.bazaar.faults.add(Some("GET"), "/library/kettle/blobs/", 4, FaultKind::CutAfter(200_000));
    house.larder("intake run").ends(0);
    let again = house
        .bazaar
        .take_requests()
        .into_iter()
        .filter(|(line, count)| line.contains("kettle/blobs") && *count > 1);
    assert!(again.count() > 0, "no blob was asked for again");
    house.bazaar.faults.clear();
    house
        .larder("look kettle:2 larder.emberfall.example:5080/vendor/kettle:2")
        .ends(0)
        .says(&["same"]);
    // One that never gets anywhere is given up.
    house.hold(&house.bazaar, "library/ashlog", "1.4", &image(&small("never")));
    house.larder("intake lock").ends(0);
    house.bazaar.faults.add(
        Some("GET"),
        "/library/ashlog/blobs/",
        9999,
        FaultKind::CutAfter(2_000),
    );
    house.larder("intake run").ends(3).says(&["broke off after", "again after each retry"]);
    assert_eq!(house.unfinished(), 0);
}

#[test]
fn a_run_that_is_killed_is_gone_on_with() {
    let house = House::new();
    let large = ImagePlan { own: 6, layer_size: 800_000, ..ImagePlan::new("large") };
    house.hold(&house.bazaar, "library/kettle", "2", &image(&large));
    house.larder("intake lock").ends(0);
    for pause in [120, 200, 300] {
        house.bazaar.faults.add(
            Some("GET"),
            "/blobs/",
            2,
            FaultKind::Late(Duration::from_millis(150)),
        );
        let mut child = spawn(&mut house.command("intake run"), Stdio::null());
        std::thread::sleep(Duration::from_millis(pause));
        child.kill().unwrap();
        child.wait().unwrap();
        // Whatever is visible is complete.
        if house.larder("shelf show vendor/kettle").exit == 0 {
            house.larder("copy larder.emberfall.example:5080/vendor/kettle:2 ./whole").ends(0);
            std::fs::remove_dir_all(house.path("whole")).unwrap();
        }
    }
    house.bazaar.faults.clear();
    house.larder("intake run").ends(0);
    house.larder("intake diff").ends(0);
    house.larder("look kettle:2 larder.emberfall.example:5080/vendor/kettle:2").ends(0);
}

#[test]
fn two_runs_at_once_do_no_harm() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let both: Vec<_> =
        (0..2).map(|_| spawn(&mut house.command("intake run"), Stdio::null())).collect();
    for child in both {
        crate::house::ended(child).ends(0);
    }
    house.larder("intake diff").ends(0);
    assert_eq!(house.unfinished(), 0);
}

#[test]
fn a_store_that_cannot_be_written_is_told() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let text = house
        .read("larder.toml")
        .replace("access = \"open\"", "access = \"open\"\ndata = \"/proc/larder\"");
    house.write("larder.toml", text);
    house
        .larder("intake run")
        .ends(2)
        .says(&["cannot open the larder's store in /proc/larder", "check `data` in larder.toml"]);
}

#[test]
fn a_platform_that_an_image_lacks_is_told() {
    let house = House::new();
    let text = house
        .read("larder.toml")
        .replace("platforms = [\"linux/amd64\"]\nto", "platforms = [\"linux/s390x\"]\nto");
    house.write("larder.toml", text);
    // It is told when it is locked; with a lock of before, when it is brought in.
    house.larder("intake lock").ends(1).says(&["it is not made for linux/s390x"]);
    let wanted = house.read("larder.toml");
    house.write("larder.toml", wanted.replace("linux/s390x", "linux/amd64"));
    house.larder("intake lock").ends(0);
    house.write("larder.toml", wanted);
    house
        .larder("intake run")
        .ends(1)
        .says(&["it is not made for linux/s390x; it is made for linux/amd64, linux/arm64"]);
}

#[test]
fn add_writes_into_the_configuration_and_leaves_the_rest_alone() {
    let house = House::new();
    house.configure("# what we want\n[[intake]]\nimage = \"bazaar.example/library/kettle\"   # boils\ntags = { exact = [\"2\"] }\nto = \"vendor/kettle\"\n");
    house.hold(&house.bazaar, "library/kettle", "3", &image(&small("kettle 3")));
    let before = house.read("larder.toml");
    house
        .larder("intake add kettle:3 --dry-run")
        .ends(0)
        .says(&["would be wanted: bazaar.example/library/kettle:3, to vendor/kettle"]);
    assert_eq!(house.read("larder.toml"), before);
    house.larder("intake add kettle:3").ends(0);
    let after = house.read("larder.toml");
    assert_eq!(after, before.replace("[\"2\"]", "[\"2\", \"3\"]"));
    house.larder("intake add kettle:3").ends(0).says(&["wanted already"]);
    assert_eq!(house.read("larder.toml"), after);
    house
        .larder_reads(
            "intake add - --platform linux/x86_64",
            "brinedb:5.2\n\nventworks.example/gauges/valve-twin:3.1\n",
        )
        .ends(0);
    let added = house.read("larder.toml");
    assert!(added.starts_with(&after));
    assert!(added.contains("platforms = [\"linux/amd64\"]\nto = \"vendor/brinedb\""), "{added}");
    house.bring_in();
    for (line, words) in [
        ("intake add kettle", &["it names no tag"][..]),
        (
            "intake add http://bazaar.example/library/kettle:2",
            &["starts with `http://`", "write bazaar.example/library/kettle:2"][..],
        ),
        (
            "intake add larder.emberfall.example:5080/vendor/kettle:2",
            &["names this larder itself"][..],
        ),
        ("intake add a.example/x:1 b.example/x:1 --to vendor/x", &["`--to` names one place"][..]),
        ("intake add a.example/x:1 --to Vendor", &["lower case"][..]),
    ] {
        let before = house.read("larder.toml");
        house.larder(line).ends(2).says(words);
        assert_eq!(house.read("larder.toml"), before, "{line}");
    }
}

#[test]
fn images_of_one_name_lie_apart_and_on_a_shelf_that_stores() {
    let house = House::new();
    house
        .configure("[[shelf]]\nname = \"hub\"\ncaches = \"bazaar\"\n\n[[shelf]]\nname = \"own\"\n");
    let all =
        "a.example/x/kettle:1 b.example/y/kettle:1 c.example/y/kettle:1 [::1]:5000/y/kettle:1";
    house.larder(&format!("intake add {all}")).ends(0).says(&[
        "a.example/x/kettle:1, to own/kettle",
        "b.example/y/kettle:1, to own/y/kettle",
        "c.example/y/kettle:1, to own/c.example/y/kettle",
        "[::1]:5000/y/kettle:1, to own/1--5000/y/kettle",
    ]);
    house.larder("check --offline").ends(0);
    // Where images are brought in already, others come too.
    house.write("larder.toml", house.read("larder.toml").replace("\"own/", "\"other/"));
    house.larder("intake add d.example/z:1").ends(0).says(&["to other/z"]);
}

#[test]
fn locking_asks_once_for_each_image() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.bazaar.take_requests();
    house.larder("intake lock").ends(0);
    let requests = house.bazaar.take_requests();
    assert_eq!(requests.values().sum::<usize>(), 3, "{requests:?}");
    assert!(requests.keys().all(|line| line.starts_with("HEAD")), "{requests:?}");
}

#[test]
fn versions_are_chosen_by_range_and_each_choice_is_explained() {
    let house = House::new();
    for tag in [
        "1.8.0",
        "1.8.3",
        "1.9.0",
        "1.9",
        "1.10.0",
        "1.11.0-rc1",
        "1.9.0-alpine",
        "2.0.0",
        "latest",
    ] {
        house.hold(&house.bazaar, "library/turbine", tag, &image(&small(tag)));
    }
    house.configure(
        "[[intake]]\nimage = \"bazaar.example/library/turbine\"\ntags = { semver = \"^1.8\", per = \"minor\", newest = 2, skip = [\"night*\"] }\nto = \"vendor/turbine\"\n",
    );
    let told = house.larder("intake lock --explain bazaar.example/library/turbine").ends(0);
    snapbox::assert_data_eq!(
        told.out,
        snapbox::str![[r#"
TAG           STATE  WHY
2.0.0         left   outside the range
1.11.0-rc1    left   a pre-release; `prereleases = true` takes these
1.10.0        taken  it is wanted
1.9           left   short for 1.9.0 today, for another tomorrow
1.9.0         taken  it is wanted
1.9.0-alpine  left   the variant -alpine; `suffix` takes these
1.8.3         left   older than the newest that are wanted
1.8.0         left   1.8.3 is newer
latest        left   it is no version
2 of 9 tags taken

"#]]
    );
    assert!(!house.path("larder.lock").exists(), "explaining writes nothing");
    house
        .larder("intake lock --explain bazaar.example/library/kettle")
        .ends(2)
        .says(&["no intake entry wants it"]);
    house.larder("intake lock").ends(0).says(&["wrote larder.lock: 2 images"]);
    house.larder("intake run").ends(0).says(&[
        "turbine:1.10.0 to",
        "turbine:1.9.0 to",
        "2 images brought in",
    ]);
    // A newer patch takes the place of the older one in the lock; nothing is lost in the larder.
    house.hold(&house.bazaar, "library/turbine", "1.10.1", &image(&small("1.10.1")));
    house
        .larder("intake diff")
        .ends(1)
        .says(&["wanted, not locked", "locked, but nobody wants it"]);
    house.larder("intake lock").ends(0).says(&["new", "dropped"]);
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    house.larder("shelf show vendor/turbine:1.10.0").ends(0);
}

#[test]
fn days_are_chosen_newest_first() {
    let house = House::new();
    for tag in ["20261101", "20261103", "2026-10-30", "latest"] {
        house.hold(&house.bazaar, "library/shift", tag, &image(&small(tag)));
    }
    house.configure("[[intake]]\nimage = \"bazaar.example/library/shift\"\ntags = { dates = true, newest = 2 }\nto = \"vendor/shift\"\n");
    house.larder("intake lock").ends(0).says(&["shift:20261101", "shift:20261103", "2 images"]);
}

#[test]
fn a_lock_is_checked_without_asking_anybody() {
    let house = House::new();
    house.larder("intake lock --check").ends(1).says(&[
        "wanted, but not locked: bazaar.example/library/kettle:2",
        "wanted, but not locked: ventworks.example/gauges/valve-twin",
    ]);
    house.larder("intake lock").ends(0);
    house.bazaar.take_requests();
    house.larder("intake lock --check").ends(0).says(&["larder.lock fits larder.toml"]);
    let text = house
        .read("larder.toml")
        .replace("tags = { match = \"3.*\" }", "tags = { match = \"4.*\" }");
    house.write("larder.toml", text);
    let json = house.larder("intake lock --check --json").ends(1).json();
    assert_eq!(json["fits"], false);
    assert_eq!(json["differences"].as_array().unwrap().len(), 2, "{json}");
    assert!(house.bazaar.take_requests().is_empty());
}

#[test]
fn only_what_was_asked_is_locked_anew() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let before = house.read("larder.lock");
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("new kettle")));
    house.hold(&house.ventworks, "gauges/steamgauge", "1.9.2", &image(&small("new gauge")));
    house.bazaar.take_requests();
    house
        .larder("intake lock --only ventworks.example/**")
        .ends(0)
        .says(&["steamgauge:1.9.2", "moved"]);
    let after = house.read("larder.lock");
    assert!(house.bazaar.take_requests().is_empty());
    let digest = |plan: &str| image(&small(plan)).digest().to_string();
    assert!(after.contains(&digest("kettle")) && after.contains(&digest("new gauge")));
    assert_eq!(before.lines().count(), after.lines().count());
    house
        .larder("intake lock --only nowhere.example/**")
        .ends(2)
        .says(&["no intake entry has an image that matches"]);
}

#[test]
fn what_is_wanted_is_listed_and_taken_out_and_the_rest_of_the_file_stays() {
    let house = House::new();
    house.larder("intake list").ends(0).says(&["bazaar.example/library/kettle", "vendor/kettle"]);
    let list = house.larder("--json intake list --only bazaar.example/library/*").ends(0).json();
    let entries = list["entries"].as_array().unwrap();
    assert!(entries.iter().all(|one| one["image"].as_str().unwrap().contains("/library/")));
    house.write("more.toml", "# what others want\n[[intake]]\nimage = \"bazaar.example/library/extra\"\ntags = { semver = \"^1\", newest = 2 } # two\nto = \"vendor/extra\"\n\n# stays\n[[intake]]\nimage = \"bazaar.example/library/other\"\ntags = { exact = [\"1\", \"2\"] }\nto = \"vendor/other\"\n");
    let text = format!("include = [\"more.toml\"]\n{}", house.read("larder.toml"));
    house.write("larder.toml", &text);
    house.larder("intake list").ends(0).says(&["semver ^1, newest 2"]);
    // A tag alone, from an included file; a preview changes nothing.
    let call = "intake remove bazaar.example/library/other:2";
    house.larder(&format!("{call} --dry-run")).ends(0).says(&["would be wanted no more"]);
    house.larder(call).ends(0).says(&["wanted no more: bazaar.example/library/other:2"]);
    assert!(house.read("more.toml").contains("exact = [\"1\"]"), "{}", house.read("more.toml"));
    house.larder(call).ends(1).says(&["other:2 is not wanted"]);
    house
        .larder("intake remove bazaar.example/library/extra:1.0")
        .ends(1)
        .says(&["by a pattern of tags", "`skip`"]);
    house.larder_reads("intake remove -", "# all of it\nbazaar.example/library/extra\n").ends(0);
    house.larder("intake remove bazaar.example/library/other:1").ends(0);
    assert!(!house.read("more.toml").contains("[[intake]]"), "{}", house.read("more.toml"));
    assert_eq!(house.read("larder.toml"), text, "the other file is as it was");
    house.larder("intake remove bazaar.example/library/kettel").ends(1).says(&["did you mean"]);
    // The lock follows.
    house.larder("intake lock").ends(0);
    house.larder("intake remove bazaar.example/library/kettle").ends(0);
    house.larder("intake lock").ends(0).says(&["dropped"]);
}

#[test]
fn of_many_that_are_added_the_wrong_ones_are_told_and_the_others_wanted() {
    let house = House::new();
    let lines = "bazaar.example/library/one:1\nbazaar.example/library/two\nbazaar.example/Library/x:1\nbazaar.example/library/three:3\n";
    let added = house.larder_reads("--json intake add -", lines);
    assert_eq!(added.exit, 2, "{}", added.err);
    let report = added.json();
    assert_eq!(report["images"].as_array().unwrap().len(), 2, "{report}");
    assert_eq!(report["refused"].as_array().unwrap().len(), 2, "{report}");
    assert!(added.err.contains("it names no tag"), "{}", added.err);
    let listed = house.larder("intake list").ends(0).out;
    assert!(listed.contains("library/one") && listed.contains("library/three"), "{listed}");
    house.larder("intake add bazaar.example/library/two").ends(2).says(&["it names no tag"]);
}

#[test]
fn an_image_can_be_wanted_by_its_digest() {
    let house = House::new();
    let looked = house.larder("--json look bazaar.example/library/kettle:2").ends(0).json();
    let digest = looked["digest"].as_str().unwrap().to_owned();
    house.configure("");
    let wish = format!("bazaar.example/library/kettle@{digest}");
    house.larder(&format!("intake add {wish}")).ends(0).says(&[&wish, "to vendor/kettle"]);
    house.larder(&format!("intake add {wish}")).ends(0).says(&["wanted already"]);
    house.larder("intake list").ends(0).says(&["bazaar.example/library/kettle"]);
    house.larder("intake lock").ends(0);
    // It moves at its upstream; what is wanted stays.
    house.hold(
        &house.bazaar,
        "library/kettle",
        "2",
        &larder_standin::image(&crate::house::small("other")),
    );
    house.larder("intake lock").ends(0);
    house.larder("intake run --new-store").ends(0);
    house.larder("intake diff").ends(0);
    let ours = format!("{}/vendor/kettle@{digest}", crate::house::OWN);
    assert_eq!(
        house.larder(&format!("--json look {ours}")).ends(0).json()["digest"],
        digest.as_str()
    );
    house.larder("intake run").ends(0).says(&["nothing was transferred"]);
    house.larder("store collect --grace 0s").ends(0);
    house.larder(&format!("look {ours}")).ends(0);
    house.larder(&format!("intake remove {wish}")).ends(0);
    assert!(!house.read("larder.toml").contains("[[intake]]"));
    house.larder("intake add bazaar.example/library/kettle@sha512:aa").ends(2);
}

#[test]
fn a_whole_registry_is_wanted_by_its_list() {
    let house = House::new();
    house.configure("");
    house.larder("intake add --all bazaar.example/library/** --dry-run").ends(0).says(&[
        "would be wanted: bazaar.example/library/ashlog, all tags, to vendor/library/ashlog",
    ]);
    assert!(!house.read("larder.toml").contains("[[intake]]"));
    let added = house.larder("--json intake add --all bazaar.example/**").ends(0).json();
    assert_eq!(added["images"].as_array().unwrap().len(), 3);
    house.larder("intake add --all bazaar.example/**").ends(0).says(&["wanted already"]);
    house.larder("intake lock").ends(0);
    house.larder("intake run --new-store").ends(0).says(&["3 images"]);
    house.larder("shelf show vendor/library/brinedb:5.2").ends(0);
    house
        .larder("intake add --all bazaar.example/none/**")
        .ends(1)
        .says(&["no repository there matches"]);
}
