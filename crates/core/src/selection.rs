//! Which of an upstream's tags are wanted, and why not the others?

pub(crate) mod version;

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;

use semver::VersionReq;

use crate::companion::is_made_from_digest;
use crate::name::Tag;
use crate::pattern::Pattern;
use crate::platform::{Platform, listed};

pub use version::{TagDate, TagVersion, sort_newest_first};

/// What an intake entry says of the tags that it wants.
#[derive(Debug, Clone, PartialEq)]
pub struct Tags {
    /// How tags are chosen.
    pub rule: TagRule,
    /// Tags that are not wanted although the rule would take them.
    pub skip: Vec<Pattern>,
}

/// How tags are chosen.
#[derive(Debug, Clone, PartialEq)]
pub enum TagRule {
    /// These, whether or not the upstream lists them.
    Exact(Vec<Tag>),
    /// Those that the upstream lists and that match.
    Match(Pattern),
    /// Those that are versions in a range.
    Versions(Versions),
    /// Those that are days.
    Dates {
        /// Only so many, the latest.
        newest: Option<usize>,
        /// Which variants: a pattern over what follows the day. None: those where nothing follows.
        suffix: Option<Pattern>,
    },
}

/// A rule over versions.
#[derive(Debug, Clone, PartialEq)]
pub struct Versions {
    pub range: VersionReq,
    /// Only so many, the newest; within each variant.
    pub newest: Option<usize>,
    /// Only the newest of each of these.
    pub per: Option<Per>,
    /// Whether releases before the release are wanted too.
    pub prereleases: bool,
    /// Which variants (`-alpine`): a pattern over what follows the version. None: those where
    /// nothing follows.
    pub suffix: Option<Pattern>,
}

/// Of what only the newest version is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Per {
    /// Of each major version.
    Major,
    /// Of each minor version.
    Minor,
}

/// Why a tag is taken or left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TagReason {
    /// Taken: it is named.
    Named,
    /// Taken: it matches, or is a version or day that is wanted.
    Wanted,
    /// Left: it matches a `skip` pattern.
    Skipped(String),
    /// Left: it is made from the digest of an image, whose signature or list lies there.
    Companion,
    /// Left: it does not match, or is none of those named.
    NotMatched,
    /// Left: it is no version.
    NotAVersion,
    /// Left: it is no day.
    NotADate,
    /// Left: its version is outside the range.
    OutsideRange,
    /// Left: it is a release before the release.
    Prerelease,
    /// Left: it is a variant that is not wanted.
    OtherVariant(String),
    /// Left: it stands for a longer tag today and for another tomorrow.
    ShortFor(Tag),
    /// Left: another tag is the same version.
    SameAs(Tag),
    /// Left: a newer one of the same major or minor version is taken.
    Superseded(Tag),
    /// Left: it is older than the newest ones that are wanted.
    Older,
    /// Left: it is not made for these platforms, which are wanted.
    Lacks(Vec<Platform>),
}

impl TagReason {
    /// Whether the tag is taken.
    pub fn is_taken(&self) -> bool {
        matches!(self, Self::Named | Self::Wanted)
    }
}

impl fmt::Display for Tags {
    /// In the words of the configuration, without what is not said.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut words = Vec::new();
        match &self.rule {
            TagRule::Exact(tags) => {
                words.extend(tags.iter().map(ToString::to_string));
            }
            TagRule::Match(pattern) => words.push(format!("match {pattern}")),
            TagRule::Versions(rule) => {
                words.push(format!("semver {}", rule.range));
                words.extend(rule.newest.map(|newest| format!("newest {newest}")));
                words.extend(rule.per.map(|per| match per {
                    Per::Major => "per major".to_owned(),
                    Per::Minor => "per minor".to_owned(),
                }));
                words.extend(rule.prereleases.then(|| "prereleases".to_owned()));
                words.extend(rule.suffix.as_ref().map(|suffix| format!("suffix {suffix}")));
            }
            TagRule::Dates { newest, suffix } => {
                words.push("dates".to_owned());
                words.extend(newest.map(|newest| format!("newest {newest}")));
                words.extend(suffix.as_ref().map(|suffix| format!("suffix {suffix}")));
            }
        }
        words.extend(self.skip.iter().map(|pattern| format!("skip {pattern}")));
        f.write_str(&words.join(", "))
    }
}

impl fmt::Display for TagReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Named => write!(f, "it is named"),
            Self::Wanted => write!(f, "it is wanted"),
            Self::Skipped(pattern) => write!(f, "`skip` has {pattern}"),
            Self::Companion => write!(f, "it belongs to an image; `companions = true` takes these"),
            Self::NotMatched => write!(f, "it does not match"),
            Self::NotAVersion => write!(f, "it is no version"),
            Self::NotADate => write!(f, "it is no date"),
            Self::OutsideRange => write!(f, "outside the range"),
            Self::Prerelease => write!(f, "a pre-release; `prereleases = true` takes these"),
            Self::OtherVariant(suffix) if suffix.is_empty() => {
                write!(f, "no variant; `suffix` wants one")
            }
            Self::OtherVariant(suffix) => write!(f, "the variant {suffix}; `suffix` takes these"),
            Self::ShortFor(tag) => write!(f, "short for {tag} today, for another tomorrow"),
            Self::SameAs(tag) => write!(f, "the same version as {tag}"),
            Self::Superseded(tag) => write!(f, "{tag} is newer"),
            Self::Older => write!(f, "older than the newest that are wanted"),
            Self::Lacks(platforms) => write!(f, "it lacks {}", listed(platforms)),
        }
    }
}

/// A tag and what becomes of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JudgedTag {
    pub tag: Tag,
    /// Why it is taken or left.
    pub why: TagReason,
}

impl Tags {
    /// These tags and no others.
    pub fn exact(tags: Vec<Tag>) -> Self {
        Self { rule: TagRule::Exact(tags), skip: Vec::new() }
    }

    /// Whether the upstream's list of tags is needed to decide.
    pub fn need_listing(&self) -> bool {
        !matches!(self.rule, TagRule::Exact(_))
    }

    /// The wanted tags, sorted, each once. `listed` is what the upstream has; it is not looked at
    /// for [`TagRule::Exact`].
    pub fn select(&self, listed: &[Tag]) -> Vec<Tag> {
        self.select_without(listed, &BTreeMap::new())
    }

    /// The same where some tags are known to lack wanted platforms: see [`Tags::judge_without`].
    pub fn select_without(
        &self,
        listed: &[Tag],
        lacking: &BTreeMap<Tag, Vec<Platform>>,
    ) -> Vec<Tag> {
        let judged = match &self.rule {
            TagRule::Exact(tags) => self.judge_without(tags, lacking),
            _ => self.judge_without(listed, lacking),
        };
        let taken: BTreeSet<Tag> =
            judged.into_iter().filter(|one| one.why.is_taken()).map(|one| one.tag).collect();
        taken.into_iter().collect()
    }

    /// Whether this tag may be wanted: it is not ruled out by what it is. Whether it is among the
    /// newest can only be told with all others.
    pub fn want(&self, tag: &Tag) -> bool {
        self.rule_out(tag).is_none()
    }

    /// Every tag with why it is taken or left: newest first where the rule knows an age, then by
    /// name.
    pub fn judge(&self, tags: &[Tag]) -> Vec<JudgedTag> {
        self.judge_without(tags, &BTreeMap::new())
    }

    /// The same where some tags are known to lack wanted platforms. These do not count among the
    /// newest, so that none of them pushes out one that has all; what they make short or double
    /// stays so.
    pub fn judge_without(
        &self,
        tags: &[Tag],
        lacking: &BTreeMap<Tag, Vec<Platform>>,
    ) -> Vec<JudgedTag> {
        let tags: BTreeSet<&Tag> = tags.iter().collect();
        let mut judged: BTreeMap<&Tag, TagReason> = tags
            .iter()
            .map(|tag| (*tag, self.rule_out(tag).unwrap_or_else(|| self.fine())))
            .collect();
        match &self.rule {
            TagRule::Exact(_) | TagRule::Match(_) => pass_over(&mut judged, lacking),
            TagRule::Versions(rule) => rule.compare(&mut judged, lacking),
            TagRule::Dates { newest, .. } => {
                pass_over(&mut judged, lacking);
                keep_newest(&mut judged, *newest, |tag| {
                    TagDate::read(tag.as_str()).map(|date| (String::new(), date))
                });
            }
        }
        let mut judged: Vec<JudgedTag> =
            judged.into_iter().map(|(tag, why)| JudgedTag { tag: tag.clone(), why }).collect();
        match &self.rule {
            TagRule::Versions(_) => judged.sort_by_cached_key(|one| {
                Reverse(TagVersion::read(one.tag.as_str()).map(|read| read.version))
            }),
            TagRule::Dates { .. } => judged.sort_by_cached_key(|one| {
                Reverse(TagDate::read(one.tag.as_str()).map(|read| (read.day, read.suffix)))
            }),
            TagRule::Exact(_) | TagRule::Match(_) => {}
        }
        judged
    }

    fn fine(&self) -> TagReason {
        if matches!(self.rule, TagRule::Exact(_)) { TagReason::Named } else { TagReason::Wanted }
    }

    /// Why a tag is left for what it is, whatever the others are. None: it may be taken.
    fn rule_out(&self, tag: &Tag) -> Option<TagReason> {
        let text = tag.as_str();
        if let Some(pattern) = self.skip.iter().find(|pattern| pattern.matches(text)) {
            return Some(TagReason::Skipped(pattern.to_string()));
        }
        let variant = |wanted: &Option<Pattern>, suffix: &str| {
            let fits = wanted.as_ref().map_or(suffix.is_empty(), |pattern| pattern.matches(suffix));
            (!fits).then(|| TagReason::OtherVariant(suffix.to_owned()))
        };
        if !matches!(self.rule, TagRule::Exact(_)) && is_made_from_digest(tag) {
            return Some(TagReason::Companion);
        }
        match &self.rule {
            TagRule::Exact(tags) => (!tags.contains(tag)).then_some(TagReason::NotMatched),
            TagRule::Match(pattern) => (!pattern.matches(text)).then_some(TagReason::NotMatched),
            TagRule::Versions(rule) => match TagVersion::read(text) {
                None => Some(TagReason::NotAVersion),
                Some(read) if !rule.range.matches(&read.release()) => Some(TagReason::OutsideRange),
                Some(read) if read.is_prerelease() && !rule.prereleases => {
                    Some(TagReason::Prerelease)
                }
                Some(read) => variant(&rule.suffix, &read.suffix),
            },
            TagRule::Dates { suffix, .. } => match TagDate::read(text) {
                None => Some(TagReason::NotADate),
                Some(read) => variant(suffix, &read.suffix),
            },
        }
    }
}

impl Versions {
    /// Leaves what other tags make unwanted: short forms, double ones, older ones.
    fn compare(
        &self,
        judged: &mut BTreeMap<&Tag, TagReason>,
        lacking: &BTreeMap<Tag, Vec<Platform>>,
    ) {
        let read: HashMap<&Tag, TagVersion> = judged
            .iter()
            .filter(|(_, why)| why.is_taken())
            .filter_map(|(tag, _)| Some((*tag, TagVersion::read(tag.as_str())?)))
            .collect();
        // The newest of the longer forms that a short one can stand for, by what they share.
        let mut longer: HashMap<(String, u64, Option<u64>, usize), &Tag> = HashMap::new();
        let mut by_age: Vec<(&Tag, &TagVersion)> =
            read.iter().map(|(tag, read)| (*tag, read)).collect();
        by_age.sort_by(|a, b| a.1.version.cmp(&b.1.version).then_with(|| b.0.cmp(a.0)));
        for (tag, read) in &by_age {
            for parts in 1..read.parts {
                let minor = (parts == 2).then_some(read.version.minor);
                longer.insert((read.suffix.clone(), read.version.major, minor, parts), tag);
            }
        }
        let mut first: HashMap<(String, String), &Tag> = HashMap::new();
        for (tag, read) in by_age.iter().rev() {
            let minor = (read.parts == 2).then_some(read.version.minor);
            let key = (read.suffix.clone(), read.version.major, minor, read.parts);
            if let Some(long) = longer.get(&key).filter(|_| !read.is_prerelease()) {
                judged.insert(tag, TagReason::ShortFor((*long).clone()));
                continue;
            }
            let same = first.entry((read.suffix.clone(), read.version.to_string())).or_insert(tag);
            if same != tag {
                judged.insert(tag, TagReason::SameAs((*same).clone()));
            }
        }
        pass_over(judged, lacking);
        if let Some(per) = self.per {
            let mut newest: HashMap<(String, u64, u64), &Tag> = HashMap::new();
            for (tag, read) in by_age.iter().rev() {
                if !judged.get(tag).is_some_and(TagReason::is_taken) {
                    continue;
                }
                let minor = if per == Per::Minor { read.version.minor } else { 0 };
                let key = (read.suffix.clone(), read.version.major, minor);
                let newer = *newest.entry(key).or_insert(tag);
                if newer != *tag {
                    judged.insert(tag, TagReason::Superseded(newer.clone()));
                }
            }
        }
        keep_newest(judged, self.newest, |tag| {
            read.get(tag).map(|read| (read.suffix.clone(), read.version.clone()))
        });
    }
}

/// Leaves what lacks wanted platforms.
fn pass_over(judged: &mut BTreeMap<&Tag, TagReason>, lacking: &BTreeMap<Tag, Vec<Platform>>) {
    for (tag, why) in judged.iter_mut().filter(|(_, why)| why.is_taken()) {
        if let Some(platforms) = lacking.get(*tag) {
            *why = TagReason::Lacks(platforms.clone());
        }
    }
}

/// Leaves all but the newest of each group. `age` gives a tag's group and its age.
fn keep_newest<A: Ord>(
    judged: &mut BTreeMap<&Tag, TagReason>,
    newest: Option<usize>,
    age: impl Fn(&Tag) -> Option<(String, A)>,
) {
    let Some(newest) = newest else { return };
    let mut groups: BTreeMap<String, Vec<(A, &Tag)>> = BTreeMap::new();
    for (tag, why) in judged.iter() {
        if let (true, Some((group, age))) = (why.is_taken(), age(tag)) {
            groups.entry(group).or_default().push((age, tag));
        }
    }
    for (_, mut group) in groups {
        group.sort_by(|a, b| b.cmp(a));
        for (_, tag) in group.into_iter().skip(newest) {
            judged.insert(tag, TagReason::Older);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tags(list: &[&str]) -> Vec<Tag> {
        list.iter().map(|tag| tag.parse().unwrap()).collect()
    }

    fn arm64() -> Platform {
        "linux/arm64".parse().unwrap()
    }

    fn versions(range: &str) -> Versions {
        let range = range.parse().unwrap();
        Versions { range, newest: None, per: None, prereleases: false, suffix: None }
    }

    fn select(rule: TagRule, listed: &[&str]) -> Vec<String> {
        let chosen = Tags { rule, skip: Vec::new() }.select(&tags(listed));
        chosen.iter().map(ToString::to_string).collect()
    }

    const LISTED: [&str; 14] = [
        "1",
        "1.8",
        "1.8.0",
        "1.8.3",
        "1.9.0",
        "1.9.2",
        "v1.9.2",
        "1.9.2-alpine",
        "1.9.1-alpine",
        "1.10.0",
        "1.11.0-rc1",
        "2.0.0",
        "latest",
        "nightly",
    ];

    #[test]
    fn exact_tags_need_no_listing_and_patterns_take_what_is_listed() {
        let exact = Tags::exact(tags(&["2", "1", "2"]));
        assert!(!exact.need_listing());
        assert_eq!(exact.select(&[]), tags(&["1", "2"]));
        assert_eq!(
            select(TagRule::Match("1.*".parse().unwrap()), &["2.0", "1.9.2", "1.8", "1.9.2"]),
            ["1.8", "1.9.2"]
        );
        let skipping = Tags {
            skip: vec!["*-rc*".parse().unwrap()],
            rule: TagRule::Match("1*".parse().unwrap()),
        };
        assert_eq!(skipping.select(&tags(&["1.0", "1.1-rc1"])), tags(&["1.0"]));
        assert!(!skipping.want(&tags(&["1.1-rc1"])[0]));
    }

    #[test]
    fn version_ranges_take_whole_releases_of_the_wanted_variant() {
        assert_eq!(
            select(TagRule::Versions(versions("^1.8")), &LISTED),
            ["1.10.0", "1.8.0", "1.8.3", "1.9.0", "1.9.2"]
        );
        let rule = Versions { newest: Some(2), ..versions("^1.8") };
        assert_eq!(select(TagRule::Versions(rule), &LISTED), ["1.10.0", "1.9.2"]);
        let rule = Versions { per: Some(Per::Minor), ..versions("^1.8") };
        assert_eq!(select(TagRule::Versions(rule.clone()), &LISTED), ["1.10.0", "1.8.3", "1.9.2"]);
        let rule = Versions { newest: Some(2), ..rule };
        assert_eq!(select(TagRule::Versions(rule), &LISTED), ["1.10.0", "1.9.2"]);
        let rule = Versions { per: Some(Per::Major), ..versions("*") };
        assert_eq!(select(TagRule::Versions(rule), &LISTED), ["1.10.0", "2.0.0"]);
        let rule = Versions { prereleases: true, newest: Some(1), ..versions("^1.8") };
        assert_eq!(select(TagRule::Versions(rule), &LISTED), ["1.11.0-rc1"]);
        let rule = Versions {
            suffix: Some("-alpine".parse().unwrap()),
            newest: Some(1),
            ..versions("^1.8")
        };
        assert_eq!(select(TagRule::Versions(rule), &LISTED), ["1.9.2-alpine"]);
        // Each variant has its own newest ones.
        let rule =
            Versions { suffix: Some("*".parse().unwrap()), newest: Some(1), ..versions("~1.9") };
        assert_eq!(select(TagRule::Versions(rule), &LISTED), ["1.9.2", "1.9.2-alpine"]);
        // A short form of a version that ends with zero is the same version, and still short.
        assert_eq!(select(TagRule::Versions(versions("^1")), &["1.9", "1.9.0"]), ["1.9.0"]);
        // One that lacks a platform makes room for the next, not for its own short form.
        let lacking = BTreeMap::from([(tags(&["1.10.0"])[0].clone(), vec![arm64()])]);
        let rule = Tags {
            rule: TagRule::Versions(Versions { newest: Some(1), ..versions("^1") }),
            skip: Vec::new(),
        };
        let listed = tags(&["1.9.2", "1.10.0", "1.10", "1.9"]);
        let judged = rule.judge_without(&listed, &lacking);
        let why = |tag: &str| &judged.iter().find(|one| one.tag.as_str() == tag).unwrap().why;
        assert!(why("1.9.2").is_taken());
        assert_eq!(why("1.10.0").to_string(), "it lacks linux/arm64");
        assert_eq!(why("1.10"), &TagReason::ShortFor(tags(&["1.10.0"])[0].clone()));
        // Where nothing longer is there, a short form is the version itself.
        assert_eq!(select(TagRule::Versions(versions("^5")), &["5.2", "5.3", "5"]), ["5.2", "5.3"]);
    }

    #[test]
    fn days_are_taken_newest_first() {
        let rule = |newest| TagRule::Dates { newest, suffix: None };
        let listed = ["20261101", "20261103", "2026-10-30", "20261103-alpine", "latest"];
        assert_eq!(select(rule(Some(2)), &listed), ["20261101", "20261103"]);
        assert_eq!(select(rule(None), &listed).len(), 3);
        let any = TagRule::Dates { newest: Some(1), suffix: Some("*".parse().unwrap()) };
        assert_eq!(select(any, &listed), ["20261103-alpine"]);
    }

    #[test]
    fn every_tag_is_told_why() {
        let rule = Versions { per: Some(Per::Minor), newest: Some(2), ..versions("^1.8") };
        let judged = Tags { rule: TagRule::Versions(rule), skip: vec!["night*".parse().unwrap()] }
            .judge(&tags(&LISTED));
        let why =
            |tag: &str| judged.iter().find(|one| one.tag.as_str() == tag).unwrap().why.to_string();
        for (tag, words) in [
            ("1.10.0", "it is wanted"),
            ("1.9.0", "1.9.2 is newer"),
            ("1.8.3", "older than the newest"),
            ("1.8", "short for 1.8.3 today"),
            ("v1.9.2", "the same version as 1.9.2"),
            ("1.9.2-alpine", "the variant -alpine"),
            ("1.11.0-rc1", "a pre-release"),
            ("2.0.0", "outside the range"),
            ("latest", "it is no version"),
            ("nightly", "`skip` has night*"),
        ] {
            assert!(why(tag).contains(words), "{tag}: {}", why(tag));
        }
        assert_eq!(judged[0].tag.as_str(), "2.0.0", "newest first");
        assert_eq!(judged.len(), LISTED.len());
    }

    proptest::proptest! {
        #[test]
        fn what_is_selected_is_listed_wanted_and_no_more_than_asked(
            list in proptest::collection::vec("v?[0-2]\\.[0-3](\\.[0-3])?(-rc[0-9])?(-alpine)?|latest", 0..40),
            newest in 1usize..4,
        ) {
            let listed: Vec<Tag> = list.iter().map(|tag| tag.parse().unwrap()).collect();
            let rule = Versions { newest: Some(newest), per: Some(Per::Minor), ..versions("*") };
            let chosen = Tags { rule: TagRule::Versions(rule), skip: Vec::new() };
            let selected = chosen.select(&listed);
            proptest::prop_assert!(selected.len() <= newest);
            proptest::prop_assert!(selected.iter().all(|tag| listed.contains(tag) && chosen.want(tag)));
            // The newest release of all is always among them.
            let age = |tag: &Tag| TagVersion::read(tag.as_str()).filter(|_| chosen.want(tag)).map(|read| read.version);
            proptest::prop_assert_eq!(selected.iter().filter_map(age).max(), listed.iter().filter_map(age).max());
        }
    }
}
