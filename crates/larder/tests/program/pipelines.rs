//! Pipelines that sign in with the token of their build system, and store no secret.

use ring::signature::{Ed25519KeyPair, KeyPair as _};
use serde_json::{Value, json};

use crate::access::{basic, granted};
use crate::house::House;
use crate::node::wait_until;
use crate::serving::{Answer, Serving, ask};

const ISSUER: &str = "https://build.emberfall.example";

/// Two accounts of one issuer: who builds a release may push, who builds a branch may pull alone.
const ACCOUNTS: &str = r#"
[[account]]
name = "release"
pull = ["vendor/**", "apps/**"]
push = ["apps/**"]
[account.identity]
issuer = "https://build.emberfall.example"
keys = "build-keys.json"
audience = "larder.emberfall.example"
where = { "repository" = "emberfall/valves", "ref" = "refs/tags/*", "ref_protected" = "true" }

[[account]]
name = "branches"
pull = ["vendor/**"]
identity = { issuer = "https://build.emberfall.example", keys = "build-keys.json", audience = "larder.emberfall.example", where = { "repository" = "emberfall/*" } }
"#;

fn encoded(bytes: &[u8]) -> String {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
    let mut text = String::new();
    for three in bytes.chunks(3) {
        let bits = three
            .iter()
            .enumerate()
            .fold(0_u32, |all, (at, byte)| all | u32::from(*byte) << (16 - 8 * at));
        for at in 0..=three.len() {
            text.push(char::from(LETTERS[(bits >> (18 - 6 * at) & 63) as usize]));
        }
    }
    text
}

fn key(seed: u8) -> Ed25519KeyPair {
    Ed25519KeyPair::from_seed_unchecked(&[seed; 32]).unwrap()
}

/// The key set of the build system.
fn keys(seed: u8) -> String {
    let x = encoded(key(seed).public_key().as_ref());
    json!({"keys": [{"kty": "OKP", "crv": "Ed25519", "kid": "k", "use": "sig", "x": x}]})
        .to_string()
}

/// What the token of a release says, with changes.
fn claims(changed: &Value) -> Value {
    let now = larder_store::now() / 1000;
    let mut all = json!({
        "iss": ISSUER, "aud": "larder.emberfall.example", "iat": now, "nbf": now, "exp": now + 600,
        "sub": "repo:emberfall/valves:ref:refs/tags/v1", "repository": "emberfall/valves",
        "ref": "refs/tags/v1", "ref_protected": true, "run": 4711,
    });
    for (claim, value) in changed.as_object().unwrap() {
        match value.is_null() {
            true => drop(all.as_object_mut().unwrap().remove(claim)),
            false => all[claim] = value.clone(),
        }
    }
    all
}

fn signed(seed: u8, claims: &Value) -> String {
    let part = |value: &Value| encoded(value.to_string().as_bytes());
    let text = format!("{}.{}", part(&json!({"alg": "EdDSA", "kid": "k"})), part(claims));
    format!("{text}.{}", encoded(key(seed).sign(text.as_bytes()).as_ref()))
}

fn token(changed: &Value) -> String {
    signed(1, &claims(changed))
}

fn house() -> House {
    let house = granted(ACCOUNTS);
    house.write("build-keys.json", keys(1));
    house
}

fn send(serving: &Serving, method: &str, path: &str, login: (&str, &str), body: &[u8]) -> Answer {
    let (authorization, length) = (basic(login.0, login.1), body.len().to_string());
    let headers = [
        ("authorization", authorization.as_str()),
        ("content-type", "application/vnd.oci.image.manifest.v1+json"),
        ("content-length", length.as_str()),
    ];
    ask(serving.host(), method, path, &headers, body).unwrap()
}

const KETTLE: &str = "/v2/vendor/kettle/manifests/2";

/// An artifact with nothing but its configuration, as chart clients push it: in one piece each.
fn push(serving: &Serving, login: (&str, &str), tag: &str) -> u16 {
    let config = b"{\"name\":\"valves\",\"version\":\"1.0.0\"}";
    let digest = larder_core::digest::Digest::of(config);
    let path = format!("/v2/apps/valves/blobs/uploads/?digest={digest}");
    let blob = send(serving, "POST", &path, login, config);
    if blob.status != 201 {
        return blob.status;
    }
    let descriptor = json!({"mediaType": "application/vnd.emberfall.chart.config+json", "digest": digest, "size": config.len()});
    let manifest = json!({
        "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "artifactType": "application/vnd.emberfall.chart", "config": descriptor, "layers": [descriptor],
    });
    let path = format!("/v2/apps/valves/manifests/{tag}");
    send(serving, "PUT", &path, login, manifest.to_string().as_bytes()).status
}

#[test]
fn a_pipeline_pulls_and_pushes_by_what_its_token_says() {
    let house = house();
    let serving = Serving::start(&house);
    let release = token(&json!({}));
    // By the account's name, and by any other that a client sends along.
    for user in ["release", "oidc", "", "token"] {
        assert_eq!(send(&serving, "GET", KETTLE, (user, &release), b"").status, 200, "{user}");
    }
    assert_eq!(push(&serving, ("release", &release), "1.0.0"), 201);
    let pulled = send(&serving, "GET", "/v2/apps/valves/manifests/1.0.0", ("x", &release), b"");
    assert_eq!(pulled.status, 200);
    // A branch is another account: it pulls what that may, and pushes nothing.
    let branch = token(&json!({"ref": "refs/heads/main", "ref_protected": false}));
    assert_eq!(send(&serving, "GET", KETTLE, ("oidc", &branch), b"").status, 200);
    assert_eq!(push(&serving, ("oidc", &branch), "1.0.1"), 403);
    let refused = send(&serving, "GET", KETTLE, ("release", &branch), b"");
    assert_eq!(refused.status, 401, "by the name of the account that it is not");
    assert!(
        refused.text().contains("claim `ref` is `refs/heads/main`, not `refs/tags/*`"),
        "{}",
        refused.text()
    );
    // Clients that ask for a token first get one that is good no longer than theirs.
    let asked = send(
        &serving,
        "GET",
        "/larder/token?service=larder.emberfall.example:5080&scope=repository:apps/valves:pull,push",
        ("oidc", &release),
        b"",
    );
    let answer: Value =
        serde_json::from_slice(&asked.body).unwrap_or_else(|_| panic!("{}", asked.text()));
    let bearer = format!("Bearer {}", answer["token"].as_str().unwrap());
    let path = "/v2/apps/valves/manifests/1.0.0";
    assert_eq!(
        ask(serving.host(), "GET", path, &[("authorization", &bearer)], b"").unwrap().status,
        200
    );
    assert!(answer["expires_in"].as_i64().unwrap() <= 600, "{answer}");
    assert_eq!(serving.stop("TERM"), 0);
    // The record says who, and by which claims.
    let log = house.larder("log --json --who release").ends(0).out;
    assert!(
        log.contains(
            "token with ref=refs/tags/v1, ref_protected=true, repository=emberfall/valves"
        ),
        "{log}"
    );
    assert!(!log.contains(&release));
}

#[test]
fn what_is_not_as_it_must_be_gets_nobody_in() {
    let house = house();
    let serving = Serving::start(&house);
    let now = larder_store::now() / 1000;
    for (token, why) in [
        (token(&json!({"repository": "other/valves"})), "claim `repository`"),
        (token(&json!({"repository": "emberfall/valves/sub"})), "claim `repository`"),
        (token(&json!({"repository": null})), "no claim `repository`"),
        (token(&json!({"repository": ["emberfall/valves"]})), "no claim `repository`"),
        (token(&json!({"aud": "somebody.example"})), "not meant for"),
        (token(&json!({"aud": null})), "not meant for"),
        (token(&json!({"iss": "https://other.example"})), "issued by"),
        (token(&json!({"exp": now - 120})), "not good any more"),
        (token(&json!({"exp": null})), "until when it is good"),
        (token(&json!({"nbf": now + 600})), "not good yet"),
        (signed(2, &claims(&json!({}))), "none of its issuer's keys"),
    ] {
        let refused = send(&serving, "GET", KETTLE, ("oidc", &token), b"");
        assert_eq!(refused.status, 401, "{why}");
        let said = refused.text();
        assert!(said.contains(why), "{why}: {said}");
        assert!(!said.contains(&token));
    }
    // Without a signature, and with one of another algorithm.
    let parts = token(&json!({}));
    let mut parts = parts.split('.');
    let payload = parts.nth(1).unwrap();
    let none = format!("{}.{payload}.", encoded(b"{\"alg\":\"none\"}"));
    assert_eq!(send(&serving, "GET", KETTLE, ("oidc", &none), b"").status, 401);
    let hs = format!(
        "{}.{payload}.{}",
        encoded(b"{\"alg\":\"HS256\",\"kid\":\"k\"}"),
        encoded(&[0; 32])
    );
    assert_eq!(send(&serving, "GET", KETTLE, ("oidc", &hs), b"").status, 401);
    assert!(!serving.log().contains(payload));
}

#[test]
fn a_pipeline_that_is_configured_no_more_gets_in_no_more() {
    let house = house();
    let serving = Serving::start(&house);
    let release = token(&json!({}));
    assert_eq!(send(&serving, "GET", KETTLE, ("release", &release), b"").status, 200);
    // What was issued until now ends by hand; what is issued later does not.
    house.larder("key revoke --tokens-of release --because test --yes").ends(0);
    wait_until("it has ended", || {
        send(&serving, "GET", KETTLE, ("release", &release), b"").status == 401
    });
    let later = token(&json!({"iat": larder_store::now() / 1000 + 2}));
    assert_eq!(send(&serving, "GET", KETTLE, ("release", &later), b"").status, 200);
    let text = house.read("larder.toml").replace("refs/tags/*", "refs/tags/release-*");
    house.write("larder.toml", &text);
    serving.signal("HUP");
    wait_until("it is in force", || serving.log().contains("[[account]]"));
    assert_eq!(send(&serving, "GET", KETTLE, ("release", &later), b"").status, 401);
    let other =
        token(&json!({"ref": "refs/tags/release-2", "iat": larder_store::now() / 1000 + 2}));
    assert_eq!(send(&serving, "GET", KETTLE, ("release", &other), b"").status, 200);
}

#[test]
fn an_identity_that_would_let_in_everybody_is_refused() {
    let house = house();
    let good = house.read("larder.toml");
    let with = |from: &str, to: &str| house.write("larder.toml", good.replace(from, to));
    let wanted = "where = { \"repository\" = \"emberfall/*\" }";
    with(wanted, "where = {}");
    house.larder("check --offline").ends(2).says(&[
        "names no claim",
        "everybody whom the issuer knows",
        "try:",
    ]);
    with(&format!(", {wanted}"), "");
    house.larder("check --offline").ends(2).says(&["where"]);
    with(wanted, "where = { \"repository\" = 7 }");
    house.larder("check --offline").ends(2);
    with(wanted, "where = { \"repository\" = \"[\" }");
    house.larder("check --offline").ends(2).says(&["is not a pattern"]);
    with(wanted, "wher = { \"repository\" = \"a\" }");
    house.larder("check --offline").ends(2).says(&["wher"]);
    with("", "");
    house.larder("check --offline").ends(0);
}
