//! `larder parcel`: images across an air gap.

pub(super) mod elsewhere;
mod feeds;
mod gate;
mod held;
pub(super) mod pack;
pub(super) mod plain;
pub(super) mod receipt;
mod removals;
pub(super) mod show;
pub(super) mod sign_key;
pub(super) mod unpack;
pub(super) mod verify;

use std::path::PathBuf;

use larder_core::signature::VerifyingKey;
use larder_transfer::parcel::SignerTrust;

use crate::config::Config;
use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::parcel::trust_of;

/// The steps of a parcel's way.
#[derive(Debug, clap::Subcommand)]
pub enum ParcelCommand {
    Pack(pack::Args),
    Verify(verify::Args),
    Unpack(unpack::Args),
    Receipt(receipt::Args),
    Show(show::Args),
    SignKey(sign_key::Args),
}

/// A parcel as it is named, and whose word counts.
#[derive(Debug, clap::Args)]
struct ParcelArgs {
    /// The parcel's folder, or its files; of several disks, all of them
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<PathBuf>,
    /// Believe this key too, beside those of `[parcel]` in larder.toml (again for more)
    #[arg(long, value_name = "KEY")]
    trust: Vec<VerifyingKey>,
}

impl ParcelArgs {
    fn shown(&self) -> String {
        let shown: Vec<String> = self.paths.iter().map(larder_transfer::files::named).collect();
        shown.join(" ")
    }

    fn trust(&self, config: Option<&Config>) -> Result<SignerTrust, Failure> {
        trust_of(config, &self.trust, "cannot tell whom to believe")
    }
}

pub async fn run(command: ParcelCommand, context: &Context) -> Outcome {
    match command {
        ParcelCommand::Pack(args) => pack::run(&args, context).await,
        ParcelCommand::Verify(args) => verify::run(&args, context).await,
        ParcelCommand::Unpack(args) => unpack::run(&args, context).await,
        ParcelCommand::Receipt(args) => receipt::run(&args, context).await,
        ParcelCommand::Show(args) => show::run(&args, context),
        ParcelCommand::SignKey(args) => sign_key::run(&args, context),
    }
}
