//! The half of a key that signs images: Ed25519 (RFC 8032) or ECDSA with P-256 (FIPS 186-5), kept as PKCS #8 in PEM
//! (RFC 5958).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _};

use super::key_file::secret_blocks;
use super::public_key::{KeyKind, MalformedKey, PublicKey};

/// A key that signs. It is never shown.
pub struct PrivateKey(Half);

enum Half {
    Ed25519(Ed25519KeyPair),
    P256(EcdsaKeyPair),
}

/// Why a text is no key that signs, or none could be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PrivateKeyError {
    #[error("it is no key: {0}")]
    Shape(&'static str),
    /// A key in a form that is not read.
    #[error(
        "it holds {0}, which is not read; `openssl pkcs8 -topk8 -nocrypt -in KEY -out KEY.pem` writes the form that is"
    )]
    Form(&'static str),
    /// It is locked with a passphrase, for which nobody is asked.
    #[error(
        "it is locked with a passphrase; let a program sign instead: `sign = {{ command = [\"…\"] }}`"
    )]
    Locked,
    #[error("it signs in another way than Ed25519 and ECDSA with P-256 do")]
    Kind,
    #[error("it holds the public half alone, which signs nothing")]
    Public,
    #[error("the system gave no random numbers")]
    Random,
    #[error(transparent)]
    Key(#[from] MalformedKey),
}

/// The largest file of a key, in bytes.
pub const PRIVATE_KEY_LIMIT: usize = 64 * 1024;

fn pem(label: &str, der: &[u8]) -> String {
    let body = STANDARD.encode(der);
    let lines: Vec<&str> =
        body.as_bytes().chunks(64).filter_map(|line| str::from_utf8(line).ok()).collect();
    format!("-----BEGIN {label}-----\n{}\n-----END {label}-----\n", lines.join("\n"))
}

impl PrivateKey {
    /// Makes a key of a kind, and gives it as a PEM text.
    ///
    /// # Errors
    /// The kind makes none, or the system gives no random numbers.
    pub fn generate(kind: KeyKind) -> Result<(Self, String), PrivateKeyError> {
        let random = SystemRandom::new();
        let made = match kind {
            KeyKind::Ed25519 => Ed25519KeyPair::generate_pkcs8(&random),
            KeyKind::P256 => EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &random),
            KeyKind::P384 | KeyKind::Rsa => return Err(PrivateKeyError::Kind),
        };
        let made = made.map_err(|_| PrivateKeyError::Random)?;
        let text = pem("PRIVATE KEY", made.as_ref());
        Ok((Self::read(&text)?, text))
    }

    /// Reads a PEM text.
    ///
    /// # Errors
    /// What it is instead.
    pub fn read(text: &str) -> Result<Self, PrivateKeyError> {
        if text.len() > PRIVATE_KEY_LIMIT {
            return Err(PrivateKeyError::Shape("it is too large"));
        }
        let blocks = secret_blocks(text).ok_or(PrivateKeyError::Shape("it is no PEM"))?;
        let secret: Vec<_> =
            blocks.iter().filter(|(label, _)| label.ends_with("PRIVATE KEY")).collect();
        let (label, der) = match (secret.as_slice(), blocks.first()) {
            ([one], _) => one,
            ([], Some(("PUBLIC KEY" | "CERTIFICATE", _))) => return Err(PrivateKeyError::Public),
            ([], Some(_)) => {
                return Err(PrivateKeyError::Shape("it is something else than a private key"));
            }
            ([], None) => return Err(PrivateKeyError::Shape("it is no PEM")),
            _ => return Err(PrivateKeyError::Shape("it holds several keys")),
        };
        match *label {
            "PRIVATE KEY" => {}
            "ENCRYPTED PRIVATE KEY" => return Err(PrivateKeyError::Locked),
            "EC PRIVATE KEY" => return Err(PrivateKeyError::Form("an `EC PRIVATE KEY`")),
            "OPENSSH PRIVATE KEY" => {
                return Err(PrivateKeyError::Form("a key as remote shells write it"));
            }
            _ => return Err(PrivateKeyError::Kind),
        }
        // Other programs leave the public half out.
        if let Ok(pair) = Ed25519KeyPair::from_pkcs8_maybe_unchecked(der) {
            return Ok(Self(Half::Ed25519(pair)));
        }
        let random = SystemRandom::new();
        EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, der, &random)
            .map(|pair| Self(Half::P256(pair)))
            .map_err(|_| PrivateKeyError::Kind)
    }

    /// The other half.
    ///
    /// # Errors
    /// It verifies nothing that is believed, such as a point of small order.
    pub fn public(&self) -> Result<PublicKey, MalformedKey> {
        match &self.0 {
            Half::Ed25519(pair) => PublicKey::ed25519(pair.public_key().as_ref()),
            Half::P256(pair) => PublicKey::point(KeyKind::P256, pair.public_key().as_ref()),
        }
    }

    /// Signs; ECDSA in DER. Only Ed25519 gives the same bytes for the same message.
    ///
    /// # Errors
    /// The system gives no random numbers.
    pub fn sign(&self, message: &[u8]) -> Result<Vec<u8>, PrivateKeyError> {
        match &self.0 {
            Half::Ed25519(pair) => Ok(pair.sign(message).as_ref().to_vec()),
            Half::P256(pair) => pair
                .sign(&SystemRandom::new(), message)
                .map(|signature| signature.as_ref().to_vec())
                .map_err(|_| PrivateKeyError::Random),
        }
    }
}

/// A key as everybody may have it: PEM with `PUBLIC KEY` (RFC 7468, section 13).
pub fn public_pem(key: &PublicKey) -> String {
    pem("PUBLIC KEY", key.info())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::signature::{KeyUse, read_key_file};

    #[test]
    fn what_is_made_can_be_read_and_verifies() {
        for kind in [KeyKind::Ed25519, KeyKind::P256] {
            let (key, text) = PrivateKey::generate(kind).unwrap();
            let public = key.public().unwrap();
            assert_eq!(public.kind(), kind);
            let again = PrivateKey::read(&text).unwrap();
            let signature = again.sign(b"message").unwrap();
            assert!(public.verifies(KeyUse::OfItsKind, b"message", &signature));
            assert!(!public.verifies(KeyUse::OfItsKind, b"messagf", &signature));
            let file = read_key_file(public_pem(&public).as_bytes()).unwrap();
            assert_eq!(file.keys, [public]);
            assert_eq!(read_key_file(text.as_bytes()), Err(crate::signature::KeyFileError::Secret));
        }
        assert!(PrivateKey::generate(KeyKind::Rsa).is_err());
    }

    #[test]
    fn what_is_no_key_is_told_for_what_it_is() {
        let block = |label: &str| pem(label, b"nothing of that kind");
        for (text, wanted) in [
            (String::new(), PrivateKeyError::Shape("it is no PEM")),
            ("<html>".into(), PrivateKeyError::Shape("it is no PEM")),
            (block("PRIVATE KEY"), PrivateKeyError::Kind),
            (block("ENCRYPTED PRIVATE KEY"), PrivateKeyError::Locked),
            (block("EC PRIVATE KEY"), PrivateKeyError::Form("an `EC PRIVATE KEY`")),
            (block("PUBLIC KEY"), PrivateKeyError::Public),
            (
                block("EC PARAMETERS") + &block("EC PRIVATE KEY"),
                PrivateKeyError::Form("an `EC PRIVATE KEY`"),
            ),
            (block("SOMETHING"), PrivateKeyError::Shape("it is something else than a private key")),
            (
                block("PRIVATE KEY") + &block("PRIVATE KEY"),
                PrivateKeyError::Shape("it holds several keys"),
            ),
        ] {
            assert_eq!(PrivateKey::read(&text).err(), Some(wanted), "{text}");
        }
        let long = "x".repeat(PRIVATE_KEY_LIMIT + 1);
        assert!(matches!(PrivateKey::read(&long), Err(PrivateKeyError::Shape(_))));
    }
}
