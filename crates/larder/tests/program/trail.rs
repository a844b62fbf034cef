//! The record: what commands leave there, and its hours as files that prove themselves.

use crate::house::{House, OWN};

/// Lets all that is recorded be so many hours older.
fn age(house: &House, hours: i64) {
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    let by = hours * 3_600_000;
    ledger
        .execute(&format!("UPDATE record SET first = first - {by}, last = last - {by}"), [])
        .unwrap();
}

fn copy(house: &House, tag: &str) {
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/own/kettle:{tag}")).ends(0);
}

fn names(house: &House) -> Vec<String> {
    let entries = std::fs::read_dir(house.path("hours")).unwrap();
    let mut all: Vec<String> =
        entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    all.sort();
    all
}

/// A house with a signing key and three hours of the record exported.
fn exported() -> House {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"own\"\n\n[parcel]\nsign = \"sign.key\"\n");
    house.larder("parcel sign-key sign.key").ends(0);
    for tag in ["1", "2", "3"] {
        copy(&house, tag);
        age(&house, 2);
        house.larder("log --export hours").ends(0).says(&["with 1 entry"]);
    }
    house
}

#[test]
fn what_commands_do_is_in_the_record_with_user_host_and_command() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0);
    house.larder("store backup safe").ends(0);
    let told = |kind: &str| house.larder(&format!("log --kind {kind}")).ends(0);
    told("intake").says(&[
        "vendor/kettle:2",
        "from bazaar.example/library/kettle:2, sha256:",
        "larder intake run",
    ]);
    told("copy").says(&["backed up", "larder store backup"]);
    house.larder("shelf drop vendor/kettle:2 --yes").ends(0);
    house.larder("store collect --grace 0s").ends(0);
    told("delete").says(&["vendor/kettle:2", "larder shelf drop"]);
    told("collect").says(&["freed", "larder store collect"]);
    let json = house.larder("--json log --kind collect").ends(0).json();
    let origin = json["origin"].as_str().unwrap().to_owned();
    assert!(origin.contains('@') && origin.ends_with("larder store collect"), "{origin}");
}

#[test]
fn exported_hours_prove_themselves_and_what_was_done_to_them() {
    let house = exported();
    let verify = || house.larder("log --verify hours");
    verify().ends(0).says(&["3 files with 3 entries from", "complete and unaltered"]);
    house.larder("log --export hours").ends(0).says(&["no hour with entries has closed"]);
    // What is forgotten here stays provable there; what came late is in the next file.
    copy(&house, "4");
    age(&house, 30);
    house.larder("log --export hours").ends(0).says(&["with 1 entry"]);
    verify().ends(0).says(&["4 files with 4 entries"]);
    let files = names(&house);
    let whole: Vec<Vec<u8>> =
        files.iter().map(|name| std::fs::read(house.path("hours").join(name)).unwrap()).collect();
    let put = |at: usize, bytes: &[u8]| house.write(&format!("hours/{}", files[at]), bytes);
    // A letter of an entry.
    let text = String::from_utf8(whole[1].clone()).unwrap();
    put(1, text.replace("own/kettle:2", "own/kettle:9").as_bytes());
    verify().ends(4).says(&["it was altered", "number 2 is missing"]);
    house.larder("log --export hours").ends(4).says(&["it was altered", "`--anew`"]);
    put(1, &whole[1]);
    // One in the middle, the first, the last.
    for (at, words) in [
        (1, "number 2 is missing: after 1 comes 3"),
        (0, "the chain begins with number 2"),
        (3, "the last file that was written is number 4"),
    ] {
        std::fs::remove_file(house.path("hours").join(&files[at])).unwrap();
        verify().ends(4).says(&[words]);
        put(at, &whole[at]);
    }
    verify().ends(0);
    std::fs::remove_file(house.path("hours").join(&files[3])).unwrap();
    house
        .larder("log --export hours")
        .ends(1)
        .says(&["number 4", "the last one there is number 3"]);
    house.larder("log --export other").ends(1).says(&["the last one there is none", "`--anew`"]);
    house.larder("log --export other --anew").ends(0);
    house.larder("log --verify other").ends(0);
    house.larder("log --export hours --anew").ends(2).says(&["a chain has begun there"]);
}

#[test]
fn exported_hours_are_proved_elsewhere_by_the_key_alone() {
    let house = exported();
    let far = House::new();
    let key = house.larder("--json parcel sign-key other.key").ends(0).json()["key"].clone();
    let hours = house.path("hours").display().to_string();
    far.larder(&format!("log --verify {hours}")).ends(2).says(&["no key is trusted", "--trust"]);
    let other = key.as_str().unwrap();
    far.larder(&format!("log --verify {hours} --trust {other}"))
        .ends(4)
        .says(&["which is not trusted"]);
    let text = house.read(&format!("hours/{}", names(&house)[0]));
    let end: serde_json::Value = serde_json::from_str(text.lines().last().unwrap()).unwrap();
    far.larder(&format!("log --verify {hours} --trust {}", end["key"].as_str().unwrap()))
        .ends(0)
        .says(&["complete and unaltered", "only the larder that wrote them can tell"]);
    far.larder("log --verify .").ends(2);
    // Another key goes on with the chain, as long as the earlier one is trusted.
    let old = end["key"].as_str().unwrap();
    house.larder("parcel sign-key next.key").ends(0);
    let text = house.read("larder.toml").replace("sign = \"sign.key\"", "sign = \"next.key\"");
    house.write("larder.toml", &text);
    house.larder("log --export hours").ends(4).says(&["which is not trusted"]);
    house.write("larder.toml", format!("{text}trust = {{ before = \"{old}\" }}\n"));
    copy(&house, "9");
    age(&house, 2);
    house.larder("log --export hours").ends(0).says(&["with 1 entry"]);
    house.larder("log --verify hours").ends(0).says(&["4 files"]);
    far.larder("intake lock").ends(0);
    far.larder("intake run --new-store").ends(0);
    far.larder("log --export hours").ends(2).says(&["names no `sign` in [parcel]"]);
}
