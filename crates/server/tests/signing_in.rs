//! How somebody signs in, and what becomes of secrets and tokens that are wrong.
#![allow(clippy::unwrap_used)]

mod fixture;

use axum::http::StatusCode;
use larder_core::access::Who;
use larder_core::digest::Digest;
use larder_store::now;

use fixture::guarded::{House, basic, key, manifest, plan};

#[tokio::test]
async fn what_is_wrong_with_a_secret_or_token_is_refused() {
    let mut house = House::new(plan()).await;
    let good = house.keys["ci"].clone();
    house.issue("ci", 40, Some(now() - 1)).await;
    let expired = house.keys["ci"].clone();
    house.keys.insert("ci".into(), good.clone());
    house.issue("gone", 41, None).await;
    let gone = house.keys["gone"].clone();
    let path = "/v2/vendor/brinedb/manifests/1";
    for (authorization, said) in [
        (basic("ci", "password"), "neither a key"),
        (basic("ci", expired.reveal()), "has expired"),
        (basic("ci", key(50).reveal()), "no such key"),
        (basic("turbine-hall", good.reveal()), "is that of ci"),
        (basic("gone", gone.reveal()), "no longer declared"),
        (basic("ci", &good.reveal()[..60]), "a character is wrong or missing"),
        ("Bearer nonsense".into(), "none of this larder's"),
        ("Bearer a.b.c".into(), "none of this larder's"),
        ("Basic !!!".into(), "cannot be read"),
        ("Digest x".into(), "cannot be read"),
    ] {
        let answer = house.ask("GET", path, &authorization, b"").await;
        assert_eq!(answer.status, StatusCode::UNAUTHORIZED, "{said}");
        assert!(answer.text().contains(said), "{said}: {}", answer.text());
        assert!(answer.headers.contains_key("www-authenticate"), "{said}");
        assert!(!answer.text().contains(good.reveal()), "a secret is told");
    }
    let answer = house.ask("GET", "/larder/token", &basic("ci", "password"), b"").await;
    assert_eq!(answer.status, StatusCode::UNAUTHORIZED);
    let narrow = house.token("ci", &["apps/board"]).await;
    let answer = house.ask("GET", path, &narrow, b"").await;
    assert_eq!(
        answer.status,
        StatusCode::UNAUTHORIZED,
        "the grants would allow it, the token does not"
    );
    assert!(answer.header("www-authenticate").contains("insufficient_scope"));
    assert!(answer.header("www-authenticate").contains("repository:vendor/brinedb:pull"));
}

#[tokio::test]
async fn revoking_a_key_ends_its_tokens_at_once() {
    let house = House::new(plan()).await;
    let path = "/v2/vendor/kettle/manifests/1";
    let (token, login) =
        (house.token("turbine-hall", &["vendor/kettle"]).await, house.basic("turbine-hall"));
    for authorization in [&token, &login] {
        assert_eq!(house.ask("GET", path, authorization, b"").await.status, StatusCode::OK);
    }
    let id = house.keys["turbine-hall"].id();
    assert!(house.fixture.app.store.revoke_key(&id, now()).await.unwrap());
    for authorization in [&token, &login] {
        let answer = house.ask("GET", path, authorization, b"").await;
        assert_eq!(answer.status, StatusCode::UNAUTHORIZED);
        assert!(answer.text().contains("revoked"), "{}", answer.text());
    }
}

#[tokio::test]
async fn tokens_are_had_in_every_form_of_the_protocol() {
    let house = House::new(plan()).await;
    let secret = house.keys["turbine-hall"].reveal().to_owned();
    let form = |text: String| {
        let house = &house;
        async move {
            let headers = [("content-type", "application/x-www-form-urlencoded; charset=utf-8")];
            house.fixture.send("POST", "/larder/token", &headers, text.as_bytes()).await
        }
    };
    let scope = "scope=repository%3Avendor%2Fkettle%3Apull&service=larder.example";
    let exchange = "grant_type=urn:ietf:params:oauth:grant-type:token-exchange&subject_token_type=urn:ietf:params:oauth:token-type:jwt";
    for text in [
        format!("client_id=c&grant_type=password&password={secret}&username=turbine-hall&{scope}"),
        format!("grant_type=refresh_token&refresh_token={secret}&{scope}"),
        format!("{exchange}&subject_token={secret}&{scope}"),
    ] {
        let answer = form(text.clone()).await;
        assert_eq!(answer.status, StatusCode::OK, "{}", answer.text());
        assert_eq!(answer.header("cache-control"), "no-store");
        let document = answer.json();
        assert_eq!(document["token"], document["access_token"]);
        assert!(document["expires_in"].as_i64().unwrap() > 60 && document["issued_at"].is_string());
        let bearer = format!("Bearer {}", document["token"].as_str().unwrap());
        let answer = house.ask("GET", "/v2/vendor/kettle/manifests/1", &bearer, b"").await;
        assert_eq!(answer.status, StatusCode::OK);
        // A token stands for a secret too, and never for more than it names.
        let again = house.ask("GET", "/larder/token?scope=repository:vendor/brinedb:pull&scope=repository:vendor/kettle:pull", &basic("turbine-hall", &bearer[7..]), b"").await;
        let narrow = format!("Bearer {}", again.json()["token"].as_str().unwrap());
        let answer = house.ask("GET", "/v2/vendor/kettle/manifests/1", &narrow, b"").await;
        assert_eq!(answer.status, StatusCode::OK);
        let answer = house.ask("GET", "/v2/vendor/brinedb/manifests/1", &narrow, b"").await;
        assert_eq!(answer.status, StatusCode::UNAUTHORIZED, "more than the first token named");
    }
    for (text, status) in [
        (
            "grant_type=password&username=turbine-hall&password=wrong".to_owned(),
            StatusCode::UNAUTHORIZED,
        ),
        ("grant_type=password&username=turbine-hall".into(), StatusCode::BAD_REQUEST),
        ("grant_type=authorization_code&code=x".into(), StatusCode::BAD_REQUEST),
        (format!("{exchange}x&subject_token=y"), StatusCode::BAD_REQUEST),
        (
            format!("grant_type=password&password={}", "x".repeat(70_000)),
            StatusCode::PAYLOAD_TOO_LARGE,
        ),
        (
            format!("grant_type=password&username=turbine-hall&password={secret}&scope=nonsense"),
            StatusCode::BAD_REQUEST,
        ),
    ] {
        assert_eq!(form(text.clone()).await.status, status, "{text:.60}");
    }
    assert_eq!(
        house.ask("PUT", "/larder/token", "", b"").await.status,
        StatusCode::METHOD_NOT_ALLOWED
    );
    let greeted = house.ask("GET", "/v2/", "", b"").await;
    assert_eq!(greeted.status, StatusCode::UNAUTHORIZED);
    let challenges: Vec<_> = greeted.headers.get_all("www-authenticate").iter().collect();
    assert!(
        challenges.len() == 2
            && challenges[0].to_str().unwrap().starts_with(
                "Bearer realm=\"http://larder.example/larder/token\",service=\"larder.example\""
            )
    );
    assert_eq!(house.ask("GET", "/v2/", &house.basic("ci"), b"").await.status, StatusCode::OK);
}

#[tokio::test(start_paused = true)]
async fn guessing_is_slowed_and_the_right_secret_is_not() {
    let house = House::new(plan()).await;
    let path = "/larder/token";
    let mut waits = Vec::new();
    for guess in 60..75 {
        let began = tokio::time::Instant::now();
        house.ask("GET", path, &basic("ci", key(guess).reveal()), b"").await;
        waits.push(began.elapsed().as_millis());
    }
    assert!(waits[0] < 100 && waits[14] >= 3000, "{waits:?}");
    let began = tokio::time::Instant::now();
    let answer = house.ask("GET", path, &house.basic("ci"), b"").await;
    assert_eq!(answer.status, StatusCode::OK);
    assert!(began.elapsed().as_millis() < 100, "nobody is locked out by somebody else's guesses");
}

#[test]
fn the_users_of_this_test_are_whom_the_plan_means() {
    assert_eq!(
        plan().court.grants.who("turbine-hall/scada"),
        Some(Who::cluster("turbine-hall", Some("scada")))
    );
}

#[tokio::test]
async fn a_token_that_ends_inside_a_pull_is_good_for_what_that_pull_began() {
    use larder_core::access::Action;
    use larder_core::access::token::{LATE, LIFE, SignedInBy, Signer, TokenAccess};
    let house = House::new(plan()).await;
    let signer = |seed: u8, host: &str| Signer::new(&[seed; 32], host).unwrap();
    let (ours, who) = (signer(9, "larder.example"), Who::cluster("turbine-hall", None));
    let by = Some(SignedInBy::Key(house.keys["turbine-hall"].id().to_string()));
    let access = vec![TokenAccess::repository(&"vendor/kettle".parse().unwrap(), &[Action::Pull])];
    let now = now() / 1000;
    let issue = |signer: &Signer, at: i64| {
        let (token, _) = signer.issue(&who, by.clone(), None, access.clone(), at, "x".into());
        format!("Bearer {token}")
    };
    let digest = Digest::of(manifest().as_bytes());
    let by_tag = "/v2/vendor/kettle/manifests/1".to_owned();
    let by_digest = format!("/v2/vendor/kettle/manifests/{digest}");
    let blob = format!("/v2/vendor/kettle/blobs/{}", Digest::of(b"layer"));
    // It began nothing while it was good.
    let ended = issue(&ours, now - LIFE - 5);
    for path in [&by_tag, &by_digest, &blob] {
        let answer = house.ask("GET", path, &ended, b"").await;
        assert_eq!(answer.status.as_u16(), 401, "{path}: {}", answer.text());
    }
    // This one ends in the middle of a pull: that may go on, and nothing else.
    let ends = larder_store::now() / 1000 + 2;
    let (token, life) =
        ours.issue(&who, by.clone(), Some(ends), access.clone(), ends - 2, "y".into());
    assert_eq!(life, 2);
    let ending = format!("Bearer {token}");
    assert_eq!(house.ask("GET", &by_tag, &ending, b"").await.status, StatusCode::OK);
    while larder_store::now() / 1000 < ends {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let other = format!("/v2/vendor/kettle/blobs/{}", Digest::of(b"not of this image"));
    for (path, status) in [(&by_tag, 401), (&by_digest, 200), (&blob, 200), (&other, 401)] {
        let answer = house.ask("GET", path, &ending, b"").await;
        assert_eq!(answer.status.as_u16(), status, "{path}: {}", answer.text());
    }
    let login = basic("turbine-hall", &token);
    assert_eq!(
        house.ask("GET", "/larder/token", &login, b"").await.status,
        StatusCode::UNAUTHORIZED
    );
    let tags = house.ask("GET", "/v2/vendor/kettle/tags/list", &ended, b"").await;
    assert!(tags.header("www-authenticate").contains("invalid_token"));
    for (token, why) in [
        (issue(&ours, now - LIFE - LATE - 5), "long over"),
        (issue(&ours, now + 300), "not good yet"),
        (issue(&signer(8, "larder.example"), now), "signed by another"),
        (issue(&signer(9, "other.example"), now), "for another registry"),
    ] {
        for path in [&by_tag, &by_digest, &blob] {
            assert_eq!(
                house.ask("GET", path, &token, b"").await.status,
                StatusCode::UNAUTHORIZED,
                "{why}"
            );
        }
        // As a secret it is no better.
        let login = basic("turbine-hall", &token[7..]);
        assert_eq!(
            house.ask("GET", "/larder/token", &login, b"").await.status,
            StatusCode::UNAUTHORIZED,
            "{why}"
        );
    }
    let good = issue(&ours, now);
    assert_eq!(house.ask("GET", &by_tag, &good, b"").await.status, StatusCode::OK);
}
