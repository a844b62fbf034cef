//! What registries do that the standard does not say, or says otherwise.
#![allow(clippy::unwrap_used)]

mod fake;

use std::collections::VecDeque;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::body::Body;
use axum::http::{Method, Response, StatusCode};
use bytes::Bytes;
use futures_util::stream;
use larder_client::{ClientError, Credentials, Mount, NotThere, Options, Registry};
use larder_core::digest::Digest;
use larder_core::document::{DocumentError, media_type};
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;

use fake::{Answer, Fake, content, kettle, status, tag};

const INDEX: &str = r#"{"schemaVersion":2,"manifests":[]}"#;

async fn all(registry: &Registry, digest: &Digest, size: u64) -> Result<Vec<u8>, ClientError> {
    let mut stream = registry.blob(&kettle(), digest, size).await?;
    let mut bytes = Vec::new();
    while let Some(chunk) = stream.next().await? {
        bytes.extend_from_slice(&chunk);
    }
    Ok(bytes)
}

#[tokio::test]
async fn a_registry_that_leaves_headers_out_is_asked_with_get() {
    for head in [200, 405] {
        let fake = Fake::start(move |method, _, _| match *method {
            Method::HEAD if head == 405 => status(405),
            _ => content(INDEX, media_type::INDEX),
        })
        .await;
        let resolved = fake.registry().resolve(&kettle(), &tag("2")).await.unwrap();
        assert_eq!(resolved.digest, Digest::of(INDEX.as_bytes()));
        assert_eq!(resolved.size, INDEX.len() as u64);
        assert!(
            fake.lines().contains(&"GET /v2/library/kettle/manifests/2".to_owned()),
            "HEAD answered {head}"
        );
    }
}

#[tokio::test]
async fn manifests_that_cannot_be_used_are_refused_with_their_reason() {
    let old = "application/vnd.docker.distribution.manifest.v1+prettyjws";
    let fake = Fake::start(move |_, _, _| content(r#"{"schemaVersion":1}"#, old)).await;
    let error = fake.registry().resolve(&kettle(), &tag("2")).await.unwrap_err();
    assert!(
        matches!(error, ClientError::Document { source: DocumentError::Schema1, .. }),
        "{error}"
    );

    let fake = Fake::start(|_, _, _| content("<html>please accept</html>", "text/html")).await;
    let error = fake.registry().resolve(&kettle(), &tag("2")).await.unwrap_err();
    assert!(
        matches!(error, ClientError::Document { source: DocumentError::Shape(_), .. }),
        "{error}"
    );

    let fake = Fake::start(|_, _, _| content(" ".repeat(5 << 20), media_type::INDEX)).await;
    let error = fake.registry().manifest(&kettle(), &tag("2")).await.unwrap_err();
    assert!(error.to_string().contains("longer than 4194304 bytes"), "{error}");

    let fake = Fake::start(|_, _, _| content(INDEX, media_type::INDEX)).await;
    let other = Selector::Digest(Digest::of(b"other"));
    let error = fake.registry().manifest(&kettle(), &other).await.unwrap_err();
    assert!(error.is_mismatch(), "{error}");
}

/// A registry behind a token service that gives tokens in one of the usual forms.
async fn behind_tokens(form: &'static str) -> Fake {
    let address: Arc<Mutex<String>> = Arc::default();
    let own = Arc::clone(&address);
    let fake = Fake::start(move |_, path, headers| {
        if path.starts_with("/token") {
            return content(form, "application/json");
        }
        if headers.get("authorization").is_some_and(|sent| sent == "Bearer abc") {
            return content(INDEX, media_type::INDEX);
        }
        let realm = format!(
            r#"Bearer realm="http://{}/token",service="s",scope="repository:library/kettle:pull""#,
            own.lock().unwrap()
        );
        let mut refusal = status(401);
        refusal.headers_mut().insert("www-authenticate", realm.parse().unwrap());
        refusal
    })
    .await;
    address.lock().unwrap().clone_from(&fake.address);
    fake
}

#[tokio::test]
async fn a_token_is_fetched_once_for_each_scope_in_every_usual_form() {
    for form in [
        r#"{"token":"abc","expires_in":300}"#,
        r#"{"access_token":"abc"}"#,
        r#"{"token":"abc","access_token":"abc","issued_at":"2026-01-01T00:00:00Z"}"#,
    ] {
        let fake = behind_tokens(form).await;
        let registry = fake.signed_in();
        let (name, one, two) = (kettle(), tag("1"), tag("2"));
        let both = tokio::join!(registry.manifest(&name, &one), registry.manifest(&name, &two));
        assert!(both.0.is_ok() && both.1.is_ok());
        registry.manifest(&kettle(), &tag("3")).await.unwrap();
        let seen = fake.seen.lock().unwrap().clone();
        let tokens: Vec<_> =
            seen.iter().filter(|seen| seen.line.starts_with("GET /token")).collect();
        assert_eq!(tokens.len(), 1, "{form}");
        assert_eq!(
            tokens[0].line,
            "GET /token?scope=repository%3Alibrary%2Fkettle%3Apull&service=s"
        );
        assert!(tokens[0].authorization().unwrap().starts_with("Basic "));
        let last = seen.last().unwrap();
        assert_eq!(
            last.authorization(),
            Some("Bearer abc"),
            "the token is sent unasked once it is known"
        );
    }
}

#[tokio::test]
async fn token_services_that_fail_are_told() {
    for (form, words) in [
        (r#"{"token":"wrong"}"#, "answered 401 to the pull of library/kettle"),
        (r#"{"other":1}"#, "gave no token"),
        ("<html>", "did not answer with a token document"),
        ("{\"token\":\"a\\nb\"}", "no header can carry"),
    ] {
        let fake = behind_tokens(form).await;
        let error = fake.signed_in().manifest(&kettle(), &tag("1")).await.unwrap_err();
        assert!(error.to_string().contains(words), "{form}: {error}");
    }
    let fake = Fake::start(|_, _, _| {
        let mut refusal = status(401);
        refusal
            .headers_mut()
            .insert("www-authenticate", r#"Bearer realm="file:///etc/passwd""#.parse().unwrap());
        refusal
    })
    .await;
    let error = fake.signed_in().manifest(&kettle(), &tag("1")).await.unwrap_err();
    assert!(error.to_string().contains("which is not allowed"), "{error}");
}

#[tokio::test]
async fn credentials_do_not_follow_a_redirect_to_another_host() {
    let blob = Bytes::from_static(b"layer");
    let digest = Digest::of(&blob);
    let elsewhere = {
        let blob = blob.clone();
        Fake::start(move |_, _, _| content(blob.clone(), "application/octet-stream")).await
    };
    let target = format!("http://{}/there", elsewhere.address);
    let fake = Fake::start(move |_, _, headers| {
        if headers.contains_key("authorization") {
            let mut redirect = status(307);
            redirect.headers_mut().insert("location", target.parse().unwrap());
            return redirect;
        }
        let mut refusal = status(401);
        refusal.headers_mut().insert("www-authenticate", "Basic realm=\"x\"".parse().unwrap());
        refusal
    })
    .await;
    assert_eq!(all(&fake.signed_in(), &digest, 5).await.unwrap(), b"layer");
    let seen = elsewhere.seen.lock().unwrap().clone();
    assert_eq!(seen.len(), 1);
    assert_eq!(seen[0].authorization(), None);
    assert!(fake.seen.lock().unwrap().iter().any(|seen| seen.authorization().is_some()));
}

#[tokio::test]
async fn a_redirect_loop_ends() {
    let fake = Fake::start(|_, path, _| {
        let mut redirect = status(307);
        redirect.headers_mut().insert("location", path.parse().unwrap());
        redirect
    })
    .await;
    let error = fake.registry().manifest(&kettle(), &tag("1")).await.unwrap_err();
    assert!(error.to_string().contains("redirects more than 5 times"), "{error}");
    assert!(fake.lines().len() < 10);
}

/// A body that ends with an error after these bytes.
fn broken(bytes: Bytes, length: usize) -> Answer {
    let pieces = stream::unfold(Some(bytes), |rest| async move {
        match rest {
            Some(bytes) => Some((Ok(bytes), None)),
            None => {
                tokio::time::sleep(Duration::from_millis(20)).await;
                Some((Err(std::io::Error::other("cut")), None))
            }
        }
    });
    Response::builder().header("content-length", length).body(Body::from_stream(pieces)).unwrap()
}

#[tokio::test]
async fn a_cut_stream_resumes_with_and_without_range() {
    let blob: Bytes = (0..300_000u32).map(|n| (n % 251) as u8).collect::<Vec<u8>>().into();
    let digest = Digest::of(&blob);
    for ranges in [true, false] {
        let (whole, cuts) = (blob.clone(), AtomicUsize::new(0));
        let fake = Fake::start(move |_, _, headers| {
            let range = headers.get("range").map(|range| range.to_str().unwrap().to_owned());
            let start = range.and_then(|range| {
                range.strip_prefix("bytes=")?.strip_suffix('-')?.parse::<usize>().ok()
            });
            let rest = whole.slice(start.filter(|_| ranges).unwrap_or(0)..);
            let mut answer = if cuts.fetch_add(1, Ordering::Relaxed) < 2 {
                broken(rest.slice(..rest.len() / 2), rest.len())
            } else {
                content(rest, "application/octet-stream")
            };
            if let (Some(start), true) = (start, ranges) {
                *answer.status_mut() = StatusCode::PARTIAL_CONTENT;
                let range = format!("bytes {start}-{}/{}", whole.len() - 1, whole.len());
                answer.headers_mut().insert("content-range", range.parse().unwrap());
            }
            answer
        })
        .await;
        let got = all(&fake.registry(), &digest, 300_000).await.unwrap();
        assert!(got == blob, "with ranges: {ranges}");
        let asked = fake
            .seen
            .lock()
            .unwrap()
            .iter()
            .filter(|seen| seen.headers.contains_key("range"))
            .count();
        assert_eq!(asked, 2);
    }
}

#[tokio::test]
async fn a_length_that_is_wrong_is_told_and_small_blobs_are_verified() {
    let fake = Fake::start(|_, _, _| content("layer", "application/octet-stream")).await;
    let registry = fake.registry();
    for size in [4, 6] {
        let error = all(&registry, &Digest::of(b"layer"), size).await.unwrap_err();
        assert!(matches!(error, ClientError::Length { actual: 5, .. }), "{error}");
    }
    let other = Digest::of(b"other");
    let error = registry.small_blob(&kettle(), &other, 5, 100).await.unwrap_err();
    assert!(matches!(error, ClientError::Mismatch { .. }), "{error}");
    let error = registry.small_blob(&kettle(), &other, 500, 100).await.unwrap_err();
    assert!(error.is_mismatch(), "too large to be small: {error}");
    let fake = Fake::start(|_, _, _| status(404)).await;
    let error = all(&fake.registry(), &other, 5).await.unwrap_err();
    assert!(matches!(error, ClientError::NotFound { wanted: NotThere::Blob(_), .. }), "{error}");
}

#[tokio::test]
async fn passing_faults_are_tried_again_and_lasting_ones_are_not() {
    for (first, requests) in [(503, 2), (429, 2), (408, 2), (502, 2)] {
        let answers = Mutex::new(VecDeque::from([first]));
        let fake = Fake::start(move |_, _, _| match answers.lock().unwrap().pop_front() {
            Some(code) => status(code),
            None => content(INDEX, media_type::INDEX),
        })
        .await;
        fake.registry().manifest(&kettle(), &tag("1")).await.unwrap();
        assert_eq!(fake.lines().len(), requests, "{first}");
    }
    for lasting in [400, 403, 406, 410, 501] {
        let fake = Fake::start(move |_, _, _| {
            let body = r#"{"errors":[{"code":"DENIED","message":"not\u001b[31m you"}]}"#;
            let mut answer = content(body, "application/json");
            *answer.status_mut() = StatusCode::from_u16(lasting).unwrap();
            answer
        })
        .await;
        let error = fake.registry().manifest(&kettle(), &tag("1")).await.unwrap_err();
        assert!(error.to_string().contains("“not\\u{1b}[31m you”"), "{error:?}");
        assert!(!error.is_passing());
        assert_eq!(fake.lines().len(), 1, "{lasting}");
    }
    let fake = Fake::start(|_, _, _| {
        let mut answer = status(429);
        answer.headers_mut().insert("retry-after", "100000".parse().unwrap());
        answer
    })
    .await;
    let error = fake.registry().manifest(&kettle(), &tag("1")).await.unwrap_err();
    assert!(matches!(error, ClientError::RateLimited { retry_after: Some(_), .. }), "{error}");
    assert_eq!(fake.lines().len(), 1, "a pause that is too long is not begun");
    let fake = Fake::start(|_, _, _| {
        let mut answer = status(429);
        answer
            .headers_mut()
            .insert("retry-after", "Fri, 31 Dec 2100 23:59:59 GMT".parse().unwrap());
        answer
    })
    .await;
    let error = fake.registry().manifest(&kettle(), &tag("1")).await.unwrap_err();
    assert!(matches!(error, ClientError::RateLimited { retry_after: Some(_), .. }), "{error}");
}

#[tokio::test]
async fn a_registry_that_never_answers_is_given_up() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let endpoint = format!("http://{}", listener.local_addr().unwrap()).parse().unwrap();
    let options = Options {
        silence: Duration::from_millis(50),
        retries: 1,
        ..Options::new("silent.example", endpoint)
    };
    let error = Registry::new(options).unwrap().greet().await.unwrap_err();
    assert!(error.to_string().contains("no answer in time"), "{error}");
}

#[tokio::test]
async fn tags_are_listed_page_by_page_and_only_here() {
    let fake = Fake::start(|_, path, _| {
        let (body, next) = match path.rsplit("last=").next() {
            Some("b") => {
                (r#"{"tags":["c","not a tag"]}"#, "<http://elsewhere.example/v2/x>; rel=\"next\"")
            }
            _ => (r#"{"tags":["a","b"]}"#, "</v2/library/kettle/tags/list?last=b>; rel=\"next\""),
        };
        let mut answer = content(body, "application/json");
        answer.headers_mut().insert("link", next.parse().unwrap());
        answer
    })
    .await;
    let tags = fake.registry().tags(&kettle()).await.unwrap();
    assert_eq!(tags.iter().map(ToString::to_string).collect::<Vec<_>>(), ["a", "b", "c"]);
    let fake =
        Fake::start(|_, _, _| content(r#"{"name":"x","tags":null}"#, "application/json")).await;
    assert!(fake.registry().tags(&kettle()).await.unwrap().is_empty());
}

#[tokio::test]
async fn no_more_streams_are_open_than_allowed() {
    let (open, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let (now, peak) = (Arc::clone(&open), Arc::clone(&most));
    let fake = Fake::start(move |_, _, _| {
        let count = now.fetch_add(1, Ordering::SeqCst) + 1;
        peak.fetch_max(count, Ordering::SeqCst);
        let now = Arc::clone(&now);
        let body = stream::once(async move {
            tokio::time::sleep(Duration::from_millis(30)).await;
            now.fetch_sub(1, Ordering::SeqCst);
            Ok::<_, std::io::Error>(Bytes::from_static(b"layer"))
        });
        Response::new(Body::from_stream(body))
    })
    .await;
    let registry = Registry::new(Options { parallel: 2, ..fake.options() }).unwrap();
    let digest = Digest::of(b"layer");
    let streams = (0..6).map(|_| all(&registry, &digest, 5));
    for outcome in futures_util::future::join_all(streams).await {
        assert_eq!(outcome.unwrap(), b"layer");
    }
    assert!(most.load(Ordering::SeqCst) <= 2);
}

/// A registry that takes uploads.
async fn taking(mount: u16) -> Fake {
    Fake::start(move |method, path, _| {
        let mut answer = match *method {
            Method::POST if path.contains("mount=") => status(mount),
            Method::POST | Method::PATCH => status(202),
            Method::PUT => status(201),
            Method::DELETE => status(204),
            _ => status(404),
        };
        answer
            .headers_mut()
            .insert("location", "/v2/library/kettle/blobs/uploads/1?state=x".parse().unwrap());
        answer
    })
    .await
}

fn chunks(
    pieces: &[&'static str],
) -> impl futures_util::Stream<Item = Result<Bytes, String>> + use<> {
    let pieces: Vec<Result<Bytes, String>> = pieces
        .iter()
        .map(|piece| match *piece {
            "error" => Err("the disk is gone".to_owned()),
            piece => Ok(Bytes::from_static(piece.as_bytes())),
        })
        .collect();
    stream::iter(pieces)
}

#[tokio::test]
async fn a_push_becomes_visible_only_when_it_is_right() {
    let digest = Digest::of(b"layer");
    let fake = taking(202).await;
    fake.registry().push_blob(&kettle(), &digest, 5, chunks(&["la", "yer"])).await.unwrap();
    let put = format!(
        "PUT /v2/library/kettle/blobs/uploads/1?state=x&digest={}",
        digest.as_str().replace(':', "%3A")
    );
    assert_eq!(fake.lines().last(), Some(&put));

    for (pieces, words) in [
        (&["la", "xxx"][..], "that has the digest"),
        (&["la", "error"][..], "could not be read: the disk is gone"),
    ] {
        let fake = taking(202).await;
        let error =
            fake.registry().push_blob(&kettle(), &digest, 5, chunks(pieces)).await.unwrap_err();
        assert!(error.to_string().contains(words), "{error}");
        let lines = fake.lines();
        assert!(lines.iter().all(|line| !line.starts_with("PUT")), "{lines:?}");
        assert!(
            lines.iter().any(|line| line.starts_with("DELETE")),
            "the upload is given up: {lines:?}"
        );
    }
}

#[tokio::test]
async fn a_mount_that_is_refused_leaves_no_upload_open() {
    let digest = Digest::of(b"layer");
    let from: RepositoryName = "library/other".parse().unwrap();
    for (answer, outcome) in
        [(201, Mount::Done), (202, Mount::Refused), (404, Mount::Refused), (405, Mount::Refused)]
    {
        let fake = taking(answer).await;
        assert_eq!(fake.registry().mount(&kettle(), &digest, &from).await.unwrap(), outcome);
        let cancelled = fake.lines().iter().any(|line| line.starts_with("DELETE"));
        assert_eq!(cancelled, answer == 202);
    }
}

#[test]
fn credentials_do_not_print_their_secret() {
    let credentials = Credentials { user: "emberfall".into(), secret: "made-up".into() };
    assert!(!format!("{credentials:?}").contains("made-up"));
}
