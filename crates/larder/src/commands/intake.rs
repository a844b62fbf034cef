//! `larder intake`: want images, lock them, see what would change, bring them in.

mod add;
mod diff;
mod lock;
mod run;
mod upstream;

use crate::context::Context;
use crate::failure::Outcome;

/// The steps of an intake.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Want images: write them into larder.toml
    Add(add::Args),
    /// Resolve the wanted tags to digests and write larder.lock
    Lock(lock::Args),
    /// Compare the wish, the lock, the upstream now and what the larder holds
    Diff(diff::Args),
    /// Bring in what the lock says, by digest
    Run(run::Args),
}

pub async fn run(command: Command, context: &Context) -> Outcome {
    match command {
        Command::Add(args) => add::run(&args, context),
        Command::Lock(args) => lock::run(&args, context).await,
        Command::Diff(args) => diff::run(&args, context).await,
        Command::Run(args) => run::run(&args, context).await,
    }
}
