//! `larder store verify`: read everything again.

use futures_util::{StreamExt as _, TryStreamExt as _};
use larder_core::allowance::Span;
use larder_core::digest::{Digest, Hasher};
use larder_store::{Store, StoreError, Stored, Withdrawn};
use serde::Serialize;

use super::failed;
use crate::context::Context;
use crate::failure::{Exit, Outcome};
use crate::output::{BAD, GOOD, bytes, count, paint, short};

/// Read everything again and say what is damaged or missing
///
/// It runs while the larder serves. With `--repair`, damaged content is set aside (`quarantine` in the
/// store's folder), what cannot be given whole any more is withdrawn, so that it is brought in or
/// pushed anew, and what nothing refers to is removed.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Set damaged content aside, withdraw what is incomplete, remove what nothing refers to
    #[arg(long)]
    repair: bool,
    /// How many blobs are read at once [default: the number of processors]
    #[arg(long, value_name = "N")]
    jobs: Option<std::num::NonZeroUsize>,
    /// How long something must have been unused before it is taken for forgotten
    #[arg(long, value_name = "SPAN", default_value = super::GRACE)]
    grace: Span,
}

#[derive(Serialize, Default)]
struct Report {
    /// Contents that were read.
    blobs: usize,
    /// Their sizes together, in bytes.
    bytes: u64,
    damaged: Vec<Damaged>,
    /// What is recorded and not there.
    missing: Vec<Digest>,
    /// Tags that lead to something incomplete.
    tags: Vec<String>,
    /// Manifests that are incomplete.
    manifests: usize,
    /// What nothing refers to.
    loose: usize,
    loose_bytes: u64,
    /// Whether it was repaired.
    repaired: bool,
}

#[derive(Serialize)]
struct Damaged {
    digest: Digest,
    /// What its content really has. None: it could not be read.
    actual: Option<Digest>,
    size: u64,
    /// The system's word, when it could not be read.
    cause: Option<String>,
    /// Where it lies now, in the store's folder. None: where it was.
    aside: Option<String>,
}

pub async fn run(args: &Args, store: &Store, context: &Context) -> Outcome {
    let jobs = args.jobs.or_else(|| std::thread::available_parallelism().ok());
    let jobs = jobs.map_or(1, std::num::NonZeroUsize::get);
    let mut report = Report::default();
    let mut loose = Vec::new();
    let progress = context.output.progress();
    progress.say("reading");
    for part in 0..=u8::MAX {
        // Read before the folder is: what is recorded now must be there.
        let recorded = store.upkeep.recorded(part, None).await.map_err(|error| failed(&error))?;
        let stored = store.blobs.part(part).await.map_err(|error| failed(&error))?;
        for digest in &recorded {
            if stored.binary_search_by(|one| one.digest.cmp(digest)).is_err()
                && is_lost(store, part, digest).await.map_err(|error| failed(&error))?
            {
                report.missing.push(digest.clone());
            }
        }
        report.blobs += stored.len();
        report.bytes += stored.iter().map(|one| one.size).sum::<u64>();
        let forgotten = stored.iter().filter(|one| !recorded.contains(&one.digest));
        for one in forgotten.filter(|one| one.age >= args.grace.0) {
            report.loose += 1;
            report.loose_bytes += one.size;
            loose.push(one.digest.clone());
        }
        let read =
            futures_util::stream::iter(stored).map(|one| check(store, one)).buffer_unordered(jobs);
        let damaged: Vec<Damaged> = read
            .try_filter_map(|found| async { Ok(found) })
            .try_collect()
            .await
            .map_err(|error: StoreError| failed(&error))?;
        report.damaged.extend(damaged);
        progress.say(format!("read {} in {}", bytes(report.bytes), count(report.blobs, "blob")));
    }
    progress.done();
    report.missing.sort();
    report.damaged.sort_by(|a, b| a.digest.cmp(&b.digest));
    let lost: Vec<Digest> = report
        .missing
        .iter()
        .chain(report.damaged.iter().map(|one| &one.digest))
        .cloned()
        .collect();
    if args.repair {
        for one in &mut report.damaged {
            // Somebody may have sent it again since: what is whole now stays.
            let again = Stored {
                digest: one.digest.clone(),
                size: one.size,
                age: std::time::Duration::ZERO,
            };
            if check(store, again).await.map_err(|error| failed(&error))?.is_some() {
                one.aside =
                    store.blobs.quarantine(&one.digest).await.map_err(|error| failed(&error))?;
            }
        }
        store.upkeep.free(loose, args.grace.0).await.map_err(|error| failed(&error))?;
        let uploads = store.blobs.remove_abandoned(larder_store::ABANDONED).await;
        uploads.map_err(|error| failed(&error))?;
    }
    let withdrawn: Withdrawn =
        store.upkeep.withdraw(lost, !args.repair).await.map_err(|error| failed(&error))?;
    report.tags = withdrawn.tags.iter().map(|(name, tag, _)| format!("{name}:{tag}")).collect();
    report.manifests = withdrawn.manifests.len();
    report.repaired = args.repair;
    let sound = report.damaged.is_empty() && report.missing.is_empty();
    if context.output.json {
        context.output.document(&report);
    } else {
        say(&report, context);
    }
    Ok(if sound { Exit::Done } else { Exit::Content })
}

/// Whether something is recorded and not there; it may have been taken away since it was listed.
async fn is_lost(store: &Store, part: u8, digest: &Digest) -> Result<bool, StoreError> {
    let recorded = store.upkeep.recorded(part, None).await?.contains(digest);
    Ok(recorded && store.blobs.size(digest).await?.is_none())
}

/// Reads a blob. None: it is what its digest says, or it was taken away meanwhile.
async fn check(store: &Store, one: Stored) -> Result<Option<Damaged>, StoreError> {
    let Stored { digest, size, .. } = one;
    let mut hasher = Hasher::new(digest.algorithm());
    let damaged =
        |actual, cause| Damaged { digest: digest.clone(), actual, size, cause, aside: None };
    let mut reader = match store.blobs.read(&digest, 0..size).await {
        Ok(reader) => reader,
        Err(StoreError::NotFound(_)) => return Ok(None),
        Err(error) => return Ok(Some(damaged(None, Some(error.to_string())))),
    };
    while let Some(piece) = reader.next().await {
        match piece {
            Ok(piece) => {
                hasher = tokio::task::spawn_blocking(move || {
                    hasher.update(&piece);
                    hasher
                })
                .await
                .map_err(|_| StoreError::Closed)?;
            }
            Err(error) => return Ok(Some(damaged(None, Some(error.to_string())))),
        }
    }
    let actual = hasher.finish();
    Ok((actual != digest).then(|| damaged(Some(actual), None)))
}

fn say(report: &Report, context: &Context) {
    for one in &report.damaged {
        let cause = match (&one.actual, &one.cause) {
            (Some(actual), _) => format!("its content has the digest {}", short(actual)),
            (None, cause) => cause.clone().unwrap_or_default(),
        };
        let aside = one.aside.as_ref().map(|aside| format!("; set aside as {aside}"));
        let aside = aside.unwrap_or_default();
        context.output.result(format!("{} {}: {cause}{aside}", paint(BAD, "damaged"), one.digest));
    }
    for digest in &report.missing {
        context
            .output
            .result(format!("{} {digest}: recorded and not there", paint(BAD, "missing")));
    }
    let verb = if report.repaired { "withdrawn" } else { "incomplete" };
    for tag in &report.tags {
        context.output.result(format!("{verb:<10} {tag}"));
    }
    let read = format!("{} in {} read", bytes(report.bytes), count(report.blobs, "blob"));
    let wrong = report.damaged.len() + report.missing.len();
    if wrong == 0 {
        context
            .output
            .result(format!("{read}: {}", paint(GOOD, "everything is what its digest says")));
    } else {
        context
            .output
            .result(format!("{read}: {}", paint(BAD, format!("{wrong} damaged or missing"))));
        context.output.note(if report.repaired {
            "bring in or push anew what was withdrawn: `larder intake run` does so for what is locked"
        } else {
            "`larder store verify --repair` sets it aside and withdraws what is incomplete"
        });
    }
    if report.loose > 0 {
        let verb = if report.repaired { "removed" } else { "nothing refers to" };
        let loose = count(report.loose, "blob");
        context.output.note(format!("{verb}: {loose} of {}", bytes(report.loose_bytes)));
    }
}
