//! `larder shelf block` and `unblock`: content that nobody may have, at once.

use std::collections::BTreeSet;

use larder_core::access::stop::{Stop, Stopped};
use larder_core::digest::{Digest, DigestStart};
use larder_core::document::Document;
use larder_store::{RecordKind, Store, now};
use schemars::JsonSchema;
use serde::Serialize;

use super::unreadable;
use crate::config::Config;
use crate::context::{Context, open_store, reference_here, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, GOOD, Output, Report, paint};
use crate::record;

/// Refuse content to everybody at once, wherever it lies
///
/// A running larder refuses it within a second: pulls, pushes, and at the doors of clusters. An index is blocked with
/// the images that it lists, a layer with the images that need it. Nothing is removed; `larder shelf unblock` lets it
/// be pulled again.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A digest, as short as it is shown, or SHELF/REPOSITORY:TAG
    #[arg(required = true, value_name = "DIGEST|IMAGE")]
    what: Vec<String>,
    /// The reason, which those who are refused read
    #[arg(long, value_name = "REASON")]
    because: String,
    /// Say what would be blocked, and block nothing
    #[arg(long)]
    dry_run: bool,
}

/// Let content be pulled again that was blocked
#[derive(Debug, clap::Args)]
pub struct LiftArgs {
    /// A digest, or SHELF/REPOSITORY:TAG [default with --all: everything]
    #[arg(required_unless_present = "all", value_name = "DIGEST|IMAGE")]
    what: Vec<String>,
    /// Everything that is blocked
    #[arg(long, conflicts_with = "what")]
    all: bool,
    /// Say what would be let through again, and change nothing
    #[arg(long)]
    dry_run: bool,
}

pub async fn block(args: &Args, config: &Config, context: &Context) -> Outcome {
    let what = "cannot block it";
    if args.because.trim().is_empty() || args.because.len() > 200 {
        let cause = "`--because` is one sentence of 200 bytes at most";
        return Err(Failure::usage(what, cause, "say what those who are refused should know"));
    }
    let store = open_store(config)?;
    let mut all = BTreeSet::new();
    for text in &args.what {
        all.extend(meant(text, &store, config).await?);
    }
    if !args.dry_run {
        let (because, at) = (args.because.clone(), now());
        let stop = |digest: &Digest| Stop {
            what: Stopped::Content(digest.clone()),
            because: because.clone(),
            at,
        };
        let stopped = store.add_stops(all.iter().map(stop).collect()).await;
        stopped.map_err(|error| Failure::store(what, &error))?;
        let text = format!("blocked: {because}");
        let entries = all.iter().map(|one| record::entry(RecordKind::Config, one.as_str(), &text));
        let noted = record::note(&store, entries.collect()).await;
        noted.map_err(|error| Failure::store(what, &error))?;
    }
    tell(&all, "blocked", args.dry_run, context);
    Ok(Exit::Done)
}

pub async fn lift(args: &LiftArgs, config: &Config, context: &Context) -> Outcome {
    let what = "cannot unblock it";
    let failed = |error| Failure::store(what, &error);
    let store = open_store(config)?;
    let stops = store.stops().await.map_err(failed)?;
    let blocked: BTreeSet<Digest> = stops
        .into_iter()
        .filter_map(|stop| match stop.what {
            Stopped::Content(digest) => Some(digest),
            Stopped::Tokens(_) => None,
        })
        .collect();
    let mut all = BTreeSet::new();
    for text in &args.what {
        let those: BTreeSet<Digest> = meant(text, &store, config).await?;
        let those: BTreeSet<Digest> = those.intersection(&blocked).cloned().collect();
        if those.is_empty() {
            let cause = format!("{} is not blocked", larder_core::shown::shown(text));
            let remedy = "`larder log --kind config` shows what was blocked";
            return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
        }
        all.extend(those);
    }
    if args.all {
        all = blocked;
    }
    if !args.dry_run {
        for digest in &all {
            store.lift_stop(Stopped::Content(digest.clone()), now()).await.map_err(failed)?;
        }
        let entries =
            all.iter().map(|one| record::entry(RecordKind::Config, one.as_str(), "unblocked"));
        record::note(&store, entries.collect()).await.map_err(failed)?;
    }
    tell(&all, "unblocked", args.dry_run, context);
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct BlockReport {
    /// `blocked`, `unblocked`.
    state: &'static str,
    digests: BTreeSet<String>,
    /// Whether nothing was changed.
    dry_run: bool,
}

impl Report for BlockReport {
    const KIND: &'static str = "shelf-block";

    fn show(&self, out: &Output) {
        let Self { state, digests, dry_run } = self;
        let style = if *state == "blocked" { BAD } else { GOOD };
        for digest in digests {
            let word = if *dry_run { format!("would be {state}") } else { (*state).to_owned() };
            out.result(format!("{} {digest}", paint(style, word)));
        }
        if digests.is_empty() {
            out.result("nothing is blocked");
        }
    }
}

fn tell(all: &BTreeSet<Digest>, state: &'static str, dry_run: bool, context: &Context) {
    let digests = all.iter().map(ToString::to_string).collect();
    context.output.tell(&BlockReport { state, digests, dry_run });
}

/// All digests that are meant: an index with what it lists, a layer with the images that need it. What the larder
/// does not hold can be blocked too, so that it never comes in.
async fn meant(text: &str, store: &Store, config: &Config) -> Result<BTreeSet<Digest>, Failure> {
    let what = || format!("cannot tell what {} is", larder_core::shown::shown(text));
    let mut all = BTreeSet::new();
    let failed = |error| Failure::store(what(), &error);
    let top = match text.parse::<DigestStart>() {
        Ok(start) => match start.whole() {
            Some(digest) => digest,
            None => {
                let held = store.digests_beginning(&start, 2).await.map_err(failed)?;
                start.only_of(&held).map_err(|error| {
                    let remedy =
                        "write it in full; what the larder does not hold can be blocked too";
                    Failure::usage(what(), error, remedy).ending(Exit::No)
                })?
            }
        },
        Err(_) => {
            let text = with_whole_digest(text, Some(config)).await?;
            let reference = reference_here(&text, config)?;
            let found = match config.larder.has_name(&reference.host) {
                true => store.manifest(&reference.repository, &reference.selector()).await,
                false => Ok(None),
            };
            let found = found.map_err(failed)?;
            let (record, _) = found.ok_or_else(|| {
                let remedy = "name it by its digest; `larder shelf show` tells what there is";
                Failure::usage(what(), "the larder holds nothing under that name", remedy)
                    .ending(Exit::No)
            })?;
            record.digest
        }
    };
    all.insert(top.clone());
    if let Some(bytes) = store.body(&top).await.map_err(|error| unreadable(&error))? {
        let listed = Document::read(bytes, None).ok();
        let listed = listed.iter().flat_map(Document::children);
        all.extend(listed.map(|child| child.digest.clone()));
    }
    // Of a layer or a configuration: the images that need it.
    all.extend(store.needing(&top).await.map_err(|error| unreadable(&error))?);
    Ok(all)
}
