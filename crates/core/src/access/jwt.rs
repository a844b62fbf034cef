//! The three parts of a signed token (JSON Web Signature, RFC 7515, compact form).

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::Deserialize;

/// The longest token that is looked at, in bytes.
pub const LIMIT: usize = 16 * 1024;

/// A token taken apart; nothing of it is believed yet.
pub struct JwtParts<'t> {
    /// What is signed.
    pub signed: &'t str,
    pub header: Header,
    pub payload: Vec<u8>,
    pub signature: Vec<u8>,
}

/// The header of a token (RFC 7515, section 4.1).
#[derive(Deserialize)]
pub struct Header {
    pub alg: String,
    pub kid: Option<String>,
    /// Extensions that must be understood (RFC 7515, section 4.1.11); we understand none.
    pub crit: Option<serde_json::Value>,
}

/// None: it is no such token.
pub fn split(token: &str) -> Option<JwtParts<'_>> {
    if token.len() > LIMIT {
        return None;
    }
    let (signed, signature) = token.rsplit_once('.')?;
    let (header, payload) = signed.split_once('.')?;
    let decode = |text: &str| URL_SAFE_NO_PAD.decode(text).ok();
    let header: Header = serde_json::from_slice(&decode(header)?).ok()?;
    if header.crit.is_some() {
        return None;
    }
    Some(JwtParts { signed, header, payload: decode(payload)?, signature: decode(signature)? })
}

/// Base64 for URLs, without padding (RFC 7515, section 2).
pub fn encode(bytes: &[u8]) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}
