//! What is in an image: its packages by layer, what became of them, what two have that differs, and bills of materials.

use larder_standin::{ImagePlan, image};

use crate::house::{House, OWN, small};

const STATUS: &str = "var/lib/dpkg/status";

fn stanza(name: &str, version: &str, more: &str) -> String {
    format!(
        "Package: {name}\nStatus: install ok installed\nArchitecture: amd64\nVersion: {version}\n{more}\n"
    )
}

fn package(name: &str, version: &str) -> String {
    format!("{{\"name\":\"{name}\",\"version\":\"{version}\"}}")
}

/// An image on a system with packages, to which two layers of its own add, and from which they take.
fn kettle(version: &str) -> ImagePlan {
    let base = stanza("libember1", "1:2.3+b1", "Source: ember (2.3)\n")
        + &stanza("bellows", "1.0-1", "")
        + &stanza("tongs", "0.9", "");
    let later =
        stanza("libember1", "1:2.3+b1", "Source: ember (2.3)\n") + &stanza("bellows", "1.0-2", "");
    small("kettle")
        .for_platforms(&["linux/amd64"])
        .with_file(
            "base",
            "usr/lib/os-release",
            "ID=emberfall\nVERSION_ID=\"12\"\nPRETTY_NAME=\"Emberfall Hearth 12\"\n",
        )
        .with_file("base", STATUS, &base)
        .with_file("own 0", STATUS, &later)
        .with_file(
            "own 0",
            "app/node_modules/@ember/flue/package.json",
            &package("@ember/flue", "1.0.0"),
        )
        .with_file("own 1", "app/node_modules/.wh.@ember", "")
        .with_file("own 1", "app/node_modules/damper/package.json", &package("damper", version))
        .with_file(
            "own 1",
            "usr/lib/python3/dist-packages/ember_tools-1.0.dist-info/METADATA",
            "Metadata-Version: 2.1\nName: ember.tools\nVersion: 1.0\n\n",
        )
}

fn rows(report: &serde_json::Value) -> Vec<String> {
    let text = |row: &serde_json::Value, field: &str| match &row[field] {
        serde_json::Value::Null => "-".to_owned(),
        serde_json::Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let fields = ["kind", "name", "version", "layer", "removed_in", "replaced_by"];
    let row = |row| fields.map(|field| text(row, field)).join(" ");
    report["packages"].as_array().unwrap().iter().map(row).collect()
}

#[test]
fn packages_are_told_with_the_layer_that_brought_them_wherever_the_image_is() {
    let house = House::new();
    house.hold(&house.bazaar, "library/kettle", "3", &image(&kettle("2.1.0")));
    let expected = [
        "deb bellows 1.0-2 2 - -",
        "deb libember1 1:2.3+b1 1 - -",
        "npm damper 2.1.0 3 - -",
        "python ember.tools 1.0 3 - -",
        "deb bellows 1.0-1 1 2 1.0-2",
        "deb tongs 0.9 1 2 -",
        "npm @ember/flue 1.0.0 2 3 -",
    ];
    let there = "bazaar.example/library/kettle:3";
    house.larder(&format!("copy {there} {OWN}/vendor/kettle:3 --new-store")).ends(0);
    house.larder(&format!("copy {there} ./layout#3")).ends(0);
    house.larder(&format!("copy {there} kettle.tar")).ends(0);
    let own = format!("{OWN}/vendor/kettle:3");
    for (place, read) in [(there, 3), (&*own, 0), ("./layout#3", 0), ("kettle.tar", 0), (there, 0)]
    {
        let report = house.larder(&format!("--json inventory {place}")).ends(0).json();
        assert_eq!(rows(&report), expected, "{place}");
        // What is known of layers that are here is not read again, wherever the image is.
        assert!(report["layers_read"] == read || place == there, "{place}: {report}");
        assert_eq!(report["system"]["name"], "Emberfall Hearth 12");
        let libember = &report["packages"][1];
        assert_eq!(libember["source_name"], "ember");
        assert_eq!(libember["source_version"], "2.3");
        let purl = "pkg:deb/emberfall/libember1@1:2.3%2Bb1?arch=amd64&distro=emberfall-12";
        assert_eq!(libember["purl"], purl);
        assert_eq!(report["layers"][1]["command"], "RUN /bin/sh -c make-up step-0");
    }
    let by_layer = house.larder(&format!("inventory {own} --by layer")).ends(0);
    by_layer.says(&[
        "layer 2",
        "RUN make-up step-0",
        "deb tongs 0.9 of layer 1: removed",
        "deb bellows 1.0-1 of layer 1: replaced by 1.0-2",
        "npm @ember/flue 1.0.0 of layer 2: removed",
    ]);
    let shown = house.larder(&format!("inventory {own}")).ends(0);
    let shown =
        shown.says(&["4 packages: 2 deb, 1 npm, 1 python", "3 more were removed or replaced"]);
    assert!(!shown.out.contains("tongs"), "{}", shown.out);
    // By its shelf, as everywhere where the larder's own are meant.
    house.larder("inventory vendor/kettle:3").ends(0).says(&[own.as_str(), "4 packages"]);
    house.larder(&format!("inventory {own} --removed")).ends(0).says(&[
        "tongs",
        "removed by layer 2",
        "replaced by 1.0-2 in layer 2",
    ]);
}

#[test]
fn two_images_are_compared() {
    let house = House::new();
    house.hold(&house.bazaar, "library/kettle", "3", &image(&kettle("2.1.0")));
    let newer = kettle("2.10.0").with_file(
        "own 1",
        "app/node_modules/hinge/package.json",
        &package("hinge", "1.0.0"),
    );
    house.hold(&house.bazaar, "library/kettle", "4", &image(&newer));
    let two = "bazaar.example/library/kettle:3 bazaar.example/library/kettle:4";
    let report = house.larder(&format!("--json inventory {two}")).ends(1).json();
    let changes: Vec<_> = report["changes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["change"].as_str().unwrap(), one["after"]["name"].as_str().unwrap()))
        .collect();
    assert_eq!(changes, [("up", "damper"), ("added", "hinge")]);
    house
        .larder(&format!("inventory {two}"))
        .ends(1)
        .says(&["2.10.0", "layer 3: RUN make-up step-1"]);
    let same = "bazaar.example/library/kettle:3 bazaar.example/library/kettle:3";
    house.larder(&format!("inventory {same}")).ends(0).says(&["both have the same packages"]);
}

#[test]
fn what_was_not_read_is_told_and_stops_nothing_else() {
    let house = House::new();
    let odd = kettle("2.1.0")
        .with_file("own 0", "var/lib/rpm/rpmdb.sqlite", "SQLite format 3\0and no more")
        .with_file("own 0", "opt/a.jar", "no archive")
        .with_file(
            "own 0",
            "app/node_modules/x\u{1b}[31m/package.json",
            &package("\u{1b}[31mred", "1"),
        );
    house.hold(&house.bazaar, "library/kettle", "3", &image(&odd));
    let reference = "bazaar.example/library/kettle:3";
    let shown = house.larder(&format!("inventory {reference}")).ends(0).says(&[
        "2 not read, so that there may be more",
        "not read: layer 2, var/lib/rpm/rpmdb.sqlite: it is damaged",
        "not read: layer 2, opt/a.jar: it is no archive of Java",
        "damper",
    ]);
    assert!(!shown.out.contains('\u{1b}'), "{}", shown.out);
    // A layer that is not there, and one that is none.
    let held = format!("{OWN}/vendor/kettle:3");
    house.larder(&format!("copy {reference} ./layout#3")).ends(0);
    let report = house.larder(&format!("--json inventory {reference}")).ends(0).json();
    let digest = report["layers"][2]["digest"].as_str().unwrap().split(':').nth(1).unwrap();
    let path = format!("layout/blobs/sha256/{digest}");
    std::fs::remove_file(house.path(&path)).unwrap();
    house.larder("inventory ./layout#3").ends(0).says(&["not read: layer 3: it is not there"]);
    // Another content under its digest.
    house.write(&path, "something else");
    house.larder("inventory ./layout#3").ends(4);
    house.larder(&format!("inventory {held} --new-store")).ends(1);
    house.larder("inventory bazaar.example/library/kettle:none").ends(3);
    house.larder("inventory").ends(2);
    house.larder(&format!("inventory {reference} --fill")).ends(2);
    house.larder(&format!("inventory {reference} --attach")).ends(2);
    house.larder(&format!("inventory {reference} --platform linux/arm64")).ends(1);
}

#[test]
fn what_is_brought_in_is_read_once_and_what_was_pushed_later() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let run = house.larder("--json intake run --new-store").ends(0).json();
    assert!(run["layers_read"].as_u64().unwrap() > 4, "{run}");
    assert_eq!(run["layers_not_read"].as_array().unwrap().len(), 0);
    assert_eq!(house.larder("--json intake run").ends(0).json()["layers_read"], 0);
    house.larder("inventory --fill").ends(0).says(&["read 0 layers"]);
    // What is pushed or copied is read when somebody asks for it.
    house.hold(&house.bazaar, "library/kettle", "3", &image(&kettle("2.1.0")));
    house.larder(&format!("copy bazaar.example/library/kettle:3 {OWN}/vendor/own:3")).ends(0);
    let fill = house.larder("--json inventory --fill").ends(0).json();
    assert_eq!((fill["read"].as_u64(), fill["failed"].as_array().unwrap().len()), (Some(3), 0));
    assert_eq!(house.larder("--json inventory --fill").ends(0).json()["read"], 0);
    // Where it is not wanted nothing is read.
    let text = house
        .read("larder.toml")
        .replace("access = \"open\"", "access = \"open\"\ninventory = false\ndata = \"other\"");
    house.write("larder.toml", text);
    let run = house.larder("--json intake run --new-store").ends(0).json();
    assert_eq!(run["layers_read"], 0);
    assert!(house.larder("--json inventory --fill").ends(0).json()["read"].as_u64().unwrap() > 4);
}

#[test]
fn bills_of_materials_are_written_put_beside_the_image_and_read_again() {
    let house = House::new();
    house.hold(&house.bazaar, "library/kettle", "3", &image(&kettle("2.1.0")));
    let own = format!("{OWN}/vendor/kettle:3");
    house.larder(&format!("copy bazaar.example/library/kettle:3 {own} --new-store")).ends(0);
    let spdx = house.larder(&format!("inventory {own} --sbom spdx")).ends(0);
    let spdx: serde_json::Value = serde_json::from_str(&spdx.out).unwrap();
    assert_eq!(spdx["spdxVersion"], "SPDX-2.3");
    assert_eq!(spdx["packages"].as_array().unwrap().len(), 5);
    let bom = house.larder(&format!("inventory {own} --sbom cyclonedx")).ends(0);
    let bom: serde_json::Value = serde_json::from_str(&bom.out).unwrap();
    assert_eq!((&bom["specVersion"], &bom["bomFormat"]), (&"1.6".into(), &"CycloneDX".into()));
    let refs: std::collections::BTreeSet<&str> = bom["components"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["bom-ref"].as_str().unwrap())
        .collect();
    assert_eq!(refs.len(), 5, "each has its own");
    for form in ["spdx", "cyclonedx"] {
        let attached =
            house.larder(&format!("--json inventory {own} --sbom {form} --attach")).ends(0).json();
        assert!(attached["artifact_type"].as_str().unwrap().contains(form));
    }
    house.larder(&format!("look {own} --companions")).ends(0).says(&["spdx", "cyclonedx"]);
    let report = house.larder(&format!("--json inventory {own}")).ends(0).json();
    let sboms = report["sboms"].as_array().unwrap();
    assert_eq!(sboms.len(), 2);
    assert!(sboms.iter().all(|one| one["differences"].as_array().unwrap().is_empty()), "{report}");
    house.larder(&format!("inventory {own}")).ends(0).says(&["sbom", "the same as we read"]);
    // One that a stranger has made of another image.
    house.hold(&house.bazaar, "library/kettle", "4", &image(&kettle("3.0.0")));
    let there = "bazaar.example/library/kettle:4";
    let subject = house.larder(&format!("--json inventory {there}")).ends(0).json();
    let subject = subject["digest"].as_str().unwrap().parse().unwrap();
    let name = "library/kettle".parse().unwrap();
    let text = bom.to_string();
    let held = house.bazaar.hold_artifact(&name, &subject, "application/vnd.cyclonedx+json", &text);
    house.runtime.block_on(held).unwrap();
    let shown = house.larder(&format!("inventory {there}")).ends(0);
    shown.says(&["1 difference from what we read", "IT LISTS", "damper", "2.1.0", "3.0.0"]);
    let broken = house.bazaar.hold_artifact(&name, &subject, "application/spdx+json", "{");
    house.runtime.block_on(broken).unwrap();
    house.larder(&format!("inventory {there}")).ends(0).says(&["cannot be read", "no JSON"]);
    house.larder("inventory ./nowhere --sbom spdx").ends(2);
}
