//! `larder advisory list`: what was taken in.

use larder_core::advisory::Severity;
use larder_store::{Feed, ListedAdvisory};
use schemars::JsonSchema;
use serde::Serialize;

use super::import::with_feeds;
use crate::context::{Context, now, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, Output, Report, Table, WARN, ago, count, paint, time};

/// List the advisories that were taken in, the newest first, with how many images each touches
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// Only those of this feed
    #[arg(long, value_name = "NAME")]
    feed: Option<String>,
    /// Only those that are at least so severe: low, medium, high, critical
    #[arg(long, value_name = "SEVERITY", default_value = "unknown", hide_default_value = true)]
    least: Severity,
    /// Also those that touch no image of this larder
    #[arg(long)]
    all: bool,
    /// So many of them
    #[arg(long, value_name = "COUNT", default_value_t = 100)]
    limit: usize,
    /// List the feeds alone
    #[arg(long)]
    feeds: bool,
}

/// Advisories, and the feeds that they came in.
#[derive(Serialize, JsonSchema)]
pub struct AdvisoriesReport {
    feeds: Vec<FeedRow>,
    advisories: Vec<AdvisoryRow>,
    /// Images that were not read whole, so that more may be in them. null: it was not asked.
    not_read: Option<u64>,
    #[serde(skip)]
    only_feeds: bool,
    #[serde(skip)]
    all: bool,
}

/// Advisories that were taken in together.
#[derive(Serialize, JsonSchema, Clone)]
pub struct FeedRow {
    name: String,
    /// The files that it came from.
    origin: String,
    /// Of what was read last.
    digest: String,
    imported_at: String,
    /// When the newest of it was changed. null: it has none.
    newest_at: Option<String>,
    advisories: u64,
    /// Those that name no package of an ecosystem that is known.
    unmatched: u64,
    /// Whether what its statements hide counts as hidden.
    own: bool,
    #[serde(skip)]
    at: i64,
    #[serde(skip)]
    newest: i64,
}

#[derive(Serialize, JsonSchema)]
struct AdvisoryRow {
    id: String,
    feed: String,
    /// `unknown`, `none`, `low`, `medium`, `high`, `critical`.
    severity: &'static str,
    modified_at: String,
    /// Packages of ours that it is about, each version counted.
    packages: u64,
    /// Images that have one of them.
    images: u64,
    #[serde(skip)]
    modified: i64,
}

impl FeedRow {
    pub fn of(feed: &Feed) -> Self {
        Self {
            name: feed.name.clone(),
            origin: feed.origin.clone(),
            digest: feed.digest.clone(),
            imported_at: time(feed.imported_at),
            newest_at: (feed.newest > 0).then(|| time(feed.newest)),
            advisories: feed.advisories,
            unmatched: feed.unmatched,
            own: feed.is_trusted,
            at: feed.imported_at,
            newest: feed.newest,
        }
    }

    /// How old it is, for people.
    pub fn line(&self) -> String {
        let newest = match self.newest {
            0 => String::new(),
            newest => format!(", its newest {}", ago(newest, now())),
        };
        let number = match self.advisories {
            1 => "1 advisory".to_owned(),
            number => format!("{number} advisories"),
        };
        format!("{}: {number}, taken in {}{newest}", self.name, ago(self.at, now()))
    }
}

impl AdvisoryRow {
    fn of(one: ListedAdvisory) -> Self {
        Self {
            id: one.name,
            feed: one.feed,
            severity: one.severity.word(),
            modified_at: time(one.modified),
            packages: one.packages,
            images: one.images,
            modified: one.modified,
        }
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = "cannot list the advisories";
    let feeds = with_feeds(&store, what).await?;
    let failed = |error| Failure::store(what, &error);
    if !args.feeds {
        store.note_held().await.map_err(failed)?;
    }
    let advisories = match args.feeds {
        true => Vec::new(),
        false => {
            let feed = args.feed.clone();
            store.list_advisories(feed, args.least, !args.all, args.limit).await.map_err(failed)?
        }
    };
    let not_read = match args.feeds {
        true => None,
        false => Some(store.not_whole(0).await.map_err(failed)?.0),
    };
    let report = AdvisoriesReport {
        not_read,
        feeds: feeds.iter().map(FeedRow::of).collect(),
        advisories: advisories.into_iter().map(AdvisoryRow::of).collect(),
        only_feeds: args.feeds,
        all: args.all,
    };
    context.output.tell(&report);
    Ok(Exit::Done)
}

/// That there may be more, where images were not read whole.
pub fn told_not_read(number: u64) -> Option<String> {
    let images = count(usize::try_from(number).unwrap_or(usize::MAX), "image");
    let told = paint(WARN, "not read whole");
    let remedy = "`larder inventory --fill` reads layers";
    (number > 0).then(|| format!("{told}: {images}, which may have more; {remedy}"))
}

impl Report for AdvisoriesReport {
    const KIND: &'static str = "advisories";

    fn show(&self, out: &Output) {
        if self.only_feeds {
            let columns = ["FEED", "ADVISORIES", "TAKEN IN", "NEWEST", "OWN", "FROM"];
            let mut table = Table::new(out.width(), &columns).sparing(&["FROM", "OWN"]);
            for feed in &self.feeds {
                let newest =
                    if feed.newest == 0 { "-".to_owned() } else { ago(feed.newest, now()) };
                table.row([
                    feed.name.clone(),
                    feed.advisories.to_string(),
                    ago(feed.at, now()),
                    newest,
                    if feed.own { "yes".to_owned() } else { String::new() },
                    feed.origin.clone(),
                ]);
            }
            return out.table(&table);
        }
        if self.advisories.is_empty() {
            out.result(match self.not_read {
                Some(0) => "no advisory touches an image of this larder",
                _ => "no advisory touches what was read of the images of this larder",
            });
        } else {
            let columns = ["ADVISORY", "SEVERITY", "IMAGES", "PACKAGES", "CHANGED", "FEED"];
            let mut table = Table::new(out.width(), &columns).sparing(&["FEED", "PACKAGES"]);
            for row in &self.advisories {
                table.row([
                    row.id.clone(),
                    row.severity.to_owned(),
                    row.images.to_string(),
                    row.packages.to_string(),
                    ago(row.modified, now()),
                    row.feed.clone(),
                ]);
            }
            out.table(&table);
        }
        if let Some(told) = self.not_read.and_then(told_not_read) {
            out.result(told);
        }
        for feed in &self.feeds {
            out.note(paint(DIM, feed.line()));
        }
        if !self.all {
            out.note(paint(DIM, "`--all` also lists those that touch no image here"));
        }
    }
}
