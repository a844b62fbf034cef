//! `larder store collect`: free what nothing refers to.

use std::time::Duration;

use larder_core::allowance::Span;
use larder_store::{Abandoned, Store, StoreError};
use serde::Serialize;

use super::failed;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{bytes, count};

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

#[derive(Serialize, Default)]
struct Report {
    /// Whether anything was freed.
    done: bool,
    /// Blobs that a repository had and nothing in it needs.
    unlinked: u64,
    /// Contents that are freed.
    blobs: u64,
    /// Their sizes together, in bytes.
    bytes: u64,
    /// Uploads that nobody went on with.
    uploads: usize,
    /// Their sizes together, in bytes.
    upload_bytes: u64,
    /// Unfinished uploads that stay, and their sizes together in bytes.
    unfinished: usize,
    unfinished_bytes: u64,
}

/// Blobs that are freed in one change.
const TOGETHER: usize = 1000;

pub async fn run(args: &Args, store: &Store, context: &Context) -> Outcome {
    let grace = args.grace.0;
    let before = now() - i64::try_from(grace.as_millis()).unwrap_or(i64::MAX);
    // Uploads that nobody has gone on with for a day are given up in any case.
    let older = if args.uploads { args.older.0 } else { larder_store::ABANDONED.max(grace) };
    let progress = context.output.progress();
    progress.say(if args.dry_run { "looking" } else { "collecting" });
    let mut report = Report { done: !args.dry_run, ..Report::default() };
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
    }
    progress.done();
    if context.output.json {
        context.output.document(&report);
        return Ok(Exit::Done);
    }
    say(&report, args, context);
    Ok(Exit::Done)
}

async fn look(
    report: &mut Report,
    store: &Store,
    before: i64,
    grace: Duration,
    older: Duration,
) -> Result<(), StoreError> {
    report.unlinked = store.idle(before).await?;
    (report.blobs, report.bytes) = store.collectable(before).await?;
    for part in 0..=u8::MAX {
        let (strays, bytes) = store.collect_strays(part, grace, true).await?;
        report.blobs += strays;
        report.bytes += bytes;
    }
    let (old, all) = store.unfinished(older).await?;
    (report.uploads, report.upload_bytes) = (old.uploads, old.bytes);
    stay(report, all);
    report.unfinished -= old.uploads.min(report.unfinished);
    report.unfinished_bytes -= old.bytes.min(report.unfinished_bytes);
    Ok(())
}

async fn collect(
    report: &mut Report,
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
        report.bytes += freed.iter().map(|(_, size)| size).sum::<u64>();
    }
    for part in 0..=u8::MAX {
        let (strays, bytes) = store.collect_strays(part, grace, false).await?;
        report.blobs += strays;
        report.bytes += bytes;
    }
    let (_, all) = store.unfinished(older).await?;
    stay(report, all);
    Ok(())
}

fn stay(report: &mut Report, all: Abandoned) {
    (report.unfinished, report.unfinished_bytes) = (all.uploads, all.bytes);
}

fn say(report: &Report, args: &Args, context: &Context) {
    let verb = if args.dry_run { "would be freed" } else { "freed" };
    context.output.result(match report.blobs {
        0 if report.uploads > 0 => {
            format!("no blob to free: all that is older than {} is in use", args.grace)
        }
        0 => format!("nothing to free: all that is older than {} is in use", args.grace),
        blobs => {
            let blobs = count(usize::try_from(blobs).unwrap_or(usize::MAX), "blob");
            format!("{verb}: {} in {blobs}", bytes(report.bytes))
        }
    });
    if report.uploads > 0 {
        let uploads = count(report.uploads, "upload");
        let size = bytes(report.upload_bytes);
        let verb = if args.dry_run { "would be removed" } else { "removed" };
        let line = format!("{verb}: {size} in {uploads} that nobody went on with");
        if args.uploads {
            context.output.result(line);
        } else {
            context.output.note(line);
        }
    }
    if report.unfinished > 0 && report.unfinished_bytes > 0 {
        let uploads = count(report.unfinished, "unfinished upload");
        let size = bytes(report.unfinished_bytes);
        context.output.note(match args.uploads {
            true => format!("{uploads} of {size} stay: somebody wrote to them in the last {}", args.older),
            false => format!("{uploads} of {size} stay; `larder store collect --uploads` frees those that nobody has written to for an hour"),
        });
    }
}
