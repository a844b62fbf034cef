//! `larder handoff`: what a cluster needs in order to pull.

pub(super) mod apply;
pub(super) mod check;
pub(super) mod guide;
pub(super) mod move_to;
pub(super) mod nodes;
pub(super) mod read;
pub(super) mod secrets;
pub(super) mod write;

use larder_core::handoff::WantedSecret;
use serde_json::Value;

use crate::context::Context;
use crate::failure::{Failure, Outcome};
use crate::kube::{Kube, path};

pub use nodes::check as check_nodes;

/// What can be handed over, and how.
#[derive(Debug, clap::Subcommand)]
pub enum HandoffCommand {
    Write(write::Args),
    Apply(apply::Args),
    Check(check::Args),
    Read(read::Args),
    Move(move_to::Args),
    Guide(guide::Args),
}

pub async fn run(command: &HandoffCommand, context: &Context) -> Outcome {
    match command {
        HandoffCommand::Write(args) => write::run(args, context).await,
        HandoffCommand::Apply(args) => apply::run(args, context).await,
        HandoffCommand::Check(args) => check::run(args, context).await,
        HandoffCommand::Read(args) => read::run(args, context).await,
        HandoffCommand::Move(args) => move_to::run(args, context).await,
        HandoffCommand::Guide(args) => guide::run(args, context).await,
    }
}

/// What a cluster has of what one of its namespaces should have.
struct Objects {
    /// Whether the namespace is there.
    namespace: bool,
    /// None: it is not there.
    secret: Option<Value>,
    /// The service accounts that should have the secret.
    accounts: Vec<(String, Option<Value>)>,
}

impl Objects {
    async fn read(kube: &Kube, wanted: &WantedSecret) -> Result<Self, Failure> {
        let namespace = kube.get(&format!("/api/v1/namespaces/{}", wanted.namespace)).await?;
        let (namespace, mut accounts) = (namespace.is_some(), Vec::new());
        if !namespace {
            return Ok(Self { namespace, secret: None, accounts });
        }
        let secret = kube.get(&path(&wanted.namespace, "secrets", &wanted.name)).await?;
        for name in &wanted.service_accounts {
            let found = kube.get(&path(&wanted.namespace, "serviceaccounts", name)).await?;
            accounts.push((name.clone(), found));
        }
        Ok(Self { namespace, secret, accounts })
    }
}
