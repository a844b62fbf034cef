//! `larder handoff`: what a cluster needs in order to pull.

mod nodes;
mod write;

use crate::context::Context;
use crate::failure::Outcome;

pub use nodes::check as check_nodes;

/// What can be handed over.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    Write(write::Args),
}

pub fn run(command: &Command, context: &Context) -> Outcome {
    match command {
        Command::Write(args) => write::run(args, context),
    }
}
