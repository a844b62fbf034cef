//! Parcels of anything held, removals that cross the gap, and media.

use crate::house::OWN;
use crate::parcel::Gap;

#[test]
fn own_images_cross_the_gap_by_their_names_and_patterns() {
    let gap = Gap::new();
    let house = &gap.house;
    for (from, to) in [("kettle:2", "vendor/ours:1"), ("brinedb:5.2", "vendor/ours:2")] {
        house.larder(&format!("copy bazaar.example/library/{from} {OWN}/{to} --new-store")).ends(0);
    }
    gap.near("parcel pack parcel --held vendor/none")
        .ends(1)
        .says(&["holds nothing under vendor/none"]);
    gap.near("parcel pack parcel --held vendor --only x").ends(2);
    gap.near("parcel pack parcel --held vendor/ours:1 --dry-run")
        .ends(0)
        .says(&["would pack parcel: 1 image", "are free there"]);
    gap.near("parcel pack parcel --held vendor/ours").ends(0).says(&["2 images"]);
    gap.far("parcel unpack parcel --dry-run --new-store").ends(0).says(&[
        "would unpack vendor/ours:1",
        "it takes",
        "are free there",
    ]);
    gap.far("parcel unpack parcel --new-store").ends(0).says(&["vendor/ours:2"]);
    let digest = |run: crate::house::Run| run.json()["images"][0]["digest"].clone();
    let near = digest(gap.near("--json shelf show vendor/ours:1").ends(0));
    assert_eq!(near, digest(gap.far("--json shelf show vendor/ours:1").ends(0)));
    gap.far("store verify").ends(0);
}

#[test]
fn removals_cross_the_gap_and_are_taken_when_that_is_wished() {
    let gap = Gap::packed("");
    let house = &gap.house;
    gap.far("parcel unpack parcel --receipt back.receipt --new-store").ends(0);
    for image in ["kettle:2", "brinedb:5.2"] {
        house.larder(&format!("intake remove bazaar.example/library/{image}")).ends(0);
        house.larder(&format!("shelf drop vendor/{image} --yes")).ends(0);
    }
    house.larder("intake lock").ends(0);
    gap.near("parcel pack next --since back.receipt --removals")
        .ends(0)
        .says(&["2 tags were removed here"]);
    // Without a word they stay, and that is said; so does what is another image there by now.
    gap.far("parcel unpack next").ends(0).says(&[
        "vendor/kettle:2 was removed where the parcel was made, and stays: `--removals` takes it",
    ]);
    gap.far("shelf show vendor/kettle:2").ends(0);
    let there = "larder.turbine-hall.example/vendor";
    gap.far(&format!("copy {there}/ashlog:1.4 {there}/brinedb:5.2")).ends(0);
    gap.far("parcel unpack next --removals --dry-run").ends(0).says(&[
        "would remove vendor/kettle:2",
        "vendor/brinedb:5.2 was removed",
        "points to something else here",
    ]);
    gap.far("shelf show vendor/kettle:2").ends(0);
    gap.far("parcel unpack next --removals").ends(0).says(&["removed vendor/kettle:2"]);
    gap.far("shelf show vendor/kettle:2").ends(1);
    gap.far("shelf show vendor/brinedb:5.2").ends(0);
    gap.far("log --kind delete")
        .ends(0)
        .says(&["removed by a parcel signed by emberfall", "larder parcel unpack"]);
    // Twice does nothing more.
    let again = gap.far("parcel unpack next --removals").ends(0);
    assert!(!again.out.contains("removed vendor/kettle"), "{}", again.out);
    gap.far("parcel unpack next --removals --unsigned").ends(2);
    gap.near("parcel pack other --removals").ends(2).says(&["--since"]);
}

#[test]
fn a_parcel_is_cut_for_its_medium() {
    let gap = Gap::packed("--medium dvd");
    assert!(gap.house.path("parcel/parcel.tar").exists(), "it is smaller than one disc");
    gap.near("parcel pack other --medium floppy").ends(2).says(&["fat32, dvd"]);
    gap.near("parcel pack other --medium dvd --volume 1MiB").ends(2);
}
