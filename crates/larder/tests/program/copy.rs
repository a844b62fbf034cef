//! `larder copy`: registry, layout folder, archive.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use larder_core::digest::Digest;
use larder_standin::{FaultKind, UpstreamPlan, image};

use crate::house::{House, small};

const KETTLE: &str = "bazaar.example/library/kettle:2";

/// All files of a folder with their content.
fn files(root: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![root.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                found.insert(
                    path.strip_prefix(root).unwrap().display().to_string(),
                    fs::read(&path).unwrap(),
                );
            }
        }
    }
    found
}

#[test]
fn the_digest_stays_the_same_through_every_place() {
    let house = House::new();
    let digest = image(&small("kettle")).digest().to_string();
    house.larder(&format!("copy {KETTLE} ./layout")).ends(0).says(&[&digest, "8 blobs copied"]);
    house.larder("copy ./layout#2 kettle.tar").ends(0).says(&[&digest]);
    house.larder("copy kettle.tar ./again").ends(0).says(&[&digest]);
    house.bring_in();
    house
        .larder("copy ./again larder.emberfall.example:5080/vendor/other:2")
        .ends(0)
        .says(&[&digest, "0 blobs copied"]);
    house.larder(&format!("look {KETTLE} larder.emberfall.example:5080/vendor/other:2")).ends(0);
    house.larder(&format!("look {KETTLE} ./again")).ends(0);
    house.larder("look kettle.tar ./layout#2").ends(0);

    // The layout is what the image specification says, and nothing else.
    let layout = files(&house.path("layout"));
    assert!(
        layout == files(&house.path("again")),
        "the layout changed on its way through an archive"
    );
    assert_eq!(layout["oci-layout"], br#"{"imageLayoutVersion":"1.0.0"}"#);
    let index: serde_json::Value = serde_json::from_slice(&layout["index.json"]).unwrap();
    assert_eq!(index["manifests"][0]["digest"], digest.as_str());
    assert_eq!(index["manifests"][0]["annotations"]["org.opencontainers.image.ref.name"], "2");
    for (name, bytes) in layout.iter().filter(|(name, _)| name.starts_with("blobs/")) {
        let named = name.strip_prefix("blobs/sha256/").unwrap();
        assert_eq!(Digest::of(bytes).hex(), named, "a blob has its digest as its name");
    }
    let manifests = image(&small("kettle")).documents;
    for (digest, document) in manifests {
        assert_eq!(
            layout[&format!("blobs/sha256/{}", digest.hex())],
            document.bytes,
            "byte for byte"
        );
    }
    house.larder(&format!("copy {KETTLE} ./layout")).ends(0).says(&["0 blobs copied"]);
}

#[test]
fn some_platforms_can_be_taken() {
    let house = House::new();
    house
        .larder(&format!("copy {KETTLE} ./one --platform linux/x86_64"))
        .ends(0)
        .says(&["4 blobs copied"]);
    house.larder("look ./one").ends(0).says(&["in 1 platform", "linux/amd64"]);
    house
        .larder(&format!("look {KETTLE} ./one"))
        .ends(0)
        .says(&["same", "./one does not hold linux/arm64"]);
    house
        .larder(&format!("copy {KETTLE} ./none --platform linux/s390x"))
        .ends(1)
        .says(&["not made for linux/s390x"]);
    house
        .larder(&format!("copy {KETTLE} ./dry --dry-run"))
        .ends(0)
        .says(&["would copy", "an index of 2 manifests"]);
    assert!(!house.path("dry").exists());
}

#[test]
fn another_registry_takes_what_it_lacks_and_mounts_what_it_has() {
    let house = House::new();
    let plan = UpstreamPlan::default();
    let other = house.start(plan);
    house.add_upstream("other.example", &other.endpoint(), "");
    house
        .larder(&format!("copy {KETTLE} other.example/a/kettle:2"))
        .ends(0)
        .says(&["8 blobs copied"]);
    house
        .larder("copy other.example/a/kettle:2 other.example/b/kettle:2")
        .ends(0)
        .says(&["0 blobs copied", "8 there already"]);
    let requests = other.take_requests();
    assert!(requests.keys().any(|line| line.starts_with("POST /v2/b/kettle/blobs/uploads/")));
    house.larder(&format!("look {KETTLE} other.example/b/kettle:2")).ends(0);
    house
        .larder(&format!("copy {KETTLE} other.example/a/kettle@sha256:{}", "0".repeat(64)))
        .ends(2)
        .says(&["leave the digest out"]);
}

#[test]
fn a_target_that_takes_nothing_is_told() {
    let house = House::new();
    let plan = UpstreamPlan { read_only: true, ..UpstreamPlan::default() };
    let closed = house.start(plan);
    house.add_upstream("closed.example", &closed.endpoint(), "");
    house
        .larder(&format!("copy {KETTLE} closed.example/a/kettle:2"))
        .ends(3)
        .says(&["answered 403 to the push to a/kettle", "this registry is read-only"]);
    house
        .larder(&format!("copy {KETTLE} /proc/nowhere/layout"))
        .ends(2)
        .says(&["cannot write to /proc/nowhere/layout"]);
    house.larder(&format!("copy {KETTLE} /proc/nowhere/x.tar")).ends(2).says(&["cannot write"]);
    house.write("busy/file", "x");
    house.larder(&format!("copy {KETTLE} ./busy")).ends(2).says(&["is taken by other files"]);
    house.write("there.tar", "mine");
    house.larder(&format!("copy {KETTLE} there.tar")).ends(2).says(&["is taken by a file"]);
    assert_eq!(house.read("there.tar"), "mine");
    house.bring_in();
    house
        .larder(&format!("copy {KETTLE} larder.emberfall.example:5080/other/kettle:2"))
        .ends(2)
        .says(&["no shelf `other`", "[[shelf]] name = \"other\""]);
}

#[test]
fn corrupt_content_reaches_no_target() {
    let house = House::new();
    house.bazaar.faults.add(Some("GET"), "/blobs/", 999, FaultKind::Altered);
    house.larder(&format!("copy {KETTLE} ./layout")).ends(4).says(&["has the digest"]);
    assert_eq!(
        files(&house.path("layout")).keys().filter(|name| name.contains("blobs/sha256")).count(),
        0
    );
    house.larder(&format!("copy {KETTLE} kettle.tar")).ends(4);
    assert!(
        !fs::read_dir(house.path("")).unwrap().any(|entry| entry
            .unwrap()
            .file_name()
            .to_str()
            .unwrap()
            .contains(".tar"))
    );
    house.bazaar.faults.clear();
    house.larder(&format!("copy {KETTLE} ./layout")).ends(0);
    let blob = files(&house.path("layout"))
        .into_iter()
        .find(|(name, bytes)| name.contains("sha256") && bytes.len() > 10_000)
        .unwrap()
        .0;
    let mut bytes = fs::read(house.path("layout").join(&blob)).unwrap();
    bytes[5] ^= 1;
    fs::write(house.path("layout").join(&blob), &bytes).unwrap();
    house.larder("copy ./layout ./second").ends(4).says(&["has the digest"]);
    bytes.pop();
    fs::write(house.path("layout").join(&blob), &bytes).unwrap();
    house.larder("copy ./layout ./third").ends(4).says(&["its descriptor says"]);
}

#[test]
fn layouts_made_by_others_are_read_nested_indexes_too() {
    let house = House::new();
    let made = image(&small("kettle"));
    let put = |bytes: &[u8]| {
        let digest = Digest::of(bytes);
        house.write(&format!("theirs/blobs/sha256/{}", digest.hex()), bytes);
        digest
    };
    for blob in &made.blobs {
        put(&blob.bytes);
    }
    for (_, document) in &made.documents {
        put(&document.bytes);
    }
    let inner = made.documents.last().unwrap();
    let outer = format!(
        r#"{{"schemaVersion":2,"manifests":[{{"mediaType":"{}","digest":"{}","size":{}}}]}}"#,
        inner.1.media_type,
        inner.0,
        inner.1.bytes.len()
    );
    let outer_digest = put(outer.as_bytes());
    house.write("theirs/oci-layout", "{\n \"imageLayoutVersion\": \"1.0.0\"\n}\n");
    house.write(
        "theirs/index.json",
        format!(
            r#"{{"schemaVersion":2,"manifests":[{{"mediaType":"application/vnd.oci.image.index.v1+json","digest":"{outer_digest}","size":{},"annotations":{{"org.opencontainers.image.ref.name":"somewhere.example/kettle:nested"}}}}]}}"#,
            outer.len()
        ),
    );
    house.larder("look ./theirs").ends(0).says(&["in 2 platforms", outer_digest.as_str()]);
    house.larder("copy ./theirs#nested ./ours").ends(0).says(&[outer_digest.as_str()]);
    house.larder("look ./theirs ./ours").ends(0);
    // One platform first, another one later: the inner index is there already, but not whole.
    house.larder("copy ./theirs#nested ./parts --platform linux/amd64").ends(0);
    house.larder("copy ./theirs#nested ./parts --platform linux/arm64").ends(0);
    house.larder("look ./parts").ends(0).says(&["in 2 platforms"]);
    house
        .larder("copy ./theirs#other ./ours")
        .ends(1)
        .says(&["it holds no image named other; it has: somewhere.example/kettle:nested"]);
    house.larder("copy ./theirs#nested ./both#first").ends(0);
    house.larder("copy ./theirs#nested ./both#second").ends(0);
    house.larder("copy ./both ./ours").ends(1).says(&[
        "cannot read ./both",
        "it holds 2 images: ",
        "name one: PATH#NAME",
    ]);
    house.larder("look ./nowhere").ends(2).says(&[
        "cannot read ./nowhere",
        "No such file",
        "check the path",
    ]);
    house.write("theirs/index.json", "{}");
    house.larder("look ./theirs").ends(4).says(&["its index.json"]);
    house.write("theirs/oci-layout", "{\"imageLayoutVersion\":\"9\"}");
    house.larder("look ./theirs").ends(4).says(&["does not name version 1"]);
}

#[test]
fn hostile_archives_are_refused_with_what_and_where() {
    let house = House::new();
    house.larder(&format!("copy {KETTLE} good.tar")).ends(0);
    let good = fs::read(house.path("good.tar")).unwrap();
    let archive = |entries: &[(&str, tar::EntryType)]| {
        let mut archive = tar::Builder::new(Vec::new());
        for (name, kind) in entries {
            let mut header = tar::Header::new_gnu();
            header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
            header.set_entry_type(*kind);
            header.set_size(0);
            header.set_cksum();
            archive.append(&header, std::io::empty()).unwrap();
        }
        archive.into_inner().unwrap()
    };
    let file = tar::EntryType::Regular;
    for (bytes, words) in [
        (archive(&[("../../etc/passwd", file)]), "leads out of it"),
        (archive(&[("/etc/passwd", file)]), "leads out of it"),
        (archive(&[("blobs/x", tar::EntryType::Symlink)]), "no regular file"),
        (archive(&[("blobs/x", tar::EntryType::Link)]), "no regular file"),
        (archive(&[("blobs/x", tar::EntryType::Block)]), "no regular file"),
        (archive(&[("index.json", file), ("./index.json", file)]), "is there twice"),
        (archive(&[]), "it has no oci-layout"),
        (good[..good.len() / 2].to_vec(), "it ends before its entry"),
        (vec![0x1f, 0x8b, 8, 0], "compressed with gzip"),
        (b"not a tar at all".repeat(100), "cannot be read as a tar archive"),
    ] {
        house.write("bad.tar", bytes);
        house.larder("copy bad.tar ./out").ends(4).says(&["cannot read bad.tar", words]);
        assert!(!house.path("out").exists(), "{words}");
    }
    house.larder("copy none.tar ./out").ends(2).says(&["cannot read none.tar"]);
}

#[test]
fn an_archive_takes_many_layers_that_come_at_once() {
    let house = House::new();
    let many = larder_standin::ImagePlan { own: 12, ..small("many") };
    house.hold(&house.bazaar, "library/kettle", "2", &image(&many));
    for number in 0..5 {
        house.larder(&format!("copy {KETTLE} {number}.tar")).ends(0).says(&["28 blobs copied"]);
        house.larder(&format!("look {KETTLE} {number}.tar")).ends(0);
    }
}

#[test]
fn a_target_that_fails_is_told_and_nothing_is_visible_there() {
    let house = House::new();
    let other = house.start(UpstreamPlan::default());
    house.add_upstream("other.example", &other.endpoint(), "");
    other.faults.add(Some("PUT"), "/manifests/", 99, FaultKind::Status(500, None));
    house
        .larder(&format!("copy {KETTLE} other.example/a/kettle:2"))
        .ends(3)
        .says(&["answered 500 to the push to a/kettle", "try again later"]);
    house.larder("look other.example/a/kettle:2").ends(3);
    other.faults.clear();
    // What went before is kept: only the manifests are sent now.
    house
        .larder(&format!("copy {KETTLE} other.example/a/kettle:2"))
        .ends(0)
        .says(&["0 blobs copied", "8 there already"]);
    house.larder(&format!("look {KETTLE} other.example/a/kettle:2")).ends(0);
    other.faults.add(Some("POST"), "/uploads/", 99, FaultKind::Status(401, None));
    house
        .larder("copy ventworks.example/gauges/steamgauge:1.9.2 other.example/a/gauge:1")
        .ends(3)
        .says(&["answered 401 to the push to a/gauge", "no credentials configured"]);
}

#[test]
fn a_link_where_an_archive_is_written_is_refused_and_what_it_leads_to_stays() {
    let house = House::new();
    let partial = house.path("kettle.tar.partial");
    house.for_each_link_at(&partial, || {
        house
            .larder(&format!("copy {KETTLE} kettle.tar"))
            .ends(2)
            .says(&["kettle.tar.partial is in the way", "remove it"]);
        assert!(!house.path("kettle.tar").exists(), "nothing half done is there");
    });
    // What an earlier copy has left when it was killed is no link, and is written over.
    fs::write(&partial, "half of an archive").unwrap();
    house.larder(&format!("copy {KETTLE} kettle.tar")).ends(0);
    assert!(!partial.exists());
    house.larder(&format!("look {KETTLE} kettle.tar")).ends(0);
}
