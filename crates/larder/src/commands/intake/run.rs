//! `larder intake run`: bring in what the lock says, by digest.

use std::collections::HashSet;
use std::time::{Duration, Instant};

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::lock::{Lock, Stale, Want, stale};
use larder_store::RecordKind;
use larder_store::{IntakeEvent, Store, StoreError};
use larder_transfer::{Engine, MoveOutcome};
use schemars::JsonSchema;
use serde::Serialize;

use super::budget::Budgets;
use super::gate::IntakeGate;
use super::job::{FailureKind, IntakeFacts, IntakeJob, StoppedUpstream, jobs};
use super::sizes::{Forecast, ImageSize, forecast};
use super::upstream::Upstreams;
use crate::commands::inventory::fill::UnreadLayer;
use crate::context::{Context, now, open_store, read_lock};
use crate::failure::{Exit, Failure, Outcome};
use crate::inventory::{LayersRead, read_unread};
use crate::marks;
use crate::output::{DIM, GOOD, Output, Report, bytes, count, paint, short};
use crate::pick::Pick;
use crate::policy::refuses_intake;
use crate::record;

/// Bring in what the lock says, by digest
///
/// What is there is not fetched again; an interrupted run resumes.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    pick: Pick,
    /// Say what would be brought in, and bring in nothing
    #[arg(long)]
    dry_run: bool,
    /// With `--dry-run`: ask for sizes even where each answer counts as a pull
    #[arg(long, requires = "dry_run")]
    sizes: bool,
    /// Wait as long as an upstream's limit asks for, instead of leaving images for later
    #[arg(long)]
    wait: bool,
}

/// The pause after a refusal that says none.
const LIMITED_PAUSE: Duration = Duration::from_secs(60);
/// Images that are brought in at once; each moves several layers at once.
const IMAGES_AT_ONCE: usize = 3;
/// Images of which it is found out at once whether they are there.
const CHECKS_AT_ONCE: usize = 32;
#[derive(Serialize, JsonSchema, Default)]
pub struct RunReport {
    /// Whether nothing was brought in: the images below would be.
    dry_run: bool,
    brought_in: Vec<BroughtImage>,
    there_already: usize,
    blobs_copied: usize,
    blobs_present: usize,
    copied_bytes: u64,
    /// Layers that were read for what is in them.
    layers_read: usize,
    /// Layers of which it is not known what is in them, and why.
    layers_not_read: Vec<UnreadLayer>,
    seconds: f64,
    failed: Vec<FailedImage>,
    not_locked: Vec<String>,
    /// Images that are wanted and not made for all wanted platforms, in words.
    lacking: Vec<String>,
    /// How much would be moved. null: it was brought in.
    forecast: Option<Forecast>,
}

#[derive(Serialize, JsonSchema)]
struct BroughtImage {
    image: String,
    to: String,
    #[schemars(with = "String")]
    digest: Digest,
    /// How much it is. null: that was not asked for, or is not known.
    size: Option<ImageSize>,
}

#[derive(Serialize, JsonSchema)]
struct FailedImage {
    image: String,
    cause: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: the steps of bringing in, in their order.
    let began = Instant::now();
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let store = open_store(&config)?;
    let unusable = |error: StoreError| Failure::store("cannot use the larder's store", &error);
    store.remove_abandoned(larder_store::ABANDONED).await.map_err(unusable)?;
    let stale = stale(&config.wishes(), &lock);
    let not_locked = stale.iter().filter_map(|stale| match stale {
        Stale::NotLocked(want) if args.pick.takes(&want.image) => {
            Some(format!("{}:{}", want.image, want.tag))
        }
        Stale::NothingLocked(image) if args.pick.takes(image) => Some(image.to_string()),
        _ => None,
    });
    let not_locked = not_locked.collect();
    let lacking = stale.iter().filter_map(|stale| match stale {
        Stale::Lacks(want, _) if args.pick.takes(&want.image) => Some(stale.to_string()),
        _ => None,
    });
    let lacking: Vec<String> = lacking.collect();
    let outdated: HashSet<&Want> = stale
        .iter()
        .filter_map(|stale| match stale {
            Stale::OtherPlatforms(want) => Some(want),
            _ => None,
        })
        .collect();
    let upstreams = Upstreams::new(&config);
    let jobs: Vec<IntakeJob<'_>> =
        jobs(&config, &lock).filter(|job| args.pick.takes(&job.want.image)).collect();
    let facts = IntakeFacts::read(&store, &upstreams, &jobs).await.map_err(unusable)?;
    let checked: Vec<(IntakeJob<'_>, Result<bool, Failure>)> = stream::iter(jobs)
        .map(|job| {
            let (facts, outdated) = (&facts, &outdated);
            async move {
                let there = match outdated.contains(job.want) {
                    true => Err(job.outdated()),
                    false => job.is_there(facts).await,
                };
                (job, there)
            }
        })
        .buffered(CHECKS_AT_ONCE)
        .collect()
        .await;
    let court = config.court(Lock::default())?;
    let mut there_already = 0;
    let mut held: Vec<Digest> = Vec::new();
    let mut jobs = Vec::new();
    let mut unknown = Vec::new();
    for (job, there) in checked {
        match there {
            Ok(true) => {
                there_already += 1;
                held.extend(job.held());
            }
            Ok(false) => match refuses_intake(&court, job.want, job.locked) {
                None => jobs.push(job),
                Some(failure) => unknown.push((job, Err(failure))),
            },
            Err(failure) => unknown.push((job, Err(failure))),
        }
    }
    if args.dry_run {
        let exit = if jobs.is_empty() { Exit::Done } else { Exit::No };
        let budgets = Budgets::new(&config, &upstreams, Some(&store));
        let forecast = forecast(&jobs, Some(&store), &budgets, args.sizes, context).await?;
        let image = |job: &IntakeJob<'_>| {
            let size = forecast.of.get(job.want).copied();
            BroughtImage { size, ..BroughtImage::of(job) }
        };
        let images = jobs.iter().map(image).collect();
        context.output.tell(&RunReport {
            dry_run: true,
            brought_in: images,
            there_already,
            not_locked,
            lacking,
            forecast: Some(forecast),
            ..RunReport::default()
        });
        return Ok(exit);
    }

    let progress = context.output.progress();
    let engine = Engine::new(progress.clone());
    let budgets = Budgets::new(&config, &upstreams, Some(&store));
    let gate = IntakeGate::of(&court, &store, context);
    let mut outcomes: Vec<(IntakeJob<'_>, Result<MoveOutcome, Failure>)> = stream::iter(jobs)
        .map(|job| {
            let (engine, store, budgets, progress) = (&engine, &store, &budgets, &progress);
            async move {
                progress.say(job.name());
                let outcome = bring_in(&job, args, engine, (store, gate), budgets, context).await;
                (job, outcome)
            }
        })
        .buffer_unordered(IMAGES_AT_ONCE)
        .collect()
        .await;
    progress.done();
    let brought = outcomes.iter().filter(|(_, outcome)| outcome.is_ok());
    held.extend(brought.filter_map(|(job, _)| job.held()));
    outcomes.extend(unknown);
    let layers = match config.larder.inventory {
        true => look_inside(&store, held, context).await,
        false => LayersRead::default(),
    };

    let report = RunReport { there_already, not_locked, lacking, ..RunReport::default() };
    let (mut report, failures) = report.with(outcomes);
    report.seconds = began.elapsed().as_secs_f64();
    report.layers_read = layers.read;
    report.layers_not_read = UnreadLayer::all(&layers);
    let (brought, failed) = (report.brought_in.len(), report.failed.len());
    let text = format!("{brought} brought in, {there_already} there already, {failed} failed");
    marks::note(&store, marks::INTAKE, &text).await;
    context.output.tell(&report);
    for failure in grouped(&failures) {
        context.output.failure(&failure);
    }
    let whole = report.not_locked.is_empty() && report.lacking.is_empty();
    let exit = if whole { Exit::Done } else { Exit::No };
    Ok(failures.iter().map(|failure| failure.exit).max().unwrap_or(exit))
}

impl RunReport {
    /// Adds what became of each image; the failures are given back.
    fn with(
        mut self,
        outcomes: Vec<(IntakeJob<'_>, Result<MoveOutcome, Failure>)>,
    ) -> (Self, Vec<Failure>) {
        let mut total = MoveOutcome::default();
        let mut failures = Vec::new();
        for (job, outcome) in outcomes {
            match outcome {
                Ok(moved) => {
                    total.add(&moved);
                    self.brought_in.push(BroughtImage::of(&job));
                }
                Err(failure) => {
                    self.failed
                        .push(FailedImage { image: job.name(), cause: failure.cause.clone() });
                    failures.push(failure);
                }
            }
        }
        self.brought_in.sort_by(|a, b| a.image.cmp(&b.image));
        self.blobs_copied = total.copied;
        self.blobs_present = total.present;
        self.copied_bytes = total.bytes;
        (self, failures)
    }
}

/// Brings one image in, waits for the upstream's limit where that is wanted, and notes what
/// became of it.
async fn bring_in(
    job: &IntakeJob<'_>,
    args: &Args,
    engine: &Engine,
    (store, gate): (&Store, Option<IntakeGate<'_>>),
    budgets: &Budgets<'_>,
    context: &Context,
) -> Result<MoveOutcome, Failure> {
    let outcome = loop {
        if let Err(failure) = budgets.reserve(job.host(), job.pulls(), args.wait, context).await {
            break Err(job.not_now(failure));
        }
        match job.bring_in(engine, store, budgets.upstreams, gate).await {
            Ok(moved) => break Ok(moved),
            Err(StoppedUpstream { why: FailureKind::Limited(after), .. }) if args.wait => {
                let after = after.unwrap_or(LIMITED_PAUSE);
                let (host, seconds) = (job.host(), after.as_secs());
                context.output.note(format!("{host} limits our rate: waiting {seconds} s"));
                tokio::time::sleep(after).await;
            }
            Err(StoppedUpstream { failure, why }) => {
                if matches!(why, FailureKind::Limited(_)) {
                    let later = Failure { what: String::new(), ..failure.clone() };
                    budgets.stop(job.host(), &later).await;
                }
                break Err(failure);
            }
        }
    };
    let event = match &outcome {
        Ok(_) => IntakeEvent::Brought(job.brought()),
        Err(failure) => IntakeEvent::Failed(failure.cause.clone()),
    };
    let noted = store.note_intake(vec![(job.want.clone(), event)], now()).await;
    noted.map_err(|error| Failure::store("cannot note what was brought in", &error))?;
    if outcome.is_ok() {
        let brought = BroughtImage::of(job);
        let text = format!("from {}, {}", brought.image, brought.digest);
        let entry = record::entry(RecordKind::Intake, &brought.to, &text);
        let noted = record::note(store, vec![entry]).await;
        noted.map_err(|error| Failure::store("cannot write the record", &error))?;
    }
    outcome
}

/// Reads the layers of what is here now and was not read before. What cannot be read is told, and fails nothing: the
/// images are here.
async fn look_inside(store: &Store, images: Vec<Digest>, context: &Context) -> LayersRead {
    let read = async {
        let held = store.layers_of_images(images).await?;
        let read = read_unread(store, held.layers, context).await?;
        store.note_images(&held.images).await?;
        Ok::<_, StoreError>(read)
    };
    read.await.unwrap_or_else(|error| {
        let told = "note: what is in the layers could not be noted";
        context.output.note(format!("{told}: {error}"));
        LayersRead::default()
    })
}

/// Failures with the same cause as one: an upstream that is down would fill the screen otherwise.
fn grouped(failures: &[Failure]) -> Vec<Failure> {
    let mut groups: Vec<(Failure, usize)> = Vec::new();
    for failure in failures {
        match groups.iter_mut().find(|(first, _)| first.cause == failure.cause) {
            Some((_, others)) => *others += 1,
            None => groups.push((failure.clone(), 0)),
        }
    }
    let told = groups.into_iter().map(|(mut first, others)| {
        if others > 0 {
            first.what =
                format!("{}, and {} for the same cause", first.what, count(others, "other"));
        }
        first
    });
    told.collect()
}

impl BroughtImage {
    fn of(job: &IntakeJob<'_>) -> Self {
        let to = format!("{}:{}", job.place(), job.want.tag);
        Self { image: job.name(), to, digest: job.locked.here().clone(), size: None }
    }
}

impl Report for RunReport {
    const KIND: &'static str = "intake-run";

    fn show(&self, out: &Output) {
        if self.dry_run {
            for BroughtImage { image, to, digest, size } in &self.brought_in {
                let size = size.map(|ImageSize { bytes: all, new_bytes }| match new_bytes {
                    new if new == all => format!("; {}", bytes(all)),
                    0 => format!("; {}, all of it here", bytes(all)),
                    new => format!("; {}, {} of it new", bytes(all), bytes(new)),
                });
                let (digest, size) = (short(digest), size.unwrap_or_default());
                out.result(format!("would bring in {image} ({digest}) to {to}{size}"));
            }
            let (images, there) = (count(self.brought_in.len(), "image"), self.there_already);
            out.result(format!("{images} would be brought in, {there} there already"));
            if let Some(forecast) = &self.forecast {
                forecast.line().into_iter().for_each(|line| out.result(line));
                forecast.notes(out);
            }
        } else {
            show(self, out);
        }
        for image in &self.not_locked {
            out.note(format!("wanted, but not locked: {image}; `larder intake lock` resolves it"));
        }
        self.lacking.iter().for_each(|line| out.note(line));
        self.layers_not_read.iter().for_each(|one| out.note(one.line()));
    }
}

fn show(report: &RunReport, out: &Output) {
    for one in &report.brought_in {
        out.result(format!(
            "{} {} {} {}",
            paint(GOOD, "brought in"),
            one.image,
            paint(DIM, "to"),
            one.to
        ));
    }
    if report.brought_in.is_empty() && report.failed.is_empty() {
        out.result(format!(
            "nothing to do: {} locked, all there; nothing was transferred",
            count(report.there_already, "image")
        ));
    } else {
        out.result(format!(
            "{} brought in, {} there already; {} copied ({}), {} there already; {:.1} s",
            count(report.brought_in.len(), "image"),
            report.there_already,
            count(report.blobs_copied, "blob"),
            bytes(report.copied_bytes),
            report.blobs_present,
            report.seconds
        ));
    }
}
