//! The commands; one file each, which holds its parsing, its doing and its reply.

mod advisory;
mod check;
pub mod completions;
mod copy;
#[cfg(feature = "demo")]
mod demo;
pub mod documents;
mod find;
mod handoff;
mod help;
mod init;
mod intake;
mod inventory;
pub mod kept;
mod key;
mod log;
mod look;
mod man;
mod node_login;
mod parcel;
mod policy;
mod promote;
pub mod report;
mod rewrite;
mod rounds;
mod serve;
mod shelf;
mod sign;
mod store;
mod survey;
mod why;

pub use key::Expires;
pub use look::platform_of;
pub use serve::LogForm;
pub use shelf::{NamedRepositories, named_images};

use crate::context::Context;
use crate::failure::Outcome;

/// Every command, in the order of the work.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    #[cfg(feature = "demo")]
    Demo(demo::Args),
    Init(init::Args),
    Check(check::Args),
    Survey(survey::Args),
    Look(look::Args),
    Find(find::Args),
    Inventory(inventory::Args),
    /// Take in what was published about packages, and see which images it touches
    #[command(subcommand)]
    Advisory(advisory::AdvisoryCommand),
    /// Want images, lock them by digest, see what would change, bring them in
    #[command(subcommand)]
    Intake(intake::IntakeCommand),
    Copy(copy::Args),
    Promote(promote::Args),
    Sign(sign::Args),
    /// Carry images across an air gap: pack, verify, unpack, and receipts for the next time
    #[command(subcommand)]
    Parcel(parcel::ParcelCommand),
    Serve(serve::Args),
    /// See what is stored, for whom and how large; drop what is no longer wanted
    #[command(subcommand)]
    Shelf(shelf::ShelfCommand),
    /// Look after the store itself: read everything again, free what nothing refers to, back it up
    #[command(subcommand)]
    Store(store::StoreCommand),
    /// What a cluster needs in order to pull: written, applied, checked, read, moved
    #[command(subcommand)]
    Handoff(handoff::HandoffCommand),
    /// Issue, list, rotate, revoke and test the keys of clusters and accounts
    #[command(subcommand)]
    Key(key::KeyCommand),
    /// Ask who may pull what, by which line, and what a change would do
    #[command(subcommand)]
    Policy(policy::PolicyCommand),
    Rewrite(rewrite::Args),
    Why(Box<why::Args>),
    NodeLogin(node_login::Args),
    Rounds(rounds::Args),
    Report(report::Args),
    Log(log::Args),
    Completions(completions::Args),
    Man(man::Args),
    Help(help::Args),
}

/// Runs a command.
pub async fn run(command: Command, context: &Context) -> Outcome {
    match command {
        #[cfg(feature = "demo")]
        Command::Demo(args) => demo::run(args, context).await,
        Command::Init(args) => init::run(&args, context),
        Command::Check(args) => check::run(&args, context).await,
        Command::Survey(args) => survey::run(&args, context).await,
        Command::Look(args) => look::run(&args, context).await,
        Command::Find(args) => find::run(&args, context).await,
        Command::Advisory(command) => advisory::run(command, context).await,
        Command::Inventory(args) => inventory::run(&args, context).await,
        Command::Intake(command) => intake::run(command, context).await,
        Command::Copy(args) => copy::run(&args, context).await,
        Command::Promote(args) => promote::run(&args, context).await,
        Command::Sign(args) => Box::pin(sign::run(&args, context)).await,
        Command::Parcel(command) => parcel::run(command, context).await,
        Command::Serve(args) => Box::pin(serve::run(&args, context)).await,
        Command::Shelf(command) => shelf::run(command, context).await,
        Command::Store(command) => store::run(command, context).await,
        Command::Handoff(command) => handoff::run(&command, context).await,
        Command::Key(command) => key::run(command, context).await,
        Command::Policy(command) => policy::run(command, context).await,
        Command::NodeLogin(args) => node_login::run(&args, context).await,
        Command::Report(args) => report::run(&args, context).await,
        Command::Rounds(args) => rounds::run(&args, context).await,
        Command::Log(args) => log::run(&args, context).await,
        Command::Completions(args) => completions::run(&args, context),
        Command::Man(args) => man::run(&args, context),
        Command::Help(args) => help::run(&args, context),
        Command::Rewrite(args) => rewrite::run(&args, context).await,
        Command::Why(args) => why::run(&args, context).await,
    }
}
