//! `larder shelf list`: the shelves and what each holds.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::holdings::Place;
use larder_store::Store;
use serde::Serialize;

use super::House;
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::output::{Table, ago, bytes};

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
    repositories: usize,
    tags: usize,
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
    #[serde(skip)]
    images: BTreeSet<Place>,
}

pub async fn run(
    args: &Args,
    config: &Config,
    store: Option<&Store>,
    context: &Context,
) -> Outcome {
    let house = House::read(store).await?;
    let mut shelves: BTreeMap<String, Shelf> = config
        .storing_shelves()
        .into_iter()
        .map(|name| (name.clone(), Shelf { name, ..Shelf::default() }))
        .collect();
    let records = house.holdings.records();
    let mut shelf_of = |repository: usize| -> String {
        let name = records.repositories[repository].first_component().to_owned();
        shelves
            .entry(name.clone())
            .or_insert_with(|| Shelf { name: name.clone(), ..Shelf::default() });
        name
    };
    let names: Vec<String> = (0..records.repositories.len()).map(&mut shelf_of).collect();
    let mut repositories: BTreeMap<&str, BTreeSet<usize>> = BTreeMap::new();
    for (place, row) in records.manifests.iter().enumerate() {
        let name = names[row.repository].as_str();
        repositories.entry(name).or_default().insert(row.repository);
        let Some(shelf) = shelves.get_mut(name) else { continue };
        shelf.images.insert(place);
        // A node fetches an index and one of its platforms: that is one pull.
        let is_part = house.holdings.is_listed(place);
        if let Some(used) = house.used(place).filter(|_| !is_part) {
            shelf.pulls += used.pulls;
            shelf.last = shelf.last.max(Some(used.last));
        }
    }
    for row in &records.tags {
        let Some(shelf) = shelves.get_mut(&names[row.repository]) else { continue };
        shelf.tags += 1;
        shelf.changed = shelf.changed.max(Some(row.since));
    }
    let mut shelves: Vec<Shelf> = shelves.into_values().collect();
    for shelf in &mut shelves {
        shelf.repositories = repositories.get(shelf.name.as_str()).map_or(0, BTreeSet::len);
        let images: Vec<Place> = shelf.images.iter().copied().collect();
        let tagged: Vec<Place> = images
            .iter()
            .copied()
            .filter(|place| house.holdings.tags_of(*place).next().is_some())
            .collect();
        let volume = house.holdings.volume(&images);
        shelf.content = volume.together;
        shelf.alone = volume.alone;
        shelf.apart = house.holdings.volume(&tagged).apart;
        shelf.since = shelf.changed.map(crate::output::time);
        shelf.pulled = shelf.last.map(crate::output::time);
    }
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
    context
        .output
        .note("UNSHARED is what the images would take if each had its layers for itself.");
    Ok(Exit::Done)
}
