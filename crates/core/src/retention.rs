//! Which images of a shelf go, and why does each of the others stay?
//!
//! One `[[keep]]` decides over a repository: the most specific one that matches it. An image goes only when every
//! condition that is written there lets it go, and when nothing protects it: a lock, a survey, a cluster that runs it
//! or may run it, the grace after it came or was last asked for. What is not covered stays.

mod in_use;
mod newest;

pub use in_use::{ClusterUse, InUse, KnownAt, Sighting};

use std::fmt;

use crate::access::ConfigLine;
use crate::companion::is_made_from_digest;
use crate::digest::Digest;
use crate::name::{RepositoryName, Tag};
use crate::pattern::Pattern;
use crate::quantity::Span;

/// One `[[keep]]`. The default lets nothing go.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct KeepRule {
    /// Where it stands: what the record names.
    pub line: ConfigLine,
    /// The repositories that it is about, shelf first.
    pub repositories: Vec<Pattern>,
    /// How many of the newest tags stay. None: it does not count them.
    pub newest: Option<Newest>,
    /// How long ago a tag must have been set, and last asked for. None: it does not ask.
    pub unpulled: Option<Span>,
    /// How long ago what has no tag must have come, and last been asked for. None: it stays.
    pub untagged: Option<Span>,
    /// Tags that never go.
    pub always: Vec<Pattern>,
}

impl KeepRule {
    /// What it says, wherever it stands: two that say the same have the same text.
    pub fn canonical(&self) -> String {
        let list = |all: &[Pattern]| {
            all.iter().map(|one| format!("{one:?}")).collect::<Vec<_>>().join(",")
        };
        let newest = self.newest.map(|newest| (newest.count, newest.by));
        let Self { repositories, unpulled, untagged, always, line: _, newest: _ } = self;
        format!("{} {newest:?} {unpulled:?} {untagged:?} {}", list(repositories), list(always))
    }
}

/// How many of the newest stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Newest {
    /// Different contents: tags of one content count once.
    pub count: usize,
    pub by: NewestBy,
}

/// What makes one tag newer than another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NewestBy {
    /// Their versions, within each variant (`-alpine`) apart.
    Version,
    /// When they were set.
    Time,
}

/// An image as the decision sees it: a tag, or a manifest that has none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldImage {
    /// None: it has no tag.
    pub tag: Option<Tag>,
    pub digest: Digest,
    /// When the tag was set, or the manifest came, in milliseconds since 1970.
    pub since: i64,
    /// When it, or something that it lists, was last asked for. None: never, as far as it is recorded.
    pub pulled: Option<i64>,
}

/// What becomes of an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fate {
    Goes(Vec<GoesBecause>),
    Stays(StaysBecause),
}

/// A condition that lets an image go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GoesBecause {
    /// It is not among the newest: its rank, counted from 1, and how many stay.
    Older { rank: usize, stay: usize },
    /// Nobody has asked for it since then, or ever, for so long.
    Unpulled(Span),
    /// It has no tag, for so long.
    Untagged(Span),
}

/// Why an image stays: the first that holds, in this order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StaysBecause {
    /// No `[[keep]]` is about its repository.
    NoRule,
    /// The `[[keep]]` lets nothing of its kind go.
    NotAsked,
    /// Its tag is made from the digest of another image: it goes with that one, and never by itself.
    Companion,
    /// A pattern of `always`.
    Always(Pattern),
    /// Something that was named needs it, or runs it.
    InUse(InUse),
    /// It came, or was asked for, within the grace.
    Young,
    /// It is one of the newest: its rank, counted from 1, and how many stay.
    Newest { rank: usize, stay: usize },
    /// It is no version, and only versions are counted.
    NotAVersion,
    /// It was asked for, or set, then: within the time that is written.
    Pulled { at: i64, within: Span },
}

/// All `[[keep]]` of a configuration.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Retention {
    pub rules: Vec<KeepRule>,
}

impl Retention {
    /// The rule about a repository: the one with the most specific pattern that matches, of equal ones the first.
    /// None: nothing of it goes.
    pub fn rule_for(&self, repository: &RepositoryName) -> Option<&KeepRule> {
        let name = repository.as_str();
        let fitting = self.rules.iter().rev().filter_map(|rule| {
            let all = rule.repositories.iter().filter(|pattern| pattern.matches(name));
            all.map(specificity).max().map(|specific| (specific, rule))
        });
        // Of equal ones `max_by_key` takes the last, which is the first in the file.
        fitting.max_by_key(|(specific, _)| *specific).map(|(_, rule)| rule)
    }
}

/// How specific a pattern is: a name that is written out more than any pattern, then by what stands before the first
/// wildcard, then by what is written at all, then `*` before `**`.
fn specificity(pattern: &Pattern) -> (bool, usize, usize, bool) {
    let text = pattern.as_str();
    let wild = |c: char| "*?[{\\".contains(c);
    let before = text.find(wild).unwrap_or(text.len());
    let written = text.chars().filter(|c| !wild(*c)).count();
    (!text.contains(wild), before, written, !text.contains("**"))
}

impl KeepRule {
    /// What becomes of each image of a repository. `uses` says what protects one; `grace` is for how long after it came
    /// or was asked for anything stays.
    ///
    /// Pulls are recorded a moment after they were answered: what shall go must be judged twice, that long apart.
    pub fn judge(
        &self,
        images: &[HeldImage],
        uses: &dyn Fn(&HeldImage) -> Option<InUse>,
        now: i64,
        grace: Span,
    ) -> Vec<Fate> {
        let ranks = self.newest.map(|newest| newest::ranks(images, newest.by));
        let before = |span: Span| now.saturating_sub(milliseconds(span));
        let judge = |(number, image): (usize, &HeldImage)| {
            let last = image.pulled.map_or(image.since, |pulled| pulled.max(image.since));
            if image.tag.as_ref().is_some_and(is_made_from_digest) {
                return Fate::Stays(StaysBecause::Companion);
            }
            if let Some(tag) = &image.tag
                && let Some(pattern) = self.always.iter().find(|it| it.matches(tag.as_str()))
            {
                return Fate::Stays(StaysBecause::Always(pattern.clone()));
            }
            let asked = match image.tag {
                Some(_) => self.newest.is_some() || self.unpulled.is_some(),
                None => self.untagged.is_some(),
            };
            if !asked {
                return Fate::Stays(StaysBecause::NotAsked);
            }
            if let Some(in_use) = uses(image) {
                return Fate::Stays(StaysBecause::InUse(in_use));
            }
            if last > before(grace) {
                return Fate::Stays(StaysBecause::Young);
            }
            let mut goes = Vec::new();
            if let (Some(newest), Some(ranks)) = (self.newest, &ranks)
                && image.tag.is_some()
            {
                let stay = newest.count;
                match ranks[number] {
                    None => return Fate::Stays(StaysBecause::NotAVersion),
                    Some(rank) if rank <= stay => {
                        return Fate::Stays(StaysBecause::Newest { rank, stay });
                    }
                    Some(rank) => goes.push(GoesBecause::Older { rank, stay }),
                }
            }
            let untagged = self.untagged.filter(|_| image.tag.is_none());
            for (span, because) in [
                (self.unpulled, GoesBecause::Unpulled as fn(Span) -> GoesBecause),
                (untagged, GoesBecause::Untagged),
            ] {
                let Some(within) = span else { continue };
                if last > before(within) {
                    return Fate::Stays(StaysBecause::Pulled { at: last, within });
                }
                goes.push(because(within));
            }
            Fate::Goes(goes)
        };
        images.iter().enumerate().map(judge).collect()
    }
}

fn milliseconds(span: Span) -> i64 {
    i64::try_from(span.0.as_millis()).unwrap_or(i64::MAX)
}

impl fmt::Display for GoesBecause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Older { rank, stay } => write!(f, "number {rank} by age, and {stay} stay"),
            Self::Unpulled(span) => write!(f, "not pulled for {span}"),
            Self::Untagged(span) => write!(f, "without a tag for {span}"),
        }
    }
}

impl fmt::Display for StaysBecause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoRule => f.write_str("no [[keep]] is about it"),
            Self::NotAsked => f.write_str("its [[keep]] lets nothing like it go"),
            Self::Companion => f.write_str("it goes with what it is about"),
            Self::Always(pattern) => write!(f, "`always` has {pattern}"),
            Self::InUse(in_use) => write!(f, "{in_use}"),
            Self::Young => f.write_str("it came, or was pulled, a short time ago"),
            Self::Newest { rank, stay } => write!(f, "number {rank} of the {stay} newest"),
            Self::NotAVersion => f.write_str("its tag is not a version, and versions are counted"),
            Self::Pulled { within, .. } => write!(f, "pulled or set within {within}"),
        }
    }
}

#[cfg(test)]
mod tests;
