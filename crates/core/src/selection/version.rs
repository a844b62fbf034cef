//! What does a tag say of its age? Versions and dates as people write them into tags.

use std::cmp::{Ordering, Reverse};

use semver::{Prerelease, Version};

use crate::name::Tag;

/// A tag that is a version: `1.9.2`, `v1.9`, `1.9.2-rc1`, `1.9.2-alpine`, `1.9.2-rc1-alpine`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TagVersion {
    /// The version, with zeros for parts that are not written.
    pub version: Version,
    /// How many of major, minor and patch are written.
    pub parts: usize,
    /// What follows the version and names a variant of the same software, with its separator.
    /// Empty: nothing.
    pub suffix: String,
}

/// Words that name a release before the release. Everything else after a version is a variant.
const PRERELEASES: [&str; 11] = [
    "alpha",
    "beta",
    "rc",
    "pre",
    "preview",
    "dev",
    "snapshot",
    "nightly",
    "canary",
    "milestone",
    "m",
];

impl TagVersion {
    /// Reads a tag. None: it is no version.
    pub fn read(tag: &str) -> Option<Self> {
        let text = tag.strip_prefix('v').unwrap_or(tag);
        let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (numbers, rest) = text.split_at(end);
        let numbers: Vec<u64> = numbers.split('.').map(number).collect::<Option<_>>()?;
        if numbers.is_empty() || numbers.len() > 3 {
            return None;
        }
        let part = |at: usize| numbers.get(at).copied().unwrap_or(0);
        let mut version = Version::new(part(0), part(1), part(2));
        let mut suffix = rest;
        if let Some(after) = rest.strip_prefix('-') {
            let end = after.find(['-', '_']).unwrap_or(after.len());
            if is_prerelease(&after[..end]) {
                // Digits at the end count as numbers: rc10 comes after rc9.
                version.pre = spread(&after[..end])?;
                suffix = &after[end..];
            }
        }
        let starts = suffix.is_empty() || suffix.starts_with(['-', '_']);
        starts.then(|| Self { version, parts: numbers.len(), suffix: suffix.to_owned() })
    }

    /// Whether it is a release before the release.
    pub fn is_prerelease(&self) -> bool {
        !self.version.pre.is_empty()
    }

    /// The version without what makes it a pre-release.
    pub fn release(&self) -> Version {
        Version::new(self.version.major, self.version.minor, self.version.patch)
    }
}

/// A number as versions have it: no sign, no leading zero but for zero itself.
fn number(text: &str) -> Option<u64> {
    let fine = !text.is_empty() && text.len() <= 18 && (text == "0" || !text.starts_with('0'));
    fine.then(|| text.parse().ok()).flatten()
}

fn is_prerelease(word: &str) -> bool {
    let name = word.split(|c: char| c.is_ascii_digit() || c == '.').next().unwrap_or(word);
    let name = name.to_ascii_lowercase();
    PRERELEASES.contains(&name.as_str())
}

/// `rc10` as `rc.10`, so that its number counts as one.
fn spread(word: &str) -> Option<Prerelease> {
    let mut text = String::with_capacity(word.len() + 1);
    for (at, c) in word.char_indices() {
        let before = word[..at].chars().next_back();
        if c.is_ascii_digit() && before.is_some_and(|before| before.is_ascii_alphabetic()) {
            text.push('.');
        }
        text.push(c);
    }
    let text: Vec<&str> = text.split('.').filter(|part| !part.is_empty()).collect();
    let text: Vec<&str> = text
        .into_iter()
        .map(|part| match part.trim_start_matches('0') {
            "" if part.bytes().all(|b| b == b'0') => "0",
            rest if part.bytes().all(|b| b.is_ascii_digit()) => rest,
            _ => part,
        })
        .collect();
    Prerelease::new(&text.join(".")).ok()
}

/// A tag that is a day: `2026-11-03`, `2026.11.03`, `20261103`, each with an optional suffix.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TagDate {
    /// Year, month, day.
    pub day: (u16, u8, u8),
    /// What follows the day, with its separator: `-1`, `-alpine`. Empty: nothing.
    pub suffix: String,
}

impl TagDate {
    /// Reads a tag. None: it is no day.
    pub fn read(tag: &str) -> Option<Self> {
        let digits = |text: &str| text.bytes().all(|b| b.is_ascii_digit());
        let (year, rest) = tag.split_at_checked(4).filter(|(year, _)| digits(year))?;
        let separator = rest.chars().next().filter(|c| matches!(c, '-' | '.' | '_'));
        let width = separator.map_or(0, char::len_utf8);
        let month = rest.get(width..width + 2)?;
        if let Some(separator) = separator
            && !rest.get(width + 2..)?.starts_with(separator)
        {
            return None;
        }
        let day = rest.get(2 * width + 2..2 * width + 4)?;
        let suffix = rest.get(2 * width + 4..)?;
        if !digits(month)
            || !digits(day)
            || !(suffix.is_empty() || suffix.starts_with(['-', '_', '.']))
        {
            return None;
        }
        let (year, month, day) = (year.parse().ok()?, month.parse().ok()?, day.parse().ok()?);
        let fine =
            (1990..2200).contains(&year) && (1..=12).contains(&month) && (1..=31).contains(&day);
        fine.then(|| Self { day: (year, month, day), suffix: suffix.to_owned() })
    }
}

impl PartialOrd for TagDate {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for TagDate {
    /// By day, then by what follows: `-2` comes after `-1`.
    fn cmp(&self, other: &Self) -> Ordering {
        self.day.cmp(&other.day).then_with(|| {
            let key = |suffix: &str| (suffix.len(), suffix.to_owned());
            key(&self.suffix).cmp(&key(&other.suffix))
        })
    }
}

/// Sorts tags for people: versions first, then days, each the newest first; then all others by name. Dates are told from
/// versions by their form.
pub fn sort_newest_first(tags: &mut [Tag]) {
    tags.sort_by_cached_key(|tag| {
        let text = tag.as_str();
        let age = match (TagDate::read(text), TagVersion::read(text)) {
            (Some(date), _) => TagAge::Day(Reverse(date)),
            (None, Some(read)) => {
                // Of one version the plain tag comes first, then its variants.
                TagAge::Version(Reverse(read.version), read.suffix, Reverse(read.parts))
            }
            (None, None) => TagAge::Name,
        };
        (age, tag.clone())
    });
}

#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum TagAge {
    Version(Reverse<Version>, String, Reverse<usize>),
    Day(Reverse<TagDate>),
    Name,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn people_see_the_newest_version_first() {
        let mut tags: Vec<Tag> = [
            "latest",
            "1.9.10",
            "edge",
            "1.10",
            "1.9.2-alpine",
            "2026-11-03",
            "1.9.2",
            "2-rc1",
            "2026-12-01",
            "2",
        ]
        .iter()
        .map(|tag| tag.parse().unwrap())
        .collect();
        sort_newest_first(&mut tags);
        let tags: Vec<&str> = tags.iter().map(Tag::as_str).collect();
        assert_eq!(
            tags,
            [
                "2",
                "2-rc1",
                "1.10",
                "1.9.10",
                "1.9.2",
                "1.9.2-alpine",
                "2026-12-01",
                "2026-11-03",
                "edge",
                "latest"
            ]
        );
    }

    #[test]
    fn versions_are_read_as_people_write_them() {
        let read = |tag: &str| {
            let read = TagVersion::read(tag)?;
            Some((read.version.to_string(), read.parts, read.suffix))
        };
        for (tag, version, parts, suffix) in [
            ("1.9.2", "1.9.2", 3, ""),
            ("v1.9.2", "1.9.2", 3, ""),
            ("1.9", "1.9.0", 2, ""),
            ("1", "1.0.0", 1, ""),
            ("1.9.2-alpine", "1.9.2", 3, "-alpine"),
            ("1.9.2-alpine3.19", "1.9.2", 3, "-alpine3.19"),
            ("1.9.2_2", "1.9.2", 3, "_2"),
            ("1.9.2-rc1", "1.9.2-rc.1", 3, ""),
            ("1.9.2-rc.1", "1.9.2-rc.1", 3, ""),
            ("1.9.2-rc01", "1.9.2-rc.1", 3, ""),
            ("1.9.2-beta-slim", "1.9.2-beta", 3, "-slim"),
            ("2.0.0-M3", "2.0.0-M.3", 3, ""),
        ] {
            assert_eq!(read(tag), Some((version.into(), parts, suffix.into())), "{tag}");
        }
        for tag in [
            "latest",
            "",
            "v",
            "1.",
            ".1",
            "1..2",
            "1.2.3.4",
            "01.2",
            "1.9.2alpine",
            "1.99999999999999999999",
        ] {
            assert_eq!(read(tag), None, "{tag}");
        }
    }

    #[test]
    fn numbers_in_prereleases_count() {
        let version = |tag: &str| TagVersion::read(tag).unwrap().version;
        assert!(version("1.0.0-rc9") < version("1.0.0-rc10"));
        assert!(version("1.0.0-beta1") < version("1.0.0-rc1"));
        assert!(version("1.0.0-rc10") < version("1.0.0"));
    }

    #[test]
    fn days_are_read_in_their_usual_forms() {
        for tag in ["2026-11-03", "2026.11.03", "20261103", "2026_11_03"] {
            assert_eq!(TagDate::read(tag).unwrap().day, (2026, 11, 3), "{tag}");
        }
        assert_eq!(TagDate::read("20261103-2").unwrap().suffix, "-2");
        assert!(TagDate::read("20261103-2") > TagDate::read("20261103"));
        assert!(TagDate::read("20261103-10") > TagDate::read("20261103-2"));
        for tag in [
            "2026-13-01",
            "2026-11",
            "1.2.3",
            "202611031",
            "2026-11.03",
            "日本",
            "9999-01-01",
            "2026-11-0ä",
        ] {
            assert_eq!(TagDate::read(tag), None, "{tag}");
        }
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics(text in "\\PC*|v?[0-9.]{0,8}[-_.a-z0-9]{0,10}|[0-9]{4}[-.][0-9]{2}[-.][0-9]{2}\\PC?") {
            let _ = TagVersion::read(&text);
            let _ = TagDate::read(&text);
        }
    }
}
