//! `larder key`: credentials of clusters, their namespaces, and accounts.

pub(super) mod issue;
pub(super) mod list;
pub(super) mod revoke;
pub(super) mod rotate;
pub(super) mod test;

pub use issue::Expires;

use larder_core::access::Who;
use larder_store::{KeyRecord, now};

use crate::config::Config;
use crate::context::{Context, open_store};
use crate::failure::{Failure, Outcome};
use crate::output::{ago, until};

/// What can be done with keys.
#[derive(Debug, clap::Subcommand)]
pub enum KeyCommand {
    Issue(issue::Args),
    List(list::Args),
    Rotate(rotate::Args),
    Revoke(revoke::Args),
    Test(test::Args),
}

/// Whose key is meant.
#[derive(Debug, Clone, clap::Args)]
#[group(skip)]
#[command(group = clap::ArgGroup::new("whose").required(true))]
pub struct KeyHolder {
    /// The cluster, as `[[cluster]]` names it
    #[arg(long, value_name = "NAME", group = "whose")]
    pub cluster: Option<String>,
    /// One of its namespaces [default: the cluster as a whole]
    #[arg(long, value_name = "NAME", requires = "cluster")]
    pub namespace: Option<String>,
    /// A person or a pipeline, as `[[account]]` names it
    #[arg(long, value_name = "NAME", group = "whose", conflicts_with = "namespace")]
    pub account: Option<String>,
}

impl KeyHolder {
    /// Whom that means.
    pub fn who(&self, what: &str, config: &Config) -> Result<Who, Failure> {
        let who = match (&self.account, &self.cluster) {
            (Some(account), _) => Who::Account(account.as_str().into()),
            (None, cluster) => {
                Who::cluster(cluster.as_deref().unwrap_or_default(), self.namespace.as_deref())
            }
        };
        crate::handoff::declared(config, what, who)
    }
}

pub async fn run(command: KeyCommand, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = open_store(&config)?;
    match command {
        KeyCommand::Issue(args) => issue::run(&args, &config, &store, context).await,
        KeyCommand::List(args) => list::run(&args, &config, &store, context).await,
        KeyCommand::Rotate(args) => rotate::run(&args, &config, &store, context).await,
        KeyCommand::Revoke(args) => revoke::run(&args, &config, &store, context).await,
        KeyCommand::Test(args) => test::run(&args, &config, &store, context).await,
    }
}

/// When and from where a key was last used.
fn last_use(key: &KeyRecord) -> String {
    match (key.used, key.used_from.as_deref().unwrap_or_default()) {
        (None, _) => "never".into(),
        (Some(at), "") => ago(at, now()),
        (Some(at), from) => format!("{} from {from}", ago(at, now())),
    }
}

/// How a key stands, in a word or two.
fn state(key: &KeyRecord) -> (bool, String) {
    let at = now();
    match (key.revoked, key.expires) {
        (Some(_), _) => (false, "revoked".into()),
        (None, Some(end)) if end <= at => (false, "expired".into()),
        (None, Some(end)) => (true, format!("{} left", until(end, at))),
        (None, None) => (true, "does not expire".into()),
    }
}
