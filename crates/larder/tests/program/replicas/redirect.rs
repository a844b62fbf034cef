//! Large blobs straight from the object store: only where that is written, and without anything that was shown to us.

use larder_core::digest::Digest;

use super::Replicas;
use crate::access::basic;
use crate::house::OWN;
use crate::serving::ask;

#[test]
fn large_blobs_come_from_the_object_store_where_that_is_written() {
    let account = "[[account]]\nname = \"ci\"\npull = [\"vendor/**\"]\npush = [\"vendor/**\"]\n";
    let Some(replicas) = Replicas::new(account) else { return };
    let told = |name: &str| std::env::var(name).ok().filter(|address| !address.is_empty());
    let Some(strict) = told("LARDER_TEST_STRICT_BUCKET") else { return };
    let strict = strict.rsplit_once('/').unwrap().0.to_owned();
    let lenient = told("LARDER_TEST_BUCKET").unwrap().rsplit_once('/').unwrap().0.to_owned();
    let text = replicas.house.read("a/larder.toml").replace(&lenient, &strict);
    let text = text.replace("access = \"open\"", "access = \"grants\"");
    let with = |more: &str| {
        let text = text.replace("objects = {", &format!("objects = {{ {more}"));
        replicas.house.write("a/larder.toml", text);
        replicas.larder("a", "check --offline")
    };
    with("clients_at = \"https://objects.emberfall.example\", ")
        .ends(2)
        .says(&["`serve_blobs = \"redirect\"` too"]);
    with("serve_blobs = \"redirect\", clients_at = \"objects.emberfall.example\", ")
        .ends(2)
        .says(&["clients_at"]);
    with("serve_blobs = \"somehow\", ").ends(2);
    with("serve_blobs = \"redirect\", ").ends(0);
    let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
    replicas.larder("a", &copy).ends(0);
    let issued = replicas.larder("a", "key issue --account ci --json").ends(0).json();
    let login = basic("ci", issued["secret"].as_str().unwrap());
    let a = replicas.serve("a");
    let signed = [("authorization", &*login)];
    let content: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
    let digest = Digest::of(&content);
    let path = format!("/v2/vendor/kettle/blobs/uploads/?digest={digest}");
    assert_eq!(ask(a.host(), "POST", &path, &signed, &content).unwrap().status, 201);
    let blob = format!("/v2/vendor/kettle/blobs/{digest}");
    let head = ask(a.host(), "HEAD", &blob, &signed, b"").unwrap();
    assert_eq!((head.status, head.header("content-length")), (200, Some("3000000")));
    let sent = ask(a.host(), "GET", &blob, &signed, b"").unwrap();
    assert_eq!(sent.status, 307, "{}", sent.head);
    assert_eq!(sent.header("cache-control"), Some("no-store"));
    assert_eq!(sent.header("docker-content-digest"), Some(digest.as_str()));
    let link = sent.header("location").unwrap().to_owned();
    let host = strict.trim_start_matches("http://");
    let at = link.strip_prefix(&strict).unwrap();
    let got = ask(host, "GET", at, &[], b"").unwrap();
    assert_eq!((got.status, got.body == content), (200, true));
    let part = ask(host, "GET", at, &[("range", "bytes=1000-1999")], b"").unwrap();
    assert_eq!((part.status, &part.body[..]), (206, &content[1000..2000]));
    // It is for this blob and for reading alone.
    assert_eq!(ask(host, "DELETE", at, &[], b"").unwrap().status, 403);
    let another = at.replace("sha256", "sha512");
    assert_eq!(ask(host, "GET", &another, &[], b"").unwrap().status, 403);
    // Nobody gets one who may not pull.
    let refused = ask(a.host(), "GET", &blob, &[], b"").unwrap();
    assert_eq!((refused.status, refused.header("location")), (401, None));
    // A part of it is asked for there, too, and what cannot be is told here.
    let part = [signed[0], ("range", "bytes=1000-1999")];
    assert_eq!(ask(a.host(), "GET", &blob, &part, b"").unwrap().status, 307);
    let outside = [signed[0], ("range", "bytes=3000000-")];
    assert_eq!(ask(a.host(), "GET", &blob, &outside, b"").unwrap().status, 416);
    // Small ones are not worth the way.
    let small = b"a small one";
    let path = format!("/v2/vendor/kettle/blobs/uploads/?digest={}", Digest::of(small));
    assert_eq!(ask(a.host(), "POST", &path, &signed, small).unwrap().status, 201);
    let path = format!("/v2/vendor/kettle/blobs/{}", Digest::of(small));
    let got = ask(a.host(), "GET", &path, &signed, b"").unwrap();
    assert_eq!((got.status, &got.body[..]), (200, &small[..]));
    // The address is in nobody's log.
    assert!(!a.log().contains("X-Amz"), "{}", a.log());
}
