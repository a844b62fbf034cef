//! The commands; one file each, which holds its parsing, its doing and its reply.

mod check;
mod copy;
mod demo;
mod files;
mod init;
mod intake;
mod look;
mod rewrite;
mod serve;
mod shelf;
mod survey;

use crate::context::Context;
use crate::failure::Outcome;

/// Every command, in the order of the work.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// See the whole story on made-up data, on this machine
    Demo(demo::Args),
    /// Write a commented larder.toml
    Init(init::Args),
    /// Read the configuration, reach every upstream, say what is wrong
    Check(check::Args),
    /// List every image that deployments name: where it stands and what is wrong with it
    Survey(survey::Args),
    /// Say what a reference is, without pulling it; with two, whether they are the same
    Look(look::Args),
    /// Want images, lock them by digest, see what would change, bring them in
    #[command(subcommand)]
    Intake(intake::Command),
    /// Copy one image between registry, OCI layout folder and archive
    Copy(copy::Args),
    /// Run the registry
    Serve(serve::Args),
    /// See what is stored
    #[command(subcommand)]
    Shelf(shelf::Command),
    /// Make deployments name the larder's images, and change nothing else in them
    Rewrite(rewrite::Args),
}

/// Runs a command.
pub async fn run(command: Command, context: &Context) -> Outcome {
    match command {
        Command::Demo(args) => demo::run(args, context).await,
        Command::Init(args) => init::run(&args, context),
        Command::Check(args) => check::run(&args, context).await,
        Command::Survey(args) => survey::run(&args, context).await,
        Command::Look(args) => look::run(&args, context).await,
        Command::Intake(command) => intake::run(command, context).await,
        Command::Copy(args) => copy::run(&args, context).await,
        Command::Serve(args) => serve::run(&args, context).await,
        Command::Shelf(command) => shelf::run(command, context).await,
        Command::Rewrite(args) => rewrite::run(&args, context),
    }
}
