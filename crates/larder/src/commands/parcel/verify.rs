//! `larder parcel verify`: is it complete, unaltered and from somebody we know?
use larder_transfer::parcel::{Parcel, Pour, verify};
use schemars::JsonSchema;
use serde::Serialize;

use super::ParcelArgs;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{GOOD, Output, Report, bytes, count, paint};

/// Say whether a parcel is complete, unaltered and signed by a known key
///
/// Every byte is compared with the signed contents; nothing is written. What is missing or bad is
/// named, volume by volume.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    named: ParcelArgs,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let trust = args.named.trust(config.as_ref())?;
    let what = || format!("cannot accept the parcel {}", args.named.shown());
    let parcel =
        Parcel::open(&args.named.paths, &trust).map_err(|error| Failure::parcel(what(), &error))?;
    let progress = context.output.progress();
    let verified = verify(&parcel, Pour::No, progress.clone()).await;
    progress.done();
    verified.map_err(|error| Failure::parcel(what(), &error))?;
    let contents = &parcel.contents;
    context.output.tell(&ParcelVerification {
        verified: true,
        signed_by: parcel.signed_by.clone(),
        made_by: contents.made_by.clone(),
        made_at: contents.made_at.clone(),
        images: contents.images.len(),
        blobs: contents.blobs.len(),
        left_out: contents.held.len(),
        size_bytes: contents.total(),
        volumes: contents.volumes.len(),
    });
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct ParcelVerification {
    verified: bool,
    signed_by: String,
    made_by: String,
    made_at: String,
    images: usize,
    blobs: usize,
    /// Blobs that the far side has by its receipt.
    left_out: usize,
    size_bytes: u64,
    volumes: usize,
}

impl Report for ParcelVerification {
    const KIND: &'static str = "parcel-verify";

    fn show(&self, out: &Output) {
        out.result(format!(
            "{}: {}, {} in {} ({}), signed by {}",
            paint(GOOD, "complete and unaltered"),
            count(self.images, "image"),
            count(self.blobs, "blob"),
            count(self.volumes, "volume"),
            bytes(self.size_bytes),
            self.signed_by
        ));
        if self.left_out > 0 {
            let held = count(self.left_out, "blob");
            out.note(format!("It leaves out {held} that the far side has by its receipt."));
        }
    }
}
