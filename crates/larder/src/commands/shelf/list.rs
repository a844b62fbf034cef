//! `larder shelf list`: the shelves and what each holds.

use std::collections::BTreeMap;

use larder_store::Store;
use serde::Serialize;

use super::unreadable;
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::output::{Table, ago, bytes, count};

/// List the shelves and what each holds
#[derive(Debug, clap::Args)]
pub struct Args {
    /// In which order: name, size, pulled
    #[arg(
        long,
        value_enum,
        value_name = "BY",
        default_value = "name",
        hide_possible_values = true
    )]
    sort: Order,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Order {
    Name,
    Size,
    Pulled,
}

#[derive(Serialize, Default)]
struct Shelf {
    name: String,
    repositories: u64,
    tags: u64,
    /// What its images take, in bytes; what several share counts once.
    content: u64,
    /// The sizes of its images added up, in bytes: without sharing.
    apart: u64,
    /// What nothing but its images uses, in bytes.
    alone: u64,
    /// When a tag was last set. None: never.
    since: Option<String>,
    /// When an image was last asked for. None: never.
    pulled: Option<String>,
    /// How often its manifests were fetched in the last 30 days.
    pulls: u64,
    #[serde(skip)]
    changed: Option<i64>,
    #[serde(skip)]
    last: Option<i64>,
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let totals =
        store.shelf_totals(super::first_day()).await.map_err(|error| unreadable(&error))?;
    let mut shelves: BTreeMap<String, Shelf> = config
        .storing_shelves()
        .into_iter()
        .map(|name| (name.clone(), Shelf { name, ..Shelf::default() }))
        .collect();
    for one in totals {
        let shelf = Shelf {
            name: one.shelf.clone(),
            repositories: one.repositories,
            tags: one.tags,
            content: one.bytes,
            apart: one.apart,
            alone: one.alone,
            since: one.changed.map(crate::output::time),
            pulled: one.pulled.map(crate::output::time),
            pulls: one.pulls,
            changed: one.changed,
            last: one.pulled,
        };
        shelves.insert(one.shelf, shelf);
    }
    let mut shelves: Vec<Shelf> = shelves.into_values().collect();
    match args.sort {
        Order::Name => {}
        Order::Size => shelves.sort_by_key(|shelf| std::cmp::Reverse(shelf.content)),
        Order::Pulled => shelves.sort_by_key(|shelf| std::cmp::Reverse(shelf.last)),
    }
    if context.output.json {
        context.output.document(&shelves);
        return Ok(Exit::Done);
    }
    if shelves.is_empty() {
        context.output.result(
            "there are no shelves; an intake entry or a [[shelf]] in larder.toml makes one",
        );
        return Ok(Exit::Done);
    }
    let mut table = Table::new(
        context.output.width(),
        &[
            "SHELF",
            "REPOSITORIES",
            "TAGS",
            "SIZE",
            "UNSHARED",
            "LAST CHANGE",
            "LAST PULL",
            "PULLS IN 30 DAYS",
        ],
    );
    let age = |at: Option<i64>| at.map_or_else(|| "never".to_owned(), |at| ago(at, now()));
    for shelf in &shelves {
        table.row([
            shelf.name.clone(),
            shelf.repositories.to_string(),
            shelf.tags.to_string(),
            bytes(shelf.content),
            bytes(shelf.apart),
            age(shelf.changed),
            age(shelf.last),
            shelf.pulls.to_string(),
        ]);
    }
    context.output.result(table.text());
    let (_, all) =
        store.unfinished(std::time::Duration::ZERO).await.map_err(|error| unreadable(&error))?;
    if all.bytes > 0 {
        context.output.note(format!(
            "{} take {}; `larder store collect --uploads` frees those that nobody goes on with",
            count(all.uploads, "unfinished upload"),
            bytes(all.bytes)
        ));
    }
    context
        .output
        .note("UNSHARED is what the images would take if each had its layers for itself.");
    Ok(Exit::Done)
}
