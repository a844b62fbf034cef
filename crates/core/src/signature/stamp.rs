//! Time stamps (RFC 3161): that somebody who is believed saw a signature at a time.

use ring::digest::{Algorithm, SHA256, SHA384, SHA512, digest};

use super::chain::{Authorities, Purpose};
use super::public_key::{KeyUse, PublicKey};
use crate::certificate::time;
use crate::der::{INTEGER, OCTETS, OID, SEQUENCE, SET, Value, expect, next, only, whole};

const SIGNED_DATA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02];
const STAMP_INFO: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x10, 0x01, 0x04];
const CONTENT_TYPE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x03];
const MESSAGE_DIGEST: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x04];
const SIGNING_CERTIFICATE: &[u8] =
    &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x10, 0x02, 0x2f];
/// `id-sha256` and its sisters, but for the last byte.
const SHA2: &[u8] = &[0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02];
/// The largest stamp, in bytes.
const LIMIT: usize = 64 * 1024;

/// What is read of a stamp; nothing of it is believed yet.
struct Stamp<'s> {
    info: &'s [u8],
    /// What the stamper signed, as it stands, and by which hash it names the info.
    attributes: &'s [u8],
    hash: &'static Algorithm,
    signature: &'s [u8],
    certificates: Vec<&'s [u8]>,
}

/// When these bytes were stamped by somebody whom these authorities certified, in seconds since 1970. None: that is not
/// proved.
pub fn stamped_at(stamp: &[u8], signed: &[u8], authorities: &Authorities, now: i64) -> Option<i64> {
    if stamp.len() > LIMIT || authorities.is_empty() {
        return None;
    }
    let read = read(stamp)?;
    let at = imprint_time(read.info, signed)?;
    if at > now {
        return None;
    }
    let certificate = signer(&read)?;
    let mut chain = vec![certificate.to_vec()];
    chain.extend(
        read.certificates.iter().filter(|one| **one != certificate).map(|one| one.to_vec()),
    );
    let leaf = authorities.prove(&chain, Purpose::TimeStamping, at, now).ok()?;
    let key = PublicKey::read(&leaf.key).ok()?;
    // What is signed is the set, although it stands under another tag (RFC 5652, section 5.4).
    let signed = crate::der::write(SET, read.attributes);
    key.verifies(KeyUse::OfItsKind, &signed, read.signature).then_some(at)
}

/// Reads a stamp, or an answer that holds one.
fn read(bytes: &[u8]) -> Option<Stamp<'_>> {
    let mut outer = only(bytes, SEQUENCE)?;
    if outer.first() == Some(&SEQUENCE) {
        let mut status = expect(&mut outer, SEQUENCE)?;
        matches!(expect(&mut status, INTEGER)?, [0 | 1]).then_some(())?;
        outer = only(outer, SEQUENCE)?;
    }
    (expect(&mut outer, OID)? == SIGNED_DATA).then_some(())?;
    let mut data = only(only(outer, 0xa0)?, SEQUENCE)?;
    expect(&mut data, INTEGER)?;
    expect(&mut data, SET)?;
    let mut content = expect(&mut data, SEQUENCE)?;
    (expect(&mut content, OID)? == STAMP_INFO).then_some(())?;
    let info = only(only(content, 0xa0)?, OCTETS)?;
    let mut certificates = Vec::new();
    let mut part = next(&mut data)?;
    if part.tag == 0xa0 {
        let mut all = part.content;
        while !all.is_empty() && certificates.len() < super::chain::LONGEST_CHAIN {
            certificates.push(whole(&mut all)?);
        }
        part = next(&mut data)?;
    }
    if part.tag == 0xa1 {
        part = next(&mut data)?;
    }
    let Value { tag: SET, content: signers } = part else { return None };
    let mut one = only(signers, SEQUENCE)?;
    expect(&mut one, INTEGER)?;
    next(&mut one)?;
    let hash = hash_of(expect(&mut one, SEQUENCE)?)?;
    let attributes = expect(&mut one, 0xa0)?;
    expect(&mut one, SEQUENCE)?;
    let signature = expect(&mut one, OCTETS)?;
    Some(Stamp { info, attributes, hash, signature, certificates })
}

fn hash_of(mut algorithm: &[u8]) -> Option<&'static Algorithm> {
    match expect(&mut algorithm, OID)?.strip_prefix(SHA2)? {
        [1] => Some(&SHA256),
        [2] => Some(&SHA384),
        [3] => Some(&SHA512),
        _ => None,
    }
}

/// The time of the info, where it is about these bytes (RFC 3161, section 2.4.2).
fn imprint_time(info: &[u8], signed: &[u8]) -> Option<i64> {
    let mut info = only(info, SEQUENCE)?;
    (expect(&mut info, INTEGER)? == [1]).then_some(())?;
    expect(&mut info, OID)?;
    let mut imprint = expect(&mut info, SEQUENCE)?;
    let hash = hash_of(expect(&mut imprint, SEQUENCE)?)?;
    (only(imprint, OCTETS)? == digest(hash, signed).as_ref()).then_some(())?;
    expect(&mut info, INTEGER)?;
    time(next(&mut info).filter(|value| value.tag == 0x18)?)
}

/// The certificate that the signed attributes name, where they are about the info.
fn signer<'s>(stamp: &Stamp<'s>) -> Option<&'s [u8]> {
    let mut all = stamp.attributes;
    let (mut kind, mut message, mut named) = (None, None, None);
    while !all.is_empty() {
        let mut attribute = expect(&mut all, SEQUENCE)?;
        let id = expect(&mut attribute, OID)?;
        let value = only(attribute, SET)?;
        let place = match id {
            CONTENT_TYPE => &mut kind,
            MESSAGE_DIGEST => &mut message,
            SIGNING_CERTIFICATE => &mut named,
            _ => continue,
        };
        // Which of two counts, nobody can say.
        place.replace(value).is_none().then_some(())?;
    }
    (only(kind?, OID)? == STAMP_INFO).then_some(())?;
    (only(message?, OCTETS)? == digest(stamp.hash, stamp.info).as_ref()).then_some(())?;
    let mut certificates = expect(&mut only(named?, SEQUENCE)?, SEQUENCE)?;
    let mut first = expect(&mut certificates, SEQUENCE)?;
    let mut value = next(&mut first)?;
    let mut hash = &SHA256;
    if value.tag == SEQUENCE {
        hash = hash_of(value.content)?;
        value = next(&mut first)?;
    }
    let Value { tag: OCTETS, content: wanted } = value else { return None };
    stamp.certificates.iter().copied().find(|one| digest(hash, one).as_ref() == wanted)
}
