//! `larder policy diff`: who gains and who loses what by a changed configuration.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use larder_core::access::grants::Permits;
use larder_core::access::{Action, Who};
use larder_core::name::RepositoryName;
use larder_core::policy::{ImageName, PolicyRule};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::{self, Config, Provenance};
use crate::context::{Context, every_tag, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, WARN, count, paint};
use crate::policy::Judge;

/// Say in words who gains and who loses what between two configurations
///
/// Patterns and rules are compared as they are written, and then by what they do to the images that the
/// larder holds. Exit status 1 says that something differs.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The configuration as it was
    old: PathBuf,
    /// The configuration as it shall be
    new: PathBuf,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct PolicyDiff {
    /// What is written otherwise.
    lines: Vec<PolicyChange>,
    /// What that does to the images that the larder holds.
    effects: Vec<PolicyEffect>,
    /// Whether there is a store to compare with.
    compared: bool,
}

#[derive(Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord)]
struct PolicyChange {
    who: String,
    /// `gains`, `loses`, `changes`.
    change: &'static str,
    what: String,
}

#[derive(Serialize, JsonSchema)]
struct PolicyEffect {
    who: String,
    /// `gains`, `loses`, `is warned of`.
    change: &'static str,
    images: Vec<String>,
    reason: Option<String>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let (old, new) =
        (config::load(&args.old, Provenance::Named)?, config::load(&args.new, Provenance::Named)?);
    let mut report = PolicyDiff { lines: lines(&old, &new), ..PolicyDiff::default() };
    if let Some(store) = store_if_any(&new)?.or(store_if_any(&old)?) {
        report.compared = true;
        let failed = |error| Failure::store("cannot tell what the larder holds", &error);
        let held = every_tag(&store).await.map_err(failed)?;
        let repositories: BTreeSet<RepositoryName> =
            held.iter().map(|(repository, ..)| repository.clone()).collect();
        let (before, after) =
            (Judge::new(&old, Some(store.clone()))?, Judge::new(&new, Some(store))?);
        let mut everybody: BTreeSet<Who> = old.grants.everybody().into_iter().collect();
        everybody.extend(new.grants.everybody());
        everybody.insert(Who::Anonymous);
        for who in &everybody {
            let mut by_change: BTreeMap<(&'static str, Option<String>), Vec<String>> =
                BTreeMap::new();
            for (repository, tag, _) in &held {
                let named = ImageName { tag: Some(tag), digest: None };
                let was = before.own(who, repository, named).await?;
                let is = after.own(who, repository, named).await?;
                let change = match (!was.ruling.is_refused(), !is.ruling.is_refused()) {
                    (true, false) => "loses",
                    (false, true) => "gains",
                    (true, true) if was.verdict < is.verdict => "is warned of",
                    _ => continue,
                };
                let reason = is.reason().map(|(reason, _)| reason);
                let image = format!("{repository}:{tag}");
                by_change.entry((change, reason)).or_default().push(image);
            }
            for action in [Action::Push, Action::Delete] {
                for repository in &repositories {
                    let may = |config: &Config| {
                        config.is_open() || config.grants.may(who, action, repository)
                    };
                    let change = match (may(&old), may(&new)) {
                        (true, false) => "loses",
                        (false, true) => "gains",
                        _ => continue,
                    };
                    let reason = Some(action.phrase().to_owned());
                    by_change.entry((change, reason)).or_default().push(repository.to_string());
                }
            }
            report.effects.extend(by_change.into_iter().map(|((change, reason), images)| {
                PolicyEffect { who: who.to_string(), change, images, reason }
            }));
        }
    }
    let same = report.lines.is_empty() && report.effects.is_empty();
    context.output.tell(&report);
    Ok(if same { Exit::Done } else { Exit::No })
}

/// What is written otherwise.
fn lines(old: &Config, new: &Config) -> Vec<PolicyChange> {
    let mut all = Vec::new();
    let mut add = |who: &str, change, what: String| {
        all.push(PolicyChange { who: who.to_owned(), change, what });
    };
    if old.larder.access != new.larder.access {
        let what = match new.is_open() {
            true => "everything: `access` is \"open\" now",
            false => "all but what is granted: `access` is \"grants\" now",
        };
        add("everybody", if new.is_open() { "gains" } else { "loses" }, what.into());
    }
    let texts = |config: &Config| -> BTreeSet<String> {
        config.grants.anonymous.texts().map(str::to_owned).collect()
    };
    for pattern in texts(new).difference(&texts(old)) {
        add("anybody", "gains", format!("pull {pattern}"));
    }
    for pattern in texts(old).difference(&texts(new)) {
        add("anybody", "loses", format!("pull {pattern}"));
    }
    let mut everybody: BTreeSet<Who> = old.grants.everybody().into_iter().collect();
    everybody.extend(new.grants.everybody());
    // A namespace without grants of its own is told with its cluster.
    let shared = |who: &Who| [old, new].iter().all(|config| shares(config, who));
    for who in everybody.iter().filter(|who| !shared(who)) {
        let (was, is) = (patterns(old.grants.permits(who)), patterns(new.grants.permits(who)));
        match (&was, &is) {
            (Some(was), Some(is)) => {
                is.difference(was).for_each(|what| add(&who.to_string(), "gains", what.clone()));
                was.difference(is).for_each(|what| add(&who.to_string(), "loses", what.clone()));
            }
            (None, Some(is)) => {
                let list = is.iter().cloned().collect::<Vec<_>>().join(", ");
                add(
                    &who.to_string(),
                    "gains",
                    format!("a place here: {}", if list.is_empty() { "no grants" } else { &list }),
                );
            }
            (Some(_), None) => {
                add(&who.to_string(), "loses", "everything: it is no longer declared".into());
            }
            (None, None) => {}
        }
    }
    let by_name = |config: &Config| -> BTreeMap<String, (usize, String)> {
        let rules = config.rules.all().iter().enumerate();
        rules.map(|(at, rule)| (rule.name.clone(), (at, described(rule)))).collect()
    };
    let (was, is) = (by_name(old), by_name(new));
    for (name, (at, rule)) in &is {
        match was.get(name) {
            None => add("the rules", "gains", format!("`{name}` as number {}: {rule}", at + 1)),
            Some((_, old)) if old != rule => {
                add("the rules", "changes", format!("`{name}`: {old} becomes {rule}"));
            }
            Some((before, _)) if order(&was, &is, name) => {
                add(
                    "the rules",
                    "changes",
                    format!("`{name}` is number {} instead of {}", at + 1, before + 1),
                );
            }
            Some(_) => {}
        }
    }
    for (name, (_, rule)) in &was {
        if !is.contains_key(name) {
            add("the rules", "loses", format!("`{name}`: {rule}"));
        }
    }
    all
}

/// Whether somebody is a namespace that has the grants of its cluster.
fn shares(config: &Config, who: &Who) -> bool {
    let cluster = who.cluster_name().and_then(|name| config.grants.clusters.get(name));
    let Some((cluster, namespace)) = cluster.zip(who.namespace()) else { return false };
    cluster.namespaces.get(namespace).is_some_and(Option::is_none)
}

/// Whether a rule stands otherwise among those that both have.
fn order(
    was: &BTreeMap<String, (usize, String)>,
    is: &BTreeMap<String, (usize, String)>,
    name: &str,
) -> bool {
    let before = |all: &BTreeMap<String, (usize, String)>| -> BTreeSet<String> {
        let Some((own, _)) = all.get(name) else { return BTreeSet::new() };
        let shared =
            all.iter().filter(|(other, _)| was.contains_key(*other) && is.contains_key(*other));
        shared.filter(|(_, (at, _))| at < own).map(|(other, _)| other.clone()).collect()
    };
    before(was) != before(is)
}

fn patterns(permits: Option<&Permits>) -> Option<BTreeSet<String>> {
    let permits = permits?;
    let of = |word: &str, patterns: &larder_core::access::grants::Patterns| -> Vec<String> {
        patterns.texts().map(|text| format!("{word} {text}")).collect()
    };
    let all = [
        of("pull", &permits.pull),
        of("push to", &permits.push),
        of("remove from", &permits.delete),
    ];
    Some(all.concat().into_iter().collect())
}

fn described(rule: &PolicyRule) -> String {
    let list = |names: &[Box<str>], all: &str| {
        if names.is_empty() { all.to_owned() } else { names.join(", ") }
    };
    let mut text = format!(
        "{} {} for {}",
        rule.verdict.word(),
        list(&rule.classes, "every class"),
        list(&rule.clusters, "everybody")
    );
    if !rule.namespaces.is_empty() {
        text.push_str(&format!(" in {}", rule.namespaces.join(", ")));
    }
    if !rule.images.is_empty() {
        let images: Vec<&str> =
            rule.images.iter().map(larder_core::pattern::Pattern::as_str).collect();
        text.push_str(&format!(" of {}", images.join(", ")));
    }
    let asks = &rule.asks;
    let asked: Vec<String> = [
        asks.digest.then(|| "a digest".to_owned()),
        asks.fixed_tag.then(|| "a tag that does not move".to_owned()),
        (!asks.platforms.is_empty()).then(|| {
            let all: Vec<String> = asks.platforms.iter().map(ToString::to_string).collect();
            format!("for {}", all.join(" or "))
        }),
        asks.age.map(|age| format!("an age of {} h", age / 3_600_000)),
        asks.signature.then(|| "a signature".to_owned()),
    ]
    .into_iter()
    .flatten()
    .collect();
    if !asked.is_empty() {
        text.push_str(&format!(" unless it has {}", asked.join(", ")));
    }
    text
}

/// Images that are shown of each effect; `--json` has all.
const SHOWN: usize = 5;

impl Report for PolicyDiff {
    const KIND: &'static str = "policy-diff";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &PolicyDiff, out: &Output) {
    let painted = |change: &str| match change {
        "gains" => paint(GOOD, "gains"),
        "loses" => paint(BAD, "loses"),
        other => paint(WARN, other),
    };
    for PolicyChange { who, change, what } in &report.lines {
        let change = match (who.as_str(), *change) {
            ("the rules", "gains") => paint(WARN, "have one more,"),
            ("the rules", "loses") => paint(WARN, "no longer have"),
            ("the rules", _) => paint(WARN, "change:"),
            (_, change) => painted(change),
        };
        out.result(format!("{who} {change} {what}"));
    }
    if report.lines.is_empty() {
        out.result("grants and rules are written the same");
    }
    if !report.compared {
        out.note("there is no store to compare the effect with");
        return;
    }
    out.result(match report.effects.is_empty() {
        true => "\nnothing changes for the images that the larder holds".to_owned(),
        false => "\nOf what the larder holds:".to_owned(),
    });
    for PolicyEffect { who, change, images, reason } in &report.effects {
        let some: Vec<&str> = images.iter().take(SHOWN).map(String::as_str).collect();
        let more = images.len().saturating_sub(SHOWN);
        let more = if more > 0 { format!(" and {}", count(more, "other")) } else { String::new() };
        let reason = reason.as_ref().map(|it| paint(DIM, format!(" ({it})"))).unwrap_or_default();
        out.result(format!("  {who} {} {}{more}{reason}", painted(change), some.join(", ")));
    }
}
