//! `larder look`.

use larder_core::digest::Digest;
use larder_standin::{ImagePlan, image};

use crate::house::{House, OWN, small};

#[test]
fn an_image_is_described_without_being_pulled() {
    let house = House::new();
    let run = house.larder("look ventworks.example/gauges/steamgauge:1.9.2").ends(0);
    let digest = image(&small("steamgauge")).digest().clone();
    run.says(&[
        digest.as_str(),
        "application/vnd.oci.image.index.v1+json",
        "linux/arm64",
        "entrypoint /usr/bin/steamgauge",
        "org.opencontainers.image.title = steamgauge",
        "2026-02-03T04:05:06Z",
    ]);
    let requests = house.ventworks.take_requests();
    let blobs: usize =
        requests.iter().filter(|(line, _)| line.contains("/blobs/")).map(|(_, count)| count).sum();
    assert_eq!(blobs, 2, "only the two configurations: {requests:?}");

    let json = house.larder("look kettle:2 --json").ends(0).json();
    assert_eq!(json["reference"], "bazaar.example/library/kettle:2");
    assert_eq!(json["platforms"][0]["platform"], "linux/amd64");
    assert_eq!(json["platforms"][0]["layers"].as_array().unwrap().len(), 3);
    house
        .larder("look kettle:2 --platform linux/aarch64")
        .ends(0)
        .says(&["linux/arm64\n  created"]);
    house
        .larder("look kettle:2 --platform linux/s390x")
        .ends(1)
        .says(&["is not made for linux/s390x", "linux/amd64, linux/arm64"]);
    house.larder("look --tags library/kettle").ends(0).says(&["2"]);
}

#[test]
fn two_references_are_compared() {
    let house = House::new();
    house.bring_in();
    let ours = "larder.emberfall.example:5080/vendor";
    let theirs = "ventworks.example/gauges";
    house
        .larder(&format!("look {theirs}/steamgauge:1.9.2 {ours}/steamgauge:1.9.2"))
        .ends(0)
        .says(&["same:"]);
    house.larder(&format!("look --tags {ours}/steamgauge")).ends(0).says(&["1.9.2"]);
    let told = house.larder(&format!("look {ours}/steamgauge:7")).ends(1);
    told.says(&["this larder has no vendor/steamgauge:7", "`larder shelf show`"]);
    let json = house.larder("shelf show vendor/kettle --json").ends(0).json();
    let digest = json["images"][0]["digest"].as_str().unwrap();
    house.larder(&format!("shelf show vendor/kettle@{digest}")).ends(0).says(&["vendor/kettle:2"]);
    house.larder("shelf show vendor/kettle@sha256:12").ends(2).says(&["SHELF/REPOSITORY@DIGEST"]);
    let told = house.larder("-v look kettle:2").ends(0);
    told.says(&["the pull of library/kettle", "200 OK"]);
    house.larder(&format!("look --tags {ours}/nothing")).ends(1).says(&["no such repository"]);
    house.larder(&format!("look {theirs}/steamgauge:1.9.2 {theirs}/valve-twin:3.1")).ends(1).says(
        &[
            "they differ",
            "only the first is made for linux/arm64",
            "1 of 3 layers shared",
            "labels changed",
        ],
    );
    // What was brought in without a platform is described without it.
    house.larder(&format!("look {ours}/brinedb:5.2")).ends(0).says(&["in 1 platform"]);
}

#[test]
fn all_that_an_image_says_is_shown_and_compared_with_old_and_new_values() {
    let house = House::new();
    let board = |name: &str, port: &str, mode: &str| ImagePlan {
        says: serde_json::json!({
            "config": {
                "Env": ["PATH=/usr/bin", format!("MODE={mode}"), format!("ONLY_{mode}=1")],
                "ExposedPorts": { port: {} },
                "Volumes": { "/var/board": {} },
                "WorkingDir": "/srv",
                "StopSignal": "SIGQUIT",
                "Healthcheck": { "Test": ["CMD", "/bin/well"] },
            },
            "history": [
                { "created_by": "COPY base /", "created": "2026-01-01T00:00:00Z" },
                { "created_by": "ENV MODE=x\u{1b}[31m", "empty_layer": true },
            ],
        }),
        ..small(name)
    };
    house.hold(&house.bazaar, "library/board", "1", &image(&board("board", "8080/tcp", "a")));
    house.hold(&house.bazaar, "library/board", "2", &image(&board("board", "9090/tcp", "b")));
    let shown = house.larder("look bazaar.example/library/board:1").ends(0).says(&[
        "folder     /srv",
        "ports      8080/tcp",
        "volumes    /var/board",
        "stop       SIGQUIT",
        "well if    CMD /bin/well",
        "variable   MODE=a",
        "built by   COPY base /",
        "(no layer)",
    ]);
    assert!(!shown.out.contains('\u{1b}'), "letters only: {}", shown.out);
    let json = house.larder("--json look bazaar.example/library/board:1").ends(0).json();
    let one = &json["platforms"][0];
    assert_eq!(one["ports"][0], "8080/tcp");
    assert_eq!(one["history"][1]["makes_layer"], false);
    assert_eq!(one["health_check"][1], "/bin/well");
    let both = "look bazaar.example/library/board:1 bazaar.example/library/board:2";
    house.larder(both).ends(1).says(&[
        "ports changed; variables changed",
        "env MODE",
        "    - a",
        "    + b",
        "env ONLY_b",
        "    - (none)",
        "    + 9090/tcp",
    ]);
    let json = house.larder(&format!("--json {both}")).ends(1).json();
    let changed = json["changed"].as_array().unwrap();
    let only = changed.iter().find(|one| one["name"] == "ONLY_a").unwrap();
    assert_eq!((&only["first"], &only["second"]), (&"1".into(), &serde_json::Value::Null));
    // What has another form than the standard's is left out, and the rest is told.
    let odd = ImagePlan {
        says: serde_json::json!({ "config": { "Env": "PATH", "ExposedPorts": ["80"] } }),
        ..small("odd")
    };
    house.hold(&house.bazaar, "library/odd", "1", &image(&odd));
    house.larder("look bazaar.example/library/odd:1").ends(0).says(&["linux/amd64", "entrypoint"]);
}

#[test]
fn the_documents_of_an_image_are_written_byte_for_byte() {
    let house = House::new();
    let sample = image(&small("steamgauge"));
    let name = "ventworks.example/gauges/steamgauge:1.9.2";
    let index = house.larder(&format!("look {name} --raw manifest")).ends(0).out;
    assert_eq!(Digest::of(index.as_bytes()), *sample.digest());

    let index: serde_json::Value = serde_json::from_str(&index).unwrap();
    let arm = index["manifests"]
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["platform"]["architecture"] == "arm64")
        .unwrap();
    let manifest =
        house.larder(&format!("look {name} --raw manifest --platform arm64")).ends(0).out;
    assert_eq!(Digest::of(manifest.as_bytes()).to_string(), arm["digest"].as_str().unwrap());

    let manifest: serde_json::Value = serde_json::from_str(&manifest).unwrap();
    let json =
        house.larder(&format!("look {name} --raw config --platform arm64 --json")).ends(0).json();
    assert_eq!(json["digest"], manifest["config"]["digest"]);
    assert_eq!(json["media_type"], manifest["config"]["mediaType"]);
    let text = json["text"].as_str().unwrap();
    assert_eq!(json["size_bytes"], text.len());
    assert_eq!(Digest::of(text.as_bytes()).to_string(), json["digest"].as_str().unwrap());

    // What is held here is read from here, and a missing platform is said.
    house.bring_in();
    let ours = "larder.emberfall.example:5080/vendor/steamgauge:1.9.2";
    let held = house.larder(&format!("look {ours} --raw manifest")).ends(0).out;
    assert_eq!(Digest::of(held.as_bytes()), *sample.digest());
    house
        .larder(&format!("look {name} --raw config --platform s390x"))
        .ends(1)
        .says(&["is not made for linux/s390x", "linux/amd64, linux/arm64"]);
    house
        .larder(&format!("look {name} {ours} --raw config"))
        .ends(2)
        .says(&["cannot be used with"]);
}

#[test]
fn tags_and_the_images_of_a_folder_are_listed_with_what_each_is() {
    let house = House::new();
    for (tag, platforms) in [
        ("1.10", &["linux/amd64"][..]),
        ("1.9", &["linux/amd64", "linux/arm64"]),
        ("edge", &["linux/arm64"]),
    ] {
        let plan = crate::house::small(tag).for_platforms(platforms);
        house.hold(&house.bazaar, "library/board", tag, &larder_standin::image(&plan));
    }
    let listed = house.larder("--json look --tags bazaar.example/library/board").ends(0).json();
    let tags = listed["tags"].as_array().unwrap();
    let names: Vec<&str> = tags.iter().map(|row| row["tag"].as_str().unwrap()).collect();
    assert_eq!(names, ["1.10", "1.9", "edge"], "by version");
    assert_eq!(tags[1]["platforms"], serde_json::json!(["linux/amd64", "linux/arm64"]));
    assert!(tags[0]["size_bytes"].as_u64().unwrap() > 0 && tags[0]["digest"].is_string());
    let told = house.larder("look --tags bazaar.example/library/board --limit 1").ends(0);
    told.says(&["sha256:", "2 of them were not looked into"]);
    // This larder's own shelves need no host.
    house.configure("[[shelf]]\nname = \"own\"\n");
    house
        .larder(&format!("copy bazaar.example/library/board:1.9 {OWN}/own/board:1.9 --new-store"))
        .ends(0);
    house.larder("look --tags own/board").ends(0).says(&["1.9", "linux/arm64"]);
    // A folder with several images.
    for tag in ["1.9", "1.10"] {
        house.larder(&format!("copy bazaar.example/library/board:{tag} ./boards#{tag}")).ends(0);
    }
    for line in ["look ./boards", "look --tags ./boards"] {
        house.larder(line).ends(0).says(&["1.9", "1.10", "linux/arm64", "2 tags"]);
    }
    house.larder("look ./boards#1.9").ends(0).says(&["linux/arm64"]);
    house.larder("look --platform arm64 ./boards#1.9").ends(0).says(&["linux/arm64"]);
    house.larder("copy ./boards#1.9 one.tar").ends(0);
    house.larder("look one.tar").ends(0).says(&["linux/arm64"]);
}
