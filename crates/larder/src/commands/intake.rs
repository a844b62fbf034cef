//! `larder intake`: want images, lock them, see what would change, bring them in.

mod add;
mod budget;
mod diff;
mod job;
mod lock;
mod moved;
mod run;
mod status;
mod upstream;

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
