//! What is the name of these bytes? Content digests of the OCI image specification ("Digests").

use std::fmt;
use std::str::FromStr;

/// The digest algorithms that the specification registers and that we verify.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Algorithm {
    /// SHA-256, 64 hexadecimal digits.
    Sha256,
    /// SHA-512, 128 hexadecimal digits.
    Sha512,
}

impl Algorithm {
    /// The name in front of the colon.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha256 => "sha256",
            Self::Sha512 => "sha512",
        }
    }

    /// How many hexadecimal digits follow the colon.
    pub fn hex_length(self) -> usize {
        match self {
            Self::Sha256 => 64,
            Self::Sha512 => 128,
        }
    }

    fn ring(self) -> &'static ring::digest::Algorithm {
        match self {
            Self::Sha256 => &ring::digest::SHA256,
            Self::Sha512 => &ring::digest::SHA512,
        }
    }
}

/// A digest in canonical form, `sha256:` and lower-case hexadecimal digits. Cannot be made wrong.
///
/// ```
/// use larder_core::digest::Digest;
///
/// let digest = Digest::of(b"steam");
/// assert_eq!(digest.as_str().parse::<Digest>(), Ok(digest.clone()));
/// assert!("sha256:12".parse::<Digest>().is_err());
/// ```
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest {
    algorithm: Algorithm,
    text: Box<str>,
}

/// Why a text is no digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DigestError {
    /// There is no `algorithm:` in front.
    #[error("a digest starts with its algorithm, as in `sha256:…`")]
    NoAlgorithm,
    /// The algorithm is none that we can verify.
    #[error("the digest algorithm `{0}` is not known here; sha256 and sha512 are")]
    UnknownAlgorithm(String),
    /// The number of digits is not the algorithm's.
    #[error("a {algorithm} digest has {expected} hexadecimal digits, this one has {found}")]
    Length {
        algorithm: &'static str,
        /// Digits that it has.
        expected: usize,
        /// Digits that were found.
        found: usize,
    },
    /// A character that is not a lower-case hexadecimal digit.
    #[error("a digest is written in lower-case hexadecimal digits; `{0}` is none")]
    NotHex(char),
}

impl Digest {
    /// The SHA-256 digest of bytes that are at hand. For streams, use [`Hasher`].
    pub fn of(bytes: &[u8]) -> Self {
        let mut hasher = Hasher::new(Algorithm::Sha256);
        hasher.update(bytes);
        hasher.finish()
    }

    /// The algorithm.
    pub fn algorithm(&self) -> Algorithm {
        self.algorithm
    }

    /// The hexadecimal digits alone.
    pub fn hex(&self) -> &str {
        &self.text[self.algorithm.name().len() + 1..]
    }

    /// The whole digest, as it stands in documents and URLs.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The algorithm and the first twelve digits: enough for a person to compare.
    pub fn short(&self) -> &str {
        &self.text[..self.algorithm.name().len() + 13]
    }
}

impl FromStr for Digest {
    type Err = DigestError;

    fn from_str(text: &str) -> Result<Self, DigestError> {
        let (name, hex) = text.split_once(':').ok_or(DigestError::NoAlgorithm)?;
        let algorithm = match name {
            "sha256" => Algorithm::Sha256,
            "sha512" => Algorithm::Sha512,
            other => return Err(DigestError::UnknownAlgorithm(other.to_owned())),
        };
        let wrong = |c: &char| !matches!(c, '0'..='9' | 'a'..='f');
        if let Some(c) = hex.chars().find(wrong) {
            return Err(DigestError::NotHex(c));
        }
        if hex.len() != algorithm.hex_length() {
            return Err(DigestError::Length {
                algorithm: algorithm.name(),
                expected: algorithm.hex_length(),
                found: hex.len(),
            });
        }
        Ok(Self { algorithm, text: text.into() })
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// Hashes content while it streams past.
#[derive(Clone)]
pub struct Hasher {
    algorithm: Algorithm,
    context: ring::digest::Context,
}

impl Hasher {
    /// A hasher that has seen nothing yet.
    pub fn new(algorithm: Algorithm) -> Self {
        Self { algorithm, context: ring::digest::Context::new(algorithm.ring()) }
    }

    /// Takes in the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.context.update(bytes);
    }

    /// The digest of all that was taken in.
    pub fn finish(self) -> Digest {
        use fmt::Write as _;
        let mut text = String::with_capacity(8 + self.algorithm.hex_length());
        text.push_str(self.algorithm.name());
        text.push(':');
        for byte in self.context.finish().as_ref() {
            // Writing to a String cannot fail.
            let _ = write!(text, "{byte:02x}");
        }
        Digest { algorithm: self.algorithm, text: text.into() }
    }
}

crate::name::serde_as_text!(Digest);

/// The beginning of a digest, as short as it is shown to people: at least [`DigestStart::LEAST`] digits. A whole digest
/// is its own beginning.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DigestStart(String);

impl fmt::Display for DigestStart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Why a beginning names no digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DigestStartError {
    /// None of those that are there begins so.
    #[error("no digest there begins with {0}")]
    None(String),
    /// Several do; these are the first two.
    #[error("several digests begin with {0}: {1}, {2}")]
    Several(String, Digest, Digest),
}

impl DigestStart {
    /// How many digits it must have.
    pub const LEAST: usize = 6;

    /// The beginning, with its algorithm.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The digest, where the whole of it was written.
    pub fn whole(&self) -> Option<Digest> {
        self.0.parse().ok()
    }

    /// Whether a digest begins so.
    pub fn begins(&self, digest: &Digest) -> bool {
        digest.as_str().starts_with(&self.0)
    }

    /// The only one of these digests that begins so.
    pub fn only_of<'d>(
        &self,
        all: impl IntoIterator<Item = &'d Digest>,
    ) -> Result<Digest, DigestStartError> {
        let mut found: Option<&Digest> = None;
        for digest in all.into_iter().filter(|digest| self.begins(digest)) {
            match found {
                Some(first) if first != digest => {
                    let (first, second) = (first.clone(), digest.clone());
                    return Err(DigestStartError::Several(self.0.clone(), first, second));
                }
                _ => found = Some(digest),
            }
        }
        found.cloned().ok_or_else(|| DigestStartError::None(self.0.clone()))
    }
}

impl FromStr for DigestStart {
    type Err = DigestError;

    fn from_str(text: &str) -> Result<Self, DigestError> {
        let hex = |b: u8| b.is_ascii_digit() || (b'a'..=b'f').contains(&b);
        let (algorithm, digits) = text.split_once(':').unwrap_or(("sha256", text));
        let whole = match algorithm {
            "sha256" => 64,
            "sha512" => 128,
            _ => 0,
        };
        if (Self::LEAST..=whole).contains(&digits.len()) && digits.bytes().all(hex) {
            return Ok(Self(format!("{algorithm}:{digits}")));
        }
        Ok(Self(text.parse::<Digest>()?.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_empty_digest_is_the_known_one() {
        let empty = "sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
        assert_eq!(Digest::of(b"").as_str(), empty);
        assert_eq!(Digest::of(b"").short(), "sha256:e3b0c44298fc");
    }

    #[test]
    fn wrong_digests_say_what_is_wrong() {
        let reason = |text: &str| text.parse::<Digest>().unwrap_err().to_string();
        assert!(reason("abc").contains("starts with its algorithm"));
        assert!(reason("md5:00").contains("`md5` is not known"));
        assert!(reason("sha256:00").contains("has 64 hexadecimal digits, this one has 2"));
        assert!(reason(&format!("sha256:{}", "A".repeat(64))).contains("lower-case"));
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics_and_what_parses_prints_the_same(text in "\\PC*|sha(256|512):[0-9a-f]{60,130}") {
            if let Ok(digest) = text.parse::<Digest>() {
                proptest::prop_assert_eq!(digest.as_str(), text);
            }
        }

        #[test]
        fn pieces_hash_like_the_whole(bytes in proptest::collection::vec(0u8.., 0..500), cut in 0usize..500) {
            let cut = cut.min(bytes.len());
            let mut hasher = Hasher::new(Algorithm::Sha256);
            hasher.update(&bytes[..cut]);
            hasher.update(&bytes[cut..]);
            proptest::prop_assert_eq!(hasher.finish(), Digest::of(&bytes));
        }
    }

    #[test]
    fn a_beginning_names_the_only_digest_that_has_it() {
        let all = [Digest::of(b""), Digest::of(b"x"), Digest::of(b"y")];
        let start = |text: &str| text.parse::<DigestStart>();
        assert_eq!(start("sha256:e3b0c44298fc").unwrap().only_of(&all), Ok(all[0].clone()));
        assert_eq!(start(all[1].as_str()).unwrap().only_of(&all), Ok(all[1].clone()));
        assert_eq!(start("e3b0c44298fc").unwrap(), start("sha256:e3b0c44298fc").unwrap());
        let none = start("sha256:000000").unwrap().only_of(&all);
        assert!(matches!(none, Err(DigestStartError::None(_))));
        let twice = [all[0].clone(), all[0].clone()];
        assert!(start("sha256:e3b0c4").unwrap().only_of(&twice).is_ok(), "it is the same one");
        for wrong in ["sha256:e3b0c", "sha256:E3B0C44298FC", "md5:e3b0c44298fc", "e3b0c", ""] {
            assert!(start(wrong).is_err(), "{wrong}");
        }
    }
}
