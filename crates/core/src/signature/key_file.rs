//! What operators name as a key: a file in PEM, a JSON Web Key, or `ed25519:` and base64.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};

use super::VerifyingKey;
use super::json::Json;
use super::public_key::{KeyKind, MalformedKey, PublicKey};

/// What is in a file.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyFile {
    pub keys: Vec<PublicKey>,
    /// Certificates in DER, none of which is believed yet.
    pub certificates: Vec<Vec<u8>>,
    /// Lists of what was revoked, in DER.
    pub lists: Vec<Vec<u8>>,
}

/// Why a file is not what it was named as.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyFileError {
    #[error("it has more than {} KiB", LIMIT / 1024)]
    Large,
    /// It can sign: whoever reads the configuration could then.
    #[error("it holds the secret half of a key, which should not lie here; name the public half")]
    Secret,
    /// Whoever can verify with it can sign with it.
    #[error("it is a symmetric key: whoever can verify with it can sign with it")]
    Symmetric,
    #[error("{0}")]
    Key(#[from] MalformedKey),
    /// Keys in a form that is not read.
    #[error(
        "it holds {0}, which is not read; `openssl pkey -pubin -in KEY -out KEY.pem` writes the form that is"
    )]
    Form(String),
    #[error("it is no key: {0}")]
    Shape(&'static str),
}

/// The largest file, in bytes.
const LIMIT: usize = 64 * 1024;
/// The most blocks of one file.
const MOST: usize = 200;

/// Reads a file, or the text itself that stands in a configuration.
pub fn read_key_file(bytes: &[u8]) -> Result<KeyFile, KeyFileError> {
    if bytes.len() > LIMIT {
        return Err(KeyFileError::Large);
    }
    let text = std::str::from_utf8(bytes).map_err(|_| KeyFileError::Shape("it is no text"))?;
    let text = text.trim();
    if text.is_empty() {
        return Err(KeyFileError::Shape("it is empty"));
    }
    if text.starts_with('{') {
        return read_jwk(text.as_bytes());
    }
    if let Some(key) = text.strip_prefix("ed25519:") {
        let bytes = STANDARD.decode(key).map_err(|_| KeyFileError::Shape("its base64 is none"))?;
        return Ok(KeyFile { keys: vec![PublicKey::ed25519(&bytes)?], ..KeyFile::default() });
    }
    if text.starts_with("ssh-") || text.starts_with("ecdsa-sha2-") {
        return Err(KeyFileError::Form("a key as remote shells write it".to_owned()));
    }
    if text.starts_with('<') {
        return Err(KeyFileError::Shape(
            "it is a page, as a server shows it to those who have to sign in",
        ));
    }
    read_pem(text)
}

fn read_pem(text: &str) -> Result<KeyFile, KeyFileError> {
    let mut all = KeyFile::default();
    let blocks = pem_blocks(text)
        .ok_or(KeyFileError::Shape("a block in it does not end, or is no base64"))?;
    if blocks.is_empty() {
        return Err(KeyFileError::Shape("there is no block of PEM in it"));
    }
    if blocks.len() > MOST {
        return Err(KeyFileError::Shape("it has more blocks than are read"));
    }
    // A secret anywhere in it is what has to be told.
    if blocks.iter().any(|(label, _)| label.ends_with("PRIVATE KEY")) {
        return Err(KeyFileError::Secret);
    }
    for (label, der) in blocks {
        match label {
            "PUBLIC KEY" => all.keys.push(PublicKey::read(&der)?),
            "CERTIFICATE" => match crate::certificate::read(&der) {
                Some(_) => all.certificates.push(der),
                None => return Err(KeyFileError::Shape("a certificate in it cannot be read")),
            },
            "X509 CRL" => all.lists.push(der),
            other => return Err(KeyFileError::Form(format!("`{}`", crate::shown::cut(other, 60)))),
        }
    }
    Ok(all)
}

/// The blocks of a text, each with its label (RFC 7468). What stands outside of them is for people. Of what is secret only
/// the label is read.
pub(super) fn pem_blocks(text: &str) -> Option<Vec<(&str, Vec<u8>)>> {
    blocks(text, false)
}

/// The same with what is secret.
pub(super) fn secret_blocks(text: &str) -> Option<Vec<(&str, Vec<u8>)>> {
    blocks(text, true)
}

fn blocks(text: &str, with_secrets: bool) -> Option<Vec<(&str, Vec<u8>)>> {
    let mut blocks = Vec::new();
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        let Some(label) = line.trim().strip_prefix("-----BEGIN ") else { continue };
        let label = label.strip_suffix("-----")?;
        let mut body = String::new();
        loop {
            let line = lines.next()?.trim();
            if let Some(end) = line.strip_prefix("-----END ") {
                (end.strip_suffix("-----")? == label).then_some(())?;
                break;
            }
            // Headers stand in keys that are encrypted: that they are secret is what is told of them.
            if label.ends_with("PRIVATE KEY") && (!with_secrets || line.contains(':')) {
                continue;
            }
            body.push_str(line);
        }
        blocks.push((label, STANDARD.decode(body).ok()?));
    }
    Some(blocks)
}

/// A JSON Web Key, or a set of them (RFC 7517).
fn read_jwk(bytes: &[u8]) -> Result<KeyFile, KeyFileError> {
    let shape = || KeyFileError::Shape("it is no JSON Web Key");
    let read = Json::read_object(bytes).ok_or_else(shape)?;
    let keys = match read.get("keys") {
        Some(keys) => keys.list().filter(|keys| !keys.is_empty()).ok_or_else(shape)?,
        None => std::slice::from_ref(&read),
    };
    if keys.len() > MOST {
        return Err(KeyFileError::Shape("it has more keys than are read"));
    }
    let keys: Result<_, KeyFileError> = keys.iter().map(one_jwk).collect();
    Ok(KeyFile { keys: keys?, ..KeyFile::default() })
}

fn one_jwk(key: &Json) -> Result<PublicKey, KeyFileError> {
    let shape = || KeyFileError::Shape("it is no JSON Web Key");
    let kind = key.text_of("kty").ok_or_else(shape)?;
    if kind == "oct" || key.get("k").is_some() {
        return Err(KeyFileError::Symmetric);
    }
    if ["d", "p", "q", "dp", "dq", "qi", "oth"].into_iter().any(|name| key.get(name).is_some()) {
        return Err(KeyFileError::Secret);
    }
    if key.text_of("use").is_some_and(|wanted| wanted != "sig") {
        return Err(KeyFileError::Shape("its `use` is not to verify signatures"));
    }
    let number = |name: &str| {
        let text = key.text_of(name).ok_or_else(shape)?;
        URL_SAFE_NO_PAD.decode(text).map_err(|_| shape())
    };
    let curve = key.text_of("crv");
    let point = |kind: KeyKind, length: usize| -> Result<PublicKey, KeyFileError> {
        let (x, y) = (number("x")?, number("y")?);
        if x.len() != length || y.len() != length {
            return Err(shape());
        }
        Ok(PublicKey::point(kind, &[&[4], &x[..], &y[..]].concat())?)
    };
    match (kind, curve) {
        ("OKP", Some("Ed25519")) => Ok(PublicKey::ed25519(&number("x")?)?),
        ("EC", Some("P-256")) => point(KeyKind::P256, 32),
        ("EC", Some("P-384")) => point(KeyKind::P384, 48),
        ("RSA", None) => Ok(PublicKey::rsa(&number("n")?, &number("e")?)?),
        ("OKP" | "EC", Some(_)) => Err(MalformedKey::Unsupported("another curve").into()),
        ("OKP" | "EC" | "RSA", _) => Err(shape()),
        _ => Err(MalformedKey::Unsupported("another kind").into()),
    }
}

impl From<&VerifyingKey> for KeyFile {
    fn from(key: &VerifyingKey) -> Self {
        read_key_file(key.to_string().as_bytes()).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_with_two_keys_is_both_and_with_a_secret_none() {
        let pair = rcgen::KeyPair::generate().unwrap();
        let public = pair.public_key_pem();
        let two = format!("for people\r\n{public}\n{}", public.replace('\n', "\r\n"));
        assert_eq!(read_key_file(two.as_bytes()).unwrap().keys.len(), 2);
        let secret = format!("{public}{}", pair.serialize_pem());
        assert_eq!(read_key_file(secret.as_bytes()), Err(KeyFileError::Secret));
        for label in ["EC PRIVATE KEY", "ENCRYPTED PRIVATE KEY", "OPENSSH PRIVATE KEY"] {
            let text =
                format!("-----BEGIN {label}-----\nDEK-Info: x\n\nAAAA\n-----END {label}-----\n");
            assert_eq!(read_key_file(text.as_bytes()), Err(KeyFileError::Secret), "{label}");
        }
    }

    #[test]
    fn what_is_no_key_is_told() {
        let pair = rcgen::KeyPair::generate().unwrap();
        let public = pair.public_key_pem();
        let with = |text: &str| read_key_file(text.as_bytes()).unwrap_err();
        for text in
            ["", " \n", "hello", "<html>", "{}", "{\"kty\":\"EC\"}", &public[..100], "ed25519:AAAA"]
        {
            assert!(matches!(with(text), KeyFileError::Shape(_) | KeyFileError::Key(_)), "{text}");
        }
        assert!(matches!(with("ssh-ed25519 AAAA"), KeyFileError::Form(_)));
        assert!(matches!(with(&public.replace("PUBLIC", "RSA PUBLIC")), KeyFileError::Form(_)));
        assert!(matches!(with(&public.replace("END PUBLIC", "END OTHER")), KeyFileError::Shape(_)));
        assert_eq!(with(&"x".repeat(LIMIT + 1)), KeyFileError::Large);
        assert_eq!(with(r#"{"kty":"oct","k":"AAAA"}"#), KeyFileError::Symmetric);
        assert_eq!(
            with(r#"{"kty":"OKP","crv":"Ed25519","x":"AAAA","d":"AAAA"}"#),
            KeyFileError::Secret
        );
        assert!(matches!(
            with(r#"{"kty":"EC","crv":"secp256k1","x":"","y":""}"#),
            KeyFileError::Key(_)
        ));
    }
}
