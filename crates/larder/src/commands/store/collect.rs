//! `larder store collect`: free what nothing refers to.

use larder_core::allowance::Span;
use larder_core::digest::Digest;
use larder_store::Store;
use serde::Serialize;

use super::failed;
use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::output::{bytes, count};

/// Free the blobs that nothing refers to
///
/// It runs beside pushes and pulls: what came or was last needed within the grace time stays.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// How long something must have been unused
    #[arg(long, value_name = "SPAN", default_value = super::GRACE)]
    grace: Span,
    /// Say what would be freed, and free nothing
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize, Default)]
struct Report {
    /// Whether anything was freed.
    done: bool,
    /// Blobs that a repository had and nothing in it needs.
    unlinked: usize,
    /// Contents that are freed.
    blobs: usize,
    /// Their sizes together, in bytes.
    bytes: u64,
    /// Uploads that nobody went on with.
    uploads: usize,
}

pub async fn run(args: &Args, store: &Store, context: &Context) -> Outcome {
    let grace = args.grace.0;
    let before = now() - i64::try_from(grace.as_millis()).unwrap_or(i64::MAX);
    let upkeep = &store.upkeep;
    let mut report = Report { done: !args.dry_run, ..Report::default() };
    report.unlinked = if args.dry_run {
        upkeep.idle(before).await.map_err(|error| failed(&error))?.len()
    } else {
        upkeep.unlink_idle(before).await.map_err(|error| failed(&error))?
    };
    let progress = context.output.progress();
    progress.say(if args.dry_run { "looking" } else { "collecting" });
    for part in 0..=u8::MAX {
        // Read before the folder is: what is recorded after that is young and stays.
        let recorded = upkeep.recorded(part, Some(before)).await.map_err(|error| failed(&error))?;
        let stored = store.blobs.part(part).await.map_err(|error| failed(&error))?;
        let loose =
            stored.into_iter().filter(|one| one.age >= grace && !recorded.contains(&one.digest));
        let freed: Vec<(Digest, u64)> = if args.dry_run {
            loose.map(|one| (one.digest, one.size)).collect()
        } else {
            let loose = loose.map(|one| one.digest).collect();
            upkeep.free(loose, grace).await.map_err(|error| failed(&error))?
        };
        report.blobs += freed.len();
        report.bytes += freed.iter().map(|(_, size)| size).sum::<u64>();
    }
    if !args.dry_run {
        let removed = store.blobs.remove_abandoned(larder_store::ABANDONED.max(grace)).await;
        report.uploads = removed.map_err(|error| failed(&error))?;
    }
    progress.done();
    if context.output.json {
        context.output.document(&report);
        return Ok(Exit::Done);
    }
    let verb = if args.dry_run { "would be freed" } else { "freed" };
    context.output.result(match report.blobs {
        0 => format!("nothing to free: all that is older than {} is in use", args.grace),
        blobs => format!("{verb}: {} in {}", bytes(report.bytes), count(blobs, "blob")),
    });
    if report.uploads > 0 {
        let uploads = count(report.uploads, "upload");
        context.output.note(format!("removed {uploads} that nobody went on with"));
    }
    Ok(Exit::Done)
}
