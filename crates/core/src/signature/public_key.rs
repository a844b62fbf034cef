//! The half of a key that verifies, of every kind that is verified here.

use std::fmt;

use ring::agreement;
use ring::digest::{SHA256, digest};
use ring::signature as algorithms;
use ring::signature::{UnparsedPublicKey, VerificationAlgorithm};

use crate::der::{BITS, INTEGER, OID, SEQUENCE, expect, next, only, write, write_number};

/// What kind of key it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum KeyKind {
    Ed25519,
    P256,
    P384,
    Rsa,
}

/// A key. Two are the same when they verify the same.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PublicKey {
    kind: KeyKind,
    /// As ring takes it: 32 bytes, an uncompressed point, or `RSAPublicKey` (RFC 8017, appendix A.1.1).
    bytes: Vec<u8>,
    /// `SubjectPublicKeyInfo` (RFC 5280, section 4.1.2.7).
    info: Vec<u8>,
}

/// Why bytes are no key that verifies anything here.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MalformedKey {
    #[error("it is no public key")]
    Shape,
    /// A kind that is not verified here.
    #[error(
        "its kind is not supported: {0}; Ed25519, P-256, P-384 and RSA of 2048 to 8192 bits are"
    )]
    Unsupported(&'static str),
    /// Whoever wants to can sign for it.
    #[error("it is too weak: {0}")]
    Weak(&'static str),
}

/// How a signature was made with a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyUse {
    /// The algorithm is what the key's kind makes it, ECDSA in DER; of several that are as safe, any.
    OfItsKind,
    /// As JOSE and COSE name them; ECDSA as two numbers of fixed length (RFC 7518, section 3).
    EdDsa,
    Es256,
    Es384,
    Ps256,
    Ps384,
    Ps512,
}

const ED25519: &[u8] = &[0x2b, 0x65, 0x70];
const EC: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 0x02, 0x01];
const RSA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x01];
const RSA_PSS: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x0a];
const P256: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07];
const P384: &[u8] = &[0x2b, 0x81, 0x04, 0x00, 0x22];
const P521: &[u8] = &[0x2b, 0x81, 0x04, 0x00, 0x23];
const SECP256K1: &[u8] = &[0x2b, 0x81, 0x04, 0x00, 0x0a];
const ED448: &[u8] = &[0x2b, 0x65, 0x71];

/// The points of Ed25519 for which everybody can sign, the sign's bit taken off (RFC 8032, section 5.1.7 leaves them in).
const SMALL_ORDER: [[u8; 32]; 7] = {
    let mut all = [[0xff; 32]; 7];
    all[0] = [0; 32];
    all[1] = [0; 32];
    all[1][0] = 1;
    all[2] = [
        0x26, 0xe8, 0x95, 0x8f, 0xc2, 0xb2, 0x27, 0xb0, 0x45, 0xc3, 0xf4, 0x89, 0xf2, 0xef, 0x98,
        0xf0, 0xd5, 0xdf, 0xac, 0x05, 0xd3, 0xc6, 0x33, 0x39, 0xb1, 0x38, 0x02, 0x88, 0x6d, 0x53,
        0xfc, 0x05,
    ];
    all[3] = [
        0xc7, 0x17, 0x6a, 0x70, 0x3d, 0x4d, 0xd8, 0x4f, 0xba, 0x3c, 0x0b, 0x76, 0x0d, 0x10, 0x67,
        0x0f, 0x2a, 0x20, 0x53, 0xfa, 0x2c, 0x39, 0xcc, 0xc6, 0x4e, 0xc7, 0xfd, 0x77, 0x92, 0xac,
        0x03, 0x7a,
    ];
    (all[4][0], all[4][31]) = (0xec, 0x7f);
    (all[5][0], all[5][31]) = (0xed, 0x7f);
    (all[6][0], all[6][31]) = (0xee, 0x7f);
    all
};

impl PublicKey {
    /// Reads `SubjectPublicKeyInfo` in DER.
    pub fn read(info: &[u8]) -> Result<Self, MalformedKey> {
        let shape = || MalformedKey::Shape;
        let mut inside = only(info, SEQUENCE).ok_or_else(shape)?;
        let mut algorithm = expect(&mut inside, SEQUENCE).ok_or_else(shape)?;
        let bits = only(inside, BITS).ok_or_else(shape)?;
        let (0, bytes) = bits.split_first().ok_or_else(shape)? else { return Err(shape()) };
        let kind = expect(&mut algorithm, OID).ok_or_else(shape)?;
        match kind {
            ED25519 if algorithm.is_empty() => Self::ed25519(bytes),
            RSA if algorithm.is_empty() || algorithm == [5, 0] => Self::rsa_der(bytes),
            RSA_PSS => Err(MalformedKey::Unsupported("RSA that is bound to PSS")),
            EC => match next(&mut algorithm) {
                Some(curve) if curve.tag == OID && algorithm.is_empty() => match curve.content {
                    P256 => Self::point(KeyKind::P256, bytes),
                    P384 => Self::point(KeyKind::P384, bytes),
                    P521 => Err(MalformedKey::Unsupported("P-521")),
                    SECP256K1 => Err(MalformedKey::Unsupported("secp256k1")),
                    _ => Err(MalformedKey::Unsupported("another curve")),
                },
                Some(curve) if curve.tag == SEQUENCE => {
                    Err(MalformedKey::Unsupported("a curve that the key describes itself"))
                }
                _ => Err(shape()),
            },
            ED448 => Err(MalformedKey::Unsupported("Ed448")),
            ED25519 | RSA => Err(shape()),
            _ => Err(MalformedKey::Unsupported("another kind")),
        }
    }

    /// 32 bytes (RFC 8032, section 5.1.5).
    pub fn ed25519(bytes: &[u8]) -> Result<Self, MalformedKey> {
        let mut point: [u8; 32] = bytes.try_into().map_err(|_| MalformedKey::Shape)?;
        point[31] &= 0x7f;
        if SMALL_ORDER.contains(&point) {
            return Err(MalformedKey::Weak("anybody can sign for this point"));
        }
        let algorithm = write(SEQUENCE, &write(OID, ED25519));
        Ok(Self::with(KeyKind::Ed25519, bytes, &algorithm))
    }

    /// A point of a curve: 4, x and y (SEC 1, section 2.3.3).
    pub fn point(kind: KeyKind, bytes: &[u8]) -> Result<Self, MalformedKey> {
        let (curve, length, agreement) = match kind {
            KeyKind::P256 => (P256, 65, &agreement::ECDH_P256),
            KeyKind::P384 => (P384, 97, &agreement::ECDH_P384),
            KeyKind::Ed25519 | KeyKind::Rsa => return Err(MalformedKey::Shape),
        };
        if matches!(bytes.first(), Some(2 | 3)) {
            return Err(MalformedKey::Unsupported("a compressed point"));
        }
        if bytes.len() != length || bytes.first() != Some(&4) || !is_on_curve(agreement, bytes) {
            return Err(MalformedKey::Shape);
        }
        let algorithm = write(SEQUENCE, &[write(OID, EC), write(OID, curve)].concat());
        Ok(Self::with(kind, bytes, &algorithm))
    }

    /// A modulus and an exponent, big-endian.
    pub fn rsa(modulus: &[u8], exponent: &[u8]) -> Result<Self, MalformedKey> {
        let digits =
            |bytes: &[u8]| bytes.iter().position(|byte| *byte != 0).map(|at| bytes[at..].to_vec());
        let modulus = digits(modulus).ok_or(MalformedKey::Shape)?;
        let exponent = digits(exponent).ok_or(MalformedKey::Shape)?;
        let bits =
            modulus.len() * 8 - modulus.first().map_or(0, |byte| byte.leading_zeros() as usize);
        if bits < 2048 {
            return Err(MalformedKey::Weak("RSA of less than 2048 bits"));
        }
        if bits > 8192 {
            return Err(MalformedKey::Unsupported("RSA of more than 8192 bits"));
        }
        let is_odd = |bytes: &[u8]| bytes.last().is_some_and(|byte| byte & 1 == 1);
        // An exponent of 1 leaves what is signed as it is; ring takes none above 33 bits.
        if !is_odd(&modulus) || !is_odd(&exponent) || exponent == [1] {
            return Err(MalformedKey::Weak("an RSA key with numbers that none has"));
        }
        if exponent.len() > 5 || (exponent.len() == 5 && exponent[0] > 1) {
            return Err(MalformedKey::Unsupported("RSA with an exponent above 33 bits"));
        }
        let bytes = write(SEQUENCE, &[write_number(&modulus), write_number(&exponent)].concat());
        let algorithm = write(SEQUENCE, &[write(OID, RSA), vec![5, 0]].concat());
        Ok(Self::with(KeyKind::Rsa, &bytes, &algorithm))
    }

    fn rsa_der(bytes: &[u8]) -> Result<Self, MalformedKey> {
        let shape = || MalformedKey::Shape;
        let mut inside = only(bytes, SEQUENCE).ok_or_else(shape)?;
        let modulus = expect(&mut inside, INTEGER).ok_or_else(shape)?;
        let exponent = expect(&mut inside, INTEGER).ok_or_else(shape)?;
        let is_negative = |number: &[u8]| number.first().is_none_or(|byte| *byte > 0x7f);
        if !inside.is_empty() || is_negative(modulus) || is_negative(exponent) {
            return Err(shape());
        }
        Self::rsa(modulus, exponent)
    }

    fn with(kind: KeyKind, bytes: &[u8], algorithm: &[u8]) -> Self {
        let bits = write(BITS, &[&[0], bytes].concat());
        let info = write(SEQUENCE, &[algorithm, &bits].concat());
        Self { kind, bytes: bytes.to_vec(), info }
    }

    /// What kind it is.
    pub fn kind(&self) -> KeyKind {
        self.kind
    }

    /// `SubjectPublicKeyInfo` in DER.
    pub fn info(&self) -> &[u8] {
        &self.info
    }

    /// The SHA-256 of `SubjectPublicKeyInfo`: by it a key is named.
    pub fn hash(&self) -> [u8; 32] {
        let mut hash = [0; 32];
        hash.copy_from_slice(digest(&SHA256, &self.info).as_ref());
        hash
    }

    /// The same in hexadecimal.
    pub fn id(&self) -> String {
        hex(&self.hash())
    }

    /// Whether the signature over the message was made with this key's other half. A use that is none of its kind's
    /// verifies nothing.
    pub fn verifies(&self, with: KeyUse, message: &[u8], signature: &[u8]) -> bool {
        let by = |algorithm: &'static dyn VerificationAlgorithm| {
            UnparsedPublicKey::new(algorithm, &self.bytes).verify(message, signature).is_ok()
        };
        match (self.kind, with) {
            (KeyKind::Ed25519, KeyUse::OfItsKind | KeyUse::EdDsa) => by(&algorithms::ED25519),
            (KeyKind::P256, KeyUse::OfItsKind) => by(&algorithms::ECDSA_P256_SHA256_ASN1),
            (KeyKind::P256, KeyUse::Es256) => by(&algorithms::ECDSA_P256_SHA256_FIXED),
            // Some that sign hash with SHA-256 whatever the key.
            (KeyKind::P384, KeyUse::OfItsKind) => {
                by(&algorithms::ECDSA_P384_SHA384_ASN1) || by(&algorithms::ECDSA_P384_SHA256_ASN1)
            }
            (KeyKind::P384, KeyUse::Es384) => by(&algorithms::ECDSA_P384_SHA384_FIXED),
            (KeyKind::Rsa, KeyUse::OfItsKind) => {
                by(&algorithms::RSA_PSS_2048_8192_SHA256)
                    || by(&algorithms::RSA_PKCS1_2048_8192_SHA256)
                    || by(&algorithms::RSA_PSS_2048_8192_SHA384)
                    || by(&algorithms::RSA_PKCS1_2048_8192_SHA384)
                    || by(&algorithms::RSA_PSS_2048_8192_SHA512)
                    || by(&algorithms::RSA_PKCS1_2048_8192_SHA512)
            }
            (KeyKind::Rsa, KeyUse::Ps256) => by(&algorithms::RSA_PSS_2048_8192_SHA256),
            (KeyKind::Rsa, KeyUse::Ps384) => by(&algorithms::RSA_PSS_2048_8192_SHA384),
            (KeyKind::Rsa, KeyUse::Ps512) => by(&algorithms::RSA_PSS_2048_8192_SHA512),
            _ => false,
        }
    }

    /// Whether a use is one of this kind's.
    pub fn takes(&self, with: KeyUse) -> bool {
        matches!(
            (self.kind, with),
            (_, KeyUse::OfItsKind)
                | (KeyKind::Ed25519, KeyUse::EdDsa)
                | (KeyKind::P256, KeyUse::Es256)
                | (KeyKind::P384, KeyUse::Es384)
                | (KeyKind::Rsa, KeyUse::Ps256 | KeyUse::Ps384 | KeyUse::Ps512)
        )
    }
}

/// Whether a point lies on its curve: agreeing on a key is refused for all others.
fn is_on_curve(curve: &'static agreement::Algorithm, point: &[u8]) -> bool {
    let random = ring::rand::SystemRandom::new();
    let Ok(own) = agreement::EphemeralPrivateKey::generate(curve, &random) else { return false };
    let other = agreement::UnparsedPublicKey::new(curve, point);
    agreement::agree_ephemeral(own, &other, |_| ()).is_ok()
}

/// Bytes in hexadecimal.
pub(super) fn hex(bytes: &[u8]) -> String {
    let digit = |half: u8| char::from_digit(u32::from(half), 16).unwrap_or('0');
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

impl fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.kind, self.id())
    }
}

impl fmt::Display for KeyKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Ed25519 => "Ed25519",
            Self::P256 => "P-256",
            Self::P384 => "P-384",
            Self::Rsa => "RSA",
        })
    }
}

#[cfg(test)]
mod tests {
    use rcgen::PublicKeyData as _;

    use super::*;

    #[test]
    fn keys_that_others_can_sign_for_are_refused() {
        for point in SMALL_ORDER {
            let mut other = point;
            other[31] |= 0x80;
            for bytes in [point, other] {
                assert!(matches!(PublicKey::ed25519(&bytes), Err(MalformedKey::Weak(_))));
            }
        }
        let modulus = |length: usize| [&[0x80], &vec![1; length - 1][..]].concat();
        assert!(PublicKey::rsa(&modulus(256), &[1, 0, 1]).is_ok());
        assert!(PublicKey::rsa(&modulus(256), &[3]).is_ok());
        for (length, exponent) in [(255, &[1, 0, 1][..]), (256, &[1]), (256, &[2]), (256, &[0, 1])]
        {
            let read = PublicKey::rsa(&modulus(length), exponent);
            assert!(matches!(read, Err(MalformedKey::Weak(_))), "{length} {exponent:?}");
        }
        assert!(PublicKey::rsa(&modulus(1025), &[3]).is_err());
        assert!(PublicKey::rsa(&modulus(256), &[3, 0, 0, 0, 1]).is_err());
        let no_point = [&[4][..], &[7; 64]].concat();
        assert_eq!(PublicKey::point(KeyKind::P256, &no_point), Err(MalformedKey::Shape));
    }

    #[test]
    fn what_is_written_of_a_key_is_read_as_the_same() {
        let pair = rcgen::KeyPair::generate().unwrap();
        let key = PublicKey::point(KeyKind::P256, pair.public_key_raw()).unwrap();
        assert_eq!(key.info(), pair.subject_public_key_info());
        assert_eq!(PublicKey::read(key.info()), Ok(key.clone()));
        assert!(PublicKey::read(&[key.info(), &[0]].concat()).is_err());
        let rsa = PublicKey::rsa(&[&[0x80], &[1; 255][..]].concat(), &[1, 0, 1]).unwrap();
        assert_eq!(PublicKey::read(rsa.info()), Ok(rsa));
    }

    proptest::proptest! {
        #[test]
        fn no_bytes_panic(bytes: Vec<u8>, at in 0usize..91, byte: u8) {
            let _ = PublicKey::read(&bytes);
            let pair = rcgen::KeyPair::generate().unwrap();
            let mut info = pair.subject_public_key_info();
            info[at] = byte;
            let _ = PublicKey::read(&info);
        }
    }
}
