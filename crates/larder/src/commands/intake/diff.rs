//! `larder intake diff`: the wish, the lock, the upstream now and what the larder holds.

use std::collections::{BTreeMap, HashMap};

use larder_core::digest::Digest;
use larder_core::lock::{Difference, Next, UpstreamNow, Want, difference};
use larder_core::reference::Selector;
use serde::Serialize;

use super::upstream::{Unresolved, Upstreams};
use crate::context::{Context, read_lock, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Table, WARN, paint, short};

/// Compare the wish, the lock, the upstream now and what the larder holds
///
/// Exit status 1 says that something differs.
#[derive(Debug, clap::Args)]
pub struct Args {}

#[derive(Serialize)]
struct Line {
    image: String,
    tag: String,
    wanted: bool,
    locked: Option<Digest>,
    upstream: Option<Digest>,
    larder: Option<Digest>,
    next: &'static str,
    cause: Option<String>,
}

pub async fn run(_: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let store = store_if_any(&config)?;
    let answers =
        Upstreams::new(&config).ask(&config.intake.iter().collect::<Vec<_>>(), &lock).await;
    let mut unreached = Exit::Done;
    let wants: BTreeMap<Want, UpstreamNow> = answers
        .into_iter()
        .map(|(want, answer)| {
            let now = match answer {
                Ok(resolved) => UpstreamNow::At(resolved.digest),
                Err(Unresolved::Gone(_)) => UpstreamNow::Gone,
                Err(Unresolved::Failed(failure)) => {
                    unreached = unreached.max(failure.exit);
                    UpstreamNow::Unreached(failure.cause)
                }
            };
            (want, now)
        })
        .collect();

    let routes = config.routes();
    let mut held: HashMap<Want, Digest> = HashMap::new();
    if let Some(store) = &store {
        for want in wants.keys().chain(lock.entries.keys()) {
            let Some(target) = routes.target(&want.image) else { continue };
            let selector = Selector::Tag(want.tag.clone());
            let found = store.ledger.manifest(&target.repository, &selector).await;
            let found = found
                .map_err(|error| Failure::store("cannot tell what the larder holds", &error))?;
            held.extend(found.map(|record| (want.clone(), record.digest)));
        }
    }
    let differences = difference(&wants, &lock, |want| held.get(want).cloned());
    if context.output.json {
        context.output.document(&differences.iter().map(line).collect::<Vec<_>>());
    } else {
        show(&differences, context);
    }
    let any = differences.iter().any(|difference| difference.next() != Next::Nothing);
    Ok(if any { unreached.max(Exit::No) } else { Exit::Done })
}

fn line(difference: &Difference) -> Line {
    let (upstream, cause) = match &difference.upstream {
        Some(UpstreamNow::At(digest)) => (Some(digest.clone()), None),
        Some(UpstreamNow::Unreached(cause)) => (None, Some(cause.clone())),
        Some(UpstreamNow::Gone) | None => (None, None),
    };
    Line {
        image: difference.want.image.to_string(),
        tag: difference.want.tag.to_string(),
        wanted: difference.wanted,
        locked: difference.locked.clone(),
        upstream,
        larder: difference.held.clone(),
        next: match difference.next() {
            Next::Nothing => "nothing",
            Next::Lock => "lock",
            Next::Run => "run",
            Next::Review => "review",
            Next::Gone => "gone",
            Next::Unwanted => "unwanted",
            Next::Unknown => "unknown",
        },
        cause,
    }
}

fn show(differences: &[Difference], context: &Context) {
    let mut table =
        Table::new(context.output.width(), &["IMAGE", "LOCKED", "UPSTREAM NOW", "LARDER", "NEXT"]);
    let none = || paint(DIM, "—");
    let mut steps: Vec<Next> = Vec::new();
    for difference in differences {
        let digest = |digest: &Option<Digest>| {
            digest.as_ref().map_or_else(none, |digest| short(digest).to_owned())
        };
        let against = |digest: &Digest| match &difference.locked {
            Some(locked) if locked == digest => paint(GOOD, "same"),
            _ => paint(WARN, short(digest)),
        };
        let upstream = match &difference.upstream {
            Some(UpstreamNow::At(now)) => against(now),
            Some(UpstreamNow::Gone) => paint(BAD, "gone"),
            Some(UpstreamNow::Unreached(_)) => paint(BAD, "not reached"),
            None => none(),
        };
        let next = difference.next();
        steps.push(next);
        let words = match next {
            Next::Nothing => paint(GOOD, "in place"),
            Next::Lock => paint(WARN, "wanted, not locked"),
            Next::Run => paint(WARN, "to be brought in"),
            Next::Review => paint(WARN, "moved upstream; the lock holds"),
            Next::Gone => paint(BAD, "the upstream has it no longer"),
            Next::Unwanted => paint(WARN, "locked, but nobody wants it"),
            Next::Unknown => paint(BAD, "could not be told"),
        };
        let larder = difference.held.as_ref().map_or_else(none, against);
        let name = format!("{}:{}", difference.want.image, difference.want.tag);
        table.row([name, digest(&difference.locked), upstream, larder, words]);
    }
    if differences.is_empty() {
        context.output.result("nothing is wanted; `larder intake add REFERENCE` wants an image");
        return;
    }
    context.output.result(table.text());
    for difference in differences {
        if let Some(UpstreamNow::Unreached(cause)) = &difference.upstream {
            context.output.note(format!(
                "not reached: {}:{}: {cause}",
                difference.want.image, difference.want.tag
            ));
        }
    }
    let any = |next: &[Next]| steps.iter().any(|step| next.contains(step));
    if any(&[Next::Lock, Next::Unwanted]) {
        context
            .output
            .note("Next: `larder intake lock` takes up what is wanted and drops what is not.");
    }
    if any(&[Next::Run]) {
        context.output.note("Next: `larder intake run` brings in what is locked.");
    }
    if any(&[Next::Review]) {
        context.output.note("To take what moved: look at it, then `larder intake lock`. Until then the lock protects you.");
    }
}
