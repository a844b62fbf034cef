//! The retention carried out by `larder serve`, at its time, by rules that a person carried out once.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::quantity::{Size, Span};
use larder_core::schedule::Schedule;
use larder_server::App;
use larder_store::{Store, StoreError};
use tokio::sync::watch;

use super::super::named::{self, NamedRepositories};
use super::super::unreadable;
use super::keeper::{Keeper, LAG, remove};
use super::{TidiedImage, TidyReport};
use crate::config::Config;
use crate::context::now;
use crate::failure::Failure;

/// By which rules a person let images go.
pub const AGREED: &str = "tidy/agreed";
/// When `serve` tidied last, and what came of it.
pub const LAST: &str = "tidy/last";
/// What waits for a person, by shelf.
pub const WAITING: &str = "tidy/waiting/";
/// The log shows what the server says.
const TARGET: &str = "larder_server::tidy";
/// A plan that takes more of a shelf than one in so many of its bytes waits for a person.
const SHARE: u64 = 5;
/// How often it is looked whether it is time.
const LOOK: Duration = Duration::from_secs(20);
/// How long after it came or was pulled anything stays.
const GRACE: Span = Span(Duration::from_secs(24 * 3600));

/// What the rules say, wherever they stand.
pub fn rules_of(config: &Config) -> String {
    let keeps = config.keeps.iter();
    let all = keeps.map(|keep| format!("{} {:?}", keep.rule.canonical(), keep.surveys));
    let all: Vec<String> = all.collect();
    Digest::of(format!("{:?} {:?}", config.larder.in_use, all).as_bytes()).to_string()
}

/// Notes that a person let go what these rules let go, and that nothing waits any more.
pub(super) async fn agree(config: &Config, store: &Store) -> Result<(), Failure> {
    let agree = async {
        store.set_mark(AGREED, &rules_of(config)).await?;
        for mark in store.marks(WAITING).await? {
            store.remove_mark(&mark.name).await?;
        }
        Ok::<(), StoreError>(())
    };
    agree.await.map_err(|error| unreadable(&error))
}

/// Tidies at the times that the configuration says, for as long as the larder serves.
pub async fn watch(app: &App, mut configs: watch::Receiver<Arc<Config>>) {
    let mut since = now();
    if let Ok(Some(last)) = app.store.mark(LAST).await {
        since = last.at;
    }
    loop {
        let config = Arc::clone(&configs.borrow_and_update());
        let due = config.larder.tidy.map(|schedule: Schedule| schedule.after(since));
        if due.is_some_and(|due| due <= now()) {
            since = now();
            match tidy(&config, &app.store).await {
                Ok(done) => tracing::info!(target: TARGET, "{done}"),
                Err(failure) => {
                    let (what, cause) = (failure.what, failure.cause);
                    tracing::error!(target: TARGET, cause, "{what}");
                }
            }
        }
        tokio::select! {
            changed = configs.changed() => if changed.is_err() {
                std::future::pending::<()>().await;
            },
            () = tokio::time::sleep(LOOK) => {}
        }
    }
}

/// A shelf's part of the plan.
#[derive(Default)]
struct ShelfPlan {
    going: Vec<(RepositoryName, Vec<TidiedImage>)>,
    gone: u64,
    all: u64,
}

/// Tidies once, and says what came of it.
async fn tidy(config: &Config, store: &Store) -> Result<String, Failure> {
    let failed = |error: StoreError| unreadable(&error);
    let Some(lease) = store.acquire("tidy").await.map_err(failed)? else {
        return Ok("another larder tidies".to_owned());
    };
    let done = match store.mark(AGREED).await.map_err(failed)? {
        Some(agreed) if agreed.value == rules_of(config) => carry_out(config, store).await,
        _ => Ok("nothing was tidied: nobody has carried these [[keep]] out yet with `larder shelf tidy --yes`".to_owned()),
    };
    let said = match &done {
        Ok(done) => done.clone(),
        Err(failure) => format!("{}: {}", failure.what, failure.cause),
    };
    store.set_mark(LAST, &said).await.map_err(failed)?;
    lease.release().await.map_err(failed)?;
    done
}

async fn carry_out(config: &Config, store: &Store) -> Result<String, Failure> {
    let keeper = Keeper::new(config, store, GRACE).await?;
    let everything = named::read("**", config, "cannot tidy the shelves")?;
    let mut repositories = NamedRepositories::new(store, &everything, true);
    let mut shelves: BTreeMap<String, ShelfPlan> = BTreeMap::new();
    while let Some(page) = repositories.next().await? {
        for name in page {
            if config.cached_shelf(name.first_component()).is_some() {
                continue;
            }
            let looked = keeper.look(&name, store).await?;
            let shelf = shelves.entry(name.first_component().to_owned()).or_default();
            shelf.gone += looked.weight.0;
            shelf.all += looked.weight.1;
            if !looked.going.is_empty() {
                shelf.going.push((name, looked.going));
            }
        }
    }
    let mut waiting = Vec::new();
    let mut going = Vec::new();
    for (shelf, plan) in shelves {
        let mark = format!("{WAITING}{shelf}");
        let marked = if plan.gone > plan.all / SHARE {
            let (gone, all) = (Size(plan.gone), Size(plan.all));
            let images: usize = plan.going.iter().map(|(_, images)| images.len()).sum();
            waiting.push(shelf);
            store.set_mark(&mark, &format!("{images} images, {gone} of {all}")).await
        } else {
            going.extend(plan.going);
            store.remove_mark(&mark).await.map(drop)
        };
        marked.map_err(|error| unreadable(&error))?;
    }
    let mut report = TidyReport::default();
    if !going.is_empty() {
        tokio::time::sleep(LAG).await;
        remove(&going, GRACE, config, store, &mut report).await?;
    }
    let freed = Size(report.freed_bytes);
    let mut said = format!("{} images gone; a collection frees {freed}", report.removed.len());
    if !waiting.is_empty() {
        let shelves = waiting.join(", ");
        said.push_str(&format!("; what goes of {shelves} waits for `larder shelf tidy --yes`"));
    }
    Ok(said)
}
