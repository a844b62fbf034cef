//! Advisories as OSV writes them (Open Source Vulnerability format 1.6), which is also the form in which they are kept.

use jiff::Timestamp;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Map, Value};

use super::severity::{Severity, score};
use super::{moment, optional_moment};

/// An advisory. Unknown fields are left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Advisory {
    pub id: String,
    #[serde(deserialize_with = "moment")]
    pub modified: Timestamp,
    #[serde(
        default,
        deserialize_with = "optional_moment",
        skip_serializing_if = "Option::is_none"
    )]
    pub published: Option<Timestamp>,
    /// Since when it is no more. None: it holds.
    #[serde(
        default,
        deserialize_with = "optional_moment",
        skip_serializing_if = "Option::is_none"
    )]
    pub withdrawn: Option<Timestamp>,
    /// Other names of the same.
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub aliases: Vec<String>,
    /// Names of what it has to do with; distributions put there what it mends.
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub related: Vec<String>,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub upstream: Vec<String>,
    #[serde(default, deserialize_with = "null_is_empty", skip_serializing_if = "String::is_empty")]
    pub summary: String,
    #[serde(default, deserialize_with = "null_is_empty", skip_serializing_if = "String::is_empty")]
    pub details: String,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub severity: Vec<SeverityEntry>,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub affected: Vec<Affected>,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub references: Vec<Reference>,
    #[serde(default, deserialize_with = "lenient_map", skip_serializing_if = "Map::is_empty")]
    pub database_specific: Map<String, Value>,
}

/// One entry of a severity: its type, and a vector or a word.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeverityEntry {
    #[serde(rename = "type", default)]
    pub kind: String,
    #[serde(default)]
    pub score: String,
}

/// Where more is said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reference {
    #[serde(default)]
    pub url: String,
}

/// A package that is affected, in some of its versions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Affected {
    #[serde(default)]
    pub package: Option<AffectedPackage>,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub versions: Vec<String>,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub ranges: Vec<RangeEvents>,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub severity: Vec<SeverityEntry>,
    #[serde(default, deserialize_with = "lenient_map", skip_serializing_if = "Map::is_empty")]
    pub ecosystem_specific: Map<String, Value>,
}

/// A package's name and where it is one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AffectedPackage {
    pub ecosystem: String,
    pub name: String,
}

/// Versions, by where being affected begins and ends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RangeEvents {
    /// `ECOSYSTEM`, `SEMVER` or `GIT`.
    #[serde(rename = "type", default)]
    pub kind: String,
    #[serde(default, deserialize_with = "lenient", skip_serializing_if = "Vec::is_empty")]
    pub events: Vec<RangeEvent>,
}

/// One beginning or end. Each has one of them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RangeEvent {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub introduced: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fixed: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_affected: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<String>,
}

/// Why a document is no advisory.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MalformedAdvisory {
    /// It is no JSON, or has not the fields that each has.
    #[error("{0}")]
    Shape(String),
    /// Its name cannot be one.
    #[error("its id cannot be a name: it is empty, too long, or has white space")]
    Id,
    /// It is larger than any that is read.
    #[error("it has more than {} MiB", LARGEST / 1024 / 1024)]
    Large,
}

/// The largest advisory, in bytes.
pub const LARGEST: usize = 16 * 1024 * 1024;
/// The longest name, and the longest text that is kept, in bytes.
const LONGEST_ID: usize = 200;
const LONGEST_TEXT: usize = 20_000;

/// Reads an advisory. Where the standard allows a thing to be left out, `null` stands for it as well.
pub fn read_advisory(bytes: &[u8]) -> Result<Advisory, MalformedAdvisory> {
    if bytes.len() > LARGEST {
        return Err(MalformedAdvisory::Large);
    }
    let read: Result<Advisory, _> = serde_json::from_slice(bytes);
    let mut advisory = read.map_err(|error| MalformedAdvisory::Shape(error.to_string()))?;
    advisory.tidied()?;
    Ok(advisory)
}

/// Whether a text can be the name of an advisory.
pub fn is_id(text: &str) -> bool {
    let fits = |c: char| !c.is_control() && !c.is_whitespace();
    !text.is_empty() && text.len() <= LONGEST_ID && text.chars().all(fits)
}

fn cut(text: &mut String) {
    if text.len() > LONGEST_TEXT {
        let end = (0..=LONGEST_TEXT).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        text.truncate(end);
    }
}

impl Advisory {
    /// Leaves out what cannot be used, and bounds the rest.
    fn tidied(&mut self) -> Result<(), MalformedAdvisory> {
        if !is_id(&self.id) {
            return Err(MalformedAdvisory::Id);
        }
        for names in [&mut self.aliases, &mut self.related, &mut self.upstream] {
            names.retain(|name| is_id(name));
        }
        cut(&mut self.summary);
        cut(&mut self.details);
        // Only the word is used.
        self.database_specific.retain(|key, _| key == "severity");
        for one in &mut self.affected {
            one.ecosystem_specific.retain(|key, _| matches!(key.as_str(), "severity" | "urgency"));
        }
        Ok(())
    }

    /// All names that it is found by, its own first.
    pub fn names(&self) -> Vec<&str> {
        let all = [&self.aliases, &self.upstream, &self.related];
        let all = all.into_iter().flatten().map(String::as_str);
        let mut names: Vec<&str> = std::iter::once(self.id.as_str()).chain(all).collect();
        let mut seen = std::collections::BTreeSet::new();
        names.retain(|name| seen.insert(*name));
        names
    }

    /// How bad it is: by the newest vector, else by its database's word; the worst of what it says of single packages.
    pub fn severity(&self) -> Severity {
        let own = entries(&self.severity);
        let word = |map: &Map<String, Value>| {
            let text = ["severity", "urgency"].iter().find_map(|key| map.get(*key)?.as_str());
            text.map_or(Severity::Unknown, Severity::of_word)
        };
        let packages = self.affected.iter().map(|one| match entries(&one.severity) {
            Severity::Unknown => word(&one.ecosystem_specific),
            known => known,
        });
        match own {
            Severity::Unknown => {
                packages.max().unwrap_or_default().max(word(&self.database_specific))
            }
            known => known,
        }
    }

    /// Its best vector, and the score. None: it has none that can be read.
    pub fn vector(&self) -> Option<(&str, f64)> {
        let all = self.severity.iter().chain(self.affected.iter().flat_map(|one| &one.severity));
        let rated = all.filter_map(|one| Some((one.score.as_str(), score(&one.score)?)));
        let best = rated.max_by_key(|(_, rating)| rating.version);
        best.map(|(vector, rating)| (vector, rating.score))
    }
}

fn entries(all: &[SeverityEntry]) -> Severity {
    let rated = all.iter().filter_map(|one| score(&one.score));
    let best = rated.max_by_key(|rating| rating.version).map(|rating| rating.severity);
    best.unwrap_or_else(|| {
        all.iter().map(|one| Severity::of_word(&one.score)).max().unwrap_or_default()
    })
}

/// A list, of which what has another form is left out.
fn lenient<'de, T: for<'a> Deserialize<'a>, D: Deserializer<'de>>(
    from: D,
) -> Result<Vec<T>, D::Error> {
    let value = Option::<Value>::deserialize(from)?;
    let Some(Value::Array(all)) = value else { return Ok(Vec::new()) };
    Ok(all.into_iter().filter_map(|one| serde_json::from_value(one).ok()).collect())
}

fn lenient_map<'de, D: Deserializer<'de>>(from: D) -> Result<Map<String, Value>, D::Error> {
    Ok(match Option::<Value>::deserialize(from)? {
        Some(Value::Object(map)) => map,
        _ => Map::new(),
    })
}

fn null_is_empty<'de, D: Deserializer<'de>>(from: D) -> Result<String, D::Error> {
    Ok(Option::<String>::deserialize(from)?.unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_advisory_is_read_kept_and_read_again() {
        let text = br#"{"schema_version":"1.6.0","id":"EMBER-2026-0001","modified":"2026-10-01T00:00:00Z",
            "aliases":["CVE-2026-99999", 5, "a b"],"related":null,"severity":null,"summary":null,
            "database_specific":{"severity":"HIGH","else":1},"new":{},
            "affected":[{"package":{"ecosystem":"npm","name":"damper","purl":"pkg:npm/damper"},"versions":null,
              "ranges":[{"type":"SEMVER","events":[{"introduced":"0"},{"fixed":"2.2.0"}]}]},{"package":5}],
            "references":[{"type":"WEB","url":"https://bazaar.example/1"}]}"#;
        let advisory = read_advisory(text).unwrap();
        assert_eq!(advisory.names(), ["EMBER-2026-0001", "CVE-2026-99999"]);
        assert_eq!((advisory.severity(), advisory.affected.len()), (Severity::High, 1));
        let kept = serde_json::to_vec(&advisory).unwrap();
        assert_eq!(read_advisory(&kept).unwrap(), advisory);
        for bad in [
            &b"{}"[..],
            b"[]",
            b"{\"id\":\"a b\",\"modified\":\"2026-10-01T00:00:00Z\"}",
            b"{\"id\":\"x\"}",
        ] {
            assert!(read_advisory(bad).is_err());
        }
    }

    #[test]
    fn the_newest_vector_says_how_bad_it_is() {
        let with = |severity: &str, package: &str| {
            let text = format!(
                r#"{{"id":"E-1","modified":"2026-10-01T00:00:00Z","severity":[{severity}],"affected":[{package}]}}"#
            );
            read_advisory(text.as_bytes()).unwrap()
        };
        let low = r#"{"type":"CVSS_V3","score":"CVSS:3.0/AV:L/AC:H/PR:H/UI:R/S:U/C:L/I:N/A:N"}"#;
        let critical = r#"{"type":"CVSS_V4","score":"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N"}"#;
        assert_eq!(with(&format!("{low},{critical}"), "").severity(), Severity::Critical);
        assert_eq!(with(low, "").severity(), Severity::Low);
        assert_eq!(
            with("", r#"{"ecosystem_specific":{"urgency":"low"}}"#).severity(),
            Severity::Low
        );
        assert_eq!(
            with("", &format!(r#"{{"severity":[{critical}]}}"#)).severity(),
            Severity::Critical
        );
        assert_eq!(with(r#"{"type":"Ubuntu","score":"medium"}"#, "").severity(), Severity::Medium);
        assert_eq!(with("", "").severity(), Severity::Unknown);
        assert!(with(low, "").vector().unwrap().1 > 0.0);
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..300)) {
            let _read = read_advisory(&bytes);
        }
    }
}
