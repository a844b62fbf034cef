//! Quotas: of a shelf, of each repository, of each account.

use larder_core::digest::Digest;
use larder_standin::{ImagePlan, image};

use crate::house::{House, OWN, small};
use crate::serving::{Answer, Serving, ask};

const OCTETS: [(&str, &str); 1] = [("content-type", "application/octet-stream")];

fn put_blob(serving: &Serving, repository: &str, content: &[u8]) -> Answer {
    let begun = serving.ask("POST", &format!("/v2/{repository}/blobs/uploads/"));
    assert_eq!(begun.status, 202, "{}", begun.text());
    let at = begun.header("location").unwrap();
    let path = format!("{at}?digest={}", Digest::of(content));
    ask(serving.host(), "PUT", &path, &OCTETS, content).unwrap()
}

fn content(seed: u8, bytes: usize) -> Vec<u8> {
    (0..=250_u8).cycle().take(bytes).map(|byte| byte ^ seed).collect()
}

#[test]
fn a_push_that_passes_a_quota_is_refused_and_keeps_nothing() {
    let house = House::new();
    house.configure(
        "[[shelf]]\nname = \"own\"\nquota = { shelf = \"300 KiB\", repository = \"200 KiB\" }\n",
    );
    let serving = Serving::start(&house);
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/own/kettle:2")).ends(0);
    assert_eq!(put_blob(&serving, "own/a", &content(1, 150_000)).status, 201);
    // Announced: before a byte is read. The largest and the longest unpulled are named.
    let refused = put_blob(&serving, "own/a", &content(2, 100_000));
    assert_eq!(refused.status, 403, "{}", refused.text());
    for words in ["the quota of the repository own/a is 200.0 KiB", "do not fit"] {
        assert!(refused.text().contains(words), "{}", refused.text());
    }
    let refused = put_blob(&serving, "own/b", &content(3, 199_000));
    assert_eq!(refused.status, 403, "{}", refused.text());
    let words =
        ["the quota of the shelf own is 300.0 KiB", "The largest there: own/kettle:2", "(never)"];
    for words in words {
        assert!(refused.text().contains(words), "{}", refused.text());
    }
    // At the byte that passes it, where no length is announced.
    let chunks: Vec<Vec<u8>> = (0..8).map(|n| content(10 + n, 50_000)).collect();
    let begun = serving.ask("POST", "/v2/own/c/blobs/uploads/");
    let at = begun.header("location").unwrap().to_owned();
    let mut last = 0;
    let mut taken = 0;
    for chunk in &chunks {
        last = ask(serving.host(), "PATCH", &at, &OCTETS, chunk).unwrap().status;
        if last != 202 {
            break;
        }
        taken += 1;
    }
    assert_eq!(last, 403, "the upload ends at the chunk that passes the quota");
    assert!(taken > 0);
    assert_eq!(serving.ask("GET", &at).status, 404, "nothing of it is kept");
    assert_eq!(house.unfinished(), 0);
    // The same content again, and what the shelf has already, take nothing.
    assert_eq!(put_blob(&serving, "own/a", &content(1, 150_000)).status, 201);
    let mount =
        format!("/v2/own/d/blobs/uploads/?mount={}&from=own/a", Digest::of(&content(1, 150_000)));
    let listed = house.larder("--json shelf list").ends(0).json();
    let shelf = &listed["shelves"][0];
    assert_eq!(shelf["quota_bytes"], 300 * 1024);
    assert_eq!(shelf["repository_quota_bytes"], 200 * 1024);
    assert!(shelf["quota_used_bytes"].as_u64().unwrap() >= 150_000);
    house.larder("shelf list").ends(0).says(&["QUOTA", "% of 300.0 KiB"]);
    // It is no image's yet, so the shelf does not know that it holds it: another copy counts.
    assert_eq!(serving.ask("POST", &mount).status, 403);
    // What is copied or brought in is held to the quota of the shelf as well.
    let large = standin_image(20_000);
    house.hold(&house.ventworks, "gauges/large", "1", &large);
    house.larder(&format!("copy ventworks.example/gauges/large:1 {OWN}/own/kettle:large")).ends(0);
    let larger = standin_image(140_000);
    house.hold(&house.ventworks, "gauges/larger", "1", &larger);
    house
        .larder(&format!("copy ventworks.example/gauges/larger:1 {OWN}/own/larger:1"))
        .ends(1)
        .says(&["the quota of the shelf own is 300.0 KiB", "larder shelf tidy"]);
    // Raised while it serves.
    let text = house.read("larder.toml").replace("300 KiB", "900 KiB");
    house.write("larder.toml", text);
    serving.signal("HUP");
    let raised = (0..100).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(50));
        put_blob(&serving, "own/b", &content(3, 199_000)).status == 201
    });
    assert!(raised, "{}", serving.log());
}

fn standin_image(bytes: usize) -> larder_standin::SampleImage {
    let plan = ImagePlan { layer_size: bytes, own: 1, ..small("large") };
    image(&plan.for_platforms(&["linux/amd64"]))
}

#[test]
fn an_account_has_a_quota_of_what_it_pushed() {
    let house = House::new();
    house.configure(
        "[[shelf]]\nname = \"own\"\nquota = { account = \"100 KiB\" }\n\n\
         [[account]]\nname = \"ci\"\npush = [\"own/**\"]\npull = [\"own/**\"]\n\n\
         [[account]]\nname = \"bench\"\npush = [\"own/b\"]\n",
    );
    let text = house.read("larder.toml").replace("access = \"open\"", "access = \"grants\"");
    house.write("larder.toml", text);
    let key = |name: &str| format!("{name}:{}", house.issue(&format!("--account {name}")));
    house
        .larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/own/seen:1 --new-store"))
        .ends(0);
    let (ci, bench) = (key("ci"), key("bench"));
    let serving = Serving::start(&house);
    let put = |who: &str, repository: &str, content: &[u8]| {
        use base64::Engine as _;
        let login = base64::engine::general_purpose::STANDARD.encode(who);
        let login = format!("Basic {login}");
        let signed = [("authorization", login.as_str()), OCTETS[0]];
        let path = format!("/v2/{repository}/blobs/uploads/?digest={}", Digest::of(content));
        ask(serving.host(), "POST", &path, &signed, content).unwrap()
    };
    assert_eq!(put(&ci, "own/a", &content(1, 60_000)).status, 201);
    let refused = put(&ci, "own/b", &content(2, 60_000));
    assert_eq!(refused.status, 403, "{}", refused.text());
    assert!(refused.text().contains("the quota of ci in the shelf own is 100.0 KiB"));
    assert!(refused.text().contains("The largest there: own/seen:1"), "{}", refused.text());
    // What an account may not pull is not named to it either.
    let refused = put(&bench, "own/b", &content(3, 120_000));
    assert_eq!(refused.status, 403, "{}", refused.text());
    assert!(!refused.text().contains("own/seen"), "{}", refused.text());
    assert_eq!(put(&bench, "own/b", &content(2, 60_000)).status, 201, "each has its own");
    let listed = house.larder("--json shelf list").ends(0).json();
    assert_eq!(listed["accounts"].as_array().unwrap().len(), 2);
    assert_eq!(listed["accounts"][0]["size_bytes"], 60_000);
    house.larder("shelf list").ends(0).says(&["ci holds 58.6 KiB of 100.0 KiB in own"]);
}

#[test]
fn a_quota_that_cannot_be_is_refused() {
    let house = House::new();
    for (text, words) in [
        ("quota = \"much\"", "not a size"),
        ("quota = 5", "a size such as \"40 GiB\""),
        ("quota = {}", "says one of `shelf`, `repository` and `account`"),
        ("quota = { shelves = \"1 GiB\" }", "shelves"),
    ] {
        house.configure(&format!("[[shelf]]\nname = \"own\"\n{text}\n"));
        house.larder("check").ends(2).says(&[words]);
    }
    house.configure("[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\nquota = \"1 GiB\"\n");
    house.larder("check").ends(2).says(&["`quota` is for shelves that store", "has `limit`"]);
}
