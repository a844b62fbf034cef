//! Values of `larder.toml` that are written otherwise than they are kept.

use std::time::Duration;

use larder_core::access::rate::Rate;
use larder_core::allowance::Allowance;
use larder_core::digest::Digest;
use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::pattern::Pattern;
use larder_core::platform::Platforms;
use larder_core::quantity::{Size, Span};
use larder_core::schedule::Schedule;
use larder_core::selection::{Per, TagRule, Tags, Versions};
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};

/// Where an image goes: a repository, shelf first, of this larder or of another registry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Destination {
    /// The other registry. None: this larder.
    pub host: Option<Host>,
    pub repository: RepositoryName,
}

impl Destination {
    /// Whether it lacks the repository behind the shelf. Other registries may have no shelves.
    pub fn is_on_no_shelf(&self) -> bool {
        self.host.is_none() && self.repository.is_single()
    }
}

impl std::fmt::Display for Destination {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.host {
            Some(host) => write!(f, "{host}/{}", self.repository),
            None => write!(f, "{}", self.repository),
        }
    }
}

impl std::str::FromStr for Destination {
    type Err = String;

    /// A first part with a dot or a port is a host, as in references.
    fn from_str(text: &str) -> Result<Self, String> {
        let (host, repository) = match text.split_once('/') {
            Some((first, rest)) if first.contains(['.', ':']) || first == "localhost" => {
                let host = first.parse().map_err(|error| format!("{error}"));
                (Some(host?), rest)
            }
            _ => (None, text),
        };
        let repository = repository.parse().map_err(|error| format!("{error}"))?;
        Ok(Self { host, repository })
    }
}

impl<'de> Deserialize<'de> for Destination {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        String::deserialize(from)?.parse().map_err(D::Error::custom)
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawTags {
    exact: Option<Vec<RawExact>>,
    r#match: Option<Pattern>,
    semver: Option<semver::VersionReq>,
    #[serde(default)]
    dates: bool,
    newest: Option<std::num::NonZeroUsize>,
    per: Option<RawPer>,
    prereleases: Option<bool>,
    suffix: Option<Pattern>,
    #[serde(default)]
    skip: Vec<Pattern>,
}

/// A tag, or a digest.
struct RawExact(Tag);

impl<'de> Deserialize<'de> for RawExact {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        if text.contains(':') {
            let digest: Digest = text.parse().map_err(D::Error::custom)?;
            return Tag::of_digest(&digest).map(Self).ok_or_else(|| {
                D::Error::custom(format!("only sha256 digests can be wanted, not {text}"))
            });
        }
        text.parse().map(Self).map_err(D::Error::custom)
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "lowercase")]
enum RawPer {
    Major,
    Minor,
}

pub(super) fn read_tags<'de, D: Deserializer<'de>>(from: D) -> Result<Tags, D::Error> {
    let raw = RawTags::deserialize(from)?;
    let newest = raw.newest.map(std::num::NonZeroUsize::get);
    let only_with = |key: &str, given: bool, with: &str| match given {
        true => Err(D::Error::custom(format!("`{key}` goes with {with}"))),
        false => Ok(()),
    };
    if raw.semver.is_none() {
        only_with("per", raw.per.is_some(), "`semver`")?;
        only_with("prereleases", raw.prereleases.is_some(), "`semver`")?;
        if !raw.dates {
            only_with("newest", newest.is_some(), "`semver` or `dates`")?;
            only_with("suffix", raw.suffix.is_some(), "`semver` or `dates`")?;
        }
    }
    let rule = match (raw.exact, raw.r#match, raw.semver, raw.dates) {
        (Some(tags), None, None, false) if !tags.is_empty() => {
            TagRule::Exact(tags.into_iter().map(|RawExact(tag)| tag).collect())
        }
        (None, Some(pattern), None, false) => TagRule::Match(pattern),
        (None, None, Some(range), false) => TagRule::Versions(Versions {
            range,
            newest,
            per: raw.per.map(|per| match per {
                RawPer::Major => Per::Major,
                RawPer::Minor => Per::Minor,
            }),
            prereleases: raw.prereleases.unwrap_or(false),
            suffix: raw.suffix,
        }),
        (None, None, None, true) => TagRule::Dates { newest, suffix: raw.suffix },
        _ => {
            let text = "`tags` says one of `exact = [\"1.9.2\"]`, `match = \"1.*\"`, `semver = \"^1.8\"`, `dates = true`";
            return Err(D::Error::custom(text));
        }
    };
    Ok(Tags { rule, skip: raw.skip })
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawAllowance {
    pulls: std::num::NonZeroU64,
    per: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawRate {
    requests: Option<std::num::NonZeroU64>,
    #[serde(default, deserialize_with = "read_limit")]
    bytes: Option<u64>,
    per: Option<String>,
}

/// The longest span of a rate, in seconds: longer ones are no rates.
const LONGEST_RATE: u64 = 24 * 3600;

pub(super) fn read_rate<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Rate>, D::Error> {
    let RawRate { requests, bytes, per } = RawRate::deserialize(from)?;
    let Span(per) = per.as_deref().unwrap_or("1m").parse().map_err(D::Error::custom)?;
    if per.is_zero() || per.as_secs() > LONGEST_RATE {
        return Err(D::Error::custom("`per` is a span of time of a day at most, such as \"1m\""));
    }
    if bytes == Some(0) || (requests.is_none() && bytes.is_none()) {
        let wrong = "a rate names `requests`, `bytes` or both, such as { requests = 600, bytes = \"20 GiB\" }";
        return Err(D::Error::custom(wrong));
    }
    let requests = requests.map(std::num::NonZeroU64::get);
    Ok(Some(Rate { requests, bytes, per: per.as_secs() * 1000 }))
}

pub(super) fn read_timeout<'de, D: Deserializer<'de>>(
    from: D,
) -> Result<Option<Duration>, D::Error> {
    let Span(span) = String::deserialize(from)?.parse().map_err(D::Error::custom)?;
    if span.is_zero() {
        return Err(D::Error::custom("it must be longer than nothing, such as \"60s\""));
    }
    Ok(Some(span))
}

pub(super) fn read_span<'de, D: Deserializer<'de>>(from: D) -> Result<Duration, D::Error> {
    let Span(span) = String::deserialize(from)?.parse().map_err(D::Error::custom)?;
    Ok(span)
}

pub(super) fn read_size<'de, D: Deserializer<'de>>(from: D) -> Result<u64, D::Error> {
    let Size(size) = String::deserialize(from)?.parse().map_err(D::Error::custom)?;
    Ok(size)
}

/// The larder's name, which stands in records, parcels and figures.
pub(super) fn read_name<'de, D: Deserializer<'de>>(from: D) -> Result<String, D::Error> {
    let name = String::deserialize(from)?;
    let plain = name.chars().all(|one| !one.is_control()) && name.trim() == name;
    match plain && (1..=100).contains(&name.chars().count()) {
        true => Ok(name),
        false => Err(D::Error::custom("the larder's name is one line of 1 to 100 characters")),
    }
}

pub(super) fn read_schedule<'de, D: Deserializer<'de>>(
    from: D,
) -> Result<Option<Schedule>, D::Error> {
    String::deserialize(from)?.parse().map(Some).map_err(D::Error::custom)
}

pub(super) fn read_limit<'de, D: Deserializer<'de>>(from: D) -> Result<Option<u64>, D::Error> {
    read_size(from).map(Some)
}

pub(super) fn read_allowance<'de, D: Deserializer<'de>>(
    from: D,
) -> Result<Option<Allowance>, D::Error> {
    let RawAllowance { pulls, per } = RawAllowance::deserialize(from)?;
    let Span(per) = per.parse().map_err(D::Error::custom)?;
    if per.is_zero() {
        return Err(D::Error::custom("`per` is a span of time, such as \"6h\""));
    }
    Ok(Some(Allowance { pulls: pulls.get(), per }))
}

#[derive(Deserialize)]
#[serde(untagged)]
enum RawPlatforms {
    Word(String),
    List(Vec<String>),
}

pub(super) fn read_platforms<'de, D: Deserializer<'de>>(from: D) -> Result<Platforms, D::Error> {
    let wrong = "`platforms` is \"all\" or a list such as [\"linux/amd64\", \"linux/arm64\"]";
    match RawPlatforms::deserialize(from).map_err(|_| D::Error::custom(wrong))? {
        RawPlatforms::Word(word) if word == "all" => Ok(Platforms::All),
        RawPlatforms::List(list) if !list.is_empty() => {
            let list: Result<_, _> = list.iter().map(|text| text.parse()).collect();
            list.map(Platforms::Some).map_err(D::Error::custom)
        }
        _ => Err(D::Error::custom(wrong)),
    }
}
