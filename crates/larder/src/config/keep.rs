//! `[[keep]]`: which images of the shelves that store stay.

use larder_core::pattern::Pattern;
use larder_core::quantity::Span;
use larder_core::retention::{KeepRule, Newest, NewestBy};
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};
use toml::Spanned;

use super::access::line;
use super::source::ConfigSource;
use crate::failure::Failure;

/// `[[keep]]`, as written.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Keep {
    #[serde(rename = "match")]
    pub repositories: Spanned<Vec<Pattern>>,
    #[serde(default, deserialize_with = "read_newest")]
    newest: Option<Newest>,
    #[serde(default, deserialize_with = "read_span")]
    unpulled: Option<Span>,
    #[serde(default, deserialize_with = "read_span")]
    untagged: Option<Span>,
    /// Documents of `larder survey --json`: what they name stays.
    #[serde(default)]
    named_by: Vec<Spanned<String>>,
    #[serde(default)]
    always: Vec<Pattern>,
}

/// What a `[[keep]]` says.
#[derive(Debug, Clone)]
pub struct KeepConfig {
    pub rule: KeepRule,
    /// Files of surveys, from the configuration's folder.
    pub surveys: Vec<String>,
}

/// `newest = 5`, or a table that also says what makes one newer.
#[derive(Deserialize)]
#[serde(untagged)]
enum RawNewest {
    Count(usize),
    Table(NewestTable),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct NewestTable {
    count: usize,
    by: Option<String>,
}

fn read_newest<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Newest>, D::Error> {
    let wrong = || {
        D::Error::custom(
            "`newest` is a number, 1 or more, or a table such as { count = 5, by = \"time\" }",
        )
    };
    let (count, by) = match RawNewest::deserialize(from).map_err(|_| wrong())? {
        RawNewest::Count(count) => (count, None),
        RawNewest::Table(NewestTable { count, by }) => (count, by),
    };
    let by = match by.as_deref() {
        None | Some("version") => NewestBy::Version,
        Some("time") => NewestBy::Time,
        Some(other) => {
            let other = larder_core::shown::cut(other, 40);
            return Err(D::Error::custom(format!(
                "`by` is \"version\" or \"time\", not \"{other}\""
            )));
        }
    };
    if count == 0 {
        return Err(wrong());
    }
    Ok(Some(Newest { count, by }))
}

fn read_span<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Span>, D::Error> {
    String::deserialize(from)?.parse().map(Some).map_err(D::Error::custom)
}

/// What is protected whatever is written.
const WORDS: [&str; 2] = ["lock", "running"];

/// Reads the entries of all files.
pub(super) fn keeps(sources: &[ConfigSource]) -> Result<Vec<KeepConfig>, Failure> {
    let cached: Vec<&str> = sources
        .iter()
        .flat_map(|source| source.file.shelf.iter())
        .filter(|shelf| shelf.caching.is_some())
        .map(|shelf| shelf.name.get_ref().as_str())
        .collect();
    let mut all = Vec::new();
    for source in sources {
        for keep in &source.file.keep {
            let patterns = keep.repositories.get_ref();
            if patterns.is_empty() {
                let message = "`match` names the repositories that it is about";
                return Err(source.fault(&keep.repositories, message, "write [\"vendor/**\"]"));
            }
            let of_cache = |pattern: &&Pattern| {
                cached.contains(&pattern.as_str().split('/').next().unwrap_or_default())
            };
            if let Some(pattern) = patterns.iter().find(of_cache) {
                let message =
                    format!("cached shelves have `keep` of their own; {pattern} is about one");
                return Err(source.fault(
                    &keep.repositories,
                    &message,
                    "write `keep` in its [[shelf]]",
                ));
            }
            let surveys = keep.named_by.iter().map(Spanned::get_ref);
            let surveys = surveys.filter(|one| !WORDS.contains(&one.as_str())).cloned().collect();
            all.push(KeepConfig {
                rule: KeepRule {
                    line: line(source, &keep.repositories),
                    repositories: patterns.clone(),
                    newest: keep.newest,
                    unpulled: keep.unpulled,
                    untagged: keep.untagged,
                    always: keep.always.clone(),
                },
                surveys,
            });
        }
    }
    Ok(all)
}
