//! How much would be moved: read from the manifests, where asking for them costs nothing.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::Descriptor;
use larder_core::lock::Want;
use larder_core::name::Host;
use larder_store::Store;
use larder_transfer::{Outline, TransferError};
use schemars::JsonSchema;
use serde::Serialize;

use super::budget::Budgets;
use super::job::IntakeJob;
use crate::context::Context;
use crate::failure::Failure;
use crate::output::{Output, bytes, count};

/// Images whose manifests are read at once.
const AT_ONCE: usize = 8;

/// How much one image is.
#[derive(Debug, Clone, Copy, Serialize, JsonSchema)]
pub struct ImageSize {
    /// Bytes of all its blobs for the wanted platforms, with its companions.
    pub bytes: u64,
    /// Of these, what would be moved. What two images share counts at the first of them.
    pub new_bytes: u64,
}

/// How much would be moved, and whether there is room for it.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Forecast {
    /// Bytes that would be moved, of the images whose size is known.
    pub new_bytes: u64,
    /// Bytes that would come into this larder's store.
    pub into_store_bytes: u64,
    /// Bytes that its disk has free for that. null: the system does not say, or there is no store yet.
    pub free_bytes: Option<u64>,
    /// Images whose size is not known.
    pub unknown: usize,
    /// Upstreams that were not asked, because each answer counts there as a pull.
    #[schemars(with = "Vec<String>")]
    pub not_asked: BTreeSet<Host>,
    /// Why the size of an image is not known, in words.
    pub failed: Vec<String>,
    #[serde(skip)]
    pub of: BTreeMap<Want, ImageSize>,
}

/// Reads how much these would move. `pay` asks upstreams that limit pulls, too.
pub async fn forecast(
    jobs: &[IntakeJob<'_>],
    store: Option<&Store>,
    budgets: &Budgets<'_>,
    pay: bool,
    context: &Context,
) -> Result<Forecast, Failure> {
    let mut forecast = Forecast::default();
    let mut asked = Vec::new();
    for job in jobs {
        let limited = budgets.is_limited(job.host());
        if limited && !pay {
            forecast.not_asked.insert(job.host().clone());
            forecast.unknown += 1;
            continue;
        }
        if limited {
            budgets.reserve(job.host(), job.pulls(), false, context).await.map_err(|failure| {
                Failure { what: format!("cannot ask {} for sizes", job.host()), ..failure }
            })?;
        }
        asked.push(job);
    }
    let read: Vec<_> = stream::iter(asked)
        .map(|job| async move { (job, blobs(job, store, budgets).await) })
        .buffered(AT_ONCE)
        .collect()
        .await;
    let mut counted: HashSet<(String, Digest)> = HashSet::new();
    for (job, blobs) in read {
        let blobs = match blobs {
            Ok(blobs) => blobs,
            Err(failure) => {
                forecast.unknown += 1;
                forecast.failed.push(format!("the size of {}: {}", job.name(), failure.cause));
                continue;
            }
        };
        let mut size = ImageSize { bytes: 0, new_bytes: 0 };
        let place = if job.is_elsewhere() { job.place() } else { String::new() };
        for (blob, needed) in blobs {
            size.bytes += blob.size;
            if needed && counted.insert((place.clone(), blob.digest)) {
                size.new_bytes += blob.size;
            }
        }
        forecast.new_bytes += size.new_bytes;
        if !job.is_elsewhere() {
            forecast.into_store_bytes += size.new_bytes;
        }
        forecast.of.insert(job.want.clone(), size);
    }
    if let Some(store) = store {
        let room = store.room().await;
        let room =
            room.map_err(|error| Failure::store("cannot tell how much room there is", &error))?;
        forecast.free_bytes = room.map(|room| room.saturating_sub(budgets.config.larder.reserve));
    }
    Ok(forecast)
}

/// The blobs of an image and its companions, each with whether it would be moved.
async fn blobs(
    job: &IntakeJob<'_>,
    store: Option<&Store>,
    budgets: &Budgets<'_>,
) -> Result<Vec<(Descriptor, bool)>, Failure> {
    let source = budgets.upstreams.source(job.want)?;
    let target = store.map(|store| job.target(store, budgets.upstreams)).transpose()?;
    let failed = |error: TransferError| Failure::transfer(String::new(), &error);
    let mut all = BTreeMap::new();
    for digest in job.locked.companions.keys() {
        let outline =
            Outline::of(&source, digest, &larder_core::platform::Platforms::All, None).await;
        let blobs = outline.map_err(failed)?.blobs();
        all.extend(blobs.into_iter().map(|blob| (blob.digest.clone(), blob)));
    }
    let trimmed = job.locked.trimmed.as_ref().map(|trimmed| &trimmed.digest);
    let outline = Outline::of(&source, &job.locked.digest, &job.intake.platforms, trimmed).await;
    let blobs = outline.map_err(failed)?.blobs();
    all.extend(blobs.into_iter().map(|blob| (blob.digest.clone(), blob)));
    let mut found = Vec::new();
    for blob in all.into_values() {
        let needed = match &target {
            Some(target) => target.needs_blob(&blob).await.map_err(failed)?,
            // Nothing was ever brought in.
            None => true,
        };
        found.push((blob, needed));
    }
    Ok(found)
}

impl Forecast {
    /// Whether more would come in than there is room for.
    pub fn is_too_much(&self) -> bool {
        self.free_bytes.is_some_and(|free| free < self.into_store_bytes)
    }

    /// The sum and the room in a line. None: no size is known.
    pub fn line(&self) -> Option<String> {
        let new = bytes(self.new_bytes);
        let line = match self.free_bytes {
            Some(free) if self.into_store_bytes > 0 => {
                format!("{new} would be moved; the store has {} free", bytes(free))
            }
            _ => format!("{new} would be moved"),
        };
        (!self.of.is_empty()).then_some(line)
    }

    /// Tells where there is no room, and what is not known.
    pub fn notes(&self, out: &Output) {
        if self.is_too_much() {
            out.note(
                "there is no room for all of it: `larder shelf tidy` and `larder store collect` make some",
            );
        }
        for host in &self.not_asked {
            out.note(format!(
                "sizes at {host} were not asked for: each answer counts there as a pull; `--sizes` asks all the same"
            ));
        }
        self.failed.iter().for_each(|line| out.note(format!("not known: {line}")));
        if self.unknown > 0 && !self.of.is_empty() {
            out.note(format!("not counted: {}", count(self.unknown, "image")));
        }
    }
}
