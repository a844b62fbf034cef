//! Whose token is this? Tokens that a cluster issues to its service accounts, checked against the
//! cluster's published keys (JSON Web Key Set, RFC 7517; signatures of RFC 7518 and RFC 8037).

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::signature::{
    ECDSA_P256_SHA256_FIXED, ED25519, RSA_PKCS1_2048_8192_SHA256, RsaPublicKeyComponents,
    UnparsedPublicKey,
};
use serde::Deserialize;

use super::jwt;
use crate::shown::cut;

/// The largest key set that is read, in bytes.
pub const KEY_SET_LIMIT: usize = 256 * 1024;
/// Keys that are taken from one.
const KEYS: usize = 64;
/// How far clocks may differ, in seconds.
const LEEWAY: i64 = 60;
/// Audiences that one token may name.
const AUDIENCES: usize = 32;

/// The keys with which a cluster signs its tokens.
#[derive(Debug, Clone, Default)]
pub struct KeySet {
    keys: Vec<PublicKey>,
}

#[derive(Debug, Clone)]
struct PublicKey {
    id: Option<String>,
    kind: KeyKind,
}

#[derive(Debug, Clone)]
enum KeyKind {
    Rsa { n: Vec<u8>, e: Vec<u8> },
    P256(Vec<u8>),
    Ed25519(Vec<u8>),
}

/// What a cluster's tokens must say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExpectedToken {
    /// Who issues them.
    pub issuer: String,
    /// For whom they are meant: us.
    pub audience: String,
}

/// A service account of a cluster.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct ServiceAccount {
    pub namespace: String,
    pub name: String,
    /// Until when the token is good, in seconds since 1970.
    pub until: i64,
    /// When it was issued, in seconds since 1970. What does not say so counts as older than everything.
    pub issued: i64,
}

/// Why a token is not believed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum IdentityError {
    /// Not a signed token, or one that is too long.
    #[error("it is no signed token")]
    Form,
    /// An algorithm that is not taken, or one for another kind of key.
    #[error("it is signed with `{0}`; taken are RS256, ES256 and EdDSA")]
    Algorithm(String),
    /// It names a key that is none of those that are known of its issuer.
    #[error("its issuer has no key of the name that it gives")]
    UnknownKey,
    /// None of its issuer's keys has signed it.
    #[error("none of its issuer's keys has signed it")]
    Signature,
    /// Somebody else issued it.
    #[error("it was issued by `{found}`, not by `{expected}`")]
    Issuer {
        found: String,
        /// What it should say.
        expected: String,
    },
    /// It is meant for others.
    #[error("it is not meant for `{0}`: the audience is another")]
    Audience(String),
    /// Not good yet.
    #[error("it is not good yet; look at the clocks")]
    Early,
    /// Not good any more.
    #[error("it is not good any more")]
    Late,
    /// It says no end, or one that is no moment.
    #[error("it does not say until when it is good")]
    Endless,
    /// It names no service account.
    #[error("it names no service account")]
    Subject,
    /// It is not what an account must say of itself.
    #[error("{0}")]
    Claim(#[from] super::claims::ClaimError),
}

impl IdentityError {
    /// Whether newer keys of the cluster could make a difference.
    pub fn is_about_keys(&self) -> bool {
        matches!(self, Self::Signature | Self::UnknownKey)
    }
}

#[derive(Deserialize)]
struct RawSet {
    keys: Vec<serde_json::Value>,
}

#[derive(Deserialize)]
struct RawKey {
    kty: String,
    kid: Option<String>,
    r#use: Option<String>,
    alg: Option<String>,
    crv: Option<String>,
    n: Option<String>,
    e: Option<String>,
    x: Option<String>,
    y: Option<String>,
}

impl KeySet {
    /// Reads a key set. Keys of kinds that are not taken are left out (RFC 7517, section 5).
    ///
    /// # Errors
    /// In words, when it is none, or has none that can be used.
    pub fn read(text: &[u8]) -> Result<Self, String> {
        if text.len() > KEY_SET_LIMIT {
            return Err(format!("it has {} bytes; {KEY_SET_LIMIT} are the most", text.len()));
        }
        let raw: RawSet =
            serde_json::from_slice(text).map_err(|_| "it is no JSON Web Key Set".to_owned())?;
        if raw.keys.len() > KEYS {
            return Err(format!("it has {} keys; {KEYS} are the most", raw.keys.len()));
        }
        let keys: Vec<PublicKey> = raw.keys.into_iter().filter_map(PublicKey::read).collect();
        if keys.is_empty() {
            return Err("it has no key for RS256, ES256 or EdDSA".into());
        }
        Ok(Self { keys })
    }

    /// How many keys it has.
    pub fn len(&self) -> usize {
        self.keys.len()
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// Reads a token of a service account at a time, in seconds since 1970.
    pub fn verify(
        &self,
        token: &str,
        expected: &ExpectedToken,
        now: i64,
    ) -> Result<ServiceAccount, IdentityError> {
        self.read_token(token, expected, now)?.service_account()
    }

    /// Reads a token of anybody at a time, in seconds since 1970: signed by one of these keys, issued by whom and for whom
    /// it must be, and good now.
    pub fn read_token(
        &self,
        token: &str,
        expected: &ExpectedToken,
        now: i64,
    ) -> Result<VerifiedToken, IdentityError> {
        let parts = jwt::split(token).ok_or(IdentityError::Form)?;
        let shown = || cut(&parts.header.alg, 20);
        if !matches!(parts.header.alg.as_str(), "RS256" | "ES256" | "EdDSA") {
            return Err(IdentityError::Algorithm(shown()));
        }
        // The key's kind decides how it is verified; what the token says must agree with it.
        let named = |key: &&PublicKey| match (&parts.header.kid, &key.id) {
            (Some(wanted), Some(id)) => wanted == id,
            (Some(_), None) | (None, _) => true,
        };
        if !self.keys.iter().any(|key| named(&key)) {
            return Err(IdentityError::UnknownKey);
        }
        let of_kind = |key: &&PublicKey| key.kind.algorithm() == parts.header.alg;
        let mut keys = self.keys.iter().filter(named).filter(of_kind);
        if !keys.any(|key| key.kind.verifies(parts.signed.as_bytes(), &parts.signature)) {
            return Err(IdentityError::Signature);
        }
        let claims: IdentityClaims =
            serde_json::from_slice(&parts.payload).map_err(|_| IdentityError::Form)?;
        claims.check(expected, now, parts.payload)
    }
}

/// A token that was verified, and what it says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VerifiedToken {
    payload: Vec<u8>,
    /// Until when it is good, in seconds since 1970.
    pub until: i64,
    /// When it was issued, in seconds since 1970. What does not say so counts as older than everything.
    pub issued: i64,
    subject: String,
}

impl VerifiedToken {
    /// Everything that it says.
    pub fn claims(&self) -> Result<serde_json::Map<String, serde_json::Value>, IdentityError> {
        serde_json::from_slice(&self.payload).map_err(|_| IdentityError::Form)
    }

    /// The service account of a cluster that it is about.
    fn service_account(self) -> Result<ServiceAccount, IdentityError> {
        let Self { until, issued, subject, .. } = self;
        let parts = subject.strip_prefix("system:serviceaccount:").and_then(|r| r.split_once(':'));
        match parts {
            Some((namespace, name))
                if super::is_namespace(namespace) && !name.is_empty() && name.len() <= 253 =>
            {
                let (namespace, name) = (namespace.to_owned(), name.to_owned());
                Ok(ServiceAccount { namespace, name, until, issued })
            }
            _ => Err(IdentityError::Subject),
        }
    }
}

#[derive(Deserialize)]
struct IdentityClaims {
    iss: Option<String>,
    sub: Option<String>,
    aud: Option<Audience>,
    exp: Option<f64>,
    nbf: Option<f64>,
    iat: Option<f64>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Audience {
    One(String),
    Several(Vec<String>),
}

impl IdentityClaims {
    fn check(
        self,
        expected: &ExpectedToken,
        now: i64,
        payload: Vec<u8>,
    ) -> Result<VerifiedToken, IdentityError> {
        let found = self.iss.unwrap_or_default();
        if found != expected.issuer {
            let found = cut(&found, 200);
            return Err(IdentityError::Issuer { found, expected: expected.issuer.clone() });
        }
        let meant = match self.aud {
            Some(Audience::One(one)) => one == expected.audience,
            Some(Audience::Several(all)) => {
                all.len() <= AUDIENCES && all.contains(&expected.audience)
            }
            None => false,
        };
        if !meant {
            return Err(IdentityError::Audience(expected.audience.clone()));
        }
        // A token without an end is not taken: it could never be got rid of.
        let until = self.exp.and_then(seconds).ok_or(IdentityError::Endless)?;
        if now >= until.saturating_add(LEEWAY) {
            return Err(IdentityError::Late);
        }
        if let Some(from) = self.nbf
            && seconds(from).is_none_or(|from| now < from.saturating_sub(LEEWAY))
        {
            return Err(IdentityError::Early);
        }
        let subject = self.sub.unwrap_or_default();
        let issued = self.iat.and_then(seconds).unwrap_or(i64::MIN);
        Ok(VerifiedToken { payload, until, issued, subject })
    }
}

/// Numeric dates may have fractions (RFC 7519, section 2).
#[allow(clippy::cast_possible_truncation)] // it is within bounds
fn seconds(date: f64) -> Option<i64> {
    (date.is_finite() && date.abs() < 1e12).then(|| date.floor() as i64)
}

impl PublicKey {
    fn read(value: serde_json::Value) -> Option<Self> {
        let raw: RawKey = serde_json::from_value(value).ok()?;
        if raw.r#use.as_deref().is_some_and(|used| used != "sig") {
            return None;
        }
        let bytes = |text: &Option<String>| {
            text.as_ref().and_then(|text| URL_SAFE_NO_PAD.decode(text).ok())
        };
        let kind = match (raw.kty.as_str(), raw.crv.as_deref()) {
            ("RSA", None) => KeyKind::Rsa { n: bytes(&raw.n)?, e: bytes(&raw.e)? },
            ("EC", Some("P-256")) => {
                let (x, y) = (bytes(&raw.x)?, bytes(&raw.y)?);
                if x.len() != 32 || y.len() != 32 {
                    return None;
                }
                KeyKind::P256([&[4][..], &x, &y].concat())
            }
            ("OKP", Some("Ed25519")) => KeyKind::Ed25519(bytes(&raw.x).filter(|x| x.len() == 32)?),
            _ => return None,
        };
        if raw.alg.is_some_and(|alg| alg != kind.algorithm()) {
            return None;
        }
        Some(Self { id: raw.kid, kind })
    }
}

impl KeyKind {
    fn algorithm(&self) -> &'static str {
        match self {
            Self::Rsa { .. } => "RS256",
            Self::P256(_) => "ES256",
            Self::Ed25519(_) => "EdDSA",
        }
    }

    fn verifies(&self, message: &[u8], signature: &[u8]) -> bool {
        match self {
            Self::Rsa { n, e } => RsaPublicKeyComponents { n, e }
                .verify(&RSA_PKCS1_2048_8192_SHA256, message, signature)
                .is_ok(),
            Self::P256(point) => UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point)
                .verify(message, signature)
                .is_ok(),
            Self::Ed25519(key) => {
                UnparsedPublicKey::new(&ED25519, key).verify(message, signature).is_ok()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use ring::rand::SystemRandom;
    use ring::signature::{
        ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _,
        RSA_PKCS1_SHA256, RsaKeyPair,
    };
    use serde_json::{Value, json};

    use super::*;

    const NOW: i64 = 1_790_000_000;
    /// Made for these tests and used for nothing else.
    const RSA: &[u8] = include_bytes!("test-rsa.pk8");

    type Is = fn(&IdentityError) -> bool;

    enum Signing {
        Rsa(RsaKeyPair),
        P256(EcdsaKeyPair),
        Ed25519(Ed25519KeyPair),
    }

    impl Signing {
        fn all() -> [Self; 3] {
            let random = SystemRandom::new();
            let kind = &ECDSA_P256_SHA256_FIXED_SIGNING;
            let p256 = EcdsaKeyPair::generate_pkcs8(kind, &random).unwrap();
            [
                Self::Rsa(RsaKeyPair::from_pkcs8(RSA).unwrap()),
                Self::P256(EcdsaKeyPair::from_pkcs8(kind, p256.as_ref(), &random).unwrap()),
                Self::Ed25519(Ed25519KeyPair::from_seed_unchecked(&[3; 32]).unwrap()),
            ]
        }

        fn algorithm(&self) -> &'static str {
            match self {
                Self::Rsa(_) => "RS256",
                Self::P256(_) => "ES256",
                Self::Ed25519(_) => "EdDSA",
            }
        }

        fn public(&self) -> Value {
            match self {
                Self::Rsa(pair) => {
                    let public = pair.public_key();
                    let encode = |bytes: &[u8]| jwt::encode(bytes);
                    let parts: RsaPublicKeyComponents<Vec<u8>> = public.into();
                    json!({"kty": "RSA", "kid": "RS256", "use": "sig", "n": encode(&parts.n), "e": encode(&parts.e)})
                }
                Self::P256(pair) => {
                    let point = pair.public_key().as_ref();
                    json!({"kty": "EC", "crv": "P-256", "kid": "ES256", "x": jwt::encode(&point[1..33]), "y": jwt::encode(&point[33..])})
                }
                Self::Ed25519(pair) => {
                    let x = jwt::encode(pair.public_key().as_ref());
                    json!({"kty": "OKP", "crv": "Ed25519", "kid": "EdDSA", "alg": "EdDSA", "x": x})
                }
            }
        }

        fn sign(&self, header: &Value, claims: &Value) -> String {
            let part = |value: &Value| jwt::encode(value.to_string().as_bytes());
            let signed = format!("{}.{}", part(header), part(claims));
            let random = SystemRandom::new();
            let signature = match self {
                Self::Rsa(pair) => {
                    let mut signature = vec![0; pair.public().modulus_len()];
                    pair.sign(&RSA_PKCS1_SHA256, &random, signed.as_bytes(), &mut signature)
                        .unwrap();
                    signature
                }
                Self::P256(pair) => {
                    pair.sign(&random, signed.as_bytes()).unwrap().as_ref().to_vec()
                }
                Self::Ed25519(pair) => pair.sign(signed.as_bytes()).as_ref().to_vec(),
            };
            format!("{signed}.{}", jwt::encode(&signature))
        }
    }

    fn expected() -> ExpectedToken {
        ExpectedToken {
            issuer: "https://cluster.example".into(),
            audience: "larder.example".into(),
        }
    }

    fn claims() -> Value {
        json!({
            "iss": "https://cluster.example", "aud": ["other", "larder.example"],
            "exp": NOW + 600, "nbf": NOW, "iat": NOW,
            "sub": "system:serviceaccount:scada:historian",
        })
    }

    fn set(keys: &[Signing]) -> KeySet {
        let keys: Vec<Value> = keys.iter().map(Signing::public).collect();
        KeySet::read(json!({ "keys": keys }).to_string().as_bytes()).unwrap()
    }

    #[test]
    fn tokens_of_all_three_kinds_are_believed() {
        let keys = Signing::all();
        let set = set(&keys);
        assert_eq!(set.len(), 3);
        for key in &keys {
            for header in [
                json!({"alg": key.algorithm(), "kid": key.algorithm()}),
                json!({"alg": key.algorithm()}),
            ] {
                let found = set.verify(&key.sign(&header, &claims()), &expected(), NOW).unwrap();
                assert_eq!((found.namespace.as_str(), found.name.as_str()), ("scada", "historian"));
                assert_eq!(found.until, NOW + 600);
            }
        }
    }

    #[test]
    fn a_token_that_says_something_else_is_refused() {
        let keys = Signing::all();
        let set = set(&keys);
        let with = |key: &str, value: Value| {
            let mut claims = claims();
            claims[key] = value;
            claims
        };
        let cases: [(Value, Is); 13] = [
            (with("iss", json!("https://other.example")), |e| {
                matches!(e, IdentityError::Issuer { .. })
            }),
            (with("iss", Value::Null), |e| matches!(e, IdentityError::Issuer { .. })),
            (with("aud", json!("other")), |e| matches!(e, IdentityError::Audience(_))),
            (with("aud", json!(["other"])), |e| matches!(e, IdentityError::Audience(_))),
            (with("aud", Value::Null), |e| matches!(e, IdentityError::Audience(_))),
            (with("exp", json!(NOW - 61)), |e| *e == IdentityError::Late),
            (with("exp", Value::Null), |e| *e == IdentityError::Endless),
            (with("exp", json!(1e300)), |e| *e == IdentityError::Endless),
            (with("nbf", json!(NOW + 61)), |e| *e == IdentityError::Early),
            (with("sub", json!("system:node:one")), |e| *e == IdentityError::Subject),
            (with("sub", json!("system:serviceaccount:Scada:x")), |e| *e == IdentityError::Subject),
            (with("sub", json!("system:serviceaccount:scada:")), |e| *e == IdentityError::Subject),
            (json!([]), |e| *e == IdentityError::Form),
        ];
        for (claims, is) in cases {
            for key in &keys {
                let token = key.sign(&json!({"alg": key.algorithm()}), &claims);
                let error = set.verify(&token, &expected(), NOW).unwrap_err();
                assert!(is(&error), "{claims}: {error}");
            }
        }
    }

    #[test]
    fn forged_tokens_are_refused() {
        let keys = Signing::all();
        let set = set(&keys[..2]);
        let [rsa, p256, ed25519] = &keys;
        let part = |value: Value| jwt::encode(value.to_string().as_bytes());
        let good = rsa.sign(&json!({"alg": "RS256"}), &claims());
        let (signed, signature) = good.rsplit_once('.').unwrap();
        // The public key taken for the secret of a symmetric signature: the classic confusion.
        let secret = ring::hmac::Key::new(ring::hmac::HMAC_SHA256, signature.as_bytes());
        let confused = format!("{}.{}", part(json!({"alg": "HS256"})), part(claims()));
        let tag = ring::hmac::sign(&secret, confused.as_bytes());
        let changed =
            signed.replace(&part(claims()), &part(json!({"iss": "https://cluster.example"})));
        for forged in [
            format!("{}.{}.", part(json!({"alg": "none"})), part(claims())),
            format!("{}.{}.{signature}", part(json!({"alg": "none"})), part(claims())),
            format!("{confused}.{}", jwt::encode(tag.as_ref())),
            format!("{changed}.{signature}"),
            p256.sign(&json!({"alg": "RS256"}), &claims()),
            rsa.sign(&json!({"alg": "ES256"}), &claims()),
            rsa.sign(&json!({"alg": "RS256", "kid": "ES256"}), &claims()),
            rsa.sign(&json!({"alg": "RS256", "kid": "unknown"}), &claims()),
            rsa.sign(&json!({"alg": "RS256", "crit": ["exp"]}), &claims()),
            ed25519.sign(&json!({"alg": "EdDSA"}), &claims()),
            good[..good.len() - 4].to_owned(),
            signed.to_owned(),
            "x".repeat(jwt::LIMIT + 1),
            String::new(),
        ] {
            let error = set.verify(&forged, &expected(), NOW).unwrap_err();
            let refused = matches!(
                error,
                IdentityError::Form
                    | IdentityError::Algorithm(_)
                    | IdentityError::UnknownKey
                    | IdentityError::Signature
            );
            assert!(refused, "{forged}: {error}");
        }
    }

    #[test]
    fn key_sets_are_bounded_and_keep_what_can_be_used() {
        let [rsa, ..] = Signing::all();
        let public = rsa.public();
        let read = |keys: Value| KeySet::read(json!({ "keys": keys }).to_string().as_bytes());
        let mixed = json!([{"kty": "oct", "k": "AAAA"}, {"kty": "EC", "crv": "P-521", "x": "", "y": ""}, {}, public]);
        assert_eq!(read(mixed).unwrap().len(), 1);
        let mut secret = public.clone();
        secret["use"] = json!("enc");
        assert!(read(json!([secret])).is_err());
        assert!(read(Value::Array(vec![public; 65])).unwrap_err().contains("65 keys"));
        assert!(KeySet::read(b"<html>").unwrap_err().contains("no JSON Web Key Set"));
        assert!(KeySet::read(&vec![b' '; KEY_SET_LIMIT + 1]).is_err());
    }
}
