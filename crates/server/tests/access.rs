//! Who may do what, through the registry as it answers.
#![allow(missing_docs, clippy::unwrap_used)]

mod fixture;

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::http::StatusCode;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use larder_core::access::grants::{ClusterPermits, Grants, Patterns, Permits};
use larder_core::access::key::{Key, Pepper, RANDOM};
use larder_core::access::{Line, Who};
use larder_core::digest::Digest;
use larder_core::policy::{Asks, Classes, Rule, Rules, Verdict};
use larder_server::{AccessPlan, Settings};
use larder_store::{Filter, KeyRecord, Kind, now};

use fixture::{Answer, Fixture, MANIFEST};

const SECRET: [u8; 32] = [9; 32];

fn patterns(texts: &[&str]) -> Patterns {
    let line = Line { file: "larder.toml".into(), number: 7 };
    Patterns::new(texts.iter().map(|text| (text.parse().unwrap(), line.clone())).collect()).unwrap()
}

fn permits(pull: &[&str], push: &[&str], delete: &[&str]) -> Permits {
    let (pull, push, delete) = (patterns(pull), patterns(push), patterns(delete));
    Permits { pull, push, delete, line: Line { file: "larder.toml".into(), number: 6 } }
}

fn plan() -> AccessPlan {
    let namespaces = [
        ("scada".into(), None),
        ("historian".into(), Some(permits(&["vendor/brinedb"], &[], &[]))),
    ];
    let turbine =
        ClusterPermits { whole: permits(&["vendor/**"], &[], &[]), namespaces: namespaces.into() };
    let grants = Grants {
        anonymous: patterns(&["public/**"]),
        accounts: [
            ("ci".into(), permits(&["vendor/brinedb"], &["apps/**"], &[])),
            ("keeper".into(), permits(&["**"], &["**"], &["**"])),
        ]
        .into(),
        clusters: [("turbine-hall".into(), turbine)].into(),
    };
    AccessPlan { open: false, grants, ..fixture::open() }
}

struct House {
    fixture: Fixture,
    keys: BTreeMap<String, Key>,
}

fn key(seed: u8) -> Key {
    Key::new(&[seed; RANDOM])
}

impl House {
    async fn new(plan: AccessPlan) -> Self {
        let fixture = Fixture::guarded(Settings::default(), plan, &SECRET);
        let mut house = Self { fixture, keys: BTreeMap::new() };
        let users =
            ["ci", "keeper", "turbine-hall", "turbine-hall/scada", "turbine-hall/historian"];
        for (seed, user) in users.into_iter().enumerate() {
            house.issue(user, u8::try_from(seed).unwrap() + 1, None).await;
        }
        let keeper = house.basic("keeper");
        for repository in ["vendor/kettle", "vendor/brinedb", "apps/board", "public/notes"] {
            house.push(repository, &keeper).await;
        }
        house
    }

    async fn issue(&mut self, user: &str, seed: u8, expires: Option<i64>) {
        let made = key(seed);
        let record = KeyRecord {
            id: made.id(),
            user: user.into(),
            hash: Pepper::new(&SECRET).hash(&made),
            issued: now(),
            expires,
            revoked: None,
            replaces: None,
            used: None,
            used_from: None,
        };
        self.fixture.app.store.keyring.add_key(record).await.unwrap();
        self.keys.insert(user.into(), made);
    }

    fn basic(&self, user: &str) -> String {
        basic(user, self.keys[user].reveal())
    }

    async fn ask(&self, method: &str, path: &str, authorization: &str, body: &[u8]) -> Answer {
        let mut headers = vec![("content-type", MANIFEST), ("host", "larder.example")];
        if !authorization.is_empty() {
            headers.push(("authorization", authorization));
        }
        self.fixture.send(method, path, &headers, body).await
    }

    async fn push(&self, repository: &str, authorization: &str) -> StatusCode {
        for content in [&b"{}"[..], b"layer"] {
            let path = format!("/v2/{repository}/blobs/uploads/?digest={}", Digest::of(content));
            let answer = self.ask("POST", &path, authorization, content).await;
            if answer.status != StatusCode::CREATED {
                return answer.status;
            }
        }
        let path = format!("/v2/{repository}/manifests/1");
        self.ask("PUT", &path, authorization, manifest().as_bytes()).await.status
    }

    /// A token for everything that a client could ask of these repositories.
    async fn token(&self, user: &str, repositories: &[&str]) -> String {
        let scopes: Vec<String> = repositories
            .iter()
            .map(|name| format!("scope=repository:{name}:pull,push,delete"))
            .collect();
        let path = format!("/larder/token?{}&scope=registry:catalog:*", scopes.join("&"));
        let login = if user.is_empty() { String::new() } else { self.basic(user) };
        let answer = self.ask("GET", &path, &login, b"").await;
        assert_eq!(answer.status, StatusCode::OK, "{user}: {}", answer.text());
        format!("Bearer {}", answer.json()["token"].as_str().unwrap())
    }
}

fn basic(user: &str, secret: &str) -> String {
    format!("Basic {}", STANDARD.encode(format!("{user}:{secret}")))
}

fn manifest() -> String {
    let (config, layer) = (Digest::of(b"{}"), Digest::of(b"layer"));
    format!(
        r#"{{"schemaVersion":2,"mediaType":"{MANIFEST}","config":{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{config}","size":2}},"layers":[{{"mediaType":"application/vnd.oci.image.layer.v1.tar","digest":"{layer}","size":5}}]}}"#
    )
}

const REPOSITORIES: [&str; 6] =
    ["vendor/kettle", "vendor/brinedb", "apps/board", "public/notes", "vendor/absent", "absent/x"];

/// What the grants above mean, said once more in another way.
fn may(user: &str, action: &str, repository: &str) -> bool {
    let vendor = repository.starts_with("vendor/");
    let public = action == "pull" && repository.starts_with("public/");
    public
        || match (user, action) {
            ("keeper", _) => true,
            ("ci", "pull") => repository == "vendor/brinedb" || repository.starts_with("apps/"),
            ("ci", "push") => repository.starts_with("apps/"),
            ("turbine-hall" | "turbine-hall/scada", "pull") => vendor,
            ("turbine-hall/historian", "pull") => repository == "vendor/brinedb",
            _ => false,
        }
}

#[tokio::test]
async fn everybody_may_exactly_what_is_granted_and_the_rest_looks_as_if_it_were_not_there() {
    let house = House::new(plan()).await;
    let digest = Digest::of(manifest().as_bytes());
    let layer = Digest::of(b"layer");
    let upload = larder_store::UploadId::fresh();
    let users =
        ["", "ci", "keeper", "turbine-hall", "turbine-hall/scada", "turbine-hall/historian"];
    for user in users {
        let token = house.token(user, &REPOSITORIES).await;
        let login = if user.is_empty() { String::new() } else { house.basic(user) };
        for (authorization, by_token) in [(&login, false), (&token, true)] {
            let mut hidden: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
            for repository in REPOSITORIES {
                let there = !repository.contains("absent");
                for (method, path, action) in [
                    ("HEAD", "manifests/1".to_owned(), "pull"),
                    ("GET", "manifests/1".into(), "pull"),
                    ("GET", format!("manifests/{digest}"), "pull"),
                    ("GET", "manifests/9".into(), "pull"),
                    ("HEAD", format!("blobs/{layer}"), "pull"),
                    ("GET", format!("blobs/{layer}"), "pull"),
                    ("GET", format!("blobs/{}", Digest::of(b"other")), "pull"),
                    ("GET", "tags/list".into(), "pull"),
                    ("GET", format!("referrers/{digest}"), "pull"),
                    ("DELETE", "manifests/9".into(), "delete"),
                    ("DELETE", format!("blobs/{}", Digest::of(b"other")), "delete"),
                    ("PUT", "manifests/1".into(), "push"),
                    ("GET", format!("blobs/uploads/{upload}"), "push"),
                ] {
                    let full = format!("/v2/{repository}/{path}");
                    let body = if method == "PUT" { manifest() } else { String::new() };
                    if method == "PUT" && !there {
                        continue;
                    }
                    let answer = house.ask(method, &full, authorization, body.as_bytes()).await;
                    let said =
                        format!("{user:?} {method} {full} (token {by_token}): {}", answer.status);
                    if may(user, action, repository) {
                        let other = Digest::of(b"other");
                        let absent = !there
                            || path == "manifests/9"
                            || path.contains("uploads")
                            || path.contains(other.as_str());
                        assert!(
                            answer.status.is_success() || answer.status == StatusCode::NOT_FOUND,
                            "{said}: {}",
                            answer.text()
                        );
                        assert_eq!(
                            answer.status.is_success(),
                            !absent || path.starts_with("referrers"),
                            "{said}"
                        );
                        continue;
                    }
                    let anonymous = user.is_empty() && !by_token;
                    let expected =
                        if anonymous { StatusCode::UNAUTHORIZED } else { StatusCode::FORBIDDEN };
                    assert_eq!(answer.status, expected, "{said}: {}", answer.text());
                    assert_eq!(
                        answer.headers.contains_key("www-authenticate"),
                        anonymous,
                        "{said}"
                    );
                    let without = answer.text().replace(repository, "R");
                    let without = without
                        .rsplit_once(" [")
                        .map_or(without.clone(), |(before, _)| before.to_owned());
                    hidden
                        .entry(format!("{method} {path}"))
                        .or_default()
                        .insert(repository.into(), without);
                }
            }
            for (what, answers) in hidden {
                let mut texts: Vec<&String> = answers.values().collect();
                texts.dedup();
                assert_eq!(texts.len(), 1, "{user:?}: {what} tells what is there: {answers:?}");
            }
            let catalog = house.ask("GET", "/v2/_catalog", authorization, b"").await;
            if user.is_empty() {
                assert_eq!(catalog.status, StatusCode::UNAUTHORIZED);
                continue;
            }
            let listed: Vec<String> =
                serde_json::from_value(catalog.json()["repositories"].clone()).unwrap();
            let mut visible: Vec<&str> = REPOSITORIES
                .into_iter()
                .filter(|name| !name.contains("absent") && may(user, "pull", name))
                .collect();
            visible.sort_unstable();
            assert_eq!(listed, visible, "{user}");
        }
    }
}

#[tokio::test]
async fn a_blob_is_mounted_only_from_where_it_may_be_pulled() {
    let house = House::new(plan()).await;
    let layer = Digest::of(b"layer");
    for (user, from, status) in [
        ("ci", "vendor/brinedb", StatusCode::CREATED),
        ("ci", "vendor/kettle", StatusCode::ACCEPTED),
        ("ci", "absent/x", StatusCode::ACCEPTED),
        ("keeper", "vendor/kettle", StatusCode::CREATED),
    ] {
        let path = format!("/v2/apps/fresh/blobs/uploads/?mount={layer}&from={from}");
        let answer = house.ask("POST", &path, &house.basic(user), b"").await;
        assert_eq!(answer.status, status, "{user} from {from}");
        // A token that does not name the source is no better than a grant that does not.
        let token = house.token(user, &["apps/fresh"]).await;
        let answer = house.ask("POST", &path, &token, b"").await;
        assert_eq!(answer.status, StatusCode::ACCEPTED, "{user} from {from} with a narrow token");
    }
    let anywhere = format!("/v2/apps/fresh/blobs/uploads/?mount={layer}");
    let answer = house.ask("POST", &anywhere, &house.basic("ci"), b"").await;
    assert_eq!(answer.status, StatusCode::ACCEPTED, "whether anybody has it is not told");
}

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
    assert!(house.fixture.app.store.keyring.revoke_key(&id, now()).await.unwrap());
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

#[tokio::test]
async fn a_changed_configuration_holds_for_tokens_that_are_out() {
    let house = House::new(plan()).await;
    let path = "/v2/vendor/kettle/manifests/1";
    let token = house.token("turbine-hall/scada", &["vendor/kettle"]).await;
    assert_eq!(house.ask("GET", path, &token, b"").await.status, StatusCode::OK);
    let mut changed = plan();
    let turbine = changed.grants.clusters.get_mut("turbine-hall").unwrap();
    turbine.namespaces.insert("scada".into(), Some(permits(&["vendor/brinedb"], &[], &[])));
    house.fixture.app.set_access(changed);
    let answer = house.ask("GET", path, &token, b"").await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
    assert!(
        answer.text().contains("the namespace scada of turbine-hall may not pull vendor/kettle"),
        "{}",
        answer.text()
    );
    let mut gone = plan();
    gone.grants.clusters.clear();
    house.fixture.app.set_access(gone);
    assert_eq!(house.ask("GET", path, &token, b"").await.status, StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn a_rule_refuses_with_its_reason_and_a_number_that_the_record_has() {
    let mut plan = plan();
    let pattern = ["larder.example/vendor/kettle".parse().unwrap()];
    plan.classes = Classes::new([("community", &pattern[..])]).unwrap();
    let rule = |name: &str, classes: &[&str], asks: Asks, verdict| Rule {
        name: name.into(),
        clusters: vec!["turbine-hall".into()],
        namespaces: Vec::new(),
        classes: classes.iter().map(|name| Box::from(*name)).collect(),
        images: Vec::new(),
        asks,
        verdict,
        because: "runs the turbines; ask for an intake entry instead".into(),
        line: Line { file: "larder.toml".into(), number: 88 },
    };
    plan.rules = Rules::new(vec![
        rule("nothing unvetted", &["community"], Asks::default(), Verdict::Deny),
        rule("own images are meant by nobody", &[], Asks::default(), Verdict::Deny),
    ])
    .unwrap();
    let house = House::new(plan).await;
    let token = house.token("turbine-hall/scada", &["vendor/kettle", "vendor/brinedb"]).await;
    let path = "/v2/vendor/kettle/manifests/1";
    let answer = house.ask("GET", path, &token, b"").await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
    let text = answer.json()["errors"][0]["message"].as_str().unwrap().to_owned();
    let expected = "vendor/kettle:1 is refused by rule `nothing unvetted`: runs the turbines; ask for an intake entry instead [";
    assert!(text.starts_with(expected), "{text}");
    let number = text[expected.len()..].trim_end_matches(']').to_owned();
    let blob = format!("/v2/vendor/kettle/blobs/{}", Digest::of(b"layer"));
    assert_eq!(house.ask("GET", &blob, &token, b"").await.status, StatusCode::FORBIDDEN);
    let own = house.ask("GET", "/v2/vendor/brinedb/manifests/1", &token, b"").await;
    assert_eq!(
        own.status,
        StatusCode::OK,
        "our own images are meant by a rule that names them alone"
    );
    let other = house.ask("GET", path, &house.basic("keeper"), b"").await;
    assert_eq!(other.status, StatusCode::OK, "the rule is for turbine-hall");
    house.fixture.app.write_tally().await;
    let filter = Filter { number: Some(number), ..Filter::default() };
    let found = house.fixture.app.store.record.entries(filter).await.unwrap();
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].kind, found[0].who.as_str()), (Kind::Refused, "turbine-hall/scada"));
    assert_eq!(found[0].line.as_deref(), Some("larder.toml:88"));
    assert_eq!(found[0].reference.as_deref(), Some("vendor/kettle:1"));
}

#[tokio::test]
async fn what_a_rule_asks_of_an_image_is_looked_up() {
    let asks = |asks: Asks, verdict| {
        let mut plan = plan();
        let all = ["**".parse().unwrap()];
        plan.classes = Classes::new([("any", &all[..])]).unwrap();
        let rule = Rule {
            name: "asks".into(),
            clusters: Vec::new(),
            namespaces: Vec::new(),
            classes: vec!["any".into()],
            images: Vec::new(),
            asks,
            verdict,
            because: "the house's rule".into(),
            line: Line::default(),
        };
        plan.rules = Rules::new(vec![rule]).unwrap();
        plan
    };
    let house = House::new(plan()).await;
    let keeper = house.basic("keeper");
    let config = br#"{"os":"linux","architecture":"arm64","created":"2020-01-01T00:00:00Z"}"#;
    let blob =
        |content: &[u8]| format!("/v2/apps/real/blobs/uploads/?digest={}", Digest::of(content));
    house.ask("POST", &blob(config), &keeper, config).await;
    let image = format!(
        r#"{{"schemaVersion":2,"config":{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{}","size":{}}},"layers":[]}}"#,
        Digest::of(config),
        config.len()
    );
    house.ask("PUT", "/v2/apps/real/manifests/1", &keeper, image.as_bytes()).await;
    let digest = Digest::of(image.as_bytes());
    let get = |path: String| {
        let (house, keeper) = (&house, &keeper);
        async move { house.ask("GET", &path, keeper, b"").await }
    };
    let by_tag = || get("/v2/apps/real/manifests/1".into());
    let platform = |text: &str| Asks { platforms: vec![text.parse().unwrap()], ..Asks::default() };
    let age = |age: i64| Asks { age: Some(age), ..Asks::default() };
    let signature = Asks { signature: true, ..Asks::default() };
    for (asked, fine) in [
        (platform("linux/arm64"), true),
        (platform("linux/amd64"), false),
        (age(1000), true),
        (age(i64::MAX), false),
        (signature.clone(), false),
        (Asks { digest: true, ..Asks::default() }, false),
        (Asks { fixed_tag: true, ..Asks::default() }, true),
    ] {
        house.fixture.app.set_access(asks(asked.clone(), Verdict::Deny));
        let answer = by_tag().await;
        assert_eq!(answer.status == StatusCode::OK, fine, "{asked:?}: {}", answer.text());
    }
    assert_eq!(get(format!("/v2/apps/real/manifests/{digest}")).await.status, StatusCode::OK);
    house.fixture.app.set_access(asks(signature.clone(), Verdict::Warn));
    let warned = by_tag().await;
    assert_eq!(warned.status, StatusCode::OK);
    assert!(
        warned.header("warning").contains("no signature refers to it"),
        "{}",
        warned.header("warning")
    );
    let artifact = format!(
        r#"{{"schemaVersion":2,"artifactType":"application/vnd.emberfall.signature.v1","config":{{"mediaType":"application/vnd.oci.empty.v1+json","digest":"{}","size":2}},"layers":[],"subject":{{"mediaType":"{MANIFEST}","digest":"{digest}","size":{}}}}}"#,
        Digest::of(b"{}"),
        image.len()
    );
    house.fixture.app.set_access(plan());
    house.ask("POST", &blob(b"{}"), &keeper, b"{}").await;
    let path = format!("/v2/apps/real/manifests/{}", Digest::of(artifact.as_bytes()));
    let pushed = house.ask("PUT", &path, &keeper, artifact.as_bytes()).await;
    assert_eq!(pushed.status, StatusCode::CREATED, "{}", pushed.text());
    house.fixture.app.set_access(asks(signature, Verdict::Deny));
    assert_eq!(by_tag().await.status, StatusCode::OK, "it is signed now");
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

#[tokio::test]
async fn nodes_are_believed_by_what_cannot_be_made_up_and_never_asked_for_a_secret() {
    let mut plan = plan();
    plan.clusters = vec![larder_server::Cluster {
        name: "turbine-hall".into(),
        certificate: Some(Arc::from(&b"shown"[..])),
        nodes: vec!["10.4.0.0/16".parse().unwrap()],
        identity: None,
    }];
    let house = House::new(plan).await;
    let path = "/c/turbine-hall/v2/vendor/kettle/manifests/1";
    let answer = house.ask("GET", path, "", b"").await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN, "anybody can write that path");
    assert!(!answer.headers.contains_key("www-authenticate"));
    assert!(answer.text().contains("in a way that is believed"), "{}", answer.text());
    let answer = house.ask("GET", path, &house.basic("turbine-hall"), b"").await;
    assert_eq!(answer.status, StatusCode::OK);
    let answer = house.ask("GET", path, &basic("turbine-hall", "wrong"), b"").await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN, "a node is never answered 401");
    assert_eq!(house.ask("GET", "/c/nobody/v2/", "", b"").await.status, StatusCode::FORBIDDEN);
}

#[test]
fn the_users_of_this_test_are_whom_the_plan_means() {
    assert_eq!(
        plan().grants.who("turbine-hall/scada"),
        Some(Who::cluster("turbine-hall", Some("scada")))
    );
}

#[tokio::test]
async fn a_token_that_ended_inside_a_pull_is_good_for_content_by_digest() {
    use larder_core::access::Action;
    use larder_core::access::token::{Access, By, LATE, LIFE, Signer};
    let house = House::new(plan()).await;
    let signer = |seed: u8, host: &str| Signer::new(&[seed; 32], host).unwrap();
    let (ours, who) = (signer(9, "larder.example"), Who::cluster("turbine-hall", None));
    let by = Some(By::Key(house.keys["turbine-hall"].id().to_string()));
    let access = vec![Access::repository(&"vendor/kettle".parse().unwrap(), &[Action::Pull])];
    let now = now() / 1000;
    let issue = |signer: &Signer, at: i64| {
        let token = signer.issue(&who, by.clone(), access.clone(), at, "x".into());
        format!("Bearer {token}")
    };
    let digest = Digest::of(manifest().as_bytes());
    let by_tag = "/v2/vendor/kettle/manifests/1".to_owned();
    let by_digest = format!("/v2/vendor/kettle/manifests/{digest}");
    let blob = format!("/v2/vendor/kettle/blobs/{}", Digest::of(b"layer"));
    let ended = issue(&ours, now - LIFE - 5);
    for _ in 0..2 {
        for (path, status) in [(&by_tag, 401), (&by_digest, 200), (&blob, 200)] {
            let answer = house.ask("GET", path, &ended, b"").await;
            assert_eq!(answer.status.as_u16(), status, "{path}: {}", answer.text());
        }
    }
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

#[tokio::test]
async fn what_comes_with_anonymous_grants_needs_no_sign_in_and_shows_nothing_else() {
    let house = House::new(plan()).await;
    assert_eq!(
        house.ask("GET", "/v2/public/notes/manifests/1", "", b"").await.status,
        StatusCode::OK
    );
    let token = house.token("", &["public/notes", "vendor/kettle"]).await;
    assert_eq!(
        house.ask("GET", "/v2/public/notes/manifests/1", &token, b"").await.status,
        StatusCode::OK
    );
    let hidden = house.ask("GET", "/v2/vendor/kettle/manifests/1", &token, b"").await;
    assert_eq!(hidden.status, StatusCode::FORBIDDEN);
    assert!(hidden.text().contains("nobody signed in"), "{}", hidden.text());
    let pushed = house.push("public/notes", "").await;
    assert_eq!(pushed, StatusCode::UNAUTHORIZED, "anybody may pull, nobody may push");
}
