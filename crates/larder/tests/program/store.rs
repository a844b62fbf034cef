//! The store in the operator's hands: converting, backups, uploads that nobody goes on with, repairs.

use std::fs;
use std::path::Path;
use std::time::Duration;

use larder_core::digest::Digest;

use crate::house::{House, OWN};
use crate::node::field;
use crate::serving::{Serving, ask};

/// Puts the real store of an earlier version into a house: two images of `vendor`, whole.
fn old_store(house: &House) {
    let path = format!("{}/tests/program/stores/v6-whole.tar.gz", env!("CARGO_MANIFEST_DIR"));
    let packed = flate2::read::GzDecoder::new(fs::File::open(path).unwrap());
    house.configure("[[shelf]]\nname = \"vendor\"\n");
    tar::Archive::new(packed).unpack(house.path("larder-data")).unwrap();
}

fn files(folder: &Path) -> usize {
    let Ok(entries) = fs::read_dir(folder) else { return 0 };
    entries
        .map(|entry| entry.unwrap())
        .map(|entry| if entry.file_type().unwrap().is_dir() { files(&entry.path()) } else { 1 })
        .sum()
}

#[test]
fn a_store_of_an_earlier_version_is_converted_by_command_alone() {
    let house = House::new();
    old_store(&house);
    let blobs = files(&house.path("larder-data/blobs"));
    for line in ["shelf list", "store verify", "store collect", "key list", "intake status"] {
        let refused = house.larder(line).ends(2);
        refused.says(&["form of an earlier version (6)", "larder store convert", "larder serve"]);
    }
    // Not while another program has it open.
    let other = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    other.query_row("SELECT COUNT(*) FROM tags", [], |row| row.get::<_, i64>(0)).unwrap();
    house.larder("store convert").ends(2).says(&["another process has the store open", "stop"]);
    drop(other);
    house.larder("store convert").ends(0).says(&["from version 6: 4 manifests and 5 blobs"]);
    let again = house.larder("--json store convert").ends(0).json();
    assert_eq!(again["converted"], false);
    house.larder("store convert").ends(0).says(&["this version's form already"]);
    house.larder("shelf show vendor/kettle").ends(0).says(&["vendor/kettle:2", "linux/arm64"]);
    assert_eq!(files(&house.path("larder-data/blobs")), blobs, "no blob is moved");
    // What is damaged keeps the old files.
    let layer = Digest::of("a layer of kettle".repeat(40).as_bytes());
    let (hex, lying) = (layer.hex(), house.path("larder-data/blobs/sha256"));
    let path = lying.join(&hex[..2]).join(hex);
    let whole = fs::read(&path).unwrap();
    fs::write(&path, "damaged").unwrap();
    house.larder("store verify").ends(4);
    assert_eq!(files(&house.path("larder-data/blobs")), blobs);
    fs::write(&path, whole).unwrap();
    let verified = house.larder("store verify").ends(0);
    verified.says(&["everything is what its digest says", "removed 4 files of manifests"]);
    assert_eq!(files(&house.path("larder-data/blobs")), blobs - 4);
    house.larder("store verify").ends(0);
    house.larder(&format!("copy {OWN}/vendor/kettle:2 ./kettle")).ends(0);
    // Nothing of the old form is left that a collection would miss or take too much of.
    house.larder("store collect --grace 0s").ends(0).says(&["nothing to free"]);
}

#[test]
fn serving_converts_a_store_of_an_earlier_version_too() {
    let house = House::new();
    old_store(&house);
    let serving = Serving::start(&house);
    assert!(serving.log().contains("converted the store from version 6"), "{}", serving.log());
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    let catalog = serving.ask("GET", "/v2/_catalog").text();
    assert!(catalog.contains("vendor/ashlog") && catalog.contains("vendor/kettle"), "{catalog}");
    let manifest = serving.ask("GET", "/v2/vendor/ashlog/manifests/1.4");
    let subject = Digest::of(&manifest.body);
    let about = serving.ask("GET", &format!("/v2/vendor/ashlog/referrers/{subject}")).text();
    assert!(about.contains("application/x-note") && about.contains("fine"), "{about}");
    // Another process works beside it in the new form.
    house.larder("shelf list").ends(0).says(&["vendor"]);
}

#[test]
fn a_backup_goes_to_a_folder_of_its_own() {
    let house = House::new();
    house.bring_in();
    house.larder("store backup larder-data/sub").ends(2).says(&["inside the store"]);
    assert!(!house.path("larder-data/sub").exists());
    house.larder("store backup .").ends(2).says(&["the store lies inside it"]);
    std::os::unix::fs::symlink("nowhere", house.path("link")).unwrap();
    house.larder("store backup ./link").ends(2).says(&["a link that leads nowhere"]);
    house.write("file", "mine");
    house.larder("store backup ./file").ends(2).says(&["it is no folder"]);
    assert_eq!(house.read("file"), "mine");
    // Through a link it is inside all the same.
    std::os::unix::fs::symlink("larder-data", house.path("inside")).unwrap();
    house.larder("store backup ./inside/sub").ends(2).says(&["inside the store"]);
    // Nor over something else, nor over another larder's.
    house.larder(&format!("copy {OWN}/vendor/kettle:2 ./lay")).ends(0);
    let before = files(&house.path("lay"));
    house.larder("store backup ./lay").ends(2).says(&["something else than a backup"]);
    assert_eq!(files(&house.path("lay")), before);
    house.larder("store backup ./safe").ends(0).says(&["backed up to", "manifests"]);
    house.larder("store backup ./safe").ends(0).says(&["0 B in 0 blobs copied"]);
    fs::write(house.path("safe/access.secret"), [7; 32]).unwrap();
    house.larder("store backup ./safe").ends(2).says(&["another larder's store"]);
}

#[test]
fn a_backup_comes_back_with_proof_or_not_at_all() {
    let house = House::new();
    house.bring_in();
    house.larder("store restore ./safe").ends(2).says(&["there is no backup in it"]);
    house.larder("store backup ./safe").ends(0);
    house
        .larder("store restore ./safe")
        .ends(2)
        .says(&["there is a store in", "move that one away"]);
    let shown = house.larder("--json shelf show vendor").ends(0).json();
    fs::rename(house.path("larder-data"), house.path("was")).unwrap();
    // A damaged backup gives no store.
    let blob = {
        let mut open = vec![house.path("safe/blobs")];
        loop {
            let path = open.pop().unwrap();
            match fs::read_dir(&path) {
                Ok(entries) => open.extend(entries.map(|entry| entry.unwrap().path())),
                Err(_) => break path,
            }
        }
    };
    let whole = fs::read(&blob).unwrap();
    fs::write(&blob, "damaged").unwrap();
    house.larder("store restore ./safe").ends(4).says(&["is damaged", "nothing can be seen"]);
    fs::remove_file(&blob).unwrap();
    house.larder("store restore ./safe").ends(4).says(&["recorded in it and not there"]);
    house.larder("store verify").ends(2).says(&["there is no store"]);
    // Mended, it goes on, and what comes back is what was there.
    fs::write(&blob, whole).unwrap();
    let restored = house.larder("--json store restore ./safe").ends(0).json();
    assert!(
        restored["already_there"].as_u64().unwrap() + restored["restored"].as_u64().unwrap() > 10
    );
    assert!(restored["manifests"].as_u64().unwrap() >= 10, "{restored}");
    assert_eq!(house.larder("--json shelf show vendor").ends(0).json(), shown);
    house.larder("store verify").ends(0);
    house.larder("key list").ends(0);
    house.larder(&format!("copy {OWN}/vendor/kettle:2 ./kettle")).ends(0);
    // Its data folder must be its own.
    fs::remove_dir_all(house.path("larder-data")).unwrap();
    house.write("larder-data/note.txt", "mine");
    house.larder("store restore ./safe").ends(2).says(&["holds something else: note.txt"]);
    fs::remove_file(house.path("safe/access.secret")).unwrap();
    house.larder("store restore ./safe").ends(2).says(&["`access.secret` is missing"]);
}

/// Begins an upload, sends some bytes of it and goes away.
fn abandon(serving: &Serving, bytes: usize) -> String {
    let begun = serving.ask("POST", "/v2/vendor/x/blobs/uploads/");
    let path = field(&begun, "location");
    let body = vec![7; bytes];
    let sent = ask(serving.host(), "PATCH", &path, &[], &body).unwrap();
    assert_eq!(sent.status, 202);
    path
}

#[test]
fn unfinished_uploads_are_counted_and_freed() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    let path = abandon(&serving, 300_000);
    house.larder("shelf list").ends(0).says(&["1 unfinished upload take", "--uploads"]);
    house.larder("store collect").ends(0).says(&["nothing to free", "store collect --uploads"]);
    let stays = house.larder("store collect --uploads").ends(0);
    stays.says(&["nothing to free", "somebody wrote to them in the last 1h"]);
    let would = house.larder("--json store collect --uploads --older 0s --dry-run").ends(0).json();
    assert_eq!((&would["uploads"], &would["upload_bytes"]), (&1.into(), &300_000.into()));
    assert_eq!(serving.ask("GET", &path).status, 204);
    let freed = house.larder("store collect --uploads --older 0s").ends(0);
    freed.says(&["removed: 293.0 KiB in 1 upload"]);
    assert_eq!(serving.ask("GET", &path).status, 404);
    assert_eq!(files(&house.path("larder-data/uploads")), 0);
    house.larder("store collect --older 1h").ends(2).says(&["--uploads"]);
    house.larder("store collect --uploads --older soon").ends(2).says(&["90s, 15m, 6h or 14d"]);
    // One collection at a time, whichever process has begun it.
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    let holder = fs::read_dir(house.path("larder-data/running")).unwrap().next();
    assert!(holder.is_none(), "nobody holds anything");
    drop(ledger);
}

#[test]
fn an_intake_knows_what_a_repair_withdrew() {
    let house = House::new();
    house.bring_in();
    house.larder("intake status").ends(0).says(&["in place"]);
    let tree = house.larder("--json shelf show vendor/valve-twin --tree").ends(0).json();
    let layers = tree["images"][0]["layers"].as_array().unwrap().iter();
    let mut own = layers.filter(|one| one["shared_with"] == serde_json::json!([]));
    let layer = own.next().unwrap()["digest"].as_str().unwrap().to_owned();
    let folder = house.path(&format!("larder-data/content/sha256/{}", &layer[7..9]));
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.file_stem().unwrap().to_str() == Some(&layer[7..]) {
            fs::write(path, "damaged").unwrap();
        }
    }
    house.larder("store verify --repair").ends(4).says(&["withdrawn  vendor/valve-twin:3.1"]);
    house
        .larder("intake status")
        .ends(1)
        .says(&["not here any more; `larder intake run` brings it"]);
    let status = house.larder("--json intake status").ends(1).json();
    let lines = status["images"].as_array().unwrap();
    assert_eq!(lines.iter().filter(|line| line["state"] == "gone").count(), 1, "{status}");
    house.larder("log").ends(0).says(&["vendor/valve-twin:3.1", "withdrawn by"]);
    house.larder("intake run").ends(0);
    house.larder("intake status").ends(0);
    // A tag that was dropped is gone as well.
    house.larder("shelf drop vendor/kettle:2").ends(0);
    house.larder("intake status").ends(1).says(&["not here any more"]);
}

#[test]
fn a_repair_leaves_alone_what_was_sent_again_after_it_began_to_read() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"vendor\"\n");
    let serving = Serving::start(&house);
    // Large enough that it is read for a moment.
    let content: Vec<u8> = (0..64 * 1024 * 1024u32).map(|n| (n / 7 % 251) as u8).collect();
    let digest = Digest::of(&content);
    let path = format!("/v2/vendor/x/blobs/uploads/?digest={digest}");
    assert_eq!(ask(serving.host(), "POST", &path, &[], &content).unwrap().status, 201);
    let folder = house.path(&format!("larder-data/content/sha256/{}", &digest.hex()[..2]));
    let lying = fs::read_dir(folder).unwrap().next().unwrap().unwrap().path();
    let mut damaged = content.clone();
    damaged[5] ^= 1;
    fs::write(&lying, &damaged).unwrap();
    let repair = crate::house::spawn(
        &mut house.command("store verify --repair"),
        std::process::Stdio::null(),
    );
    std::thread::sleep(Duration::from_millis(150));
    assert_eq!(ask(serving.host(), "POST", &path, &[], &content).unwrap().status, 201);
    let repaired = crate::house::ended(repair);
    assert!(repaired.exit == 0 || repaired.exit == 4, "{}", repaired.out);
    let got = serving.ask("GET", &format!("/v2/vendor/x/blobs/{digest}"));
    assert_eq!((got.status, Digest::of(&got.body)), (200, digest));
    house.larder("store verify").ends(0);
}
