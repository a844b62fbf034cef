//! Archives that a container daemon saved: nobody signed them, and they are taken all the same when that is said.

use larder_standin::companion;

use crate::parcel::Gap;

/// What a container daemon saves: configurations and layers under names of their own.
fn saved(layers: &[Vec<u8>], tags: &str, config: Option<&str>) -> Vec<u8> {
    let mut archive = tar::Builder::new(Vec::new());
    let mut add = |name: &str, bytes: &[u8]| {
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        archive.append_data(&mut header, name, bytes).unwrap();
    };
    let ids: Vec<String> =
        layers.iter().map(|layer| larder_core::digest::Digest::of(layer).to_string()).collect();
    let whole = serde_json::json!({
        "os": "linux", "architecture": "amd64", "rootfs": { "type": "layers", "diff_ids": ids },
    });
    add("abc.json", config.map_or(whole.to_string(), str::to_owned).as_bytes());
    let names: Vec<String> =
        (0..layers.len()).map(|number| format!("{number}/layer.tar")).collect();
    for (name, layer) in names.iter().zip(layers) {
        add(name, layer);
    }
    let list = serde_json::json!([{
        "Config": "abc.json", "RepoTags": serde_json::from_str::<serde_json::Value>(tags).unwrap(), "Layers": names,
    }]);
    add("manifest.json", list.to_string().as_bytes());
    archive.into_inner().unwrap()
}

#[test]
fn archives_that_a_daemon_saved_are_read() {
    let gap = Gap::new();
    let layers = [vec![1u8; 3_000], vec![2u8; 70_000]];
    gap.house.write("saved.tar", saved(&layers, "[\"bazaar.example/library/kettle:2\"]", None));
    gap.near("look saved.tar").ends(0).says(&["linux/amd64"]);
    gap.near("copy saved.tar ./layout").ends(0).says(&["3 blobs copied"]);
    gap.near("parcel unpack --unsigned saved.tar").ends(0).says(&[
        "unpacked bazaar.example/library/kettle:2 to vendor/kettle:2",
        "nobody signed for them",
    ]);
    let json = gap.near("shelf show vendor/kettle:2 --json").ends(0).json();
    assert_eq!(json["images"][0]["platforms"], serde_json::json!(["linux/amd64"]));
    gap.far("parcel unpack --unsigned saved.tar").ends(2).says(&["no intake entry says", "--as"]);
    gap.far("parcel unpack --unsigned saved.tar --as vendor/old-kettle --dry-run")
        .ends(0)
        .says(&["would unpack", "vendor/old-kettle:2"]);
    gap.far("parcel unpack --unsigned saved.tar --as vendor/old-kettle").ends(0);
    gap.far("shelf show vendor/old-kettle:2").ends(0);
    gap.far("parcel unpack --unsigned saved.tar --as nowhere/x")
        .ends(2)
        .says(&["no shelf `nowhere`"]);
    gap.far("parcel unpack saved.tar").ends(2).says(&["saved.tar is not a file of a parcel"]);

    // A layer that is not what the configuration says, a configuration that is none, layers too few.
    let others = [vec![5u8; 3_000], vec![3u8; 5_000]];
    let mut wrong = saved(&others, "[\"bazaar.example/library/kettle:2\"]", None);
    let at = wrong.windows(3_000).position(|bytes| bytes.iter().all(|byte| *byte == 5)).unwrap();
    wrong[at + 100] = 9;
    gap.house.write("wrong.tar", wrong);
    gap.far("parcel unpack --unsigned wrong.tar --as vendor/wrong")
        .ends(4)
        .says(&["has the digest"]);
    gap.far("shelf show vendor/wrong").ends(1);
    for (config, words) in [
        ("{}", "is no image configuration"),
        (r#"{"rootfs":{"diff_ids":[]}}"#, "names 0 layers, and 2 are there"),
        (r#"{"rootfs":{"diff_ids":["sha256:../../x"]}}"#, "is no image configuration"),
    ] {
        gap.house.write("wrong.tar", saved(&layers, "[\"a.example/b:1\"]", Some(config)));
        gap.near("copy wrong.tar ./no").ends(4).says(&[words]);
    }
    gap.house.write("wrong.tar", saved(&layers, "null", None));
    gap.near("parcel unpack --unsigned wrong.tar").ends(2).says(&["none of its images has a name"]);
    // A layout that was copied is taken as well.
    let chart =
        companion(&larder_core::digest::Digest::of(b""), "application/vnd.emberfall.chart", false);
    gap.house.hold(&gap.house.bazaar, "charts/board", "1", &chart);
    gap.near("copy bazaar.example/charts/board:1 chart.tar").ends(0);
    gap.far("parcel unpack --unsigned chart.tar --as vendor/charts").ends(0);
    gap.far("shelf show vendor/charts:1").ends(0);
}

#[test]
fn hostile_archives_that_nobody_signed_are_refused_too() {
    let gap = Gap::new();
    let layers = [vec![7u8; 2_000]];
    let good = saved(&layers, "[\"bazaar.example/library/kettle:2\"]", None);
    let with = |kind: tar::EntryType, path: &str, link: &str, size: u64| {
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(kind);
        header.set_mode(0o644);
        header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
        header.set_link_name_literal(link).unwrap();
        header.set_size(size);
        header.set_cksum();
        // In front of all others.
        [header.as_bytes().as_slice(), &good].concat()
    };
    for (bytes, words) in [
        (with(tar::EntryType::Regular, "../../x", "", 0), "leads out of it"),
        (with(tar::EntryType::Regular, "/x", "", 0), "leads out of it"),
        (with(tar::EntryType::Symlink, "0/layer.tar", "/etc/passwd", 0), "is no regular file"),
        (with(tar::EntryType::Link, "x", "abc.json", 0), "is no regular file"),
        (with(tar::EntryType::Block, "x", "", 0), "is no regular file"),
        (with(tar::EntryType::Regular, "manifest.json", "", 0), "is there twice"),
        (with(tar::EntryType::Regular, "x", "", 1 << 40), "ends before its entry"),
        (with(tar::EntryType::GNUSparse, "x", "", 1 << 40), "cannot be read as a tar archive"),
    ] {
        gap.house.write("bad.tar", bytes);
        for line in ["parcel unpack --unsigned bad.tar", "copy bad.tar ./out", "look bad.tar"] {
            gap.near(line).ends(4).says(&["bad.tar", words]);
        }
    }
    assert!(!gap.house.path("out").exists());
    assert_eq!(gap.near("shelf show vendor --json").json()["images"], serde_json::json!([]));
}
