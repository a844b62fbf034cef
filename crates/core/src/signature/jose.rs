//! JWS envelopes in their flattened form (RFC 7515, section 7.2.2).

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};

use super::chain::LONGEST_CHAIN;
use super::flaw::Flaw;
use super::json::Json;
use super::public_key::KeyUse;
use super::wire;

/// What a JWS or a COSE envelope says in places that are signed, and what comes with it in others.
#[derive(Debug)]
pub struct Sealed {
    pub with: KeyUse,
    /// What the signature is over.
    pub signed: Vec<u8>,
    pub payload: Vec<u8>,
    pub signature: Vec<u8>,
    /// What it says of its payload's type.
    pub content_type: Option<String>,
    /// When it says that it was made and that it ends, in seconds since 1970.
    pub at: Option<i64>,
    pub until: Option<i64>,
    /// The key that it names itself, the certificates that come with it, and stamps: none of it is signed.
    pub named: Option<String>,
    pub chain: Vec<Vec<u8>>,
    pub stamps: Vec<Vec<u8>>,
}

/// Headers that a signature may say must be understood, all of which are.
pub const KNOWN: [&str; 4] = [wire::SCHEME, wire::EXPIRY, wire::SIGNING_TIME, wire::AUTHENTIC_TIME];
/// The names that the standard itself has (RFC 7515, section 4.1): none of them may be called critical.
const STANDARD_NAMES: [&str; 11] =
    ["alg", "jku", "jwk", "kid", "x5u", "x5c", "x5t", "x5t#S256", "typ", "cty", "crit"];

fn time(header: &Json, name: &str) -> Result<Option<i64>, Flaw> {
    let Some(value) = header.get(name) else { return Ok(None) };
    let at = value.text().and_then(|text| text.parse::<jiff::Timestamp>().ok());
    at.map(|at| Some(at.as_second())).ok_or(Flaw::Malformed("a time in it is none"))
}

/// The algorithm by its name (RFC 7518, section 3.1; RFC 8037).
fn algorithm(name: &str) -> Result<KeyUse, Flaw> {
    Ok(match name {
        "ES256" => KeyUse::Es256,
        "ES384" => KeyUse::Es384,
        "PS256" => KeyUse::Ps256,
        "PS384" => KeyUse::Ps384,
        "PS512" => KeyUse::Ps512,
        "EdDSA" => KeyUse::EdDsa,
        other => return Err(Flaw::WrongAlgorithm(other.to_owned())),
    })
}

/// Takes an envelope apart.
pub fn read(bytes: &[u8]) -> Result<Sealed, Flaw> {
    let broken = Flaw::Malformed;
    let envelope = Json::read_object(bytes).ok_or(broken("it cannot be read in one way only"))?;
    let is_known = |name: &str| matches!(name, "payload" | "protected" | "signature" | "header");
    if envelope.members().iter().any(|(name, _)| !is_known(name)) {
        return Err(broken("it is in another form than the flattened one"));
    }
    let text = |name: &str| envelope.text_of(name).ok_or(broken("a part of it is missing"));
    let decode =
        |text: &str| URL_SAFE_NO_PAD.decode(text).map_err(|_| broken("a part of it is no base64"));
    let (payload, protected) = (text("payload")?, text("protected")?);
    let (signature, signed) = (decode(text("signature")?)?, format!("{protected}.{payload}"));
    let payload = decode(payload)?;
    let header = Json::read_object(&decode(protected)?);
    let header = header.ok_or(broken("its header cannot be read in one way only"))?;
    let beside = match envelope.get("header") {
        None => &Json::Null,
        Some(beside @ Json::Object(_)) => beside,
        Some(_) => return Err(broken("its unsigned header is none")),
    };
    if beside.members().iter().any(|(name, _)| header.get(name).is_some() || name == "crit") {
        return Err(broken("a header stands where it must not"));
    }
    if beside.get("alg").is_some() || header.get("alg").is_none() {
        return Err(broken("its algorithm is not signed"));
    }
    let with = algorithm(header.text_of("alg").ok_or(broken("its algorithm is none"))?)?;
    let critical = critical(&header)?;
    if header.get("b64").is_some() || beside.get("b64").is_some() {
        return Err(broken("its payload is not in base64"));
    }
    let mut chain = Vec::new();
    for place in [&header, beside] {
        let Some(list) = place.get("x5c") else { continue };
        let list = list.list().filter(|list| list.len() <= LONGEST_CHAIN);
        let list = list.ok_or(broken("its certificates are no list, or too many"))?;
        let ders: Option<Vec<Vec<u8>>> =
            list.iter().map(|one| STANDARD.decode(one.text()?).ok()).collect();
        chain = ders.ok_or(broken("its certificates are no base64"))?;
    }
    let scheme = header.get(wire::SCHEME).map(|one| one.text().ok_or(broken("its scheme is none")));
    let scheme = scheme.transpose()?;
    check_scheme(scheme, header.get(wire::EXPIRY).is_some(), &critical, !chain.is_empty())?;
    let until = time(&header, wire::EXPIRY)?;
    let at = time(&header, wire::SIGNING_TIME)?.or(time(&header, wire::AUTHENTIC_TIME)?);
    let named = header.text_of("kid").or_else(|| beside.text_of("kid")).map(str::to_owned);
    let stamps = beside.text_of(wire::STAMP).and_then(|text| STANDARD.decode(text).ok());
    Ok(Sealed {
        with,
        signed: signed.into_bytes(),
        payload,
        signature,
        content_type: header.text_of("cty").map(str::to_owned),
        at,
        until,
        named,
        chain,
        stamps: stamps.into_iter().collect(),
    })
}

/// Whether the scheme is one that is known, and whoever does not know it must not believe the envelope. The scheme is
/// None where none is said.
pub fn check_scheme(
    scheme: Option<&str>,
    has_end: bool,
    critical: &[&str],
    has_chain: bool,
) -> Result<(), Flaw> {
    let broken = Flaw::Malformed;
    match scheme {
        Some(_) if !critical.contains(&wire::SCHEME) => {
            return Err(broken("its scheme is not critical"));
        }
        None if has_chain => return Err(broken("it comes with certificates and no scheme")),
        Some(wire::SCHEME_CHAIN | wire::SCHEME_AUTHORITY) | None => {}
        Some(_) => return Err(Flaw::Unsupported("its scheme")),
    }
    match has_end && !critical.contains(&wire::EXPIRY) {
        true => Err(broken("its end is not critical")),
        false => Ok(()),
    }
}

/// The headers that must be understood (RFC 7515, section 4.1.11).
fn critical(header: &Json) -> Result<Vec<&str>, Flaw> {
    let broken = Flaw::Malformed("its list of critical headers is none");
    let Some(list) = header.get("crit") else { return Ok(Vec::new()) };
    let list = list.list().filter(|list| !list.is_empty()).ok_or(broken.clone())?;
    let mut names: Vec<&str> = Vec::new();
    for one in list {
        let name = one.text().ok_or(broken.clone())?;
        if names.contains(&name) || STANDARD_NAMES.contains(&name) || header.get(name).is_none() {
            return Err(broken);
        }
        names.push(name);
    }
    match names.iter().find(|name| !KNOWN.contains(name)) {
        Some(unknown) => Err(Flaw::UnknownCritical((*unknown).to_owned())),
        None => Ok(names),
    }
}
