//! `larder shelf`: what is stored.

pub(super) mod block;
pub mod cached;
pub(super) mod drop;
mod known_use;
pub(super) mod list;
mod named;
pub(super) mod retry;
pub(super) mod show;
pub(super) mod shown;
pub mod tidy;
pub(super) mod tree;
pub(super) mod users;
pub(super) mod warm;

pub use known_use::{KnownUse, Named, UseWish, UsesBy};
pub use named::{NamedRepositories, read as named_images};

use std::collections::HashMap;

use larder_core::digest::Digest;
use larder_core::holdings::Holdings;
use larder_core::name::RepositoryName;
use larder_store::{ManifestUse, Store, StoreError};

use crate::context::{Context, now, store_here};
use crate::failure::{Failure, Outcome};

/// What can be asked of shelves.
#[derive(Debug, clap::Subcommand)]
pub enum ShelfCommand {
    List(list::Args),
    Show(show::Args),
    Warm(warm::Args),
    Drop(drop::Args),
    Tidy(tidy::Args),
    Users(users::Args),
    Retry(retry::Args),
    Block(block::Args),
    Unblock(block::LiftArgs),
}

pub async fn run(command: ShelfCommand, context: &Context) -> Outcome {
    let config = context.config()?;
    match command {
        ShelfCommand::List(args) => list::run(&args, &config, &store_here(&config)?, context).await,
        ShelfCommand::Show(args) => show::run(&args, &config, &store_here(&config)?, context).await,
        ShelfCommand::Warm(args) => warm::run(&args, &config, context).await,
        ShelfCommand::Retry(args) => retry::run(&args, &config, context).await,
        ShelfCommand::Block(args) => block::block(&args, &config, context).await,
        ShelfCommand::Unblock(args) => block::lift(&args, &config, context).await,
        ShelfCommand::Tidy(args) => tidy::run(&args, &config, &store_here(&config)?, context).await,
        ShelfCommand::Users(args) => {
            users::run(&args, &config, &store_here(&config)?, context).await
        }
        ShelfCommand::Drop(args) => drop::run(&args, &config, &store_here(&config)?, context).await,
    }
}

/// Days over which pulls are counted.
const DAYS: i64 = 30;

/// Days over which pulls are counted, as the first of them.
fn first_day() -> i64 {
    now().div_euclid(24 * 3_600_000) - DAYS + 1
}

/// What some repositories hold, and how it is used.
struct House {
    holdings: Holdings,
    uses: HashMap<(RepositoryName, Digest), ManifestUse>,
}

impl House {
    /// Reads the records of some repositories.
    async fn of(store: &Store, names: Vec<RepositoryName>) -> Result<Self, Failure> {
        let mut uses = HashMap::new();
        for name in &names {
            let used = store.uses(name, first_day()).await.map_err(|error| unreadable(&error))?;
            uses.extend(used.into_iter().map(|used| ((name.clone(), used.digest.clone()), used)));
        }
        let records = store.holdings(names).await.map_err(|error| unreadable(&error))?;
        Ok(Self { holdings: Holdings::new(records), uses })
    }

    fn used(&self, place: usize) -> Option<&ManifestUse> {
        let records = self.holdings.records();
        let row = &records.manifests[place];
        let name = records.repositories[row.repository].clone();
        self.uses.get(&(name, row.digest.clone()))
    }
}

fn unreadable(error: &StoreError) -> Failure {
    Failure::store("cannot tell what the larder holds", error)
}
