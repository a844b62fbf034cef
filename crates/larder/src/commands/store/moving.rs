//! `larder store move`: from a folder to servers, and back.

use std::path::PathBuf;

use larder_core::digest::Digest;
use larder_store::{BackupCopy, MovePlace, MoveStage, MoveState, RecordKind, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::{Config, SharedStore};
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, bytes, count};
use crate::record;

/// Move the store: from its folder to an object store and a database, or back
///
/// Bytes are copied and verified while the larder serves. Then, for as long as the last of them and the records take,
/// pulls go on and everything new is refused with `Retry-After`; so it stays here once the store is there. A move that
/// was broken off goes on with the same command. The old store is left as it is.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The configuration of the new place: larder.toml as it will be, with other `data`, or with `objects` and `records`
    #[arg(long, value_name = "FILE")]
    to: PathBuf,
    /// Move although some contents are damaged or missing: they are recorded so, and pushed or fetched anew
    #[arg(long)]
    leave_damaged: bool,
    /// Give up a move that was broken off; the larder takes everything again
    #[arg(long, conflicts_with = "leave_damaged")]
    cancel: bool,
}

#[derive(Serialize, JsonSchema)]
pub struct MoveReport {
    /// Where the store was.
    from: String,
    /// Where it is to be.
    to: String,
    /// `moved`, `stopped`, `cancelled`.
    outcome: &'static str,
    /// Blobs that were copied now.
    copied: usize,
    /// Their sizes together, in bytes.
    copied_bytes: u64,
    /// Blobs that a run before this one had copied, or the part of this one before nothing new was kept.
    already_there: usize,
    manifests: usize,
    /// What is damaged or missing.
    #[schemars(with = "Vec<String>")]
    damaged: Vec<Digest>,
    #[serde(skip)]
    config: PathBuf,
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let target = crate::config::load(&args.to, crate::config::Provenance::Named)?;
    let (from, to) = (place_name(config)?, place_name(&target)?);
    let what = format!("cannot move the store to {to}");
    if from == to {
        let cause = "it is there";
        let remedy =
            "name the file in which `data`, or `objects` and `records`, are as they will be";
        return Err(Failure::usage(what, cause, remedy));
    }
    let place = place(&target)?;
    let report = MoveReport {
        from,
        to: to.clone(),
        outcome: "moved",
        copied: 0,
        copied_bytes: 0,
        already_there: 0,
        manifests: 0,
        damaged: Vec::new(),
        config: args.to.clone(),
    };
    let lease = store.acquire("move").await.map_err(|error| Failure::store(&what, &error))?;
    let Some(lease) = lease else {
        let cause = "another move of it is under way";
        return Err(Failure::usage(what, cause, "wait for it"));
    };
    let done = match args.cancel {
        true => cancel(store, &place, &what, report).await,
        false => go(args, (config, store), &place, (&what, report), context).await,
    };
    lease.release().await.map_err(|error| Failure::store(&what, &error))?;
    let report = done?;
    context.output.tell(&report);
    Ok(if report.outcome == "stopped" { Exit::Content } else { Exit::Done })
}

async fn cancel(
    store: &Store,
    place: &MovePlace,
    what: &str,
    report: MoveReport,
) -> Result<MoveReport, Failure> {
    match store.cancel_move(place).await {
        Ok(true) => Ok(MoveReport { outcome: "cancelled", ..report }),
        Ok(false) => {
            let cause = "the store is not being moved";
            Err(Failure::usage("cannot give up the move", cause, "").ending(Exit::No))
        }
        Err(StoreError::Occupied) => {
            let cause = format!("the store has moved to {} already", report.to);
            let remedy = "move it back from there: `larder store move --config FILE --to FILE`";
            Err(Failure::usage("cannot give up the move", cause, remedy).ending(Exit::No))
        }
        Err(error) => Err(Failure::store(what, &error)),
    }
}

async fn go(
    args: &Args,
    (config, store): (&Config, &Store),
    place: &MovePlace,
    (what, report): (&str, MoveReport),
    context: &Context,
) -> Result<MoveReport, Failure> {
    let secret = crate::access::secret(config)?;
    let progress = context.output.progress();
    let tell = |copied: BackupCopy, stage: MoveStage| {
        let more = match stage {
            MoveStage::Copying => "",
            _ => "; nothing new is kept meanwhile",
        };
        let blobs = count(copied.copied, "blob");
        progress.say(format!("copied {} in {blobs}{more}", bytes(copied.bytes)));
    };
    // Told before anything is copied: the bytes go where the address and the key lead.
    let tried = place.try_objects().await;
    tried.map_err(|error| Failure::store("cannot write to the new place", &error))?;
    let report = finish(args, store, place, (what, report, secret), &tell).await?;
    progress.done();
    Ok(report)
}

async fn finish(
    args: &Args,
    store: &Store,
    place: &MovePlace,
    (what, report, secret): (&str, MoveReport, [u8; 32]),
    tell: &(dyn Fn(BackupCopy, MoveStage) + Sync),
) -> Result<MoveReport, Failure> {
    let to = report.to.clone();
    let note = format!("the store moves to {to}");
    let noted = record::note(store, vec![record::entry(RecordKind::Copy, &to, &note)]).await;
    noted.map_err(|error| Failure::store("cannot write the record", &error))?;
    let moved = store.move_to(place, &to, secret, args.leave_damaged, tell).await;
    let stage = store.move_state().await.ok().flatten().map(|state| state.stage);
    let moved = moved.map_err(|error| match error {
        StoreError::Occupied => Failure::usage(
            what,
            "there is another store already",
            "name a place that nothing was stored at, or remove what is there first",
        ),
        StoreError::Moving(_) => Failure::usage(
            what,
            error,
            "`larder store move --to FILE` with that place brings it to its end, or gives it up with `--cancel`",
        )
        .ending(Exit::No),
        StoreError::NotFound(digest) => damaged_manifest(what, &format!("the manifest {digest} is missing")),
        StoreError::Mismatch { expected, .. } => {
            damaged_manifest(what, &format!("the manifest {expected} is damaged"))
        }
        error if stage == Some(MoveStage::Frozen) => Failure {
            remedy: "run it again: nothing new is kept here until it has come to its end, or is given up with `--cancel`".into(),
            ..Failure::store(what, &error)
        },
        error => Failure::store(what, &error),
    })?;
    let outcome = if moved.has_moved { "moved" } else { "stopped" };
    let BackupCopy { copied, bytes, there, manifests } = moved.copy;
    Ok(MoveReport {
        outcome,
        copied,
        copied_bytes: bytes,
        already_there: there,
        manifests,
        damaged: moved.damaged,
        ..report
    })
}

fn damaged_manifest(what: &str, cause: &str) -> Failure {
    let remedy = "`larder store verify --repair` withdraws what cannot be given whole";
    Failure::usage(what, cause, remedy).ending(Exit::Content)
}

/// Where a configuration has its store, in words, and without what is secret.
pub fn place_name(config: &Config) -> Result<String, Failure> {
    let Some(SharedStore { server, bucket }) = config.shared_store()? else {
        let data = config.data();
        let data = data.canonicalize().unwrap_or(data);
        return Ok(larder_transfer::files::named(&data));
    };
    let prefix = bucket.prefix.trim_matches('/');
    let slash = if prefix.is_empty() { "" } else { "/" };
    let (name, endpoint) = (&bucket.bucket, &bucket.endpoint);
    Ok(format!(
        "the bucket {name}{slash}{prefix} at {endpoint} and the database {}",
        server.named()
    ))
}

/// Where a configuration has its store.
pub fn place(config: &Config) -> Result<MovePlace, Failure> {
    let folder = config.data();
    Ok(match config.shared_store()? {
        None => MovePlace::Folder(folder),
        Some(SharedStore { server, bucket }) => {
            MovePlace::Servers { folder, server, bucket: Box::new(bucket) }
        }
    })
}

/// How far a move has come, in words.
pub fn told(state: &MoveState) -> String {
    let to = larder_core::shown::shown(&state.to);
    match state.stage {
        MoveStage::Copying => format!("the store is being moved to {to}"),
        MoveStage::Frozen => format!(
            "the store is being moved to {to}, and nothing new is kept: `larder store move` goes on with it, or gives it up"
        ),
        MoveStage::Moved => format!("the store has moved to {to}: here it is only read"),
    }
}

impl Report for MoveReport {
    const KIND: &'static str = "store-move";

    fn show(&self, out: &Output) {
        let damaged = count(self.damaged.len(), "blob");
        match self.outcome {
            "cancelled" => {
                out.result("given up: the larder takes everything again");
                out.result(format!("what was copied to {} can be removed there", self.to));
                return;
            }
            "stopped" => {
                out.result(format!(
                    "stopped: {damaged} cannot be read whole, and the store stays where it is"
                ));
            }
            _ => {
                let blobs = count(self.copied, "blob");
                out.result(format!(
                    "moved to {}: {} in {blobs} and {}, everything is what its digest says; {} there already",
                    self.to,
                    bytes(self.copied_bytes),
                    count(self.manifests, "manifest"),
                    self.already_there
                ));
                if !self.damaged.is_empty() {
                    out.result(format!("{damaged} cannot be read whole, and wait there to be pushed or fetched anew"));
                }
            }
        }
        for digest in self.damaged.iter().take(20) {
            out.result(format!("  {digest}"));
        }
        match self.outcome {
            "stopped" => {
                out.result("push or fetch them anew, or move without them: --leave-damaged");
            }
            _ => {
                let file = larder_transfer::files::named(&self.config);
                out.result(format!(
                    "next: let {file} take the place of larder.toml, and start `larder serve` anew"
                ));
                out.result(format!("the old store in {} is only read from now on", self.from));
            }
        }
    }
}
