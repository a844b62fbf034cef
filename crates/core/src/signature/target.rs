//! What is asked about, and whether what was signed is that.

use super::flaw::Flaw;
use super::json::Json;
use crate::digest::Digest;

/// A manifest or an index that a signature may be over.
#[derive(Debug, Clone, Copy)]
pub struct Target<'t> {
    pub digest: &'t Digest,
    pub media_type: &'t str,
    /// Its very bytes.
    pub bytes: &'t [u8],
}

/// Whether the payload of a JWS or of a COSE envelope is about a target.
pub fn is_target(payload: &[u8], signer: &str, target: &Target<'_>) -> Result<(), Flaw> {
    let payload = Json::read_object(payload);
    let payload = payload.ok_or(Flaw::Malformed("its payload cannot be read in one way only"))?;
    let signer = signer.to_owned();
    let Some(said) = payload.get("targetArtifact") else {
        return Err(Flaw::WrongDigest { signer, digest: None });
    };
    let digest = said.text_of("digest");
    if digest != Some(target.digest.as_str()) {
        let digest = digest.and_then(|digest| digest.parse().ok());
        return Err(Flaw::WrongDigest { signer, digest });
    }
    let is_size = said.get("size").and_then(Json::whole) == Some(target.bytes.len() as u64);
    if !is_size || said.text_of("mediaType") != Some(target.media_type) {
        return Err(Flaw::WrongTarget { signer });
    }
    Ok(())
}
