//! `larder check --deep`: what an upgrade would find, tried on a copy.

use std::fs;
use std::path::PathBuf;

use larder_core::digest::Digest;

use crate::house::{House, OWN};
use crate::serving::Serving;

/// Puts the real store of an earlier version into a house.
fn old_store(house: &House) {
    let path = format!("{}/tests/program/stores/v6-whole.tar.gz", env!("CARGO_MANIFEST_DIR"));
    let packed = flate2::read::GzDecoder::new(fs::File::open(path).unwrap());
    house.configure("[[shelf]]\nname = \"vendor\"\n");
    tar::Archive::new(packed).unpack(house.path("larder-data")).unwrap();
}

/// The files of a store's folder, with their contents.
fn all_of(house: &House) -> Vec<(PathBuf, Vec<u8>)> {
    let mut files = Vec::new();
    let mut folders = vec![house.path("larder-data")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false => files.push((path.clone(), fs::read(&path).unwrap())),
            }
        }
    }
    files.sort();
    files
}

const DEEP: &str = "check --offline --deep";

#[test]
fn an_upgrade_is_tried_on_a_copy_and_nothing_is_changed() {
    let house = House::new();
    old_store(&house);
    let before = all_of(&house);
    house.larder("check --offline").ends(2).says(&["form of an earlier version (6)"]);
    house.larder(DEEP).ends(0).says(&[
        "form of an earlier version (6); converting a copy of its records went well",
        "4 manifests can be read",
        "5 blobs",
        "first: `larder store backup FOLDER`: there is no backup",
        "first: `larder store verify`: nothing was ever read again",
    ]);
    assert!(before == all_of(&house), "something was changed");
    let json = house.larder(&format!("{DEEP} --json")).ends(0).json();
    assert_eq!(json["deep"]["earlier_form"], 6);
    house.larder("store convert").ends(0);
    house.larder(DEEP).ends(0).says(&["has this version's form", "4 manifests can be read"]);
    // What it copies to is gone.
    house.write("tmp/here", "");
    let mut command = house.command(DEEP);
    crate::house::run(command.env("TMPDIR", house.path("tmp"))).ends(0);
    assert_eq!(fs::read_dir(house.path("tmp")).unwrap().count(), 1);
    let mut command = house.command(DEEP);
    let nowhere = crate::house::run(command.env("TMPDIR", house.path("nowhere"))).ends(2);
    nowhere.says(&["cannot try an upgrade of the store", "TMPDIR"]);
}

#[test]
fn what_an_upgrade_would_lose_is_told_before() {
    let house = House::new();
    old_store(&house);
    let tag = house.path("larder-data/blobs/sha256");
    // Of a small file: a manifest.
    let mut smallest: Vec<PathBuf> = all_of(&house)
        .into_iter()
        .filter(|(path, bytes)| path.starts_with(&tag) && bytes.starts_with(b"{\"schemaVersion\""))
        .map(|(path, _)| path)
        .collect();
    let manifest = smallest.pop().unwrap();
    fs::write(&manifest, "damaged").unwrap();
    let hex = manifest.file_name().unwrap().to_string_lossy().into_owned();
    let told = house.larder(DEEP).ends(4);
    told.says(&[
        "unreadable",
        &hex,
        "tags that cannot be pulled whole: vendor/",
        "store verify --repair",
    ]);
}

#[test]
fn a_store_of_this_version_is_looked_into_while_it_serves() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    house.larder("store verify").ends(0);
    house.larder("store backup ../kept").ends(0);
    let sound = house.larder(DEEP).ends(0);
    let sound = sound.says(&["sound:", "are in their places"]);
    assert!(!sound.out.contains("first:"), "{}", sound.out);
    assert_eq!(serving.ask("GET", "/v2/").status, 200);
    // One content is lost.
    let content = all_of(&house);
    let mut large =
        content.iter().filter(|(path, _)| path.starts_with(house.path("larder-data/content")));
    let (path, bytes) = large.find(|(_, bytes)| bytes.len() > 500).unwrap();
    fs::remove_file(path).unwrap();
    let digest = Digest::of(bytes).to_string();
    house
        .larder(DEEP)
        .ends(4)
        .says(&[&format!("missing blob {digest}"), "tags that cannot be pulled whole: "]);
    fs::write(path, &bytes[1..]).unwrap();
    house.larder(DEEP).ends(4).says(&[&format!("missing blob {digest}")]);
    fs::write(path, bytes).unwrap();
    house.larder(DEEP).ends(0);
    house.larder(&format!("copy {OWN}/vendor/kettle:2 ./kettle")).ends(0);
}

#[test]
fn a_store_that_no_upgrade_can_open_is_refused_with_words() {
    let house = House::new();
    house.larder(DEEP).ends(0);
    house.bring_in();
    let path = house.path("larder-data/ledger.sqlite");
    let set = |version: i64| {
        let records = rusqlite::Connection::open(&path).unwrap();
        records.pragma_update(None, "user_version", version).unwrap();
        records.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())).unwrap();
    };
    let known: i64 = rusqlite::Connection::open(&path)
        .unwrap()
        .pragma_query_value(None, "user_version", |row| row.get(0))
        .unwrap();
    set(known + 1);
    let newer = house.larder(DEEP).ends(2);
    newer.says(&[&format!("version {}", known + 1), "newer"]);
    set(known);
    house.larder(DEEP).ends(0);
    // The records themselves are damaged.
    let mut bytes = fs::read(&path).unwrap();
    let end = bytes.len();
    bytes[end / 2..end / 2 + 9000].fill(0x5a);
    fs::write(&path, bytes).unwrap();
    let run = house.larder(DEEP);
    assert_ne!(run.exit, 0, "{}{}", run.out, run.err);
    assert!(
        run.out.contains("the records") || run.err.contains("records"),
        "{}{}",
        run.out,
        run.err
    );
    house.larder("check --deep --nodes x").ends(2).says(&["--deep", "--nodes"]);
}
