//! Keys: long random secrets with a form by which people and leak scanners recognise them.
//!
//! `larder_` then the key's name of 8 characters, `_`, 256 random bits in 52 characters, and 6 of a
//! checksum over all before them. Kept is only a keyed hash (HMAC-SHA-256, RFC 2104).

use std::fmt;
use std::str::FromStr;

use ring::hmac;

use crate::digest::Digest;

const PREFIX: &str = "larder_";
const ALPHABET: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";
const ID: usize = 8;
const SECRET: usize = 52;
const CHECK: usize = 6;

/// A key's name: it may be shown, and tells nothing about the secret.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct KeyId(Box<str>);

/// A whole key. Printing it shows its name only.
#[derive(Clone, PartialEq, Eq)]
pub struct Key {
    text: Box<str>,
}

/// What is kept of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyHash([u8; 32]);

/// The secret of one larder with which keys are hashed and tokens are signed.
#[derive(Clone)]
pub struct Pepper(hmac::Key);

/// Why a text is no key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// It does not look like one.
    #[error("this is no key of a larder; one begins with `larder_` and has 74 characters")]
    Form,
    /// It looks like one, but a character is wrong or missing.
    #[error("this key is not as it was issued: a character is wrong or missing")]
    Check,
}

/// Random bytes of the system. None: it gave none.
pub fn random<const N: usize>() -> Option<[u8; N]> {
    use ring::rand::SecureRandom as _;
    let mut bytes = [0; N];
    ring::rand::SystemRandom::new().fill(&mut bytes).ok()?;
    Some(bytes)
}

/// So many random bytes make a key.
pub const RANDOM: usize = 5 + 32;

fn base32(bytes: &[u8], characters: usize) -> String {
    let mut text = String::with_capacity(characters);
    let (mut buffer, mut bits) = (0_u32, 0);
    for &byte in bytes {
        buffer = (buffer << 8) | u32::from(byte);
        bits += 8;
        while bits >= 5 {
            bits -= 5;
            text.push(char::from(ALPHABET[(buffer >> bits & 31) as usize]));
        }
    }
    if bits > 0 {
        text.push(char::from(ALPHABET[(buffer << (5 - bits) & 31) as usize]));
    }
    text.truncate(characters);
    text
}

/// A short text by which people name something: 8 characters made of 5 random bytes.
pub fn short_name(random: [u8; 5]) -> String {
    base32(&random, ID)
}

/// The number of the line of the record that says when a cluster's keys were last looked through for renewal.
pub fn renewal_number(cluster: &str) -> String {
    let hash = crate::digest::Digest::of(format!("renewal of {cluster}").as_bytes());
    let mut start = [0; 5];
    for (byte, pair) in start.iter_mut().zip(hash.hex().as_bytes().chunks(2)) {
        let pair = std::str::from_utf8(pair).unwrap_or_default();
        *byte = u8::from_str_radix(pair, 16).unwrap_or_default();
    }
    short_name(start)
}

/// Numbers of refusals: a short hash of what one is about, under the larder's own secret. The same at every start
/// and in every process, and nobody can tell from one what another one is about.
pub struct Numbers(hmac::Key);

impl Numbers {
    /// Of the larder's own secret.
    pub fn new(secret: &[u8; 32]) -> Self {
        Self(hmac::Key::new(hmac::HMAC_SHA256, &derive(secret, b"numbers")))
    }

    /// The number of what this text says.
    pub fn of(&self, about: &str) -> String {
        let mut five = [0; 5];
        five.copy_from_slice(&hmac::sign(&self.0, about.as_bytes()).as_ref()[..5]);
        short_name(five)
    }
}

fn checksum(body: &str) -> String {
    base32(&hex(Digest::of(body.as_bytes()).hex()), CHECK)
}

fn hex(text: &str) -> Vec<u8> {
    let digits = text.as_bytes().chunks_exact(2);
    digits.filter_map(|pair| u8::from_str_radix(str::from_utf8(pair).ok()?, 16).ok()).collect()
}

impl Key {
    /// Makes a key of random bytes.
    pub fn new(random: &[u8; RANDOM]) -> Self {
        let (id, secret) = random.split_at(5);
        let body = format!("{PREFIX}{}_{}", base32(id, ID), base32(secret, SECRET));
        let check = checksum(&body);
        Self { text: format!("{body}{check}").into() }
    }

    /// Its name.
    pub fn id(&self) -> KeyId {
        KeyId(self.text[PREFIX.len()..PREFIX.len() + ID].into())
    }

    /// The secret itself: to be written to where it is used, and nowhere else.
    pub fn reveal(&self) -> &str {
        &self.text
    }
}

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{PREFIX}{}_…", self.id())
    }
}

impl FromStr for Key {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        let rest = text.strip_prefix(PREFIX).ok_or(KeyError::Form)?;
        let well = rest.len() == ID + 1 + SECRET + CHECK
            && rest.bytes().enumerate().all(|(at, byte)| match at {
                ID => byte == b'_',
                _ => ALPHABET.contains(&byte),
            });
        if !well {
            let near = rest.is_ascii() && rest.len() > ID && rest.as_bytes()[ID] == b'_';
            return Err(if near { KeyError::Check } else { KeyError::Form });
        }
        let (body, check) = text.split_at(text.len() - CHECK);
        if checksum(body) != check {
            return Err(KeyError::Check);
        }
        Ok(Self { text: text.into() })
    }
}

impl KeyId {
    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for KeyId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for KeyId {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        let well = text.len() == ID && text.bytes().all(|byte| ALPHABET.contains(&byte));
        if well { Ok(Self(text.into())) } else { Err(KeyError::Form) }
    }
}

impl Pepper {
    /// Derives it from the larder's own secret.
    pub fn new(secret: &[u8; 32]) -> Self {
        Self(hmac::Key::new(hmac::HMAC_SHA256, &derive(secret, b"keys")))
    }

    /// What is kept of a key.
    pub fn hash(&self, key: &Key) -> KeyHash {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(hmac::sign(&self.0, key.text.as_bytes()).as_ref());
        KeyHash(bytes)
    }

    /// Whether a key is the one of which this was kept; it takes the same time whatever differs.
    pub fn verifies(&self, key: &Key, kept: &KeyHash) -> bool {
        hmac::verify(&self.0, key.text.as_bytes(), &kept.0).is_ok()
    }
}

/// One secret for each use, made of the larder's own.
pub(super) fn derive(secret: &[u8; 32], label: &[u8]) -> [u8; 32] {
    let key = hmac::Key::new(hmac::HMAC_SHA256, secret);
    let mut bytes = [0; 32];
    bytes.copy_from_slice(hmac::sign(&key, label).as_ref());
    bytes
}

impl fmt::Display for KeyHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl FromStr for KeyHash {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        hex(text).try_into().map(Self).map_err(|_| KeyError::Form)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(seed: u8) -> Key {
        let mut random = [seed; RANDOM];
        random[7] = 99;
        Key::new(&random)
    }

    #[test]
    fn a_key_is_read_as_it_was_made_and_shows_its_name_alone() {
        let made = key(7);
        assert_eq!(made.reveal().len(), 74);
        let read: Key = made.reveal().parse().unwrap();
        assert_eq!(read, made);
        assert_eq!(made.id().as_str().parse::<KeyId>().unwrap(), made.id());
        let shown = format!("{made:?}");
        assert!(shown.contains(made.id().as_str()) && shown.len() < 22, "{shown}");
        assert_ne!(key(1).reveal(), key(2).reveal());
        assert_eq!(short_name([255; 5]), "zzzzzzzz");
    }

    #[test]
    fn a_wrong_character_is_found() {
        let text = key(7).reveal().to_owned();
        for at in 0..text.len() {
            let mut wrong = text.clone().into_bytes();
            wrong[at] = if wrong[at] == b'q' { b'r' } else { b'q' };
            let wrong = String::from_utf8(wrong).unwrap();
            assert!(wrong.parse::<Key>().is_err(), "{wrong}");
        }
        assert_eq!(text[..70].parse::<Key>(), Err(KeyError::Check));
        for wrong in ["", "larder_", "password", "larder_ü", &format!("{text} ")] {
            assert!(wrong.parse::<Key>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn only_the_right_key_under_the_right_secret_is_verified() {
        let (pepper, other) = (Pepper::new(&[1; 32]), Pepper::new(&[2; 32]));
        let kept = pepper.hash(&key(7));
        assert!(pepper.verifies(&key(7), &kept));
        assert!(!pepper.verifies(&key(8), &kept));
        assert!(!other.verifies(&key(7), &kept));
        assert_eq!(kept.to_string().parse::<KeyHash>().unwrap(), kept);
        assert!("abc".parse::<KeyHash>().is_err());
    }
}
