//! DSSE envelopes and the statements of in-toto in them.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE};

use super::flaw::Flaw;
use super::json::Json;
use super::wire;
use crate::digest::Digest;

/// The most signatures of one envelope.
const MOST: usize = 100;
/// The most subjects of one statement.
const SUBJECTS: usize = 10_000;

/// An envelope, taken apart; nothing of it is believed yet.
#[derive(Debug)]
pub struct Dsse {
    pub payload_type: String,
    pub payload: Vec<u8>,
    /// Each with the key that it names itself.
    pub signatures: Vec<(Option<String>, Vec<u8>)>,
}

/// What a statement says, once its signature holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    pub predicate_type: String,
    pub predicate: Json,
}

/// Base64 in either alphabet, with what pads it; a text that has both alphabets is none.
pub fn decode_either(text: &str) -> Option<Vec<u8>> {
    let engine = if text.contains(['-', '_']) { &URL_SAFE } else { &STANDARD };
    engine.decode(text).ok()
}

impl Dsse {
    /// Takes an envelope apart.
    pub fn read(envelope: &Json) -> Result<Self, Flaw> {
        let broken = Flaw::Malformed;
        let payload_type = envelope.text_of("payloadType").ok_or(broken("it says of no type"))?;
        let payload = envelope.text_of("payload").ok_or(broken("it has no payload"))?;
        let payload = decode_either(payload).ok_or(broken("its payload is no base64"))?;
        let all = envelope
            .get("signatures")
            .and_then(Json::list)
            .ok_or(broken("it has no signatures"))?;
        if all.is_empty() {
            return Err(broken("it has no signatures"));
        }
        if all.len() > MOST {
            return Err(Flaw::TooLarge);
        }
        let signatures: Option<Vec<_>> = all
            .iter()
            .map(|one| {
                let named = match one.get("keyid") {
                    None | Some(Json::Null) => None,
                    Some(id) => Some(id.text()?.to_owned()).filter(|id| !id.is_empty()),
                };
                Some((named, decode_either(one.text_of("sig")?)?))
            })
            .collect();
        let signatures = signatures.ok_or(broken("one of its signatures is no base64"))?;
        Ok(Self { payload_type: payload_type.to_owned(), payload, signatures })
    }

    /// What is signed (DSSE, pre-authentication encoding).
    pub fn signed(&self) -> Vec<u8> {
        let kind = &self.payload_type;
        let front = format!("{} {} {kind} {} ", wire::DSSE_CONTEXT, kind.len(), self.payload.len());
        [front.as_bytes(), &self.payload].concat()
    }

    /// What it says of a content, once a signature of it holds.
    pub fn said(&self, signer: &str, about: &Digest) -> Result<Said, Flaw> {
        if self.payload_type != wire::STATEMENT {
            return Err(Flaw::WrongType(self.payload_type.clone()));
        }
        let statement = Json::read_object(&self.payload);
        let statement =
            statement.ok_or(Flaw::Malformed("its statement cannot be read in one way only"))?;
        let kind =
            statement.text_of("_type").ok_or(Flaw::Malformed("its statement is of no type"))?;
        if !wire::STATEMENT_TYPES.contains(&kind) {
            return Err(Flaw::WrongType(kind.to_owned()));
        }
        let subjects = statement.get("subject").and_then(Json::list);
        let subjects = subjects.ok_or(Flaw::Malformed("its statement is about nothing"))?;
        if subjects.len() > SUBJECTS {
            return Err(Flaw::TooLarge);
        }
        // A name proves nothing, and a weak digest no more.
        let name = about.algorithm().name();
        let is_it =
            |one: &&Json| one.get("digest").and_then(|set| set.text_of(name)) == Some(about.hex());
        if !subjects.iter().any(|one| is_it(&one)) {
            let other = subjects.first().and_then(|one| one.get("digest")?.text_of("sha256"));
            let digest = other.and_then(|hex| format!("sha256:{hex}").parse().ok());
            return Err(Flaw::WrongDigest { signer: signer.to_owned(), digest });
        }
        let predicate_type = statement.text_of("predicateType");
        let predicate_type =
            predicate_type.ok_or(Flaw::Malformed("its statement says of no type"))?;
        let predicate = statement.get("predicate").cloned().unwrap_or(Json::Null);
        Ok(Said { predicate_type: predicate_type.to_owned(), predicate })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn either_alphabet_is_read_and_never_both() {
        assert_eq!(decode_either("-_8="), Some(vec![0xfb, 0xff]));
        assert_eq!(decode_either("+/8="), Some(vec![0xfb, 0xff]));
        for bad in ["-_8", "+/8", "+_8=", "-_9=", "-_8==", " -_8=", "-_8\n", "====", "A"] {
            assert_eq!(decode_either(bad), None, "{bad:?}");
        }
    }

    #[test]
    fn what_is_signed_is_the_type_and_the_payload_with_their_lengths() {
        let envelope = Dsse {
            payload_type: "http://example.com/HelloWorld".to_owned(),
            payload: b"hello world".to_vec(),
            signatures: Vec::new(),
        };
        // The example of the standard.
        assert_eq!(envelope.signed(), b"DSSEv1 29 http://example.com/HelloWorld 11 hello world");
    }
}
