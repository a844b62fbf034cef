//! What we say of an image ourselves: an approval as a statement of in-toto in an envelope (DSSE), and for verifiers that
//! read nothing else the small payload.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use serde::Serialize;
use serde_json::json;

use super::dsse::Dsse;
use super::public_key::PublicKey;
use super::wire;
use crate::digest::Digest;
use crate::document::{Descriptor, Document, DocumentError, media_type};
use crate::reference::Image;

/// What is said of an image by whoever approves it: the predicate of the statement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Approval {
    /// The signer in whose name it is said.
    pub by: String,
    /// Who ran the command.
    pub run_by: String,
    /// Why.
    pub because: String,
    /// When, as RFC 3339 has it.
    pub on: String,
    /// The class of the image. None: no class names it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub class: Option<String>,
    /// Where it comes from. None: it is one of our own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The digest of what it was trimmed from. None: it was not trimmed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trimmed_from: Option<Digest>,
}

/// What is signed, in whichever form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToSign {
    /// What the signature is over.
    pub message: Vec<u8>,
    content: Vec<u8>,
    form: Form,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Form {
    Statement { predicate_type: String },
    Small,
}

/// The layer of a companion, with its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedLayer {
    pub descriptor: Descriptor,
    pub bytes: Bytes,
}

/// The configuration of what has none.
pub const EMPTY_CONFIG: &[u8] = b"{}";

impl ToSign {
    /// An approval of an image, as a statement of the operator's own type.
    pub fn approval(
        image: &Image,
        about: &Digest,
        predicate_type: &str,
        approval: &Approval,
    ) -> Self {
        let statement = json!({
            "_type": wire::STATEMENT_TYPES[0],
            "subject": [{
                "name": image.to_string(),
                "digest": { about.algorithm().name(): about.hex() },
            }],
            "predicateType": predicate_type,
            "predicate": approval,
        });
        let content = statement.to_string().into_bytes();
        let envelope = Dsse {
            payload_type: wire::STATEMENT.to_owned(),
            payload: content,
            signatures: Vec::new(),
        };
        let message = envelope.signed();
        let form = Form::Statement { predicate_type: predicate_type.to_owned() };
        Self { message, content: envelope.payload, form }
    }

    /// The same for verifiers that read small payloads alone: that somebody signed it, and no more.
    pub fn small(image: &Image, about: &Digest) -> Self {
        let payload = json!({
            "critical": {
                "identity": { "docker-reference": image.to_string() },
                "image": { "docker-manifest-digest": about.to_string() },
                "type": wire::SMALL_TYPES[0],
            },
            "optional": null,
        });
        let content = payload.to_string().into_bytes();
        Self { message: content.clone(), content, form: Form::Small }
    }

    /// With its signature, as the layer of a companion.
    pub fn sealed(self, key: &PublicKey, signature: &[u8]) -> SignedLayer {
        let signature = STANDARD.encode(signature);
        let (kind, bytes, name, value) = match self.form {
            Form::Statement { predicate_type } => {
                let envelope = json!({
                    "payloadType": wire::STATEMENT,
                    "payload": STANDARD.encode(&self.content),
                    "signatures": [{ "keyid": key.id(), "sig": signature }],
                });
                let bytes = envelope.to_string().into_bytes();
                (wire::DSSE, bytes, wire::PREDICATE_TYPE, predicate_type)
            }
            Form::Small => (wire::SMALL, self.content, wire::SMALL_SIGNATURE, signature),
        };
        let bytes = Bytes::from(bytes);
        let mut descriptor = Descriptor::plain(kind, Digest::of(&bytes), bytes.len() as u64);
        descriptor.annotations.insert(name.to_owned(), value);
        SignedLayer { descriptor, bytes }
    }
}

/// The manifest that makes an approval a companion of an image (Image Specification, "Guidelines for Artifact Usage").
///
/// # Errors
/// Never, but that it is read as what others write is.
pub fn approval_companion(
    layer: &SignedLayer,
    subject: Descriptor,
    on: &str,
) -> Result<Document, DocumentError> {
    let subject = Descriptor::plain(&subject.media_type, subject.digest, subject.size);
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": media_type::MANIFEST,
        "artifactType": layer.descriptor.media_type,
        "config": empty_config(),
        "layers": [written(&layer.descriptor)],
        "subject": written(&subject),
        "annotations": { wire::CREATED: on },
    });
    Document::read(manifest.to_string().into(), None)
}

/// The manifest under the tag that is made from an image's digest, with one signature more. The others stay as they are.
///
/// # Errors
/// What is there is none that holds signatures.
pub fn small_companion(
    layer: &SignedLayer,
    before: Option<&Document>,
) -> Result<Document, DocumentError> {
    let mut manifest = match before {
        Some(before) => serde_json::from_slice(&before.bytes)
            .map_err(|error| DocumentError::Shape(error.to_string()))?,
        None => json!({
            "schemaVersion": 2,
            "mediaType": media_type::MANIFEST,
            "config": empty_config(),
            "layers": [],
        }),
    };
    let layers = manifest.get_mut("layers").and_then(serde_json::Value::as_array_mut);
    let other = || DocumentError::Shape("what lies under the tag holds no signatures".to_owned());
    let layers = layers.ok_or_else(other)?;
    // Whoever's image lies there, it is not ours to change.
    let is_small = |one: &serde_json::Value| one["mediaType"] == wire::SMALL;
    if before.is_some() && (layers.is_empty() || !layers.iter().all(is_small)) {
        return Err(other());
    }
    layers.push(written(&layer.descriptor));
    Document::read(manifest.to_string().into(), None)
}

fn written(descriptor: &Descriptor) -> serde_json::Value {
    let mut written = json!({
        "mediaType": descriptor.media_type,
        "digest": descriptor.digest.as_str(),
        "size": descriptor.size,
    });
    if !descriptor.annotations.is_empty() {
        written["annotations"] = json!(descriptor.annotations);
    }
    written
}

fn empty_config() -> serde_json::Value {
    let (digest, size) = (Digest::of(EMPTY_CONFIG), EMPTY_CONFIG.len() as u64);
    written(&Descriptor::plain(media_type::EMPTY, digest, size))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::signature::{
        Authorities, FoundBy, FoundCompanion, KeyKind, PrivateKey, Question, Signer, Target, Trust,
        examine,
    };
    use std::collections::BTreeMap;

    const TYPE: &str = "https://emberfall.example/approved/v1";

    fn image() -> Document {
        let manifest = json!({
            "schemaVersion": 2, "mediaType": media_type::MANIFEST, "config": empty_config(), "layers": [],
        });
        Document::read(manifest.to_string().into(), None).unwrap()
    }

    fn trust(key: &PublicKey, statements: &[&str]) -> Trust {
        let signer = Signer {
            name: "approval".to_owned(),
            images: vec!["larder.emberfall.example/**".parse().unwrap()],
            keys: vec![key.clone()],
            revoked: Vec::new(),
            authorities: Authorities::default(),
            identity: None,
            signed_as: Vec::new(),
            statements: statements.iter().map(|one| (*one).to_owned()).collect(),
            is_logged: true,
        };
        Trust { signers: vec![signer], ..Trust::default() }
    }

    fn holds(
        trust: &Trust,
        image: &Document,
        companion: &Document,
        how: FoundBy,
        layer: &SignedLayer,
    ) -> bool {
        let digest = Digest::of(&image.bytes);
        let names = ["larder.emberfall.example/vendor/steamgauge".to_owned()];
        let target = Target { digest: &digest, media_type: &image.media_type, bytes: &image.bytes };
        let question =
            Question { names: &names, tags: &[], image: target, indexes: &[], now: 1_795_000_000 };
        let layers = BTreeMap::from([(layer.descriptor.digest.clone(), layer.bytes.to_vec())]);
        let found = FoundCompanion {
            digest: &Digest::of(&companion.bytes),
            about: &digest,
            how,
            bytes: &companion.bytes,
            layers: &layers,
        };
        let found = examine(trust, &question, [found]);
        assert_eq!(found.len(), 1);
        found[0].outcome.as_ref().is_ok_and(|proven| proven.is_signature)
    }

    #[test]
    fn what_we_sign_counts_as_what_others_sign_does() {
        let (image, name) =
            (image(), "larder.emberfall.example/vendor/steamgauge".parse().unwrap());
        let about = Digest::of(&image.bytes);
        let subject = Descriptor::plain(&image.media_type, about.clone(), image.bytes.len() as u64);
        let approval = Approval {
            by: "approval".into(),
            run_by: "mara@gate-1".into(),
            because: "a \"test\"\nrun".into(),
            on: "2026-11-30T12:00:00Z".into(),
            class: Some("vetted".into()),
            from: None,
            trimmed_from: None,
        };
        for kind in [KeyKind::Ed25519, KeyKind::P256] {
            let key = PrivateKey::generate(kind).unwrap().0;
            let public = key.public().unwrap();
            let other = PrivateKey::generate(kind).unwrap().0.public().unwrap();
            let statement = ToSign::approval(&name, &about, TYPE, &approval);
            let signature = key.sign(&statement.message).unwrap();
            let layer = statement.sealed(&public, &signature);
            let companion = approval_companion(&layer, subject.clone(), &approval.on).unwrap();
            assert!(!companion.may_run());
            let holds =
                |trust: &Trust| holds(trust, &image, &companion, FoundBy::Reference, &layer);
            assert!(holds(&trust(&public, &[TYPE])));
            assert!(
                !holds(&trust(&public, &[])),
                "a statement is a signature only where that is said"
            );
            assert!(!holds(&trust(&other, &[TYPE])));
        }
    }

    #[test]
    fn a_small_payload_stands_beside_those_of_others() {
        let (image, name) =
            (image(), "larder.emberfall.example/vendor/steamgauge".parse().unwrap());
        let about = Digest::of(&image.bytes);
        let sealed = || {
            let key = PrivateKey::generate(KeyKind::P256).unwrap().0;
            let small = ToSign::small(&name, &about);
            let (public, signature) = (key.public().unwrap(), key.sign(&small.message).unwrap());
            (small.sealed(&public, &signature), public)
        };
        let (first, _) = sealed();
        let (second, public) = sealed();
        let before = small_companion(&first, None).unwrap();
        let companion = small_companion(&second, Some(&before)).unwrap();
        assert_eq!(companion.blobs().count(), 3, "the configuration and two signatures");
        let kept: Vec<_> =
            companion.blobs().skip(1).map(|layer| layer.annotations.clone()).collect();
        assert_eq!(kept, [first.descriptor.annotations, second.descriptor.annotations.clone()]);
        let alone = small_companion(&second, None).unwrap();
        assert!(holds(&trust(&public, &[]), &image, &alone, FoundBy::Tag, &second));
        let index = json!({ "schemaVersion": 2, "mediaType": media_type::INDEX, "manifests": [] });
        let index = Document::read(index.to_string().into(), None).unwrap();
        assert!(small_companion(&second, Some(&index)).is_err());
        assert!(small_companion(&second, Some(&image)).is_err(), "an image is left as it is");
    }
}
