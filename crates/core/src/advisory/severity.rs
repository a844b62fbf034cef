//! How bad is it? (CVSS; the words of databases where there is no vector.)

use std::fmt;
use std::str::FromStr;

/// How bad something is, as its publisher says (CVSS 4.0, "Qualitative Severity Rating Scale").
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Severity {
    /// It is not said, or cannot be read. Rules treat it as they say.
    #[default]
    Unknown,
    None,
    Low,
    Medium,
    High,
    Critical,
}

impl Severity {
    /// All, the least first.
    pub const ALL: [Self; 6] =
        [Self::Unknown, Self::None, Self::Low, Self::Medium, Self::High, Self::Critical];

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Unknown => "unknown",
            Self::None => "none",
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }

    /// As a number that can be kept, the least first.
    pub fn number(self) -> i64 {
        match self {
            Self::Unknown => 0,
            Self::None => 1,
            Self::Low => 2,
            Self::Medium => 3,
            Self::High => 4,
            Self::Critical => 5,
        }
    }

    /// From such a number. What none has is unknown.
    pub fn of_number(number: i64) -> Self {
        Self::ALL.into_iter().find(|one| one.number() == number).unwrap_or_default()
    }

    /// The word of a database. Some write others for the same.
    pub fn of_word(word: &str) -> Self {
        match word.to_ascii_lowercase().as_str() {
            "none" | "unimportant" => Self::None,
            "negligible" | "low" => Self::Low,
            "moderate" | "medium" => Self::Medium,
            "important" | "high" => Self::High,
            "critical" => Self::Critical,
            _ => Self::Unknown,
        }
    }
}

impl fmt::Display for Severity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// A word that is no severity.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no severity; there are unknown, none, low, medium, high and critical")]
pub struct MalformedSeverity(String);

impl FromStr for Severity {
    type Err = MalformedSeverity;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let found = Self::ALL.into_iter().find(|one| one.word() == text);
        found.ok_or_else(|| MalformedSeverity(text.to_owned()))
    }
}

/// What a vector says.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rating {
    pub score: f64,
    pub severity: Severity,
    /// Of CVSS: 2, 3 or 4.
    pub version: u8,
}

/// The longest vector that is read, in bytes.
const LONGEST: usize = 512;

/// What a CVSS vector says. None: it cannot be read.
pub fn score(vector: &str) -> Option<Rating> {
    let vector = vector.trim();
    if vector.len() > LONGEST {
        return None;
    }
    let read: cvss::Cvss = vector.parse().ok()?;
    let score = read.score();
    let version = match vector {
        _ if vector.starts_with("CVSS:4") => 4,
        _ if vector.starts_with("CVSS:3") => 3,
        _ => 2,
    };
    // The scale of version 2 had no words; those of the later ones are used for all.
    let severity = match score {
        score if score <= 0.0 => Severity::None,
        score if score < 4.0 => Severity::Low,
        score if score < 7.0 => Severity::Medium,
        score if score < 9.0 => Severity::High,
        _ => Severity::Critical,
    };
    Some(Rating { score, severity, version })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn vectors_and_words_are_read() {
        for (vector, expected, version) in [
            ("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", Severity::Critical, 3),
            ("CVSS:3.0/AV:L/AC:H/PR:H/UI:R/S:U/C:L/I:N/A:N", Severity::Low, 3),
            (
                "CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N",
                Severity::Critical,
                4,
            ),
            ("AV:N/AC:L/Au:N/C:P/I:P/A:P", Severity::High, 2),
        ] {
            let rating = score(vector).unwrap_or_else(|| panic!("{vector}"));
            assert_eq!((rating.severity, rating.version), (expected, version), "{vector}");
        }
        for text in ["", "CVSS:3.1", "CVSS:9.9/AV:N", "high", &"A".repeat(1000)] {
            assert_eq!(score(text), None, "{text}");
        }
        assert_eq!(Severity::of_word("MODERATE"), Severity::Medium);
        for one in Severity::ALL {
            assert_eq!(one.word().parse(), Ok(one));
            assert_eq!(Severity::of_number(one.number()), one);
        }
        assert!("bad".parse::<Severity>().is_err());
        assert!(Severity::Critical > Severity::High && Severity::None > Severity::Unknown);
    }
}
