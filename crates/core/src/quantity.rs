//! Amounts as people write them: spans of time and sizes. Configuration and calls read them alike.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use crate::shown::cut;

/// A span of time as people write it: `90s`, `15m`, `6h`, `14d`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Span(pub Duration);

/// Why a text is no span of time.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a span of time; write it as 90s, 15m, 6h or 14d")]
pub struct SpanError(String);

impl FromStr for Span {
    type Err = SpanError;

    fn from_str(text: &str) -> Result<Self, SpanError> {
        let wrong = || SpanError(cut(text, 40));
        if text == "0" {
            return Ok(Self::default());
        }
        let unit = match text.chars().last() {
            Some('s') => 1,
            Some('m') => 60,
            Some('h') => 3600,
            Some('d') => 24 * 3600,
            _ => return Err(wrong()),
        };
        let number: u64 = text[..text.len() - 1].parse().map_err(|_| wrong())?;
        let seconds = number.checked_mul(unit).filter(|seconds| *seconds <= 100 * 366 * 24 * 3600);
        seconds.map(|seconds| Self(Duration::from_secs(seconds))).ok_or_else(wrong)
    }
}

impl fmt::Display for Span {
    /// The largest unit that gives a whole number.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let seconds = self.0.as_secs();
        let (unit, name) = [(24 * 3600, 'd'), (3600, 'h'), (60, 'm')]
            .into_iter()
            .find(|(unit, _)| seconds >= *unit && seconds.is_multiple_of(*unit))
            .unwrap_or((1, 's'));
        write!(f, "{}{name}", seconds / unit)
    }
}

/// A size in bytes as people write it: `2 GiB`, `650 MB`, `4096`; at most 8 EiB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Size(pub u64);

impl fmt::Display for Size {
    /// In the largest binary unit of which it has one, to a tenth.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let units = ["KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];
        let Some(unit) = (self.0 | 1).ilog2().checked_div(10).filter(|unit| *unit > 0) else {
            return write!(f, "{} bytes", self.0);
        };
        let tenths = (u128::from(self.0) * 10) >> (10 * unit);
        let name = units[usize::try_from(unit).unwrap_or(1) - 1];
        write!(f, "{}.{} {name}", tenths / 10, tenths % 10)
    }
}

/// Why a text is no size.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SizeError {
    /// It is not a number with a unit.
    #[error("`{0}` is not a size; write it as 3.9GiB, 650 MB or 4096 (bytes)")]
    Form(String),
    /// No disk has so much.
    #[error("{0} is more than 8 EiB")]
    TooLarge(String),
}

impl FromStr for Size {
    type Err = SizeError;

    fn from_str(text: &str) -> Result<Self, SizeError> {
        let wrong = || SizeError::Form(cut(text, 40));
        let text = text.trim();
        let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = (&text[..end], text[end..].trim());
        let factor: u64 = match unit.to_ascii_lowercase().as_str() {
            "" | "b" => 1,
            "k" | "kb" => 1_000,
            "m" | "mb" => 1_000_000,
            "g" | "gb" => 1_000_000_000,
            "t" | "tb" => 1_000_000_000_000,
            "ki" | "kib" => 1 << 10,
            "mi" | "mib" => 1 << 20,
            "gi" | "gib" => 1 << 30,
            "ti" | "tib" => 1 << 40,
            _ => return Err(wrong()),
        };
        let number: f64 = number.parse().map_err(|_| wrong())?;
        #[allow(clippy::cast_precision_loss)] // a factor is a round number
        let bytes = number * factor as f64;
        if bytes >= (1u64 << 63) as f64 {
            return Err(SizeError::TooLarge(cut(text, 40)));
        }
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
        // not negative, and checked above
        Ok(Self(bytes as u64))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_read_and_written() {
        for text in ["90s", "15m", "6h", "14d", "0s"] {
            assert_eq!(text.parse::<Span>().unwrap().to_string(), text);
        }
        assert_eq!("60m".parse::<Span>().unwrap().to_string(), "1h");
        for text in ["", "h", "6", "6 h", "-6h", "6ü", "99999999999999d", "1e3s"] {
            assert!(text.parse::<Span>().is_err(), "{text}");
        }
    }

    #[test]
    fn sizes_are_read() {
        let read = |text: &str| text.parse::<Size>().map(|size| size.0);
        assert_eq!(read("4.3GiB"), Ok(4_617_089_843));
        assert_eq!(read("650 MB"), Ok(650_000_000));
        assert_eq!(read("2Gi"), Ok(2 << 30));
        assert_eq!(read("10 B"), Ok(10));
        assert_eq!(read("100000"), Ok(100_000));
        for wrong in ["", "GiB", "-1GiB", "1.2.3GiB", "NaN", "1e9GiB", "9 PB", "ü", "9000000 TiB"]
        {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
