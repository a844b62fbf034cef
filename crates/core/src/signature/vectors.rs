//! The signatures of the made-up vendors, each with what is to be said of it.

use std::collections::BTreeMap;
use std::io::Read as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::Value;

use super::*;
use crate::digest::Digest;
use crate::document::Document;
use crate::quantity::Span;

const VECTORS: &[u8] = include_bytes!("vectors.jsonl.gz");

/// A vector, read.
struct Vector {
    pub name: String,
    pub json: Value,
    blobs: BTreeMap<Digest, Vec<u8>>,
    trust: Result<Trust, &'static str>,
    ask: SignatureAsk,
    now: i64,
}

fn text<'v>(of: &'v Value, name: &str) -> &'v str {
    of[name].as_str().unwrap_or_default()
}

fn list(of: &Value) -> Vec<&Value> {
    of.as_array().map(|all| all.iter().collect()).unwrap_or_default()
}

fn texts(of: &Value) -> Vec<String> {
    list(of).into_iter().filter_map(Value::as_str).map(str::to_owned).collect()
}

fn seconds(span: &Value) -> Option<i64> {
    let span: Span = span.as_str()?.parse().unwrap();
    Some(i64::try_from(span.0.as_secs()).unwrap())
}

/// A file that the operator gave; its trouble in one word.
fn key_file(vector: &Value, path: &str) -> Result<KeyFile, &'static str> {
    let bytes = STANDARD.decode(text(&vector["files"], path)).unwrap();
    read_key_file(&bytes).map_err(|error| why(&error))
}

/// The word of a key file's trouble.
fn why(error: &KeyFileError) -> &'static str {
    match error {
        KeyFileError::Secret => "secret",
        KeyFileError::Symmetric => "symmetric",
        KeyFileError::Key(MalformedKey::Weak(_)) => "weak",
        KeyFileError::Key(MalformedKey::Unsupported(_)) | KeyFileError::Form(_) => "unsupported",
        KeyFileError::Key(MalformedKey::Shape) | KeyFileError::Shape(_) | KeyFileError::Large => {
            "malformed"
        }
    }
}

fn signer(vector: &Value, of: &Value) -> Result<Signer, &'static str> {
    let (mut keys, mut revoked) = (Vec::new(), Vec::new());
    for key in list(&of["keys"]) {
        let read = match key["file"].as_str() {
            Some(path) => key_file(vector, path)?,
            None => read_key_file(text(key, "text").as_bytes()).map_err(|error| why(&error))?,
        };
        match key["revoked"].as_bool() {
            Some(true) => revoked.extend(read.keys),
            _ => keys.extend(read.keys),
        }
    }
    let (mut authorities, mut crls) = (Vec::new(), Vec::new());
    for path in texts(&of["authorities"]) {
        authorities.extend(key_file(vector, &path)?.certificates);
    }
    for path in texts(&of["crls"]) {
        crls.extend(key_file(vector, &path)?.lists);
    }
    let is_required = of["crl_required"].as_bool().unwrap_or(false);
    let identity = match (of["identity"]["email"].as_str(), of["identity"]["uri"].as_str()) {
        (Some(email), _) => Some(Identity::Email(email.to_owned())),
        (_, Some(uri)) => Some(Identity::Uri(uri.to_owned())),
        _ => None,
    };
    let patterns = |of: &Value| texts(of).iter().map(|text| text.parse().unwrap()).collect();
    Ok(Signer {
        name: text(of, "name").to_owned(),
        images: patterns(&of["images"]),
        keys,
        revoked,
        authorities: Authorities::new(authorities, &crls, is_required).unwrap(),
        identity,
        signed_as: patterns(&of["identities"]),
        statements: Vec::new(),
        is_logged: true,
    })
}

fn trust(vector: &Value) -> Result<Trust, &'static str> {
    let of = &vector["trust"];
    let signers = list(&of["signers"]).into_iter().map(|one| signer(vector, one));
    let mut stamps = Vec::new();
    for path in texts(&of["timestamp_authorities"]) {
        stamps.extend(key_file(vector, &path)?.certificates);
    }
    let mut logs = Vec::new();
    for one in list(&of["logs"]) {
        logs.push(Log {
            origin: text(one, "origin").to_owned(),
            key: key_file(vector, text(one, "file"))?.keys.remove(0),
            is_required: one["required"].as_bool().unwrap_or(false),
            time_counts: of["log_time_counts"].as_bool().unwrap_or(false),
        });
    }
    Ok(Trust {
        signers: signers.collect::<Result<_, _>>()?,
        stamps: Authorities::new(stamps, &[], false).unwrap(),
        logs,
        withdrawn: texts(&of["withdrawn"]).iter().map(|text| text.parse().unwrap()).collect(),
        asked: texts(&vector["ask"]["predicate_types"]).into_iter().collect(),
    })
}

fn ask(vector: &Value) -> SignatureAsk {
    let (trust, ask) = (&vector["trust"], &vector["ask"]);
    let conditions = list(&ask["conditions"]).into_iter().map(|one| {
        let wanted = Json::read(one["equals"].to_string().as_bytes()).unwrap();
        (text(one, "path").to_owned(), Wanted::Is(wanted))
    });
    let says = (text(ask, "kind") == "attestation").then(|| StatementAsk {
        types: texts(&ask["predicate_types"]),
        conditions: conditions.collect(),
        time: ask["time"].as_str().map(str::to_owned),
        newest: ask["newest"].as_bool().unwrap_or(false),
    });
    SignatureAsk {
        by: list(&trust["signers"]).into_iter().map(|one| text(one, "name").to_owned()).collect(),
        of: trust["threshold"].as_u64().unwrap().try_into().unwrap(),
        within: seconds(&ask["max_age"]).or(seconds(&trust["max_age"])),
        says,
    }
}

impl Vector {
    fn read(line: &str) -> Self {
        let json: Value = serde_json::from_str(line).unwrap();
        let blobs = json["blobs"].as_object().unwrap().iter();
        let blobs = blobs.map(|(digest, body)| {
            (digest.parse().unwrap(), STANDARD.decode(body.as_str().unwrap()).unwrap())
        });
        let now: jiff::Timestamp = text(&json, "now").parse().unwrap();
        Self {
            name: text(&json, "name").to_owned(),
            blobs: blobs.collect(),
            trust: trust(&json),
            ask: ask(&json),
            now: now.as_second(),
            json,
        }
    }

    /// What is said of it, with these contents in place of its own.
    pub fn answered(
        &self,
        blobs: &BTreeMap<Digest, Vec<u8>>,
    ) -> Result<SignatureAnswer, &'static str> {
        let trust = self.trust.as_ref().map_err(|why| *why)?;
        let about = &self.json["image"];
        let digest: Digest = text(about, "digest").parse().unwrap();
        let image = Target {
            digest: &digest,
            media_type: text(about, "mediaType"),
            bytes: &blobs[&digest],
        };
        let reference = text(about, "reference");
        let (name, tag) = reference.rsplit_once(':').unwrap();
        let indexes: Vec<(Digest, String)> = list(&self.json["objects"])
            .into_iter()
            .filter(|object| text(object, "role") == "index")
            .map(|object| {
                (text(object, "digest").parse().unwrap(), text(object, "mediaType").to_owned())
            })
            .collect();
        let indexes: Vec<Target<'_>> = indexes
            .iter()
            .map(|(digest, media_type)| Target { digest, media_type, bytes: &blobs[digest] })
            .filter(|index| lists(index.bytes, &digest))
            .collect();
        let question = Question {
            names: &[name.to_owned()],
            tags: &[tag.to_owned()],
            image,
            indexes: &indexes,
            now: self.now,
        };
        let found: Vec<(Digest, Digest, FoundBy)> = list(&self.json["found"])
            .into_iter()
            .map(|one| {
                let how = match text(one, "how") {
                    "tag" => FoundBy::Tag,
                    _ => FoundBy::Reference,
                };
                (text(one, "digest").parse().unwrap(), text(one, "about").parse().unwrap(), how)
            })
            .collect();
        let found = found.iter().map(|(digest, about, how)| FoundCompanion {
            digest,
            about,
            how: *how,
            bytes: &blobs[digest],
            layers: blobs,
        });
        let examined = examine(trust, &question, found);
        Ok(answer(&self.ask, trust.withdrawn.contains(&digest), &examined, self.now))
    }

    /// Why the image does not count as signed. None: it does.
    pub fn judged(&self) -> Option<&'static str> {
        self.answered(&self.blobs).map_or_else(Some, |answer| answer.word())
    }
}

/// Whether an index lists an image as one of its platforms.
fn lists(index: &[u8], image: &Digest) -> bool {
    Document::read(bytes::Bytes::copy_from_slice(index), None)
        .is_ok_and(|index| index.lists_platform(image))
}

fn vectors() -> Vec<Vector> {
    let mut all = String::new();
    flate2::read::GzDecoder::new(VECTORS).read_to_string(&mut all).unwrap();
    all.lines().map(Vector::read).collect()
}

#[test]
fn every_vector_is_judged_as_it_says() {
    let mut wrong = Vec::new();
    assert_eq!(vectors().len(), 119);
    for vector in vectors() {
        let wanted = (text(&vector.json, "expect") == "refuse").then(|| text(&vector.json, "why"));
        let told = vector.judged();
        if told != wanted {
            wrong.push(format!("{}: {told:?} instead of {wanted:?}", vector.name));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn what_is_larger_than_any_signature_is_not_read() {
    let mut vector = vectors().into_iter().find(|one| one.name == "g-small-p256").unwrap();
    let manifest: Digest = text(&vector.json["found"][0], "digest").parse().unwrap();
    let body = String::from_utf8(vector.blobs[&manifest].clone()).unwrap();
    let size = body.rfind("\"size\":").unwrap() + 7;
    let end = size + body[size..].find([',', '}']).unwrap();
    let larger = format!("{}{}{}", &body[..size], 1024 * 1024 + 1, &body[end..]);
    vector.blobs.insert(manifest, larger.into_bytes());
    assert_eq!(vector.judged(), Some("too-large"));
}

#[test]
fn every_key_file_is_what_it_says() {
    for line in include_str!("keys.jsonl").lines() {
        let key: Value = serde_json::from_str(line).unwrap();
        let read = read_key_file(&STANDARD.decode(text(&key, "file")).unwrap());
        let (name, expect) = (text(&key, "name"), text(&key, "expect"));
        match expect {
            "key" => assert_eq!(read.unwrap().keys.len(), 1, "{name}"),
            "keys" => assert_eq!(read.unwrap().keys.len(), 2, "{name}"),
            "authority" => assert_eq!(read.unwrap().certificates.len(), 1, "{name}"),
            _ => assert_eq!(why(&read.unwrap_err()), text(&key, "why"), "{name}"),
        }
    }
}

/// What counts in an answer: who signed what, and what they said.
fn meaning(answer: &SignatureAnswer) -> Vec<(String, Digest, Option<Said>, Option<i64>)> {
    let one = |one: &Proven| (one.signer.clone(), one.over.clone(), one.said.clone(), one.at);
    answer.counted.iter().map(one).collect()
}

/// Numbers that are the same in every run.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % most as u64).unwrap()
    }
}

/// Changes bytes in one place, in one of several ways.
fn changed(bytes: &[u8], chance: &mut Chance) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    let at = chance.below(bytes.len());
    match chance.below(7) {
        0 => bytes[at] ^= 1 << chance.below(8),
        // One letter of base64, or one digit, for another.
        1 | 2 => {
            let letters = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_=";
            let at = (at..bytes.len()).find(|at| bytes[*at].is_ascii_alphanumeric()).unwrap_or(at);
            bytes[at] = letters[chance.below(letters.len())];
        }
        3 => {
            bytes.remove(at);
        }
        4 => bytes.insert(at, u8::try_from(chance.below(256)).unwrap()),
        // A member, a certificate or a part of it twice, or gone.
        kind => {
            let pieces: Vec<&[u8]> =
                bytes.split_inclusive(|byte| matches!(byte, b',' | b'{' | b'[')).collect();
            let piece = chance.below(pieces.len());
            let times = if kind == 5 { 2 } else { 0 };
            let all = pieces.iter().enumerate();
            let all = all.map(|(at, one)| one.repeat(if at == piece { times } else { 1 }));
            bytes = all.collect::<Vec<_>>().concat();
        }
    }
    bytes
}

#[test]
fn nothing_that_is_changed_counts_for_anything_else() {
    let mut chance = Chance(0x1234_5678_9abc_def1);
    for vector in vectors() {
        if text(&vector.json, "expect") != "ok" {
            continue;
        }
        let wanted = meaning(&vector.answered(&vector.blobs).unwrap());
        let image: Digest = text(&vector.json["image"], "digest").parse().unwrap();
        let parts: Vec<&Digest> = vector.blobs.keys().filter(|digest| **digest != image).collect();
        let mut counted = 0;
        for _ in 0..150 {
            let digest = parts[chance.below(parts.len())];
            let mut blobs = vector.blobs.clone();
            let body = changed(&blobs[digest], &mut chance);
            let is_same = body == blobs[digest];
            // Whoever changes a signature says of what size it is now.
            let size = |of: usize| format!("\"{digest}\",\"size\":{of}");
            for other in blobs.values_mut() {
                if let Ok(text) = std::str::from_utf8(other) {
                    *other = text
                        .replace(&size(vector.blobs[digest].len()), &size(body.len()))
                        .into_bytes();
                }
            }
            blobs.insert(digest.clone(), body);
            let answer = vector.answered(&blobs).unwrap();
            if answer.lack.is_none() && !is_same {
                counted += 1;
                assert_eq!(meaning(&answer), wanted, "{}", vector.name);
            }
        }
        assert!(counted < 150, "{}: nothing was changed", vector.name);
    }
}
