//! `larder intake`: want images, lock them, see what would change, bring them in.

pub(super) mod add;
pub(super) mod budget;
mod charts;
pub(super) mod diff;
mod edit;
mod gate;
pub(super) mod job;
pub(super) mod list;
pub(super) mod lock;
pub(super) mod moved;
pub(super) mod remove;
pub(super) mod run;
pub(super) mod sizes;
pub(super) mod status;
pub(super) mod upstream;

pub use budget::Budgets;
pub use job::{IntakeJob, jobs};
pub use status::counts;
pub use upstream::Upstreams;

use crate::context::Context;
use crate::failure::Outcome;

/// The steps of an intake.
#[derive(Debug, clap::Subcommand)]
pub enum IntakeCommand {
    Add(add::Args),
    List(list::Args),
    Remove(remove::Args),
    Lock(lock::Args),
    Diff(diff::Args),
    Run(run::Args),
    Status(status::Args),
}

pub async fn run(command: IntakeCommand, context: &Context) -> Outcome {
    match command {
        IntakeCommand::Add(args) => add::run(&args, context).await,
        IntakeCommand::List(args) => list::run(&args, context),
        IntakeCommand::Remove(args) => remove::run(&args, context),
        IntakeCommand::Lock(args) => lock::run(&args, context).await,
        IntakeCommand::Diff(args) => diff::run(&args, context).await,
        IntakeCommand::Run(args) => run::run(&args, context).await,
        IntakeCommand::Status(args) => status::run(&args, context).await,
    }
}
