//! The documents of an image as they are, byte for byte.

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::document::{CONFIG_LIMIT, ManifestShape};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_transfer::{Source, TransferError};
use schemars::JsonSchema;
use serde::Serialize;

use super::{examine, on_platform};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, count};
use crate::place::{OpenedSource, Place};

/// Which document of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum RawDocument {
    /// What the reference names, an index or a manifest; with `--platform` that manifest
    Manifest,
    /// The configuration of one platform
    Config,
}

#[derive(Serialize, JsonSchema)]
pub struct RawReport {
    reference: String,
    #[schemars(with = "String")]
    digest: Digest,
    media_type: String,
    size_bytes: u64,
    /// Exactly the bytes of the digest. None: they are no UTF-8.
    text: Option<String>,
    #[serde(skip)]
    bytes: Bytes,
}

impl Report for RawReport {
    const KIND: &'static str = "image-document";

    fn show(&self, out: &Output) {
        out.raw(&self.bytes);
    }
}

/// Writes one document of an image, verified.
pub async fn run(
    which: RawDocument,
    reference: &str,
    platform: Option<&Platform>,
    context: &Context,
    config: Option<&Config>,
) -> Outcome {
    let place = Place::read(reference, config)?;
    let OpenedSource { source, selector, .. } = place.source(config)?;
    let failed = |error| Failure::transfer(format!("cannot look at {place}"), &error);
    let is_named = which == RawDocument::Manifest && platform.is_none();
    let selector = match is_named {
        true => selector,
        false => {
            let look = examine(&*source, &selector, place.to_string()).await.map_err(failed)?;
            let Some(one) = on_platform(&look, platform, config)? else {
                let what = format!("cannot look at an image of {place}");
                let cause = "it names none that is there";
                let remedy = "`--raw manifest` alone writes the index";
                return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
            };
            Selector::Digest(one.digest.clone())
        }
    };
    let (digest, media_type, bytes) = read(which, &*source, &selector).await.map_err(failed)?;
    let size_bytes = bytes.len() as u64;
    let text = std::str::from_utf8(&bytes).ok().map(str::to_owned);
    let reference = place.to_string();
    context.output.note(format!("{digest}, {media_type}, {}", count(bytes.len(), "byte")));
    context.output.tell(&RawReport { reference, digest, media_type, size_bytes, text, bytes });
    Ok(Exit::Done)
}

async fn read(
    which: RawDocument,
    source: &dyn Source,
    selector: &Selector,
) -> Result<(Digest, String, Bytes), TransferError> {
    let (digest, document) = source.manifest(selector).await?;
    match (&document.kind, which) {
        (ManifestShape::Manifest { config, .. }, RawDocument::Config) => {
            let bytes = source.small_blob(config, CONFIG_LIMIT).await?;
            Ok((config.digest.clone(), config.media_type.clone(), bytes))
        }
        _ => Ok((digest, document.media_type, document.bytes)),
    }
}
