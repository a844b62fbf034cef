//! `larder shelf list`: the shelves and what each holds.

use std::collections::BTreeMap;

use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::unreadable;
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::output::{Output, Report, Table, ago, bytes, count};

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
    sort: ListOrder,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum ListOrder {
    Name,
    Size,
    Pulled,
}

#[derive(Serialize, JsonSchema)]
pub struct ShelvesReport {
    shelves: Vec<ShelfRow>,
    /// Uploads that were begun and not finished.
    unfinished_uploads: usize,
    unfinished_bytes: u64,
}

#[derive(Serialize, JsonSchema, Default)]
struct ShelfRow {
    name: String,
    repositories: u64,
    tags: u64,
    /// What its images take; a layer that several share counts once.
    size_bytes: u64,
    /// What they would take if each image had its layers for itself.
    unshared_bytes: u64,
    /// What nothing but its images uses: what dropping all of them would free.
    exclusive_bytes: u64,
    /// When a tag was last set. None: never.
    changed_at: Option<String>,
    /// When an image was last asked for. None: never.
    pulled_at: Option<String>,
    /// How often its manifests were fetched.
    pulls_in_30_days: u64,
    #[serde(skip)]
    changed: Option<i64>,
    #[serde(skip)]
    pulled: Option<i64>,
}

impl Report for ShelvesReport {
    const KIND: &'static str = "shelves";

    fn show(&self, out: &Output) {
        if self.shelves.is_empty() {
            out.result(
                "there are no shelves; an intake entry or a [[shelf]] in larder.toml makes one",
            );
            return;
        }
        let columns = [
            "SHELF",
            "REPOSITORIES",
            "TAGS",
            "SIZE",
            "UNSHARED",
            "LAST CHANGE",
            "LAST PULL",
            "PULLS IN 30 DAYS",
        ];
        let mut table = Table::new(out.width(), &columns).sparing(&[
            "PULLS IN 30 DAYS",
            "REPOSITORIES",
            "UNSHARED",
            "LAST CHANGE",
        ]);
        let age = |at: Option<i64>| at.map_or_else(|| "never".to_owned(), |at| ago(at, now()));
        for shelf in &self.shelves {
            table.row([
                shelf.name.clone(),
                shelf.repositories.to_string(),
                shelf.tags.to_string(),
                bytes(shelf.size_bytes),
                bytes(shelf.unshared_bytes),
                age(shelf.changed),
                age(shelf.pulled),
                shelf.pulls_in_30_days.to_string(),
            ]);
        }
        out.table(&table);
        if self.unfinished_bytes > 0 {
            out.note(format!(
                "{} take {}; `larder store collect --uploads` removes those that nobody resumes",
                count(self.unfinished_uploads, "unfinished upload"),
                bytes(self.unfinished_bytes)
            ));
        }
        out.note("UNSHARED is what the images would take if each had its layers for itself.");
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let totals =
        store.shelf_totals(super::first_day()).await.map_err(|error| unreadable(&error))?;
    let mut shelves: BTreeMap<String, ShelfRow> = config
        .storing_shelves()
        .into_iter()
        .map(|name| (name.clone(), ShelfRow { name, ..ShelfRow::default() }))
        .collect();
    for one in totals {
        let shelf = ShelfRow {
            name: one.shelf.clone(),
            repositories: one.repositories,
            tags: one.tags,
            size_bytes: one.bytes,
            unshared_bytes: one.apart,
            exclusive_bytes: one.alone,
            changed_at: one.changed.map(crate::output::time),
            pulled_at: one.pulled.map(crate::output::time),
            pulls_in_30_days: one.pulls,
            changed: one.changed,
            pulled: one.pulled,
        };
        shelves.insert(one.shelf, shelf);
    }
    let mut shelves: Vec<ShelfRow> = shelves.into_values().collect();
    match args.sort {
        ListOrder::Name => {}
        ListOrder::Size => shelves.sort_by_key(|shelf| std::cmp::Reverse(shelf.size_bytes)),
        ListOrder::Pulled => shelves.sort_by_key(|shelf| std::cmp::Reverse(shelf.pulled)),
    }
    let (_, all) =
        store.unfinished(std::time::Duration::ZERO).await.map_err(|error| unreadable(&error))?;
    let (unfinished_uploads, unfinished_bytes) = (all.uploads, all.bytes);
    context.output.tell(&ShelvesReport { shelves, unfinished_uploads, unfinished_bytes });
    Ok(Exit::Done)
}
