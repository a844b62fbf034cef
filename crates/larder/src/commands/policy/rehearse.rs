//! `larder policy rehearse`: what a changed configuration would have refused.

use std::collections::BTreeMap;
use std::path::PathBuf;

use larder_core::access::Who;
use larder_core::policy::{ImageName, Judgement, Ruling};
use larder_core::quantity::Span;
use larder_core::reference::Selector;
use larder_store::{Filter, RecordKind, now};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::{self, Provenance};
use crate::context::{Context, read_reference, store_if_any};
use crate::deployments::{self, BrokenFile};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, ago, count, paint, time};
use crate::policy::Judge;

/// Replay the recorded pulls against changed rules and grants: what would have been refused, for whom
///
/// Exit status 1 says that something would have been.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The changed configuration
    #[arg(long, value_name = "FILE")]
    rules: PathBuf,
    /// How far back
    #[arg(long, value_name = "SPAN", default_value = "30d")]
    since: Span,
    /// Also what these deployments name, for every cluster (again for more)
    #[arg(long, value_name = "PATH")]
    survey: Vec<PathBuf>,
}

#[derive(Serialize, JsonSchema)]
pub struct PolicyRehearsal {
    since: String,
    /// Pulls that were replayed.
    pulls: u64,
    /// References of deployments that were asked about.
    surveyed: usize,
    refused: Vec<RehearsedPull>,
    warned: Vec<RehearsedPull>,
    /// Files and references of deployments that cannot be read.
    broken: Vec<BrokenFile>,
}

#[derive(Serialize, JsonSchema)]
struct RehearsedPull {
    who: String,
    image: String,
    /// How often it was pulled. None: a deployment names it.
    pulls: Option<u64>,
    last_at: Option<String>,
    /// Where a deployment names it. None: it was pulled.
    place: Option<String>,
    reason: String,
    line: Option<String>,
    #[serde(skip)]
    at: i64,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: the steps of a rehearsal in their order.
    let what = "cannot rehearse";
    let present = context.config()?;
    let changed = config::load(&args.rules, Provenance::Named)?;
    let store = store_if_any(&present)?;
    let span = i64::try_from(args.since.0.as_millis()).unwrap_or(i64::MAX);
    let since = now().saturating_sub(span);
    let judge = Judge::new(&changed, store.clone())?;
    let mut report = PolicyRehearsal {
        since: time(since),
        pulls: 0,
        surveyed: 0,
        refused: Vec::new(),
        warned: Vec::new(),
        broken: Vec::new(),
    };
    if let Some(store) = &store {
        let filter =
            Filter { since: Some(since), kinds: vec![RecordKind::Pull], ..Filter::default() };
        let failed = |error| Failure::store(what, &error);
        // A pull is a line a day: what was pulled on many days is told once.
        let mut pulls: BTreeMap<(String, String), (u64, i64)> = BTreeMap::new();
        for entry in store.entries(filter).await.map_err(failed)? {
            let Some(reference) = entry.reference else { continue };
            report.pulls += entry.count;
            let known = pulls.entry((entry.who, reference)).or_default();
            known.0 += entry.count;
            known.1 = known.1.max(entry.last);
        }
        for ((user, reference), (pulls, last)) in pulls {
            let who = who(&user, &changed);
            let Some((repository, selector)) = read(&reference) else { continue };
            let shown = if user.is_empty() { "anonymous".to_owned() } else { user };
            let row = |reason: String, line| RehearsedPull {
                who: shown,
                image: reference,
                pulls: Some(pulls),
                last_at: Some(time(last)),
                place: None,
                reason,
                line,
                at: last,
            };
            match &who {
                Some(who) => {
                    let judged = judge.own(who, &repository, ImageName::from(&selector)).await?;
                    report.add(&judged, row);
                }
                None => {
                    report.refused.push(row("it would no longer be declared".into(), None));
                }
            }
        }
    }
    let deployments::FilesOutcome { done, broken, .. } =
        deployments::named(&args.survey, deployments::Sight::with(&changed.resources));
    report.broken = broken;
    for deployment in &done {
        for finding in deployment.pulled() {
            let place = || format!("{}:{}", deployment.shown, finding.position.line);
            let reading = match read_reference(&finding.text, Some(&changed)) {
                Ok(reading) => reading,
                // Nobody can pull it, whatever the rules say.
                Err(malformed) => {
                    let cause = malformed.reason.to_string();
                    report.broken.push(BrokenFile { file: place(), cause });
                    continue;
                }
            };
            report.surveyed += 1;
            for cluster in &changed.clusters {
                let who =
                    Who::cluster(cluster.name.get_ref(), finding.workload.namespace.as_deref());
                let judged = judge.reference(&who, &reading.reference).await?;
                let row = |reason, line| RehearsedPull {
                    who: who.to_string(),
                    image: finding.text.clone(),
                    pulls: None,
                    last_at: None,
                    place: Some(place()),
                    reason,
                    line,
                    at: 0,
                };
                report.add(&judged, row);
            }
        }
    }
    context.output.tell(&report);
    let fine = report.refused.is_empty() && report.broken.is_empty();
    Ok(if fine { Exit::Done } else { Exit::No })
}

impl PolicyRehearsal {
    fn add(
        &mut self,
        judged: &Judgement<'_>,
        row: impl FnOnce(String, Option<String>) -> RehearsedPull,
    ) {
        let Some((reason, line)) = judged.reason() else { return };
        match judged.ruling {
            Ruling::Refused | Ruling::Unknown => self.refused.push(row(reason, line)),
            Ruling::Warned => self.warned.push(row(reason, line)),
            Ruling::Allowed | Ruling::NotOurs => {}
        }
    }
}

/// None: the user would not be declared.
fn who(user: &str, config: &config::Config) -> Option<Who> {
    match user {
        "" => Some(Who::Anonymous),
        user => config.grants.who(user),
    }
}

fn read(reference: &str) -> Option<(larder_core::name::RepositoryName, Selector)> {
    if let Some((repository, digest)) = reference.split_once('@') {
        return Some((repository.parse().ok()?, Selector::Digest(digest.parse().ok()?)));
    }
    let (repository, tag) = reference.rsplit_once(':')?;
    Some((repository.parse().ok()?, Selector::Tag(tag.parse().ok()?)))
}

impl Report for PolicyRehearsal {
    const KIND: &'static str = "policy-rehearsal";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &PolicyRehearsal, out: &Output) {
    let mut table = Table::new(out.width(), &["WOULD BE", "WHO", "IMAGE", "PULLS", "BECAUSE"])
        .sparing(&["PULLS"]);
    let refused = report.refused.iter().map(|row| (paint(BAD, "refused"), row));
    let warned = report.warned.iter().map(|row| (paint(WARN, "warned of"), row));
    let mut some = false;
    for (word, row) in refused.chain(warned) {
        some = true;
        let pulls = match (row.pulls, &row.place) {
            (Some(pulls), _) => format!("{pulls}, last {}", ago(row.at, now())),
            (None, place) => place.clone().unwrap_or_default(),
        };
        let mut reason = vec![row.reason.clone()];
        reason.extend(row.line.as_ref().map(|line| paint(DIM, line)));
        table.row([word, row.who.clone(), row.image.clone(), pulls, reason.join("\n")]);
    }
    if some {
        out.result(table.text() + "\n");
    }
    let times: u64 = report.refused.iter().filter_map(|row| row.pulls).sum();
    let word = if report.refused.is_empty() { paint(GOOD, "none") } else { paint(BAD, times) };
    out.result(format!(
        "{} since {} replayed, {word} of them would have been refused",
        count(usize::try_from(report.pulls).unwrap_or(usize::MAX), "pull"),
        report.since
    ));
    for BrokenFile { file, cause } in &report.broken {
        out.note(format!("{} {file} cannot be read: {cause}", paint(BAD, "broken:")));
    }
    if report.surveyed > 0 {
        let denied = report.refused.iter().filter(|row| row.place.is_some()).count();
        out.result(format!(
            "{} of deployments asked about, {denied} would be refused",
            count(report.surveyed, "reference")
        ));
    }
}
