//! Small payloads: the signature stands in an annotation beside them.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use super::chain::LONGEST_CHAIN;
use super::examine::{Examiner, Proven, logged};
use super::flaw::Flaw;
use super::json::Json;
use super::key_file::pem_blocks;
use super::log::prove_promise;
use super::public_key::KeyUse;
use super::target::Target;
use super::wire;
use crate::document::Descriptor;
use crate::pattern::Pattern;

/// The largest text of an annotation, in bytes.
const LIMIT: usize = 64 * 1024;

/// The certificates of an annotation, in DER.
fn certificates(layer: &Descriptor, name: &str) -> Result<Vec<Vec<u8>>, Flaw> {
    let Some(text) = layer.annotations.get(name).filter(|text| !text.is_empty()) else {
        return Ok(Vec::new());
    };
    if text.len() > LIMIT {
        return Err(Flaw::TooLarge);
    }
    let broken = Flaw::Malformed("its certificates are none");
    let blocks = pem_blocks(text).filter(|all| all.len() <= LONGEST_CHAIN).ok_or(broken.clone())?;
    if blocks.is_empty() || blocks.iter().any(|(label, _)| *label != "CERTIFICATE") {
        return Err(broken);
    }
    Ok(blocks.into_iter().map(|(_, der)| der).collect())
}

impl Examiner<'_> {
    pub(super) fn small(
        &mut self,
        layer: &Descriptor,
        payload: &[u8],
        target: &Target<'_>,
    ) -> Result<Proven, Flaw> {
        let broken = Flaw::Malformed;
        let text = layer.annotations.get(wire::SMALL_SIGNATURE);
        let text =
            text.filter(|text| text.len() <= LIMIT).ok_or(broken("its signature is missing"))?;
        let signature = STANDARD.decode(text).map_err(|_| broken("its signature is no base64"))?;
        let mut chain = certificates(layer, wire::SMALL_CERTIFICATE)?;
        if !chain.is_empty() {
            chain.extend(certificates(layer, wire::SMALL_CHAIN)?);
        }
        let beside = |name: &str| {
            let text = layer.annotations.get(name).filter(|text| text.len() <= LIMIT)?;
            Json::read_object(text.as_bytes())
        };
        let promise = beside(wire::SMALL_LOG);
        let (trust, now) = (self.trust, self.question.now);
        let proof = |verifier: &[u8]| {
            let asked = logged(payload, false, &signature, verifier);
            match &promise {
                None => Err("no entry of a log stands beside it"),
                Some(promise) => prove_promise(promise, &asked, &trust.logs, now),
            }
        };
        let stamp = beside(wire::SMALL_STAMP);
        let stamp = match &stamp {
            Some(stamp) => stamp.text_of("SignedRFC3161Timestamp"),
            None => layer.annotations.get(wire::SMALL_STAMP).map(String::as_str),
        };
        let stamp = stamp.and_then(|text| STANDARD.decode(text).ok());
        let stamp = self.stamped(&stamp, &signature);
        let with = KeyUse::OfItsKind;
        let (hand, proof) = match chain.first() {
            None => {
                let hand = self.by_key(with, payload, &signature, None)?;
                let proof = proof(&hand.verifier);
                (hand, proof)
            }
            Some(first) => {
                let proof = proof(first);
                let at = stamp.or(proof.ok().and_then(|proof| proof.at));
                (self.by_chain(&chain, with, payload, &signature, at)?, proof)
            }
        };
        self.is_about(payload, &hand.signer.name, &hand.signer.signed_as, target)?;
        self.is_logged(hand.signer, proof)?;
        Ok(Proven {
            signer: hand.signer.name.clone(),
            by: hand.by,
            over: target.digest.clone(),
            at: stamp.or(proof.ok().and_then(|proof| proof.at)),
            until: hand.until,
            said: None,
            is_signature: true,
        })
    }

    /// Whether a payload that is signed is about a target, under a name that it has or may have.
    fn is_about(
        &self,
        payload: &[u8],
        signer: &str,
        signed_as: &[Pattern],
        target: &Target<'_>,
    ) -> Result<(), Flaw> {
        let broken = Flaw::Malformed;
        let payload = Json::read_object(payload)
            .ok_or(broken("its payload cannot be read in one way only"))?;
        let critical = payload.get("critical").ok_or(broken("it has nothing critical"))?;
        let part =
            |name: &str| critical.get(name).ok_or(broken("something critical is missing in it"));
        let kind = part("type")?.text().ok_or(broken("its type is none"))?;
        if !wire::SMALL_TYPES.contains(&kind) {
            return Err(Flaw::WrongType(kind.to_owned()));
        }
        let digest = part("image")?.text_of("docker-manifest-digest");
        let digest = digest.ok_or(broken("it names no image"))?;
        let named = part("identity")?.text_of("docker-reference");
        let named = named.ok_or(broken("it names no repository"))?;
        if digest != target.digest.as_str() {
            let digest = digest.parse().ok();
            return Err(Flaw::WrongDigest { signer: signer.to_owned(), digest });
        }
        let (name, tag) = parts(named);
        let is_name = self.question.names.iter().any(|own| own == name)
            || signed_as.iter().any(|pattern| pattern.matches(name));
        let tags = self.question.tags;
        let is_tag = tag.is_none_or(|tag| tags.is_empty() || tags.iter().any(|own| own == tag));
        match is_name && is_tag {
            true => Ok(()),
            false => {
                Err(Flaw::WrongIdentity { signer: signer.to_owned(), named: named.to_owned() })
            }
        }
    }
}

/// The repository and the tag of a reference, without its digest.
fn parts(named: &str) -> (&str, Option<&str>) {
    let name = named.split_once('@').map_or(named, |(name, _)| name);
    match name.rsplit_once(':') {
        Some((name, tag)) if !tag.contains('/') => (name, Some(tag)),
        _ => (name, None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reference_is_taken_apart_where_its_parts_end() {
        for (named, wanted) in [
            ("ventworks.example/gauge", ("ventworks.example/gauge", None)),
            ("ventworks.example:5000/gauge", ("ventworks.example:5000/gauge", None)),
            ("ventworks.example:5000/gauge:1", ("ventworks.example:5000/gauge", Some("1"))),
            ("ventworks.example/gauge:1@sha256:00", ("ventworks.example/gauge", Some("1"))),
            ("", ("", None)),
        ] {
            assert_eq!(parts(named), wanted);
        }
    }
}
