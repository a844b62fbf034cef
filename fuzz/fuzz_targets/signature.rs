//! Whatever lies beside an image as its signature is examined or refused, and never counts: none of it was signed.
#![no_main]

use std::collections::BTreeMap;

use larder_core::digest::Digest;
use larder_core::signature::damaged::{BESIDE, TYPES, read_cbor, stamped_at};
use larder_core::signature::{
    Authorities, FoundBy, FoundCompanion, Json, Log, Question, Signer, Target, Trust, examine, read_key_file,
};
use libfuzzer_sys::fuzz_target;

const KEY: &str = "ed25519:t3Ub/keyJL6qmUxLn/7hh3Niat3+VVSj9Bjbt/9LNyw=";

fuzz_target!(|bytes: &[u8]| {
    let Some((first, body)) = bytes.split_first() else { return };
    read_cbor(body);
    Json::read(body);
    assert_eq!(stamped_at(body, b"signed", &Authorities::default(), i64::MAX), None);
    let key = read_key_file(KEY.as_bytes()).unwrap().keys.remove(0);
    let signer = Signer {
        name: "somebody".to_owned(),
        images: vec!["**".parse().unwrap()],
        keys: vec![key.clone()],
        revoked: Vec::new(),
        authorities: Authorities::default(),
        identity: None,
        signed_as: Vec::new(),
        statements: Vec::new(),
        is_logged: true,
    };
    let log = Log { origin: "log".to_owned(), key, is_required: true, time_counts: true };
    let trust = Trust { signers: vec![signer], logs: vec![log], ..Trust::default() };
    let (digest, image) = (Digest::of(body), Digest::of(b"image"));
    let kind = TYPES[usize::from(*first) % TYPES.len()];
    let size = body.len();
    let manifest = format!(
        "{{\"schemaVersion\":2,\"config\":{{\"mediaType\":\"a/b\",\"digest\":\"{image}\",\"size\":5}},\"layers\":[{{\"mediaType\":\"{kind}\",\"digest\":\"{digest}\",\"size\":{size},\"annotations\":{{\"{BESIDE}\":\"AAAA\"}}}}]}}"
    );
    let names = ["ventworks.example/gauge".to_owned()];
    let question = Question {
        names: &names,
        tags: &[],
        image: Target { digest: &image, media_type: "a/b", bytes: b"image" },
        indexes: &[],
        now: 1_800_000_000,
    };
    let layers = BTreeMap::from([(digest, body.to_vec())]);
    let companion = Digest::of(manifest.as_bytes());
    let found = FoundCompanion {
        digest: &companion,
        about: &image,
        how: FoundBy::Tag,
        bytes: manifest.as_bytes(),
        layers: &layers,
    };
    assert!(examine(&trust, &question, [found]).iter().all(|one| one.outcome.is_err()));
});
