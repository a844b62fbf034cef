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
use larder_core::parcel::{ArchiveShape, Contents, ParcelCompanion, ParcelImage, VolumeSize};
use larder_core::platform::Platforms;
use larder_core::reference::Selector;
use larder_store::Store;
use larder_transfer::parcel::{NewParcel, Parcel, SignerTrust, read_receipt};
use larder_transfer::{Content, Engine, MoveOrder, Outline, Own, Source, TransferError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::intake::{Budgets, IntakeJob, Upstreams, jobs};
use crate::config::Config;
use crate::context::{Context, open_store, read_lock, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Progress, Report, bytes, count};
use crate::parcel::{now_text, signing_key, trust_of};
use crate::pick::Pick;

/// Pack what the lock names into a parcel
///
/// A parcel is a folder with a tar archive (a plain OCI image layout, in volumes where that is
/// asked for) and its signed table of contents. A run that was killed resumes.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  larder parcel pack /media/disk/week-48\n  \
    larder parcel pack /media/disk/week-49 --since turbine-hall.receipt --volume 3.9GiB")]
pub struct Args {
    /// The folder to make
    out: PathBuf,
    /// Leave out what the far side has by this receipt
    #[arg(long, value_name = "RECEIPT")]
    since: Option<PathBuf>,
    #[command(flatten)]
    pick: Pick,
    /// Cut the archive into files of this size, as in 3.9GiB (FAT32 takes no file of 4 GiB)
    #[arg(long, value_name = "SIZE")]
    volume: Option<VolumeSize>,
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
struct PackedImage {
    source: Box<dyn Source>,
    image: ParcelImage,
    /// Everything that it needs, with its size in bytes.
    needs: BTreeMap<Digest, u64>,
}

#[derive(Serialize, JsonSchema)]
pub struct PackReport {
    folder: PathBuf,
    images: usize,
    blobs: usize,
    left_out: usize,
    size_bytes: u64,
    volumes: usize,
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
    let (held, since) = match &args.since {
        Some(path) => {
            let read =
                read_receipt(path, &trust).map_err(|error| Failure::parcel(what(), &error))?;
            (read.0.blobs, Some(read.1))
        }
        None => (BTreeSet::new(), None),
    };
    let jobs = chosen(args, &config, &lock)?;
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
    let packed = looked.into_iter().collect::<Result<Vec<PackedImage>, Failure>>();
    let packed = packed.inspect_err(|_| progress.done())?;

    let images = packed.iter().map(|packed| packed.image.clone()).collect();
    let lock = Digest::of(lock.write().as_bytes());
    let records = store_if_any(&config)?;
    let contents = Contents::new(config.larder.name.clone(), now_text(), lock, since, images);
    let (sequence, before) = number(&contents, records.as_ref()).await?;
    let mut contents = contents.numbered(sequence, before);
    let mut needed = BTreeMap::new();
    needed.extend(packed.iter().flat_map(|packed| packed.needs.clone()));
    contents.fill(&needed, &held);
    contents.check().map_err(|error| Failure::usage(what(), error, "pack fewer with `--only`"))?;
    let total = ArchiveShape::of(&contents).total;
    let volume = args.volume.map_or(total, |size| size.0).min(total);
    let mut report = PackReport {
        took: Duration::ZERO,
        folder: args.out.clone(),
        images: contents.images.len(),
        blobs: contents.blobs.len(),
        left_out: contents.held.len(),
        size_bytes: contents.total(),
        volumes: usize::try_from(total.div_ceil(volume)).unwrap_or(usize::MAX),
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
    let parcel = NewParcel::begin(&args.out, contents, Some(volume));
    let parcel = parcel.map_err(|error| Failure::parcel(what(), &error))?;
    let written = write(&parcel, &packed, &progress).await;
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
    (there.lock, there.since, there.images, there.blobs, there.held)
        == (
            contents.lock.clone(),
            contents.since.clone(),
            contents.images.clone(),
            contents.blobs.clone(),
            contents.held.clone(),
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
        None => Box::new(upstreams.source(&job.want.image)?),
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
    for (digest, companion) in &job.locked.companions {
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
    progress: &Progress,
) -> Result<(), TransferError> {
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
