//! Who may do what, through the registry as it answers.
#![allow(clippy::unwrap_used)]

mod fixture;

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::http::StatusCode;
use larder_core::access::ConfigLine;
use larder_core::digest::Digest;
use larder_core::policy::{Asks, Classes, PolicyRule, Rules, Verdict, WhatRuns};
use larder_store::{Filter, RecordKind};

use fixture::MANIFEST;
use fixture::guarded::{House, basic, manifest, permits, plan};

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
async fn a_changed_configuration_holds_for_tokens_that_are_out() {
    let house = House::new(plan()).await;
    let path = "/v2/vendor/kettle/manifests/1";
    let token = house.token("turbine-hall/scada", &["vendor/kettle"]).await;
    assert_eq!(house.ask("GET", path, &token, b"").await.status, StatusCode::OK);
    let mut changed = plan();
    let turbine = changed.court.grants.clusters.get_mut("turbine-hall").unwrap();
    turbine.namespaces.insert("scada".into(), Some(permits(&["vendor/brinedb"], &[], &[])));
    house.fixture.app.set_plan(changed);
    let answer = house.ask("GET", path, &token, b"").await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
    assert!(
        answer.text().contains("the namespace scada of turbine-hall may not pull vendor/kettle"),
        "{}",
        answer.text()
    );
    let mut gone = plan();
    gone.court.grants.clusters.clear();
    house.fixture.app.set_plan(gone);
    assert_eq!(house.ask("GET", path, &token, b"").await.status, StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn a_rule_refuses_with_its_reason_and_a_number_that_the_record_has() {
    let mut plan = plan();
    let pattern = ["larder.example/vendor/kettle".parse().unwrap()];
    plan.court.classes = Classes::new([("community", &pattern[..])]).unwrap();
    let rule = |name: &str, classes: &[&str], asks: Asks, verdict| PolicyRule {
        name: name.into(),
        clusters: vec!["turbine-hall".into()],
        namespaces: Vec::new(),
        classes: classes.iter().map(|name| Box::from(*name)).collect(),
        images: Vec::new(),
        asks,
        verdict,
        because: "runs the turbines; ask for an intake entry instead".into(),
        running: WhatRuns::Warn,
        held_before: None,
        line: ConfigLine { file: "larder.toml".into(), number: 88 },
    };
    plan.court.rules = Rules::new(vec![
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
    let found = house.fixture.app.store.entries(filter).await.unwrap();
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].kind, found[0].who.as_str()), (RecordKind::Refused, "turbine-hall/scada"));
    assert_eq!(found[0].line.as_deref(), Some("larder.toml:88"));
    assert_eq!(found[0].reference.as_deref(), Some("vendor/kettle:1"));
}

#[tokio::test]
async fn what_a_rule_asks_of_an_image_is_looked_up() {
    let asks = |asks: Asks, verdict| {
        let mut plan = plan();
        let all = ["**".parse().unwrap()];
        plan.court.classes = Classes::new([("any", &all[..])]).unwrap();
        let rule = PolicyRule {
            name: "asks".into(),
            clusters: Vec::new(),
            namespaces: Vec::new(),
            classes: vec!["any".into()],
            images: Vec::new(),
            asks,
            verdict,
            because: "the house's rule".into(),
            running: WhatRuns::Warn,
            held_before: None,
            line: ConfigLine::default(),
        };
        plan.court.rules = Rules::new(vec![rule]).unwrap();
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
        // Since the larder has held it, whatever it says of itself.
        (age(0), true),
        (age(3_600_000), false),
        (age(i64::MAX), false),
        (signature.clone(), false),
        (Asks { digest: true, ..Asks::default() }, false),
        (Asks { fixed_tag: true, ..Asks::default() }, true),
    ] {
        house.fixture.app.set_plan(asks(asked.clone(), Verdict::Deny));
        let answer = by_tag().await;
        assert_eq!(answer.status == StatusCode::OK, fine, "{asked:?}: {}", answer.text());
    }
    assert_eq!(get(format!("/v2/apps/real/manifests/{digest}")).await.status, StatusCode::OK);
    house.fixture.app.set_plan(asks(signature.clone(), Verdict::Warn));
    let warned = by_tag().await;
    assert_eq!(warned.status, StatusCode::OK);
    assert!(
        warned.header("warning").contains("nothing that looks like a signature refers to it"),
        "{}",
        warned.header("warning")
    );
    let artifact = format!(
        r#"{{"schemaVersion":2,"artifactType":"application/vnd.emberfall.signature.v1","config":{{"mediaType":"application/vnd.oci.empty.v1+json","digest":"{}","size":2}},"layers":[],"subject":{{"mediaType":"{MANIFEST}","digest":"{digest}","size":{}}}}}"#,
        Digest::of(b"{}"),
        image.len()
    );
    house.fixture.app.set_plan(plan());
    house.ask("POST", &blob(b"{}"), &keeper, b"{}").await;
    let path = format!("/v2/apps/real/manifests/{}", Digest::of(artifact.as_bytes()));
    let pushed = house.ask("PUT", &path, &keeper, artifact.as_bytes()).await;
    assert_eq!(pushed.status, StatusCode::CREATED, "{}", pushed.text());
    house.fixture.app.set_plan(asks(signature, Verdict::Deny));
    assert_eq!(by_tag().await.status, StatusCode::OK, "it is signed now");
}

#[tokio::test]
async fn nodes_are_believed_by_what_cannot_be_made_up_and_never_asked_for_a_secret() {
    let mut plan = plan();
    plan.clusters = vec![larder_server::PlannedCluster {
        name: "turbine-hall".into(),
        certificate: Some(Arc::from(&b"shown"[..])),
        nodes: vec!["10.4.0.0/16".parse().unwrap()],
        identity: None,
        door: None,
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
    let greeted = house.ask("GET", "/c/turbine-hall/v2/", "", b"").await.status;
    let nobody = house.ask("GET", "/c/nobody/v2/", "", b"").await.status;
    assert_eq!(nobody, greeted, "nobody is told which clusters there are");
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
