//! What was published about images that clusters run, before any rule refuses them; and what rules about it come to.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use larder_core::access::Who;
use larder_core::advisory::{PackageVerdict, Severity};
use larder_core::digest::Digest;
use larder_core::health::SystemRelease;
use larder_core::policy::{ImageName, Lack, Spared, Verdict};
use larder_core::quantity::Span;
use larder_core::rounds::{Concern, Urgency, ends};
use larder_core::shown::shown;
use larder_store::{NotedFinding, Store, StoreError};

use crate::commands::advisory::holdings::{Holdings, Touched};
use crate::config::Config;
use crate::context::now;
use crate::failure::Failure;
use crate::output::time;
use crate::policy::Judge;

const DAY: i64 = 24 * 3_600_000;
/// Advisories of a cluster that are told one by one.
const EACH: usize = 10;
/// Images of one system that are looked at.
const LOOKED: usize = 2000;
/// For so long a feed is taken for new, where no rule says otherwise.
const FRESH: i64 = 14 * DAY;

/// What a rule makes of what runs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Ruled {
    /// No rule asks.
    Nothing,
    /// It is warned of.
    Warned(String),
    /// It is let through because it runs; what does not is refused.
    Runs(String),
    /// It is refused from then on.
    From(i64, String),
    /// It is refused.
    Refused(String),
}

impl Ruled {
    fn told(&self) -> String {
        match self {
            Self::Nothing => String::new(),
            Self::Warned(rule) => format!("; rule `{rule}` warns of it"),
            Self::Runs(rule) => format!("; rule `{rule}` refuses it where it does not run yet"),
            Self::From(at, rule) => format!("; rule `{rule}` refuses it from {} on", time(*at)),
            Self::Refused(rule) => format!("; rule `{rule}` refuses it"),
        }
    }
}

/// What a rule makes of an image, and of which advisories.
type RuledImage = (Ruled, BTreeSet<String>);

/// An advisory that touches what a cluster runs.
#[derive(Default)]
struct Running {
    severity: Severity,
    known_at: i64,
    images: BTreeSet<String>,
    ruled: Option<Ruled>,
}

/// All of it, in no order.
pub async fn all(config: &Config, store: &Store) -> Result<Vec<Concern>, Failure> {
    let failed = |error: StoreError| Failure::store("cannot tell what was published", &error);
    let mut found = rules(config);
    let feeds = store.feeds().await.map_err(failed)?;
    if feeds.is_empty() {
        return Ok(found);
    }
    let asked = config.rules.all().iter().filter_map(|rule| rule.asks.inside.age).min();
    for feed in feeds.iter().filter(|feed| !feed.is_trusted && feed.advisories > 0) {
        let age = now().saturating_sub(feed.imported_at);
        // Where a rule asks for their age, it is told before the rule refuses.
        let urgency = match asked {
            Some(asked) if age > asked => Urgency::Urgent,
            Some(asked) if age > asked / 4 * 3 => Urgency::Soon,
            None if age > FRESH => Urgency::Soon,
            _ => continue,
        };
        let text = format!(
            "the advisories of {} were taken in last {}",
            feed.name,
            time(feed.imported_at)
        );
        let remedy = format!("larder advisory import PATH --feed {}", feed.name);
        found.push(concern(
            format!("feed/{}", feed.name),
            urgency,
            feed.imported_at,
            &text,
            remedy,
        ));
    }
    found.extend(running(config, store).await?);
    found.extend(ended(config, store).await?);
    Ok(found)
}

fn concern(
    name: String,
    urgency: Urgency,
    since: i64,
    text: &str,
    remedy: impl Into<String>,
) -> Concern {
    let text = shown(text).into_owned();
    Concern { name, urgency, since: Some(since), text, remedy: remedy.into() }
}

/// Exceptions that end.
fn rules(config: &Config) -> Vec<Concern> {
    let mut found = Vec::new();
    for rule in config.rules.all() {
        for except in &rule.asks.inside.except {
            let now = now();
            let urgency = match ends(except.until, now) {
                Some(_) if except.until <= now => Urgency::Notice,
                Some(urgency) => urgency,
                None => continue,
            };
            let verb = if except.until <= now { "ended" } else { "ends" };
            let advisory = &except.advisory;
            // The end of a day is told as that day.
            let until = match except.until % DAY {
                0 => time(except.until - 1).chars().take(10).collect(),
                _ => time(except.until),
            };
            let text =
                format!("the exception of rule `{}` for {advisory} {verb} {until}", rule.name);
            let remedy = format!("larder advisory check --only {advisory}");
            let name = format!("exception/{}/{advisory}", rule.name);
            found.push(Concern {
                name: shown(&name).into_owned(),
                urgency,
                since: (except.until <= now).then_some(except.until),
                text: shown(&text).into_owned(),
                remedy,
            });
        }
    }
    found
}

/// Advisories about what clusters were seen to run lately: the severe ones, and all that a rule counts.
async fn running(config: &Config, store: &Store) -> Result<Vec<Concern>, Failure> {
    let failed = |error: StoreError| Failure::store("cannot tell what was published", &error);
    let least = least(config);
    let numbers = store.advisories_as_severe_as(least).await.map_err(failed)?;
    let fold = |all: &mut HashMap<Digest, Vec<NotedFinding>>, one: NotedFinding| {
        if matches!(one.verdict, PackageVerdict::Affected { .. }) {
            all.entry(one.image.clone()).or_default().push(one);
        }
    };
    let findings =
        store.fold_findings(Some(numbers), HashMap::new(), fold).await.map_err(failed)?;
    let numbers: BTreeSet<i64> = findings.values().flatten().map(|one| one.advisory).collect();
    let advisories =
        store.advisories_numbered(numbers.into_iter().collect()).await.map_err(failed)?;
    let within = Some(Span(config.larder.in_use));
    let manifests = findings.keys().cloned();
    let holdings = Holdings::about(config, store, manifests, Some(Touched::new()), within).await?;
    let uses = holdings.uses();
    let judge = Judge::new(config, Some(store.clone()))?;
    let mut found: BTreeMap<(String, String), Running> = BTreeMap::new();
    let mut ruled: HashMap<(String, String), Option<RuledImage>> = HashMap::new();
    for (manifest, all) in &findings {
        for user in holdings.users_of(manifest, &uses) {
            let Some(who) = user.who.as_deref() else { continue };
            let cluster = who.split('/').next().unwrap_or(who);
            if !config.clusters.iter().any(|one| one.name.get_ref() == cluster) {
                continue;
            }
            let namespace = who.split_once('/').map(|(_, namespace)| namespace);
            let key = (who.to_owned(), user.image.clone());
            if !ruled.contains_key(&key) {
                let who = Who::cluster(cluster, namespace);
                let said = asked(&judge, &who, &user.image, manifest).await?;
                ruled.insert(key.clone(), said);
            }
            let said = ruled.get(&key).and_then(Option::as_ref);
            for one in all {
                let Some(of) = advisories.get(&one.advisory) else { continue };
                let severity = of.advisory.severity();
                // What a rule counts is told, and what is severe whatever rules say.
                let of_rule = said.filter(|(_, names)| names.contains(&of.advisory.id));
                if of_rule.is_none() && severity < Severity::High {
                    continue;
                }
                let place = (cluster.to_owned(), of.advisory.id.clone());
                let entry = found.entry(place).or_default();
                entry.severity = entry.severity.max(severity);
                entry.known_at = of.known_at;
                entry.images.insert(user.image.clone());
                let says = of_rule.map_or(Ruled::Nothing, |(ruled, _)| ruled.clone());
                entry.ruled = entry.ruled.take().max(Some(says));
            }
        }
    }
    Ok(told(found))
}

/// Systems that are mended no more, of images that clusters use.
async fn ended(config: &Config, store: &Store) -> Result<Vec<Concern>, Failure> {
    let failed = |error: StoreError| Failure::store("cannot tell what was published", &error);
    let mut concerns = Vec::new();
    for system in store.noted_systems().await.map_err(failed)? {
        let release = SystemRelease::new(&system.name, &system.release, &system.support_end);
        let Some(end) = release.ends.filter(|end| *end <= now()) else { continue };
        let images = store.images_of(&system, LOOKED).await.map_err(failed)?;
        let within = Some(Span(config.larder.in_use));
        let holdings =
            Holdings::about(config, store, images.clone(), Some(Touched::new()), within).await?;
        let uses = holdings.uses();
        let users = images.iter().flat_map(|image| holdings.users_of(image, &uses));
        let is_cluster = |who: &str| {
            let name = who.split('/').next().unwrap_or(who);
            config.clusters.iter().any(|one| one.name.get_ref() == name)
        };
        let used = users.filter(|user| user.who.as_deref().is_some_and(is_cluster));
        let used: BTreeSet<String> = used.map(|user| user.image).collect();
        let Some(first) = used.first() else { continue };
        let others = match used.len() {
            1 => " is".to_owned(),
            2 => " and another image that clusters use are".to_owned(),
            more => format!(" and {} other images that clusters use are", more - 1),
        };
        let day: String = time(end - 1).chars().take(10).collect();
        let text = format!("{first}{others} of {}, which was mended until {day}", system.name);
        let remedy = format!("larder look {}/{first} --health", config.larder.url.host);
        concerns.push(concern(
            format!("system/{}", system.name),
            Urgency::Soon,
            end,
            &text,
            remedy,
        ));
    }
    Ok(concerns)
}

fn told(found: BTreeMap<(String, String), Running>) -> Vec<Concern> {
    let mut by_cluster: BTreeMap<String, Vec<(String, Running)>> = BTreeMap::new();
    for ((cluster, advisory), running) in found {
        by_cluster.entry(cluster).or_default().push((advisory, running));
    }
    let mut concerns = Vec::new();
    for (cluster, mut all) in by_cluster {
        all.sort_by(|(_, a), (_, b)| {
            (&b.ruled, b.severity, a.known_at).cmp(&(&a.ruled, a.severity, b.known_at))
        });
        let more = all.len().saturating_sub(EACH);
        for (advisory, running) in all.into_iter().take(EACH) {
            let ruled = running.ruled.unwrap_or(Ruled::Nothing);
            let urgency = match &ruled {
                Ruled::Runs(_) | Ruled::From(..) | Ruled::Refused(_) => Urgency::Urgent,
                Ruled::Nothing | Ruled::Warned(_) => Urgency::Soon,
            };
            let first = running.images.first().cloned().unwrap_or_default();
            let others = match running.images.len() {
                1 => String::new(),
                2 => " and another image".to_owned(),
                more => format!(" and {} other images", more - 1),
            };
            let text = format!(
                "{advisory} ({}) touches {first}{others}, which {cluster} uses{}",
                running.severity,
                ruled.told()
            );
            let remedy = format!("larder advisory check --only {advisory} --cluster {cluster}");
            let name = format!("advisory/{cluster}/{advisory}");
            concerns.push(concern(name, urgency, running.known_at, &text, remedy));
        }
        if more > 0 {
            let text = format!("{more} more advisories touch what {cluster} uses");
            let remedy = format!("larder advisory check --cluster {cluster} --least high");
            let name = format!("advisory/{cluster}/more");
            let (since, text) = (None, shown(&text).into_owned());
            concerns.push(Concern { name, urgency: Urgency::Soon, since, text, remedy });
        }
    }
    concerns
}

/// What a rule that asks what was published says of an image to somebody, and of which advisories. None: no such rule
/// decides.
async fn asked(
    judge: &Judge,
    who: &Who,
    image: &str,
    manifest: &Digest,
) -> Result<Option<RuledImage>, Failure> {
    if !judge.court.rules.ask_inside(who.cluster_name()) {
        return Ok(None);
    }
    let Some((repository, tag)) = image.rsplit_once(':') else { return Ok(None) };
    let (Ok(repository), Ok(tag)) = (repository.parse(), tag.parse()) else { return Ok(None) };
    // As a node asks: the tag is what it is named by, and this is what is meant.
    let named = ImageName { tag: Some(&tag), digest: Some(manifest) };
    let judged = judge.own(who, &repository, named).await?;
    let Some(rule) = judged.rule.filter(|_| judged.verdict != Verdict::Allow) else {
        return Ok(None);
    };
    let Some(Lack::Inside(lack, spared)) = &judged.lack else { return Ok(None) };
    let name = rule.name.clone();
    let ruled = match spared {
        Some(Spared::Runs) => Ruled::Runs(name),
        Some(Spared::Until(at)) => Ruled::From(*at, name),
        Some(Spared::HeldBefore(_)) => Ruled::Warned(name),
        None if judged.verdict == Verdict::Deny => Ruled::Refused(name),
        None => Ruled::Warned(name),
    };
    Ok(Some((ruled, lack.advisories().map(str::to_owned).collect())))
}

/// The least severity of which anybody wants to hear: high, or what a rule counts.
fn least(config: &Config) -> Severity {
    let limits = config.rules.all().iter().filter_map(|rule| rule.asks.inside.advisories);
    let counted = limits.map(|limit| match limit.most {
        None => Severity::Unknown,
        Some(most) => {
            Severity::ALL.into_iter().find(|one| *one > most).unwrap_or(Severity::Critical)
        }
    });
    counted.min().unwrap_or(Severity::High).min(Severity::High)
}
