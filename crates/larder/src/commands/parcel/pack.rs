//! `larder parcel pack`: what the lock names, into an archive and its signed contents.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::lock::Lock;
use larder_core::parcel::{
    ArchiveShape, Contents, Medium, ParcelCompanion, ParcelImage, ParcelRemoval, Receipt,
    VolumeSize,
};
use larder_core::platform::Platforms;
use larder_core::reference::Selector;
use larder_store::{Filter, RecordKind, Store};
use larder_transfer::parcel::{NewParcel, Parcel, SignerTrust, read_receipt};
use larder_transfer::{Content, Engine, MoveOrder, Outline, Own, Source, TransferError, belonging};
use schemars::JsonSchema;
use serde::Serialize;

use super::feeds;
use crate::commands::intake::{Budgets, IntakeJob, Upstreams, jobs};
use crate::config::Config;
use crate::context::{Context, open_store, read_lock, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Progress, Report, bytes, count};
use crate::parcel::{now_text, signing_key, trust_of};
use crate::pick::Pick;

/// Pack what the lock names, or what is held, into a parcel
///
/// A parcel is a folder with a tar archive (a plain OCI image layout, in volumes where that is
/// asked for) and its signed table of contents. A run that was killed resumes.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  larder parcel pack /media/disk/week-48\n  \
    larder parcel pack /media/disk/week-49 --since turbine-hall.receipt --medium fat32\n  \
    larder parcel pack /media/disk/ours --held 'prod/**' --held bazaar/library/kettle:2")]
pub struct Args {
    /// The folder to make
    out: PathBuf,
    /// Leave out what the far side has by this receipt
    #[arg(long, value_name = "RECEIPT")]
    since: Option<PathBuf>,
    #[command(flatten)]
    pick: Pick,
    /// Pack images that this larder holds instead of what the lock names: SHELF, SHELF/REPOSITORY or with :TAG, also by
    /// patterns (again for more)
    #[arg(long, value_name = "NAME", conflicts_with_all = ["upstreams", "only", "skip"])]
    held: Vec<String>,
    /// With --since: also say which tags of the receipt were removed here, for `unpack --removals`
    #[arg(long, requires = "since")]
    removals: bool,
    /// Also the advisories that were taken in here
    #[arg(long)]
    advisories: bool,
    /// With --advisories: these alone, and no images
    #[arg(long, requires = "advisories", conflicts_with_all = ["held", "since", "upstreams"])]
    no_images: bool,
    /// Cut the archive into files of this size, as in 3.9GiB
    #[arg(long, value_name = "SIZE")]
    volume: Option<VolumeSize>,
    /// Cut it for what it is carried on: fat32, dvd, dvd-double, bluray, bluray-double
    #[arg(long, value_name = "MEDIUM", conflicts_with = "volume")]
    medium: Option<Medium>,
    /// Fetch straight from the upstreams instead of this larder's store
    #[arg(long)]
    upstreams: bool,
    /// With `--upstreams`: wait as long as an upstream's limit asks for
    #[arg(long, requires = "upstreams")]
    wait: bool,
    /// Say what would be packed, and write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Images that are looked into, or packed, at once.
const AT_ONCE: usize = 4;

/// One image on its way into the parcel.
pub(super) struct PackedImage {
    pub source: Box<dyn Source>,
    pub image: ParcelImage,
    /// Everything that it needs, with its size in bytes.
    pub needs: BTreeMap<Digest, u64>,
}

#[derive(Serialize, JsonSchema)]
pub struct PackReport {
    folder: PathBuf,
    images: usize,
    blobs: usize,
    left_out: usize,
    size_bytes: u64,
    volumes: usize,
    /// Tags whose removal it carries.
    removals: usize,
    /// Feeds of advisories that it carries.
    feeds: Vec<String>,
    /// What the archive takes on the disk.
    archive_bytes: u64,
    /// What is free where it goes. null: nobody knows.
    free_bytes: Option<u64>,
    dry_run: bool,
    /// Whether the folder holds this very parcel, finished by a run before.
    there_already: bool,
    #[serde(skip)]
    took: Duration,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: the steps of packing in their order.
    let began = Instant::now();
    let what = || format!("cannot pack {}", larder_transfer::files::named(&args.out));
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let key = signing_key(&config, &what())?;
    let trust = trust_of(Some(&config), &[], &what())?;
    let (held, since, receipt) = match &args.since {
        Some(path) => {
            let read =
                read_receipt(path, &trust).map_err(|error| Failure::parcel(what(), &error))?;
            (read.0.blobs.clone(), Some(read.1), Some(read.0))
        }
        None => (BTreeSet::new(), None, None),
    };
    let is_by_lock = args.held.is_empty() && !args.no_images;
    let jobs = if is_by_lock { chosen(args, &config, &lock)? } else { Vec::new() };
    let upstreams = Upstreams::new(&config);
    let store = if args.upstreams { None } else { Some(open_store(&config)?) };
    let journal = if args.upstreams { store_if_any(&config)? } else { None };
    let budgets = Budgets::new(&config, &upstreams, journal.as_ref());
    let progress = context.output.progress();
    progress.say("looking into the images");
    let looked: Vec<Result<PackedImage, Failure>> = stream::iter(&jobs)
        .map(|job| {
            let (store, budgets) = (store.as_ref(), &budgets);
            async move {
                if store.is_none() {
                    let reserved = budgets.reserve(job.host(), job.pulls(), args.wait, context);
                    reserved.await.map_err(|failure| job.not_now(failure))?;
                }
                look_into(job, store, budgets.upstreams).await
            }
        })
        .buffered(AT_ONCE)
        .collect()
        .await;
    let looked = match (args.held.as_slice(), &store) {
        ([], _) | (_, None) => looked,
        (names, Some(store)) => super::held::look_into(names, &config, store).await?,
    };
    let packed = looked.into_iter().collect::<Result<Vec<PackedImage>, Failure>>();
    let packed = packed.inspect_err(|_| progress.done())?;

    let images = packed.iter().map(|packed| packed.image.clone()).collect();
    let lock = Digest::of(lock.write().as_bytes());
    let records = store_if_any(&config)?;
    let contents = Contents::new(config.larder.name.clone(), now_text(), lock, since, images);
    let feeds = match (&records, args.advisories) {
        (Some(records), true) => feeds::packed(records).await?,
        _ => Vec::new(),
    };
    if args.advisories && feeds.is_empty() {
        progress.done();
        let cause = "no advisories were taken in here";
        let remedy = "`larder advisory import` takes them in";
        return Err(Failure::usage(what(), cause, remedy).ending(Exit::No));
    }
    let (sequence, before) = number(&contents, records.as_ref()).await?;
    let removals = match (&receipt, &records, args.removals) {
        (Some(receipt), Some(records), true) => removals(receipt, &contents, records).await?,
        _ => Vec::new(),
    };
    let carried = feeds.iter().map(|feed| feed.about.clone()).collect();
    let mut contents = contents.numbered(sequence, before).removing(removals).advising(carried);
    let mut needed = BTreeMap::new();
    needed.extend(packed.iter().flat_map(|packed| packed.needs.clone()));
    needed.extend(feeds.iter().map(feeds::PackedFeed::needs));
    contents.fill(&needed, &held);
    contents.check().map_err(|error| Failure::usage(what(), error, "pack fewer with `--only`"))?;
    let total = ArchiveShape::of(&contents).total;
    let volume = args.volume.or_else(|| args.medium.map(Medium::volume));
    let volume = volume.map_or(total, |size| size.0).min(total);
    let mut report = PackReport {
        took: Duration::ZERO,
        folder: args.out.clone(),
        images: contents.images.len(),
        blobs: contents.blobs.len(),
        left_out: contents.held.len(),
        size_bytes: contents.total(),
        volumes: usize::try_from(total.div_ceil(volume)).unwrap_or(usize::MAX),
        removals: contents.removals.len(),
        feeds: contents.feeds.iter().map(|feed| feed.name.clone()).collect(),
        archive_bytes: total,
        free_bytes: free(&args.out),
        dry_run: args.dry_run,
        there_already: false,
    };
    if args.dry_run {
        progress.done();
        context.output.tell(&report);
        return Ok(Exit::Done);
    }
    if is_packed(&args.out, &contents, &trust) {
        progress.done();
        report.there_already = true;
        context.output.tell(&report);
        return Ok(Exit::Done);
    }
    // What an interrupted run has left there is there already.
    if let Some(free) = report.free_bytes.filter(|free| *free < total && !args.out.exists()) {
        progress.done();
        let cause = format!("it takes {}, and {} are free there", bytes(total), bytes(free));
        let remedy = "name a folder on another disk, pack fewer with `--only`, or leave out what is there with `--since`";
        return Err(Failure::usage(what(), cause, remedy).ending(Exit::No));
    }
    let parcel = NewParcel::begin(&args.out, contents, Some(volume));
    let parcel = parcel.map_err(|error| Failure::parcel(what(), &error))?;
    let written = write(&parcel, &packed, &feeds, &progress).await;
    progress.done();
    if let Err(error) = written {
        let failure = Failure::transfer(what(), &error);
        // What came over the network resumes; what lies in the store is quickly written again.
        if failure.exit != Exit::Remote {
            parcel.give_up();
        }
        return Err(failure);
    }
    let contents = parcel.seal(&key).map_err(|error| Failure::parcel(what(), &error))?;
    if let Some(records) = &records {
        let noted = records.note_parcel(PACKED, sequence, before).await;
        noted.map_err(|error| Failure::store(what(), &error))?;
    }
    report.volumes = contents.volumes.len();
    report.took = began.elapsed();
    context.output.tell(&report);
    Ok(Exit::Done)
}

/// What is free where a folder is, or will be, in bytes. None: nobody knows.
fn free(folder: &Path) -> Option<u64> {
    let there =
        folder.ancestors().find(|path| path.exists()).filter(|path| !path.as_os_str().is_empty());
    let state = rustix::fs::statvfs(there.unwrap_or(Path::new("."))).ok()?;
    Some(state.f_bavail.saturating_mul(state.f_frsize))
}

/// The tags of a receipt that are not here any more, and whose removal is in the record.
async fn removals(
    receipt: &Receipt,
    contents: &Contents,
    store: &Store,
) -> Result<Vec<ParcelRemoval>, Failure> {
    let failed = |error| Failure::store("cannot tell what was removed", &error);
    let filter = Filter { kinds: vec![RecordKind::Delete], ..Filter::default() };
    let removed = store.entries(filter).await.map_err(failed)?;
    let removed: HashMap<String, String> =
        removed.into_iter().filter_map(|entry| Some((entry.reference?, entry.text))).collect();
    let mut gone = Vec::new();
    for image in &receipt.images {
        let name = format!("{}:{}", image.name, image.tag);
        let comes = contents.images.iter().any(|one| one.to == image.name && one.tag == image.tag);
        let Some(because) = removed.get(&name).filter(|_| !comes) else { continue };
        let here = store.manifest_record(&image.name, &Selector::Tag(image.tag.clone())).await;
        if here.map_err(failed)?.is_none() {
            let because = larder_core::shown::cut(because, 300);
            let (to, tag, digest) = (image.name.clone(), image.tag.clone(), image.digest.clone());
            gone.push(ParcelRemoval { to, tag, digest, because });
        }
    }
    Ok(gone)
}

/// Under which the last parcel that was packed here is noted.
const PACKED: &str = "packed";

/// The number of a parcel, and of the one before it. With a chosen time, made anew, it has the same: then it is the
/// same.
async fn number(
    contents: &Contents,
    records: Option<&Store>,
) -> Result<(u64, Option<u64>), Failure> {
    let at = contents.order().unwrap_or(0);
    let Some(records) = records else { return Ok((at, None)) };
    let last = records.last_parcel(PACKED).await;
    let last = last.map_err(|error| Failure::store("cannot number the parcel", &error))?;
    let chosen = std::env::var_os("SOURCE_DATE_EPOCH").is_some();
    Ok(match last {
        // A time that was chosen stays; two parcels of one second have their order, and a clock that went back does
        // not make a later parcel an older one.
        Some((last, _)) if last >= at && !chosen => (last + 1, Some(last)),
        Some((last, before)) if last == at => (at, before),
        Some((last, _)) => (at, Some(last).filter(|last| *last < at)),
        None => (at, None),
    })
}

/// Whether the folder holds a finished parcel of the same content, as after a run that was killed
/// at its very end.
fn is_packed(folder: &Path, contents: &Contents, trust: &SignerTrust) -> bool {
    let Ok(there) = Parcel::open(&[folder.to_owned()], trust) else { return false };
    let there = there.contents;
    let there_too = (there.removals, there.feeds);
    (there.lock, there.since, there.images, there.blobs, there.held, there_too)
        == (
            contents.lock.clone(),
            contents.since.clone(),
            contents.images.clone(),
            contents.blobs.clone(),
            contents.held.clone(),
            (contents.removals.clone(), contents.feeds.clone()),
        )
}

/// The locked images that are asked for.
fn chosen<'c>(
    args: &Args,
    config: &'c Config,
    lock: &'c Lock,
) -> Result<Vec<IntakeJob<'c>>, Failure> {
    let jobs: Vec<IntakeJob<'_>> =
        jobs(config, lock).filter(|job| args.pick.takes(&job.want.image)).collect();
    if jobs.is_empty() {
        let (cause, remedy) = match args.pick.is_everything() {
            true => ("the lock names no image", "`larder intake lock` resolves what is wanted"),
            false => ("no locked image matches", "a pattern matches HOST/REPOSITORY"),
        };
        return Err(Failure::usage(
            format!("cannot pack {}", larder_transfer::files::named(&args.out)),
            cause,
            remedy,
        ));
    }
    Ok(jobs)
}

/// Finds out what an image and its companions need.
async fn look_into(
    job: &IntakeJob<'_>,
    store: Option<&Store>,
    upstreams: &Upstreams<'_>,
) -> Result<PackedImage, Failure> {
    let what = || format!("cannot pack {}", job.name());
    let failed = |error: TransferError| {
        let mut failure = Failure::transfer(what(), &error);
        if matches!(error, TransferError::NotHeld(_)) {
            failure.remedy =
                "`larder intake run` brings it in; `--upstreams` packs without the store".into();
        }
        failure
    };
    let source: Box<dyn Source> = match store {
        Some(store) => Box::new(Own::new(store.clone(), job.to.repository.clone())),
        None => Box::new(upstreams.source(job.want)?),
    };
    let trimmed = job.locked.trimmed.as_ref().map(|trimmed| &trimmed.digest);
    let all = Platforms::All;
    let outline = match (store, trimmed) {
        // What is trimmed is already so in the store, and holds what is wanted.
        (Some(_), Some(here)) => Outline::of(&*source, here, &all, None).await,
        (Some(_), None) => {
            Outline::of(&*source, &job.locked.digest, &job.intake.platforms, None).await
        }
        (None, trimmed) => {
            Outline::of(&*source, &job.locked.digest, &job.intake.platforms, trimmed).await
        }
    };
    let outline = outline.map_err(failed)?;
    let mut documents: HashMap<Digest, Document> = HashMap::new();
    let mut needs = BTreeMap::new();
    let mut companions = Vec::new();
    let mut add = |outline: Outline| {
        for (digest, document) in outline.documents {
            needs.insert(digest.clone(), document.bytes.len() as u64);
            needs.extend(document.blobs().map(|blob| (blob.digest.clone(), blob.size)));
            documents.insert(digest, document);
        }
    };
    let mut belongs = job.locked.companions.clone();
    if store.is_some() {
        // Our own approval is in no lock.
        let about: Vec<Digest> =
            outline.documents.iter().map(|(digest, _)| digest.clone()).collect();
        belongs.extend(belonging(&*source, about).await.map_err(failed)?);
    }
    for (digest, companion) in &belongs {
        let outline = Outline::of(&*source, digest, &all, None).await.map_err(failed)?;
        let top = outline.documents.last().map(|(_, document)| document);
        companions.push(ParcelCompanion {
            digest: digest.clone(),
            media_type: top.map(|top| top.media_type.clone()).unwrap_or_default(),
            size: top.map_or(0, |top| top.bytes.len() as u64),
            kind: companion.kind.clone(),
            tag: companion.tag.clone(),
        });
        add(outline);
    }
    let (digest, absent) = (outline.digest.clone(), outline.absent.clone());
    add(outline);
    let top = documents.get(&digest);
    let image = ParcelImage {
        to: job.to.repository.clone(),
        tag: job.want.tag.clone(),
        image: job.want.image.clone(),
        media_type: top.map(|top| top.media_type.clone()).unwrap_or_default(),
        size: top.map_or(0, |top| top.bytes.len() as u64),
        digest,
        absent,
        companions,
    };
    // An upstream is asked for each manifest once; the store can be asked again.
    let source = match store {
        Some(_) => source,
        None => Box::new(KnownSource { inner: source, documents }),
    };
    Ok(PackedImage { source, image, needs })
}

/// Writes everything that the images need.
async fn write(
    parcel: &NewParcel,
    packed: &[PackedImage],
    feeds: &[feeds::PackedFeed],
    progress: &Progress,
) -> Result<(), TransferError> {
    for feed in feeds {
        feed.write(parcel).await?;
    }
    let engine = Engine::new(progress.clone());
    let outcomes: Vec<Result<(), TransferError>> = stream::iter(packed)
        .map(|packed| {
            let engine = &engine;
            async move {
                let PackedImage { source, image, .. } = packed;
                progress.say(format!("{}:{}", image.to, image.tag));
                let leave = image.absent.iter().cloned().collect();
                let tops = image.companions.iter().map(|companion| &companion.digest);
                for digest in tops.chain([&image.digest]) {
                    let order = MoveOrder {
                        source: &**source,
                        selector: Selector::Digest(digest.clone()),
                        target: parcel,
                        tag: None,
                        platforms: &Platforms::All,
                        leave: &leave,
                        trimmed: None,
                    };
                    engine.run(&order).await?;
                }
                Ok(())
            }
        })
        .buffer_unordered(AT_ONCE)
        .collect()
        .await;
    outcomes.into_iter().collect()
}

impl Report for PackReport {
    const KIND: &'static str = "parcel-pack";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &PackReport, out: &Output) {
    let left_out = match report.left_out {
        0 => String::new(),
        number => format!(", {} left out because the far side has them", count(number, "blob")),
    };
    let (verb, end) = match (report.dry_run, report.there_already) {
        (true, _) => ("would pack", String::new()),
        (false, true) => ("packed already:", String::new()),
        (false, false) => ("packed", format!(" in {:.1} s", report.took.as_secs_f64())),
    };
    out.result(format!(
        "{verb} {}: {}, {} ({}){left_out}; {}{end}",
        larder_transfer::files::named(&report.folder),
        count(report.images, "image"),
        count(report.blobs, "blob"),
        bytes(report.size_bytes),
        count(report.volumes, "volume"),
    ));
    if report.removals > 0 {
        out.result(format!("it says that {} were removed here", count(report.removals, "tag")));
    }
    if !report.feeds.is_empty() {
        out.result(format!("with the advisories of {}", report.feeds.join(", ")));
    }
    if let (true, Some(free)) = (report.dry_run, report.free_bytes) {
        let (takes, free) = (bytes(report.archive_bytes), bytes(free));
        out.note(format!("it takes {takes} where it goes, and {free} are free there"));
    }
}

/// A source whose manifests are known already.
struct KnownSource {
    inner: Box<dyn Source>,
    documents: HashMap<Digest, Document>,
}

#[async_trait]
impl Source for KnownSource {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        if let Selector::Digest(digest) = selector
            && let Some(document) = self.documents.get(digest)
        {
            return Ok((digest.clone(), document.clone()));
        }
        self.inner.manifest(selector).await
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        self.inner.blob(blob).await
    }

    async fn companions(
        &self,
        about: &Digest,
    ) -> Result<Vec<(Digest, larder_core::companion::Companion)>, TransferError> {
        self.inner.companions(about).await
    }

    fn places(&self) -> usize {
        self.inner.places()
    }

    async fn blob_at(&self, place: usize, blob: &Descriptor) -> Result<Content, TransferError> {
        self.inner.blob_at(place, blob).await
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        self.inner.small_blob(blob, limit).await
    }
}
