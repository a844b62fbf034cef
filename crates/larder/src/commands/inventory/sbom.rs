//! `larder inventory --sbom`: the packages of an image as a bill of materials in an open form.

use bytes::Bytes;
use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::{Document, media_type};
use larder_core::sbom::{SbomSubject, cyclonedx, spdx};
use larder_transfer::{ManifestRole, TransferError};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Value, json};

use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::inventory::NamedInventory;
use crate::output::{Output, Report, bytes, short, time};
use crate::place::Place;

/// The form of a bill of materials.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
    /// SPDX 2.3, as JSON.
    Spdx,
    /// CycloneDX 1.6, as JSON.
    Cyclonedx,
}

/// A bill of materials that was put beside an image.
#[derive(Serialize, JsonSchema)]
pub struct SbomAttached {
    image: String,
    /// The manifest that it is about.
    #[schemars(with = "String")]
    about: Digest,
    /// Of the companion.
    #[schemars(with = "String")]
    digest: Digest,
    /// Its media type.
    artifact_type: &'static str,
    size_bytes: u64,
}

/// When a document is made. `SOURCE_DATE_EPOCH` says it where the same is to be made twice.
fn made_at() -> i64 {
    let said = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|seconds| seconds.parse().ok());
    said.map_or_else(now, |seconds: i64| seconds.saturating_mul(1000))
}

impl Form {
    fn media_type(self) -> &'static str {
        match self {
            Self::Spdx => "application/spdx+json",
            Self::Cyclonedx => "application/vnd.cyclonedx+json",
        }
    }

    fn document(self, named: &NamedInventory) -> Value {
        let layers: Vec<_> = named.read.layers.iter().map(|layer| layer.digest.clone()).collect();
        let subject = SbomSubject {
            reference: &named.reference,
            digest: &named.read.digest,
            layers: &layers,
            made_at: &time(made_at()),
            version: env!("CARGO_PKG_VERSION"),
        };
        match self {
            Self::Spdx => spdx(&subject, &named.read.inventory),
            Self::Cyclonedx => cyclonedx(&subject, &named.read.inventory),
        }
    }
}

fn tell_unread(named: &NamedInventory, context: &Context) {
    if !named.read.inventory.unread.is_empty() {
        let told = "note: not everything was read, so that packages may be missing";
        context.output.note(format!("{told}; `larder inventory` says what"));
    }
}

/// Writes the bill of materials of an image to stdout.
pub fn write(form: Form, named: &NamedInventory, context: &Context) -> Exit {
    context.output.standard_document(&form.document(named));
    tell_unread(named, context);
    Exit::Done
}

/// Puts the bill of materials beside the image, where it is (Image Specification, "Guidelines for Artifact Usage").
pub async fn attach(
    form: Form,
    named: &NamedInventory,
    config: Option<&Config>,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot put a bill of materials beside {}", named.reference);
    let place = Place::read_target(&untagged(&named.reference), config)?;
    let Place::Registry(_) = &place else {
        let cause = "companions lie in registries";
        return Err(Failure::usage(what(), cause, "copy the image to one, or write it to a file"));
    };
    let failed = |error: TransferError| Failure::transfer(what(), &error);
    let document = form.document(named).to_string().into_bytes();
    let empty = Bytes::from_static(b"{}");
    let describe = |media_type: &str, bytes: &[u8]| json!({ "mediaType": media_type, "digest": Digest::of(bytes), "size": bytes.len() });
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": media_type::MANIFEST,
        "artifactType": form.media_type(),
        "config": describe(media_type::EMPTY, &empty),
        "layers": [describe(form.media_type(), &document)],
        "subject": {
            "mediaType": named.read.media_type,
            "digest": named.read.digest,
            "size": named.read.size_bytes,
        },
        "annotations": { "org.opencontainers.image.created": time(made_at()) },
    });
    let manifest = Bytes::from(manifest.to_string().into_bytes());
    let digest = Digest::of(&manifest);
    let size_bytes = document.len() as u64;
    let read = Document::read(manifest, Some(media_type::MANIFEST));
    let read =
        read.map_err(|source| failed(TransferError::Document { digest: digest.clone(), source }))?;
    let (target, _) = place.target(&place, None, config)?;
    for (blob, bytes) in
        read.blobs().cloned().collect::<Vec<_>>().iter().zip([empty, document.into()])
    {
        if !target.has_blob(blob).await.map_err(failed)? {
            let content = stream::iter([Ok(bytes)]).boxed();
            target.take_blob(blob, content).await.map_err(failed)?;
        }
    }
    target.take_manifest(&digest, &read, ManifestRole::Image(None), false).await.map_err(failed)?;
    target.finish().await.map_err(failed)?;
    tell_unread(named, context);
    context.output.tell(&SbomAttached {
        image: named.reference.clone(),
        about: named.read.digest.clone(),
        digest,
        artifact_type: form.media_type(),
        size_bytes,
    });
    Ok(Exit::Done)
}

/// The place of an image: a companion is found by what it is about, and not by a name.
fn untagged(reference: &str) -> String {
    reference.split('@').next().unwrap_or(reference).to_owned()
}

impl Report for SbomAttached {
    const KIND: &'static str = "inventory-sbom";

    fn show(&self, out: &Output) {
        let (kind, size) = (self.artifact_type, bytes(self.size_bytes));
        let (digest, about) = (short(&self.digest), short(&self.about));
        out.result(format!("put {kind} ({size}, {digest}) beside {} ({about})", self.image));
    }
}
