//! What anybody can claim decides nothing: a signature by its name, an age by its date, a parcel by its key alone.

use larder_core::digest::Digest;
use serde_json::json;

use crate::access::{basic, granted};
use crate::house::House;
use crate::serving::{Serving, ask};

const KIND: &str = "application/vnd.oci.image.manifest.v1+json";

#[test]
fn the_old_name_of_looks_signed_means_the_same_and_is_warned_of() {
    for name in ["signature", "looks_signed"] {
        let rule = format!(
            "\n[[rule]]\nname = \"signed\"\nimages = [\"*/apps/**\"]\nasks = {{ {name} = true }}\nverdict = \"deny\"\nbecause = \"x\"\n"
        );
        let house = granted(&rule);
        let check = house.larder("check --offline").ends(0);
        assert_eq!(
            check.out.contains("looks_signed = true") || check.err.contains("looks_signed = true"),
            name == "signature"
        );
    }
}

#[test]
fn age_counts_from_when_the_larder_first_held_it() {
    let rule = "\n[[rule]]\nname = \"settled\"\nimages = [\"*/apps/**\"]\nasks = { age = \"1h\" }\nverdict = \"deny\"\nbecause = \"let others find the faults\"\n";
    let house = granted(rule);
    let serving = Serving::start(&house);
    let text = house
        .read("larder.toml")
        .replace("pull = [\"vendor/**\"]\npush", "pull = [\"vendor/**\", \"apps/**\"]\npush");
    house.write("larder.toml", text);
    drop(serving);
    let serving = Serving::start(&house);
    let login = basic("ci", &house.issue("--account ci"));
    let send = |method: &str, path: &str, kind: &str, body: &[u8]| {
        ask(
            serving.host(),
            method,
            path,
            &[("authorization", &login), ("content-type", kind)],
            body,
        )
        .unwrap()
    };
    // It says that it was built in the last century.
    let config = br#"{"os":"linux","architecture":"amd64","created":"1999-01-01T00:00:00Z"}"#;
    let digest = Digest::of(config);
    assert_eq!(
        send("POST", &format!("/v2/apps/board/blobs/uploads/?digest={digest}"), "x/y", config)
            .status,
        201
    );
    let manifest = json!({"schemaVersion": 2, "mediaType": KIND, "layers": [],
        "config": {"mediaType": "application/vnd.oci.image.config.v1+json", "digest": digest.to_string(), "size": config.len()}})
    .to_string();
    assert_eq!(send("PUT", "/v2/apps/board/manifests/1", KIND, manifest.as_bytes()).status, 201);
    let pulled = send("GET", "/v2/apps/board/manifests/1", "", b"");
    assert_eq!(pulled.status, 403, "{}", pulled.text());
    assert!(pulled.text().contains("held it for less than 1 h"), "{}", pulled.text());
}

/// Two larders that trust each other's parcels; gives the key of the first.
fn packing() -> House {
    let house = House::new();
    let ours = house.larder("parcel sign-key ours.pem --json").ends(0);
    let key = ours.json()["key"].as_str().map(str::to_owned).unwrap_or_default();
    let theirs = house.larder("parcel sign-key theirs.pem").ends(0);
    drop(theirs);
    let far = format!(
        "[larder]\nname = \"far-side\"\nurl = \"http://far.emberfall.example:5080\"\naccess = \"open\"\n\n[[shelf]]\nname = \"vendor\"\n\n[parcel]\nsign = \"theirs.pem\"\ntrust = {{ near = \"{key}\" }}\n"
    );
    house.write("far.toml", far.replace("access", "data = \"far-data\"\naccess"));
    let text = house.read("larder.toml") + "\n[parcel]\nsign = \"ours.pem\"\n";
    house.write("larder.toml", text);
    house.bring_in();
    house
}

#[test]
fn an_older_parcel_takes_no_tag_back() {
    let house = packing();
    house.larder("parcel pack first").ends(0);
    let mended = larder_standin::image(&crate::house::small("kettle-mended"));
    house.hold(&house.bazaar, "library/kettle", "2", &mended);
    house.larder("intake lock").says(&["kettle"]);
    house.larder("intake run").ends(0);
    house.larder("parcel pack second").ends(0);
    let digest = || {
        let shown = house.larder("shelf show vendor/kettle --config far.toml --json").json();
        shown["images"][0]["digest"].as_str().unwrap().to_owned()
    };
    let unpack =
        |options: &str| house.larder(&format!("parcel unpack {options} --config far.toml"));
    unpack("second").ends(0);
    let new = digest();
    unpack("first --dry-run").ends(1).says(&["held back", "vendor/kettle:2"]);
    let held = unpack("first").ends(1).says(&["held back", "vendor/kettle:2", "--older"]);
    assert!(held.out.contains("unpacked vendor/ashlog:1.4"), "the rest is unpacked: {}", held.out);
    assert_eq!(digest(), new);
    let json = unpack("first --json").ends(1).json();
    assert_eq!(json["held_back"], json!(["vendor/kettle:2"]));
    unpack("first --older").ends(0);
    assert_ne!(digest(), new);
    unpack("second").ends(0);
    assert_eq!(digest(), new);
}

#[test]
fn a_key_can_be_trusted_for_some_shelves_alone() {
    let house = packing();
    house.larder("parcel pack first").ends(0);
    let text = house.read("far.toml");
    let key = text.split("near = \"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let limited = |shelf: &str| {
        let trust = format!("near = {{ key = \"{key}\", shelves = [\"{shelf}\"] }}");
        house.write("far.toml", text.replace(&format!("near = \"{key}\""), &trust));
        house.larder("parcel unpack first --config far.toml")
    };
    limited("apps").ends(1).says(&["near signed it, who is trusted for apps alone", "vendor/"]);
    let nothing = house.larder("shelf show vendor/kettle --config far.toml");
    nothing.ends(2).says(&["there is no store in it"]);
    limited("vendor").ends(0);
}
