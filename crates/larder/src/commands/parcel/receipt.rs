//! `larder parcel receipt`: what this side holds.

use larder_transfer::parcel::{receipt_of, write_receipt};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, bytes, count};
use crate::parcel::{now_text, signing_key};

/// Write what this larder holds, for the next parcel to leave out
///
/// The receipt is signed and compressed; carry it to the side that packs.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The file to write [default: NAME.receipt, by this larder's name]
    file: Option<PathBuf>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let what = "cannot write a receipt";
    let key = signing_key(&config, what)?;
    let store = open_store(&config)?;
    let made = receipt_of(&config.larder.name, now_text(), &store).await;
    let receipt = made.map_err(|error| Failure::parcel(what, &error))?;
    let path = args.file.clone().unwrap_or_else(|| default_path(&config.larder.name));
    write_receipt(&path, &receipt, &key).map_err(|error| Failure::parcel(what, &error))?;
    let size = std::fs::metadata(&path).map_err(|error| Failure::io(what, &error))?.len();
    let (images, blobs) = (receipt.images.len(), receipt.blobs.len());
    context.output.tell(&ReceiptReport { file: path, images, blobs, size_bytes: size });
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct ReceiptReport {
    file: PathBuf,
    images: usize,
    blobs: usize,
    /// Of the file.
    size_bytes: u64,
}

impl Report for ReceiptReport {
    const KIND: &'static str = "parcel-receipt";

    fn show(&self, out: &Output) {
        out.result(format!(
            "wrote {}: {}, {}, {}",
            larder_transfer::files::named(&self.file),
            count(self.images, "image"),
            count(self.blobs, "blob"),
            bytes(self.size_bytes)
        ));
    }
}

/// The receipt's name where none is given: a larder's name may have anything in it.
pub(super) fn default_path(name: &str) -> PathBuf {
    let plain = |c: char| if c.is_alphanumeric() || c == '-' || c == '_' { c } else { '-' };
    let name: String = name.chars().map(plain).collect();
    PathBuf::from(format!("{name}.receipt"))
}
