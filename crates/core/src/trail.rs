//! The record as files that prove themselves: each holds what was written down in a span of hours, names its
//! predecessor's digest, and is signed.
//!
//! A file is JSON lines: a head, the entries, and a signature over all bytes before it. Files of one chain are numbered;
//! each begins where the one before ended. So nothing can be changed, taken out, put in or put in another order without
//! being noticed, except that the last ones are missing: the larder itself knows which was the last.

use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::signature::{Signature, SigningKey, VerifyingKey};

/// The form of the files that this program writes.
const FORM: u32 = 1;
/// The largest file that is read, in bytes.
pub const LIMIT: usize = 1024 * 1024 * 1024;
/// What is signed begins so: a signature over anything else is none of these.
const DOMAIN: &[u8] = b"iron larder: hours of the record, form 1\n";

/// The first line of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TrailHead {
    pub kind: String,
    pub form: u32,
    /// The larder's name.
    pub larder: String,
    /// The machine on which it was written.
    pub host: String,
    /// Counted from 1.
    pub number: u64,
    /// The first moment that it is about, and the first that it is not, in RFC 3339. Late entries may be older.
    pub from: String,
    pub until: String,
    /// The digest of the file before it. None: it is the first.
    pub previous: Option<String>,
    pub entries: u64,
    /// Up to which change of the record it goes.
    pub change: u64,
}

/// The last line of a file.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct TrailEnd {
    key: String,
    signature: String,
}

/// Why a file or a chain proves nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TrailError {
    #[error("it is no file of an exported record: {0}")]
    Shape(String),
    #[error("it has form {0}, and this program knows form {FORM}")]
    Form(u32),
    #[error("it was signed by {0}, which is not trusted")]
    Stranger(String),
    #[error("it is not what was signed: it was altered")]
    Altered,
    #[error("it says {said} entries and has {found}")]
    Count { said: u64, found: u64 },
    #[error("number {expected} is missing: after {before} comes {found}")]
    Gap { before: u64, expected: u64, found: u64 },
    #[error("number {0} is there twice")]
    Twice(u64),
    #[error("it does not follow number {0}: that one was altered, or is another")]
    Broken(u64),
    #[error("it begins at {from}, and number {before} ended at {until}")]
    Hours { before: u64, from: String, until: String },
    #[error("it is of the larder {found}, and the others of {expected}")]
    Larder { found: String, expected: String },
}

impl TrailHead {
    /// The head of the next file of a chain.
    #[must_use]
    pub fn new(larder: &str, host: &str, previous: Option<(&Self, &Digest)>) -> Self {
        Self {
            kind: "record-hours".into(),
            form: FORM,
            larder: larder.into(),
            host: host.into(),
            number: previous.map_or(1, |(head, _)| head.number + 1),
            from: previous.map_or_else(String::new, |(head, _)| head.until.clone()),
            until: String::new(),
            previous: previous.map(|(_, digest)| digest.to_string()),
            entries: 0,
            change: previous.map_or(0, |(head, _)| head.change),
        }
    }

    /// Whether this file comes right after another of the same chain.
    ///
    /// # Errors
    /// Why it does not.
    pub fn follows(&self, before: &Self, digest: &Digest) -> Result<(), TrailError> {
        let number = before.number;
        if self.larder != before.larder {
            let (found, expected) = (self.larder.clone(), before.larder.clone());
            return Err(TrailError::Larder { found, expected });
        }
        if self.number == number {
            return Err(TrailError::Twice(number));
        }
        if self.number != number + 1 {
            let (expected, found) = (number + 1, self.number);
            return Err(TrailError::Gap { before: number, expected, found });
        }
        if self.previous.as_deref() != Some(digest.as_str()) {
            return Err(TrailError::Broken(number));
        }
        if self.from != before.until {
            let (from, until) = (self.from.clone(), before.until.clone());
            return Err(TrailError::Hours { before: number, from, until });
        }
        Ok(())
    }
}

/// Writes a file: `entries` are JSON objects, each on one line.
pub fn write(head: &TrailHead, entries: &[String], key: &SigningKey) -> Vec<u8> {
    let head = TrailHead { entries: entries.len() as u64, ..head.clone() };
    let mut bytes = serde_json::to_vec(&head).unwrap_or_default();
    bytes.push(b'\n');
    for entry in entries {
        bytes.extend_from_slice(entry.as_bytes());
        bytes.push(b'\n');
    }
    let signature = key.sign(&message(&bytes)).to_string();
    let end = TrailEnd { key: key.verifying().to_string(), signature };
    bytes.extend(serde_json::to_vec(&end).unwrap_or_default());
    bytes.push(b'\n');
    bytes
}

fn message(bytes: &[u8]) -> Vec<u8> {
    [DOMAIN, Digest::of(bytes).as_str().as_bytes()].concat()
}

/// Reads a file that one of these keys signed.
///
/// # Errors
/// Why it proves nothing.
pub fn read(bytes: &[u8], trusted: &[VerifyingKey]) -> Result<TrailHead, TrailError> {
    let shape = |what: &str| TrailError::Shape(what.to_owned());
    let body = bytes.strip_suffix(b"\n").ok_or_else(|| shape("its last line has no end"))?;
    let at =
        body.iter().rposition(|byte| *byte == b'\n').ok_or_else(|| shape("it has one line"))?;
    let (signed, end) = (&bytes[..=at], &body[at + 1..]);
    let first = signed.iter().position(|byte| *byte == b'\n').unwrap_or_default();
    let head: TrailHead = serde_json::from_slice(&signed[..first])
        .map_err(|error| TrailError::Shape(error.to_string()))?;
    if head.kind != "record-hours" {
        return Err(shape("its first line is another one's"));
    }
    if head.form != FORM {
        return Err(TrailError::Form(head.form));
    }
    let end: TrailEnd =
        serde_json::from_slice(end).map_err(|_| shape("its last line is no signature"))?;
    let key: VerifyingKey = end.key.parse().map_err(|_| shape("its key is none"))?;
    let signature: Signature = end.signature.parse().map_err(|_| shape("its signature is none"))?;
    if !trusted.contains(&key) {
        return Err(TrailError::Stranger(end.key.chars().take(100).collect()));
    }
    if !key.verifies(&message(signed), &signature) {
        return Err(TrailError::Altered);
    }
    let found = signed.split(|byte| *byte == b'\n').count() as u64 - 2;
    if found != head.entries {
        return Err(TrailError::Count { said: head.entries, found });
    }
    Ok(head)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn key() -> SigningKey {
        SigningKey::generate().unwrap().0
    }

    fn chain(key: &SigningKey) -> Vec<Vec<u8>> {
        let mut files: Vec<Vec<u8>> = Vec::new();
        let mut before: Option<(TrailHead, Digest)> = None;
        for hour in 0..4 {
            let previous = before.as_ref().map(|(head, digest)| (head, digest));
            let mut head = TrailHead::new("emberfall", "gate", previous);
            head.until = format!("2026-11-29T{hour:02}:00:00Z");
            let entries: Vec<String> =
                (0..hour).map(|n| format!("{{\"number\":\"{hour}{n}\"}}")).collect();
            let file = write(&head, &entries, key);
            before = Some((TrailHead { entries: hour, ..head }, Digest::of(&file)));
            files.push(file);
        }
        files
    }

    /// Reads a chain in the order in which it is given.
    fn check(files: &[Vec<u8>], trusted: &[VerifyingKey]) -> Result<(), TrailError> {
        let mut before: Option<(TrailHead, Digest)> = None;
        for file in files {
            let head = read(file, trusted)?;
            if let Some((last, digest)) = &before {
                head.follows(last, digest)?;
            }
            before = Some((head, Digest::of(file)));
        }
        Ok(())
    }

    #[test]
    fn a_chain_proves_itself_and_nothing_that_was_done_to_it() {
        let (key, other) = (key(), key());
        let trusted = [key.verifying()];
        let files = chain(&key);
        check(&files, &trusted).unwrap();
        assert!(matches!(check(&files, &[other.verifying()]), Err(TrailError::Stranger(_))));
        let without = |at: usize| {
            let mut files = files.clone();
            files.remove(at);
            files
        };
        assert_eq!(
            check(&without(1), &trusted),
            Err(TrailError::Gap { before: 1, expected: 2, found: 3 })
        );
        // Another file in the place of one, rightly signed.
        let mut replaced = files.clone();
        let head = TrailHead { number: 2, ..read(&files[1], &trusted).unwrap() };
        replaced[1] = write(&head, &["{}".to_owned()], &key);
        assert_eq!(check(&replaced, &trusted), Err(TrailError::Broken(2)));
        let twice = [files[0].clone(), files[1].clone(), files[1].clone()];
        assert_eq!(check(&twice, &trusted), Err(TrailError::Twice(2)));
        // Signed for something else.
        let text = String::from_utf8(files[3].clone()).unwrap();
        let cut = text.replacen("{\"number\":\"30\"}\n", "", 1);
        assert_eq!(read(cut.as_bytes(), &trusted), Err(TrailError::Altered));
    }

    proptest! {
        #[test]
        fn a_changed_byte_is_noticed(at in any::<prop::sample::Index>(), to in any::<u8>()) {
            let key = key();
            let mut file = chain(&key).pop().unwrap();
            let at = at.index(file.len());
            prop_assume!(file[at] != to);
            let before = read(&file, &[key.verifying()]).unwrap();
            file[at] = to;
            // What is changed in the last line may be written otherwise and mean the same.
            if let Ok(head) = read(&file, &[key.verifying()]) {
                prop_assert_eq!(head, before);
                let end = file[..file.len() - 1].iter().rposition(|byte| *byte == b'\n').unwrap();
                prop_assert!(at > end);
            }
        }

        #[test]
        fn whatever_comes_is_refused_in_words(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            prop_assert!(read(&bytes, &[key().verifying()]).is_err());
        }
    }
}
