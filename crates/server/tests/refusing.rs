//! Details of the protocol: what is only asked about, what is refused early, what cannot be.
#![allow(clippy::unwrap_used)]

mod fixture;

use fixture::Fixture;
use larder_core::digest::Digest;

#[tokio::test]
async fn a_range_is_for_get_and_only_of_the_content_that_is_meant() {
    let larder = Fixture::new(false);
    larder.push_image("1").await;
    let digest = Digest::of(b"layer");
    let path = format!("/v2/vendor/a/blobs/{digest}");
    let part = larder.send("GET", &path, &[("range", "bytes=1-2")], b"").await;
    assert_eq!((part.status.as_u16(), &part.body[..]), (206, &b"ay"[..]));
    // RFC 9110, section 14.2: asked by HEAD it is ignored, from the store and from memory.
    for _ in 0..2 {
        let head = larder.send("HEAD", &path, &[("range", "bytes=1-2")], b"").await;
        assert_eq!((head.status.as_u16(), head.header("content-length")), (200, "5"));
        assert_eq!(head.header("content-range"), "");
    }
    // Section 13.1.5: of another content, or of a time, all of it is meant.
    let own = format!("\"{digest}\"");
    for (only, status) in [
        (own.as_str(), 206),
        ("\"sha256:other\"", 200),
        ("W/\"x\"", 200),
        ("Sun, 29 Nov 2026 10:00:00 GMT", 200),
    ] {
        let fields = [("range", "bytes=1-2"), ("if-range", only)];
        let answer = larder.send("GET", &path, &fields, b"").await;
        assert_eq!(answer.status.as_u16(), status, "{only}");
    }
}

#[tokio::test]
async fn what_is_refused_before_its_body_says_that_the_connection_ends() {
    let larder = Fixture::new(false);
    let digest = Digest::of(b"layer");
    let path = format!("/v2/vendor/a/blobs/uploads/?digest={digest}x");
    let refused = larder.send("POST", &path, &[], b"body").await;
    assert_eq!(refused.status.as_u16(), 400);
    assert_eq!(refused.header("connection"), "close");
    let taken = larder.send("POST", "/v2/vendor/a/blobs/uploads/", &[], b"").await;
    assert_eq!((taken.status.as_u16(), taken.header("connection")), (202, ""));
}

#[tokio::test]
async fn more_than_any_disk_has_is_too_large_and_not_a_full_disk() {
    let larder = Fixture::new(false);
    let digest = Digest::of(b"layer");
    let path = format!("/v2/vendor/a/blobs/uploads/?digest={digest}");
    let fields = [("content-length", "9223372036854775808")];
    let refused = larder.send("POST", &path, &fields, b"").await;
    assert_eq!(refused.status.as_u16(), 413);
    assert!(String::from_utf8_lossy(&refused.body).contains("whole disk"));
}

#[tokio::test]
async fn a_head_that_says_here_renews_the_grace() {
    let larder = Fixture::new(false);
    let digest = Digest::of(b"loose");
    let path = format!("/v2/vendor/a/blobs/uploads/?digest={digest}");
    assert_eq!(larder.send("POST", &path, &[], b"loose").await.status.as_u16(), 201);
    let ledger = rusqlite::Connection::open(larder.folder.path().join("ledger.sqlite")).unwrap();
    ledger.execute("UPDATE blobs SET idle = idle - 90000000", []).unwrap();
    drop(ledger);
    let day_ago = larder_store::now() - 24 * 3_600_000;
    assert_eq!(larder.app.store.idle(day_ago).await.unwrap(), 1);
    let head = larder.send("HEAD", &format!("/v2/vendor/a/blobs/{digest}"), &[], b"").await;
    assert_eq!(head.status.as_u16(), 200);
    assert_eq!(larder.app.store.idle(day_ago).await.unwrap(), 0);
}
