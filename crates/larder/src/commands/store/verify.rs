//! `larder store verify`: read everything again.

use bytes::Bytes;
use futures_util::{StreamExt as _, TryStreamExt as _};
use larder_core::digest::{Digest, Hasher};
use larder_core::quantity::Span;
use larder_store::{RecordKind, Store, StoreError, StoredBlob, Withdrawn};
use larder_transfer::Watch as _;
use schemars::JsonSchema;
use serde::Serialize;

use super::failed;
use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::marks;
use crate::output::{BAD, GOOD, Output, Progress, Report, bytes, count, paint, short};
use crate::record;

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

#[derive(Serialize, JsonSchema, Default)]
pub struct VerifyReport {
    /// Contents that were read.
    blobs: usize,
    /// Their sizes together.
    size_bytes: u64,
    damaged: Vec<DamagedContent>,
    /// What is recorded and not there.
    #[schemars(with = "Vec<String>")]
    missing: Vec<Digest>,
    /// Tags that lead to something incomplete.
    tags: Vec<String>,
    /// Manifests that are incomplete.
    manifests: usize,
    /// What nothing refers to.
    unreferenced: usize,
    unreferenced_bytes: u64,
    /// Whether it was repaired.
    repaired: bool,
    /// Files of an earlier form of the store that were removed, because everything is in order in this one.
    old_files: usize,
}

#[derive(Serialize, JsonSchema)]
struct DamagedContent {
    #[schemars(with = "String")]
    digest: Digest,
    /// What its content really has. None: it could not be read.
    #[schemars(with = "Option<String>")]
    actual: Option<Digest>,
    size_bytes: u64,
    /// The system's word, when it could not be read.
    cause: Option<String>,
    /// Where it lies now, in the store's folder. None: where it was.
    aside: Option<String>,
}

/// Rows that are read at once.
const PAGE: usize = 256;

pub async fn run(args: &Args, store: &Store, context: &Context) -> Outcome {
    let jobs = args.jobs.or_else(|| std::thread::available_parallelism().ok());
    let jobs = jobs.map_or(1, std::num::NonZeroUsize::get);
    let mut report = VerifyReport::default();
    let progress = context.output.progress();
    progress.say("reading");
    let (_, all) = store.extent().await.map_err(|error| failed(&error))?;
    progress.expect(all);
    let bodies =
        read_bodies(store, &mut report, &progress).await.map_err(|error| failed(&error))?;
    let blobs = read_blobs(store, jobs, &mut report, &progress).await;
    let blobs = blobs.map_err(|error| failed(&error))?;
    progress.done();
    report.missing.sort();
    report.missing.dedup();
    report.damaged.sort_by(|a, b| a.digest.cmp(&b.digest));
    let lost: Vec<Digest> = report
        .missing
        .iter()
        .chain(report.damaged.iter().map(|one| &one.digest))
        .cloned()
        .collect();
    report.repaired = args.repair;
    let looked_after = look_after(args, store, &mut report, bodies, blobs).await;
    looked_after.map_err(|error| failed(&error))?;
    let withdrawn: Withdrawn =
        store.withdraw(lost, !args.repair).await.map_err(|error| failed(&error))?;
    report.tags = withdrawn.tags.iter().map(|(name, tag, _)| format!("{name}:{tag}")).collect();
    report.manifests = withdrawn.manifests.len();
    if args.repair {
        let because = "withdrawn by `store verify --repair`: its content was damaged or missing";
        let entries = report.tags.iter().map(|tag| record::entry(RecordKind::Delete, tag, because));
        let noted = record::note(store, entries.collect()).await;
        noted.map_err(|error| failed(&error))?;
    }
    let sound = report.damaged.is_empty() && report.missing.is_empty();
    if sound {
        // All of it is right in the new form: what the earlier one had besides is not needed any more.
        report.old_files = store.remove_old_files().await.map_err(|error| failed(&error))?;
    }
    let found = match sound {
        true => marks::SOUND.to_owned(),
        false => format!("{} damaged, {} missing", report.damaged.len(), report.missing.len()),
    };
    marks::note(store, marks::VERIFY, &found).await;
    context.output.tell(&report);
    Ok(if sound { Exit::Done } else { Exit::Content })
}

/// What a manifest's bytes have as their digest, by the algorithm of the one that they should have.
pub fn hashed(wanted: &Digest, body: &[u8]) -> Digest {
    let mut hasher = Hasher::new(wanted.algorithm());
    hasher.update(body);
    hasher.finish()
}

/// What is wrong with a manifest, with the bytes that it had.
type BadBody = (Digest, Bytes);

/// Reads every manifest.
async fn read_bodies(
    store: &Store,
    report: &mut VerifyReport,
    progress: &Progress,
) -> Result<Vec<BadBody>, StoreError> {
    let mut bad = Vec::new();
    let mut after: Option<Digest> = None;
    loop {
        let page = store.bodies_after(after.as_ref(), PAGE).await?;
        let Some((last, _)) = page.last() else { break };
        after = Some(last.clone());
        for (digest, body) in page {
            let size = body.len() as u64;
            let actual = hashed(&digest, &body);
            report.blobs += 1;
            report.size_bytes += size;
            progress.advance(size);
            if actual != digest {
                report.damaged.push(DamagedContent {
                    digest: digest.clone(),
                    actual: Some(actual),
                    size_bytes: size,
                    cause: None,
                    aside: None,
                });
                bad.push((digest, body));
            }
        }
    }
    report.missing.extend(store.missing_bodies(MISSING).await?);
    Ok(bad)
}

/// Manifests without bytes that are told and withdrawn in one run.
const MISSING: usize = 100_000;

/// Reads every blob. Gives those that are damaged or missing, as their rows were before they were read.
async fn read_blobs(
    store: &Store,
    jobs: usize,
    report: &mut VerifyReport,
    progress: &Progress,
) -> Result<Vec<StoredBlob>, StoreError> {
    let mut bad = Vec::new();
    let mut after: Option<Digest> = None;
    loop {
        let page = store.stored_after(after.as_ref(), PAGE).await?;
        let Some(last) = page.last() else { return Ok(bad) };
        after = Some(last.digest.clone());
        report.blobs += page.len();
        report.size_bytes += page.iter().map(|one| one.size).sum::<u64>();
        let mut read = futures_util::stream::iter(page)
            .map(|one| async move {
                let size = one.size;
                let met = check(store, &one).await;
                progress.advance(size);
                met.map(|met| (one, met))
            })
            .buffer_unordered(jobs);
        while let Some((one, met)) = read.try_next().await? {
            match met {
                MetDamage::Fine => continue,
                MetDamage::Missing => report.missing.push(one.digest.clone()),
                MetDamage::Damaged(damaged) => report.damaged.push(damaged),
            }
            bad.push(one);
        }
        progress.say(format!(
            "read {} in {}",
            bytes(report.size_bytes),
            count(report.blobs, "blob")
        ));
    }
}

/// Counts what nothing refers to. With `--repair`, sets aside what is damaged, and removes what nothing refers to.
async fn look_after(
    args: &Args,
    store: &Store,
    report: &mut VerifyReport,
    bodies: Vec<BadBody>,
    blobs: Vec<StoredBlob>,
) -> Result<(), StoreError> {
    let grace = i64::try_from(args.grace.0.as_millis()).unwrap_or(i64::MAX);
    let before = now() - grace;
    if args.repair {
        for one in &blobs {
            // Only what was read is taken away: somebody may have sent it again since.
            if store.condemn_damaged(one).await? {
                let aside = store.set_aside(one).await?;
                let told = report.damaged.iter_mut().find(|damaged| damaged.digest == one.digest);
                if let Some(damaged) = told {
                    damaged.aside = aside;
                }
            }
        }
        for (digest, body) in bodies {
            store.remove_damaged_body(&digest, body).await?;
        }
        store.remove_abandoned(larder_store::ABANDONED).await?;
    }
    let (mut loose, mut loose_bytes) = (0, 0);
    if args.repair {
        loop {
            let condemned = store.condemn(before, PAGE).await?;
            if condemned.is_empty() {
                break;
            }
            let freed = store.free(condemned).await?;
            loose += freed.len() as u64;
            loose_bytes += freed.iter().map(|(_, size)| size).sum::<u64>();
        }
    } else {
        (loose, loose_bytes) = store.unlinked(before).await?;
    }
    for part in 0..=u8::MAX {
        let (strays, bytes) = store.collect_strays(part, args.grace.0, !args.repair).await?;
        (loose, loose_bytes) = (loose + strays, loose_bytes + bytes);
    }
    report.unreferenced = usize::try_from(loose).unwrap_or(usize::MAX);
    report.unreferenced_bytes = loose_bytes;
    Ok(())
}

/// What was met when a blob was read.
enum MetDamage {
    /// It is what its digest says, or it was taken away or sent anew meanwhile.
    Fine,
    /// It is recorded and not there.
    Missing,
    Damaged(DamagedContent),
}

/// Reads a blob.
async fn check(store: &Store, one: &StoredBlob) -> Result<MetDamage, StoreError> {
    let damaged = |actual, cause| {
        MetDamage::Damaged(DamagedContent {
            digest: one.digest.clone(),
            actual,
            size_bytes: one.size,
            cause,
            aside: None,
        })
    };
    let still = |met: MetDamage| async move {
        Ok(if store.is_still(one).await? { met } else { MetDamage::Fine })
    };
    match store.object_size(one).await {
        Ok(Some(size)) if size == one.size => {}
        Ok(Some(size)) => {
            return still(damaged(None, Some(format!("it has {size} bytes, not {}", one.size))))
                .await;
        }
        Ok(None) => return still(MetDamage::Missing).await,
        Err(error) => return still(damaged(None, Some(error.to_string()))).await,
    }
    let mut hasher = Hasher::new(one.digest.algorithm());
    let mut reader = match store.read_stored(one).await {
        Ok(reader) => reader,
        Err(StoreError::NotFound(_)) => return still(MetDamage::Missing).await,
        Err(error) => return still(damaged(None, Some(error.to_string()))).await,
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
            Err(error) => return still(damaged(None, Some(error.to_string()))).await,
        }
    }
    let actual = hasher.finish();
    match actual == one.digest {
        true => Ok(MetDamage::Fine),
        false => still(damaged(Some(actual), None)).await,
    }
}

impl Report for VerifyReport {
    const KIND: &'static str = "store-verify";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &VerifyReport, out: &Output) {
    for one in &report.damaged {
        let cause = match (&one.actual, &one.cause) {
            (Some(actual), _) => format!("its content has the digest {}", short(actual)),
            (None, cause) => cause.clone().unwrap_or_default(),
        };
        let aside = one.aside.as_ref().map(|aside| format!("; set aside as {aside}"));
        let aside = aside.unwrap_or_default();
        out.result(format!("{} {}: {cause}{aside}", paint(BAD, "damaged"), one.digest));
    }
    for digest in &report.missing {
        out.result(format!("{} {digest}: recorded and not there", paint(BAD, "missing")));
    }
    let verb = if report.repaired { "withdrawn" } else { "incomplete" };
    for tag in &report.tags {
        out.result(format!("{verb:<10} {tag}"));
    }
    let read = format!("{} in {} read", bytes(report.size_bytes), count(report.blobs, "blob"));
    let wrong = report.damaged.len() + report.missing.len();
    if wrong == 0 {
        out.result(format!("{read}: {}", paint(GOOD, "everything is what its digest says")));
    } else {
        out.result(format!("{read}: {}", paint(BAD, format!("{wrong} damaged or missing"))));
        out.note(if report.repaired {
            "bring in or push anew what was withdrawn: `larder intake run` does so for what is locked"
        } else {
            "`larder store verify --repair` sets it aside and withdraws what is incomplete"
        });
    }
    if report.old_files > 0 {
        let files = count(report.old_files, "file");
        out.note(format!("removed {files} of manifests that the store's earlier form had"));
    }
    if report.unreferenced > 0 {
        let verb = if report.repaired { "removed" } else { "nothing refers to" };
        let loose = count(report.unreferenced, "blob");
        out.note(format!("{verb}: {loose} of {}", bytes(report.unreferenced_bytes)));
    }
}
