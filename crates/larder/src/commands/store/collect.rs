//! `larder store collect`: free what nothing refers to.

use std::time::Duration;

use larder_core::quantity::Span;
use larder_store::RecordKind;
use larder_store::{AbandonedUploads, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use super::failed;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::marks;
use crate::output::{Output, Report, bytes, count};
use crate::record;

/// Free the blobs that nothing refers to
///
/// It runs beside pushes and pulls: what came or was last needed within the grace time stays.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// How long something must have been unused
    #[arg(long, value_name = "SPAN", default_value = super::GRACE)]
    grace: Span,
    /// Unfinished uploads too that nobody has written to for a while
    #[arg(long)]
    uploads: bool,
    /// With `--uploads`: how long nobody must have written to one
    #[arg(long, value_name = "SPAN", default_value = "1h", requires = "uploads")]
    older: Span,
    /// Say what would be freed, and free nothing
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct CollectReport {
    /// Whether nothing was freed.
    dry_run: bool,
    /// Blobs that a repository had and nothing in it needs.
    unlinked: u64,
    /// Contents that are freed.
    blobs: u64,
    /// Their sizes together.
    freed_bytes: u64,
    /// Uploads that nobody resumed.
    uploads: usize,
    /// Their sizes together.
    upload_bytes: u64,
    /// Unfinished uploads that stay.
    unfinished_uploads: usize,
    /// Their sizes together.
    unfinished_bytes: u64,
    /// How old what is freed had to be, as it was asked.
    #[serde(skip)]
    grace: Span,
    /// How old uploads had to be. None: they were not asked for.
    #[serde(skip)]
    older: Option<Span>,
}

/// Blobs that are freed in one change.
const TOGETHER: usize = 1000;

pub async fn run(args: &Args, store: &Store, context: &Context) -> Outcome {
    let grace = args.grace.0;
    let before = now() - i64::try_from(grace.as_millis()).unwrap_or(i64::MAX);
    // Uploads that nobody has resumed for a day are given up in any case.
    let older = if args.uploads { args.older.0 } else { larder_store::ABANDONED.max(grace) };
    let progress = context.output.progress();
    progress.say(if args.dry_run { "looking" } else { "collecting" });
    let mut report = CollectReport {
        dry_run: args.dry_run,
        grace: args.grace,
        older: args.uploads.then_some(args.older),
        ..CollectReport::default()
    };
    if args.dry_run {
        look(&mut report, store, before, grace, older).await.map_err(|error| failed(&error))?;
    } else {
        let lease = store.acquire("collect").await.map_err(|error| failed(&error))?;
        let Some(lease) = lease else {
            let cause = "another collection is under way";
            return Err(Failure::usage("cannot collect", cause, "wait for it").ending(Exit::No));
        };
        // On a full disk the records could not be written: what is kept aside for that makes room.
        store.use_spare().await.map_err(|error| failed(&error))?;
        let collected = collect(&mut report, store, before, grace, older).await;
        store.keep_spare().await;
        lease.release().await.map_err(|error| failed(&error))?;
        collected.map_err(|error| failed(&error))?;
        note(store, &report).await?;
    }
    progress.done();
    context.output.tell(&report);
    Ok(Exit::Done)
}

/// Writes down what was removed.
async fn note(store: &Store, report: &CollectReport) -> Result<(), Failure> {
    let (freed, blobs) = (bytes(report.freed_bytes), report.blobs);
    let text = format!("freed {freed} in {blobs} blobs and {} uploads", report.uploads);
    marks::note(store, marks::COLLECT, &text).await;
    if blobs == 0 && report.uploads == 0 && report.unlinked == 0 {
        return Ok(());
    }
    let entry = record::entry(RecordKind::Collect, "the store", &text);
    record::note(store, vec![entry]).await.map_err(|error| failed(&error))
}

async fn look(
    report: &mut CollectReport,
    store: &Store,
    before: i64,
    grace: Duration,
    older: Duration,
) -> Result<(), StoreError> {
    report.unlinked = store.idle(before).await?;
    (report.blobs, report.freed_bytes) = store.collectable(before).await?;
    for part in 0..=u8::MAX {
        let (strays, bytes) = store.collect_strays(part, grace, true).await?;
        report.blobs += strays;
        report.freed_bytes += bytes;
    }
    let (old, all) = store.unfinished(older).await?;
    (report.uploads, report.upload_bytes) = (old.uploads, old.bytes);
    stay(report, all);
    report.unfinished_uploads -= old.uploads.min(report.unfinished_uploads);
    report.unfinished_bytes -= old.bytes.min(report.unfinished_bytes);
    Ok(())
}

async fn collect(
    report: &mut CollectReport,
    store: &Store,
    before: i64,
    grace: Duration,
    older: Duration,
) -> Result<(), StoreError> {
    // What frees most with least to write comes first.
    let gone = store.remove_abandoned(older).await?;
    (report.uploads, report.upload_bytes) = (gone.uploads, gone.bytes);
    report.unlinked = store.unlink_idle(before).await? as u64;
    loop {
        let condemned = store.condemn(before, TOGETHER).await?;
        if condemned.is_empty() {
            break;
        }
        let freed = store.free(condemned).await?;
        report.blobs += freed.len() as u64;
        report.freed_bytes += freed.iter().map(|(_, size)| size).sum::<u64>();
    }
    for part in 0..=u8::MAX {
        let (strays, bytes) = store.collect_strays(part, grace, false).await?;
        report.blobs += strays;
        report.freed_bytes += bytes;
    }
    store.forget_inventories().await?;
    let (_, all) = store.unfinished(older).await?;
    stay(report, all);
    Ok(())
}

fn stay(report: &mut CollectReport, all: AbandonedUploads) {
    (report.unfinished_uploads, report.unfinished_bytes) = (all.uploads, all.bytes);
}

impl Report for CollectReport {
    const KIND: &'static str = "store-collect";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &CollectReport, out: &Output) {
    let verb = if report.dry_run { "would be freed" } else { "freed" };
    out.result(match report.blobs {
        0 if report.uploads > 0 => {
            format!("no blob to free: all that is older than {} is in use", report.grace)
        }
        0 => format!("nothing to free: all that is older than {} is in use", report.grace),
        blobs => {
            let blobs = count(usize::try_from(blobs).unwrap_or(usize::MAX), "blob");
            format!("{verb}: {} in {blobs}", bytes(report.freed_bytes))
        }
    });
    if report.uploads > 0 {
        let uploads = count(report.uploads, "upload");
        let size = bytes(report.upload_bytes);
        let verb = if report.dry_run { "would be removed" } else { "removed" };
        let line = format!("{verb}: {size} in {uploads} that nobody resumed");
        if report.older.is_some() {
            out.result(line);
        } else {
            out.note(line);
        }
    }
    if report.unfinished_uploads > 0 && report.unfinished_bytes > 0 {
        let uploads = count(report.unfinished_uploads, "unfinished upload");
        let size = bytes(report.unfinished_bytes);
        out.note(match report.older {
            Some(older) => {
                format!("{uploads} of {size} stay: somebody wrote to them in the last {older}")
            }
            None => format!("{uploads} of {size} stay; `larder store collect --uploads` frees those that nobody has written to for an hour"),
        });
    }
}
