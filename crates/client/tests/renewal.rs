//! A login that ends or is replaced while we run.
#![allow(clippy::unwrap_used)]

mod fake;

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};

use axum::http::HeaderMap;
use base64::Engine as _;
use fake::{Answer, Fake, content, status};
use larder_client::{Account, ClientError, Credentials, Fresh, Options, Registry};

/// How a registry lets its clients in.
#[derive(Clone, Copy)]
enum Way {
    Basic,
    /// It says 403 to a login that has ended.
    BasicForbidden,
    Token,
}

fn basic(secret: &str) -> String {
    let pair = base64::engine::general_purpose::STANDARD.encode(format!("emberfall:{secret}"));
    format!("Basic {pair}")
}

fn challenge(text: &str) -> Answer {
    let mut answer = status(401);
    answer.headers_mut().insert("www-authenticate", text.parse().unwrap());
    answer
}

/// A registry, and the secret that it takes now.
async fn registry(way: Way) -> (Fake, Arc<Mutex<&'static str>>) {
    let good = Arc::new(Mutex::new("first"));
    let (taken, address) = (Arc::clone(&good), Arc::new(Mutex::new(String::new())));
    let own = Arc::clone(&address);
    let fake = Fake::start(move |_, path, headers: &HeaderMap| {
        let shown = headers.get("authorization").map(|shown| shown.to_str().unwrap());
        let good = *taken.lock().unwrap();
        let is_known = shown == Some(basic(good).as_str());
        match way {
            Way::Token if path.starts_with("/token") && is_known => {
                content(format!("{{\"token\":\"for-{good}\"}}"), "application/json")
            }
            Way::Token if path.starts_with("/token") => status(401),
            Way::Token if shown == Some(&format!("Bearer for-{good}")) => status(200),
            Way::Token => {
                challenge(&format!("Bearer realm=\"http://{}/token\"", own.lock().unwrap()))
            }
            Way::Basic | Way::BasicForbidden if is_known => status(200),
            Way::BasicForbidden if shown.is_some() => status(403),
            Way::Basic | Way::BasicForbidden => challenge("Basic realm=\"a\""),
        }
    })
    .await;
    address.lock().unwrap().clone_from(&fake.address);
    (fake, good)
}

fn fresh(secret: &str, until: Option<SystemTime>) -> Fresh {
    Fresh { login: Credentials { user: "emberfall".into(), secret: secret.into() }, until }
}

/// The registry with an account that begins with a login, and whose source gives another.
fn signed_in(
    fake: &Fake,
    first: Fresh,
    next: Result<Fresh, String>,
) -> (Registry, Arc<AtomicUsize>) {
    let asked: Arc<AtomicUsize> = Arc::default();
    let times = Arc::clone(&asked);
    let source = move || {
        times.fetch_add(1, Ordering::Relaxed);
        next.clone()
    };
    let account = Some(Account::from_source("bazaar.example", first, Arc::new(source)));
    (Registry::new(Options { account, ..fake.options() }).unwrap(), asked)
}

/// As if so much time had gone by.
async fn later(time: Duration) {
    tokio::time::pause();
    tokio::time::advance(time).await;
    tokio::time::resume();
}

const MINUTE: Duration = Duration::from_secs(60);

#[tokio::test]
async fn a_login_that_was_replaced_is_asked_for_anew_and_the_request_succeeds() {
    for way in [Way::Basic, Way::BasicForbidden, Way::Token] {
        let (fake, good) = registry(way).await;
        let (registry, asked) = signed_in(&fake, fresh("first", None), Ok(fresh("second", None)));
        registry.greet().await.unwrap();
        assert_eq!(asked.load(Ordering::Relaxed), 0);
        *good.lock().unwrap() = "second";
        later(6 * MINUTE).await;
        let both = futures_util::future::join(registry.greet(), registry.greet()).await;
        both.0.unwrap();
        both.1.unwrap();
        assert_eq!(asked.load(Ordering::Relaxed), 1, "one asks for both");
        let before = fake.lines().len();
        registry.greet().await.unwrap();
        assert_eq!(fake.lines().len(), before + 1, "the new one is sent at once");
    }
}

#[tokio::test]
async fn a_login_that_has_ended_is_not_sent() {
    for way in [Way::Basic, Way::Token] {
        let (fake, good) = registry(way).await;
        *good.lock().unwrap() = "second";
        let (registry, asked) = signed_in(
            &fake,
            fresh("first", Some(SystemTime::now())),
            Ok(fresh("second", Some(SystemTime::now() + 60 * MINUTE))),
        );
        registry.greet().await.unwrap();
        registry.greet().await.unwrap();
        assert_eq!(asked.load(Ordering::Relaxed), 1);
        let seen = fake.seen.lock().unwrap();
        let old = basic("first");
        assert!(seen.iter().all(|seen| seen.authorization() != Some(&old)));
    }
}

#[tokio::test]
async fn the_same_login_again_is_refused_and_its_source_is_not_asked_for_each_request() {
    for way in [Way::Basic, Way::Token] {
        let (fake, good) = registry(way).await;
        let (registry, asked) = signed_in(&fake, fresh("first", None), Ok(fresh("first", None)));
        *good.lock().unwrap() = "second";
        later(MINUTE).await;
        for _ in 0..5 {
            let error = registry.greet().await.unwrap_err();
            assert!(matches!(error, ClientError::Denied { status: 401, signed_in: true, .. }));
        }
        assert_eq!(asked.load(Ordering::Relaxed), 1);
    }
}

#[tokio::test]
async fn a_403_asks_for_another_login_only_after_a_while() {
    let (fake, good) = registry(Way::BasicForbidden).await;
    let (registry, asked) = signed_in(&fake, fresh("first", None), Ok(fresh("second", None)));
    registry.greet().await.unwrap();
    *good.lock().unwrap() = "second";
    later(MINUTE).await;
    let error = registry.greet().await.unwrap_err();
    assert!(matches!(error, ClientError::Denied { status: 403, .. }), "{error}");
    assert_eq!(asked.load(Ordering::Relaxed), 0);
    later(5 * MINUTE).await;
    registry.greet().await.unwrap();
}

#[tokio::test]
async fn a_source_that_fails_says_why() {
    for way in [Way::Basic, Way::Token] {
        let (fake, good) = registry(way).await;
        let (registry, _) =
            signed_in(&fake, fresh("first", None), Err("the program ended with 3".into()));
        *good.lock().unwrap() = "second";
        later(MINUTE).await;
        let error = registry.greet().await.unwrap_err();
        assert!(matches!(error, ClientError::Login { .. }), "{error}");
        assert_eq!(
            error.to_string(),
            "there is no login for bazaar.example any more: the program ended with 3"
        );
        // What it was refused with may be good again.
        *good.lock().unwrap() = "first";
        registry.greet().await.unwrap();
    }
}
