//! Cached shelves and what they cannot keep; what is only looked at; one allowance for all.

use larder_standin::{ImagePlan, image};

use crate::house::{House, OWN, small};
use crate::node::{ACCEPT, requests, serve, shelves, straight, wait_until};
use crate::serving::Serving;

/// An image with layers of so many bytes each.
fn large(name: &str, layer_size: usize) -> larder_standin::SampleImage {
    image(&ImagePlan { layer_size, ..ImagePlan::new(name) })
}

#[test]
fn an_image_larger_than_its_shelf_may_be_passes_through_and_empties_nothing() {
    let house = House::new();
    house.hold(&house.bazaar, "library/model", "1", &large("model", 2_000_000));
    let serving = serve(&house, "limit = \"400 KiB\"");
    let node = straight(&serving);
    node.pull("bazaar/library/kettle", "2").unwrap();
    // Every layer alone is more than the shelf may hold: it is verified on its way and not kept.
    for _ in 0..2 {
        house.bazaar.take_requests();
        node.pull("bazaar/library/model", "1").unwrap();
        let asked = requests(&house.bazaar);
        assert!(asked.iter().any(|(line, _)| line.contains("/blobs/")), "{asked:?}");
    }
    let shown = house.larder("--json shelf show bazaar").ends(0).json();
    assert!(shown["cache"]["size_bytes"].as_u64().unwrap() < 400 * 1024, "{}", shown["cache"]);
    house.bazaar.take_requests();
    node.pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(requests(&house.bazaar), [], "what fits has stayed");
    assert_eq!(house.unfinished(), 0);
}

#[test]
fn an_image_whose_layers_fit_one_by_one_and_not_together_passes_through_too() {
    let house = House::new();
    house.hold(&house.bazaar, "library/wide", "1", &large("wide", 600_000));
    let serving = serve(&house, "limit = \"400 KiB\"");
    let node = straight(&serving);
    node.pull("bazaar/library/kettle", "2").unwrap();
    let content = |house: &House| {
        let shown = house.larder("--json shelf show bazaar").ends(0).json();
        shown["cache"]["size_bytes"].as_u64().unwrap()
    };
    let before = content(&house);
    for _ in 0..2 {
        house.bazaar.take_requests();
        node.pull("bazaar/library/wide", "1").unwrap();
        let asked = requests(&house.bazaar);
        assert!(asked.iter().any(|(line, _)| line.contains("/blobs/")), "{asked:?}");
    }
    let grown = content(&house) - before;
    assert!(grown < 20_000, "its manifests are kept, and no layer: {grown}");
    assert_eq!(serving.stop("TERM"), 0);
    let refused = house.larder("shelf warm bazaar/library/wide:1");
    assert_ne!(refused.exit, 0);
    refused.says(&["larger than `limit`"]);
    assert!(content(&house) - before < 20_000);
    let serving = Serving::start(&house);
    house.bazaar.take_requests();
    straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(requests(&house.bazaar), [], "what fits has stayed");
}

#[test]
fn a_part_of_what_passes_through_is_given_too() {
    let house = House::new();
    let made = large("model", 2_000_000);
    house.hold(&house.bazaar, "library/model", "1", &made);
    let serving = serve(&house, "limit = \"400 KiB\"");
    let node = straight(&serving);
    node.pull("bazaar/library/model", "1").unwrap();
    let layer = made.documents[0].1.blobs().last().unwrap().digest.clone();
    let path = format!("/v2/bazaar/library/model/blobs/{layer}");
    let whole = serving.ask("GET", &path).body;
    let part =
        crate::serving::ask(serving.host(), "GET", &path, &[("range", "bytes=1000-2999")], b"");
    let part = part.unwrap();
    assert_eq!((part.status, &part.body[..]), (206, &whole[1000..3000]));
}

#[test]
fn a_full_disk_passes_through_what_it_cannot_keep() {
    let house = House::new();
    house.configure(&shelves(""));
    {
        let serving = Serving::start(&house);
        straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
        assert_eq!(serving.stop("TERM"), 0);
    }
    // As much is kept free as no disk has.
    let text = house.read("larder.toml");
    let full = text.replacen("[larder]\n", "[larder]\nreserve = \"1000 TiB\"\n", 1);
    assert_ne!(text, full);
    house.write("larder.toml", full);
    let serving = Serving::start(&house);
    let node = straight(&serving);
    let ready = serving.ask("GET", "/readyz");
    assert!(ready.text().contains("pushes are refused, pulls go on"), "{}", ready.text());
    for _ in 0..2 {
        house.bazaar.take_requests();
        node.pull("bazaar/library/brinedb", "5.2").unwrap();
        assert!(!requests(&house.bazaar).is_empty(), "nothing of it is kept");
    }
    house.bazaar.take_requests();
    node.pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(requests(&house.bazaar), [], "what is here is served from here");
    // A push is refused, with what works at this moment.
    let refused = serving.ask("POST", "/v2/vendor/x/blobs/uploads/");
    assert_eq!(refused.status, 507);
    assert!(refused.text().contains("larder shelf drop"), "{}", refused.text());
    let copied =
        house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2"));
    copied.ends(2).says(&["its reserve", "store collect --uploads"]);
}

#[test]
fn whoever_only_looks_has_no_layer_fetched() {
    let house = House::new();
    let serving =
        serve(&house, "platforms = [\"linux/amd64\", \"linux/arm64\"]\ncompanions = true");
    let node = straight(&serving);
    house.larder(&format!("look {}/bazaar/library/kettle:2", serving.host())).ends(0);
    node.get("HEAD", "bazaar/library/brinedb/manifests/5.2", ACCEPT).unwrap();
    let layers_of = |name: &str| -> Vec<String> {
        let made = larder_standin::image(&small(name));
        let layers = made.documents.iter().flat_map(|(_, document)| {
            let config = document.config().map(|config| config.digest.clone());
            document
                .blobs()
                .filter(move |blob| Some(&blob.digest) != config.as_ref())
                .collect::<Vec<_>>()
        });
        layers.map(|blob| blob.digest.to_string()).collect()
    };
    let of = |asked: &[(String, usize)], name: &str| {
        let layers = layers_of(name);
        let paths = layers.iter().map(|layer| format!("/library/{name}/blobs/{layer}"));
        paths.filter(|path| asked.iter().any(|(line, _)| line.contains(path.as_str()))).count()
    };
    // Who pulls has the other platform fetched ahead. What would have been fetched for who looked was asked for before.
    house.hold(&house.bazaar, "library/pulled", "1", &image(&small("pulled")));
    node.pull("bazaar/library/pulled", "1").unwrap();
    let mut asked = Vec::new();
    wait_until("all layers of what was pulled are fetched", || {
        asked.extend(requests(&house.bazaar));
        of(&asked, "pulled") == layers_of("pulled").len()
    });
    assert_eq!(of(&asked, "kettle"), 0, "{asked:?}");
    assert_eq!(of(&asked, "brinedb"), 0, "{asked:?}");
    // Who pulls has the other platform fetched ahead.
    node.pull("bazaar/library/kettle", "2").unwrap();
    wait_until("the other platform is fetched ahead", || {
        let shown = house.larder("--json shelf show bazaar/library/kettle:2").json();
        shown["images"][0]["platforms"].as_array().is_some_and(|all| all.len() >= 2)
    });
}

#[test]
fn one_allowance_is_spent_by_all_processes_together() {
    let house = House::new();
    house.configure(&shelves("recheck = \"1d\""));
    let text = house.read("larder.toml").replace(
        "host = \"bazaar.example\"\n",
        "host = \"bazaar.example\"\nallowance = { pulls = 5, per = \"6h\" }\n",
    );
    house.write("larder.toml", text);
    let serving = Serving::start(&house);
    // An index and two manifests: three of five.
    house.larder("shelf warm bazaar.example/library/kettle:2").ends(0);
    let node = straight(&serving);
    node.pull("bazaar/library/kettle", "2").unwrap();
    let spent: u64 = requests(&house.bazaar)
        .iter()
        .filter(|(line, _)| line.starts_with("GET") && line.contains("/manifests/"))
        .map(|(_, times)| *times as u64)
        .sum();
    assert!((2..=3).contains(&spent), "{spent}");
    let mut refused = 0;
    for name in ["brinedb:5.2", "ashlog:1.4", "pipewatch:0.9"] {
        let (name, tag) = name.split_once(':').unwrap();
        refused += usize::from(node.pull(&format!("bazaar/library/{name}"), tag).is_err());
    }
    assert!(refused >= 2, "{refused}");
    let all: u64 = requests(&house.bazaar)
        .iter()
        .filter(|(line, _)| line.starts_with("GET") && line.contains("/manifests/"))
        .map(|(_, times)| *times as u64)
        .sum();
    assert!(spent + all <= 5, "{} of 5", spent + all);
    let warmed = house.larder("shelf warm bazaar.example/library/brinedb:5.2");
    assert_ne!(warmed.exit, 0, "{}{}", warmed.out, warmed.err);
}

#[test]
fn an_answer_that_had_to_be_judged_counts_once() {
    let house = House::new();
    let serving = serve(
        &house,
        "recheck = \"1d\"\n\n[[rule]]\nname = \"no such\"\nverdict = \"deny\"\nbecause = \"no machine of ours\"\nasks = { platforms = [\"linux/riscv64\"] }",
    );
    // All counts of one answer are written down together.
    let counted = |least: u64| {
        let mut count = 0;
        wait_until("it is counted", || {
            let shown = house.larder("--json shelf show bazaar").ends(0).json();
            let cache = &shown["cache"];
            count = cache["hits"].as_u64().unwrap() + cache["misses"].as_u64().unwrap();
            count >= least
        });
        count
    };
    let node = straight(&serving);
    node.get("GET", "bazaar/library/kettle/manifests/2", ACCEPT).unwrap();
    assert_eq!(counted(1), 1);
    node.get("GET", "bazaar/library/kettle/manifests/2", ACCEPT).unwrap();
    assert_eq!(counted(2), 2);
}
