//! `[[shelf]]`: a top-level name that stores, or caches an upstream.

use std::time::Duration;

use larder_core::cached::{Habits, KeepingRule, ShelfReach, Terms};
use larder_core::immutable::ImmutableTags;
use larder_core::name::RepositoryName;
use larder_core::pattern::Pattern;
use larder_core::platform::Platform;
use larder_core::quantity::{Size, Span};
use larder_core::quota::Quota;
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};
use toml::Spanned;

/// How long a tag is believed where nothing is said.
const RECHECK: Duration = Duration::from_secs(15 * 60);
/// How long an older answer may be served where nothing is said.
const STALE: Duration = Duration::from_secs(7 * 24 * 3600);
/// How long anybody waits for the upstream where nothing is said.
const PATIENCE: Duration = Duration::from_secs(2);

/// `[[shelf]]`.
#[derive(Debug)]
pub struct ShelfConfig {
    pub name: Spanned<RepositoryName>,
    /// Whether clients may push an index without all that it lists.
    pub sparse: bool,
    /// The tags that do not move.
    pub immutable: ImmutableTags,
    /// How much it may hold.
    pub quota: Quota,
    /// What it caches. None: it stores.
    pub caching: Option<CachingConfig>,
}

/// What a cached shelf says.
#[derive(Debug)]
pub struct CachingConfig {
    /// The name of its upstream.
    pub upstream: Spanned<String>,
    /// How it behaves.
    pub habits: Habits,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawShelf {
    name: Spanned<RepositoryName>,
    sparse: Option<bool>,
    immutable: Option<Vec<Pattern>>,
    movable: Option<Vec<Pattern>>,
    quota: Option<RawQuota>,
    caches: Option<Spanned<String>>,
    only: Option<Vec<Pattern>>,
    skip: Option<Vec<Pattern>>,
    recheck: Option<RawSpan>,
    stale: Option<RawSpan>,
    patience: Option<RawSpan>,
    keep: Option<RawSpan>,
    pin: Option<Vec<Pattern>>,
    limit: Option<RawSize>,
    platforms: Option<Vec<Platform>>,
    companions: Option<bool>,
}

struct RawSpan(Duration);

impl<'de> Deserialize<'de> for RawSpan {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let Span(span) = String::deserialize(from)?.parse().map_err(D::Error::custom)?;
        Ok(Self(span))
    }
}

/// `"40 GiB"`, or a table with `shelf`, `repository` and `account`.
struct RawQuota(Quota);

impl<'de> Deserialize<'de> for RawQuota {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Quota;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(
                    "a size such as \"40 GiB\", or { shelf, repository, account } with sizes",
                )
            }

            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Quota, E> {
                let Size(size) = text.parse().map_err(E::custom)?;
                Ok(Quota { shelf: Some(size), ..Quota::default() })
            }

            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Quota, A::Error> {
                #[derive(Deserialize)]
                #[serde(deny_unknown_fields)]
                struct Raw {
                    shelf: Option<RawSize>,
                    repository: Option<RawSize>,
                    account: Option<RawSize>,
                }
                let raw = Raw::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let bytes = |size: Option<RawSize>| size.map(|size| size.0);
                let quota = Quota {
                    shelf: bytes(raw.shelf),
                    repository: bytes(raw.repository),
                    account: bytes(raw.account),
                };
                match quota.is_none() {
                    true => Err(serde::de::Error::custom(
                        "a `quota` says one of `shelf`, `repository` and `account`",
                    )),
                    false => Ok(quota),
                }
            }
        }
        from.deserialize_any(Visitor).map(Self)
    }
}

struct RawSize(u64);

impl<'de> Deserialize<'de> for RawSize {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        super::values::read_size(from).map(Self)
    }
}

impl<'de> Deserialize<'de> for ShelfConfig {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let raw = RawShelf::deserialize(from)?;
        let Some(upstream) = raw.caches else {
            let given = [
                ("only", raw.only.is_some()),
                ("skip", raw.skip.is_some()),
                ("recheck", raw.recheck.is_some()),
                ("stale", raw.stale.is_some()),
                ("patience", raw.patience.is_some()),
                ("keep", raw.keep.is_some()),
                ("pin", raw.pin.is_some()),
                ("limit", raw.limit.is_some()),
                ("platforms", raw.platforms.is_some()),
                ("companions", raw.companions.is_some()),
            ];
            if let Some((key, _)) = given.iter().find(|(_, given)| *given) {
                let message = format!("`{key}` goes with `caches`; this shelf stores");
                return Err(D::Error::custom(message));
            }
            if raw.movable.is_some() && raw.immutable.is_none() {
                return Err(D::Error::custom("`movable` names exceptions from `immutable`"));
            }
            let immutable = ImmutableTags {
                immutable: raw.immutable.unwrap_or_default(),
                movable: raw.movable.unwrap_or_default(),
            };
            let sparse = raw.sparse.unwrap_or(false);
            let quota = raw.quota.map_or_else(Quota::default, |quota| quota.0);
            return Ok(Self { name: raw.name, sparse, immutable, quota, caching: None });
        };
        let storing = [
            ("sparse", raw.sparse.is_some()),
            ("immutable", raw.immutable.is_some()),
            ("movable", raw.movable.is_some()),
            ("quota", raw.quota.is_some()),
        ];
        if let Some((key, _)) = storing.iter().find(|(_, given)| *given) {
            let instead = if *key == "quota" { ", and has `limit`" } else { "" };
            let message = format!("`{key}` is for shelves that store; this one caches{instead}");
            return Err(D::Error::custom(message));
        }
        let reach = ShelfReach::new(raw.only.unwrap_or_default(), raw.skip.unwrap_or_default());
        let or = |given: Option<RawSpan>, usual: Duration| given.map_or(usual, |given| given.0);
        let habits = Habits {
            reach: reach.map_err(D::Error::custom)?,
            terms: Terms { recheck: or(raw.recheck, RECHECK), stale: or(raw.stale, STALE) },
            patience: or(raw.patience, PATIENCE),
            keeping: KeepingRule {
                keep: raw.keep.map(|keep| keep.0),
                pinned: raw.pin.unwrap_or_default(),
            },
            limit: raw.limit.map(|limit| limit.0),
            platforms: raw.platforms.unwrap_or_default(),
            companions: raw.companions.unwrap_or(false),
        };
        Ok(Self {
            name: raw.name,
            sparse: false,
            immutable: ImmutableTags::default(),
            quota: Quota::default(),
            caching: Some(CachingConfig { upstream, habits }),
        })
    }
}
