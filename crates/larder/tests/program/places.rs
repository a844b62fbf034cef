//! Where images come from and go to: several sources, another registry as the target.

use larder_core::reference::Selector;
use larder_standin::{FaultKind, Upstream, UpstreamPlan, image};

use crate::house::{House, small};

/// A second upstream that holds the same kettle.
fn spare(house: &House) -> Upstream {
    let spare = house.start(UpstreamPlan::default());
    house.hold(&spare, "copies/kettle", "2", &image(&small("kettle")));
    spare
}

const FROM_TWO: &str = r#"
[[intake]]
image = "bazaar.example/library/kettle"
from = ["bazaar.example/library/kettle", "spare.example/copies/kettle"]
tags = { exact = ["2"] }
to = "vendor/kettle"
"#;

#[test]
fn what_one_source_cannot_give_comes_from_the_next() {
    let house = House::new();
    let spare = spare(&house);
    house.configure(FROM_TWO);
    house.add_upstream("spare.example", &spare.endpoint(), "");
    house.bazaar.faults.add(None, "/", 99, FaultKind::Status(403, None));
    house.larder("intake lock").ends(0).says(&["new"]);
    house.bazaar.faults.clear();
    // The first gives the manifests, and blobs with wrong bytes: the digest tells.
    house.bazaar.faults.add(Some("GET"), "/blobs/", 999, FaultKind::Altered);
    spare.take_requests();
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
    assert!(spare.take_requests().keys().any(|line| line.contains("/blobs/")));
    house.larder("look larder.emberfall.example:5080/vendor/kettle:2").ends(0);

    // When all fail, all causes are told.
    std::fs::remove_dir_all(house.path("larder-data")).unwrap();
    spare.faults.add(None, "/", 999, FaultKind::Status(404, None));
    house
        .larder("intake run")
        .ends(4)
        .says(&["the content has the digest", "; then spare.example has no"]);
}

#[test]
fn sources_that_differ_are_told() {
    let house = House::new();
    let spare = house.start(UpstreamPlan::default());
    house.hold(&spare, "copies/kettle", "2", &image(&small("another kettle")));
    house.configure(FROM_TWO);
    house.add_upstream("spare.example", &spare.endpoint(), "");
    house.larder("intake lock").ends(0).says(&[
        "bazaar.example/library/kettle:2 is not the same everywhere",
        "spare.example/copies/kettle has sha256:",
    ]);
    assert!(house.read("larder.lock").contains(image(&small("kettle")).digest().as_str()));
}

#[test]
fn another_registry_can_be_the_target() {
    let house = House::new();
    let inner = house.start(UpstreamPlan::default());
    house.configure(
        "[[intake]]\nimage = \"bazaar.example/library/kettle\"\ntags = { exact = [\"2\"] }\nto = \"inner.example/vendor/kettle\"\n\n\
         [[intake]]\nimage = \"bazaar.example/library/ashlog\"\ntags = { exact = [\"1.4\"] }\nto = \"inner.example/vendor/ashlog\"\n",
    );
    house.add_upstream("inner.example", &inner.endpoint(), "");
    house.larder("intake lock").ends(0);
    house.larder("intake diff").ends(1).says(&["to be brought in"]);
    house.larder("intake run").ends(0).says(&["to inner.example/vendor/kettle:2"]);
    let (repository, tag) = ("vendor/kettle".parse().unwrap(), "2".parse().unwrap());
    let tag = Selector::Tag(tag);
    let held = house.runtime.block_on(inner.digest(&repository, &tag)).unwrap();
    assert_eq!(held.as_ref(), Some(image(&small("kettle")).digest()));
    house.larder("intake diff").ends(0).says(&["in place"]);

    // Nothing changed: one question for each image, and none to the upstream.
    inner.take_requests();
    house.bazaar.take_requests();
    house.larder("intake run").ends(0).says(&["nothing to do: 2 images locked"]);
    assert_eq!(inner.take_requests().values().sum::<usize>(), 2);
    assert!(house.bazaar.take_requests().is_empty());
    house.larder("intake status --json").ends(0).says(&["inner.example/vendor/ashlog:1.4"]);

    // What another repository of the registry has is mounted and not sent again.
    let text = house.read("larder.toml").replace("vendor/ashlog", "other/ashlog");
    house.write("larder.toml", text);
    let json = house.larder("intake run --json").ends(0).json();
    assert_eq!(json["blobs_copied"], 0, "{json}");
    let asked = inner.take_requests();
    assert!(asked.keys().all(|line| !line.starts_with("PATCH")), "{asked:?}");

    // Deployments are led there.
    house.write("deploy/kettle.yaml", "kind: Pod\napiVersion: v1\nspec:\n  containers:\n  - image: bazaar.example/library/kettle:2\n    name: a\n");
    house.larder("rewrite deploy/kettle.yaml").says(&["inner.example/vendor/kettle:2"]);

    // An index that lists what is not taken needs `trim` at registries that insist on all of it.
    let text = house.read("larder.toml").replace(
        "to = \"inner.example/vendor/kettle\"",
        "platforms = [\"linux/amd64\"]\nto = \"inner.example/part/kettle\"",
    );
    house.write("larder.toml", text.clone());
    house.larder("intake run").ends(3).says(&["cannot bring in", "trim = true"]);
    house.write("larder.toml", text.replace("platforms =", "trim = true\nplatforms ="));
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0).says(&["1 image brought in"]);
}
