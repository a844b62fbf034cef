//! `larder shelf`: what is stored.

mod block;
pub mod cached;
mod drop;
mod list;
mod retry;
mod show;
mod shown;
mod tree;
mod warm;

use std::collections::HashMap;

use larder_core::digest::Digest;
use larder_core::holdings::Holdings;
use larder_core::name::RepositoryName;
use larder_store::{Store, StoreError, Used};

use crate::context::{Context, now, store_if_any};
use crate::failure::{Failure, Outcome};

/// What can be asked of shelves.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    List(list::Args),
    Show(show::Args),
    Warm(warm::Args),
    Drop(drop::Args),
    Retry(retry::Args),
    Block(block::Args),
    Unblock(block::LiftArgs),
}

pub async fn run(command: Command, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_if_any(&config)?;
    match command {
        Command::List(args) => list::run(&args, &config, store.as_ref(), context).await,
        Command::Show(args) => show::run(&args, &config, store.as_ref(), context).await,
        Command::Warm(args) => warm::run(&args, &config, context).await,
        Command::Retry(args) => retry::run(&args, &config, context).await,
        Command::Block(args) => block::block(&args, &config, context).await,
        Command::Unblock(args) => block::lift(&args, &config, context).await,
        Command::Drop(args) => drop::run(&args, &config, store.as_ref(), context).await,
    }
}

/// Days over which pulls are counted.
const DAYS: i64 = 30;

/// All that is held, and how it is used.
struct House {
    holdings: Holdings,
    uses: HashMap<(RepositoryName, Digest), Used>,
}

impl House {
    /// Reads the records. Without a store everything is empty.
    async fn read(store: Option<&Store>) -> Result<Self, Failure> {
        let Some(store) = store else {
            let holdings = Holdings::new(larder_core::holdings::Records::default());
            return Ok(Self { holdings, uses: HashMap::new() });
        };
        let unreadable = |error: &StoreError| unreadable(error);
        let records = store.upkeep.records().await.map_err(|error| unreadable(&error))?;
        let from = now().div_euclid(24 * 3_600_000) - DAYS + 1;
        let uses = store.journal.uses(from).await.map_err(|error| unreadable(&error))?;
        let by_manifest =
            uses.into_iter().map(|used| ((used.repository.clone(), used.digest.clone()), used));
        Ok(Self { holdings: Holdings::new(records), uses: by_manifest.collect() })
    }

    fn used(&self, place: usize) -> Option<&Used> {
        let records = self.holdings.records();
        let row = &records.manifests[place];
        let name = records.repositories[row.repository].clone();
        self.uses.get(&(name, row.digest.clone()))
    }
}

fn unreadable(error: &StoreError) -> Failure {
    Failure::store("cannot tell what the larder holds", error)
}

/// Whether a repository is this one or lies below it.
fn lies_in(name: &RepositoryName, prefix: &RepositoryName) -> bool {
    let rest = name.as_str().strip_prefix(prefix.as_str());
    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}
