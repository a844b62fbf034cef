//! A signed text: JSON Lines with two lines. The first is what is said; the second who says it,
//! with a signature over the bytes of the first, its line end included.

use serde::Deserialize;

use crate::signature::{Signature, SigningKey, VerifyingKey};

/// A signed text that was taken apart; whether the key is known is for the caller to decide.
#[derive(Debug, Clone)]
pub struct SignedText<'t> {
    /// What is said: one line of JSON.
    pub said: &'t str,
    /// Who says so.
    pub key: VerifyingKey,
}

/// Why a text is no signed one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SignedError {
    /// It has not the two lines.
    #[error("it is not signed: it has not the two lines of a signed text")]
    Shape,
    /// The signature is not that of the key over the text.
    #[error("it was altered after it was signed: its signature by {0} is wrong")]
    Altered(VerifyingKey),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SignatureLine {
    key: String,
    signature: String,
}

impl<'t> SignedText<'t> {
    /// Signs one line of JSON.
    pub fn write(said: &str, key: &SigningKey) -> String {
        let said = format!("{said}\n");
        let (signature, key) = (key.sign(said.as_bytes()), key.verifying());
        format!("{said}{{\"key\":\"{key}\",\"signature\":\"{signature}\"}}\n")
    }

    /// Takes a signed text apart and checks its signature.
    pub fn read(text: &'t str) -> Result<Self, SignedError> {
        let end = text.find('\n').ok_or(SignedError::Shape)? + 1;
        let (said, rest) = text.split_at(end);
        let line: SignatureLine = serde_json::from_str(rest).map_err(|_| SignedError::Shape)?;
        let key: VerifyingKey = line.key.parse().map_err(|_| SignedError::Shape)?;
        let signature: Signature = line.signature.parse().map_err(|_| SignedError::Shape)?;
        if !key.verifies(said.as_bytes(), &signature) {
            return Err(SignedError::Altered(key));
        }
        Ok(Self { said: said.trim_end(), key })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_signed_reads_back_and_what_is_altered_does_not() {
        let (key, _) = SigningKey::generate().unwrap();
        let text = SignedText::write(r#"{"a":1}"#, &key);
        let read = SignedText::read(&text).unwrap();
        assert_eq!((read.said, &read.key), (r#"{"a":1}"#, &key.verifying()));
        let altered = text.replace("1}\n", "2}\n");
        assert_eq!(SignedText::read(&altered).unwrap_err(), SignedError::Altered(key.verifying()));
        for wrong in ["", "{}", "{}\n", "{}\n{}", &text[..text.len() - 20], &format!("{text}x")] {
            assert_eq!(SignedText::read(wrong).unwrap_err(), SignedError::Shape, "{wrong}");
        }
    }
}
