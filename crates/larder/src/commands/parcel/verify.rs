//! `larder parcel verify`: is it complete, unaltered and from somebody we know?

use super::Named;
use crate::context::Context;
use crate::failure::{Exit, Outcome};
use crate::output::{GOOD, bytes, count, paint};
use crate::parcel::{Parcel, Pour, verify};

/// Say whether a parcel is complete, unaltered and signed by a known key
///
/// Every byte is compared with the signed contents; nothing is written. What is missing or bad is
/// named, volume by volume.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    named: Named,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let trust = args.named.trust(config.as_ref())?;
    let what = || format!("cannot accept the parcel {}", args.named.shown());
    let parcel = Parcel::open(&args.named.paths, &trust).map_err(|error| error.failure(what()))?;
    let progress = context.output.progress();
    let verified = verify(&parcel, Pour::No, &progress).await;
    progress.done();
    verified.map_err(|error| error.failure(what()))?;
    let contents = &parcel.contents;
    if context.output.json {
        context.output.document(&serde_json::json!({
            "verified": true, "signed_by": parcel.signed_by, "made_by": contents.made_by,
            "made_at": contents.made_at, "images": contents.images.len(),
            "blobs": contents.blobs.len(), "left_out": contents.held.len(),
            "bytes": contents.total(), "volumes": contents.volumes.len(),
        }));
        return Ok(Exit::Done);
    }
    context.output.result(format!(
        "{}: {}, {} in {} ({}), signed by {}",
        paint(GOOD, "complete and unaltered"),
        count(contents.images.len(), "image"),
        count(contents.blobs.len(), "blob"),
        count(contents.volumes.len(), "volume"),
        bytes(contents.total()),
        parcel.signed_by
    ));
    if !contents.held.is_empty() {
        let held = count(contents.held.len(), "blob");
        context.output.note(format!("It leaves out {held} that the far side has by its receipt."));
    }
    Ok(Exit::Done)
}
