//! Services that are no registries: what is sent to them stays with them, and what they say is bounded.
#![allow(clippy::unwrap_used)]

mod fake;

use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::thread;

use axum::body::Body;
use axum::http::Response;
use fake::{Fake, content, status};
use larder_client::{Web, WebOptions};

fn signed_in() -> WebOptions {
    WebOptions { authorization: Some("Bearer made-up".into()), ..WebOptions::default() }
}

#[tokio::test]
async fn a_request_goes_below_the_address_with_what_it_carries() {
    let fake = Fake::start_reading(|method, path, headers, body| {
        let kind = headers.get("content-type").map(|kind| kind.to_str().unwrap());
        let said = format!("{method} {path} {kind:?} {}", String::from_utf8_lossy(&body));
        content(said, "text/plain")
    })
    .await;
    for base in ["", "/", "/k8s", "/k8s/"] {
        let web = Web::new(&format!("http://{}{base}", fake.address), signed_in()).unwrap();
        let below = base.trim_end_matches('/');
        let body = Some(("application/json", b"{}".to_vec()));
        let answer = web.send("PATCH", "/api/v1/pods?limit=5", body).await.unwrap();
        assert_eq!(answer.status, 200);
        let said = String::from_utf8(answer.body).unwrap();
        assert_eq!(
            said,
            format!("PATCH {below}/api/v1/pods?limit=5 Some(\"application/json\") {{}}")
        );
        let answer = web.send("GET", "", None).await.unwrap();
        let own = if base.is_empty() { "/" } else { base };
        assert_eq!(String::from_utf8(answer.body).unwrap(), format!("GET {own} None "));
    }
    let seen = fake.seen.lock().unwrap();
    assert!(seen.iter().all(|seen| seen.authorization() == Some("Bearer made-up")));
}

#[tokio::test]
async fn a_redirect_is_an_answer_and_takes_the_secret_nowhere() {
    let elsewhere = Fake::start(|_, _, _| status(200)).await;
    let there = elsewhere.address.clone();
    let fake = Fake::start(move |_, _, _| {
        let location = format!("http://{there}/");
        Response::builder().status(307).header("location", location).body(Body::empty()).unwrap()
    })
    .await;
    let web = Web::new(&format!("http://{}", fake.address), signed_in()).unwrap();
    assert_eq!(web.send("GET", "/version", None).await.unwrap().status, 307);
    assert!(elsewhere.lines().is_empty());
}

#[tokio::test]
async fn a_refusal_is_an_answer_too_and_an_endless_one_is_none() {
    let fake = Fake::start(|_, path, _| match path {
        "/endless" => {
            let block = bytes::Bytes::from(vec![b'x'; 1 << 20]);
            let stream = futures_util::stream::repeat_with(move || Ok::<_, String>(block.clone()));
            Response::new(Body::from_stream(stream))
        }
        _ => Response::builder().status(403).body(Body::from("no")).unwrap(),
    })
    .await;
    let web = Web::new(&format!("http://{}", fake.address), WebOptions::default()).unwrap();
    let refused = web.send("GET", "/x", None).await.unwrap();
    assert_eq!((refused.status, refused.body.as_slice()), (403, b"no".as_slice()));
    let error = web.send("GET", "/endless", None).await.unwrap_err();
    assert!(error.contains("the answer is longer than"), "{error}");
}

#[tokio::test]
async fn what_is_no_address_or_no_certificate_is_told_at_once() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let refused = |base: &str, options| Web::new(base, options).err().unwrap();
    for (base, said) in [
        ("nowhere", "`nowhere` is no address: "),
        ("ftp://cluster.example", "is no address of HTTP or HTTPS"),
        ("file:///etc/passwd", "is no address of HTTP or HTTPS"),
    ] {
        let error = refused(base, WebOptions::default());
        assert!(error.contains(said), "{base}: {error}");
    }
    let broken = b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n";
    let identity = Some(broken.to_vec());
    refused("https://cluster.example", WebOptions { identity, ..WebOptions::default() });
    let web = Web::new(
        "http://127.0.0.1:1",
        WebOptions { authorization: Some("Bearer a\nb".into()), ..WebOptions::default() },
    )
    .unwrap();
    let error = web.send("GET", "/", None).await.unwrap_err();
    assert!(error.contains("characters that no header can carry"), "{error}");
    assert!(!error.contains("Bearer"), "{error}");
    let web = Web::new("http://127.0.0.1:1", signed_in()).unwrap();
    // Nobody listens on the first port.
    let error = web.send("GET", "/", None).await.unwrap_err();
    assert!(error.contains("refused"), "{error}");
    assert!(web.send("NO METHOD", "/", None).await.is_err());
}

#[tokio::test]
async fn an_answer_that_breaks_off_or_is_no_http_is_an_error() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    for said in ["HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\nshort", "SSH-2.0-made-up\r\n", ""] {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let server = thread::spawn(move || {
            let (mut link, _) = listener.accept().unwrap();
            let _ = link.read(&mut [0; 4096]).unwrap();
            link.write_all(said.as_bytes()).unwrap();
        });
        let web = Web::new(&format!("http://{address}"), WebOptions::default()).unwrap();
        let error = web.send("GET", "/", None).await.unwrap_err();
        assert!(!error.is_empty(), "{said}");
        server.join().unwrap();
    }
}
