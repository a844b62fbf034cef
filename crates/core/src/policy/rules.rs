//! Rules: the first that matches decides.

use std::collections::HashMap;
use std::fmt;

use super::facts::{Fact, FactsWish, ImageFacts};
use super::inside::{InsideAnswer, InsideAsks, InsideLack, InsideWish, answer};
use super::signed::{SignatureShort, SignatureWish, short};
use crate::access::ConfigLine;
use crate::digest::Digest;
use crate::name::Tag;
use crate::pattern::{Pattern, PatternError, PatternSet};
use crate::platform::Platform;
use crate::reference::Image;
use crate::signature::SignatureAsk;

/// What follows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// It may.
    Allow,
    /// It may, and somebody is told.
    Warn,
    /// It may not.
    Deny,
}

impl Verdict {
    /// The configuration's word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Warn => "warn",
            Self::Deny => "deny",
        }
    }
}

/// What a rule may ask of an image. One that has all of it, the rule lets pass to those after it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Asks {
    /// That it is named by its digest.
    pub digest: bool,
    /// That its tag is none that moves by its name (`latest`, `stable`, …).
    pub fixed_tag: bool,
    /// That it is for one of these platforms. Empty: not asked.
    pub platforms: Vec<Platform>,
    /// That the larder has held it for so many milliseconds: what an image says of its own age, anybody can write.
    /// None: not asked.
    pub age: Option<i64>,
    /// That something which calls itself a signature refers to it. Nothing is verified: anyone who may push may attach
    /// one.
    pub signature: bool,
    /// What it asks of what is inside, and of what was published about that.
    pub inside: InsideAsks,
    /// Who has to have signed it, and what they have to have said; all of these.
    pub signed: Vec<SignatureAsk>,
}

impl Asks {
    /// Whether it asks nothing: the rule then decides on whatever it matches.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Whether nothing but the name has to be known.
    pub fn is_decided_by_names(&self) -> bool {
        let Self { digest: _, fixed_tag: _, platforms, age, signature, inside, signed } = self;
        let is_of_content = *signature || age.is_some() || !platforms.is_empty();
        !is_of_content && inside.is_empty() && signed.is_empty()
    }
}

/// One `[[rule]]`.
#[derive(Debug, Clone)]
pub struct PolicyRule {
    /// What it is called.
    pub name: String,
    /// For which clusters. Empty: for all, and for what is no cluster.
    pub clusters: Vec<Box<str>>,
    /// For which of their namespaces. Empty: for all.
    pub namespaces: Vec<Box<str>>,
    /// For which classes. Empty: whatever the class.
    pub classes: Vec<Box<str>>,
    /// For which images, as `host/repository`. Empty: for all that the classes name.
    pub images: Vec<Pattern>,
    /// What it asks. Nothing: it decides on whatever it matches.
    pub asks: Asks,
    pub verdict: Verdict,
    /// What becomes of what a cluster runs, where what it asks of what is inside would refuse it.
    pub running: WhatRuns,
    /// What the larder held before then is warned of only, where its signatures would refuse it, in milliseconds since
    /// 1970. None: nothing is.
    pub held_before: Option<i64>,
    /// Because of what, for those who are refused.
    pub because: String,
    pub line: ConfigLine,
}

/// What becomes of what a cluster runs, where something that was published would refuse it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhatRuns {
    /// It is warned of, so that nothing that runs stops because of what was published last night.
    #[default]
    Warn,
    /// It is refused as anything else.
    Refuse,
}

/// What is asked of the rules.
#[derive(Debug, Clone, Copy)]
pub struct RuleQuestion<'a> {
    /// The cluster. None: it is no cluster that asks.
    pub cluster: Option<&'a str>,
    /// The namespace. None: none is known.
    pub namespace: Option<&'a str>,
    /// The image where it comes from; for one of our own, its name here.
    pub image: &'a Image,
    /// Its class. None: no class names it.
    pub class: Option<&'a str>,
    /// Whether it is one of our own: brought in from nowhere.
    pub own: bool,
    /// The tag that names it. None: it is named by digest alone.
    pub tag: Option<&'a Tag>,
    /// The digest that names it. None: it is named by tag.
    pub digest: Option<&'a Digest>,
    /// Whether it is only a part that is asked for, such as a layer: what is asked of whole images is
    /// then not asked.
    pub part: bool,
    /// Now, in milliseconds since 1970.
    pub now: i64,
}

/// What an image lacks of what a rule asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lack {
    /// It is not named by digest.
    Digest,
    /// Its tag moves.
    FixedTag(String),
    /// It is for other platforms.
    Platform(Vec<Platform>),
    /// It is younger than so many milliseconds.
    Age(i64),
    /// No signature refers to it.
    Signature,
    /// Something about what is inside, and why it is only warned of all the same. None: it is not.
    Inside(InsideLack, Option<Spared>),
    /// Signatures, and why it is only warned of all the same. None: it is not.
    Signed(Box<SignatureShort>, Option<Spared>),
    /// It cannot be told; of what, in a word.
    Unknown(&'static str),
}

/// Why something is only warned of that a rule would refuse.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spared {
    /// The cluster runs it.
    Runs,
    /// The grace of the rule lasts until then, in milliseconds since 1970.
    Until(i64),
    /// The larder held it before then, in milliseconds since 1970.
    HeldBefore(i64),
}

impl Lack {
    /// Whether it is that something cannot be told.
    pub fn is_unknown(&self) -> bool {
        match self {
            Self::Unknown(_) => true,
            Self::Inside(lack, _) => lack.is_unknown(),
            _ => false,
        }
    }
}

impl fmt::Display for Lack {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Digest => f.write_str("it is not named by digest"),
            Self::FixedTag(tag) => write!(f, "the tag {tag} moves"),
            Self::Platform(wanted) => {
                let wanted: Vec<String> = wanted.iter().map(Platform::to_string).collect();
                write!(f, "it is not for {}", wanted.join(" or "))
            }
            Self::Age(wanted) => {
                write!(f, "the larder has held it for less than {}", span(*wanted))
            }
            Self::Signature => f.write_str("nothing that looks like a signature refers to it"),
            Self::Inside(lack, spared) => {
                write!(f, "{lack}")?;
                told_spared(*spared, f)
            }
            Self::Signed(lack, spared) => {
                write!(f, "{lack}")?;
                told_spared(*spared, f)
            }
            Self::Unknown(what) => write!(f, "its {what} cannot be told"),
        }
    }
}

/// That it is let through all the same.
fn told_spared(spared: Option<Spared>, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    match spared {
        None => Ok(()),
        Some(Spared::Runs) => f.write_str("; it is let through because it runs there"),
        Some(Spared::Until(at)) => write!(f, "; it is let through until {}", minute(at)),
        Some(Spared::HeldBefore(at)) => {
            write!(f, "; it is let through because it was held before {}", minute(at))
        }
    }
}

/// A moment to the minute, in UTC.
fn minute(at: i64) -> String {
    let at = jiff::Timestamp::from_millisecond(at).unwrap_or(jiff::Timestamp::MAX);
    at.strftime("%Y-%m-%dT%H:%MZ").to_string()
}

/// A span in words.
pub(super) fn span(milliseconds: i64) -> String {
    let seconds = milliseconds / 1000;
    match seconds {
        _ if seconds % 86_400 == 0 => format!("{} d", seconds / 86_400),
        _ if seconds % 3600 == 0 => format!("{} h", seconds / 3600),
        _ => format!("{} min", seconds / 60),
    }
}

/// What was decided.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RuleDecision<'r> {
    Verdict {
        verdict: Verdict,
        /// The position of the rule that decided. None: none matched, so it may.
        rule: Option<usize>,
        /// What the image lacks. None: the rule decides on whatever it matches.
        lack: Option<Lack>,
    },
    /// A rule asks for something that was not looked up yet.
    Needs(&'r Asks),
}

impl RuleDecision<'_> {
    const NOTHING: Self = Self::Verdict { verdict: Verdict::Allow, rule: None, lack: None };
}

/// All rules, ready to decide.
#[derive(Debug, Clone, Default)]
pub struct Rules {
    all: Vec<PolicyRule>,
    /// The rules that may concern each cluster that a rule names, in order.
    by_cluster: HashMap<Box<str>, Vec<usize>>,
    /// Those for everybody.
    for_all: Vec<usize>,
    /// The patterns of all rules, and the rule of each.
    images: PatternSet,
    of_image: Vec<usize>,
}

/// By what it says, wherever it stands.
impl PartialEq for PolicyRule {
    fn eq(&self, other: &Self) -> bool {
        let Self { name, clusters, namespaces, classes, images, .. } = self;
        let Self { asks, verdict, running, held_before, because, .. } = self;
        (name, because, verdict, asks) == (&other.name, &other.because, &other.verdict, &other.asks)
            && (*running, *held_before) == (other.running, other.held_before)
            && (clusters, namespaces) == (&other.clusters, &other.namespaces)
            && (classes, images) == (&other.classes, &other.images)
    }
}

/// By what is written; the rest is compiled from it.
impl PartialEq for Rules {
    fn eq(&self, other: &Self) -> bool {
        self.all == other.all
    }
}

impl Rules {
    /// Compiles rules, in their order.
    pub fn new(rules: Vec<PolicyRule>) -> Result<Self, PatternError> {
        let mut by_cluster: HashMap<Box<str>, Vec<usize>> = HashMap::new();
        for name in rules.iter().flat_map(|rule| &rule.clusters) {
            by_cluster.entry(name.clone()).or_default();
        }
        let mut for_all = Vec::new();
        for (at, rule) in rules.iter().enumerate() {
            if rule.clusters.is_empty() {
                for_all.push(at);
            }
            for (name, list) in &mut by_cluster {
                if rule.clusters.is_empty() || rule.clusters.contains(name) {
                    list.push(at);
                }
            }
        }
        let patterns = || {
            let each = rules.iter().enumerate();
            each.flat_map(|(at, rule)| rule.images.iter().map(move |pattern| (at, pattern)))
        };
        let images = PatternSet::new(patterns().map(|(_, pattern)| pattern))?;
        let of_image = patterns().map(|(at, _)| at).collect();
        Ok(Self { all: rules, by_cluster, for_all, images, of_image })
    }

    /// The rules, in their order.
    pub fn all(&self) -> &[PolicyRule] {
        &self.all
    }

    /// Those that may concern a cluster, in their order.
    pub fn for_cluster(&self, cluster: &str) -> impl Iterator<Item = &PolicyRule> {
        self.list(Some(cluster)).iter().map(|&at| &self.all[at])
    }

    fn list(&self, cluster: Option<&str>) -> &[usize] {
        cluster.and_then(|name| self.by_cluster.get(name)).unwrap_or(&self.for_all)
    }

    /// Whether one of them may refuse a cluster, or one of its namespaces, something.
    pub fn may_deny(&self, cluster: &str, namespace: Option<&str>) -> bool {
        let concerns = |rule: &PolicyRule| {
            rule.namespaces.is_empty()
                || namespace.is_some_and(|name| rule.namespaces.iter().any(|one| **one == *name))
        };
        self.for_cluster(cluster).any(|rule| rule.verdict == Verdict::Deny && concerns(rule))
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Whether a rule may ask for a cluster what is inside an image. None: for what is no cluster.
    pub fn ask_inside(&self, cluster: Option<&str>) -> bool {
        self.list(cluster).iter().any(|&at| !self.all[at].asks.inside.is_empty())
    }

    /// Whether a rule may ask for a cluster who signed an image. None: for what is no cluster.
    pub fn ask_signed(&self, cluster: Option<&str>) -> bool {
        self.list(cluster).iter().any(|&at| !self.all[at].asks.signed.is_empty())
    }

    /// What of an image's content rules may ask for a cluster. `since`: when something that was used then still counts as
    /// running, in milliseconds since 1970.
    pub fn wish<'w>(
        &self,
        cluster: Option<&'w str>,
        since: i64,
        signatures: SignatureWish<'w>,
    ) -> FactsWish<'w> {
        let signatures = Some(signatures).filter(|_| self.ask_signed(cluster));
        let asking = self.list(cluster).iter().map(|&at| &self.all[at].asks.inside);
        let inside = InsideWish::of(asking.filter(|asks| !asks.is_empty()));
        let runs = cluster.filter(|_| inside.is_some()).map(|cluster| (cluster, since));
        let looks_signed = self.list(cluster).iter().any(|&at| self.all[at].asks.signature);
        FactsWish { inside, runs, looks_signed, signatures }
    }

    /// Decides.
    pub fn decide(&self, asked: &RuleQuestion<'_>, facts: &ImageFacts) -> RuleDecision<'_> {
        let list = self.list(asked.cluster);
        if list.is_empty() {
            return RuleDecision::NOTHING;
        }
        let named = match self.of_image.is_empty() {
            true => Vec::new(),
            false => {
                let all = self.images.matches(&asked.image.to_string());
                let mut rules: Vec<usize> = all.into_iter().map(|at| self.of_image[at]).collect();
                rules.dedup();
                rules
            }
        };
        // What a rule would refuse and lets through for now; a later one may refuse it all the same.
        let mut spared: Option<RuleDecision<'_>> = None;
        for &at in list {
            let rule = &self.all[at];
            if !rule.concerns(asked, || named.binary_search(&at).is_ok()) {
                continue;
            }
            let decides = |lack: Option<Lack>| {
                let decided = RuleDecision::Verdict { verdict: rule.verdict, rule: Some(at), lack };
                // What is spared was refused first: no later rule allows it without a word.
                if rule.verdict == Verdict::Deny { None } else { spared.clone() }.unwrap_or(decided)
            };
            if rule.asks.is_empty() {
                return decides(None);
            }
            if asked.part {
                continue;
            }
            match lacks(rule, asked, facts) {
                LackedFact::Nothing => {}
                LackedFact::Look => return RuleDecision::Needs(&rule.asks),
                LackedFact::Lacks(lack) => return decides(Some(lack)),
                LackedFact::Spared(lack) => {
                    let (verdict, lack) = (rule.verdict.min(Verdict::Warn), Some(lack));
                    let first = RuleDecision::Verdict { verdict, rule: Some(at), lack };
                    spared = spared.or(Some(first));
                }
            }
        }
        spared.unwrap_or(RuleDecision::NOTHING)
    }
}

impl PolicyRule {
    fn concerns(&self, asked: &RuleQuestion<'_>, named: impl FnOnce() -> bool) -> bool {
        let holds = |list: &[Box<str>], name: Option<&str>| {
            list.is_empty() || name.is_some_and(|name| list.iter().any(|one| **one == *name))
        };
        // Our own images are meant only by a rule that names them.
        if asked.own && self.images.is_empty() && self.classes.is_empty() {
            return false;
        }
        holds(&self.classes, asked.class)
            && holds(&self.namespaces, asked.namespace)
            && (self.images.is_empty() || named())
    }

    /// Why, in one sentence for those who are refused.
    pub fn reason(&self, lack: Option<&Lack>) -> String {
        let lack = lack.map(|lack| format!("; {lack}")).unwrap_or_default();
        let because = match self.because.as_str() {
            "" => String::new(),
            because => format!(": {because}"),
        };
        format!("rule `{}`{because}{lack}", self.name)
    }
}

enum LackedFact {
    Nothing,
    Look,
    Lacks(Lack),
    /// It lacks this, and is only warned of for now.
    Spared(Lack),
}

fn lacks(rule: &PolicyRule, asked: &RuleQuestion<'_>, facts: &ImageFacts) -> LackedFact {
    let asks = &rule.asks;
    if asks.digest && asked.digest.is_none() {
        return LackedFact::Lacks(Lack::Digest);
    }
    if asks.fixed_tag && asked.digest.is_none() && asked.tag.is_none_or(Tag::moves_by_name) {
        let tag = asked.tag.map_or("latest", Tag::as_str);
        return LackedFact::Lacks(Lack::FixedTag(tag.to_owned()));
    }
    if !asks.platforms.is_empty() {
        match &facts.platforms {
            Fact::NotLooked => return LackedFact::Look,
            Fact::Later => {}
            Fact::Unknown => return LackedFact::Lacks(Lack::Unknown("platform")),
            Fact::Is(found) => {
                let fits = |one: &Platform| asks.platforms.iter().any(|on| one.suits(on).is_some());
                if !found.iter().any(fits) {
                    return LackedFact::Lacks(Lack::Platform(asks.platforms.clone()));
                }
            }
        }
    }
    if let Some(age) = asks.age {
        match facts.held {
            Fact::NotLooked => return LackedFact::Look,
            Fact::Unknown => return LackedFact::Lacks(Lack::Unknown("age")),
            Fact::Is(since) if asked.now.saturating_sub(since) < age => {
                return LackedFact::Lacks(Lack::Age(age));
            }
            Fact::Is(_) | Fact::Later => {}
        }
    }
    if asks.signature {
        match facts.signed {
            Fact::NotLooked => return LackedFact::Look,
            Fact::Unknown => return LackedFact::Lacks(Lack::Unknown("signature")),
            Fact::Is(false) => return LackedFact::Lacks(Lack::Signature),
            Fact::Is(true) | Fact::Later => {}
        }
    }
    let unsigned = match asks.signed.is_empty() {
        true => LackedFact::Nothing,
        false => lacks_signatures(rule, asked, facts),
    };
    match unsigned {
        LackedFact::Nothing | LackedFact::Spared(_) => {}
        decided => return decided,
    }
    match asks.inside.is_empty() {
        true => unsigned,
        // What is let through for one reason is not for another.
        false => match lacks_inside(rule, asked, facts) {
            LackedFact::Nothing => unsigned,
            other => other,
        },
    }
}

fn lacks_signatures(rule: &PolicyRule, asked: &RuleQuestion<'_>, facts: &ImageFacts) -> LackedFact {
    let found = match &facts.signatures {
        Fact::NotLooked => return LackedFact::Look,
        Fact::Later => return LackedFact::Nothing,
        Fact::Unknown => return LackedFact::Lacks(Lack::Unknown("signatures")),
        Fact::Is(found) => found,
    };
    let lack = rule.asks.signed.iter().find_map(|ask| short(ask, found, asked.now));
    let Some(lack) = lack.map(Box::new) else { return LackedFact::Nothing };
    match (rule.held_before, &facts.held) {
        (Some(before), Fact::Is(since)) if *since < before && rule.verdict == Verdict::Deny => {
            LackedFact::Spared(Lack::Signed(lack, Some(Spared::HeldBefore(before))))
        }
        _ => LackedFact::Lacks(Lack::Signed(lack, None)),
    }
}

fn lacks_inside(rule: &PolicyRule, asked: &RuleQuestion<'_>, facts: &ImageFacts) -> LackedFact {
    let lack = match &facts.inside {
        Fact::NotLooked => return LackedFact::Look,
        Fact::Later => return LackedFact::Nothing,
        Fact::Unknown => {
            InsideLack::NotRead("the larder does not hold it, so nobody has read it".to_owned())
        }
        Fact::Is(inside) => match answer(&rule.asks.inside, inside, asked.now) {
            InsideAnswer::Passes => return LackedFact::Nothing,
            // Grace is for what would be refused; a warning is due at once.
            InsideAnswer::Spared(lack, _) if rule.verdict != Verdict::Deny => lack,
            InsideAnswer::Spared(lack, until) => {
                return LackedFact::Spared(Lack::Inside(lack, Some(Spared::Until(until))));
            }
            InsideAnswer::Lacks(lack) => lack,
        },
    };
    if rule.verdict != Verdict::Deny || rule.running == WhatRuns::Refuse || asked.cluster.is_none()
    {
        return LackedFact::Lacks(Lack::Inside(lack, None));
    }
    match facts.runs {
        Fact::NotLooked => LackedFact::Look,
        Fact::Is(true) => LackedFact::Spared(Lack::Inside(lack, Some(Spared::Runs))),
        Fact::Is(false) | Fact::Unknown | Fact::Later => {
            LackedFact::Lacks(Lack::Inside(lack, None))
        }
    }
}

#[cfg(test)]
mod tests;
