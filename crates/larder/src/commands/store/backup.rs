//! `larder store backup`: a copy that is consistent although the larder serves.

use std::path::{Path, PathBuf};

use larder_store::RecordKind;
use larder_store::{BackupCopy, Store, StoreError, stranger_in};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::marks;
use crate::output::{Output, Report, bytes, count};
use crate::record;

/// Copy the whole store to another folder, while the larder serves
///
/// The records are of one moment, and every blob that they name is copied and verified. The next
/// backup to the same folder copies only what is new. `larder store restore` makes a store of it again.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder of the copy: a new one, or that of an earlier backup
    folder: PathBuf,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct BackupReport {
    folder: PathBuf,
    /// Blobs that were copied now.
    copied: usize,
    /// Their sizes together, in bytes.
    copied_bytes: u64,
    /// Blobs that the folder had already.
    already_there: usize,
    /// Manifests, which are among the records.
    manifests: usize,
}

/// What to try where a folder cannot take a backup.
const ANOTHER: &str = "name a new folder, or that of an earlier backup of this store";

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let folder = &args.folder;
    let what = || format!("cannot back up to {}", larder_transfer::files::named(folder));
    let io = |error: std::io::Error| Failure::io(what(), &error);
    check_place(folder, config)?;
    if std::fs::symlink_metadata(folder).is_ok() && !folder.is_dir() {
        let cause = match folder.exists() {
            true => "it is no folder",
            false => "it is a link that leads nowhere",
        };
        return Err(Failure::usage(what(), cause, ANOTHER));
    }
    {
        use std::os::unix::fs::DirBuilderExt as _;
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(io)?;
    }
    // Held until we end, by whatever means: two at once would take each other's records away.
    let lock = std::fs::File::open(folder).map_err(io)?;
    if lock.try_lock().is_err() {
        let cause = "another backup to that folder is under way";
        return Err(Failure::usage(what(), cause, "wait for it, or name another folder"));
    }
    let secret = crate::access::secret(config)?;
    check_content(folder, &secret)?;
    let progress = context.output.progress();
    let tell = |copied: BackupCopy| {
        progress.say(format!("copied {} in {}", bytes(copied.bytes), count(copied.copied, "blob")));
    };
    let copied = store.export(folder, &tell).await.map_err(|error| match error {
        StoreError::NotFound(digest) => Failure::usage(
            what(),
            format!("{digest} is recorded and not there"),
            "`larder store verify` says what is wrong; a collection that ran meanwhile may have taken it: then back up again",
        )
        .ending(Exit::Content),
        error => Failure::store(what(), &error),
    })?;
    progress.done();
    // Without the secret no key that was issued would be good in the copy.
    larder_transfer::files::write_secret(&folder.join("access.secret"), &secret).map_err(io)?;
    let BackupCopy { copied, bytes: size, there, manifests } = copied;
    let report = BackupReport {
        folder: folder.clone(),
        copied,
        copied_bytes: size,
        already_there: there,
        manifests,
    };
    let place = larder_transfer::files::named(folder);
    marks::note(store, marks::BACKUP, &place).await;
    let text = format!("backed up {} in {}", bytes(size), count(copied, "blob"));
    let noted = record::note(store, vec![record::entry(RecordKind::Copy, &place, &text)]).await;
    noted.map_err(|error| Failure::store("cannot write the record", &error))?;
    context.output.tell(&report);
    Ok(Exit::Done)
}

impl Report for BackupReport {
    const KIND: &'static str = "store-backup";

    fn show(&self, out: &Output) {
        out.result(format!(
            "backed up to {}: {} in {} copied, {} there already; {}",
            larder_transfer::files::named(&self.folder),
            bytes(self.copied_bytes),
            count(self.copied, "blob"),
            self.already_there,
            count(self.manifests, "manifest")
        ));
    }
}

/// The path as the system has it, as far as it exists.
fn real(path: &Path) -> std::io::Result<PathBuf> {
    match path.canonicalize() {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let parent = match path.parent() {
                Some(parent) if !parent.as_os_str().is_empty() => parent,
                _ => Path::new("."),
            };
            let name = path.file_name().unwrap_or_default();
            Ok(real(parent)?.join(name))
        }
        real => real,
    }
}

/// Refuses a folder inside the store, and one that the store lies in.
pub(super) fn check_place(folder: &Path, config: &Config) -> Result<(), Failure> {
    let what = || format!("cannot back up to {}", larder_transfer::files::named(folder));
    let io = |error: std::io::Error| Failure::io(what(), &error);
    let (folder, data) = (real(folder).map_err(io)?, real(&config.data()).map_err(io)?);
    let cause = if folder == data {
        "it is the store itself"
    } else if folder.starts_with(&data) {
        "it lies inside the store"
    } else if data.starts_with(&folder) {
        "the store lies inside it"
    } else {
        return Ok(());
    };
    Err(Failure::usage(what(), cause, "name another folder, best on another disk"))
}

/// Refuses a folder that holds anything but a backup of this store.
fn check_content(folder: &Path, secret: &[u8; 32]) -> Result<(), Failure> {
    let what = || format!("cannot back up to {}", larder_transfer::files::named(folder));
    let io = |error: std::io::Error| Failure::io(what(), &error);
    let remedy = ANOTHER;
    if let Some(stranger) = stranger_in(folder).map_err(io)? {
        let stranger = larder_core::shown::shown(&stranger);
        let cause = format!("it holds something else than a backup: {stranger}");
        return Err(Failure::usage(what(), cause, remedy));
    }
    match std::fs::read(folder.join("access.secret")) {
        Ok(theirs) if theirs[..] != secret[..] => {
            Err(Failure::usage(what(), "it holds the backup of another larder's store", remedy))
        }
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(io(error)),
        _ => Ok(()),
    }
}
