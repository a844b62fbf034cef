//! Who may do what: `[[account]]`, `[[cluster]]`, `[[rule]]`, and `anonymous` under `[larder]`.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::Arc;

use larder_core::access::grants::{ClusterPermits, Grants, Patterns, Permits};
use larder_core::access::network::Network;
use larder_core::access::rate::Rate;
use larder_core::access::{ConfigLine, is_name, is_namespace};
use larder_core::nearest::nearest;
use larder_core::pattern::Pattern;
use larder_core::platform::Platform;
use larder_core::policy::{
    AdvisoryException, AdvisoryLimit, Asks, Classes, InsideAsks, PolicyRule, Rules, Verdict,
    WhatRuns,
};
use larder_core::quantity::Span;
use serde::Deserialize;
use serde::de::value::MapAccessDeserializer;
use serde::de::{Deserializer, Error as _, MapAccess, Visitor};
use toml::Spanned;

use super::deployments::RawDoor;
use super::identity::{Identity, PipelineIdentity};
use super::source::ConfigSource;
use crate::failure::Failure;

/// `[[account]]`: a person or a pipeline.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AccountConfig {
    /// Its name, with which it signs in.
    pub name: Spanned<String>,
    /// What it may pull.
    #[serde(default)]
    pub pull: Vec<Spanned<Pattern>>,
    /// What it may push to.
    #[serde(default)]
    pub push: Vec<Spanned<Pattern>>,
    /// What it may remove from.
    #[serde(default)]
    pub delete: Vec<Spanned<Pattern>>,
    /// What it may take within a span of time. None: any number.
    #[serde(default, deserialize_with = "super::values::read_rate")]
    pub rate: Option<Rate>,
    /// Whose tokens are believed to be its own. None: it signs in with keys alone.
    pub identity: Option<PipelineIdentity>,
}

/// `[[cluster]]`: who pulls.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClusterConfig {
    pub name: Spanned<String>,
    /// Its namespaces that pull. Empty: any.
    #[serde(default)]
    pub namespaces: Vec<Namespace>,
    /// The platforms of its nodes.
    #[serde(default)]
    pub platforms: Vec<Platform>,
    /// What it may pull.
    #[serde(default)]
    pub pull: Vec<Spanned<Pattern>>,
    /// What it may push to.
    #[serde(default)]
    pub push: Vec<Spanned<Pattern>>,
    /// The certificate that its nodes show, in PEM. None: they show none.
    pub certificate: Option<PathBuf>,
    /// The networks from which its nodes are believed when they name it.
    #[serde(default)]
    pub nodes: Vec<Network>,
    /// The name of its pull secrets.
    #[serde(default = "default_secret")]
    pub pull_secret: String,
    /// The service accounts that get the pull secret.
    #[serde(default = "default_service_accounts")]
    pub service_accounts: Vec<String>,
    /// Whose tokens of its service accounts are believed. None: nobody's.
    pub identity: Option<Identity>,
    /// What is done with what it is about to run. None: it is not asked.
    pub door: Option<RawDoor>,
}

fn default_secret() -> String {
    "larder-pull".into()
}

fn default_service_accounts() -> Vec<String> {
    vec!["default".into()]
}

/// A namespace of a cluster: a name, or a table where it has grants of its own.
#[derive(Debug)]
pub struct Namespace {
    pub name: Spanned<String>,
    /// Its own grants. None: those of the cluster.
    pub own: Option<OwnGrants>,
    /// The service accounts that get the pull secret. None: those of the cluster.
    pub service_accounts: Option<Vec<String>>,
}

/// What a namespace may do, instead of what its cluster may.
#[derive(Debug)]
pub struct OwnGrants {
    /// What it may pull.
    pub pull: Vec<Spanned<Pattern>>,
    /// What it may push to.
    pub push: Vec<Spanned<Pattern>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawNamespace {
    name: Spanned<String>,
    pull: Option<Vec<Spanned<Pattern>>>,
    push: Option<Vec<Spanned<Pattern>>>,
    service_accounts: Option<Vec<String>>,
}

impl<'de> Deserialize<'de> for Namespace {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Either;
        impl<'de> Visitor<'de> for Either {
            type Value = Namespace;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a namespace's name, or a table such as { name = \"scada\", pull = [\"vendor/**\"] }")
            }

            fn visit_str<E: serde::de::Error>(self, name: &str) -> Result<Namespace, E> {
                let name = Spanned::new(0..0, name.to_owned());
                Ok(Namespace { name, own: None, service_accounts: None })
            }

            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Namespace, A::Error> {
                let raw = RawNamespace::deserialize(MapAccessDeserializer::new(map))?;
                let own = (raw.pull.is_some() || raw.push.is_some()).then(|| OwnGrants {
                    pull: raw.pull.unwrap_or_default(),
                    push: raw.push.unwrap_or_default(),
                });
                let service_accounts = raw.service_accounts;
                Ok(Namespace { name: raw.name, own, service_accounts })
            }
        }
        from.deserialize_any(Either)
    }
}

/// `[[rule]]`.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RawRule {
    name: Spanned<String>,
    #[serde(default)]
    clusters: Vec<Spanned<String>>,
    #[serde(default)]
    namespaces: Vec<String>,
    #[serde(default)]
    classes: Vec<Spanned<String>>,
    #[serde(default)]
    images: Vec<Pattern>,
    verdict: RawVerdict,
    #[serde(default)]
    because: String,
    #[serde(default)]
    asks: RawAsks,
    /// For how long after it was taken in an advisory is warned of only.
    #[serde(default, deserialize_with = "read_age")]
    grace: Option<i64>,
    /// Advisories that are not counted.
    #[serde(default)]
    except: Vec<RawException>,
    running: Option<RawRunning>,
    /// What the larder held then is warned of only, where its signatures would refuse it.
    except_held_before: Option<Spanned<Until>>,
}

/// What becomes of what a cluster runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum RawRunning {
    Warn,
    Refuse,
}

/// One of `except` of a rule.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawException {
    advisory: Spanned<String>,
    until: Spanned<Until>,
    #[serde(default)]
    because: String,
}

/// When something ends: a moment, or the end of a day (UTC). In milliseconds since 1970.
#[derive(Debug, Clone, Copy)]
struct Until(i64);

impl Until {
    /// The beginning of that day, where it is a day.
    fn start(self) -> i64 {
        const DAY: i64 = 86_400_000;
        if self.0 % DAY == 0 { self.0 - DAY } else { self.0 }
    }
}

impl<'de> Deserialize<'de> for Until {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Either {
            Date(toml::value::Datetime),
            Text(String),
        }
        let text = match Either::deserialize(from) {
            Ok(Either::Date(date)) => date.to_string(),
            Ok(Either::Text(text)) => text,
            Err(_) => String::new(),
        };
        if let Ok(at) = text.parse::<jiff::Timestamp>() {
            return Ok(Self(at.as_millisecond()));
        }
        let end = || {
            let next = text.parse::<jiff::civil::Date>().ok()?.tomorrow().ok()?;
            let at = next.to_zoned(jiff::tz::TimeZone::UTC).ok()?;
            Some(Self(at.timestamp().as_millisecond()))
        };
        // A time of the day would be left out in silence.
        let is_date = text.len() == 10;
        end().filter(|_| is_date).ok_or_else(|| {
            D::Error::custom("`until` wants a day, such as 2026-12-31, or a moment, such as 2026-12-31T12:00:00Z")
        })
    }
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "lowercase")]
enum RawVerdict {
    Allow,
    Warn,
    Deny,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawAsks {
    #[serde(default)]
    digest: bool,
    #[serde(default)]
    fixed_tag: bool,
    #[serde(default)]
    platforms: Vec<Platform>,
    #[serde(default, deserialize_with = "read_age")]
    age: Option<i64>,
    #[serde(default)]
    looks_signed: bool,
    /// The name of `looks_signed` from before; it means the same.
    #[serde(default)]
    signature: bool,
    /// What passes of advisories: `none above high`.
    #[serde(default, deserialize_with = "read_limit")]
    advisories: Option<AdvisoryLimit>,
    /// How old what is known of what is inside may be.
    #[serde(default, deserialize_with = "read_age")]
    inventory_age: Option<i64>,
    /// The signers of whom some have to have signed it.
    #[serde(default)]
    pub signed_by: Vec<Spanned<String>>,
    /// So many of them.
    pub of: Option<usize>,
    /// No longer ago than this.
    #[serde(default, deserialize_with = "read_age")]
    pub within: Option<i64>,
    /// What somebody has to have said of it.
    pub attested: Option<RawAttested>,
}

/// `attested` of a rule.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawAttested {
    pub by: Vec<Spanned<String>>,
    /// So many of them.
    pub of: Option<usize>,
    /// Any of these predicate types.
    pub says: Vec<String>,
    /// By pointers into the predicate: what has to stand there.
    #[serde(default, rename = "where")]
    pub conditions: toml::Table,
    pub time: Option<String>,
    #[serde(default)]
    pub newest: bool,
    #[serde(default, deserialize_with = "read_age")]
    pub within: Option<i64>,
}

fn read_limit<'de, D: Deserializer<'de>>(from: D) -> Result<Option<AdvisoryLimit>, D::Error> {
    String::deserialize(from)?.parse().map(Some).map_err(D::Error::custom)
}

fn read_age<'de, D: Deserializer<'de>>(from: D) -> Result<Option<i64>, D::Error> {
    let Span(span) = String::deserialize(from)?.parse().map_err(D::Error::custom)?;
    let milliseconds = i64::try_from(span.as_millis()).map_err(D::Error::custom)?;
    Ok(Some(milliseconds))
}

/// The rules that ask by a name from before.
pub(super) fn asks_for_signature(sources: &[ConfigSource]) -> Vec<String> {
    let rules =
        sources.iter().flat_map(|source| source.file.rule.iter().map(move |rule| (source, rule)));
    let old = rules.filter(|(_, rule)| rule.asks.signature);
    old.map(|(source, rule)| format!("`{}` ({})", rule.name.get_ref(), line(source, &rule.name)))
        .collect()
}

/// The line on which something stands.
pub(super) fn line<T>(source: &ConfigSource, at: &Spanned<T>) -> ConfigLine {
    ConfigLine { file: Arc::clone(&source.shown), number: source.line(at.span().start) }
}

fn patterns(source: &ConfigSource, all: &[Spanned<Pattern>]) -> Result<Patterns, Failure> {
    let each = all.iter().map(|one| (one.get_ref().clone(), line(source, one)));
    Patterns::new(each.collect()).map_err(|error| match all.first() {
        Some(first) => source.fault(first, &error.to_string(), ""),
        None => Failure::usage("cannot read the grants", error, ""),
    })
}

/// Compiles the grants of all files.
pub(super) fn grants(sources: &[ConfigSource]) -> Result<Grants, Failure> {
    let (mut accounts, mut clusters) = (HashMap::new(), HashMap::new());
    let mut anonymous = Vec::new();
    let mut names: BTreeMap<String, ConfigLine> = BTreeMap::new();
    for source in sources {
        if let Some(larder) = &source.file.larder {
            for one in &larder.get_ref().anonymous {
                anonymous.push((one.get_ref().clone(), line(source, one)));
            }
        }
        let named = source.file.account.iter().map(|account| &account.name);
        for name in named.chain(source.file.cluster.iter().map(|cluster| &cluster.name)) {
            let text = name.get_ref();
            if !is_name(text) {
                let message =
                    format!("`{}` can name no account and no cluster", text.escape_debug());
                let remedy = "a name has letters, digits, `.`, `_` and `-`, 63 at most";
                return Err(source.fault(name, &message, remedy));
            }
            if let Some(first) = names.insert(text.clone(), line(source, name)) {
                let message =
                    format!("`{text}` is the name of an account or cluster already, at {first}");
                return Err(source.fault(name, &message, "name it otherwise"));
            }
        }
        for account in &source.file.account {
            let permits = Permits {
                pull: patterns(source, &account.pull)?,
                push: patterns(source, &account.push)?,
                delete: patterns(source, &account.delete)?,
                line: line(source, &account.name),
            };
            if let Some(identity) = &account.identity {
                identity.check(source)?;
            }
            accounts.insert(account.name.get_ref().as_str().into(), permits);
        }
        for cluster in &source.file.cluster {
            let permits = cluster_permits(source, cluster)?;
            clusters.insert(cluster.name.get_ref().as_str().into(), permits);
        }
    }
    let anonymous = Patterns::new(anonymous)
        .map_err(|error| Failure::usage("cannot read `anonymous`", error, ""))?;
    Ok(Grants { anonymous, accounts, clusters })
}

fn cluster_permits(
    source: &ConfigSource,
    cluster: &ClusterConfig,
) -> Result<ClusterPermits, Failure> {
    let at = line(source, &cluster.name);
    let whole = Permits {
        pull: patterns(source, &cluster.pull)?,
        push: patterns(source, &cluster.push)?,
        delete: patterns(source, &[])?,
        line: at.clone(),
    };
    let mut namespaces = BTreeMap::new();
    for namespace in &cluster.namespaces {
        let name = namespace.name.get_ref();
        if !is_namespace(name) || namespaces.contains_key(name.as_str()) {
            let (what, remedy) = match is_namespace(name) {
                true => ("is there twice", "take one of the two out"),
                false => ("is no namespace's name", "write lower-case letters, digits and `-`"),
            };
            let message =
                format!("`{}` {what} (cluster {})", name.escape_debug(), cluster.name.get_ref());
            return Err(source.fault(&cluster.name, &message, remedy));
        }
        let own = match &namespace.own {
            None => None,
            Some(own) => Some(Permits {
                pull: patterns(source, &own.pull)?,
                push: patterns(source, &own.push)?,
                delete: patterns(source, &[])?,
                line: line(source, &namespace.name),
            }),
        };
        namespaces.insert(name.as_str().into(), own);
    }
    Ok(ClusterPermits { whole, namespaces })
}

/// Compiles the rules of all files.
pub(super) fn rules(
    sources: &[ConfigSource],
    grants: &Grants,
    classes: &Classes,
    signers: &[&str],
) -> Result<Rules, Failure> {
    let mut all = Vec::new();
    for source in sources {
        for raw in &source.file.rule {
            let mut known: Vec<&str> = grants.clusters.keys().map(|name| &**name).collect();
            known.sort_unstable();
            check_known(source, "cluster", &raw.clusters, &known)?;
            let mut known: Vec<&str> = classes.names().collect();
            known.dedup();
            check_known(source, "class", &raw.classes, &known)?;
            if raw.because.is_empty() && !matches!(raw.verdict, RawVerdict::Allow) {
                let message = "a rule that denies or warns says why";
                return Err(source.fault(
                    &raw.name,
                    message,
                    "add `because = \"…\"`: it is what the developer reads",
                ));
            }
            if raw.because.chars().any(char::is_control) || raw.because.len() > 200 {
                let message =
                    "`because` is one line of 200 bytes at most: it goes into a status line";
                return Err(source.fault(&raw.name, message, "say it shorter"));
            }
            let boxed = |names: &[Spanned<String>]| {
                names.iter().map(|name| name.get_ref().as_str().into()).collect()
            };
            let RawAsks { digest, fixed_tag, ref platforms, age, .. } = raw.asks;
            let signature = raw.asks.looks_signed || raw.asks.signature;
            let inside = inside(source, raw)?;
            let signed = super::trust::signed(source, &raw.asks, signers)?;
            let held_before = raw.except_held_before.as_ref();
            if let Some(at) = held_before
                && (signed.is_empty() || !matches!(raw.verdict, RawVerdict::Deny))
            {
                let message = "`except_held_before` softens a rule that denies what nobody signed";
                return Err(source.fault(at, message, "take it out"));
            }
            // A day means its beginning, as everybody reads it.
            let held_before = held_before.map(|at| at.get_ref().start());
            all.push(PolicyRule {
                name: raw.name.get_ref().clone(),
                clusters: boxed(&raw.clusters),
                namespaces: raw.namespaces.iter().map(|name| name.as_str().into()).collect(),
                classes: boxed(&raw.classes),
                images: raw.images.clone(),
                asks: Asks {
                    digest,
                    fixed_tag,
                    platforms: platforms.clone(),
                    age,
                    signature,
                    inside,
                    signed,
                },
                verdict: match raw.verdict {
                    RawVerdict::Allow => Verdict::Allow,
                    RawVerdict::Warn => Verdict::Warn,
                    RawVerdict::Deny => Verdict::Deny,
                },
                running: match raw.running {
                    None | Some(RawRunning::Warn) => WhatRuns::Warn,
                    Some(RawRunning::Refuse) => WhatRuns::Refuse,
                },
                held_before,
                because: raw.because.clone(),
                line: line(source, &raw.name),
            });
        }
    }
    Rules::new(all).map_err(|error| Failure::usage("cannot read the rules", error, ""))
}

/// What a rule asks of what is inside.
fn inside(source: &ConfigSource, raw: &RawRule) -> Result<InsideAsks, Failure> {
    let RawAsks { advisories, inventory_age, .. } = raw.asks;
    let what = [
        ("grace", raw.grace.is_some()),
        ("except", !raw.except.is_empty()),
        ("running", raw.running.is_some()),
    ];
    let given = what.iter().find(|(_, is_given)| *is_given).map(|(word, _)| *word);
    if let Some(word) = given
        && advisories.is_none()
        && (inventory_age.is_none() || word != "running")
    {
        let message = format!("`{word}` is for rules that ask what was published");
        let remedy = "add `asks = { advisories = \"none above high\" }`, or take it out";
        return Err(source.fault(&raw.name, &message, remedy));
    }
    let is_softened = raw.grace.is_some() || raw.running.is_some();
    if is_softened && !matches!(raw.verdict, RawVerdict::Deny) {
        let message = "`grace` and `running` soften a rule that denies, and this one does not";
        return Err(source.fault(&raw.name, message, "take them out"));
    }
    for one in &raw.except {
        let name = one.advisory.get_ref();
        let is_name = (1..=200).contains(&name.len()) && name.chars().all(|c| c.is_ascii_graphic());
        if !is_name {
            let message = "this is no name of an advisory";
            let remedy = "`larder advisory list` names them";
            return Err(source.fault(&one.advisory, message, remedy));
        }
        if one.because.is_empty() || one.because.chars().any(char::is_control) {
            let message = "an exception says why it is one";
            let remedy = "add `because = \"…\"` to it, on one line";
            return Err(source.fault(&one.advisory, message, remedy));
        }
    }
    let except = raw.except.iter().map(|one| AdvisoryException {
        advisory: one.advisory.get_ref().clone(),
        until: one.until.get_ref().0,
        because: one.because.clone(),
    });
    let (grace, except) = (raw.grace.unwrap_or(0), except.collect());
    Ok(InsideAsks { advisories, age: inventory_age, grace, except })
}

pub(super) fn check_known(
    source: &ConfigSource,
    what: &str,
    named: &[Spanned<String>],
    known: &[&str],
) -> Result<(), Failure> {
    for name in named {
        if !known.contains(&name.get_ref().as_str()) {
            let message = format!("no [[{what}]] has the name `{}`", name.get_ref());
            let remedy = nearest(name.get_ref(), known.iter().copied()).map_or_else(
                || format!("declare it with [[{what}]]"),
                |near| format!("write \"{near}\""),
            );
            return Err(source.fault(name, &message, &remedy));
        }
    }
    Ok(())
}
