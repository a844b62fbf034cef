//! What a rule asks of what is published about an image's packages, and what is known of that.

use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

use crate::advisory::{MalformedSeverity, Severity};

/// What a rule lets pass of advisories: `none`, or `none above high`; with `, unknown passes` behind it, also what nobody
/// can rate or compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AdvisoryLimit {
    /// The worst that passes. None: nothing does.
    pub most: Option<Severity>,
    /// Whether advisories without a severity, and packages that cannot be compared, pass.
    pub unknown_passes: bool,
}

/// A text that is no limit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MalformedLimit {
    /// It begins otherwise.
    #[error(
        "`{0}` is no limit; write \"none\", or \"none above high\" (low, medium, high), and \", unknown passes\" behind it where that is meant"
    )]
    Form(String),
    /// What stands behind `above`.
    #[error(transparent)]
    Severity(#[from] MalformedSeverity),
    /// Nothing is worse, so that it would ask nothing.
    #[error(
        "nothing is above `{0}`: write \"none above high\", \"none above medium\" or \"none above low\""
    )]
    Nothing(Severity),
}

impl FromStr for AdvisoryLimit {
    type Err = MalformedLimit;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let malformed = || MalformedLimit::Form(crate::shown::cut(text, 60));
        let (limit, unknown_passes) = match text.split_once(',') {
            Some((limit, rest)) if rest.trim() == "unknown passes" => (limit, true),
            Some(_) => return Err(malformed()),
            None => (text, false),
        };
        let words: Vec<&str> = limit.split_whitespace().collect();
        let most = match words[..] {
            ["none"] => None,
            ["none", "above", severity] => match severity.parse()? {
                Severity::Critical => return Err(MalformedLimit::Nothing(Severity::Critical)),
                Severity::Unknown => return Err(malformed()),
                severity => Some(severity),
            },
            _ => return Err(malformed()),
        };
        Ok(Self { most, unknown_passes })
    }
}

impl fmt::Display for AdvisoryLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("none")?;
        if let Some(most) = self.most {
            write!(f, " above {most}")?;
        }
        f.write_str(if self.unknown_passes { ", unknown passes" } else { "" })
    }
}

/// That one advisory is not counted for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdvisoryException {
    /// One of its names.
    pub advisory: String,
    /// Until when, in milliseconds since 1970.
    pub until: i64,
    /// Why, for those who read the rule.
    pub because: String,
}

/// What a rule asks of what is inside.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InsideAsks {
    /// What passes of advisories. None: not asked.
    pub advisories: Option<AdvisoryLimit>,
    /// How old what is known may be, in milliseconds. None: not asked.
    pub age: Option<i64>,
    /// For how long after it was first taken in an advisory is warned of only, in milliseconds.
    pub grace: i64,
    /// Advisories that are not counted.
    pub except: Vec<AdvisoryException>,
}

impl InsideAsks {
    /// Whether it asks nothing.
    pub fn is_empty(&self) -> bool {
        self.advisories.is_none() && self.age.is_none()
    }
}

/// Which advisories are wanted to be known, for rules that ask: all that do not pass with every one of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct InsideWish {
    /// What is no worse passes with all of them. None: everything counts with one.
    pub most: Option<Severity>,
    /// Whether what nobody can rate or compare counts with one of them.
    pub unknown: bool,
}

impl InsideWish {
    /// For these. None: there are none.
    pub fn of<'a>(asks: impl Iterator<Item = &'a InsideAsks>) -> Option<Self> {
        let mut wish = None;
        for one in asks {
            // One that asks for age alone counts no advisory.
            let of =
                one.advisories
                    .map_or(Self { most: Some(Severity::Critical), unknown: false }, |limit| {
                        Self { most: limit.most, unknown: !limit.unknown_passes }
                    });
            wish = Some(wish.map_or(of, |wish: Self| Self {
                most: wish.most.min(of.most),
                unknown: wish.unknown || of.unknown,
            }));
        }
        wish
    }
}

/// An advisory that is about a package of an image, and that no statement of our own hides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TouchingAdvisory {
    /// Its name, and the other ones.
    pub names: Vec<String>,
    pub severity: Severity,
    /// When this larder first had it, in milliseconds since 1970.
    pub known_at: i64,
    /// The package, by the name that the advisory has for it.
    pub package: String,
    pub version: String,
    /// The first version that is mended. Empty: none is known.
    pub fixed: String,
    /// Why nobody can say whether it is about the package. None: it is.
    pub doubt: Option<String>,
}

impl TouchingAdvisory {
    fn name(&self) -> &str {
        self.names.first().map_or("", String::as_str)
    }
}

impl fmt::Display for TouchingAdvisory {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { severity, package, version, fixed, .. } = self;
        write!(f, "{} ({severity}, {package} {version}", self.name())?;
        if !fixed.is_empty() {
            write!(f, ", mended in {fixed}")?;
        }
        f.write_str(")")
    }
}

/// What is known of what is inside an image.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InsideFacts {
    /// What was published about it.
    pub touching: Vec<TouchingAdvisory>,
    /// Why there may be more in it. None: all of it was read.
    pub gap: Option<InsideGap>,
    /// The feed that was taken in longest ago, of those that others publish, and when, in milliseconds since 1970. None:
    /// none was taken in.
    pub oldest_feed: Option<(String, i64)>,
    /// Whether there are advisories at all.
    pub has_feeds: bool,
}

/// What of an image was not read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InsideGap {
    /// Nobody has read it yet; in words, with what reads it.
    Unread(String),
    /// It was read, and some of it cannot be; in words.
    Unreadable(String),
}

/// What an image lacks of what is asked of what is inside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InsideLack {
    /// Advisories touch it that do not pass: the worst, and the names of the others.
    Touched(Box<TouchingAdvisory>, Vec<String>),
    /// The same, and only such of which nobody can say how bad they are, or whether they are about it.
    Doubted(Box<TouchingAdvisory>, Vec<String>),
    /// It was not read whole; why, in words.
    NotRead(String),
    /// Nobody has taken advisories in.
    NoFeeds,
    /// What is known is older than so many milliseconds; of which feed.
    Old(String, i64),
}

impl InsideLack {
    /// The names of the advisories that it is about.
    pub fn advisories(&self) -> impl Iterator<Item = &str> {
        let named = match self {
            Self::Touched(one, others) | Self::Doubted(one, others) => Some((one, others)),
            Self::NotRead(_) | Self::NoFeeds | Self::Old(..) => None,
        };
        named.into_iter().flat_map(|(one, others)| {
            std::iter::once(one.name()).chain(others.iter().map(String::as_str))
        })
    }

    /// Whether it is that something cannot be told.
    pub fn is_unknown(&self) -> bool {
        matches!(self, Self::Doubted(..) | Self::NotRead(_) | Self::NoFeeds)
    }
}

impl fmt::Display for InsideLack {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Touched(one, others) => {
                write!(f, "{one}")?;
                match others.len() {
                    0 => f.write_str(" touches it"),
                    more => write!(f, " and {more} more touch it"),
                }
            }
            Self::Doubted(one, others) => {
                write!(f, "it cannot be told whether ")?;
                match &one.doubt {
                    Some(doubt) => write!(f, "{one} touches it: {doubt}"),
                    None => write!(f, "{one} is severe"),
                }?;
                match others.len() {
                    0 => Ok(()),
                    more => write!(f, "; the same of {more} more"),
                }
            }
            Self::NotRead(why) => write!(f, "it is not known what is in it: {why}"),
            Self::NoFeeds => f.write_str(
                "no advisories were taken in (`larder advisory import`), so it cannot be told what touches it",
            ),
            Self::Old(feed, age) => {
                write!(f, "the advisories of {feed} were taken in more than {} ago", super::rules::span(*age))
            }
        }
    }
}

/// What comes of holding facts against what is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InsideAnswer {
    /// It has all that is asked.
    Passes,
    /// It lacks this, and the rule decides.
    Lacks(InsideLack),
    /// It lacks this, and the rule decides only from then on, in milliseconds since 1970.
    Spared(InsideLack, i64),
}

/// The worst first; of equals the one that was known first.
fn worst<'a>(mut all: Vec<&'a TouchingAdvisory>) -> Option<(Box<TouchingAdvisory>, Vec<String>)> {
    all.sort_by(|a, b| {
        (b.severity, a.known_at, a.name(), &a.package).cmp(&(
            a.severity,
            b.known_at,
            b.name(),
            &b.package,
        ))
    });
    let first: &'a TouchingAdvisory = all.first()?;
    let others: BTreeSet<&str> =
        all.iter().map(|one| one.name()).filter(|name| *name != first.name()).collect();
    Some((Box::new(first.clone()), others.into_iter().map(str::to_owned).collect()))
}

/// Holds what is known of an image against what is asked of it. `now` in milliseconds since 1970.
pub fn answer(asks: &InsideAsks, facts: &InsideFacts, now: i64) -> InsideAnswer {
    let mut spared = None;
    if let Some(limit) = asks.advisories {
        let is_excepted = |one: &TouchingAdvisory| {
            let names = |except: &AdvisoryException| one.names.contains(&except.advisory);
            asks.except.iter().any(|except| except.until > now && names(except))
        };
        let does_pass = |one: &TouchingAdvisory| {
            let is_unknown = one.severity == Severity::Unknown || one.doubt.is_some();
            // What is rated and below the limit passes, whether it is about the package or not.
            let is_below = one.severity != Severity::Unknown
                && limit.most.is_some_and(|most| one.severity <= most);
            is_below || (is_unknown && limit.unknown_passes)
        };
        let counted: Vec<&TouchingAdvisory> =
            facts.touching.iter().filter(|one| !does_pass(one) && !is_excepted(one)).collect();
        let is_sure = |one: &TouchingAdvisory| {
            one.doubt.is_none() && (one.severity != Severity::Unknown || limit.most.is_none())
        };
        let ends = |one: &TouchingAdvisory| one.known_at.saturating_add(asks.grace);
        let (late, early): (Vec<_>, Vec<_>) = counted.into_iter().partition(|one| ends(one) <= now);
        let sure = |all: &[&TouchingAdvisory], wanted: bool| {
            worst(all.iter().copied().filter(|one| is_sure(one) == wanted).collect())
        };
        if let Some((first, others)) = sure(&late, true) {
            return InsideAnswer::Lacks(InsideLack::Touched(first, others));
        }
        if !facts.has_feeds {
            return InsideAnswer::Lacks(InsideLack::NoFeeds);
        }
        if let Some((first, others)) = sure(&late, false) {
            return InsideAnswer::Lacks(InsideLack::Doubted(first, others));
        }
        // The first that ends is what somebody has to hurry for.
        let end = early.iter().map(|one| ends(one)).min().unwrap_or(now);
        spared = sure(&early, true)
            .map(|(first, others)| (InsideLack::Touched(first, others), end))
            .or_else(|| {
                sure(&early, false).map(|(first, others)| (InsideLack::Doubted(first, others), end))
            });
    }
    match &facts.gap {
        Some(InsideGap::Unreadable(_))
            if asks.advisories.is_some_and(|limit| limit.unknown_passes) => {}
        Some(InsideGap::Unread(why) | InsideGap::Unreadable(why)) => {
            return InsideAnswer::Lacks(InsideLack::NotRead(why.clone()));
        }
        None => {}
    }
    if let Some(age) = asks.age {
        match &facts.oldest_feed {
            Some((feed, at)) if now.saturating_sub(*at) > age => {
                return InsideAnswer::Lacks(InsideLack::Old(feed.clone(), age));
            }
            None if !facts.has_feeds => return InsideAnswer::Lacks(InsideLack::NoFeeds),
            _ => {}
        }
    }
    spared.map_or(InsideAnswer::Passes, |(lack, until)| InsideAnswer::Spared(lack, until))
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 86_400_000;

    fn touching(name: &str, severity: Severity, known_at: i64) -> TouchingAdvisory {
        TouchingAdvisory {
            names: vec![name.to_owned(), format!("{name}-B")],
            severity,
            known_at,
            package: "ember-tools".to_owned(),
            version: "1.2".to_owned(),
            fixed: "1.4".to_owned(),
            doubt: None,
        }
    }

    fn facts(touching: Vec<TouchingAdvisory>) -> InsideFacts {
        let oldest_feed = Some(("embers".to_owned(), 0));
        InsideFacts { touching, gap: None, oldest_feed, has_feeds: true }
    }

    fn asks(limit: &str) -> InsideAsks {
        InsideAsks { advisories: Some(limit.parse().unwrap()), ..InsideAsks::default() }
    }

    #[test]
    fn limits_are_read() {
        for text in ["none", "none above high", "none above low, unknown passes", "none above none"]
        {
            assert_eq!(text.parse::<AdvisoryLimit>().unwrap().to_string(), text);
        }
        for (text, said) in [
            ("", "is no limit"),
            ("high", "is no limit"),
            ("none above", "is no limit"),
            ("none above grave", "is no severity"),
            ("none above critical", "nothing is above"),
            ("none above unknown", "is no limit"),
            ("none, all passes", "is no limit"),
        ] {
            let error = text.parse::<AdvisoryLimit>().unwrap_err().to_string();
            assert!(error.contains(said), "{text}: {error}");
        }
    }

    #[test]
    fn what_is_worse_than_the_limit_is_told_the_worst_first() {
        let all = facts(vec![
            touching("EMBER-2026-0001", Severity::High, 5),
            touching("EMBER-2026-0002", Severity::Critical, 9),
            touching("EMBER-2026-0003", Severity::Critical, 7),
            touching("EMBER-2026-0003", Severity::Critical, 7),
        ]);
        let InsideAnswer::Lacks(lack) = answer(&asks("none above high"), &all, DAY) else {
            panic!()
        };
        assert!(!lack.is_unknown());
        assert_eq!(
            lack.to_string(),
            "EMBER-2026-0003 (critical, ember-tools 1.2, mended in 1.4) and 1 more touch it"
        );
        let one = facts(vec![touching("EMBER-2026-0001", Severity::High, 5)]);
        assert_eq!(answer(&asks("none above high"), &one, DAY), InsideAnswer::Passes);
        let InsideAnswer::Lacks(lack) = answer(&asks("none above medium"), &one, DAY) else {
            panic!()
        };
        assert!(lack.to_string().ends_with("mended in 1.4) touches it"), "{lack}");
        assert!(matches!(answer(&asks("none"), &one, DAY), InsideAnswer::Lacks(_)));
    }

    #[test]
    fn exceptions_and_grace_end() {
        let one = facts(vec![touching("EMBER-2026-0001", Severity::High, 5 * DAY)]);
        let mut except = asks("none");
        let exception = AdvisoryException {
            advisory: "EMBER-2026-0001-B".to_owned(),
            until: 9 * DAY,
            because: "it is not reached".to_owned(),
        };
        except.except = vec![exception];
        assert_eq!(answer(&except, &one, 9 * DAY - 1), InsideAnswer::Passes);
        assert!(matches!(answer(&except, &one, 9 * DAY), InsideAnswer::Lacks(_)));
        let mut grace = asks("none");
        grace.grace = 2 * DAY;
        let InsideAnswer::Spared(lack, until) = answer(&grace, &one, 6 * DAY) else { panic!() };
        assert_eq!((until, lack.is_unknown()), (7 * DAY, false));
        assert!(matches!(answer(&grace, &one, 7 * DAY), InsideAnswer::Lacks(_)));
        let old = touching("EMBER-2026-0002", Severity::Low, DAY);
        let both = facts(vec![one.touching[0].clone(), old]);
        let InsideAnswer::Lacks(lack) = answer(&grace, &both, 6 * DAY) else { panic!() };
        assert!(lack.to_string().starts_with("EMBER-2026-0002 (low"), "{lack}");
    }

    #[test]
    fn what_cannot_be_told_does_not_pass_unless_it_is_said() {
        let unrated = facts(vec![touching("EMBER-2026-0001", Severity::Unknown, 0)]);
        let InsideAnswer::Lacks(lack) = answer(&asks("none above high"), &unrated, DAY) else {
            panic!()
        };
        assert!(lack.is_unknown() && lack.to_string().contains("is severe"), "{lack}");
        assert_eq!(
            answer(&asks("none above high, unknown passes"), &unrated, DAY),
            InsideAnswer::Passes
        );
        let InsideAnswer::Lacks(lack) = answer(&asks("none"), &unrated, DAY) else { panic!() };
        assert!(!lack.is_unknown(), "whatever its severity, it is one: {lack}");
        let mut doubted = touching("EMBER-2026-0002", Severity::Critical, 0);
        doubted.doubt = Some("its own version cannot be compared".to_owned());
        let doubted = facts(vec![doubted]);
        let InsideAnswer::Lacks(lack) = answer(&asks("none above high"), &doubted, DAY) else {
            panic!()
        };
        assert!(lack.is_unknown() && lack.to_string().ends_with("cannot be compared"), "{lack}");
        let mut below = doubted.clone();
        below.touching[0].severity = Severity::Low;
        assert_eq!(answer(&asks("none above high"), &below, DAY), InsideAnswer::Passes);
        let mut unread = facts(Vec::new());
        unread.gap = Some(InsideGap::Unread("nobody has read it".to_owned()));
        for limit in ["none above high", "none above high, unknown passes"] {
            let InsideAnswer::Lacks(lack) = answer(&asks(limit), &unread, DAY) else { panic!() };
            assert!(lack.is_unknown() && lack.to_string().contains("nobody has read it"), "{lack}");
        }
        unread.gap = Some(InsideGap::Unreadable("a database".to_owned()));
        assert!(matches!(answer(&asks("none"), &unread, DAY), InsideAnswer::Lacks(_)));
        assert_eq!(answer(&asks("none, unknown passes"), &unread, DAY), InsideAnswer::Passes);
        let none = InsideFacts::default();
        assert_eq!(answer(&asks("none"), &none, DAY), InsideAnswer::Lacks(InsideLack::NoFeeds));
    }

    #[test]
    fn what_is_known_grows_old() {
        let ask = InsideAsks { age: Some(7 * DAY), ..InsideAsks::default() };
        let all = facts(Vec::new());
        assert_eq!(answer(&ask, &all, 7 * DAY), InsideAnswer::Passes);
        let InsideAnswer::Lacks(lack) = answer(&ask, &all, 7 * DAY + 1) else { panic!() };
        assert_eq!(lack.to_string(), "the advisories of embers were taken in more than 7 d ago");
        let own = InsideFacts { oldest_feed: None, ..all };
        assert_eq!(answer(&ask, &own, 900 * DAY), InsideAnswer::Passes, "one's own do not age");
        let none = InsideFacts::default();
        assert_eq!(answer(&ask, &none, 0), InsideAnswer::Lacks(InsideLack::NoFeeds));
    }
}
