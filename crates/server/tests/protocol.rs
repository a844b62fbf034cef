//! The protocol as a client meets it, request by request.
#![allow(clippy::unwrap_used)]

mod fixture;

use axum::http::StatusCode;
use fixture::{Fixture, MANIFEST};
use larder_core::digest::Digest;

#[tokio::test]
async fn what_refers_to_a_manifest_is_listed() {
    let larder = Fixture::new(false);
    let subject = Digest::of(&larder.push_image("1.9").await);
    let config = larder.push_blob(b"{}").await;
    let mut pushed = Vec::new();
    for number in 0..130 {
        let kind = if number % 2 == 0 { "application/vnd.example+json" } else { "text/other" };
        let manifest = format!(
            r#"{{"schemaVersion":2,"artifactType":"{kind}","config":{{"mediaType":"a/b","digest":"{config}","size":2}},"layers":[],"subject":{{"digest":"{subject}","size":1}},"annotations":{{"n":"{number}"}}}}"#
        );
        let digest = Digest::of(manifest.as_bytes());
        let path = format!("/v2/vendor/a/manifests/{digest}");
        let answer =
            larder.send("PUT", &path, &[("content-type", MANIFEST)], manifest.as_bytes()).await;
        assert_eq!(answer.status, StatusCode::CREATED);
        assert_eq!(answer.header("oci-subject"), subject.as_str());
        pushed.push(digest.to_string());
    }
    let all = |filter: &'static str| {
        let larder = &larder;
        let mut path = format!("/v2/vendor/a/referrers/{subject}{filter}");
        async move {
            let mut found = Vec::new();
            loop {
                let answer = larder.send("GET", &path, &[], b"").await;
                assert_eq!(answer.status, StatusCode::OK);
                assert_eq!(
                    answer.header("content-type"),
                    "application/vnd.oci.image.index.v1+json"
                );
                let index: serde_json::Value = serde_json::from_slice(&answer.body).unwrap();
                found.extend(index["manifests"].as_array().unwrap().iter().cloned());
                match answer.header("link").strip_prefix('<').and_then(|link| link.split_once('>'))
                {
                    Some((next, _)) => path = next.to_owned(),
                    None => return (found, answer.header("oci-filters-applied").to_owned()),
                }
            }
        }
    };
    let (found, filters) = all("").await;
    let mut digests: Vec<&str> = found.iter().map(|one| one["digest"].as_str().unwrap()).collect();
    digests.sort_unstable();
    pushed.sort();
    assert_eq!(digests, pushed, "each once, over all pages");
    assert_eq!(filters, "");
    assert!(found[0]["annotations"]["n"].is_string());
    for filter in [
        "?artifactType=application/vnd.example%2Bjson",
        "?artifactType=application/vnd.example+json",
    ] {
        let (found, filters) = all(filter).await;
        assert_eq!((found.len(), filters.as_str()), (65, "artifactType"));
        assert!(found.iter().all(|one| one["artifactType"] == "application/vnd.example+json"));
    }
    // What nobody refers to, and what is not there, has an empty list.
    for path in
        [format!("/v2/vendor/a/referrers/{config}"), format!("/v2/vendor/none/referrers/{subject}")]
    {
        let answer = larder.send("GET", &path, &[], b"").await;
        assert_eq!(answer.status, StatusCode::OK);
        assert!(String::from_utf8(answer.body).unwrap().contains(r#""manifests":[]"#));
    }
    let wrong = larder.send("GET", "/v2/vendor/a/referrers/latest", &[], b"").await;
    assert_eq!((wrong.status, wrong.code().as_str()), (StatusCode::BAD_REQUEST, "DIGEST_INVALID"));
}

#[tokio::test]
async fn a_pushed_image_is_pulled_byte_for_byte() {
    let larder = Fixture::new(false);
    assert_eq!(larder.send("GET", "/v2/", &[], b"").await.status, StatusCode::OK);
    let manifest = larder.push_image("1.9").await;
    let digest = Digest::of(&manifest);
    for reference in ["1.9".to_owned(), digest.to_string(), digest.as_str().replace(':', "%3A")] {
        let path = format!("/v2/vendor/a/manifests/{reference}");
        let get = larder.send("GET", &path, &[], b"").await;
        assert_eq!(get.body, manifest);
        let head = larder.send("HEAD", &path, &[], b"").await;
        for answer in [&get, &head] {
            assert_eq!(answer.status, StatusCode::OK);
            assert_eq!(answer.header("content-type"), MANIFEST);
            assert_eq!(answer.header("docker-content-digest"), digest.as_str());
            assert_eq!(answer.header("content-length"), manifest.len().to_string());
        }
        assert!(head.body.is_empty());
        let known = [("if-none-match", head.header("etag"))];
        assert_eq!(larder.send("GET", &path, &known, b"").await.status, StatusCode::NOT_MODIFIED);
    }
}

#[tokio::test]
async fn blobs_are_given_whole_and_in_parts() {
    let larder = Fixture::new(false);
    let digest = larder.push_blob(b"0123456789").await;
    let path = format!("/v2/vendor/a/blobs/{digest}");
    let whole = larder.send("GET", &path, &[], b"").await;
    assert_eq!((whole.status, whole.body.as_slice()), (StatusCode::OK, &b"0123456789"[..]));
    let part = larder.send("GET", &path, &[("range", "bytes=7-")], b"").await;
    assert_eq!((part.status, part.body.as_slice()), (StatusCode::PARTIAL_CONTENT, &b"789"[..]));
    assert_eq!(part.header("content-range"), "bytes 7-9/10");
    let outside = larder.send("GET", &path, &[("range", "bytes=10-")], b"").await;
    assert_eq!(outside.status, StatusCode::RANGE_NOT_SATISFIABLE);
    assert_eq!(outside.header("content-range"), "bytes */10");
    let head = larder.send("HEAD", &path, &[], b"").await;
    assert_eq!((head.header("content-length"), head.body.len()), ("10", 0));
    // A blob is seen only through a repository that has it.
    let other = larder.send("GET", &format!("/v2/vendor/b/blobs/{digest}"), &[], b"").await;
    assert_eq!((other.status, other.code().as_str()), (StatusCode::NOT_FOUND, "BLOB_UNKNOWN"));
}

#[tokio::test]
async fn an_upload_in_chunks_must_be_in_order() {
    let larder = Fixture::new(false);
    let begun = larder.send("POST", "/v2/vendor/a/blobs/uploads/", &[], b"").await;
    assert_eq!(begun.status, StatusCode::ACCEPTED);
    let upload = begun.header("location").to_owned();
    let first = larder.send("PATCH", &upload, &[("content-range", "0-3")], b"0123").await;
    assert_eq!((first.status, first.header("range")), (StatusCode::ACCEPTED, "0-3"));
    let wrong = larder.send("PATCH", &upload, &[("content-range", "8-9")], b"89").await;
    assert_eq!((wrong.status, wrong.header("range")), (StatusCode::RANGE_NOT_SATISFIABLE, "0-3"));
    let status = larder.send("GET", &upload, &[], b"").await;
    assert_eq!((status.status, status.header("range")), (StatusCode::NO_CONTENT, "0-3"));
    assert_eq!(larder.send("PATCH", &upload, &[], b"4567").await.header("range"), "0-7");
    let digest = Digest::of(b"0123456789");
    let last = larder.send("PUT", &format!("{upload}?digest={digest}"), &[], b"89").await;
    assert_eq!(last.status, StatusCode::CREATED);
    assert_eq!(larder.send("GET", last.header("location"), &[], b"").await.body, b"0123456789");
    assert_eq!(larder.send("GET", &upload, &[], b"").await.code(), "BLOB_UPLOAD_UNKNOWN");
}

#[tokio::test]
async fn what_is_wrong_is_never_kept() {
    let larder = Fixture::new(false);
    let expected = Digest::of(b"announced");
    let path = format!("/v2/vendor/a/blobs/uploads/?digest={expected}");
    let wrong = larder.send("POST", &path, &[], b"other").await;
    assert_eq!((wrong.status, wrong.code().as_str()), (StatusCode::BAD_REQUEST, "DIGEST_INVALID"));
    let blob = larder.send("HEAD", &format!("/v2/vendor/a/blobs/{expected}"), &[], b"").await;
    assert_eq!(blob.status, StatusCode::NOT_FOUND);

    let put = |path: &'static str, body: String| {
        let larder = &larder;
        async move { larder.send("PUT", path, &[("content-type", MANIFEST)], body.as_bytes()).await }
    };
    let lacking = format!(r#"{{"config":{{"digest":"{expected}","size":9}},"layers":[]}}"#);
    let answer = put("/v2/vendor/a/manifests/1", lacking.clone()).await;
    assert_eq!(
        (answer.status, answer.code().as_str()),
        (StatusCode::BAD_REQUEST, "MANIFEST_BLOB_UNKNOWN")
    );
    assert!(String::from_utf8_lossy(&answer.body).contains(expected.as_str()));
    let other = put("/v2/vendor/a/manifests/sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855", lacking).await;
    assert_eq!(other.code(), "DIGEST_INVALID");
    assert_eq!(put("/v2/vendor/a/manifests/1", "<html>".into()).await.code(), "MANIFEST_INVALID");
    let large = put("/v2/vendor/a/manifests/1", " ".repeat(4 * 1024 * 1024 + 1)).await;
    assert_eq!(large.status, StatusCode::PAYLOAD_TOO_LARGE);
    let tag = larder.send("GET", "/v2/vendor/a/manifests/1", &[], b"").await;
    assert_eq!(tag.status, StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn a_blob_is_mounted_from_where_it_is() {
    let larder = Fixture::new(false);
    let digest = larder.push_blob(b"shared").await;
    let mount = |from: &str| format!("/v2/vendor/b/blobs/uploads/?mount={digest}&from={from}");
    let nowhere = larder.send("POST", &mount("vendor%2Fc"), &[], b"").await;
    assert_eq!(nowhere.status, StatusCode::ACCEPTED, "an upload is opened instead");
    let mounted = larder.send("POST", &mount("vendor%2Fa"), &[], b"").await;
    assert_eq!(mounted.status, StatusCode::CREATED);
    assert_eq!(larder.send("GET", mounted.header("location"), &[], b"").await.body, b"shared");
}

#[tokio::test]
async fn tags_are_listed_page_by_page() {
    let larder = Fixture::new(false);
    for tag in ["b", "a", "c"] {
        larder.push_image(tag).await;
    }
    let page = larder.send("GET", "/v2/vendor/a/tags/list?n=2", &[], b"").await;
    assert_eq!(String::from_utf8_lossy(&page.body), r#"{"name":"vendor/a","tags":["a","b"]}"#);
    let next = page.header("link").split(['<', '>']).nth(1).unwrap().to_owned();
    let page = larder.send("GET", &next, &[], b"").await;
    assert_eq!(String::from_utf8_lossy(&page.body), r#"{"name":"vendor/a","tags":["c"]}"#);
    assert_eq!(page.header("link"), "");
    assert_eq!(larder.send("GET", "/v2/vendor/x/tags/list", &[], b"").await.code(), "NAME_UNKNOWN");
}

#[tokio::test]
async fn refusals_are_in_the_standards_form() {
    let larder = Fixture::new(false);
    larder.push_image("1").await;
    for (method, path, status, code) in [
        ("GET", "/v2/vendor/x/manifests/1", 404, "NAME_UNKNOWN"),
        ("GET", "/v2/vendor/a/manifests/2", 404, "MANIFEST_UNKNOWN"),
        ("GET", "/v2/Vendor/a/manifests/2", 400, "NAME_INVALID"),
        ("GET", "/v2/vendor/a/blobs/sha256:12", 400, "DIGEST_INVALID"),
        ("POST", "/v2/other/a/blobs/uploads/", 404, "NAME_UNKNOWN"),
        ("PUT", "/v2/vendor/a/blobs/uploads/../../x", 404, "UNSUPPORTED"),
        ("PATCH", "/v2/vendor/a/manifests/1", 405, "UNSUPPORTED"),
        ("DELETE", "/v2/vendor/a/manifests/2", 404, "MANIFEST_UNKNOWN"),
        ("GET", "/v2/%2e%2e/%2e%2e/etc/passwd", 404, "UNSUPPORTED"),
        ("GET", "/elsewhere", 404, "UNSUPPORTED"),
    ] {
        let answer = larder.send(method, path, &[], b"").await;
        assert_eq!(
            (answer.status.as_u16(), answer.code().as_str()),
            (status, code),
            "{method} {path}"
        );
        assert_eq!(answer.header("content-type"), "application/json");
    }
    let shelf = larder.send("POST", "/v2/other/a/blobs/uploads/", &[], b"").await;
    assert!(String::from_utf8_lossy(&shelf.body).contains("the shelves are: vendor, thin"));
    let closed = Fixture::new(true);
    let answer = closed.send("POST", "/v2/vendor/a/blobs/uploads/", &[], b"").await;
    assert_eq!((answer.status, answer.code().as_str()), (StatusCode::FORBIDDEN, "DENIED"));
}
