//! `larder intake diff`: the wish, the lock, the upstream now and what the larder holds.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use anstyle::Style;
use futures_util::stream::{self, StreamExt as _};
use larder_client::ClientError;
use larder_core::digest::Digest;
use larder_core::lock::{Difference, Lock, Next, UpstreamNow, Want, difference};
use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::platform::listed;
use larder_core::reference::Selector;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::budget::{Budgets, Cost};
use super::job::{IntakeJob, jobs};
use super::sizes::{Forecast, ImageSize, forecast};
use super::upstream::{self, Asked, LackingTag, LockJudge, UnresolvedTag, Upstreams};
use crate::config::Config;
use crate::context::{Context, read_lock, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, bytes, count, paint, short};
use crate::pick::Pick;

/// Compare the wish, the lock, the upstream now and what the larder holds
///
/// Exit status 1 says that something differs.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    pick: Pick,
    /// Write what differs as a Markdown table, for a merge request
    #[arg(long, conflicts_with = "json")]
    markdown: bool,
    /// Ask for sizes even where each answer counts as a pull
    #[arg(long)]
    sizes: bool,
}

#[derive(Serialize, JsonSchema)]
struct IntakeDifference {
    image: String,
    tag: String,
    wanted: bool,
    #[schemars(with = "Option<String>")]
    locked: Option<Digest>,
    #[schemars(with = "Option<String>")]
    upstream: Option<Digest>,
    #[schemars(with = "Option<String>")]
    larder: Option<Digest>,
    next: &'static str,
    cause: Option<String>,
    /// How much it is. null: it is not to be brought in, or its size is not known.
    size: Option<ImageSize>,
}

#[derive(Serialize, JsonSchema)]
pub struct IntakeDiff {
    images: Vec<IntakeDifference>,
    /// What a run would cost at each upstream.
    costs: Vec<Cost>,
    /// How much a run would move.
    forecast: Forecast,
    #[serde(skip)]
    differences: Vec<Difference>,
    #[serde(skip)]
    markdown: bool,
}

impl Report for IntakeDiff {
    const KIND: &'static str = "intake-diff";

    fn show(&self, out: &Output) {
        let sizes = &self.forecast.of;
        match self.markdown {
            true => out.result(markdown(&self.differences, sizes)),
            false => show(&self.differences, sizes, out),
        }
        // Beside the answer: a table in Markdown goes on until an empty line.
        self.forecast.line().into_iter().for_each(|line| out.note(line));
        self.forecast.notes(out);
        show_costs(&self.costs, out);
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let store = store_if_any(&config)?;
    let upstreams = Upstreams::new(&config);
    let meant = config.intake.iter().filter(|intake| args.pick.takes(intake.image.get_ref()));
    let mut lock = lock;
    lock.entries.retain(|want, _| args.pick.takes(&want.image));
    let Asked { answers, unlisted } =
        upstreams.ask(&meant.collect::<Vec<_>>(), &lock, &LockJudge(&lock)).await;
    if let Some(store) = &store {
        upstream::note(store, &answers).await?;
    }
    let mut unreached = unlisted.values().map(|failure| failure.exit).max().unwrap_or(Exit::Done);
    let wants: BTreeMap<Want, UpstreamNow> = answers
        .into_iter()
        .map(|(want, answer)| {
            let now = match answer {
                Ok(resolved) => UpstreamNow::At(resolved.digest),
                Err(UnresolvedTag::Gone(_)) => UpstreamNow::Gone,
                Err(UnresolvedTag::Lacks(LackingTag { digest, lacks, named, .. })) => {
                    UpstreamNow::Lacks { digest, lacks, named }
                }
                Err(UnresolvedTag::Failed(failure)) => {
                    unreached = unreached.max(failure.exit);
                    UpstreamNow::Unreached(failure.cause)
                }
            };
            (want, now)
        })
        .collect();

    let held = held(&config, &upstreams, &wants, &lock, store.as_ref()).await?;
    let differences = difference(&wants, &lock, |want| held.get(want).cloned());
    // What a run would bring in, and what that costs at each upstream.
    let to_run: BTreeSet<&Want> = differences
        .iter()
        .filter(|difference| difference.next() == Next::Run)
        .map(|difference| &difference.want)
        .collect();
    let mut pulls: BTreeMap<Host, u64> = BTreeMap::new();
    let to_come: Vec<IntakeJob<'_>> =
        jobs(&config, &lock).filter(|job| to_run.contains(job.want)).collect();
    for job in &to_come {
        *pulls.entry(job.host().clone()).or_default() += job.pulls();
    }
    let budgets = Budgets::new(&config, &upstreams, store.as_ref());
    let costs = budgets.costs(pulls).await?;
    let forecast = forecast(&to_come, store.as_ref(), &budgets, args.sizes, context).await?;
    let size = |difference: &Difference| IntakeDifference {
        size: forecast.of.get(&difference.want).copied(),
        ..line(difference)
    };
    let images = differences.iter().map(size).collect();
    let report = IntakeDiff { images, costs, forecast, differences, markdown: args.markdown };
    context.output.tell(&report);
    for failure in unlisted.values() {
        context.output.failure(failure);
    }
    let any = report.differences.iter().any(|difference| !is_settled(difference));
    Ok(if any { unreached.max(Exit::No) } else { unreached })
}

/// Whether it asks nothing of anybody.
fn is_settled(difference: &Difference) -> bool {
    matches!(difference.next(), Next::Nothing | Next::PassedOver)
}

/// Where the tags of all wanted and locked images point at their destinations.
async fn held(
    config: &Config,
    upstreams: &Upstreams<'_>,
    wants: &BTreeMap<Want, UpstreamNow>,
    lock: &Lock,
    store: Option<&Store>,
) -> Result<HashMap<Want, Digest>, Failure> {
    let mut all: Vec<&Want> = wants.keys().chain(lock.entries.keys()).collect();
    all.sort();
    all.dedup();
    let mut own: HashMap<(RepositoryName, Tag), Digest> = HashMap::new();
    if let Some(store) = store {
        let here = all.iter().filter_map(|want| {
            let to = config.destination(config.intake_of(&want.image)?);
            Some((to.repository, want.tag.clone())).filter(|_| to.host == config.larder.url.host)
        });
        let tags = store.tags_named(here.collect()).await;
        let tags =
            tags.map_err(|error| Failure::store("cannot tell what the larder holds", &error))?;
        own.extend(tags.into_iter().map(|(repository, tag, digest)| ((repository, tag), digest)));
    }
    let (mut held, mut elsewhere) = (HashMap::new(), Vec::new());
    for want in all {
        let Some(intake) = config.intake_of(&want.image) else { continue };
        let to = config.destination(intake);
        if to.host == config.larder.url.host {
            let found = own.get(&(to.repository, want.tag.clone()));
            held.extend(found.map(|digest| (want.clone(), digest.clone())));
        } else {
            elsewhere.push((want, to));
        }
    }
    let found: Vec<Result<Option<(Want, Digest)>, Failure>> = stream::iter(elsewhere)
        .map(|(want, to)| async move {
            let registry = upstreams.registry(&to.host)?;
            let selector = Selector::Tag(want.tag.clone());
            match registry.resolve(&to.repository, &selector).await {
                Ok(resolved) => Ok(Some((want.clone(), resolved.digest))),
                Err(ClientError::NotFound { .. }) => Ok(None),
                Err(error) => {
                    Err(Failure::remote(format!("cannot tell what {} has", to.host), &error))
                }
            }
        })
        .buffered(32)
        .collect()
        .await;
    for found in found {
        held.extend(found?);
    }
    Ok(held)
}

fn show_costs(costs: &[Cost], out: &Output) {
    for Cost { host, pulls, left, back_at, at_once } in costs {
        let pulls = count(usize::try_from(*pulls).unwrap_or(usize::MAX), "pull");
        let limit = match (left, back_at, at_once) {
            (None, _, None) => "no limit is known".to_owned(),
            (Some(left), None, None) => format!("{left} left"),
            (left, Some(at), _) => {
                format!("only {} left; all of them at {at}", left.unwrap_or_default())
            }
            (left, None, Some(most)) => {
                let left = left.unwrap_or(*most);
                format!(
                    "only {left} left, and no more than {most} at once: it takes several runs, or `--wait`"
                )
            }
        };
        out.note(format!("`larder intake run` would cost {pulls} from {host}: {limit}"));
    }
}

fn line(difference: &Difference) -> IntakeDifference {
    let (upstream, cause) = match &difference.upstream {
        Some(UpstreamNow::At(digest)) => (Some(digest.clone()), None),
        Some(UpstreamNow::Lacks { digest, lacks, .. }) => {
            (Some(digest.clone()), Some(format!("it is not made for {}", listed(lacks))))
        }
        Some(UpstreamNow::Unreached(cause)) => (None, Some(cause.clone())),
        Some(UpstreamNow::Gone) | None => (None, None),
    };
    IntakeDifference {
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
            Next::Lacks => "lacks",
            Next::PassedOver => "passed-over",
        },
        cause,
        size: None,
    }
}

const COLUMNS: [&str; 5] = ["IMAGE", "LOCKED", "UPSTREAM NOW", "LARDER", "NEXT"];

/// One difference in the order of the columns.
fn cells(difference: &Difference, size: Option<&ImageSize>) -> [(Style, String); COLUMNS.len()] {
    let digest = |style, digest: &Digest| (style, short(digest).to_owned());
    let word = |style, word: &str| (style, word.to_owned());
    let none = || word(DIM, "—");
    let locked = difference.locked.as_ref();
    let upstream = match &difference.upstream {
        Some(UpstreamNow::At(now)) if locked == Some(now) => word(GOOD, "same"),
        Some(UpstreamNow::At(now) | UpstreamNow::Lacks { digest: now, .. }) => digest(WARN, now),
        Some(UpstreamNow::Gone) => word(BAD, "gone"),
        Some(UpstreamNow::Unreached(_)) => word(BAD, "not reached"),
        None => none(),
    };
    let here = difference.here.as_ref();
    let larder = match difference.held.as_ref() {
        Some(held) if here == Some(held) && locked == here => word(GOOD, "same"),
        Some(held) if here == Some(held) => word(GOOD, "trimmed"),
        Some(held) => digest(WARN, held),
        None => none(),
    };
    let next = match difference.next() {
        Next::Nothing => word(GOOD, "in place"),
        Next::Lock => word(WARN, "wanted, not locked"),
        Next::Run => (WARN, to_come(size)),
        Next::Review => word(WARN, "moved upstream; the lock holds"),
        Next::Gone => word(BAD, "the upstream has it no longer"),
        Next::Unwanted => word(WARN, "locked, but nobody wants it"),
        Next::Unknown => word(BAD, "could not be told"),
        Next::Lacks => (BAD, lacks(difference)),
        Next::PassedOver if locked.is_some() => {
            (DIM, format!("moved upstream and {}; the lock holds", lacks(difference)))
        }
        Next::PassedOver => (DIM, format!("passed over: it {}", lacks(difference))),
    };
    let locked = locked.map_or_else(none, |locked| digest(Style::new(), locked));
    let name = (Style::new(), format!("{}:{}", difference.want.image, difference.want.tag));
    [name, locked, upstream, larder, next]
}

/// Which platforms the upstream's content is not made for.
fn lacks(difference: &Difference) -> String {
    match &difference.upstream {
        Some(UpstreamNow::Lacks { lacks, .. }) => format!("lacks {}", listed(lacks)),
        _ => String::new(),
    }
}

fn to_come(size: Option<&ImageSize>) -> String {
    match size {
        Some(ImageSize { new_bytes: 0, .. }) => "to be brought in, all of it here".to_owned(),
        Some(size) => format!("to be brought in, {}", bytes(size.new_bytes)),
        None => "to be brought in".to_owned(),
    }
}

/// What differs, as a table in Markdown (GitHub Flavored Markdown, "Tables (extension)"). Only names and digests come
/// from outside, in characters that mean nothing there.
fn markdown(differences: &[Difference], sizes: &BTreeMap<Want, ImageSize>) -> String {
    let differing: Vec<&Difference> =
        differences.iter().filter(|difference| !is_settled(difference)).collect();
    let in_place = differences.len() - differing.len();
    let summary = format!("{} in place, {} not.", count(in_place, "image"), differing.len());
    let mut all = vec![summary];
    if !differing.is_empty() {
        all.push(String::new());
        all.push("| Image | Locked | Upstream now | Larder | Next |".to_owned());
        all.push("|---|---|---|---|---|".to_owned());
    }
    for difference in differing {
        let cells = cells(difference, sizes.get(&difference.want));
        let [name, locked, upstream, larder, next] = cells.map(|(_, text)| text);
        all.push(format!("| `{name}` | {locked} | {upstream} | {larder} | {next} |"));
    }
    all.join("\n")
}

fn show(differences: &[Difference], sizes: &BTreeMap<Want, ImageSize>, out: &Output) {
    let mut table = Table::new(out.width(), &COLUMNS).sparing(&["LOCKED"]);
    for difference in differences {
        let cells = cells(difference, sizes.get(&difference.want));
        table.row(cells.map(|(style, text)| paint(style, text)));
    }
    if differences.is_empty() {
        out.result("nothing is wanted; `larder intake add REFERENCE` wants an image");
        return;
    }
    out.table(&table);
    for difference in differences {
        if let Some(UpstreamNow::Unreached(cause)) = &difference.upstream {
            out.note(format!(
                "not reached: {}:{}: {cause}",
                difference.want.image, difference.want.tag
            ));
        }
    }
    let any = |next: &[Next]| differences.iter().any(|one| next.contains(&one.next()));
    if any(&[Next::Lock, Next::Unwanted]) {
        out.note("Next: `larder intake lock` takes up what is wanted and drops what is not.");
    }
    if any(&[Next::Run]) {
        out.note("Next: `larder intake run` brings in what is locked.");
    }
    if any(&[Next::Review]) {
        out.note("To take what moved: look at it, then `larder intake lock`. Until then the lock protects you.");
    }
}
