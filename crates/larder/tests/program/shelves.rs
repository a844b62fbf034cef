//! `larder shelf` and `larder store`: what is held, dropping it, and looking after the store.

use std::path::PathBuf;

use crate::house::{House, OWN, small};
use crate::serving::Serving;

/// Where a blob lies in the larder's store.
fn blob_path(house: &House, digest: &str) -> PathBuf {
    let hex = digest.strip_prefix("sha256:").unwrap();
    let folder = house.path(&format!("larder-data/content/sha256/{}", &hex[..2]));
    let mut all = std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path());
    all.find(|path| path.file_stem().is_some_and(|stem| stem == hex)).unwrap()
}

fn digest_of(house: &House, name: &str) -> String {
    let shown = house.larder(&format!("--json shelf show {name}")).ends(0).json();
    shown["images"][0]["digest"].as_str().unwrap().to_owned()
}

#[test]
fn what_is_held_is_listed_and_sorted_and_what_is_shared_is_shown() {
    let house = House::new();
    house.bring_in();
    house.larder(&format!("copy {OWN}/vendor/kettle:2 {OWN}/vendor/copied:1")).ends(0);
    let list = house.larder("--json shelf list").ends(0).json();
    assert_eq!(
        (&list["shelves"][0]["name"], &list["shelves"][0]["tags"]),
        (&"vendor".into(), &6.into())
    );
    let (content, apart) = (
        list["shelves"][0]["size_bytes"].as_u64().unwrap(),
        list["shelves"][0]["unshared_bytes"].as_u64().unwrap(),
    );
    assert!(apart > content, "what is shared counts once: {apart} and {content}");
    house.larder("shelf list --sort size").ends(0).says(&["UNSHARED", "never"]);

    // The copy has nothing for itself; the tree says with whom it shares.
    let shown = house.larder("--json shelf show vendor/copied").ends(0).json();
    assert_eq!(shown["images"][0]["exclusive_bytes"], 0);
    house
        .larder("shelf show vendor/copied --tree")
        .ends(0)
        .says(&["0 B would be free without it", "shared with vendor/kettle:2"]);
    let tree = house.larder("--json shelf show vendor/copied:1 --tree").ends(0).json();
    assert_eq!(tree["images"][0]["layers"][0]["shared_with"][0], "vendor/kettle:2");
    let sorted = house.larder("--json shelf show vendor --sort size").ends(0).json();
    let sizes: Vec<u64> = sorted["images"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["size_bytes"].as_u64().unwrap())
        .collect();
    assert!(sizes.is_sorted_by(|a, b| a >= b), "{sizes:?}");
    house.larder("shelf show vendor --unpulled 1d").ends(0).says(&["was pulled or set within 1d"]);
    house.larder("shelf show vendor --unpulled soon").ends(2).says(&["90s, 15m, 6h or 14d"]);
    house.larder("shelf show vendor/none").ends(1).says(&["holds nothing under that name"]);
}

#[test]
fn dropped_images_go_with_what_is_theirs_alone() {
    let house = House::new();
    house.bring_in();
    house.larder(&format!("copy {OWN}/vendor/kettle:2 {OWN}/vendor/kettle:lts")).ends(0);
    let digest = digest_of(&house, "vendor/kettle:2");
    // A preview changes nothing.
    house.larder("shelf drop vendor/brinedb:5.2 --dry-run").ends(0).says(&[
        "- vendor/brinedb:5.2",
        "would be free",
        "nothing was removed",
    ]);
    house.larder("shelf show vendor/brinedb:5.2").ends(0);
    // A second tag keeps the image.
    let dropped = house.larder("--json shelf drop vendor/kettle:2").ends(0).json();
    assert_eq!((&dropped["freed_bytes"], &dropped["dry_run"]), (&0.into(), &false.into()));
    house.larder(&format!("look {OWN}/vendor/kettle:lts")).ends(0);
    // Without a name for what shall go, and with one that is not there, nothing goes.
    house
        .larder("shelf drop vendor/kettle")
        .ends(2)
        .says(&["a whole repository", "vendor/kettle:*"]);
    house.larder("shelf drop vendor/kettle:none").ends(1).says(&["holds nothing under that name"]);
    house.larder("shelf drop vendor/kettle@sha256:12").ends(2);
    house.larder("shelf drop vendor/nowhere:*").ends(1);
    // Repository and tag may be patterns, to show and to drop.
    let names = |call: &str| {
        let shown = house.larder(&format!("--json shelf show {call}")).ends(0).json();
        let images = shown["images"].as_array().unwrap().clone();
        let name = |one: &serde_json::Value| {
            format!("{}:{}", one["repository"].as_str().unwrap(), one["tag"].as_str().unwrap())
        };
        images.iter().map(name).collect::<Vec<_>>()
    };
    assert_eq!(names("vendor/k*:lt?"), ["vendor/kettle:lts"]);
    assert_eq!(names(&format!("{OWN}/*/brine*")), ["vendor/brinedb:5.2"]);
    assert_eq!(names("**:5.*"), ["vendor/brinedb:5.2"]);
    assert_eq!(names("vend*"), names("vendor"));
    house.larder("shelf drop vendor").ends(2).says(&["vendor/**:*"]);
    assert_eq!(names(&format!("vendor/kettle@{}", &digest[7..19])), ["vendor/kettle:lts"]);
    let short = &digest[7..19];
    let held = format!("{OWN}/vendor/kettle@{short}");
    house.larder(&format!("look {held}")).ends(0).says(&[&digest]);
    house.larder(&format!("copy {held} ./by-short-digest")).ends(0).says(&[&digest]);
    house.larder(&format!("policy explain {held} --cluster turbine-hall")).says(&[&digest]);
    house.larder(&format!("shelf block {short} --because test --dry-run")).ends(0).says(&[&digest]);
    house
        .larder(&format!("shelf block vendor/kettle@sha256:{short} --because test --dry-run"))
        .ends(0)
        .says(&[&digest]);
    for call in ["look", "copy x:1", "shelf block --because test"] {
        let absent = format!("{call} {OWN}/vendor/kettle@sha256:000000");
        let absent = absent.replace("copy x:1 ", "copy ")
            + if call.starts_with("copy") { " ./x" } else { "" };
        house.larder(&absent).ends(1).says(&["no digest there begins with sha256:000000"]);
    }
    house.larder("shelf show vendor/*/brinedb").ends(1).says(&["holds nothing under that name"]);
    house.larder("shelf show vendor/[").ends(2).says(&["is not a pattern", "may be patterns"]);
    house.larder("shelf show vendor/kettle@000000000000").ends(1).says(&["no digest there begins"]);
    house
        .larder("shelf drop */brine*:5* --dry-run")
        .ends(0)
        .says(&["- vendor/brinedb:5.2", "1 tag"]);
    house.larder("shelf drop */nothing:* --dry-run").ends(1).says(&["holds nothing under that"]);
    // By digest, with all its tags; by pattern, all at once.
    house
        .larder(&format!("shelf drop vendor/kettle@{digest}"))
        .ends(0)
        .says(&["vendor/kettle:lts"]);
    house.larder("shelf drop vendor/ashlog:1.* vendor/brinedb:*").ends(0).says(&["dropped 2 tags"]);
    house.larder("shelf show vendor/ashlog").ends(1);

    // A platform that an index lists stays, and the index is named.
    let kept = house.larder("--json shelf show vendor/steamgauge").ends(0).json();
    let index = kept["images"][0]["digest"].as_str().unwrap();
    assert!(index.starts_with("sha256:"));
    house.larder(&format!("copy {OWN}/vendor/steamgauge:1.9.2 ./gauge")).ends(0);
    let path = house.path(&format!("gauge/blobs/sha256/{}", &index[7..]));
    let document: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    let child = document["manifests"][0]["digest"].as_str().unwrap();
    house
        .larder(&format!("shelf drop vendor/steamgauge@{child}"))
        .ends(1)
        .says(&["stays: the index", "dropped 0 tags and 0 manifests"]);

    // The space is freed after the grace time, and what is held stays whole.
    house.larder("store collect").ends(0).says(&["nothing to free"]);
    let preview = house.larder("--json store collect --dry-run --grace 0s").ends(0).json();
    let done = house.larder("--json store collect --grace 0s").ends(0).json();
    assert_eq!(
        (&preview["blobs"], &preview["freed_bytes"]),
        (&done["blobs"], &done["freed_bytes"])
    );
    assert!(done["blobs"].as_u64().unwrap() > 5, "{done}");
    house.larder("store collect --grace 0s").ends(0).says(&["nothing to free"]);
    house.larder("store verify").ends(0).says(&["everything is what its digest says"]);
    house.larder(&format!("copy {OWN}/vendor/steamgauge:1.9.2 ./again")).ends(0);
    // What is gone can be brought in again.
    house.larder("intake run").ends(0);
    house.larder("shelf show vendor/kettle:2").ends(0);
}

#[test]
fn damage_is_found_told_and_repaired_while_it_serves() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    house.larder("store verify --jobs 2").ends(0).says(&["everything is what its digest says"]);
    let tree = house.larder("--json shelf show vendor/valve-twin --tree").ends(0).json();
    let layers = tree["images"][0]["layers"].as_array().unwrap().iter();
    let own: Vec<_> = layers.filter(|one| one["shared_with"] == serde_json::json!([])).collect();
    let layer = |at: usize| own[at]["digest"].as_str().unwrap().to_owned();
    let (damaged, missing) = (layer(0), layer(1));
    std::fs::write(blob_path(&house, &damaged), "something else").unwrap();
    std::fs::remove_file(blob_path(&house, &missing)).unwrap();
    let found = house.larder("store verify").ends(4);
    found.says(&[
        "damaged",
        &damaged,
        "missing",
        &missing,
        "incomplete vendor/valve-twin:3.1",
        "--repair",
    ]);
    let report = house.larder("--json store verify --repair").ends(4).json();
    assert_eq!(report["tags"][0], "vendor/valve-twin:3.1");
    assert!(report["damaged"][0]["aside"].as_str().unwrap().starts_with("quarantine/"));
    let aside =
        house.path(&format!("larder-data/{}", report["damaged"][0]["aside"].as_str().unwrap()));
    assert_eq!(std::fs::read_to_string(aside).unwrap(), "something else");
    // The tag that could not be given whole is gone; the rest is as it was.
    assert_eq!(serving.ask("GET", "/v2/vendor/valve-twin/manifests/3.1").status, 404);
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    house.larder("store verify").ends(0);
    // Brought in anew, it is whole.
    house.larder("intake run").ends(0);
    house.larder(&format!("copy {OWN}/vendor/valve-twin:3.1 ./twin")).ends(0);
    house.larder("store verify").ends(0);
}

#[test]
fn a_backup_is_whole_grows_with_the_store_and_serves() {
    let house = House::new();
    house.larder("store backup ./safe").ends(2).says(&["there is no store"]);
    house.bring_in();
    let serving = Serving::start(&house);
    std::fs::create_dir(house.path("safe")).unwrap();
    let held = std::fs::File::open(house.path("safe")).unwrap();
    held.lock().unwrap();
    house.larder("store backup ./safe").ends(2).says(&["another backup"]);
    drop(held);
    house.larder("store backup ./larder-data").ends(2).says(&["it is the store itself"]);
    let first = house.larder("--json store backup ./safe").ends(0).json();
    assert!(first["copied"].as_u64().unwrap() > 10);
    let image = larder_standin::image(&small("new"));
    house.hold(&house.bazaar, "library/kettle", "2", &image);
    house.bring_in();
    let second = house.larder("--json store backup ./safe").ends(0).json();
    assert_eq!(second["already_there"], first["copied"]);
    assert!(second["copied"].as_u64().unwrap() > 0);
    drop(serving);
    // Restored: a larder over the copy.
    std::fs::remove_dir_all(house.path("larder-data")).unwrap();
    std::fs::rename(house.path("safe"), house.path("larder-data")).unwrap();
    house.larder("store verify").ends(0).says(&["everything is what its digest says"]);
    house.larder(&format!("copy {OWN}/vendor/kettle:2 ./kettle")).ends(0);
    // One that cannot be copied whole is told, and the copy before it stays.
    let backup = house.larder("store backup ./again").ends(0);
    drop(backup);
    let before = std::fs::read(house.path("again/ledger.sqlite")).unwrap();
    let tree = house.larder("--json shelf show vendor/kettle:2 --tree").ends(0).json();
    let digest = tree["images"][0]["layers"][0]["digest"].as_str().unwrap().to_owned();
    let lying = format!("larder-data/blobs/sha256/{}/{}", &digest[7..9], &digest[7..]);
    std::fs::remove_file(house.path(&lying)).unwrap();
    std::fs::remove_file(house.path(&format!(
        "again/blobs/sha256/{}/{}",
        &digest[7..9],
        &digest[7..]
    )))
    .unwrap();
    house.larder("store backup ./again").ends(4).says(&["recorded and not there", "store verify"]);
    assert_eq!(std::fs::read(house.path("again/ledger.sqlite")).unwrap(), before);
}
