//! `larder shelf list`: the shelves and what each holds.

use std::collections::BTreeMap;

use larder_core::shown::shown;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::unreadable;
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::output::{Output, Report, Table, WARN, ago, bytes, count, paint};

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
    /// What accounts pushed and what of it is still held, where a quota of accounts is written.
    accounts: Vec<AccountRow>,
}

/// What an account has on a shelf.
#[derive(Serialize, JsonSchema)]
struct AccountRow {
    shelf: String,
    account: String,
    size_bytes: u64,
    quota_bytes: u64,
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
    /// How much it may hold. null: as much as there is room for.
    quota_bytes: Option<u64>,
    /// How much each of its repositories may hold. null: as much as the shelf.
    repository_quota_bytes: Option<u64>,
    /// What counts against the quota: what its images take, and what was pushed and belongs to no image yet.
    quota_used_bytes: u64,
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
            "QUOTA",
            "UNSHARED",
            "LAST CHANGE",
            "LAST PULL",
            "PULLS IN 30 DAYS",
        ];
        let limited = self.shelves.iter().any(|shelf| shelf.quota_bytes.is_some());
        let columns: Vec<&str> =
            columns.into_iter().filter(|name| limited || *name != "QUOTA").collect();
        let mut table = Table::new(out.width(), &columns).sparing(&[
            "PULLS IN 30 DAYS",
            "REPOSITORIES",
            "UNSHARED",
            "LAST CHANGE",
        ]);
        let age = |at: Option<i64>| at.map_or_else(|| "never".to_owned(), |at| ago(at, now()));
        for shelf in &self.shelves {
            let quota = shelf.quota_bytes.map(|most| {
                let text = format!("{}% of {}", percent(shelf.quota_used_bytes, most), bytes(most));
                if shelf.quota_used_bytes >= most / 10 * 9 { paint(WARN, text) } else { text }
            });
            let mut cells = vec![
                shelf.name.clone(),
                shelf.repositories.to_string(),
                shelf.tags.to_string(),
                bytes(shelf.size_bytes),
            ];
            cells.extend(limited.then(|| quota.unwrap_or_else(|| "-".to_owned())));
            cells.extend([
                bytes(shelf.unshared_bytes),
                age(shelf.changed),
                age(shelf.pulled),
                shelf.pulls_in_30_days.to_string(),
            ]);
            table.row(cells);
        }
        out.table(&table);
        for one in &self.accounts {
            let used = format!("{} of {}", bytes(one.size_bytes), bytes(one.quota_bytes));
            out.note(format!("{} holds {used} in {}", shown(&one.account), one.shelf));
        }
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

/// How much of a whole, in whole per cent.
fn percent(part: u64, whole: u64) -> u64 {
    (u128::from(part) * 100 / u128::from(whole.max(1))).try_into().unwrap_or(u64::MAX)
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
            quota_used_bytes: one.bytes + one.loose,
            changed: one.changed,
            pulled: one.pulled,
            ..ShelfRow::default()
        };
        shelves.insert(one.shelf, shelf);
    }
    let quotas = config.quotas();
    for (name, quota) in quotas.iter() {
        if let Some(row) = shelves.get_mut(name) {
            (row.quota_bytes, row.repository_quota_bytes) = (quota.shelf, quota.repository);
        }
    }
    let held = store.account_bytes().await.map_err(|error| unreadable(&error))?;
    let accounts = held.into_iter().filter_map(|(shelf, account, size_bytes)| {
        let (_, quota) = quotas.iter().find(|(name, _)| *name == shelf)?;
        Some(AccountRow { quota_bytes: quota.account?, shelf, account, size_bytes })
    });
    let accounts = accounts.collect();
    let mut shelves: Vec<ShelfRow> = shelves.into_values().collect();
    match args.sort {
        ListOrder::Name => {}
        ListOrder::Size => shelves.sort_by_key(|shelf| std::cmp::Reverse(shelf.size_bytes)),
        ListOrder::Pulled => shelves.sort_by_key(|shelf| std::cmp::Reverse(shelf.pulled)),
    }
    let (_, all) =
        store.unfinished(std::time::Duration::ZERO).await.map_err(|error| unreadable(&error))?;
    let (unfinished_uploads, unfinished_bytes) = (all.uploads, all.bytes);
    context.output.tell(&ShelvesReport { shelves, unfinished_uploads, unfinished_bytes, accounts });
    Ok(Exit::Done)
}
