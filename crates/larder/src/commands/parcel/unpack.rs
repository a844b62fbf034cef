//! `larder parcel unpack`: from the disk into the store or a registry, only after verifying.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::parcel::{HeldImage, ParcelImage, Receipt};
use larder_core::platform::Platforms;
use larder_core::reference::Selector;
use larder_store::RecordKind;
use larder_store::Store;
use larder_transfer::parcel::{
    Parcel, ParcelError, ParcelSource, Pour, SignerTrust, receipt_of, verify, write_receipt,
};
use larder_transfer::{Engine, MoveOrder, MoveOutcome, Source as _, Target, TransferError};
use schemars::JsonSchema;
use serde::Serialize;

use super::elsewhere::FarRegistry;
use super::feeds::{FeedsWish, UnpackedFeed};
use super::gate::{ParcelGate, source_of};
use super::receipt::default_path;
use super::{ParcelArgs, plain, removals};
use crate::config::Config;
use crate::context::{Context, open_store, own};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, GONE, GOOD, Output, Report, WARN, bytes, count, paint};
use crate::parcel::{now_text, signing_key};
use crate::record;

/// Put what a parcel brings into the store or a registry, and write a receipt
///
/// Only after all of it was verified does anything become visible. A run that was killed is gone on
/// with; what is there already is not written again.
#[derive(Debug, clap::Args)]
#[command(after_help = "Archives that nobody signed (an OCI layout, or what a container daemon \
    saves) are taken with `--unsigned`:\n  larder parcel unpack --unsigned kettle.tar --as vendor/kettle")]
pub struct Args {
    #[command(flatten)]
    named: ParcelArgs,
    /// Into this registry instead of this larder's store, below a prefix where one is given
    #[arg(long, value_name = "HOST[/PREFIX]")]
    to: Option<String>,
    /// The file for the receipt [default: NAME.receipt, by this larder's name]
    #[arg(long, value_name = "FILE")]
    receipt: Option<PathBuf>,
    /// Take archives that nobody signed; their content is verified by its digests alone
    #[arg(long)]
    unsigned: bool,
    /// With `--unsigned`: where the image goes [default: by its name and the routes]
    #[arg(long, value_name = "SHELF/NAME", requires = "unsigned")]
    r#as: Option<RepositoryName>,
    /// Take tags back too, when the parcel is older than what was unpacked last from its signer
    #[arg(long)]
    older: bool,
    /// Also remove the tags that the parcel says were removed where it was made
    #[arg(long, conflicts_with_all = ["unsigned", "to"])]
    removals: bool,
    /// Say what would be unpacked, and write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Images that are made visible at once.
const AT_ONCE: usize = 4;
/// What was unpacked, or would be.
#[derive(Serialize, JsonSchema, Default)]
pub struct UnpackReport {
    /// Whether nothing was unpacked.
    pub dry_run: bool,
    pub images: Vec<UnpackedImage>,
    /// Images that a rule of this side refuses for who signed them: they get no tag.
    pub refused: Vec<String>,
    /// Tags that would have gone back to something older, and stay.
    pub held_back: Vec<String>,
    /// Tags that were removed, or would be.
    pub removed: Vec<String>,
    /// Tags that the parcel says were removed, and that stay; each with the reason.
    pub removals_left: Vec<KeptTag>,
    /// Advisories that came along, feed by feed.
    pub feeds: Vec<UnpackedFeed>,
    /// None: nobody signed for it.
    pub signed_by: Option<String>,
    pub blobs_copied: usize,
    pub blobs_present: usize,
    /// With `dry_run`, what is not here yet.
    pub copied_bytes: u64,
    /// With `dry_run`, what is free in the store above its reserve. null: it was not asked, or nobody knows.
    pub free_bytes: Option<u64>,
    /// The file to carry back. None: none was written.
    pub receipt: Option<PathBuf>,
    pub seconds: f64,
}

/// A tag that stays although it was removed elsewhere.
#[derive(Serialize, JsonSchema)]
pub struct KeptTag {
    pub tag: String,
    pub because: String,
}

#[derive(Serialize, JsonSchema)]
pub struct UnpackedImage {
    /// Where it is now.
    pub to: String,
    /// The archive that it came from. None: it came from a signed parcel.
    pub archive: Option<PathBuf>,
    /// Its name in the archive.
    pub name: Option<String>,
}

impl UnpackedImage {
    fn signed(to: String) -> Self {
        Self { to, archive: None, name: None }
    }
}

impl Report for UnpackReport {
    const KIND: &'static str = "parcel-unpack";

    fn show(&self, out: &Output) {
        let verb = if self.dry_run { "would unpack".to_owned() } else { paint(GOOD, "unpacked") };
        for image in &self.images {
            let from = image.name.as_ref().map(|name| format!("{name} to ")).unwrap_or_default();
            out.result(format!("{verb} {from}{}", image.to));
        }
        for feed in &self.feeds {
            out.result(feed.line());
        }
        for name in &self.refused {
            out.result(format!("{} {name}", paint(BAD, "refused")));
        }
        for name in &self.held_back {
            out.result(format!("{} {name}", paint(WARN, "held back")));
        }
        if !self.held_back.is_empty() {
            out.note("This parcel is older than the last from its signer: these tags point to something else by now, and stay. `--older` takes them back too.");
        }
        let verb = if self.dry_run { "would remove" } else { "removed" };
        for name in &self.removed {
            out.result(format!("{} {name}", paint(GONE, verb)));
        }
        for KeptTag { tag, because } in &self.removals_left {
            out.note(format!("{tag} was removed where the parcel was made, and stays: {because}"));
        }
        if self.dry_run {
            if let Some(free) = self.free_bytes {
                let (takes, free) = (bytes(self.copied_bytes), bytes(free));
                out.note(format!("it takes {takes} of the store, and {free} are free there"));
            }
            return;
        }
        let (images, copied) =
            (count(self.images.len(), "image"), count(self.blobs_copied, "blob"));
        let copied = format!(
            "{copied} copied ({}), {} there already",
            bytes(self.copied_bytes),
            self.blobs_present
        );
        out.result(match &self.signed_by {
            Some(by) => {
                format!("{images} from a parcel signed by {by}; {copied}; {:.1} s", self.seconds)
            }
            None => format!("{images}; {copied}; nobody signed for them"),
        });
        if let Some(receipt) = &self.receipt {
            out.result(format!("wrote the receipt {}", larder_transfer::files::named(receipt)));
            out.note(
                "Carry it back: `larder parcel pack --since RECEIPT` leaves out what is here.",
            );
        }
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: the steps of unpacking in their order; what must be refused is refused before the first is done.
    let began = Instant::now();
    let config = context.config()?;
    let elsewhere = args.to.as_deref().map(FarRegistry::read).transpose()?;
    if args.unsigned {
        let wish = plain::PlainRequest {
            paths: &args.named.paths,
            to: args.r#as.as_ref(),
            dry_run: args.dry_run,
        };
        return plain::unpack(&wish, elsewhere.as_ref(), &config, context).await;
    }
    let what = || format!("cannot unpack the parcel {}", args.named.shown());
    let failed = |error: ParcelError| Failure::parcel(what(), &error);
    // Without a key there would be no receipt at the end: better told now.
    let key = signing_key(&config, &what())?;
    let trust = args.named.trust(Some(&config))?;
    let parcel = Arc::new(Parcel::open(&args.named.paths, &trust).map_err(failed)?);
    if elsewhere.is_none() {
        for image in &parcel.contents.images {
            let what = format!("cannot unpack {}:{}", image.to, image.tag);
            config.check_shelf(what, &image.to)?;
        }
    }
    check_shelves(&parcel, &trust).map_err(failed)?;
    let store = open_store(&config)?;
    let whose = format!(
        "{}{}",
        trust.key_of(&parcel.signed_by),
        elsewhere.as_ref().map(|to| format!(" to {}", to.host)).unwrap_or_default()
    );
    let back = match args.older {
        true => BTreeSet::new(),
        false => goes_back(&parcel, &store, elsewhere.as_ref(), &config, &whose).await?,
    };
    if elsewhere.is_none() {
        check_held(&parcel, &store).await.map_err(failed)?;
    }
    let refused = match ParcelGate::of(&config)? {
        Some(gate) => gate.refused(&parcel, &store, elsewhere.as_ref(), &config).await?,
        None => Vec::new(),
    };
    let mut left = back.clone();
    left.extend(refused.iter().map(|(image, _)| *image));
    let mut report = UnpackReport::of(&parcel, &back, elsewhere.as_ref())?;
    report.refuse(&refused, elsewhere.as_ref())?;
    let exit = if left.is_empty() { Exit::Done } else { Exit::No };
    let gone = removals::plan(&parcel, args.removals, &config, &store).await?;
    (report.removed, report.removals_left) = gone.told();
    // They are for this larder, wherever the images go.
    let feeds = FeedsWish {
        parcel: &parcel,
        store: &store,
        trust: &trust,
        older: args.older,
        dry_run: args.dry_run,
    };
    if args.dry_run {
        report.feeds = feeds.carry_out().await?;
        if elsewhere.is_none() {
            let before = present(&parcel, &store, true).await.map_err(failed)?;
            let new = parcel.contents.blobs.iter().filter(|blob| !before.contains(&blob.digest));
            report.copied_bytes = new.map(|blob| blob.size).sum();
            let room = store.room().await.map_err(|error| Failure::store(what(), &error))?;
            report.free_bytes = room.map(|room| room.saturating_sub(config.larder.reserve));
        }
        context.output.tell(&UnpackReport { dry_run: true, ..report });
        for (_, failure) in &refused {
            context.output.failure(failure);
        }
        return Ok(exit);
    }
    let progress = context.output.progress();
    let pour = match elsewhere {
        None => {
            let removed = store.remove_abandoned(larder_store::ABANDONED).await;
            removed.map_err(|error| Failure::store(what(), &error))?;
            Pour::Into(&store)
        }
        Some(_) => Pour::No,
    };
    let before = present(&parcel, &store, elsewhere.is_none()).await.map_err(failed)?;
    if elsewhere.is_none() {
        let new = parcel.contents.blobs.iter().filter(|blob| !before.contains(&blob.digest));
        let room = store.check_room(new.map(|blob| blob.size).sum()).await;
        room.map_err(|error| Failure::store(what(), &error))?;
    }
    progress.say("verifying");
    let verified = verify(&parcel, pour, progress.clone()).await;
    progress.done();
    verified.map_err(failed)?;

    let moved = show_to_everybody(&parcel, &left, &store, elsewhere.as_ref(), &config).await?;
    note(&parcel, &left, &store, elsewhere.as_ref()).await?;
    gone.carry_out(&parcel, &store).await?;
    report.feeds = feeds.carry_out().await?;
    if let Some(order) = parcel.contents.order() {
        let noted = store.note_parcel(&whose, order, parcel.contents.predecessor).await;
        noted.map_err(|error| Failure::store(what(), &error))?;
    }
    let receipt = match &elsewhere {
        None => receipt_of(&config.larder.name, now_text(), &store).await.map_err(failed)?,
        Some(elsewhere) => receipt_of_parcel(&parcel, elsewhere),
    };
    let path = args.receipt.clone().unwrap_or_else(|| default_path(&receipt.made_by));
    write_receipt(&path, &receipt, &key).map_err(failed)?;
    report = UnpackReport {
        blobs_copied: moved.copied,
        blobs_present: moved.present,
        copied_bytes: moved.bytes,
        receipt: Some(path),
        seconds: began.elapsed().as_secs_f64(),
        ..report
    };
    if elsewhere.is_none() {
        // They came while they were verified.
        let blobs = &parcel.contents.blobs;
        report.blobs_copied = blobs.len() - before.len();
        report.blobs_present = before.len();
        let came = blobs.iter().filter(|blob| !before.contains(&blob.digest));
        report.copied_bytes = came.map(|blob| blob.size).sum();
    }
    context.output.tell(&report);
    for (_, failure) in &refused {
        context.output.failure(failure);
    }
    Ok(exit)
}

/// Writes down what came.
async fn note(
    parcel: &Parcel,
    back: &BTreeSet<&ParcelImage>,
    store: &Store,
    elsewhere: Option<&FarRegistry>,
) -> Result<(), Failure> {
    let mut entries = Vec::new();
    for image in parcel.contents.images.iter().filter(|image| !back.contains(image)) {
        let text = format!("from a parcel signed by {}, {}", parcel.signed_by, image.digest);
        entries.push(record::entry(RecordKind::Unpack, &shown(image, elsewhere)?, &text));
    }
    let noted = record::note(store, entries).await;
    noted.map_err(|error| Failure::store("cannot write the record", &error))
}

impl UnpackReport {
    /// What a parcel brings, but for what would go back to an older image.
    fn of(
        parcel: &Parcel,
        back: &BTreeSet<&ParcelImage>,
        elsewhere: Option<&FarRegistry>,
    ) -> Result<Self, Failure> {
        let signed_by = Some(parcel.signed_by.clone());
        let mut report = Self { signed_by, ..Self::default() };
        for image in &parcel.contents.images {
            let name = shown(image, elsewhere)?;
            match back.contains(image) {
                true => report.held_back.push(name),
                false => report.images.push(UnpackedImage::signed(name)),
            }
        }
        Ok(report)
    }

    /// Tells what is refused.
    fn refuse(
        &mut self,
        refused: &[(&ParcelImage, Failure)],
        elsewhere: Option<&FarRegistry>,
    ) -> Result<(), Failure> {
        for (image, _) in refused {
            let name = shown(image, elsewhere)?;
            self.images.retain(|one| one.to != name);
            self.held_back.retain(|one| *one != name);
            self.refused.push(name);
        }
        Ok(())
    }
}

/// Refuses a parcel that brings something to a shelf for which its signer is not trusted.
fn check_shelves(parcel: &Parcel, trust: &SignerTrust) -> Result<(), ParcelError> {
    let Some(allowed) = trust.shelves_of(&parcel.signed_by) else { return Ok(()) };
    let beyond = parcel
        .contents
        .images
        .iter()
        .find(|image| !allowed.iter().any(|shelf| shelf == image.to.first_component()));
    match beyond {
        None => Ok(()),
        Some(image) => Err(ParcelError::Shelf {
            signer: parcel.signed_by.clone(),
            image: format!("{}:{}", image.to, image.tag),
            allowed: allowed.join(", "),
        }),
    }
}

/// The images whose tags would go back: the parcel is older than the last one from its signer, and they point to
/// something else by now.
async fn goes_back<'p>(
    parcel: &'p Parcel,
    store: &Store,
    elsewhere: Option<&FarRegistry>,
    config: &Config,
    whose: &str,
) -> Result<BTreeSet<&'p ParcelImage>, Failure> {
    let mut back = BTreeSet::new();
    let last = store.last_parcel(whose).await;
    let last =
        last.map_err(|error| Failure::store("cannot tell what was unpacked last", &error))?;
    let (Some((last, _)), Some(order)) = (last, parcel.contents.order()) else { return Ok(back) };
    if order >= last {
        return Ok(back);
    }
    for image in &parcel.contents.images {
        let selector = Selector::Tag(image.tag.clone());
        let there: Option<Digest> = match elsewhere {
            None => {
                let found = store.manifest_record(&image.to, &selector).await;
                let found =
                    found.map_err(|error| Failure::store("cannot read the tags", &error))?;
                found.map(|found| found.digest)
            }
            Some(elsewhere) => match elsewhere.end(&image.to, config)?.manifest(&selector).await {
                Ok((digest, _)) => Some(digest),
                Err(TransferError::Client(larder_client::ClientError::NotFound { .. })) => None,
                Err(error) => return Err(Failure::transfer("cannot read the tags there", &error)),
            },
        };
        if there.is_some_and(|there| there != image.digest) {
            back.insert(image);
        }
    }
    Ok(back)
}

fn shown(image: &ParcelImage, elsewhere: Option<&FarRegistry>) -> Result<String, Failure> {
    Ok(match elsewhere {
        Some(elsewhere) => format!("{}:{}", elsewhere.image(&image.to)?, image.tag),
        None => format!("{}:{}", image.to, image.tag),
    })
}

/// Refuses a parcel that leaves out what is not here.
async fn check_held(parcel: &Parcel, store: &Store) -> Result<(), ParcelError> {
    let mut lacking = Vec::new();
    for digest in &parcel.contents.held {
        if store.size_on_disk(digest).await?.is_none() {
            lacking.push(digest);
        }
    }
    match lacking.first() {
        Some(first) => {
            Err(ParcelError::NotHeld { count: lacking.len(), example: first.to_string() })
        }
        None => Ok(()),
    }
}

/// The parcel's blobs that the store has already.
async fn present(
    parcel: &Parcel,
    store: &Store,
    asked: bool,
) -> Result<BTreeSet<Digest>, ParcelError> {
    let mut found = BTreeSet::new();
    for blob in parcel.contents.blobs.iter().filter(|_| asked) {
        if store.size_on_disk(&blob.digest).await? == Some(blob.size) {
            found.insert(blob.digest.clone());
        }
    }
    Ok(found)
}

/// Makes the verified images visible, each with its companions.
async fn show_to_everybody(
    parcel: &Arc<Parcel>,
    back: &BTreeSet<&ParcelImage>,
    store: &Store,
    elsewhere: Option<&FarRegistry>,
    config: &Config,
) -> Result<MoveOutcome, Failure> {
    let engine = Engine::silent();
    let brought = parcel.contents.blobs.iter().map(|blob| &blob.digest);
    let blobs: BTreeSet<Digest> = brought.chain(&parcel.contents.held).cloned().collect();
    let blobs = Arc::new(blobs);
    let taken = parcel.contents.images.iter().filter(|image| !back.contains(image));
    let outcomes: Vec<Result<MoveOutcome, Failure>> = stream::iter(taken)
        .map(|image| {
            let (engine, blobs) = (&engine, Arc::clone(&blobs));
            async move {
                let target: Box<dyn Target> = match elsewhere {
                    Some(elsewhere) => Box::new(elsewhere.end(&image.to, config)?),
                    None => Box::new(own(store.clone(), config, image.to.clone()).adopting(blobs)),
                };
                let source = source_of(parcel, image, store, elsewhere, config)?;
                unpack_one(engine, image, &source, &*target).await.map_err(|error| {
                    Failure::transfer(format!("cannot unpack {}:{}", image.to, image.tag), &error)
                })
            }
        })
        .buffer_unordered(AT_ONCE)
        .collect()
        .await;
    let mut total = MoveOutcome::default();
    for outcome in outcomes {
        total.add(&outcome?);
    }
    Ok(total)
}

async fn unpack_one(
    engine: &Engine,
    image: &ParcelImage,
    source: &ParcelSource,
    target: &dyn Target,
) -> Result<MoveOutcome, TransferError> {
    let leave = image.absent.iter().cloned().collect();
    let mut total = MoveOutcome::default();
    let companions = image.companions.iter().map(|one| (&one.digest, one.tag.clone()));
    for (digest, tag) in companions.chain([(&image.digest, Some(image.tag.clone()))]) {
        let order = MoveOrder {
            source,
            selector: Selector::Digest(digest.clone()),
            target,
            tag,
            platforms: &Platforms::All,
            leave: &leave,
            trimmed: None,
        };
        total.add(&engine.run(&order).await?);
    }
    Ok(total)
}

/// What a registry has now for certain: what the parcel brought and what it left out.
fn receipt_of_parcel(parcel: &Parcel, elsewhere: &FarRegistry) -> Receipt {
    let contents = &parcel.contents;
    let held = |image: &ParcelImage| HeldImage {
        name: image.to.clone(),
        tag: image.tag.clone(),
        digest: image.digest.clone(),
    };
    let blobs = contents.blobs.iter().map(|blob| &blob.digest).chain(&contents.held);
    Receipt {
        made_by: elsewhere.host.to_string(),
        made_at: now_text(),
        images: contents.images.iter().map(held).collect(),
        blobs: blobs.cloned().collect(),
    }
}
