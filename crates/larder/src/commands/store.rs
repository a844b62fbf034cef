//! `larder store`: the store itself.

mod backup;
mod collect;
mod verify;

use larder_store::{Store, StoreError};

use crate::config::Config;
use crate::context::{Context, no_store, store_if_any};
use crate::failure::{Failure, Outcome};

/// What can be done to the store.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    Verify(verify::Args),
    Collect(collect::Args),
    Backup(backup::Args),
}

pub async fn run(command: Command, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = there(&config)?;
    match command {
        Command::Verify(args) => verify::run(&args, &store, context).await,
        Command::Collect(args) => collect::run(&args, &store, context).await,
        Command::Backup(args) => backup::run(&args, &config, &store, context).await,
    }
}

/// The store, which must be there: nothing can be said of one that nobody has begun.
fn there(config: &Config) -> Result<Store, Failure> {
    store_if_any(config)?.ok_or_else(|| no_store(config))
}

fn failed(error: &StoreError) -> Failure {
    Failure::store("cannot look after the store", error)
}

/// How long something must have lain unused before it is taken for forgotten, and not for something
/// that is just being pushed.
const GRACE: &str = "24h";
