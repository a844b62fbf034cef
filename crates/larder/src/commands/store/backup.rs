//! `larder store backup`: a copy that is consistent although the larder serves.

use std::path::{Path, PathBuf};

use larder_core::digest::Digest;
use larder_store::{BlobStore as _, LocalBlobs, Purpose, Store, StoreError};
use serde::Serialize;

use super::failed;
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{bytes, count};

/// Copy the whole store to another folder, while the larder serves
///
/// The records are of one moment, and every blob that they name is copied and verified. The next
/// backup to the same folder copies only what is new. To restore, serve with `data` set to a copy of
/// that folder.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder of the copy: a new one, or that of an earlier backup
    folder: PathBuf,
}

#[derive(Serialize, Default)]
struct Report {
    folder: PathBuf,
    /// Blobs that were copied now.
    copied: usize,
    /// Their sizes together, in bytes.
    bytes: u64,
    /// Blobs that the folder had already.
    there: usize,
}

/// The records while they are being copied; they take their place last of all.
const INCOMING: &str = "ledger.incoming";

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let folder = &args.folder;
    let what = || format!("cannot back up to {}", crate::files::named(folder));
    let io = |error: std::io::Error| Failure::io(what(), &error);
    {
        use std::os::unix::fs::DirBuilderExt as _;
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(io)?;
    }
    if folder.canonicalize().map_err(io)? == config.data().canonicalize().map_err(io)? {
        return Err(Failure::usage(what(), "it is the store itself", "name another folder"));
    }
    // Held until we end, by whatever means: two at once would take each other's records away.
    let lock = std::fs::File::open(folder).map_err(io)?;
    if lock.try_lock().is_err() {
        let cause = "another backup to that folder is under way";
        return Err(Failure::usage(what(), cause, "wait for it, or name another folder"));
    }
    let incoming = folder.join(INCOMING);
    remove_if_there(&incoming).map_err(io)?;
    let digests = store.upkeep.copy_to(&incoming).await;
    let digests = digests.map_err(|error| Failure::store(what(), &error))?;
    let target = LocalBlobs::open(folder);
    let target = target.map_err(|error| Failure::store(what(), &error))?;
    let mut report = Report { folder: folder.clone(), ..Report::default() };
    let progress = context.output.progress();
    for digest in &digests {
        if target.size(digest).await.map_err(|error| failed(&error))?.is_some() {
            report.there += 1;
            continue;
        }
        report.bytes += copy(store, &target, digest).await.map_err(|error| match error {
            StoreError::NotFound(_) => Failure::usage(
                what(),
                format!("{digest} is recorded and not there"),
                "`larder store verify` says what is wrong; a collection that ran meanwhile may have taken it: then back up again",
            )
            .ending(Exit::Content),
            error => Failure::store(what(), &error),
        })?;
        report.copied += 1;
        progress.say(format!("copied {} in {}", bytes(report.bytes), count(report.copied, "blob")));
    }
    progress.done();
    // Without the secret no key that was issued would be good in the copy.
    let secret = crate::access::secret(config)?;
    crate::files::write_secret(&folder.join("access.secret"), &secret).map_err(io)?;
    // An earlier copy's log belongs to its records, not to these.
    for beside in ["ledger.sqlite-wal", "ledger.sqlite-shm"] {
        remove_if_there(&folder.join(beside)).map_err(io)?;
    }
    std::fs::rename(&incoming, folder.join("ledger.sqlite")).map_err(io)?;
    std::fs::File::open(folder).and_then(|folder| folder.sync_all()).map_err(io)?;
    if context.output.json {
        context.output.document(&report);
    } else {
        context.output.result(format!(
            "backed up to {}: {} in {} copied, {} there already",
            crate::files::named(folder),
            bytes(report.bytes),
            count(report.copied, "blob"),
            report.there
        ));
    }
    Ok(Exit::Done)
}

fn remove_if_there(path: &Path) -> std::io::Result<()> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Copies one blob; it is verified on its way.
async fn copy(from: &Store, to: &LocalBlobs, digest: &Digest) -> Result<u64, StoreError> {
    let absent = || StoreError::NotFound(digest.to_string());
    let size = from.blobs.size(digest).await?.ok_or_else(absent)?;
    let mut reader = from.blobs.read(digest, 0..size).await?;
    let mut writer = to.write_once(Purpose::Keep).await?;
    while let Some(piece) = reader.next().await {
        writer.write(piece?).await?;
    }
    writer.commit(digest).await
}
