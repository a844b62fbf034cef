//! `larder parcel sign-key`: make the key that signs parcels and receipts.

use std::path::PathBuf;

use crate::context::Context;
use crate::failure::{Exit, Outcome};
use crate::parcel::make_key;

/// Make the key that signs parcels and receipts
///
/// The file holds the secret half (PEM, PKCS #8, Ed25519) and is readable by its owner only. What is
/// printed is the other half, for `trust` at the far side.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The file to write; one that is there is never replaced
    file: PathBuf,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let made = make_key(&args.file);
    let key = made.map_err(|error| error.failure("cannot make a signing key"))?;
    if context.output.json {
        context.output.document(&serde_json::json!({ "file": args.file, "key": key.to_string() }));
        return Ok(Exit::Done);
    }
    context.output.result(key.to_string());
    context.output.note(format!(
        "Here, put `sign = \"{}\"` into [parcel] of larder.toml; it is found from the folder of larder.toml.",
        crate::files::named(&args.file)
    ));
    let name =
        context.config_if_any()?.map_or_else(|| "here".to_owned(), |config| config.larder.name);
    context
        .output
        .note(format!("At the far side, put `trust = {{ {name} = \"{key}\" }}` into [parcel]."));
    Ok(Exit::Done)
}
