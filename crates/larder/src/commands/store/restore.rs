//! `larder store restore`: a store from a backup, with proof.

use std::path::{Path, PathBuf};

use larder_store::{BackupCopy, MovePlace, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use super::moving;
use crate::config::Config;
use crate::context::{Context, has_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, bytes, count};

/// Make the store from a backup: everything is read and proved to be what its digest says
///
/// There must be no store yet where larder.toml says, in `data` or at its servers. Nothing of the backup can be seen before all of it is
/// proved; the next run resumes one that was broken off.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder of the backup
    from: PathBuf,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct RestoreReport {
    from: PathBuf,
    /// The folder `data`.
    data: PathBuf,
    /// Where the store is: the folder, or the servers.
    place: String,
    /// Blobs that were brought now.
    restored: usize,
    /// Their sizes together, in bytes.
    restored_bytes: u64,
    /// Blobs that a run before this one had brought.
    already_there: usize,
    manifests: usize,
}

pub async fn run(args: &Args, config: &Config, context: &Context) -> Outcome {
    let from = &args.from;
    let data = config.data();
    let what = || format!("cannot restore {}", larder_transfer::files::named(from));
    let io = |error: std::io::Error| Failure::io(what(), &error);
    if !Store::is_local(from) {
        let remedy = "name the folder that `larder store backup` has written";
        return Err(Failure::usage(what(), "there is no backup in it", remedy));
    }
    let place = moving::place(config)?;
    let named = moving::place_name(config)?;
    if has_store(config)? {
        let cause = format!("there is a store in {named} already");
        let remedy = "move that one away first, or name another place in larder.toml";
        return Err(Failure::usage(what(), cause, remedy));
    }
    let is_in_folder = matches!(place, MovePlace::Folder(_));
    let secret = std::fs::read(from.join("access.secret"));
    let secret = secret.map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => Failure::usage(
            what(),
            "its `access.secret` is missing",
            "without it no key that was issued is good; copy it from where the backup was kept",
        ),
        _ => io(error),
    })?;
    {
        use std::os::unix::fs::DirBuilderExt as _;
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&data).map_err(io)?;
    }
    if let Some(stranger) = stranger(&data).map_err(io)?.filter(|_| is_in_folder) {
        let stranger = larder_core::shown::shown(&stranger);
        let cause =
            format!("{} holds something else: {stranger}", larder_transfer::files::named(&data));
        return Err(Failure::usage(what(), cause, "name an empty folder as `data` in larder.toml"));
    }
    let lock = std::fs::File::open(&data).map_err(io)?;
    if lock.try_lock().is_err() {
        return Err(Failure::usage(what(), "another restore is under way", "wait for it"));
    }
    let progress = context.output.progress();
    let tell = |copied: BackupCopy| {
        progress.say(format!("proved {} in {}", bytes(copied.bytes), count(copied.copied, "blob")));
    };
    let copied = if is_in_folder {
        // With the secret first: where the records are, it is too.
        larder_transfer::files::write_secret(&data.join("access.secret"), &secret).map_err(io)?;
        Store::import(from, &data, &tell).await
    } else {
        let secret: [u8; 32] = secret.try_into().map_err(|_| {
            let cause = "its `access.secret` does not hold 32 bytes";
            Failure::usage(what(), cause, "take another backup").ending(Exit::Content)
        })?;
        Store::import_to(from, &place, secret, &tell).await
    };
    let copied = copied.map_err(|error| match error {
        StoreError::NotFound(digest) => Failure::usage(
            what(),
            format!("{digest} is recorded in it and not there"),
            "nothing can be seen of it; take another backup",
        )
        .ending(Exit::Content),
        StoreError::Mismatch { expected, actual } => Failure::usage(
            what(),
            format!("{expected} is damaged: its content has the digest {actual}"),
            "nothing can be seen of it; take another backup",
        )
        .ending(Exit::Content),
        error => Failure::store(what(), &error),
    })?;
    progress.done();
    let BackupCopy { copied: restored, bytes: size, there, manifests } = copied;
    let report = RestoreReport {
        from: from.clone(),
        data: data.clone(),
        place: named,
        restored,
        restored_bytes: size,
        already_there: there,
        manifests,
    };
    context.output.tell(&report);
    Ok(Exit::Done)
}

impl Report for RestoreReport {
    const KIND: &'static str = "store-restore";

    fn show(&self, out: &Output) {
        out.result(format!(
            "restored to {}: {} in {} and {}, everything is what its digest says; {} there already",
            self.place,
            bytes(self.restored_bytes),
            count(self.restored, "blob"),
            count(self.manifests, "manifest"),
            self.already_there
        ));
    }
}

/// What the folder holds that no restore has left.
fn stranger(data: &Path) -> std::io::Result<Option<String>> {
    larder_store::stranger_in(data)
}
