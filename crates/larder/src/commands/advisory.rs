//! `larder advisory`: what was published about packages, and which of our images it touches.

pub(super) mod check;
pub(super) mod drop;
pub mod holdings;
pub(super) mod import;
pub(super) mod list;
pub mod published;
pub(super) mod show;
pub mod taking;

use crate::context::Context;
use crate::failure::Outcome;

/// What can be asked about advisories.
#[derive(Debug, clap::Subcommand)]
pub enum AdvisoryCommand {
    Import(import::Args),
    List(list::Args),
    Show(show::Args),
    Check(Box<check::Args>),
    Drop(drop::Args),
}

pub async fn run(command: AdvisoryCommand, context: &Context) -> Outcome {
    match command {
        AdvisoryCommand::Import(args) => import::run(&args, context).await,
        AdvisoryCommand::List(args) => list::run(&args, context).await,
        AdvisoryCommand::Show(args) => show::run(&args, context).await,
        AdvisoryCommand::Check(args) => check::run(&args, context).await,
        AdvisoryCommand::Drop(args) => drop::run(&args, context).await,
    }
}
