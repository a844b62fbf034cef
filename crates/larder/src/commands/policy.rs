//! `larder policy`: who may pull what, and what a changed configuration would do.

pub(super) mod check;
pub(super) mod diff;
pub(super) mod explain;
pub(super) mod rehearse;

use larder_core::access::Who;

use crate::config::Config;
use crate::context::Context;
use crate::failure::{Failure, Outcome};

/// What can be asked of the policy.
#[derive(Debug, clap::Subcommand)]
pub enum PolicyCommand {
    Check(check::Args),
    Explain(explain::Args),
    Diff(diff::Args),
    Rehearse(rehearse::Args),
}

pub async fn run(command: PolicyCommand, context: &Context) -> Outcome {
    match command {
        PolicyCommand::Check(args) => check::run(&args, context).await,
        PolicyCommand::Explain(args) => explain::run(&args, context).await,
        PolicyCommand::Diff(args) => diff::run(&args, context).await,
        PolicyCommand::Rehearse(args) => rehearse::run(&args, context).await,
    }
}

/// A cluster, or one of its namespaces; it must be declared.
fn cluster(
    what: &str,
    config: &Config,
    name: &str,
    namespace: Option<&str>,
) -> Result<Who, Failure> {
    crate::handoff::declared(config, what, Who::cluster(name, namespace))
}
