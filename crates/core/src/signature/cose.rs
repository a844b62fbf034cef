//! COSE envelopes with one signer (RFC 9052, section 4.2).

use super::cbor::{Cbor, signed_by_one};
use super::chain::LONGEST_CHAIN;
use super::flaw::Flaw;
use super::jose::{KNOWN, Sealed, check_scheme};
use super::public_key::KeyUse;
use super::wire;

/// `COSE_Sign1`, and the headers that the standards number (RFC 9052, section 3.1; RFC 9360).
const ONE_SIGNER: u64 = 18;
const ALGORITHM: i128 = 1;
const CRITICAL: i128 = 2;
const CONTENT_TYPE: i128 = 3;
const KEY: i128 = 4;
const CHAIN: i128 = 33;
/// A time (RFC 8949, section 3.4.2).
const TIME: u64 = 1;

fn algorithm(number: i128) -> Result<KeyUse, Flaw> {
    Ok(match number {
        -7 => KeyUse::Es256,
        -35 => KeyUse::Es384,
        -37 => KeyUse::Ps256,
        -38 => KeyUse::Ps384,
        -39 => KeyUse::Ps512,
        -8 => KeyUse::EdDsa,
        other => return Err(Flaw::WrongAlgorithm(other.to_string())),
    })
}

fn time(header: &Cbor<'_>, name: &str) -> Result<Option<i64>, Flaw> {
    match header.named(name) {
        None => Ok(None),
        Some(Cbor::Tag(TIME, inside)) => match **inside {
            Cbor::Number(at) => {
                i64::try_from(at).map(Some).map_err(|_| Flaw::Malformed("a time in it is none"))
            }
            _ => Err(Flaw::Malformed("a time in it is none")),
        },
        Some(_) => Err(Flaw::Malformed("a time in it is none")),
    }
}

/// Takes an envelope apart.
pub fn read(bytes: &[u8]) -> Result<Sealed, Flaw> {
    let broken = Flaw::Malformed;
    let whole = Cbor::read(bytes).ok_or(broken("it cannot be read in one way only"))?;
    let Cbor::Tag(ONE_SIGNER, inside) = &whole else {
        return Err(broken("it is no envelope of one signer"));
    };
    let Some([protected, beside, payload, signature]) = inside.list() else {
        return Err(broken("it has not four parts"));
    };
    let (Some(protected), Some(payload), Some(signature)) =
        (protected.bytes(), payload.bytes(), signature.bytes())
    else {
        return Err(broken("a part of it is missing"));
    };
    let header = match protected {
        [] => Cbor::Map(Vec::new()),
        bytes => Cbor::read(bytes).ok_or(broken("its header cannot be read in one way only"))?,
    };
    let (Cbor::Map(signed), Cbor::Map(unsigned)) = (&header, beside) else {
        return Err(broken("a header of it is no map"));
    };
    let is_twice = |label: &Cbor<'_>| signed.iter().any(|(own, _)| own == label);
    if unsigned.iter().any(|(label, _)| is_twice(label) || *label == Cbor::Number(CRITICAL)) {
        return Err(broken("a header stands where it must not"));
    }
    let Some(Cbor::Number(number)) = header.numbered(ALGORITHM) else {
        return Err(match header.numbered(ALGORITHM) {
            Some(_) => Flaw::WrongAlgorithm("no number".to_owned()),
            None => broken("its algorithm is not signed"),
        });
    };
    if beside.numbered(ALGORITHM).is_some() {
        return Err(broken("its algorithm is not signed"));
    }
    let with = algorithm(*number)?;
    let critical = critical(&header)?;
    let chain = match header.numbered(CHAIN).or_else(|| beside.numbered(CHAIN)) {
        None => Vec::new(),
        Some(Cbor::Bytes(one)) => vec![one.to_vec()],
        Some(Cbor::List(all)) if !all.is_empty() && all.len() <= LONGEST_CHAIN => {
            let all: Option<Vec<Vec<u8>>> =
                all.iter().map(|one| one.bytes().map(<[u8]>::to_vec)).collect();
            all.ok_or(broken("its certificates are no bytes"))?
        }
        Some(_) => return Err(broken("its certificates are no list, or too many")),
    };
    let scheme =
        header.named(wire::SCHEME).map(|one| one.text().ok_or(broken("its scheme is none")));
    let scheme = scheme.transpose()?;
    check_scheme(scheme, header.named(wire::EXPIRY).is_some(), &critical, !chain.is_empty())?;
    let until = time(&header, wire::EXPIRY)?;
    let at = time(&header, wire::SIGNING_TIME)?.or(time(&header, wire::AUTHENTIC_TIME)?);
    let named = header.numbered(KEY).or_else(|| beside.numbered(KEY)).and_then(Cbor::bytes);
    let stamp = beside.named(wire::STAMP).and_then(Cbor::bytes);
    Ok(Sealed {
        with,
        signed: signed_by_one(protected, payload),
        payload: payload.to_vec(),
        signature: signature.to_vec(),
        content_type: header.numbered(CONTENT_TYPE).and_then(Cbor::text).map(str::to_owned),
        at,
        until,
        named: named.map(super::public_key::hex),
        chain,
        stamps: stamp.map(<[u8]>::to_vec).into_iter().collect(),
    })
}

/// The headers that must be understood (RFC 9052, section 3.1).
fn critical<'c>(header: &Cbor<'c>) -> Result<Vec<&'c str>, Flaw> {
    let broken = Flaw::Malformed("its list of critical headers is none");
    let Some(list) = header.numbered(CRITICAL) else { return Ok(Vec::new()) };
    let list = list.list().filter(|list| !list.is_empty()).ok_or(broken.clone())?;
    let mut names = Vec::new();
    for (place, label) in list.iter().enumerate() {
        if list[..place].contains(label) || header.get(label).is_none() {
            return Err(broken);
        }
        match label {
            Cbor::Text(name) if KNOWN.contains(name) => names.push(*name),
            Cbor::Text(name) => return Err(Flaw::UnknownCritical((*name).to_owned())),
            // The standard's own numbers are understood, and need not be listed (RFC 9052, section 3.1).
            Cbor::Number(ALGORITHM | CRITICAL..=CONTENT_TYPE) => return Err(broken),
            Cbor::Number(number) => return Err(Flaw::UnknownCritical(number.to_string())),
            _ => return Err(broken),
        }
    }
    Ok(names)
}
