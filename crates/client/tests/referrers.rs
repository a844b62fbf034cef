//! Lists of referrers, and what registries say of their limits.
#![allow(clippy::unwrap_used)]

mod fake;

use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::body::Body;
use axum::http::Response;
use bytes::Bytes;
use larder_client::ClientError;
use larder_core::digest::Digest;
use larder_core::document::media_type;
use larder_core::reference::Selector;

use fake::{Fake, content, kettle, status, tag};

const OTHER: &str = r#"{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"sha256:2c26b46b68ffc68ff99b453c1d30413413422d706483bfa0f98a5e886266e7ae","size":3,"x":"kept"}]}"#;

#[tokio::test]
async fn referrers_are_listed_page_by_page_and_only_here() {
    let about = Digest::of(b"image");
    let fake = Fake::start(move |_, path, _| match path {
        path if path.ends_with("page=2") => Response::builder()
            .header("content-type", media_type::INDEX)
            .header("link", "<http://elsewhere.example/v2/>; rel=\"next\"")
            .body(Body::from(OTHER))
            .unwrap(),
        path if path.contains("/referrers/") => Response::builder()
            .header("content-type", media_type::INDEX)
            .header("link", format!("<{}?page=2>; rel=\"next\"", path.split('?').next().unwrap()))
            .body(Body::from(OTHER.replace("2c26", "3c26")))
            .unwrap(),
        _ => status(404),
    })
    .await;
    let found = fake.registry().referrers(&kettle(), &about).await.unwrap();
    assert_eq!(found.len(), 2);
    // A portal's page is no list; a registry that fails is not one without the end point.
    let portal = Fake::start(|_, _, _| content("<html>", "text/html")).await;
    let error = portal.registry().referrers(&kettle(), &about).await.unwrap_err();
    assert!(matches!(error, ClientError::Protocol { .. }), "{error}");
    let denied = Fake::start(|_, _, _| status(403)).await;
    let error = denied.registry().referrers(&kettle(), &about).await.unwrap_err();
    assert!(matches!(error, ClientError::Denied { .. }), "{error}");
}

#[tokio::test]
async fn a_list_under_a_tag_is_read_and_kept_up_to_date() {
    let about = Digest::of(b"image");
    let list = Arc::new(Mutex::new(None::<Bytes>));
    let kept = Arc::clone(&list);
    let fake = Fake::start_reading(move |method, path, _, body| {
        let is_list = path.contains("/manifests/sha256-");
        match (method.as_str(), is_list) {
            ("PUT", true) => {
                *kept.lock().unwrap() = Some(body);
                status(201)
            }
            ("PUT", false) => status(201),
            (_, true) => match kept.lock().unwrap().clone() {
                Some(list) => content(list, media_type::INDEX),
                None => status(404),
            },
            _ => status(404),
        }
    })
    .await;
    let registry = fake.registry();
    assert!(registry.referrers(&kettle(), &about).await.unwrap().is_empty());
    *list.lock().unwrap() = Some(Bytes::from_static(OTHER.as_bytes()));
    let text = format!(
        r#"{{"schemaVersion":2,"artifactType":"a/b","config":{{"digest":"{about}","size":1}},"layers":[],"subject":{{"digest":"{about}","size":1}}}}"#
    );
    let document =
        larder_core::document::Document::read(text.into(), Some(media_type::MANIFEST)).unwrap();
    let digest = Digest::of(&document.bytes);
    for _ in 0..2 {
        let selector = Selector::Digest(digest.clone());
        registry.push_manifest(&kettle(), &selector, &document).await.unwrap();
    }
    let found = registry.referrers(&kettle(), &about).await.unwrap();
    assert_eq!(found.len(), 2, "what was there stays, and ours is added once");
    assert_eq!(found[1].artifact_type.as_deref(), Some("a/b"));
    let text = list.lock().unwrap().clone().unwrap();
    assert!(String::from_utf8_lossy(&text).contains(r#""x":"kept""#), "what others wrote stays");
}

#[tokio::test]
async fn what_a_registry_says_of_its_limit_is_remembered() {
    let fake = Fake::start(|_, _, _| {
        Response::builder()
            .header("ratelimit-limit", "100;w=21600")
            .header("ratelimit-remaining", "42;w=21600")
            .status(404)
            .body(Body::empty())
            .unwrap()
    })
    .await;
    let registry = fake.registry();
    assert_eq!(registry.reported(), None);
    let _ = registry.resolve(&kettle(), &tag("2")).await;
    let said = registry.reported().unwrap();
    assert_eq!((said.remaining, said.limit), (42, Some(100)));
    assert_eq!(said.back_in, Some(Duration::from_secs(21_600)));
}
