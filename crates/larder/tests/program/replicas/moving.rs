//! A store moves between a folder and servers.

use super::Replicas;
use crate::access::basic;
use crate::house::{House, OWN};
use crate::node::straight;
use crate::serving::{Serving, ask};

/// A larder in its folder, and servers that have no store yet: `larder.toml` and `next/larder.toml`.
fn before_the_move() -> Option<House> {
    let Replicas { house } = Replicas::new(
        "[[account]]\nname = \"ci\"\npull = [\"vendor/**\"]\npush = [\"vendor/**\"]\n",
    )?;
    let grants = |path: &str| {
        let text = house.read(path).replace("access = \"open\"", "access = \"grants\"");
        house.write(path, text);
    };
    grants("larder.toml");
    grants("a/larder.toml");
    let next = house.read("a/larder.toml").replace("../objects-key", "objects-key");
    house.write("next.toml", next);
    let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
    house.larder(&copy).ends(0);
    Some(house)
}

#[test]
fn a_store_moves_to_servers_while_it_serves_and_back() {
    let Some(house) = before_the_move() else { return };
    let issued = house.larder("key issue --account ci --json").ends(0).json();
    let signed = basic("ci", issued["secret"].as_str().unwrap());
    let serving = Serving::with(&house, "");
    let pull = |serving: &Serving| {
        ask(
            serving.host(),
            "GET",
            "/v2/vendor/kettle/manifests/2",
            &[("authorization", &signed)],
            b"",
        )
        .unwrap()
        .status
    };
    assert_eq!(pull(&serving), 200);
    // The wrong way.
    house.larder("store move --to larder.toml").ends(2).says(&["it is there", "name the file"]);
    house.larder("store move --to nothing.toml").ends(2);
    house.larder("store move --to next.toml --cancel").ends(1).says(&["is not being moved"]);
    let wrong = house.read("next.toml").replace("bucket = \"", "bucket = \"no-such-");
    house.write("wrong.toml", wrong);
    house.larder("store move --to wrong.toml").says(&["cannot write to the new place"]);
    // The right way.
    let moved = house.larder("store move --to next.toml").ends(0).says(&[
        "moved to the bucket",
        "everything is what its digest says",
        "next: let next.toml take the place",
    ]);
    assert!(!moved.out.contains("secret"), "{}", moved.out);
    assert_eq!(pull(&serving), 200);
    let refused = ask(
        serving.host(),
        "POST",
        "/v2/vendor/kettle/blobs/uploads/",
        &[("authorization", &signed)],
        b"",
    );
    let refused = refused.unwrap();
    assert_eq!(
        (refused.status, refused.header("retry-after")),
        (503, Some("30")),
        "{}",
        refused.text()
    );
    assert!(refused.text().contains("moves to another place"), "{}", refused.text());
    let ready = ask(serving.host(), "GET", "/readyz", &[], b"").unwrap();
    assert_eq!(ready.status, 200);
    assert!(ready.text().contains("writes: the store moves"), "{}", ready.text());
    house
        .larder(&format!("shelf drop {OWN}/vendor/kettle:2 --yes"))
        .ends(1)
        .says(&["is moved elsewhere", "bring the move to its end"]);
    house.larder("key rotate --account ci").ends(1).says(&["is moved elsewhere"]);
    house.larder("check --offline").says(&["the store has moved to the bucket"]);
    house.larder("rounds").says(&["the store has moved to"]);
    house.larder("store move --to next.toml").ends(0).says(&["moved to the bucket"]);
    house.larder("store move --to next.toml --cancel").ends(1).says(&["has moved to", "already"]);
    assert_eq!(serving.stop("TERM"), 0);
    // The new place is the store: with its keys, and it takes what is new.
    let serving = Serving::with(&house, "--config a/larder.toml");
    assert_eq!(pull(&serving), 200);
    house.larder("store verify --config a/larder.toml").ends(0);
    house
        .larder(&format!(
            "copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:new --config a/larder.toml"
        ))
        .ends(0);
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:new")).ends(1);
    // Where another store is, nothing is written.
    house
        .larder("store move --config a/larder.toml --to larder.toml")
        .ends(2)
        .says(&["there is another store already"]);
    // And back.
    let text = house.read("larder.toml").replacen("[larder]\n", "[larder]\ndata = \"back\"\n", 1);
    house.write("back.toml", text);
    house.larder("store move --config a/larder.toml --to back.toml").ends(0).says(&["moved to"]);
    assert_eq!(serving.stop("TERM"), 0);
    let serving = Serving::with(&house, "--config back.toml");
    assert_eq!(pull(&serving), 200);
    house.larder("store verify --config back.toml").ends(0);
    house.larder("shelf show vendor --config back.toml").ends(0).says(&["vendor/kettle:new"]);
}

#[test]
fn a_damaged_store_moves_only_if_told_and_a_backup_comes_back_into_servers() {
    let Some(house) = before_the_move() else { return };
    house.larder("store backup backup").ends(0);
    // The largest object is altered behind the store's back.
    let content = house.path("larder-data/content");
    let mut objects = Vec::new();
    let mut folders = vec![content];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false => objects.push(path),
            }
        }
    }
    let largest = objects.iter().max_by_key(|path| path.metadata().unwrap().len()).unwrap();
    let size = largest.metadata().unwrap().len();
    std::fs::set_permissions(largest, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    std::fs::write(largest, vec![0_u8; usize::try_from(size).unwrap()]).unwrap();
    let told = ["stopped: 1 blob cannot be read whole", "sha256:", "--leave-damaged"];
    house.larder("store move --to next.toml").ends(4).says(&told);
    house.larder("check --offline --config a/larder.toml").ends(0);
    house.larder("shelf list --config a/larder.toml").ends(2).says(&["has no store in it"]);
    house.larder("check --offline").says(&["the store is being moved to"]);
    house.larder("store move --to next.toml --cancel").ends(0).says(&["given up"]);
    house.larder("key issue --account ci").ends(0);
    // The backup is whole, and comes into the servers.
    house
        .larder("store restore backup --config a/larder.toml")
        .ends(0)
        .says(&["restored to the bucket"]);
    house.larder("store verify --config a/larder.toml").ends(0);
    house
        .larder("store restore backup --config a/larder.toml")
        .ends(2)
        .says(&["there is a store in the bucket"]);
    house.larder("shelf show vendor --config a/larder.toml").ends(0).says(&["vendor/kettle:2"]);
}

#[test]
fn a_cached_shelf_gives_what_it_has_while_its_store_moves() {
    let cached = "[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\nrecheck = \"0s\"\n";
    let Some(Replicas { house }) = Replicas::new(cached) else { return };
    house.write("next.toml", house.read("a/larder.toml").replace("../objects-key", "objects-key"));
    let serving = Serving::with(&house, "--new-store");
    let pulled = straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    house.larder("store move --to next.toml").ends(0);
    // What it has is given, and asked about as ever; what it has not, or what has changed, cannot be kept.
    assert_eq!(straight(&serving).pull("bazaar/library/kettle", "2").unwrap(), pulled);
    let unknown = serving.ask("GET", "/v2/bazaar/library/ashlog/manifests/1.4");
    assert_eq!(unknown.status, 503, "{}", unknown.text());
    assert!(unknown.header("retry-after").is_some(), "{}", unknown.head);
    assert_eq!(straight(&serving).pull("bazaar/library/kettle", "2").unwrap(), pulled);
    assert_eq!(serving.stop("TERM"), 0);
    let serving = Serving::with(&house, "--config a/larder.toml");
    assert_eq!(straight(&serving).pull("bazaar/library/kettle", "2").unwrap(), pulled);
    straight(&serving).pull("bazaar/library/ashlog", "1.4").unwrap();
}
