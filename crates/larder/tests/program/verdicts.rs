//! What is kept of who signed an image: whatever changes is known with the next pull, and many pulls cost one look.

use std::thread;

use serde_json::{Value, json};

use crate::house::{House, OWN};
use crate::node::wait_until;
use crate::serving::{Answer, Serving, ask};

const TYPE: &str = "https://emberfall.example/approved/v1";

/// A signer of our own, with a key that is made for it.
pub fn signer(house: &House, name: &str) -> String {
    if !house.path(&format!("{name}.key")).exists() {
        house.larder(&format!("sign --new-key {name}.key")).ends(0);
    }
    format!(
        "[[signer]]\nname = \"{name}\"\nimages = [\"**\"]\nkeys = [\"{name}.pem\"]\nstatements = [\"{TYPE}\"]\nsign = {{ key = \"{name}.key\" }}\n\n"
    )
}

/// A rule by which everything on the shelf is signed by somebody.
pub fn rule(by: &str) -> String {
    format!(
        "[[shelf]]\nname = \"vendor\"\n\n[[rule]]\nname = \"signed\"\nimages = [\"{OWN}/vendor/**\"]\nverdict = \"deny\"\nbecause = \"ask Mara\"\nasks = {{ signed_by = [\"{by}\"] }}\n\n"
    )
}

/// A house with an image that is signed, and one that is not.
fn signed() -> House {
    let house = House::new();
    let ours = signer(&house, "approval");
    house.configure(&(rule("approval") + &ours));
    for name in ["kettle:2", "brinedb:5.2"] {
        house.larder(&format!("copy bazaar.example/library/{name} {OWN}/vendor/{name}")).ends(0);
    }
    sign(&house, "vendor/kettle:2");
    house
}

pub fn sign(house: &House, image: &str) {
    house.larder(&format!("sign {image} --as approval --because tried")).ends(0);
}

fn status(serving: &Serving, path: &str) -> u16 {
    serving.ask("GET", &format!("/v2/vendor/{path}")).status
}

/// The companion by which an image is signed.
fn companion(house: &House, image: &str) -> String {
    let told = house.larder(&format!("--json look --signatures {OWN}/{image}")).ends(0).json();
    told["signatures"][0]["companion"].as_str().unwrap().to_owned()
}

fn put(serving: &Serving, path: &str, kind: &str, body: &str) -> Answer {
    let kind = [("content-type", kind)];
    ask(serving.host(), "PUT", &format!("/v2/vendor/{path}"), &kind, body.as_bytes()).unwrap()
}

const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
const INDEX: &str = "application/vnd.oci.image.index.v1+json";

#[test]
fn fifty_clients_at_once_cost_one_look_and_so_does_whoever_comes_later() {
    let house = signed();
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replace("access = \"open\"", "access = \"open\"\nmetrics = \"127.0.0.1:0\""),
    );
    let serving = Serving::start(&house);
    let line = serving.said.iter().find(|line| line.contains("figures")).unwrap();
    let figures = line.split("http://").nth(1).unwrap().split('/').next().unwrap();
    let looked = || {
        let told = ask(figures, "GET", "/metrics", &[], b"").unwrap().text();
        let line = told.lines().find(|line| line.starts_with("larder_facts_gathered_total"));
        line.unwrap().rsplit(' ').next().unwrap().parse::<u64>().unwrap()
    };
    let all_at_once = |path: &str, wanted: u16| {
        thread::scope(|scope| {
            for _ in 0..50 {
                scope.spawn(|| assert_eq!(status(&serving, path), wanted));
            }
        });
    };
    all_at_once("kettle/manifests/2", 200);
    assert_eq!(looked(), 1);
    all_at_once("kettle/manifests/2", 200);
    assert_eq!(looked(), 1, "what is known is kept");
    // A refusal is kept too, and told with its reason each time.
    all_at_once("brinedb/manifests/5.2", 403);
    assert_eq!(looked(), 2);
    let refused = serving.ask("GET", "/v2/vendor/brinedb/manifests/5.2").text();
    assert!(refused.contains("approval has not signed it"), "{refused}");
    assert_eq!(looked(), 2);
}

#[test]
fn what_is_removed_revoked_or_replaced_is_known_with_the_next_pull() {
    let house = signed();
    let serving = Serving::start(&house);
    let kettle = || status(&serving, "kettle/manifests/2");
    assert_eq!((kettle(), kettle()), (200, 200));
    // The companion is removed, and comes again by another process.
    let companion = companion(&house, "vendor/kettle:2");
    let path = format!("/v2/vendor/kettle/manifests/{companion}");
    assert_eq!(serving.ask("DELETE", &path).status, 202);
    assert_eq!((kettle(), kettle()), (403, 403));
    sign(&house, "vendor/kettle:2");
    assert_eq!(kettle(), 200);
    // The key is revoked.
    let good = house.read("larder.toml");
    let revoked = good.replace("keys = [\"approval.pem\"]", "revoked = [\"approval.pem\"]");
    let revoked = revoked.replace("sign = { key = \"approval.key\" }\n", "");
    house.write("larder.toml", revoked);
    serving.signal("HUP");
    wait_until("the key is revoked", || kettle() == 403);
    let refused = serving.ask("GET", "/v2/vendor/kettle/manifests/2").text();
    assert!(refused.contains("revoked"), "{refused}");
    house.write("larder.toml", good.clone());
    serving.signal("HUP");
    wait_until("the key is good again", || kettle() == 200);
    // The file itself is another now: it is noticed without a signal.
    house.larder("sign --new-key other.key").ends(0);
    house.write("approval.pem", house.read("other.pem"));
    wait_until("the file of the key is noticed", || kettle() == 403);
    // The image is withdrawn.
    house.write("approval.pem", house.larder("sign --show-key approval.key").ends(0).out);
    wait_until("the old file is back", || kettle() == 200);
    let digest = house.larder(&format!("--json look {OWN}/vendor/kettle:2")).ends(0).json();
    let digest = digest["digest"].as_str().unwrap().to_owned();
    house.write("larder.toml", format!("{good}\n[trust]\nwithdrawn = [\"{digest}\"]\n"));
    serving.signal("HUP");
    wait_until("it is withdrawn", || kettle() == 403);
    let refused = serving.ask("GET", "/v2/vendor/kettle/manifests/2").text();
    assert!(refused.contains("withdrawn"), "{refused}");
}

#[test]
fn a_tag_that_moves_between_two_requests_is_asked_for_what_it_is_now() {
    let house = signed();
    let serving = Serving::start(&house);
    let head = || serving.ask("HEAD", "/v2/vendor/kettle/manifests/2").status;
    assert_eq!((head(), head()), (200, 200));
    house.larder(&format!("copy bazaar.example/library/ashlog:1.4 {OWN}/vendor/kettle:2")).ends(0);
    assert_eq!(status(&serving, "kettle/manifests/2"), 403);
    assert_eq!(head(), 403);
    sign(&house, "vendor/kettle:2");
    assert_eq!(status(&serving, "kettle/manifests/2"), 200);
}

#[test]
fn a_tag_that_is_flipped_all_the_time_gives_nobody_what_is_not_signed() {
    let house = signed();
    house
        .larder(&format!("copy bazaar.example/library/ashlog:1.4 {OWN}/vendor/kettle:other"))
        .ends(0);
    let unruled = house.read("larder.toml").replace("verdict = \"deny\"", "verdict = \"allow\"");
    house.write("open.toml", unruled);
    let path = |tag: &str| format!("/v2/vendor/kettle/manifests/{tag}");
    let open = Serving::spawn(
        house.command("serve --listen 127.0.0.1:0 --config open.toml"),
        house.path("open.log"),
    );
    let of = |tag: &str| {
        let answer = open.ask("GET", &path(tag));
        (answer.header("content-type").unwrap().to_owned(), answer.body)
    };
    let (good, bad) = (of("2"), of("other"));
    assert_eq!(open.stop("TERM"), 0);
    let serving = Serving::start(&house);
    let digest = larder_core::digest::Digest::of(&good.1);
    let is_over = std::sync::atomic::AtomicBool::new(false);
    let given = std::sync::atomic::AtomicUsize::new(0);
    thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                while !is_over.load(std::sync::atomic::Ordering::Relaxed) {
                    let answer = serving.ask("GET", &path("2"));
                    if answer.status == 200 {
                        assert_eq!(larder_core::digest::Digest::of(&answer.body), digest);
                        given.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                    }
                }
            });
        }
        for turn in 0..120 {
            let (kind, body) = if turn % 2 == 0 { &bad } else { &good };
            let body = std::str::from_utf8(body).unwrap();
            assert_eq!(put(&serving, "kettle/manifests/2", kind, body).status, 201);
        }
        is_over.store(true, std::sync::atomic::Ordering::Relaxed);
    });
    assert_eq!(serving.ask("GET", &path("2")).status, 200, "the signed one was pushed last");
    assert!(given.into_inner() > 0, "nobody got anything");
}

#[test]
fn a_list_that_lost_an_entry_to_another_pusher_hides_no_signature() {
    let house = signed();
    let serving = Serving::start(&house);
    let shown = house.larder(&format!("--json look {OWN}/vendor/kettle:2")).ends(0).json();
    let tag = shown["digest"].as_str().unwrap().replace(':', "-");
    // Whoever writes the list last by the tag's scheme may not know of the other's signature.
    let empty = json!({ "schemaVersion": 2, "mediaType": INDEX, "manifests": [] }).to_string();
    assert_eq!(put(&serving, &format!("kettle/manifests/{tag}"), INDEX, &empty).status, 201);
    assert_eq!(status(&serving, "kettle/manifests/2"), 200);
}

#[test]
fn one_good_signature_counts_behind_a_hundred_notes_and_broken_ones() {
    let house = House::new();
    let ours = signer(&house, "approval");
    house.configure(&(rule("approval") + &ours));
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2")).ends(0);
    let serving = Serving::start(&house);
    let shown = house.larder(&format!("--json look {OWN}/vendor/kettle:2")).ends(0).json();
    let digest = shown["digest"].as_str().unwrap();
    let blob = |bytes: &[u8]| {
        let digest = larder_core::digest::Digest::of(bytes);
        let path = format!("/v2/vendor/kettle/blobs/uploads/?digest={digest}");
        let kind = [("content-type", "application/octet-stream")];
        let put = ask(serving.host(), "POST", &path, &kind, bytes).unwrap();
        assert_eq!(put.status, 201, "{}", put.text());
        json!({ "digest": digest.as_str(), "size": bytes.len() })
    };
    let mut config = blob(b"{}");
    config["mediaType"] = "application/vnd.oci.empty.v1+json".into();
    let broken: [&[u8]; 3] =
        [b"{", b"{\"payloadType\":\"x\",\"payload\":\"\",\"signatures\":[]}", b"[]"];
    let layers: Vec<Value> = broken.into_iter().map(blob).collect();
    for number in 0..110 {
        let mut layer = layers[number % 3].clone();
        let is_envelope = number % 2 == 0;
        let kind = if is_envelope { "application/vnd.dsse.envelope.v1+json" } else { "text/plain" };
        layer["mediaType"] = kind.into();
        let note = json!({
            "schemaVersion": 2, "mediaType": MANIFEST, "artifactType": "text/x-signature",
            "config": config, "layers": [layer],
            "subject": { "mediaType": INDEX, "digest": digest, "size": 1 },
            "annotations": { "note": number.to_string() },
        });
        let note = note.to_string();
        let named = larder_core::digest::Digest::of(note.as_bytes());
        assert_eq!(
            put(&serving, &format!("kettle/manifests/{named}"), MANIFEST, &note).status,
            201
        );
    }
    let refused = serving.ask("GET", "/v2/vendor/kettle/manifests/2");
    assert_eq!(refused.status, 403);
    assert!(refused.text().contains("that do not count"), "{}", refused.text());
    sign(&house, "vendor/kettle:2");
    assert_eq!(status(&serving, "kettle/manifests/2"), 200);
}

#[test]
fn who_may_push_can_sign_in_nobodys_name_but_their_own() {
    let house = House::new();
    let (ours, theirs) = (signer(&house, "approval"), signer(&house, "stranger"));
    house.configure(&(rule("approval") + &theirs));
    // They write the larder's store itself, with a key of their own.
    house.configure(&(rule("stranger") + &theirs));
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2")).ends(0);
    house.larder("sign vendor/kettle:2 --as stranger --because tried").ends(0);
    house.configure(&(rule("approval") + &ours));
    let serving = Serving::start(&house);
    let refused = serving.ask("GET", "/v2/vendor/kettle/manifests/2");
    assert_eq!(refused.status, 403);
    assert!(refused.text().contains("by a key that nobody named"), "{}", refused.text());
    drop(serving);
    // Named as another signer, they are still not the one that is asked for.
    house.configure(&(rule("approval") + &ours + &theirs));
    let serving = Serving::start(&house);
    let refused = serving.ask("GET", "/v2/vendor/kettle/manifests/2");
    assert_eq!(refused.status, 403);
    sign(&house, "vendor/kettle:2");
    assert_eq!(status(&serving, "kettle/manifests/2"), 200);
}

#[test]
fn a_withdrawn_index_vouches_for_nothing_that_it_lists() {
    let house = signed();
    let serving = Serving::start(&house);
    let index: Value =
        serde_json::from_slice(&serving.ask("GET", "/v2/vendor/kettle/manifests/2").body).unwrap();
    let child = index["manifests"][0]["digest"].as_str().unwrap().to_owned();
    let child = format!("kettle/manifests/{child}");
    assert_eq!(status(&serving, &child), 200, "its index is signed");
    let shown = house.larder(&format!("--json look {OWN}/vendor/kettle:2")).ends(0).json();
    let digest = shown["digest"].as_str().unwrap();
    let good = house.read("larder.toml");
    house.write("larder.toml", format!("{good}\n[trust]\nwithdrawn = [\"{digest}\"]\n"));
    serving.signal("HUP");
    wait_until("its index is withdrawn", || status(&serving, &child) == 403);
}

#[test]
fn a_cached_shelf_fetches_what_was_signed_and_goes_on_when_its_upstream_is_gone() {
    // The upstream is a larder of somebody else, in which one image is signed by reference, one under a tag, one not.
    let theirs = signed();
    let small = "copy bazaar.example/library/ashlog:1.4";
    theirs.larder(&format!("{small} {OWN}/vendor/ashlog:1.4")).ends(0);
    theirs.larder("sign vendor/ashlog:1.4 --as approval --because tried --small").ends(0);
    let open = theirs.read("larder.toml");
    let open = &open[..open.find("[[rule]]").unwrap()];
    theirs.write("larder.toml", open);
    let upstream = Serving::start(&theirs);
    // By reference nothing is left of the second.
    let shown = theirs.larder(&format!("--json look {OWN}/vendor/ashlog:1.4")).ends(0).json();
    let digest = shown["digest"].as_str().unwrap();
    let path = format!("/v2/vendor/ashlog/referrers/{digest}");
    let list: Value = serde_json::from_slice(&upstream.ask("GET", &path).body).unwrap();
    for one in list["manifests"].as_array().unwrap() {
        let path = format!("/v2/vendor/ashlog/manifests/{}", one["digest"].as_str().unwrap());
        assert_eq!(upstream.ask("DELETE", &path).status, 202);
    }

    let house = House::new();
    for half in ["approval.key", "approval.pem"] {
        house.write(half, theirs.read(half));
    }
    let signer = format!(
        "[[signer]]\nname = \"them\"\nimages = [\"{OWN}/**\", \"them.example/**\"]\nkeys = [\"approval.pem\"]\nstatements = [\"{TYPE}\"]\nsigned_as = [\"{OWN}/**\"]\n\n"
    );
    house.configure(&format!(
        "[[shelf]]\nname = \"theirs\"\ncaches = \"them.example\"\n\n[[class]]\nname = \"vetted\"\nmatch = [\"them.example/**\"]\n\n[[rule]]\nname = \"signed\"\nclasses = [\"vetted\"]\nverdict = \"deny\"\nbecause = \"ask them\"\nasks = {{ signed_by = [\"them\"] }}\n\n{signer}"
    ));
    house.add_upstream("them.example", &upstream.address, "");
    let serving = Serving::start(&house);
    let get = |path: &str| serving.ask("GET", &format!("/v2/theirs/vendor/{path}"));
    for (path, wanted) in [
        ("kettle/manifests/2", 200),
        ("ashlog/manifests/1.4", 200),
        ("brinedb/manifests/5.2", 403),
        ("kettle/manifests/2", 200),
    ] {
        let answer = get(path);
        assert_eq!(answer.status, wanted, "{path}: {}", answer.text());
    }
    assert_eq!(upstream.stop("TERM"), 0);
    for (path, wanted) in
        [("kettle/manifests/2", 200), ("ashlog/manifests/1.4", 200), ("brinedb/manifests/5.2", 403)]
    {
        let answer = get(path);
        assert_eq!(answer.status, wanted, "{path}: {}", answer.text());
    }
}
