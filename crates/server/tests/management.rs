//! Removing, listing and the finer points of pushing, as a client meets them.
#![allow(clippy::unwrap_used)]

mod fixture;

use axum::http::StatusCode;
use fixture::{Fixture, MANIFEST};
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_server::Plan;

const INDEX: &str = "application/vnd.oci.image.index.v1+json";

fn index(children: &[(&Digest, usize)]) -> String {
    let entries: Vec<String> = children
        .iter()
        .map(|(child, size)| {
            format!(r#"{{"mediaType":"{MANIFEST}","digest":"{child}","size":{size}}}"#)
        })
        .collect();
    format!(r#"{{"schemaVersion":2,"mediaType":"{INDEX}","manifests":[{}]}}"#, entries.join(","))
}

#[tokio::test]
async fn tags_and_manifests_are_removed_and_what_is_needed_is_not() {
    let larder = Fixture::new(false);
    let bytes = larder.push_image("1").await;
    let image = Digest::of(&bytes);
    larder.push_image("one").await;
    let by_tag = larder.send("DELETE", "/v2/vendor/a/manifests/one", &[], b"").await;
    assert_eq!(by_tag.status, StatusCode::ACCEPTED);
    assert_eq!(larder.get("/v2/vendor/a/manifests/one").await.status, StatusCode::NOT_FOUND);
    assert_eq!(larder.get("/v2/vendor/a/manifests/1").await.status, StatusCode::OK);
    let again = larder.send("DELETE", "/v2/vendor/a/manifests/one", &[], b"").await;
    assert_eq!(again.code(), "MANIFEST_UNKNOWN");

    // What an index lists, and what a manifest names, stays; the answer says what needs it.
    let text = index(&[(&image, bytes.len())]);
    larder.put_manifest("/v2/vendor/a/manifests/all", INDEX, &text).await;
    let listed = Digest::of(text.as_bytes());
    let path = format!("/v2/vendor/a/manifests/{image}");
    let refused = larder.send("DELETE", &path, &[], b"").await;
    assert_eq!((refused.status, refused.code().as_str()), (StatusCode::CONFLICT, "DENIED"));
    assert!(String::from_utf8_lossy(&refused.body).contains(listed.as_str()));
    let layer = format!("/v2/vendor/a/blobs/{}", Digest::of(b"layer"));
    assert_eq!(larder.send("DELETE", &layer, &[], b"").await.status, StatusCode::CONFLICT);

    // In the right order all of it goes, and an answer from memory does not outlive it.
    assert_eq!(larder.get(&path).await.status, StatusCode::OK);
    for path in [format!("/v2/vendor/a/manifests/{listed}"), path, layer] {
        assert_eq!(
            larder.send("DELETE", &path, &[], b"").await.status,
            StatusCode::ACCEPTED,
            "{path}"
        );
        assert_eq!(larder.get(&path).await.status, StatusCode::NOT_FOUND, "{path}");
        assert_eq!(larder.send("DELETE", &path, &[], b"").await.status, StatusCode::NOT_FOUND);
    }
    let tags = larder.get("/v2/vendor/a/tags/list").await;
    assert_eq!(String::from_utf8_lossy(&tags.body), r#"{"name":"vendor/a","tags":[]}"#);
    assert_eq!(larder.get("/v2/_catalog").await.body, br#"{"repositories":[]}"#);
    let closed = Fixture::new(true);
    for path in ["/v2/vendor/a/manifests/1".to_owned(), format!("/v2/vendor/a/blobs/{image}")] {
        let refused = closed.send("DELETE", &path, &[], b"").await;
        assert_eq!((refused.status, refused.code().as_str()), (StatusCode::FORBIDDEN, "DENIED"));
    }
}

#[tokio::test]
async fn the_list_that_clients_keep_of_referrers_follows_removals() {
    let larder = Fixture::new(false);
    let image = Digest::of(&larder.push_image("1").await);
    let config = larder.push_blob(b"{}").await;
    let mut signatures = Vec::new();
    for kind in ["a/one", "a/two"] {
        let text = format!(
            r#"{{"schemaVersion":2,"mediaType":"{MANIFEST}","artifactType":"{kind}","config":{{"mediaType":"a/b","digest":"{config}","size":2}},"layers":[],"subject":{{"mediaType":"{MANIFEST}","digest":"{image}","size":1}}}}"#
        );
        let digest = Digest::of(text.as_bytes());
        larder.put_manifest(&format!("/v2/vendor/a/manifests/{digest}"), MANIFEST, &text).await;
        signatures.push((digest, text.len()));
    }
    let listed: Vec<(&Digest, usize)> =
        signatures.iter().map(|(digest, size)| (digest, *size)).collect();
    // A client of the older kind writes the list itself, and writes it anew with the second entry.
    let list = format!("/v2/vendor/a/manifests/sha256-{}", image.hex());
    let first = index(&listed[..1]);
    larder.put_manifest(&list, INDEX, &first).await;
    larder.put_manifest(&list, INDEX, &index(&listed)).await;
    let old = format!("/v2/vendor/a/manifests/{}", Digest::of(first.as_bytes()));
    assert_eq!(larder.get(&old).await.status, StatusCode::NOT_FOUND, "a replaced list is not kept");

    for (left, signature) in [(1, &signatures[0].0), (0, &signatures[1].0)] {
        let path = format!("/v2/vendor/a/manifests/{signature}");
        assert_eq!(larder.send("DELETE", &path, &[], b"").await.status, StatusCode::ACCEPTED);
        let referrers = larder.get(&format!("/v2/vendor/a/referrers/{image}")).await;
        let referrers: serde_json::Value = serde_json::from_slice(&referrers.body).unwrap();
        assert_eq!(referrers["manifests"].as_array().unwrap().len(), left);
        let list = larder.get(&list).await;
        if left == 0 {
            assert_eq!(list.status, StatusCode::NOT_FOUND, "an empty list goes");
        } else {
            let list: serde_json::Value = serde_json::from_slice(&list.body).unwrap();
            assert_eq!(list["manifests"].as_array().unwrap().len(), left);
            assert_eq!(list["manifests"][0]["digest"], signatures[1].0.as_str());
        }
    }
}

#[tokio::test]
async fn repositories_are_listed_page_by_page() {
    let larder = Fixture::new(false);
    let config = larder.push_blob(b"{}").await;
    for name in ["b", "a/deep", "c"] {
        let mount = format!("/v2/vendor/{name}/blobs/uploads/?mount={config}&from=vendor/a");
        assert_eq!(larder.send("POST", &mount, &[], b"").await.status, StatusCode::CREATED);
        let text = format!(r#"{{"config":{{"digest":"{config}","size":2}},"layers":[]}}"#);
        let path = format!("/v2/vendor/{name}/manifests/1");
        assert_eq!(larder.put_manifest(&path, MANIFEST, &text).await.status, StatusCode::CREATED);
    }
    let page = larder.get("/v2/_catalog?n=2").await;
    assert_eq!(page.body, br#"{"repositories":["vendor/a/deep","vendor/b"]}"#);
    let next = page.header("link").split(['<', '>']).nth(1).unwrap().to_owned();
    let page = larder.get(&next).await;
    assert_eq!(page.body, br#"{"repositories":["vendor/c"]}"#);
    assert_eq!(page.header("link"), "");
    assert_eq!(larder.get("/v2/_catalog?n=0").await.body, br#"{"repositories":[]}"#);
    assert_eq!(larder.get("/v2/_catalog?n=x").await.status, StatusCode::BAD_REQUEST);
}

#[tokio::test]
async fn an_index_may_lack_children_only_where_the_shelf_allows_it() {
    let larder = Fixture::new(false);
    let absent = Digest::of(b"somewhere else");
    let text = index(&[(&absent, 1)]);
    let refused = larder.put_manifest("/v2/vendor/a/manifests/1", INDEX, &text).await;
    assert_eq!(refused.code(), "MANIFEST_BLOB_UNKNOWN");
    let taken = larder.put_manifest("/v2/thin/a/manifests/1", INDEX, &text).await;
    assert_eq!(taken.status, StatusCode::CREATED);
    let child = larder.get(&format!("/v2/thin/a/manifests/{absent}")).await;
    assert!(String::from_utf8_lossy(&child.body).contains("for a platform that was not brought"));
}

#[tokio::test]
async fn uploads_take_every_form_of_the_standard() {
    let larder = Fixture::new(false);
    // Nothing at all, and the longer algorithm.
    let empty = larder.push_blob(b"").await;
    assert_eq!(larder.get(&format!("/v2/vendor/a/blobs/{empty}")).await.body, b"");
    let mut hasher = Hasher::new(Algorithm::Sha512);
    hasher.update(b"content");
    let long = hasher.finish();
    let begun = larder.send("POST", "/v2/vendor/a/blobs/uploads/", &[], b"").await;
    assert_eq!(begun.header("oci-chunk-min-length"), "65536");
    let upload = begun.header("location").to_owned();
    let done = larder.send("PUT", &format!("{upload}?digest={long}"), &[], b"content").await;
    assert_eq!(done.status, StatusCode::CREATED);
    assert_eq!(larder.get(done.header("location")).await.body, b"content");

    // A chunk must be as long as it says; what came stays, and the client is told how much that is.
    let upload = larder.send("POST", "/v2/vendor/a/blobs/uploads/", &[], b"").await;
    let upload = upload.header("location").to_owned();
    let range = [("content-range", "0-9"), ("content-length", "4")];
    let wrong = larder.send("PATCH", &upload, &range, b"0123").await;
    assert_eq!((wrong.status, wrong.code().as_str()), (StatusCode::BAD_REQUEST, "SIZE_INVALID"));
    let short = larder.send("PATCH", &upload, &[("content-range", "0-9")], b"0123").await;
    assert_eq!((short.status, short.header("range")), (StatusCode::RANGE_NOT_SATISFIABLE, "0-3"));
    for range in ["x", "9-0", "0-18446744073709551615"] {
        let wrong = larder.send("PATCH", &upload, &[("content-range", range)], b"0").await;
        assert_eq!(wrong.status, StatusCode::RANGE_NOT_SATISFIABLE, "{range}");
    }
    // Given up, it is gone.
    let gone = larder.send("DELETE", &upload, &[], b"").await;
    assert_eq!(gone.status, StatusCode::NO_CONTENT);
    for method in ["GET", "DELETE", "PATCH"] {
        let answer = larder.send(method, &upload, &[], b"").await;
        assert_eq!(
            (answer.status, answer.code().as_str()),
            (StatusCode::NOT_FOUND, "BLOB_UPLOAD_UNKNOWN")
        );
    }
    // From anywhere, when no source is named.
    let mount = format!("/v2/vendor/z/blobs/uploads/?mount={empty}");
    assert_eq!(larder.send("POST", &mount, &[], b"").await.status, StatusCode::CREATED);
    let last = larder.send("PUT", &upload, &[], b"").await;
    assert_eq!(last.code(), "DIGEST_INVALID");
}

#[tokio::test]
async fn answers_are_shaped_as_runtimes_need_them() {
    let larder = Fixture::new(false);
    let bytes = larder.push_image("1").await;
    let path = "/v2/vendor/a/manifests/1";
    // Twice: the second comes from memory and is the same.
    for _ in 0..2 {
        let head = larder.send("HEAD", path, &[("accept-encoding", "gzip")], b"").await;
        assert_eq!(head.header("content-type"), MANIFEST);
        assert_eq!(head.header("content-length"), bytes.len().to_string());
        assert_eq!(head.header("content-encoding"), "");
    }
    // An image is never converted: who does not take its type is told which it is.
    let accept = [("accept", "application/vnd.docker.distribution.manifest.v2+json")];
    let refused = larder.send("GET", path, &accept, b"").await;
    assert_eq!(refused.status, StatusCode::NOT_ACCEPTABLE);
    assert!(String::from_utf8_lossy(&refused.body).contains(MANIFEST));
    let layer = format!("/v2/vendor/a/blobs/{}", Digest::of(b"layer"));
    let blob = larder.get(&layer).await;
    assert!(blob.header("cache-control").contains("immutable"));
    let known = larder.send("GET", &layer, &[("if-none-match", blob.header("etag"))], b"").await;
    assert_eq!(known.status, StatusCode::NOT_MODIFIED);
    let suffix = larder.send("GET", &layer, &[("range", "bytes=-2")], b"").await;
    assert_eq!((suffix.status, suffix.body.as_slice()), (StatusCode::PARTIAL_CONTENT, &b"er"[..]));
    // What is not answered there names what is.
    let wrong = larder.send("POST", path, &[], b"").await;
    assert_eq!(wrong.header("allow"), "GET, HEAD, PUT, DELETE");
}

#[tokio::test]
async fn a_changed_tag_is_seen_at_once_also_when_another_process_changed_it() {
    let larder = Fixture::new(false);
    let path = "/v2/vendor/a/manifests/1";
    let first = larder.push_image("1").await;
    assert_eq!(larder.get(path).await.body, first);
    let other = larder_store::Store::open_local(larder.folder.path()).unwrap();
    for round in 0..20 {
        let text = format!(
            r#"{{"config":{{"digest":"{}","size":2}},"layers":[],"annotations":{{"n":"{round}"}}}}"#,
            Digest::of(b"{}")
        );
        let document = larder_core::document::Document::read(text.clone().into(), Some(MANIFEST));
        let (document, digest) = (document.unwrap(), Digest::of(text.as_bytes()));
        let repository = "vendor/a".parse().unwrap();
        let tag = Some("1".parse().unwrap());
        other.put_manifest(&repository, &digest, &document, tag, false).await.unwrap();
        assert_eq!(larder.get(path).await.body, text.as_bytes(), "round {round}");
    }
}

#[tokio::test]
async fn a_disk_at_its_reserve_refuses_pushes_and_serves_pulls() {
    let full = Fixture::with(Plan { reserve: u64::MAX / 2, ..fixture::open() }, &[0; 32]);
    let digest = Digest::of(b"x");
    for (method, path) in [
        ("POST", "/v2/vendor/a/blobs/uploads/".to_owned()),
        ("POST", format!("/v2/vendor/a/blobs/uploads/?digest={digest}")),
        ("PUT", "/v2/vendor/a/manifests/1".to_owned()),
    ] {
        let answer = full.send(method, &path, &[], b"x").await;
        assert_eq!(answer.status, StatusCode::INSUFFICIENT_STORAGE, "{method} {path}");
        assert!(String::from_utf8_lossy(&answer.body).contains("pulls go on"));
    }
    assert_eq!(full.get("/v2/").await.status, StatusCode::OK);
    let ready = full.get("/readyz").await;
    assert_eq!(ready.status, StatusCode::OK, "it can still be pulled from");
    assert!(String::from_utf8_lossy(&ready.body).contains("pushes are refused"));
    let fine = Fixture::new(false).get("/readyz").await;
    assert_eq!(String::from_utf8_lossy(&fine.body), "store: ok\nledger: ok\nroom: ok\n");
}

#[tokio::test]
async fn what_cannot_be_written_is_an_error_and_not_ready() {
    let larder = Fixture::new(false);
    larder.push_image("1").await;
    // The folder of uploads is gone, as after a mistake with the disk.
    std::fs::remove_dir_all(larder.folder.path().join("uploads")).unwrap();
    let push = larder.send("POST", "/v2/vendor/a/blobs/uploads/", &[], b"").await;
    assert_eq!((push.status.as_u16(), push.code().as_str()), (500, "UNKNOWN"));
    assert!(!String::from_utf8_lossy(&push.body).contains("larder-data"), "no path is told");
    let ready = larder.get("/readyz").await;
    assert_eq!(ready.status, StatusCode::SERVICE_UNAVAILABLE);
    assert!(String::from_utf8_lossy(&ready.body).starts_with("store: fails"));
    assert_eq!(larder.get("/healthz").await.status, StatusCode::OK);
    assert_eq!(larder.get("/v2/vendor/a/manifests/1").await.status, StatusCode::OK);
    // A blob that is recorded and gone is not there; it is no fault of the server's.
    let digest = Digest::of(b"layer");
    let hex = digest.hex();
    let lying = larder.folder.path().join("content/sha256").join(&hex[..2]);
    std::fs::remove_dir_all(lying).unwrap();
    let blob = larder.get(&format!("/v2/vendor/a/blobs/{digest}")).await;
    assert_eq!((blob.status.as_u16(), blob.code().as_str()), (404, "BLOB_UNKNOWN"));
}

#[tokio::test]
async fn pulls_are_counted_and_written_down() {
    let larder = Fixture::new(false);
    let digest = Digest::of(&larder.push_image("1").await);
    for _ in 0..3 {
        larder.get("/v2/vendor/a/manifests/1").await;
    }
    larder.send("HEAD", &format!("/v2/vendor/a/manifests/{digest}"), &[], b"").await;
    larder.get("/v2/vendor/a/manifests/none").await;
    larder.app.write_tally().await;
    let uses = larder.app.store.uses(&"vendor/a".parse().unwrap(), 0).await.unwrap();
    assert_eq!(uses.len(), 1);
    assert_eq!((uses[0].pulls, &uses[0].digest), (3, &digest));
}
