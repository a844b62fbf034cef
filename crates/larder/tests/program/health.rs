//! How images are, in one word: where they are looked at, listed, surveyed, reported, and what it rests on.

use larder_standin::image;

use crate::access::basic;
use crate::advisories::{CRITICAL, gauge, house, osv, severe};
use crate::house::OWN;
use crate::serving::{Serving, ask};

#[test]
fn an_image_is_told_in_one_word_with_its_reasons_wherever_it_is_shown() {
    let house = house();
    house.configure("[[shelf]]\nname = \"vendor\"\n\n[[cluster]]\nname = \"turbine-hall\"\npull = [\"vendor/**\"]\n");
    let look = |image: &str, more: &str| house.larder(&format!("{more} look {OWN}/vendor/{image}"));
    // Nobody has taken advisories in: then nothing is said, unless somebody asks.
    assert!(look("steamgauge:1.8", "--json").ends(0).json()["health"].is_null());
    assert!(!house.larder("shelf show vendor").ends(0).out.contains("HEALTH"));
    let asked = house.larder(&format!("look {OWN}/vendor/steamgauge:1.8 --health")).ends(0);
    asked.says(&["unknown", "no advisories were taken in (unknown)"]);
    let text = osv("EMBER-2026-0001", "npm", "pressurekit", "2.2.0", &severe(CRITICAL));
    house.write("a.json", text);
    house.larder("advisory import a.json").ends(0);
    let poor = look("steamgauge:1.8", "--json").ends(0).json();
    assert_eq!(poor["health"]["word"], "poor", "{poor}");
    assert_eq!(poor["health"]["reasons"][0], "1 critical advisory");
    look("steamgauge:1.8", "").ends(0).says(&["health  poor: 1 critical advisory"]);
    let better = look("steamgauge:1.9", "--json").ends(0).json();
    assert!(better["health"]["word"] != "poor", "{better}");
    // An upstream's image of which the layers are known here.
    let theirs = house.larder("--json look ventworks.example/gauges/steamgauge:1.8").ends(0).json();
    assert_eq!(theirs["health"]["word"], "poor", "{theirs}");
    let shelf = house.larder("--json shelf show vendor").ends(0).json();
    let words: Vec<(&str, &str)> = shelf["images"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["tag"].as_str().unwrap(), one["health"]["word"].as_str().unwrap()))
        .collect();
    assert_eq!(words.iter().filter(|(_, word)| *word == "poor").count(), 3, "{words:?}");
    house.larder("shelf show vendor").ends(0).says(&["HEALTH", "poor"]);
    house.larder("shelf show vendor --health").ends(0).says(&["- 1 critical advisory (poor)"]);
    house.write(
        "pod.yaml",
        format!("apiVersion: v1\nkind: Pod\nmetadata: {{ name: a }}\nspec:\n  containers:\n  - {{ name: a, image: {OWN}/vendor/steamgauge:1.8 }}\n  - {{ name: b, image: {OWN}/vendor/steamgauge:1.9 }}\n"),
    );
    let survey = house.larder("--json survey pod.yaml").json();
    let rows = survey["references"].as_array().unwrap();
    assert_eq!(rows[0]["health"]["word"], "poor", "{survey}");
    assert!(rows[0]["remarks"].to_string().contains("poor: 1 critical advisory"), "{survey}");
    assert!(!rows[1]["remarks"].to_string().contains("poor"), "{survey}");
    let report = house.larder("--json report --into page").ends(0).json();
    let health = &report["figures"]["health"];
    assert_eq!(
        (&health["words"][0]["word"], &health["words"][0]["images"]),
        (&"poor".into(), &3.into())
    );
    assert_eq!(health["poor"][0]["because"], "1 critical advisory");
    assert!(house.read("page/report.html").contains("How the images are"));
    // What our own statement hides does not count.
    let vex = r#"{"@context":"https://openvex.dev/ns/v0.2.0","@id":"x","author":"Emberfall","timestamp":"2026-10-01T00:00:00Z","version":1,"statements":[{"vulnerability":{"name":"EMBER-2026-0001"},"products":[{"@id":"pkg:npm/pressurekit@2.1.0"}],"status":"not_affected","justification":"vulnerable_code_not_present"}]}"#;
    house.write("own.json", vex);
    house.larder("advisory import own.json --feed ours --own").ends(0);
    for place in
        [format!("{OWN}/vendor/steamgauge:1.8"), "ventworks.example/gauges/steamgauge:1.8".into()]
    {
        let hidden = house.larder(&format!("--json look {place}")).ends(0).json();
        assert!(hidden["health"]["word"] != "poor", "{hidden}");
    }
}

#[test]
fn a_system_that_is_mended_no_more_is_told_and_rounds_tell_who_uses_it() {
    let house = house();
    house.configure("[[shelf]]\nname = \"vendor\"\n\n[[cluster]]\nname = \"turbine-hall\"\npull = [\"vendor/**\"]\n");
    let release = "ID=hearth\nVERSION_ID=9\nPRETTY_NAME=\"Hearth 9\"\nSUPPORT_END=2024-06-30\n";
    let plan = gauge("old 1", "vendor-8", "9.0.0").with_file("vendor-8", "etc/os-release", release);
    house.hold(&house.ventworks, "gauges/old", "1", &image(&plan));
    house.larder(&format!("copy ventworks.example/gauges/old:1 {OWN}/vendor/old:1")).ends(0);
    house.write("a.json", osv("EMBER-2026-0001", "npm", "other", "2.2.0", &severe(CRITICAL)));
    house.larder("advisory import a.json").ends(0);
    let look = || house.larder(&format!("--json look {OWN}/vendor/old:1")).ends(0).json();
    assert_eq!(look()["health"]["word"], "unknown", "nobody has read it");
    house.larder("inventory --fill").ends(0);
    assert_eq!(look()["health"]["word"], "poor");
    assert!(look()["health"].to_string().contains("Hearth 9 was mended until 2024-06-30"));
    let told = "vendor/old:1 is of Hearth 9, which was mended until 2024-06-30";
    assert!(!house.larder("rounds").out.contains(told), "no cluster uses it");
    let text = house.read("larder.toml").replace("access = \"open\"", "access = \"grants\"");
    house.write("larder.toml", text);
    let issued = house.larder("--json key issue --cluster turbine-hall").ends(0).json();
    let login = basic("turbine-hall", issued["secret"].as_str().unwrap());
    let serving = Serving::start(&house);
    let headers = [("authorization", login.as_str()), ("accept", "*/*")];
    let answer = ask(serving.host(), "GET", "/v2/vendor/old/manifests/1", &headers, b"").unwrap();
    assert_eq!(answer.status, 200, "{}", answer.text());
    assert_eq!(serving.stop("TERM"), 0);
    house.larder("rounds").says(&[told, "larder look"]);
}
