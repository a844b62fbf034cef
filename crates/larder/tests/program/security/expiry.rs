//! No token outlives what it came from.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::signature::{Ed25519KeyPair, KeyPair as _};
use serde_json::{Value, json};

use crate::access::{basic, granted};
use crate::house::House;
use crate::node::wait_until;
use crate::serving::{Answer, Serving, ask};

const ISSUER: &str = "https://turbine-hall.emberfall.example";
const GAUGE: &str = "/v2/vendor/steamgauge/manifests/1.9.2";
const TOKEN: &str = "/larder/token?scope=repository:vendor/steamgauge:pull";

fn now() -> i64 {
    larder_store::now() / 1000
}

/// A cluster's own signing key.
struct Signing(Ed25519KeyPair, &'static str);

impl Signing {
    fn of(seed: u8, name: &'static str) -> Self {
        Self(Ed25519KeyPair::from_seed_unchecked(&[seed; 32]).unwrap(), name)
    }

    fn publish(&self, house: &House) {
        let x = URL_SAFE_NO_PAD.encode(self.0.public_key());
        let key = json!({"kty": "OKP", "crv": "Ed25519", "kid": self.1, "x": x});
        house.write("keys.json", json!({ "keys": [key] }).to_string());
    }

    fn token(&self, life: i64) -> String {
        let part = |value: Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let claims = json!({
            "iss": ISSUER, "aud": crate::house::OWN, "exp": now() + life, "iat": now(),
            "sub": "system:serviceaccount:scada:board",
        });
        let signed = format!("{}.{}", part(json!({"alg": "EdDSA", "kid": self.1})), part(claims));
        let signature = self.0.sign(signed.as_bytes());
        format!("{signed}.{}", URL_SAFE_NO_PAD.encode(signature))
    }
}

fn identified(signing: &Signing) -> House {
    let house = granted("");
    signing.publish(&house);
    let more = format!("\n[cluster.identity]\nissuer = \"{ISSUER}\"\nkeys = \"keys.json\"\n");
    let text = house.read("larder.toml") + &more;
    house.write("larder.toml", text);
    house
}

fn get(serving: &Serving, path: &str, authorization: &str) -> Answer {
    ask(serving.host(), "GET", path, &[("authorization", authorization)], b"").unwrap()
}

/// A token of the larder's, and for how long it says that it is good.
fn sign_in(serving: &Serving, user: &str, secret: &str) -> Result<(String, i64), u16> {
    let answer = get(serving, TOKEN, &basic(user, secret));
    if answer.status != 200 {
        return Err(answer.status);
    }
    let said: Value = serde_json::from_slice(&answer.body).unwrap();
    Ok((said["token"].as_str().unwrap().to_owned(), said["expires_in"].as_i64().unwrap()))
}

#[test]
fn a_token_ends_with_its_key_and_is_not_renewed_beyond_it() {
    let house = granted("");
    let serving = Serving::start(&house);
    let secret = house.issue("--cluster turbine-hall --expires 6s");
    let ends = now() + 6;
    let (token, life) = sign_in(&serving, "turbine-hall", &secret).unwrap();
    assert!(life <= 6, "{life}");
    let (again, life) = sign_in(&serving, "", &token).unwrap();
    assert!(life <= 6, "a token of a token: {life}");
    assert_eq!(get(&serving, GAUGE, &format!("Bearer {again}")).status, 200);
    wait_until("the key ends", || now() > ends);
    for (user, secret) in [("turbine-hall", &secret), ("", &token), ("", &again)] {
        assert_eq!(sign_in(&serving, user, secret).err(), Some(401));
    }
    assert_eq!(get(&serving, GAUGE, &format!("Bearer {again}")).status, 401);
    // What began before may finish, and nothing else.
    let manifest =
        house.larder(&format!("look {}/vendor/steamgauge:1.9.2 --json", crate::house::OWN)).json();
    let child = manifest["digest"].as_str().unwrap().to_owned();
    let by_digest = format!("/v2/vendor/steamgauge/manifests/{child}");
    assert_eq!(get(&serving, &by_digest, &format!("Bearer {again}")).status, 200);
    assert_eq!(
        get(&serving, &by_digest, &format!("Bearer {token}")).status,
        401,
        "it began nothing"
    );
    assert_eq!(
        get(&serving, "/v2/vendor/steamgauge/tags/list", &format!("Bearer {again}")).status,
        401
    );
}

#[test]
fn what_came_of_a_service_accounts_token_ends_with_it() {
    let signing = Signing::of(1, "first");
    let house = identified(&signing);
    let serving = Serving::start(&house);
    // Clocks may differ by a minute, so this one is still good for a moment.
    let account = signing.token(-57);
    let (token, life) = sign_in(&serving, "turbine-hall/scada", &account).unwrap_or_default();
    assert!(life <= 3, "{life}");
    if !token.is_empty() {
        assert_eq!(sign_in(&serving, "", &token).err(), Some(401), "it has no life left to give");
    }
    let account = signing.token(5);
    let (token, life) = sign_in(&serving, "turbine-hall/scada", &account).unwrap();
    assert!((1..=5).contains(&life), "{life}");
    let ends = now() + life;
    wait_until("the account's token ends", || now() > ends);
    assert_eq!(sign_in(&serving, "", &token).err(), Some(401));
    assert_eq!(get(&serving, GAUGE, &format!("Bearer {token}")).status, 401);
}

#[test]
fn the_tokens_of_a_service_account_are_ended_at_once() {
    let signing = Signing::of(1, "first");
    let house = identified(&signing);
    let serving = Serving::start(&house);
    for whose in ["turbine-hall/scada/board", "turbine-hall/scada", "turbine-hall"] {
        let account = signing.token(600);
        let (token, _) = sign_in(&serving, "turbine-hall/scada", &account).unwrap();
        let bearer = format!("Bearer {token}");
        assert_eq!(get(&serving, GAUGE, &bearer).status, 200);
        let other = house.larder("key revoke --tokens-of turbine-hall/historian");
        other.ends(0).says(&["ended every token"]);
        assert_eq!(get(&serving, GAUGE, &bearer).status, 200);
        house.larder(&format!("key revoke --tokens-of {whose} --because leaked")).ends(0);
        let refused = get(&serving, GAUGE, &bearer);
        assert_eq!(refused.status, 401, "{whose}: {}", refused.text());
        assert_eq!(sign_in(&serving, "", &token).err(), Some(401));
        assert_eq!(sign_in(&serving, "turbine-hall/scada", &account).err(), Some(401));
        let at = now();
        wait_until("a newer token", || now() > at);
        let newer = signing.token(600);
        assert!(sign_in(&serving, "turbine-hall/scada", &newer).is_ok(), "{whose}");
    }
    house.larder("log --kind key").ends(0).says(&["all tokens from before ended: leaked"]);
    for wrong in ["nowhere", "turbine-hall/scada/a/b", "turbine-hall/scada/", ""] {
        let run = house.larder(&format!("key revoke --tokens-of={wrong}"));
        run.ends(2).says(&["nobody that larder.toml declares"]);
    }
}

#[test]
fn new_keys_of_a_cluster_are_noticed_with_the_first_token() {
    let first = Signing::of(1, "first");
    let house = identified(&first);
    let serving = Serving::start(&house);
    assert!(sign_in(&serving, "turbine-hall/scada", &first.token(600)).is_ok());
    let second = Signing::of(2, "second");
    second.publish(&house);
    assert!(sign_in(&serving, "turbine-hall/scada", &second.token(600)).is_ok());
    assert_eq!(sign_in(&serving, "turbine-hall/scada", &first.token(600)).err(), Some(401));
}
