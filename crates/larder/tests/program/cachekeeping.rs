//! Cached shelves in the operator's hands: what is shown, fetched ahead, kept and let go of.

use larder_standin::{FaultKind, image};

use crate::house::{House, OWN, small};
use crate::node::{requests, serve, shelves, straight, wait_until};
use crate::serving::{Serving, ask};

#[test]
fn a_cached_shelf_tells_what_it_did() {
    let house = House::new();
    house.configure(&shelves("keep = \"14d\"\nrecheck = \"0s\"\nlimit = \"1 GiB\""));
    house.larder("shelf show bazaar").ends(2).says(&["there is no store in it"]);
    let serving = Serving::start(&house);
    house.larder("shelf show bazaar").ends(0).says(&["nothing was pulled from it yet"]);
    straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("moved")));
    straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(serving.stop("TERM"), 0);
    let shown = house.larder("shelf show bazaar").ends(0);
    shown.says(&[
        "bazaar caches bazaar.example, only library/**",
        " fetched (",
        " saved",
        "of 1.0 GiB; kept for 14d after the last pull",
        "answered",
        "moved     bazaar/library/kettle:2",
        "GOES IN",
        " days",
    ]);
    let json = house.larder("shelf show bazaar --json").ends(0).json();
    let cache = &json["cache"];
    assert!(cache["hits"].as_u64().unwrap() > 5, "{cache}");
    assert!(cache["misses"].as_u64().unwrap() >= 6, "{cache}");
    assert!(cache["sent_bytes"].as_u64() > cache["fetched_bytes"].as_u64(), "{cache}");
    assert_eq!(cache["moves"].as_array().unwrap().len(), 1);
    assert_eq!(cache["upstream"]["condition"], "well");
    let images = json["images"].as_array().unwrap();
    assert_eq!(images.len(), 1, "the one with a tag: {images:?}");
    assert!(images[0]["expires_at"].is_string() && images[0]["confirmed_at"].is_string());
    // One image of it is shown as any other.
    house.larder("shelf show bazaar/library/kettle:2").ends(0).says(&["CONFIRMED"]);
    house.larder("shelf list").ends(0).says(&["bazaar"]);
    // An operator removes with a preview; clients cannot.
    house.larder("shelf drop bazaar/library/kettle:2").ends(0);
    let empty = house.larder("shelf show bazaar --json").ends(0).json();
    assert!(empty["images"].as_array().unwrap().is_empty());
}

#[test]
fn images_are_fetched_before_anybody_asks() {
    let house = House::new();
    house.configure(&shelves("platforms = [\"linux/amd64\"]"));
    let dry = house.larder("shelf warm bazaar.example/library/kettle:2 --dry-run").ends(0);
    dry.says(&["bazaar/library/kettle:2", "1 image would be fetched"]);
    assert_eq!(requests(&house.bazaar), []);
    let warm = "shelf warm kettle:2 bazaar/library/brinedb:5.2";
    house.larder(warm).ends(0).says(&["2 manifests, 4 blobs", "brinedb:5.2"]);
    house.larder(warm).ends(0).says(&["was here already"]);
    // Nobody has asked for anything yet.
    let shelf = house.larder("shelf show bazaar --json").ends(0).json();
    let cached = &shelf["cache"];
    assert_eq!((cached["hits"].as_u64(), cached["misses"].as_u64()), (Some(0), Some(0)), "{shelf}");
    // A tag that has moved is believed until its time is over, unless the upstream is asked again.
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("another kettle")));
    house.larder("shelf warm kettle:2").ends(0).says(&["was here already"]);
    let anew = house.larder("shelf warm kettle:2 --anew --json").ends(0).json();
    assert_eq!(anew["images"][0]["digest"], image(&small("another kettle")).digest().as_str());
    house.hold(&house.bazaar, "library/kettle", "2", &image(&small("kettle")));
    house.larder("shelf warm kettle:2 --anew").ends(0);
    let survey = house.larder("shelf warm --from-survey deploy --json").json();
    let images = survey["images"].as_array().unwrap();
    assert!(images.iter().any(|one| one["image"] == "bazaar/library/kettle:2"), "{survey}");
    // The upstream is gone: the warmed platform is served all the same.
    house.bazaar.faults.add(None, "/v2/", 10_000, FaultKind::Status(503, None));
    let serving = Serving::start(&house);
    straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    straight(&serving).pull("bazaar/library/brinedb", "5.2").unwrap();
    house
        .larder("shelf warm elsewhere.example/x/y:1")
        .ends(2)
        .says(&["it lies on no cached shelf; they cache: bazaar.example, ventworks.example"]);
    house.larder("shelf warm bazaar/community/pipewatch:1").ends(3).says(&["reaches only"]);
    house.larder("shelf warm kettle:9").ends(3).says(&["failed: bazaar/library/kettle:9"]);
    house.larder("shelf warm").ends(2);
    house.configure("");
    house.larder("shelf warm kettle:2").ends(2).says(&["they cache: nothing"]);
}

#[test]
fn deployments_are_led_to_a_cached_shelf() {
    let house = House::new();
    house.configure(&shelves(""));
    let survey = house.larder("survey deploy --json");
    let found = survey.json();
    let rows = found["references"].as_array().unwrap();
    let kettle = rows.iter().find(|row| row["reference"].as_str().unwrap().contains("kettle"));
    let kettle = kettle.unwrap();
    assert_eq!(kettle["standing"], "cached", "{kettle}");
    assert_eq!(kettle["target"], format!("{OWN}/bazaar/library/kettle:2"));
    let text = "apiVersion: v1\nkind: Pod\nmetadata: {name: k}\nspec: {containers: [{name: k, image: kettle:2}]}\n";
    let rewritten = house.larder_reads("rewrite -", text).ends(0);
    assert!(rewritten.out.contains(&format!("image: {OWN}/bazaar/library/kettle:2")));
    let again = house.larder_reads("rewrite -", &rewritten.out).ends(0);
    assert_eq!(again.out, rewritten.out);
}

#[test]
fn what_nobody_pulls_goes_and_what_is_pinned_stays() {
    let house = House::new();
    let serving = serve(&house, "keep = \"6s\"\npin = [\"library/brinedb\"]");
    let node = straight(&serving);
    for (name, tag) in [("kettle", "2"), ("brinedb", "5.2"), ("ashlog", "1.4")] {
        node.pull(&format!("bazaar/library/{name}"), tag).unwrap();
    }
    // As long as it is asked for it stays.
    let held = |name: &str| {
        let shown = house.larder("shelf show bazaar --json").json();
        shown["images"]
            .as_array()
            .unwrap()
            .iter()
            .any(|one| one["repository"].as_str().unwrap().ends_with(name))
    };
    wait_until("the unpulled one goes", || {
        node.get_tag("bazaar/library/kettle", "2");
        !held("ashlog")
    });
    assert!(held("kettle") && held("brinedb"));
    assert!(serving.log().contains("evict an image"), "{}", serving.log());
    // What went comes again when somebody asks.
    node.pull("bazaar/library/ashlog", "1.4").unwrap();
    assert_eq!(serving.stop("TERM"), 0);
    house.larder("store verify").ends(0);
}

#[test]
fn upstreams_in_trouble_are_told_of() {
    let house = House::new();
    house.configure(&shelves("recheck = \"0s\""));
    let text = house.read("larder.toml");
    let with = "access = \"open\"\nmetrics = \"127.0.0.1:0\"";
    let with = text.replace("access = \"open\"", with).replace(
        "host = \"bazaar.example\"\n",
        "host = \"bazaar.example\"\nallowance = { pulls = 3, per = \"6h\" }\n",
    );
    house.write("larder.toml", with);
    let serving = Serving::start(&house);
    let told = serving.said.iter().find_map(|line| line.split_once("figures http://"));
    let figures = told.unwrap().1.trim_end_matches("/metrics").to_owned();
    let node = straight(&serving);
    node.pull("bazaar/library/kettle", "2").unwrap();
    // Two of three are spent; the third is for one manifest of the next.
    node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    let spent = node.pull("bazaar/library/ashlog", "1.4").unwrap_err();
    assert!(spent.contains("503") && spent.contains("is used up"), "{spent}");
    node.pull("bazaar/library/kettle", "2").unwrap();
    house.bazaar.faults.add(None, "/v2/", 1, FaultKind::Status(429, Some(1800)));
    house.bazaar.faults.add(None, "/v2/", 100, FaultKind::Status(429, Some(1800)));
    node.pull("bazaar/library/kettle", "2").unwrap();
    wait_until("the figures tell", || {
        let answer = ask(&figures, "GET", "/metrics", &[], b"").unwrap().text();
        answer.contains("larder_upstream_available{host=\"bazaar.example\"} 0")
            && answer.contains("larder_upstream_pulls_left{host=\"bazaar.example\"} 0")
            && answer.contains("larder_cache_answers_total{outcome=\"hit\",shelf=\"bazaar\"}")
    });
    house.bazaar.faults.clear();
    assert_eq!(serving.stop("TERM"), 0);
    let check = house.larder("check").ends(0);
    check.says(&[" minutes, 0 pulls left"]);
    let json = house.larder("check --json").json();
    let bazaar = &json["upstreams"].as_array().unwrap()[0];
    assert_eq!(bazaar["cached"]["condition"], "limited", "{bazaar}");
    // A new process knows what was pulled before.
    let serving = Serving::start(&house);
    let spent = straight(&serving).pull("bazaar/library/ashlog", "1.4").unwrap_err();
    assert!(spent.contains("is used up"), "{spent}");
}

#[test]
fn wrong_configurations_of_shelves_are_told() {
    let house = House::new();
    for (shelf, words) in [
        ("caches = \"bazar\"", &["no [[upstream]] has the name `bazar`", "write \"bazaar\""][..]),
        ("keep = \"14d\"", &["`keep` goes with `caches`; this shelf stores"]),
        ("caches = \"bazaar\"\nsparse = true", &["`sparse` is for shelves that store"]),
        ("caches = \"bazaar\"\nkeep = \"14\"", &["is not a span of time"]),
        ("caches = \"bazaar\"\nlimit = \"much\"", &["is not a size"]),
        ("caches = \"bazaar\"\nonly = [\"a[\"]", &["`a[` is not a pattern"]),
    ] {
        house.configure(&format!("[[shelf]]\nname = \"bazaar\"\n{shelf}\n"));
        house.larder("check --offline").ends(2).says(words);
    }
    house.configure(
        "[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\n\n[[intake]]\nimage = \"bazaar.example/library/kettle\"\ntags = { exact = [\"2\"] }\nto = \"bazaar/kettle\"\n",
    );
    house.larder("check --offline").ends(2).says(&["the shelf `bazaar` caches"]);
}
