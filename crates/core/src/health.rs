//! How an image is, in one word and with its reasons. There is no number in it: each reason says what it rests on.

mod releases;

use std::collections::BTreeMap;
use std::fmt;

use crate::advisory::Severity;
use crate::policy::InsideGap;

pub use releases::release_end;

/// An image that is older than so many milliseconds is told to be old: a year.
const OLD: i64 = 365 * DAY;
const DAY: i64 = 86_400_000;

/// How an image is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum HealthWord {
    /// Nothing speaks against it.
    Good,
    /// Something is to be looked at.
    Fair,
    /// What decides was not read.
    Unknown,
    /// It should be replaced.
    Poor,
}

impl HealthWord {
    /// All, the best first.
    pub const ALL: [Self; 4] = [Self::Good, Self::Fair, Self::Unknown, Self::Poor];

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Fair => "fair",
            Self::Unknown => "unknown",
            Self::Poor => "poor",
        }
    }
}

impl fmt::Display for HealthWord {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// The system of an image.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SystemRelease {
    /// For people: `Debian GNU/Linux 12 (bookworm)`.
    pub name: String,
    /// When it is mended no more, in milliseconds since 1970. None: not known.
    pub ends: Option<i64>,
}

impl SystemRelease {
    /// Of a name for people, the name that advisories have for it (empty: none), and the last day that it says itself
    /// (empty: it does not).
    pub fn new(name: &str, release: &str, said: &str) -> Self {
        Self { name: name.to_owned(), ends: release_end(release, said) }
    }
}

/// What is known of an image, of all its platforms together.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct HealthFacts {
    /// How many advisories of each severity touch it, without those that our own statements hide.
    pub advisories: BTreeMap<Severity, usize>,
    /// Of how many nobody can say whether they do.
    pub doubts: usize,
    /// What of it was not read. None: all was.
    pub gap: Option<InsideGap>,
    /// Whether advisories were taken in at all.
    pub has_feeds: bool,
    /// When it was built, as it says, in milliseconds since 1970. None: it does not say.
    pub built: Option<i64>,
    /// Whether it is run as root. None: its configuration was not read.
    pub runs_as_root: Option<bool>,
    /// The base that it names by a tag alone. None: it names none, or by its digest.
    pub unpinned_base: Option<String>,
    /// Its systems that are known.
    pub systems: Vec<SystemRelease>,
}

impl HealthFacts {
    /// Adds what is known of another platform of the same image.
    pub fn add(&mut self, other: Self) {
        for (severity, number) in other.advisories {
            // Mostly they are the same ones.
            let known = self.advisories.entry(severity).or_default();
            *known = (*known).max(number);
        }
        self.doubts = self.doubts.max(other.doubts);
        self.gap = self.gap.take().or(other.gap);
        self.has_feeds |= other.has_feeds;
        self.built = self.built.min(other.built).or(self.built).or(other.built);
        self.runs_as_root = self.runs_as_root.max(other.runs_as_root);
        self.unpinned_base = self.unpinned_base.take().or(other.unpinned_base);
        for system in other.systems {
            if !self.systems.contains(&system) {
                self.systems.push(system);
            }
        }
    }
}

/// Why an image is as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HealthReason {
    /// So many advisories of one severity touch it.
    Advisories(Severity, usize),
    /// Of so many nobody can say whether they do.
    Doubts(usize),
    /// Its system was mended last at a time, in milliseconds since 1970.
    Ended(String, i64),
    /// It was built so many days ago, as it says.
    Old(i64),
    /// It names its base by a tag alone.
    UnpinnedBase(String),
    /// It is run as root.
    Root,
    /// It was not read whole; in words.
    NotRead(String),
    /// No advisories were taken in.
    NoFeeds,
}

impl HealthReason {
    /// What it makes of an image by itself.
    pub fn word(&self) -> HealthWord {
        match self {
            Self::Advisories(Severity::High | Severity::Critical, _) | Self::Ended(..) => {
                HealthWord::Poor
            }
            Self::Advisories(Severity::None, _) => HealthWord::Good,
            Self::Advisories(..)
            | Self::Doubts(_)
            | Self::Old(_)
            | Self::UnpinnedBase(_)
            | Self::Root => HealthWord::Fair,
            Self::NotRead(_) | Self::NoFeeds => HealthWord::Unknown,
        }
    }
}

fn plural(number: usize) -> &'static str {
    if number == 1 { "y" } else { "ies" }
}

impl fmt::Display for HealthReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Advisories(Severity::Unknown, number) => {
                write!(f, "{number} advisor{} without a severity", plural(*number))
            }
            Self::Advisories(severity, number) => {
                write!(f, "{number} {severity} advisor{}", plural(*number))
            }
            Self::Doubts(number) => {
                write!(f, "{number} advisor{} that cannot be compared", plural(*number))
            }
            Self::Ended(name, at) => {
                // The end of a day is the beginning of the next one.
                let at = jiff::Timestamp::from_millisecond(at.saturating_sub(1));
                let at = at.unwrap_or(jiff::Timestamp::MIN);
                write!(f, "{name} was mended until {}", at.strftime("%Y-%m-%d"))
            }
            Self::Old(days) => write!(f, "built {days} days ago"),
            Self::UnpinnedBase(name) => write!(f, "its base {name} is named by a tag alone"),
            Self::Root => f.write_str("runs as root"),
            Self::NotRead(why) => write!(f, "not read: {why}"),
            Self::NoFeeds => f.write_str("no advisories were taken in"),
        }
    }
}

/// How an image is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Health {
    pub word: HealthWord,
    /// The worst first.
    pub reasons: Vec<HealthReason>,
}

impl Health {
    /// Of what is known. `now` in milliseconds since 1970.
    pub fn of(facts: &HealthFacts, now: i64) -> Self {
        let mut reasons: Vec<HealthReason> = Vec::new();
        for (severity, number) in facts.advisories.iter().rev().filter(|(_, number)| **number > 0) {
            reasons.push(HealthReason::Advisories(*severity, *number));
        }
        for system in &facts.systems {
            if let Some(ends) = system.ends.filter(|ends| *ends <= now) {
                reasons.push(HealthReason::Ended(system.name.clone(), ends));
            }
        }
        if let Some(InsideGap::Unread(why) | InsideGap::Unreadable(why)) = &facts.gap {
            reasons.push(HealthReason::NotRead(why.clone()));
        }
        if !facts.has_feeds {
            reasons.push(HealthReason::NoFeeds);
        }
        if facts.doubts > 0 {
            reasons.push(HealthReason::Doubts(facts.doubts));
        }
        if let Some(built) = facts.built
            && now.saturating_sub(built) > OLD
        {
            // Reproducible builds say 1970: that is no age.
            if built > 10 * 365 * DAY {
                reasons.push(HealthReason::Old(now.saturating_sub(built) / DAY));
            }
        }
        reasons.extend(facts.unpinned_base.clone().map(HealthReason::UnpinnedBase));
        if facts.runs_as_root == Some(true) {
            reasons.push(HealthReason::Root);
        }
        reasons.sort_by_key(|reason| std::cmp::Reverse(reason.word()));
        let word = reasons.iter().map(HealthReason::word).max().unwrap_or(HealthWord::Good);
        Self { word, reasons }
    }

    /// The reasons that made it this word, in one line. Empty: there are none.
    pub fn because(&self) -> String {
        let decide = self.reasons.iter().filter(|reason| reason.word() == self.word);
        decide.map(ToString::to_string).collect::<Vec<_>>().join(", ")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: i64 = 20_000 * DAY;

    fn facts() -> HealthFacts {
        HealthFacts {
            has_feeds: true,
            built: Some(NOW - 10 * DAY),
            runs_as_root: Some(false),
            ..HealthFacts::default()
        }
    }

    #[test]
    fn the_worst_reason_gives_the_word() {
        let good = Health::of(&facts(), NOW);
        assert_eq!((good.word, good.because().as_str()), (HealthWord::Good, ""));
        let mut worn = facts();
        worn.runs_as_root = Some(true);
        worn.built = Some(NOW - 400 * DAY);
        worn.unpinned_base = Some("bazaar.example/library/hearth:12".to_owned());
        worn.advisories = BTreeMap::from([(Severity::Medium, 2), (Severity::None, 1)]);
        let fair = Health::of(&worn, NOW);
        assert_eq!(fair.word, HealthWord::Fair);
        assert_eq!(
            fair.because(),
            "2 medium advisories, built 400 days ago, its base bazaar.example/library/hearth:12 is named by a tag alone, runs as root"
        );
        worn.gap = Some(InsideGap::Unread("2 layers".to_owned()));
        let unknown = Health::of(&worn, NOW);
        assert_eq!(
            (unknown.word, unknown.because().as_str()),
            (HealthWord::Unknown, "not read: 2 layers")
        );
        worn.advisories.insert(Severity::Critical, 1);
        worn.systems = vec![SystemRelease { name: "Hearth 9".to_owned(), ends: Some(NOW - DAY) }];
        let poor = Health::of(&worn, NOW);
        assert_eq!(poor.word, HealthWord::Poor);
        assert_eq!(poor.because(), "1 critical advisory, Hearth 9 was mended until 2024-10-02");
        assert_eq!(poor.reasons.len(), 8);
    }

    #[test]
    fn what_is_not_said_is_no_reason() {
        let mut none = facts();
        none.built = Some(0);
        none.runs_as_root = None;
        none.systems = vec![SystemRelease { name: "Hearth".to_owned(), ends: None }];
        assert_eq!(Health::of(&none, NOW).word, HealthWord::Good);
        none.has_feeds = false;
        assert_eq!(Health::of(&none, NOW).because(), "no advisories were taken in");
    }

    #[test]
    fn platforms_are_taken_together() {
        let mut all = facts();
        all.advisories = BTreeMap::from([(Severity::High, 2)]);
        let mut other = facts();
        other.advisories = BTreeMap::from([(Severity::High, 1), (Severity::Low, 3)]);
        other.built = None;
        other.runs_as_root = Some(true);
        all.add(other);
        assert_eq!(all.advisories, BTreeMap::from([(Severity::High, 2), (Severity::Low, 3)]));
        assert_eq!((all.built, all.runs_as_root), (Some(NOW - 10 * DAY), Some(true)));
    }
}
