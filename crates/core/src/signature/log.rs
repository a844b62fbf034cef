//! Logs that everybody can read: that a signature is in one, as the log itself signed it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::digest::{SHA256, digest};

use super::json::Json;
use super::key_file::pem_blocks;
use super::public_key::{KeyUse, PublicKey, hex};

/// A log whose word counts.
#[derive(Debug, Clone)]
pub struct Log {
    /// The name under which it signs.
    pub origin: String,
    pub key: PublicKey,
    /// Whether a signature counts only when it is in one of the logs that say so.
    pub is_required: bool,
    /// Whether its time stands in for now.
    pub time_counts: bool,
}

/// What an entry has to be about.
pub struct Logged<'l> {
    /// The SHA-256 of what was signed, or of the payload of a DSSE envelope.
    pub content: [u8; 32],
    pub is_dsse: bool,
    pub signature: &'l [u8],
    /// The key's `SubjectPublicKeyInfo` or the certificate, in DER.
    pub verifier: &'l [u8],
}

/// That a log has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LogProof {
    /// When the log took it in, in seconds since 1970, where it has signed that and its time counts.
    pub at: Option<i64>,
    pub is_of_required: bool,
}

/// The most hashes of a proof, and the most entries that are looked at.
const LONGEST: usize = 64;
pub(super) const MOST_ENTRIES: usize = 10;

/// A SHA-256.
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut hash = [0; 32];
    hash.copy_from_slice(digest(&SHA256, bytes).as_ref());
    hash
}

fn decode(json: &Json, name: &str) -> Option<Vec<u8>> {
    STANDARD.decode(json.text_of(name)?).ok()
}

/// Proves by an entry, as a bundle has it, that one of the logs has what is asked for. Err: why it does not.
pub fn prove(
    entry: &Json,
    asked: &Logged<'_>,
    logs: &[Log],
    now: i64,
) -> Result<LogProof, &'static str> {
    let id = entry.get("logId").and_then(|id| decode(id, "keyId"));
    let id = id.ok_or("an entry names no log")?;
    let log = logs.iter().find(|log| log.key.hash() == id[..]);
    let log = log.ok_or("an entry is of a log that nobody named")?;
    let body = entry.text_of("canonicalizedBody").ok_or("an entry has no content")?;
    let decoded = STANDARD.decode(body).map_err(|_| "an entry's content is no base64")?;
    let index = entry.get("logIndex").and_then(Json::whole).ok_or("an entry has no number")?;
    let version = entry.get("kindVersion");
    is_about(&decoded, version, asked).ok_or("the entry is about something else")?;
    let time = entry.get("integratedTime").and_then(Json::whole);
    let promise = match entry.get("inclusionPromise") {
        None | Some(Json::Null) => false,
        Some(promise) => {
            let signature =
                decode(promise, "signedEntryTimestamp").ok_or("its promise is broken")?;
            let time = time.ok_or("its promise is of no time")?;
            keeps_promise(log, body, time, &hex(&id), index, &signature)
                .then_some(true)
                .ok_or("the log has not promised it")?
        }
    };
    match entry.get("inclusionProof") {
        None | Some(Json::Null) if promise => {}
        None | Some(Json::Null) => return Err("an entry has neither proof nor promise"),
        Some(proof) => is_included(proof, &decoded, log)?,
    }
    let at = time.and_then(|time| i64::try_from(time).ok());
    if at.is_some_and(|at| at > now) && promise {
        return Err("the log's time is not yet");
    }
    Ok(LogProof { at: at.filter(|_| promise && log.time_counts), is_of_required: log.is_required })
}

/// Proves the same by what stands beside a small payload: a promise alone.
pub fn prove_promise(
    beside: &Json,
    asked: &Logged<'_>,
    logs: &[Log],
    now: i64,
) -> Result<LogProof, &'static str> {
    let payload = beside.get("Payload").ok_or("its promise is broken")?;
    let id = payload.text_of("logID").ok_or("an entry names no log")?;
    let log = logs.iter().find(|log| log.key.id() == id);
    let log = log.ok_or("an entry is of a log that nobody named")?;
    let body = payload.text_of("body").ok_or("an entry has no content")?;
    let decoded = STANDARD.decode(body).map_err(|_| "an entry's content is no base64")?;
    let number = |name: &str| payload.get(name).and_then(Json::whole);
    let (index, time) =
        number("logIndex").zip(number("integratedTime")).ok_or("its promise is broken")?;
    is_about(&decoded, None, asked).ok_or("the entry is about something else")?;
    let signature = decode(beside, "SignedEntryTimestamp").ok_or("its promise is broken")?;
    if !keeps_promise(log, body, time, id, index, &signature) {
        return Err("the log has not promised it");
    }
    let at = i64::try_from(time).ok().filter(|at| *at <= now).ok_or("the log's time is not yet")?;
    Ok(LogProof { at: Some(at).filter(|_| log.time_counts), is_of_required: log.is_required })
}

/// Whether the log signed that it will take an entry in (over JSON in the canonical form of RFC 8785).
fn keeps_promise(log: &Log, body: &str, time: u64, id: &str, index: u64, signature: &[u8]) -> bool {
    // All of it is digits, hexadecimal and base64: nothing in it has another canonical form.
    let signed = format!(
        "{{\"body\":\"{body}\",\"integratedTime\":{time},\"logID\":\"{id}\",\"logIndex\":{index}}}"
    );
    log.key.verifies(KeyUse::OfItsKind, signed.as_bytes(), signature)
}

/// Whether an entry is about this very signature: its content, its bytes and its key.
fn is_about(body: &[u8], version: Option<&Json>, asked: &Logged<'_>) -> Option<()> {
    let body = Json::read_object(body)?;
    let (kind, api) = (body.text_of("kind")?, body.text_of("apiVersion")?);
    if let Some(said) = version {
        (said.text_of("kind")? == kind && said.text_of("version")? == api).then_some(())?;
    }
    let spec = body.get("spec")?;
    let is_hash = |hash: &Json| {
        let is_sha = hash.text_of("algorithm") == Some("sha256");
        is_sha && hash.text_of("value") == Some(&hex(&asked.content))
    };
    let is_verifier = |text: &str| {
        let pem = STANDARD.decode(text).ok();
        let pem = pem.and_then(|pem| String::from_utf8(pem).ok());
        let blocks = pem.as_deref().and_then(pem_blocks).unwrap_or_default();
        matches!(&blocks[..], [(_, der)] if der == asked.verifier)
    };
    let is_signature =
        |text: &str| STANDARD.decode(text).is_ok_and(|bytes| bytes == asked.signature);
    match (kind, api) {
        ("hashedrekord", "0.0.1") => {
            is_hash(spec.get("data")?.get("hash")?).then_some(())?;
            let signature = spec.get("signature")?;
            is_signature(signature.text_of("content")?).then_some(())?;
            is_verifier(signature.get("publicKey")?.text_of("content")?).then_some(())
        }
        ("dsse", "0.0.1") if asked.is_dsse => {
            is_hash(spec.get("payloadHash")?).then_some(())?;
            let all = spec.get("signatures")?.list()?;
            let is_it = |one: &Json| {
                one.text_of("signature").is_some_and(is_signature)
                    && one.text_of("verifier").is_some_and(is_verifier)
            };
            all.iter().any(is_it).then_some(())
        }
        ("intoto", "0.0.2") if asked.is_dsse => {
            let content = spec.get("content")?;
            is_hash(content.get("payloadHash")?).then_some(())?;
            let all = content.get("envelope")?.get("signatures")?.list()?;
            let is_it = |one: &Json| {
                // The signature is in base64 twice in this kind.
                let inner = one.text_of("sig").and_then(|text| STANDARD.decode(text).ok());
                let inner = inner.and_then(|text| String::from_utf8(text).ok());
                inner.as_deref().is_some_and(is_signature)
                    && one.text_of("publicKey").is_some_and(is_verifier)
            };
            all.iter().any(is_it).then_some(())
        }
        _ => None,
    }
}

/// Whether an entry is in the tree whose head the log signed.
fn is_included(proof: &Json, body: &[u8], log: &Log) -> Result<(), &'static str> {
    const BROKEN: &str = "its proof is broken";
    let number = |name: &str| proof.get(name).and_then(Json::whole).ok_or(BROKEN);
    let (index, size) = (number("logIndex")?, number("treeSize")?);
    let root = decode(proof, "rootHash").ok_or(BROKEN)?;
    let hashes = match proof.get("hashes") {
        None => &[],
        Some(hashes) => hashes.list().ok_or(BROKEN)?,
    };
    if hashes.len() > LONGEST {
        return Err(BROKEN);
    }
    let hashes: Option<Vec<[u8; 32]>> =
        hashes.iter().map(|one| STANDARD.decode(one.text()?).ok()?.try_into().ok()).collect();
    let found = root_of(body, index, size, &hashes.ok_or(BROKEN)?);
    if found.is_none_or(|found| found[..] != root[..]) {
        return Err("its proof does not lead to the root");
    }
    let note = proof.get("checkpoint").and_then(|one| one.text_of("envelope"));
    let note = note.ok_or("the log has signed no head of its tree")?;
    let head = signed_head(note, log).ok_or("the log has not signed that head of its tree")?;
    if head != (size, root) {
        return Err("the head that the log signed is of another tree");
    }
    Ok(())
}

/// The root to which a proof leads (RFC 9162, section 2.1.3.2). None: it is none for that place.
fn root_of(body: &[u8], index: u64, size: u64, hashes: &[[u8; 32]]) -> Option<[u8; 32]> {
    (index < size).then_some(())?;
    let (mut place, mut last) = (index, size - 1);
    let mut root = sha256(&[&[0], body].concat());
    for hash in hashes {
        (last != 0).then_some(())?;
        if place & 1 == 1 || place == last {
            root = sha256(&[&[1], &hash[..], &root].concat());
            while place & 1 == 0 && place != 0 {
                (place, last) = (place >> 1, last >> 1);
            }
        } else {
            root = sha256(&[&[1], &root[..], hash].concat());
        }
        (place, last) = (place >> 1, last >> 1);
    }
    (last == 0).then_some(root)
}

/// The size and the root of a tree as a log signed them.
fn signed_head(note: &str, log: &Log) -> Option<(u64, Vec<u8>)> {
    let end = note.find("\n\n")? + 1;
    let (text, signatures) = (&note[..end], &note[end + 1..]);
    let mut lines = text.lines();
    (lines.next()? == log.origin).then_some(())?;
    let size: u64 =
        lines.next().filter(|line| line.bytes().all(|byte| byte.is_ascii_digit()))?.parse().ok()?;
    let root = STANDARD.decode(lines.next()?).ok()?;
    let is_signed = signatures.lines().take(LONGEST).any(|line| {
        let Some((name, signature)) =
            line.strip_prefix("\u{2014} ").and_then(|rest| rest.rsplit_once(' '))
        else {
            return false;
        };
        let Ok(bytes) = STANDARD.decode(signature) else { return false };
        // The first four bytes only find the key.
        name == log.origin
            && bytes
                .get(4..)
                .is_some_and(|bytes| log.key.verifies(KeyUse::OfItsKind, text.as_bytes(), bytes))
    });
    is_signed.then_some((size, root))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The root of a tree and the proof for one of its leaves, as the standard defines them.
    fn tree(leaves: &[Vec<u8>]) -> [u8; 32] {
        match leaves {
            [] => sha256(&[]),
            [one] => sha256(&[&[0], &one[..]].concat()),
            all => {
                let (left, right) = all.split_at(all.len().next_power_of_two() / 2);
                sha256(&[&[1], &tree(left)[..], &tree(right)].concat())
            }
        }
    }

    fn proof(leaves: &[Vec<u8>], index: usize) -> Vec<[u8; 32]> {
        if leaves.len() == 1 {
            return Vec::new();
        }
        let (left, right) = leaves.split_at(leaves.len().next_power_of_two() / 2);
        match index.checked_sub(left.len()) {
            None => [proof(left, index), vec![tree(right)]].concat(),
            Some(index) => [proof(right, index), vec![tree(left)]].concat(),
        }
    }

    #[test]
    fn every_place_of_every_small_tree_is_proved_by_its_own_proof_alone() {
        for size in 1..40_usize {
            let leaves: Vec<Vec<u8>> =
                (0..size).map(|leaf| vec![u8::try_from(leaf).unwrap()]).collect();
            let root = tree(&leaves);
            for index in 0..size {
                let hashes = proof(&leaves, index);
                let led = |index: usize, size: usize, hashes: &[[u8; 32]]| {
                    root_of(&leaves[index % leaves.len()], index as u64, size as u64, hashes)
                };
                assert_eq!(led(index, size, &hashes), Some(root), "{index} of {size}");
                assert_ne!(led((index + 1) % size, size, &hashes), Some(root).filter(|_| size > 1));
                let longer = [&hashes[..], &[[0; 32]]].concat();
                assert_ne!(led(index, size, &longer), Some(root));
                if let Some((_, shorter)) = hashes.split_last() {
                    assert_ne!(led(index, size, shorter), Some(root));
                }
                assert_eq!(root_of(&leaves[index], size as u64, size as u64, &hashes), None);
            }
        }
        assert_eq!(root_of(b"", 0, 0, &[]), None);
    }
}
