//! Layers laid one over the other, case by case.

use super::*;

/// An archive of files, links, directories and whiteouts.
struct Archive(tar::Builder<Vec<u8>>);

impl Archive {
    fn new() -> Self {
        Self(tar::Builder::new(Vec::new()))
    }

    fn entry(mut self, kind: tar::EntryType, path: &str, target: &str, content: &[u8]) -> Self {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(0o644);
        header.set_size(content.len() as u64);
        if !target.is_empty() {
            header.set_link_name(target).unwrap();
        }
        // The crate refuses names that a stranger may well write.
        let name = path.as_bytes();
        header.as_old_mut().name[..name.len()].copy_from_slice(name);
        header.set_cksum();
        self.0.append(&header, content).unwrap();
        self
    }

    fn file(self, path: &str, content: &str) -> Self {
        self.entry(tar::EntryType::Regular, path, "", content.as_bytes())
    }

    fn npm(self, path: &str, version: &str) -> Self {
        let name = path.rsplit('/').nth(1).unwrap().to_owned();
        self.file(path, &format!("{{\"name\":\"{name}\",\"version\":\"{version}\"}}"))
    }

    fn gone(self, path: &str) -> Self {
        self.file(path, "")
    }

    fn folder(self, path: &str) -> Self {
        self.entry(tar::EntryType::Directory, path, "", b"")
    }

    fn link(self, path: &str, target: &str) -> Self {
        self.entry(tar::EntryType::Symlink, path, target, b"")
    }

    fn bytes(self) -> Vec<u8> {
        self.0.into_inner().unwrap()
    }

    fn facts(self) -> LayerFacts {
        let facts = read_layer(&self.bytes()[..], &LayerLimits::default()).unwrap();
        // What is kept is read the same.
        assert_eq!(LayerFacts::unpack(&facts.pack()).unwrap(), facts);
        facts
    }
}

fn laid(layers: Vec<Archive>) -> ImageInventory {
    let layers: Vec<LayerOutcome> = layers
        .into_iter()
        .map(|layer| LayerOutcome::Read(std::sync::Arc::new(layer.facts())))
        .collect();
    compose(&layers)
}

/// Each package as `NAME VERSION LAYER`, with what became of it.
fn told(inventory: &ImageInventory) -> Vec<String> {
    let one = |one: &ImagePackage| {
        let end = one.removed.as_ref().map_or_else(String::new, |removal| {
            let by = removal.replaced_by.as_deref().unwrap_or("nothing");
            format!(" gone in {} for {by}", removal.layer)
        });
        format!("{} {} from {}{end}", one.package.name, one.package.version, one.layer)
    };
    inventory.packages.iter().map(one).collect()
}

const A: &str = "d/node_modules/a/package.json";
const B: &str = "d/node_modules/b/package.json";

fn base() -> Archive {
    Archive::new().folder("d/").npm(A, "1.0.0").npm(B, "1.0.0")
}

#[test]
fn what_a_layer_takes_away_is_gone() {
    let both_stay = ["a 1.0.0 from 0", "b 1.0.0 from 0"];
    let a_goes = ["b 1.0.0 from 0", "a 1.0.0 from 0 gone in 1 for nothing"];
    let both_go = ["a 1.0.0 from 0 gone in 1 for nothing", "b 1.0.0 from 0 gone in 1 for nothing"];
    let a_new = ["a 2.0.0 from 1", "b 1.0.0 from 0", "a 1.0.0 from 0 gone in 1 for 2.0.0"];
    let new = || Archive::new().npm("d/node_modules/a/package.json", "2.0.0");
    for (what, layer, expected) in [
        ("a file", Archive::new().gone("d/node_modules/a/.wh.package.json"), &a_goes[..]),
        ("a folder", Archive::new().gone("d/node_modules/.wh.a"), &a_goes),
        ("named oddly", Archive::new().gone("./d//node_modules/../node_modules/.wh.a"), &a_goes),
        ("a folder as whiteout", Archive::new().folder("d/node_modules/.wh.a/"), &a_goes),
        ("a link as whiteout", Archive::new().link("d/node_modules/.wh.a", "x"), &a_goes),
        ("the top", Archive::new().gone(".wh.d"), &both_go),
        ("nothing there", Archive::new().gone("d/.wh.other"), &both_stay),
        ("nothing named", Archive::new().gone("d/.wh."), &both_stay),
        ("of another file system", Archive::new().gone("d/.wh..wh.plnk"), &both_stay),
        ("opaque", Archive::new().folder("d/").gone("d/.wh..wh..opq"), &both_go),
        ("opaque without an entry", Archive::new().gone("d/node_modules/a/.wh..wh..opq"), &a_goes),
        ("an opaque root", Archive::new().gone(".wh..wh..opq"), &both_go),
        ("a file over a folder", Archive::new().file("d", "x"), &both_go),
        ("a link over a folder", Archive::new().link("d/node_modules/a", "b"), &a_goes),
        ("an empty file", Archive::new().file(A, ""), &a_goes),
        ("a newer one", new(), &a_new),
        (
            "whiteout, then its name",
            Archive::new().gone("d/node_modules/.wh.a").npm(A, "2.0.0"),
            &a_new,
        ),
        ("its name, then whiteout", new().gone("d/node_modules/.wh.a"), &a_new),
        ("its name in what is opaque", new().gone("d/node_modules/a/.wh..wh..opq"), &a_new),
        ("twice in one", Archive::new().npm(A, "3.0.0").npm(A, "2.0.0"), &a_new),
        (
            "a device with no numbers",
            Archive::new().entry(tar::EntryType::Char, "d/node_modules/a", "", b""),
            &a_goes,
        ),
        ("another folder", Archive::new().folder("d/node_modules/a/"), &both_stay),
    ] {
        let mut facts = vec![base(), layer];
        let inventory = laid(std::mem::take(&mut facts));
        assert_eq!(told(&inventory), expected, "{what}");
    }
    // In the first layer it takes nothing away.
    let first = laid(vec![base().gone("d/node_modules/.wh.a")]);
    assert_eq!(told(&first), both_stay);
    // What is gone may come back.
    let again = laid(vec![base(), Archive::new().gone(".wh.d"), base()]);
    assert_eq!(again.packages.len(), 4);
    assert_eq!(told(&again)[0], "a 1.0.0 from 2");
}

#[test]
fn a_folder_over_a_link_takes_nothing_away() {
    let base =
        Archive::new().npm("usr/lib/node_modules/a/package.json", "1.0.0").link("lib", "usr/lib");
    let over = Archive::new().folder("lib/").npm("lib/node_modules/b/package.json", "1.0.0");
    assert_eq!(told(&laid(vec![base, over])), ["a 1.0.0 from 0", "b 1.0.0 from 1"]);
}

#[test]
fn a_database_is_compared_with_the_one_before() {
    let stanza = |name: &str, version: &str| {
        format!(
            "Package: {name}\nStatus: install ok installed\nVersion: {version}\nArchitecture: amd64\n\n"
        )
    };
    let status = "var/lib/dpkg/status";
    let first = Archive::new()
        .file(status, &(stanza("ember", "1") + &stanza("bellows", "1") + &stanza("tongs", "1")))
        .file("usr/lib/os-release", "ID=emberfall\nVERSION_ID=12\n")
        .link("etc/os-release", "../usr/lib/os-release");
    // The new one stands before the others.
    let second = Archive::new()
        .file(status, &(stanza("anvil", "1") + &stanza("bellows", "2") + &stanza("ember", "1")));
    let third = Archive::new().file("etc/os-release", "ID=emberfall\nVERSION_ID=13\n");
    let inventory = laid(vec![first, second, third]);
    assert_eq!(
        told(&inventory),
        [
            "anvil 1 from 1",
            "bellows 2 from 1",
            "ember 1 from 0",
            "bellows 1 from 0 gone in 1 for 2",
            "tongs 1 from 0 gone in 1 for nothing",
        ]
    );
    assert_eq!(inventory.release.unwrap().version_id.as_deref(), Some("13"));
    // Without its file there is none of it.
    let file = Archive::new().file(status, &stanza("ember", "1"));
    let gone = laid(vec![file, Archive::new().gone("var/lib/dpkg/.wh.status")]);
    assert_eq!(told(&gone), ["ember 1 from 0 gone in 1 for nothing"]);
    // One file for each.
    let one = |name: &str| {
        Archive::new()
            .file(&format!("var/lib/dpkg/status.d/{name}"), "Package: ember\nVersion: 1\n")
    };
    assert_eq!(told(&laid(vec![one("ember"), one("ember.md5sums")])), ["ember 1 from 0"]);
}

#[test]
fn what_a_package_of_the_system_brought_is_its_own_until_somebody_changes_it() {
    let json = |version: &str| format!("{{\"name\":\"a\",\"version\":\"{version}\"}}");
    let md5 = |content: &str| content::hex(&content::md5(content.as_bytes()));
    let path = "usr/lib/node_modules/a/package.json";
    let sums = format!("{}  {path}\n", md5(&json("1.0.0")));
    let package = || {
        Archive::new()
            .file("var/lib/dpkg/info/ember.list", &format!("/.\n/{path}\n/bin/forge\n"))
            .file("var/lib/dpkg/info/ember.md5sums", &sums)
            .file(path, &json("1.0.0"))
    };
    let owner = |inventory: &ImageInventory| {
        let there = inventory.packages.iter().find(|one| one.removed.is_none()).unwrap();
        let owner = there.owner.clone().map(|owner| (owner.name, owner.is_altered));
        (owner, there.can_be_matched())
    };
    let ember = |is_altered| Some(("ember".to_owned(), is_altered));
    assert_eq!(owner(&laid(vec![package()])), (ember(false), false));
    // The same content again, as when only its mode was changed.
    let same = Archive::new().file(path, &json("1.0.0"));
    assert_eq!(owner(&laid(vec![package(), same])), (ember(false), false));
    let other = Archive::new().file(path, &json("1.0.1"));
    assert_eq!(owner(&laid(vec![package(), other])), (ember(true), true));
    // The package goes, and its file stays.
    let removed = Archive::new()
        .gone("var/lib/dpkg/info/.wh.ember.list")
        .gone("var/lib/dpkg/info/.wh.ember.md5sums");
    assert_eq!(owner(&laid(vec![package(), removed])), (None, true));
}

#[test]
fn links_and_archives_are_followed_within_bounds() {
    let target = "store/v3/node_modules/a/package.json";
    let layer = Archive::new().npm(target, "1.0.0").entry(
        tar::EntryType::Link,
        "app/node_modules/a/package.json",
        target,
        b"",
    );
    let inventory = laid(vec![layer]);
    assert_eq!(told(&inventory), ["a 1.0.0 from 0", "a 1.0.0 from 0"]);
    // To what a lower layer has, and to what nobody has read.
    let link = |to: &str| {
        Archive::new().entry(tar::EntryType::Link, "app/node_modules/a/package.json", to, b"")
    };
    let inventory = laid(vec![Archive::new().npm(target, "1.0.0"), link(target)]);
    assert_eq!(told(&inventory), ["a 1.0.0 from 1", "a 1.0.0 from 0"]);
    let inventory = laid(vec![link("store/0a1b")]);
    assert_eq!((inventory.packages.len(), inventory.unread.len()), (0, 1));
}

/// A source that breaks off.
struct Failing;
impl std::io::Read for Failing {
    fn read(&mut self, _to: &mut [u8]) -> std::io::Result<usize> {
        Err(std::io::ErrorKind::ConnectionReset.into())
    }
}

#[test]
fn what_is_not_read_is_told() {
    let limits = LayerLimits { bytes: 10_000, entries: 5, packages: 2, small: 100, large: 200 };
    let read = |archive: Archive| read_layer(&archive.bytes()[..], &limits).unwrap();
    let why = |facts: &LayerFacts| {
        facts.unread.iter().map(|one| format!("{}: {}", one.path, one.why)).collect::<Vec<_>>()
    };
    let large = read(Archive::new().file(A, &"x".repeat(101)));
    assert_eq!(why(&large), [format!("{A}: it has 101 bytes, and 100 are read")]);
    let many = (0..7).fold(Archive::new(), |all, number| all.file(&format!("f{number}"), "x"));
    let many = read(many);
    assert_eq!(many.entries, 5);
    assert!(why(&many)[0].contains("only its first 5 entries"), "{:?}", why(&many));
    let packages = (0..3).fold(Archive::new(), |all, number| {
        all.npm(&format!("node_modules/p{number}/package.json"), "1.0.0")
    });
    let packages = read(packages);
    assert_eq!((packages.packages.len(), packages.unread.len()), (2, 1));
    let bytes = base().bytes();
    let cut = read_layer(&bytes[..1200], &limits).unwrap();
    assert!(why(&cut)[0].contains("it ends in the middle"), "{:?}", why(&cut));
    let none = read_layer(
        &b"no archive at all, and longer than one block would be".repeat(20)[..],
        &limits,
    );
    assert_eq!(none.unwrap().unread.len(), 1);
    assert_eq!(read_layer(&b""[..], &limits).unwrap().unread, []);
    // Where the source fails, nothing may be kept.
    let failed = read_layer(std::io::Read::chain(&bytes[..700], Failing), &limits);
    assert_eq!(failed.unwrap_err().kind(), std::io::ErrorKind::ConnectionReset);
    let missing = compose(&[LayerOutcome::NotRead("gone".to_owned())]);
    assert_eq!(missing.unread.len(), 1);
}

#[test]
fn steps_are_given_to_layers_where_they_fit() {
    use crate::document::HistoryStep;
    let step = |command: &str, empty_layer: bool| HistoryStep {
        created: None,
        created_by: Some(command.to_owned()),
        comment: None,
        empty_layer,
    };
    let history = [step("ADD root", false), step("ENV A=b", true), step("RUN make", false)];
    let digests = [crate::digest::Digest::of(b"a"), crate::digest::Digest::of(b"b")];
    let layers = build_layers(digests.iter().map(|digest| (digest, 1)), &history);
    assert_eq!(layers[1].step.as_deref(), Some("RUN make"));
    let layers = build_layers(digests.iter().map(|digest| (digest, 1)), &history[..2]);
    assert!(layers.iter().all(|layer| layer.step.is_none()));
}

#[test]
fn two_images_are_compared() {
    use PackageChange::{Added, Down, Gone, Other, Up};
    let npm = |versions: &[(&str, &str)]| {
        laid(vec![versions.iter().fold(Archive::new(), |all, (name, version)| {
            all.npm(&format!("node_modules/{name}/package.json"), version)
        })])
    };
    let before = npm(&[
        ("same", "1.0.0"),
        ("up", "1.9.0"),
        ("down", "2.0.0"),
        ("gone", "1.0.0"),
        ("odd", "x"),
    ]);
    let after = npm(&[
        ("same", "1.0.0"),
        ("up", "1.10.0"),
        ("down", "1.0.0"),
        ("new", "1.0.0"),
        ("odd", "y"),
    ]);
    let changes = compare(&before, &after);
    let told: Vec<_> = changes
        .iter()
        .map(|one| {
            let package = one.after.or(one.before).unwrap();
            (&*package.package.name, one.change)
        })
        .collect();
    assert_eq!(told, [("down", Down), ("gone", Gone), ("new", Added), ("odd", Other), ("up", Up)]);
}

proptest::proptest! {
    #[test]
    fn no_layer_breaks_it(
        changes in proptest::collection::vec((0..8192_usize, proptest::prelude::any::<u8>()), 0..40),
    ) {
        let mut bytes = base().file("var/lib/dpkg/status", "Package: x").bytes();
        for (at, byte) in changes {
            let at = at % bytes.len();
            bytes[at] = byte;
        }
        let facts = read_layer(&bytes[..], &LayerLimits::default()).unwrap();
        let _inventory = compose(&[LayerOutcome::Read(std::sync::Arc::new(facts))]);
    }
}
