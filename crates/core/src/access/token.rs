//! Our own pull tokens: short-lived, signed with Ed25519 (RFC 8037), naming the account and exactly
//! what it may do.

use std::fmt;

use ring::signature::{ED25519, Ed25519KeyPair, KeyPair as _, UnparsedPublicKey};
use serde::{Deserialize, Serialize};

use super::key::derive;
use super::{Action, Who, jwt};
use crate::name::RepositoryName;

/// How long a token is good, in seconds.
pub const LIFE: i64 = 10 * 60;
/// How long, counted from its end, a pull that began while it was good may still fetch the rest of what it began:
/// runtimes never renew a token inside a pull.
pub const LATE: i64 = 3600;

/// What a token says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenClaims {
    /// Who issued it.
    pub iss: String,
    /// For which registry.
    pub aud: String,
    /// The user's name; empty for clients that did not sign in.
    pub sub: String,
    /// From when, in seconds since 1970.
    pub nbf: i64,
    /// When it was issued.
    pub iat: i64,
    /// Until when.
    pub exp: i64,
    /// A name of its own.
    pub jti: String,
    /// By what it was issued. None: nobody signed in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<SignedInBy>,
    /// The end of what it was issued by, in seconds since 1970: no token that is issued by this one is good for longer.
    /// None: that has no end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<i64>,
    /// What it is good for.
    pub access: Vec<TokenAccess>,
}

/// By what somebody signed in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SignedInBy {
    /// A key, by its name.
    Key(String),
    /// The token of a cluster's service account, by its name.
    Identity(String),
    /// The token of a build system, by the claims that counted.
    Claims(String),
}

impl fmt::Display for SignedInBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Key(id) => write!(f, "key {id}"),
            Self::Identity(account) => write!(f, "service account {account}"),
            Self::Claims(claims) => write!(f, "token with {claims}"),
        }
    }
}

/// One line of a token's access.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenAccess {
    /// `repository` or `registry`.
    pub r#type: String,
    /// The repository, or `catalog`.
    pub name: String,
    /// The token protocol's words.
    pub actions: Vec<String>,
}

/// Why a token is not believed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TokenError {
    /// This larder did not issue it: another form, another signature.
    #[error("the token is none of this larder's")]
    NotOurs,
    /// It was issued for another registry.
    #[error("the token is for another registry")]
    Audience,
    /// It is not good yet.
    #[error("the token is not good yet; look at the clocks")]
    Early,
    /// It is not good any more.
    #[error("the token is not good any more")]
    Late,
}

/// Signs and verifies the tokens of one larder.
pub struct Signer {
    pair: Ed25519KeyPair,
    issuer: Box<str>,
}

impl Signer {
    /// Of the larder's own secret and its name. None: the secret makes no key, which no secret does.
    pub fn new(secret: &[u8; 32], issuer: &str) -> Option<Self> {
        let pair = Ed25519KeyPair::from_seed_unchecked(&derive(secret, b"tokens")).ok()?;
        Some(Self { pair, issuer: issuer.into() })
    }

    /// Issues a token at a time, in seconds since 1970, and tells for how many seconds it is good: never beyond
    /// the end of what it is issued `by`, which is `ends`.
    pub fn issue(
        &self,
        who: &Who,
        by: Option<SignedInBy>,
        ends: Option<i64>,
        access: Vec<TokenAccess>,
        now: i64,
        name: String,
    ) -> (String, i64) {
        let exp = ends.map_or(now + LIFE, |ends| ends.min(now + LIFE));
        let claims = TokenClaims {
            iss: self.issuer.to_string(),
            aud: self.issuer.to_string(),
            sub: if *who == Who::Anonymous { String::new() } else { who.to_string() },
            // Clocks differ a little.
            nbf: now - 30,
            iat: now,
            exp,
            jti: name,
            by,
            ends,
            access,
        };
        (self.sign(&claims), exp - now)
    }

    fn sign(&self, claims: &TokenClaims) -> String {
        let payload = serde_json::to_vec(claims).unwrap_or_default();
        let head = jwt::encode(br#"{"typ":"JWT","alg":"EdDSA"}"#);
        let signed = format!("{head}.{}", jwt::encode(&payload));
        let signature = jwt::encode(self.pair.sign(signed.as_bytes()).as_ref());
        format!("{signed}.{signature}")
    }

    /// Whether a token is ours, whatever the time. What it says is good from [`TokenClaims::check`] on.
    ///
    /// # Errors
    /// When this larder did not issue it, or for another registry.
    pub fn read(&self, token: &str) -> Result<TokenClaims, TokenError> {
        let parts = jwt::split(token).ok_or(TokenError::NotOurs)?;
        // Only our own algorithm: what the token says of it chooses nothing.
        if parts.header.alg != "EdDSA" {
            return Err(TokenError::NotOurs);
        }
        let public = UnparsedPublicKey::new(&ED25519, self.pair.public_key().as_ref());
        public
            .verify(parts.signed.as_bytes(), &parts.signature)
            .map_err(|_| TokenError::NotOurs)?;
        let claims: TokenClaims =
            serde_json::from_slice(&parts.payload).map_err(|_| TokenError::NotOurs)?;
        if *claims.aud != *self.issuer || *claims.iss != *self.issuer {
            return Err(TokenError::Audience);
        }
        Ok(claims)
    }
}

impl TokenClaims {
    /// Whether it is good at a time, in seconds since 1970.
    pub fn check(&self, now: i64) -> Result<(), TokenError> {
        match now {
            _ if now < self.nbf => Err(TokenError::Early),
            _ if now >= self.exp => Err(TokenError::Late),
            _ => Ok(()),
        }
    }

    /// Whether it has ended so short a time ago that a pull which began before may go on.
    pub fn is_just_over(&self, now: i64) -> bool {
        now >= self.exp && now < self.exp.saturating_add(LATE)
    }

    /// Until when a token may be good that is issued by this one. None: as long as any.
    pub fn renewable_until(&self) -> Option<i64> {
        match (&self.by, self.ends) {
            // From before an end was written down: it is good until its own.
            (Some(SignedInBy::Identity(_) | SignedInBy::Claims(_)), None) => Some(self.exp),
            (_, ends) => ends,
        }
    }

    /// Whether it names an action on a repository.
    pub fn allows(&self, action: Action, repository: &RepositoryName) -> bool {
        self.access.iter().any(|access| {
            access.r#type == "repository"
                && access.name == repository.as_str()
                && access.actions.iter().any(|word| word == action.word())
        })
    }

    /// Whether it names the list of repositories.
    pub fn allows_catalog(&self) -> bool {
        self.access.iter().any(|access| access.r#type == "registry" && access.name == "catalog")
    }
}

impl TokenAccess {
    /// Actions on a repository.
    pub fn repository(name: &RepositoryName, actions: &[Action]) -> Self {
        Self {
            r#type: "repository".into(),
            name: name.to_string(),
            actions: actions.iter().map(|action| action.word().to_owned()).collect(),
        }
    }

    /// The list of repositories.
    pub fn catalog() -> Self {
        Self { r#type: "registry".into(), name: "catalog".into(), actions: vec!["*".into()] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: i64 = 1_790_000_000;

    fn signer(seed: u8) -> Signer {
        Signer::new(&[seed; 32], "larder.emberfall.example:5080").unwrap()
    }

    fn token(signer: &Signer) -> String {
        let name = "vendor/kettle".parse().unwrap();
        let access = vec![TokenAccess::repository(&name, &[Action::Pull])];
        let by = Some(SignedInBy::Key("0123abcd".into()));
        let who = Who::cluster("turbine-hall", Some("scada"));
        signer.issue(&who, by, Some(NOW + LIFE), access, NOW, "x".into()).0
    }

    #[test]
    fn a_token_says_who_and_what_for_a_while() {
        let claims = signer(1).read(&token(&signer(1))).unwrap();
        assert_eq!(claims.sub, "turbine-hall/scada");
        let (kettle, other) = ("vendor/kettle".parse().unwrap(), "vendor/kettl".parse().unwrap());
        assert!(claims.allows(Action::Pull, &kettle));
        assert!(!claims.allows(Action::Push, &kettle) && !claims.allows(Action::Pull, &other));
        assert!(!claims.allows_catalog());
        assert_eq!(claims.check(NOW), Ok(()));
        assert_eq!(claims.check(NOW - 31), Err(TokenError::Early));
        assert_eq!(claims.check(NOW + LIFE), Err(TokenError::Late));
        assert!(!claims.is_just_over(NOW) && claims.is_just_over(NOW + LIFE));
        assert!(!claims.is_just_over(NOW + LIFE + LATE));
    }

    #[test]
    fn no_token_outlives_what_it_was_had_by() {
        let who = Who::cluster("turbine-hall", Some("scada"));
        let by = Some(SignedInBy::Identity("scada/default".into()));
        for (ends, life) in [(None, LIFE), (Some(NOW + 30), 30), (Some(NOW + 2 * LIFE), LIFE)] {
            let (token, told) = signer(1).issue(&who, by.clone(), ends, vec![], NOW, "x".into());
            let claims = signer(1).read(&token).unwrap();
            assert_eq!((told, claims.exp), (life, NOW + life));
            // One from before had no end written down.
            assert_eq!(claims.renewable_until(), ends.or(Some(NOW + LIFE)));
        }
    }

    #[test]
    fn what_others_made_is_not_believed() {
        let good = token(&signer(1));
        assert_eq!(signer(2).read(&good).err(), Some(TokenError::NotOurs));
        let elsewhere = Signer::new(&[1; 32], "other.example").unwrap();
        assert_eq!(elsewhere.read(&good).err(), Some(TokenError::Audience));
        let (head, rest) = good.split_once('.').unwrap();
        let (body, signature) = rest.split_once('.').unwrap();
        let none = jwt::encode(br#"{"alg":"none"}"#);
        let symmetric = jwt::encode(br#"{"alg":"HS256"}"#);
        let critical = jwt::encode(br#"{"alg":"EdDSA","crit":["b64"]}"#);
        let larger = jwt::encode(
            &String::from_utf8(
                base64::Engine::decode(&base64::engine::general_purpose::URL_SAFE_NO_PAD, body)
                    .unwrap(),
            )
            .unwrap()
            .replace("pull", "push")
            .into_bytes(),
        );
        for forged in [
            format!("{none}.{body}."),
            format!("{none}.{body}.{signature}"),
            format!("{symmetric}.{body}.{signature}"),
            format!("{critical}.{body}.{signature}"),
            format!("{head}.{larger}.{signature}"),
            format!("{head}.{body}"),
            format!("{head}.{body}."),
            format!("{head}.{body}.{}", &signature[1..]),
            good[..good.len() - 2].to_owned(),
            "a".repeat(jwt::LIMIT + 1),
            String::new(),
            "..".into(),
        ] {
            assert_eq!(signer(1).read(&forged).err(), Some(TokenError::NotOurs), "{forged}");
        }
    }
}
