//! `larder store convert`: from the form of an earlier version to this one's.

use larder_store::{Conversion, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, has_store, no_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, count};

/// Convert a store that an earlier version has written; `larder serve` does so too
///
/// Nobody else may have it open. A kill at any moment leaves a store of the old form or of the new one. No blob is moved;
/// the files of manifests stay until `larder store verify` has found everything in order.
#[derive(Debug, clap::Args)]
pub struct Args {}

#[derive(Serialize, JsonSchema)]
pub struct ConvertReport {
    /// Whether anything had to be done.
    converted: bool,
    /// The version that was found. None: it is this one's already.
    from_version: Option<i64>,
    manifests: u64,
    /// Manifests whose file is missing or not what its digest says.
    damaged: u64,
    blobs: u64,
}

pub fn run(config: &Config, context: &Context) -> Outcome {
    if !has_store(config)? {
        return Err(no_store(config));
    }
    let converted = convert(config, context)?;
    let known = converted.unwrap_or_default();
    let report = ConvertReport {
        converted: converted.is_some(),
        from_version: converted.map(|converted| converted.from),
        manifests: known.manifests,
        damaged: known.damaged,
        blobs: known.blobs,
    };
    context.output.tell(&report);
    Ok(if known.damaged > 0 { Exit::Content } else { Exit::Done })
}

impl Report for ConvertReport {
    const KIND: &'static str = "store-convert";

    fn show(&self, out: &Output) {
        // A conversion was told when it ended.
        if !self.converted {
            out.result("the store has this version's form already");
        }
    }
}

/// Converts the store where that is needed, and says so. None: it was not.
pub fn convert(config: &Config, context: &Context) -> Result<Option<Conversion>, Failure> {
    if config.larder.records.is_some() {
        return Ok(None);
    }
    let folder = config.data();
    let what = || format!("cannot convert the store in {}", larder_transfer::files::named(&folder));
    let progress = context.output.progress();
    let mut tell = |read: u64, all: u64| progress.say(format!("read {read} of {all} manifests"));
    let converted = Store::convert_local(&folder, &mut tell).map_err(|error| match &error {
        StoreError::InUse => {
            let remedy = "stop every larder that uses it, also of earlier versions, and try again";
            Failure::usage(what(), error, remedy)
        }
        StoreError::NoRoomToConvert { .. } => {
            let remedy = "free some space, with the earlier version or elsewhere on the disk; nothing was changed";
            Failure::usage(what(), error, remedy)
        }
        error => Failure::store(what(), error),
    });
    progress.done();
    let converted = converted?;
    if let Some(done) = &converted {
        context.output.note(format!(
            "converted the store from version {}: {} and {}; the files of manifests stay until `larder store verify` has passed",
            done.from,
            count(usize::try_from(done.manifests).unwrap_or(usize::MAX), "manifest"),
            count(usize::try_from(done.blobs).unwrap_or(usize::MAX), "blob")
        ));
        if done.damaged > 0 {
            let damaged = count(usize::try_from(done.damaged).unwrap_or(usize::MAX), "manifest");
            context.output.note(format!(
                "{damaged} could not be read: `larder store verify` says which; `--repair` withdraws them"
            ));
        }
    }
    Ok(converted)
}
