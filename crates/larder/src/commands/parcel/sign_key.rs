//! `larder parcel sign-key`: make the key that signs parcels and receipts.

use larder_transfer::parcel::{make_key, read_key};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};

/// Make the key that signs parcels and receipts, or show the public half of one
///
/// The file holds the secret half (PEM, PKCS #8, Ed25519) and is readable by its owner only. What is
/// printed is the other half, for `trust` at the far side.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The file to write; one that is there is never replaced
    file: PathBuf,
    /// Show the public half of the key in FILE, and make none
    #[arg(long)]
    show: bool,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let key = match args.show {
        true => read_key(&args.file)
            .map(|key| key.verifying())
            .map_err(|error| Failure::parcel("cannot show the key", &error))?,
        false => make_key(&args.file)
            .map_err(|error| Failure::parcel("cannot make a signing key", &error))?,
    };
    let name =
        context.config_if_any()?.map_or_else(|| "here".to_owned(), |config| config.larder.name);
    context.output.tell(&SignKeyReport { file: args.file.clone(), key: key.to_string(), name });
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct SignKeyReport {
    /// The private half.
    file: PathBuf,
    /// The public half.
    key: String,
    #[serde(skip)]
    name: String,
}

impl Report for SignKeyReport {
    const KIND: &'static str = "parcel-sign-key";

    fn show(&self, out: &Output) {
        let Self { file, key, name } = self;
        out.result(key);
        out.note(format!(
            "Here, put `sign = \"{}\"` into [parcel] of larder.toml; it is found from the folder of larder.toml.",
            larder_transfer::files::named(file)
        ));
        out.note(format!("At the far side, put `trust = {{ {name} = \"{key}\" }}` into [parcel]."));
    }
}
