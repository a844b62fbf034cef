//! `larder store`: the store itself.

pub(super) mod backup;
pub(super) mod collect;
pub mod convert;
pub mod moving;
pub(super) mod restore;
pub(super) mod verify;

pub(super) use verify::hashed;

use larder_store::StoreError;

use crate::context::{Context, store_here};
use crate::failure::{Failure, Outcome};

/// What can be done to the store.
#[derive(Debug, clap::Subcommand)]
pub enum StoreCommand {
    Verify(verify::Args),
    Collect(collect::Args),
    Backup(backup::Args),
    Restore(restore::Args),
    Move(moving::Args),
    Convert(convert::Args),
}

pub async fn run(command: StoreCommand, context: &Context) -> Outcome {
    let config = context.config()?;
    match command {
        StoreCommand::Verify(args) => verify::run(&args, &store_here(&config)?, context).await,
        StoreCommand::Collect(args) => collect::run(&args, &store_here(&config)?, context).await,
        StoreCommand::Backup(args) => {
            backup::run(&args, &config, &store_here(&config)?, context).await
        }
        StoreCommand::Restore(args) => restore::run(&args, &config, context).await,
        StoreCommand::Move(args) => {
            moving::run(&args, &config, &store_here(&config)?, context).await
        }
        StoreCommand::Convert(_) => convert::run(&config, context),
    }
}

fn failed(error: &StoreError) -> Failure {
    let what = "cannot look after the store";
    match error.is_full() {
        // What frees space could not write that it does.
        true => Failure::usage(
            what,
            error,
            "free a few MiB of its disk by other means first: the records cannot be written without any room",
        ),
        false => Failure::store(what, error),
    }
}

/// How long something must have lain unused before it is taken for forgotten, and not for something
/// that is just being pushed.
const GRACE: &str = "24h";
