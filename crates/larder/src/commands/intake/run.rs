//! `larder intake run`: bring in what the lock says, by digest.

use std::time::{Duration, Instant};

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::lock::{Lock, Locked, Stale, Want, stale};
use larder_core::name::RepositoryName;
use larder_core::platform::Platforms;
use larder_core::reference::Selector;
use larder_store::{Store, StoreError};
use serde::Serialize;

use super::upstream::Upstreams;
use crate::config::Config;
use crate::context::{Context, open_store, read_lock};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GOOD, bytes, count, paint, short};
use crate::transfer::{Engine, Moved, Order, Own, Remote};

/// Bring in what the lock says, by digest
///
/// What is there is not fetched again; a run that was interrupted is gone on with.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Say what would be brought in, and bring in nothing
    #[arg(long)]
    dry_run: bool,
}

/// Images that are brought in at once; each moves several layers at once.
const IMAGES_AT_ONCE: usize = 3;
/// Uploads that nobody has written to for so long were left by a run that was killed.
const ABANDONED: Duration = Duration::from_secs(24 * 3600);

/// One image of the lock on its way.
struct Job<'j> {
    want: &'j Want,
    locked: &'j Locked,
    to: RepositoryName,
    platforms: &'j Platforms,
}

impl Job<'_> {
    fn name(&self) -> String {
        format!("{}:{}", self.want.image, self.want.tag)
    }
}

#[derive(Serialize)]
struct Report {
    brought_in: Vec<Brought>,
    there_already: usize,
    blobs_copied: usize,
    blobs_present: usize,
    bytes: u64,
    seconds: f64,
    failed: Vec<Failed>,
    not_locked: Vec<String>,
}

#[derive(Serialize)]
struct Brought {
    image: String,
    to: String,
    digest: Digest,
}

#[derive(Serialize)]
struct Failed {
    image: String,
    cause: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let began = Instant::now();
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let store = open_store(&config)?;
    let unusable = |error: StoreError| Failure::store("cannot use the larder's store", &error);
    store.blobs.remove_abandoned(ABANDONED).await.map_err(unusable)?;
    let wants = config.wants();
    let not_locked = stale(&wants, &lock).into_iter().filter_map(|stale| match stale {
        Stale::NotLocked(want) => Some(format!("{}:{}", want.image, want.tag)),
        Stale::NothingLocked(image) => Some(image.to_string()),
        Stale::Unwanted(_) => None,
    });
    let not_locked = not_locked.collect();
    let mut there_already = 0;
    let mut jobs = Vec::new();
    for job in jobs_of(&config, &lock) {
        if is_complete(&store, &job).await.map_err(unusable)? {
            there_already += 1;
        } else {
            jobs.push(job);
        }
    }
    if args.dry_run {
        let exit = if jobs.is_empty() { Exit::Done } else { Exit::No };
        preview(&jobs, there_already, context);
        return Ok(exit);
    }

    let upstreams = Upstreams::new(&config);
    let progress = context.output.progress();
    let engine = Engine::new(progress.clone());
    let outcomes: Vec<(Job<'_>, Result<Moved, Failure>)> = stream::iter(jobs)
        .map(|job| {
            let (engine, store, upstreams, progress) = (&engine, &store, &upstreams, &progress);
            async move {
                progress.say(job.name());
                let outcome = bring_in(engine, store, upstreams, &job).await;
                (job, outcome)
            }
        })
        .buffer_unordered(IMAGES_AT_ONCE)
        .collect()
        .await;
    progress.done();

    let mut total = Moved::default();
    let mut failures = Vec::new();
    let mut report = Report {
        brought_in: Vec::new(),
        there_already,
        blobs_copied: 0,
        blobs_present: 0,
        bytes: 0,
        seconds: 0.0,
        failed: Vec::new(),
        not_locked,
    };
    for (job, outcome) in outcomes {
        match outcome {
            Ok(moved) => {
                total.add(&moved);
                let digest = job.locked.digest.clone();
                report.brought_in.push(Brought {
                    image: job.name(),
                    to: format!("{}:{}", job.to, job.want.tag),
                    digest,
                });
            }
            Err(failure) => {
                report.failed.push(Failed { image: job.name(), cause: failure.cause.clone() });
                failures.push(failure);
            }
        }
    }
    report.brought_in.sort_by(|a, b| a.image.cmp(&b.image));
    report.blobs_copied = total.copied;
    report.blobs_present = total.present;
    report.bytes = total.bytes;
    report.seconds = began.elapsed().as_secs_f64();
    if context.output.json {
        context.output.document(&report);
    } else {
        show(&report, context);
    }
    for failure in &failures {
        context.output.failure(failure);
    }
    let lacking = if report.not_locked.is_empty() { Exit::Done } else { Exit::No };
    Ok(failures.iter().map(|failure| failure.exit).max().unwrap_or(lacking))
}

fn jobs_of<'j>(config: &'j Config, lock: &'j Lock) -> impl Iterator<Item = Job<'j>> {
    lock.entries.iter().filter_map(move |(want, locked)| {
        let intake = config.intake.iter().find(|intake| *intake.image.get_ref() == want.image)?;
        let wanted = intake.tags.want(&want.tag);
        let to = intake.to.get_ref().clone();
        wanted.then_some(Job { want, locked, to, platforms: &intake.platforms })
    })
}

/// Whether the larder holds what is locked, for all wanted platforms. The store alone tells: what
/// it has recorded is complete, so the upstream need not be asked.
async fn is_complete(store: &Store, job: &Job<'_>) -> Result<bool, StoreError> {
    let tag = Selector::Tag(job.want.tag.clone());
    match store.ledger.manifest(&job.to, &tag).await? {
        Some(record) if record.digest == job.locked.digest => {}
        _ => return Ok(false),
    }
    let mut open = vec![job.locked.digest.clone()];
    while let Some(digest) = open.pop() {
        let Some((record, bytes)) = store.manifest(&job.to, &Selector::Digest(digest)).await?
        else {
            return Ok(false);
        };
        let Ok(document) = Document::read(bytes, Some(&record.media_type)) else {
            return Ok(false);
        };
        for child in document.children() {
            // A manifest that names no platform was chosen by its configuration when it was
            // brought in.
            if child.is_wanted(job.platforms).unwrap_or(false) {
                open.push(child.digest.clone());
            }
        }
    }
    Ok(true)
}

async fn bring_in(
    engine: &Engine,
    store: &Store,
    upstreams: &Upstreams,
    job: &Job<'_>,
) -> Result<Moved, Failure> {
    let registry = upstreams.registry(&job.want.image.host)?.clone();
    let source = Remote::new(registry, job.want.image.repository.clone());
    let target = Own::new(store.clone(), job.to.clone());
    let order = Order {
        source: &source,
        selector: Selector::Digest(job.locked.digest.clone()),
        target: &target,
        tag: Some(job.want.tag.clone()),
        platforms: job.platforms,
    };
    let moved = engine.run(&order).await;
    moved.map_err(|error| Failure::transfer(format!("cannot bring in {}", job.name()), &error))
}

fn preview(jobs: &[Job<'_>], there_already: usize, context: &Context) {
    if context.output.json {
        let images: Vec<_> = jobs
            .iter()
            .map(|job| serde_json::json!({ "image": job.name(), "to": job.to, "digest": job.locked.digest }))
            .collect();
        let plan = serde_json::json!({ "would_bring_in": images, "there_already": there_already });
        context.output.document(&plan);
        return;
    }
    for job in jobs {
        let digest = short(&job.locked.digest);
        context.output.result(format!("would bring in {} ({digest}) to {}", job.name(), job.to));
    }
    let images = count(jobs.len(), "image");
    context.output.result(format!("{images} would be brought in, {there_already} there already"));
}

fn show(report: &Report, context: &Context) {
    for one in &report.brought_in {
        context.output.result(format!(
            "{} {} {} {}",
            paint(GOOD, "brought in"),
            one.image,
            paint(DIM, "to"),
            one.to
        ));
    }
    if report.brought_in.is_empty() && report.failed.is_empty() {
        context.output.result(format!(
            "nothing to do: {} locked, all there; nothing was transferred",
            count(report.there_already, "image")
        ));
    } else {
        context.output.result(format!(
            "{} brought in, {} there already; {} copied ({}), {} there already; {:.1} s",
            count(report.brought_in.len(), "image"),
            report.there_already,
            count(report.blobs_copied, "blob"),
            bytes(report.bytes),
            report.blobs_present,
            report.seconds
        ));
    }
    for image in &report.not_locked {
        context
            .output
            .note(format!("wanted, but not locked: {image}; `larder intake lock` resolves it"));
    }
}
