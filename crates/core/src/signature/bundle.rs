//! Bundles: a signature together with what proves it, in one document.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use super::chain::LONGEST_CHAIN;
use super::dsse::{Dsse, Said};
use super::examine::{Examiner, Proven, logged};
use super::flaw::Flaw;
use super::json::Json;
use super::log::{LogProof, MOST_ENTRIES, prove};
use super::public_key::KeyUse;
use super::target::Target;
use super::wire;
use crate::document::Descriptor;

/// The content of a bundle.
enum Content {
    /// An envelope with the one signature in it.
    Envelope(Dsse, Vec<u8>),
    /// A signature over the very bytes of the image's manifest.
    Message(Vec<u8>),
}

fn broken(what: &'static str) -> Flaw {
    Flaw::Malformed(what)
}

/// The certificates of a bundle; none where a key made it.
fn chain(material: &Json) -> Result<Vec<Vec<u8>>, Flaw> {
    let one = material.get("certificate");
    let many = material.get("x509CertificateChain");
    let key = material.get("publicKey");
    let list = match (one, many, key) {
        (None, None, Some(_)) => return Ok(Vec::new()),
        (Some(one), None, None) => std::slice::from_ref(one),
        (None, Some(many), None) => {
            many.get("certificates").and_then(Json::list).unwrap_or_default()
        }
        _ => return Err(broken("it has not exactly one of a key and certificates")),
    };
    if list.is_empty() || list.len() > LONGEST_CHAIN {
        return Err(broken("it has no certificates, or too many"));
    }
    let ders = list.iter().map(|one| STANDARD.decode(one.text_of("rawBytes")?).ok());
    ders.collect::<Option<_>>().ok_or(broken("its certificates are no base64"))
}

fn content(bundle: &Json) -> Result<Content, Flaw> {
    match (bundle.get("dsseEnvelope"), bundle.get("messageSignature")) {
        (Some(envelope), None) => {
            let envelope = Dsse::read(envelope)?;
            let [(_, signature)] = &envelope.signatures[..] else {
                return Err(broken("its envelope has not exactly one signature"));
            };
            let signature = signature.clone();
            Ok(Content::Envelope(envelope, signature))
        }
        (None, Some(message)) => {
            let signature =
                message.text_of("signature").and_then(|text| STANDARD.decode(text).ok());
            Ok(Content::Message(signature.ok_or(broken("its signature is no base64"))?))
        }
        _ => Err(broken("it has not exactly one of an envelope and a signature")),
    }
}

/// The list of a member; none where there is no such member.
fn list<'j>(of: &'j Json, name: &str) -> Result<&'j [Json], Flaw> {
    match of.get(name) {
        None | Some(Json::Null) => Ok(&[]),
        Some(list) => {
            let list = list.list().filter(|list| list.len() <= MOST_ENTRIES);
            list.ok_or(broken("a list in it is none, or too long"))
        }
    }
}

impl Examiner<'_> {
    pub(super) fn bundle(
        &mut self,
        layer: &Descriptor,
        bytes: &[u8],
        target: &Target<'_>,
    ) -> Result<Proven, Flaw> {
        let read = Json::read_object(bytes).ok_or(broken("it cannot be read in one way only"))?;
        let kind = read.text_of("mediaType").ok_or(broken("it says of no type"))?;
        if !wire::BUNDLES.contains(&kind) || !wire::BUNDLES.contains(&layer.media_type.as_str()) {
            return Err(Flaw::WrongType(kind.to_owned()));
        }
        let material =
            read.get("verificationMaterial").ok_or(broken("it has nothing that proves it"))?;
        let (chain, content) = (chain(material)?, content(&read)?);
        let (signed, signature) = match &content {
            Content::Envelope(envelope, signature) => (envelope.signed(), signature),
            Content::Message(signature) => (target.bytes.to_vec(), signature),
        };
        let stamps = match material.get("timestampVerificationData") {
            None | Some(Json::Null) => &[],
            Some(data) => list(data, "rfc3161Timestamps")?,
        };
        let stamps: Vec<Vec<u8>> = stamps
            .iter()
            .filter_map(|one| STANDARD.decode(one.text_of("signedTimestamp")?).ok())
            .collect();
        let stamp = self.stamped(&stamps, signature);
        let entries = list(material, "tlogEntries")?;
        let (trust, now) = (self.trust, self.question.now);
        let proof = |verifier: &[u8]| -> Result<LogProof, &'static str> {
            let asked = match &content {
                Content::Envelope(envelope, _) => {
                    logged(&envelope.payload, true, signature, verifier)
                }
                Content::Message(_) => logged(&signed, false, signature, verifier),
            };
            let mut best = Err("it has no entry of a log");
            for entry in entries {
                match prove(entry, &asked, &trust.logs, now) {
                    Ok(proof) if proof.is_of_required => return Ok(proof),
                    Err(_) if best.is_ok() => {}
                    other => best = other,
                }
            }
            best
        };
        let with = KeyUse::OfItsKind;
        let (hand, proof) = match chain.first() {
            None => {
                let named = material.get("publicKey").and_then(|key| key.text_of("hint"));
                let hand = self.by_key(with, &signed, signature, named)?;
                let proof = proof(&hand.verifier);
                (hand, proof)
            }
            Some(first) => {
                let proof = proof(first);
                let at = stamp.or(proof.ok().and_then(|proof| proof.at));
                (self.by_chain(&chain, with, &signed, signature, at)?, proof)
            }
        };
        let said: Option<Said> = match &content {
            Content::Envelope(envelope, _) => {
                Some(envelope.said(&hand.signer.name, target.digest)?)
            }
            Content::Message(_) => None,
        };
        self.is_logged(hand.signer, proof)?;
        Ok(Proven {
            signer: hand.signer.name.clone(),
            by: hand.by,
            over: target.digest.clone(),
            at: stamp.or(proof.ok().and_then(|proof| proof.at)),
            until: hand.until,
            is_signature: said.as_ref().is_none_or(|said| hand.signer.counts(said)),
            said,
        })
    }
}
