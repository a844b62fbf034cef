//! `larder intake`: want images, lock them, see what would change, bring them in.

pub(super) mod add;
pub(super) mod budget;
pub(super) mod diff;
pub(super) mod job;
pub(super) mod lock;
pub(super) mod moved;
pub(super) mod run;
pub(super) mod status;
pub(super) mod upstream;

pub use budget::Budgets;
pub use job::{Job, jobs};
pub use upstream::Upstreams;

use crate::context::Context;
use crate::failure::Outcome;

/// The steps of an intake.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    Add(add::Args),
    Lock(lock::Args),
    Diff(diff::Args),
    Run(run::Args),
    Status(status::Args),
}

pub async fn run(command: Command, context: &Context) -> Outcome {
    match command {
        Command::Add(args) => add::run(&args, context),
        Command::Lock(args) => lock::run(&args, context).await,
        Command::Diff(args) => diff::run(&args, context).await,
        Command::Run(args) => run::run(&args, context).await,
        Command::Status(args) => status::run(&args, context).await,
    }
}
