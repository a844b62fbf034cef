//! `larder intake status`: what happened to each wanted image, and when.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::digest::Digest;
use larder_core::lock::{Lock, LockedTag, Want};
use larder_core::name::{RepositoryName, Tag};
use larder_store::{IntakeRecord, Store};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, now, read_lock, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, ago, paint, time};
use crate::pick::Pick;

/// Show when each wanted image was last checked, moved and brought in, and what failed
///
/// Nobody is asked. Exit status 1 says that something failed or was never brought in.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    pick: Pick,
}

#[derive(Serialize, JsonSchema)]
struct StatusLine {
    image: String,
    tag: String,
    /// When the upstream last said what the tag points to.
    checked_at: Option<String>,
    /// When its answer last was another than before.
    moved_at: Option<String>,
    brought_in_at: Option<String>,
    to: Option<String>,
    failed_at: Option<String>,
    cause: Option<String>,
    state: IntakeState,
}

/// How it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum IntakeState {
    /// What is locked was brought in.
    InPlace,
    /// Something failed since.
    Failed,
    /// What is locked is not what was brought in.
    Outdated,
    /// It was brought in, and is not here any more: dropped, or withdrawn because its content was damaged.
    Gone,
    /// It was never brought in.
    Never,
}

/// How an image stands; `gone` are those that are not here any more.
fn state(
    want: &Want,
    record: Option<&IntakeRecord>,
    lock: &Lock,
    gone: &BTreeSet<Want>,
) -> IntakeState {
    let brought = record.and_then(|record| record.brought.as_ref());
    let locked = lock.entries.get(want).map(LockedTag::here);
    match brought {
        _ if record.is_some_and(|record| record.failed.is_some()) => IntakeState::Failed,
        None => IntakeState::Never,
        Some(_) if gone.contains(want) => IntakeState::Gone,
        Some((brought, _)) if Some(&brought.digest) == locked => IntakeState::InPlace,
        Some(_) => IntakeState::Outdated,
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let store = store_here(&config)?;
    let shown = wanted(&config, &lock, &store, Some(&args.pick)).await?;
    let gone = gone(&config, &store, &shown).await?;
    let well = shown
        .iter()
        .all(|(want, record)| state(want, record.as_ref(), &lock, &gone) == IntakeState::InPlace);
    let lines = shown.iter().map(|(want, record)| line(want, record.as_ref(), &lock, &gone));
    context.output.tell(&StatusReport { images: lines.collect(), shown, lock, gone });
    Ok(if well { Exit::Done } else { Exit::No })
}

/// All that is wanted, each with what is noted of it.
async fn wanted(
    config: &Config,
    lock: &Lock,
    store: &Store,
    pick: Option<&Pick>,
) -> Result<Vec<(Want, Option<IntakeRecord>)>, Failure> {
    let noted = store.intake().await;
    let noted = noted.map_err(|error| Failure::store("cannot read what was done", &error))?;
    let mut records: BTreeMap<Want, IntakeRecord> =
        noted.into_iter().map(|record| (record.want.clone(), record)).collect();
    let exact = config.wishes().into_iter().filter(|wish| !wish.tags.need_listing());
    let exact = exact.flat_map(|wish| {
        let image = wish.image.clone();
        wish.tags.select(&[]).into_iter().map(move |tag| Want { image: image.clone(), tag })
    });
    let all: BTreeSet<Want> = lock.entries.keys().cloned().chain(exact).collect();
    let all = all.into_iter().filter(|want| pick.is_none_or(|pick| pick.takes(&want.image)));
    Ok(all.map(|want| (want.clone(), records.remove(&want))).collect())
}

/// How everything that is wanted stands, in numbers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct IntakeCounts {
    pub wanted: usize,
    /// Those that are not here as the lock has them.
    pub missing: usize,
    /// Those that could not be brought in when that was last tried.
    pub failed: usize,
    /// Those whose tag has moved at its upstream since they were brought in.
    pub moved: usize,
}

/// Counts how everything that is wanted stands.
pub async fn counts(config: &Config, store: &Store) -> Result<IntakeCounts, Failure> {
    let lock = read_lock(config)?;
    let all = wanted(config, &lock, store, None).await?;
    let gone = gone(config, store, &all).await?;
    let mut counts = IntakeCounts { wanted: all.len(), ..IntakeCounts::default() };
    for (want, record) in &all {
        let state = state(want, record.as_ref(), &lock, &gone);
        counts.missing += usize::from(state != IntakeState::InPlace);
        counts.failed += usize::from(state == IntakeState::Failed);
        let brought = record.as_ref().and_then(|one| one.brought.as_ref()).map(|(_, at)| *at);
        let moved = record.as_ref().and_then(|one| one.moved);
        counts.moved += usize::from(moved.is_some_and(|at| brought.is_none_or(|had| at > had)));
    }
    Ok(counts)
}

/// What was brought into this larder and is not here any more.
async fn gone(
    config: &Config,
    store: &Store,
    shown: &[(Want, Option<IntakeRecord>)],
) -> Result<BTreeSet<Want>, Failure> {
    let mut here: BTreeMap<(RepositoryName, Tag), (&Want, &Digest)> = BTreeMap::new();
    for (want, record) in shown {
        let brought = record.as_ref().and_then(|record| record.brought.as_ref());
        let to = config.intake_of(&want.image).map(|intake| config.destination(intake));
        if let (Some((brought, _)), Some(to)) = (brought, to)
            && to.host == config.larder.url.host
        {
            here.insert((to.repository, want.tag.clone()), (want, &brought.digest));
        }
    }
    let tags = store.tags_named(here.keys().cloned().collect()).await;
    let tags = tags.map_err(|error| Failure::store("cannot tell what the larder holds", &error))?;
    for (repository, tag, digest) in tags {
        let key = (repository, tag);
        if here.get(&key).is_some_and(|(_, brought)| **brought == digest) {
            here.remove(&key);
        }
    }
    Ok(here.into_values().map(|(want, _)| want.clone()).collect())
}

fn line(
    want: &Want,
    record: Option<&IntakeRecord>,
    lock: &Lock,
    gone: &BTreeSet<Want>,
) -> StatusLine {
    let brought = record.and_then(|record| record.brought.as_ref());
    let failed = record.and_then(|record| record.failed.as_ref());
    StatusLine {
        image: want.image.to_string(),
        tag: want.tag.to_string(),
        checked_at: record.and_then(|record| record.checked).map(time),
        moved_at: record.and_then(|record| record.moved).map(time),
        brought_in_at: brought.map(|(_, at)| time(*at)),
        to: brought.map(|(brought, _)| format!("{}:{}", brought.to, want.tag)),
        failed_at: failed.map(|(_, at)| time(*at)),
        cause: failed.map(|(cause, _)| cause.clone()),
        state: state(want, record, lock, gone),
    }
}

#[derive(Serialize, JsonSchema)]
pub struct StatusReport {
    images: Vec<StatusLine>,
    #[serde(skip)]
    shown: Vec<(Want, Option<IntakeRecord>)>,
    #[serde(skip)]
    lock: Lock,
    #[serde(skip)]
    gone: BTreeSet<Want>,
}

impl Report for StatusReport {
    const KIND: &'static str = "intake-status";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(StatusReport { shown, lock, gone, .. }: &StatusReport, out: &Output) {
    if shown.is_empty() {
        out.result("nothing is wanted; `larder intake add REFERENCE` wants an image");
        return;
    }
    let at = now();
    let when = |time: Option<i64>| time.map_or_else(|| paint(DIM, "never"), |time| ago(time, at));
    let mut table = Table::new(out.width(), &["IMAGE", "CHECKED", "MOVED", "BROUGHT IN", "STATE"])
        .sparing(&["CHECKED", "MOVED"]);
    for (want, record) in shown {
        let record = record.as_ref();
        let brought = record.and_then(|record| record.brought.as_ref()).map(|(_, at)| *at);
        let failed = record.and_then(|record| record.failed.as_ref()).map_or(0, |(_, at)| *at);
        let state = match state(want, record, lock, gone) {
            IntakeState::InPlace => paint(GOOD, "in place"),
            IntakeState::Failed => paint(BAD, format!("failed {}; see below", ago(failed, at))),
            IntakeState::Outdated => paint(WARN, "locked anew; not brought in yet"),
            IntakeState::Gone => paint(BAD, "not here any more; `larder intake run` brings it"),
            IntakeState::Never => paint(WARN, "not brought in yet"),
        };
        table.row([
            format!("{}:{}", want.image, want.tag),
            when(record.and_then(|record| record.checked)),
            when(record.and_then(|record| record.moved)),
            when(brought),
            state,
        ]);
    }
    out.table(&table);
    for (want, record) in shown {
        if let Some((cause, _)) = record.as_ref().and_then(|record| record.failed.as_ref()) {
            out.note(format!("{}:{} failed: {cause}", want.image, want.tag));
        }
    }
}
