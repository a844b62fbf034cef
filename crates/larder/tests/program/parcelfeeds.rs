//! Advisories that cross an air gap in a parcel.

use crate::advisories::{CRITICAL, osv, severe};
use crate::parcel::Gap;

const VEX: &str = r#"{"@context":"https://openvex.dev/ns/v0.2.0","@id":"x","author":"Emberfall","timestamp":"2026-10-01T00:00:00Z","version":1,"statements":[{"vulnerability":{"name":"EMBER-2026-0001","aliases":["CVE-2026-99999"]},"products":[{"@id":"pkg:npm/pressurekit@2.1.0"}],"status":"not_affected","justification":"vulnerable_code_not_present"}]}"#;

fn import(gap: &Gap, feed: &str, ids: &[&str], more: &str) {
    let lines: Vec<String> =
        ids.iter().map(|id| osv(id, "npm", "pressurekit", "2.2.0", &severe(CRITICAL))).collect();
    gap.house.write(&format!("{feed}.jsonl"), lines.join("\n"));
    gap.near(&format!("advisory import {feed}.jsonl {more}")).ends(0);
}

fn feeds(gap: &Gap) -> Vec<(String, u64, bool)> {
    let json = gap.far("--json advisory list --feeds").ends(0).json();
    let all = json["feeds"].as_array().unwrap().iter();
    all.map(|feed| {
        let name = feed["name"].as_str().unwrap().to_owned();
        (name, feed["advisories"].as_u64().unwrap(), feed["own"].as_bool().unwrap())
    })
    .collect()
}

#[test]
fn advisories_come_with_a_parcel_as_a_whole_and_as_old_as_they_are() {
    let gap = Gap::new();
    gap.house.larder("intake run").ends(0);
    gap.near("parcel pack parcel --advisories").ends(1).says(&["no advisories were taken in here"]);
    import(&gap, "embers", &["EMBER-2026-0001", "EMBER-2026-0002"], "");
    gap.house.write("own.json", VEX);
    gap.near("advisory import own.json --own").ends(0);
    gap.near("parcel pack parcel --advisories")
        .ends(0)
        .says(&["with the advisories of embers, own"]);
    gap.near("parcel pack parcel --advisories").ends(0).says(&["packed already"]);
    gap.far("parcel show parcel")
        .ends(0)
        .says(&["advisories of embers, as of", "advisories of own, our own"]);
    gap.far("parcel verify parcel").ends(0);
    let dry = gap.far("--json parcel unpack parcel --dry-run").ends(0).json();
    assert_eq!(dry["feeds"].as_array().unwrap().len(), 2, "{dry}");
    let done = gap.far("--json parcel unpack parcel --receipt back.receipt").ends(0).json();
    assert_eq!((&done["feeds"][0]["new"], &done["feeds"][1]["statements"]), (&2.into(), &1.into()));
    assert_eq!(feeds(&gap), [("embers".into(), 2, false), ("own".into(), 0, true)]);
    let near = gap.near("--json advisory list --feeds").json()["feeds"][0]["imported_at"].clone();
    let far = gap.far("--json advisory list --feeds").json()["feeds"][0]["imported_at"].clone();
    assert_eq!(near, far, "they are as old as where they come from");
    let shown = gap.far("advisory show CVE-2026-99999");
    assert!(shown.exit <= 1, "{}", shown.err);
    gap.far("advisory show EMBER-2026-0001").ends(0).says(&["pressurekit"]);
    // The next one brings advisories alone; what it does not have any more goes.
    std::thread::sleep(std::time::Duration::from_millis(1100));
    import(&gap, "embers", &["EMBER-2026-0003"], "--whole");
    gap.near("parcel pack news --advisories --no-images").ends(0).says(&["0 images"]);
    gap.near("parcel pack x --no-images").ends(2);
    let news = gap.far("--json parcel unpack news --receipt back.receipt").ends(0).json();
    assert_eq!(news["feeds"][0]["removed"], 2, "{news}");
    assert_eq!(feeds(&gap)[0].1, 1);
    // An older parcel takes nothing back, unless somebody says so.
    let old = gap.far("--json parcel unpack parcel --receipt back.receipt").json();
    assert!(old["feeds"][0]["left"].as_str().unwrap().contains("which is later"), "{old}");
    assert_eq!(feeds(&gap)[0].1, 1);
    gap.far("parcel unpack parcel --older --receipt back.receipt").ends(0);
    assert_eq!(feeds(&gap)[0].1, 2);
    // What lay in the archive for it is nobody's in the store.
    gap.far("store verify").ends(0);
    gap.far("store collect --grace 0s").ends(0);
}

#[test]
fn who_is_trusted_for_one_shelf_does_not_say_what_is_hidden() {
    let gap = Gap::new();
    gap.house.larder("intake run").ends(0);
    gap.house.write("own.json", VEX);
    gap.near("advisory import own.json --own").ends(0);
    import(&gap, "embers", &["EMBER-2026-0001"], "");
    gap.near("parcel pack parcel --advisories").ends(0);
    let text = gap.house.read("far/larder.toml");
    let near = text.split("emberfall = \"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let narrow = format!("emberfall = {{ key = \"{near}\", shelves = [\"vendor\"] }}");
    let text = text.replace(&format!("emberfall = \"{near}\""), &narrow);
    gap.house.write("far/larder.toml", text);
    gap.far("parcel unpack parcel --receipt back.receipt").ends(0);
    assert_eq!(feeds(&gap), [("embers".into(), 1, false), ("own".into(), 0, false)]);
    // What is altered is not taken in.
    let path = gap.house.path("parcel/parcel.tar");
    let mut bytes = std::fs::read(&path).unwrap();
    let at = bytes.windows(2).position(|two| two == [0x1f, 0x8b]).unwrap();
    bytes[at + 30] ^= 1;
    std::fs::write(&path, bytes).unwrap();
    gap.far("parcel verify parcel").ends(4);
}
