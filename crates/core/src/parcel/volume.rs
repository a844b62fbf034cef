//! The files that an archive is cut into.

use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::ARCHIVE;

/// One file of the archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Volume {
    /// Its name.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
    /// The CRC-32 of its bytes, to find the disk that went bad; that nothing was altered is proved
    /// by the digests.
    pub crc32: String,
}

/// The name of a volume: its number counts from 0.
pub fn volume_name(number: usize, count: usize) -> String {
    if count == 1 { ARCHIVE.to_owned() } else { format!("{ARCHIVE}.{:03}", number + 1) }
}

/// How large a volume may be: a size as people write it, `4.3GiB` or `650 MB`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct VolumeSize(pub u64);

impl FromStr for VolumeSize {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong =
            || format!("`{}` is no size; write it as 4.3GiB or 650 MB", text.escape_debug());
        let text = text.trim();
        let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = (&text[..end], text[end..].trim());
        let factor: u64 = match unit.to_ascii_lowercase().as_str() {
            "" | "b" => 1,
            "kb" => 1_000,
            "mb" => 1_000_000,
            "gb" => 1_000_000_000,
            "tb" => 1_000_000_000_000,
            "kib" => 1 << 10,
            "mib" => 1 << 20,
            "gib" => 1 << 30,
            "tib" => 1 << 40,
            _ => return Err(wrong()),
        };
        let number: f64 = number.parse().map_err(|_| wrong())?;
        #[allow(clippy::cast_precision_loss)] // a factor is a round number
        let bytes = number * factor as f64;
        // Smaller volumes would be more names than content.
        if !(65_536.0..1e18).contains(&bytes) {
            return Err(format!("a volume of {text} is not between 64 KiB and 800 PiB"));
        }
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)] // checked above
        Ok(Self(bytes as u64))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_of_volumes_are_read() {
        let read = |text: &str| text.parse::<VolumeSize>().map(|size| size.0);
        assert_eq!(read("4.3GiB"), Ok(4_617_089_843));
        assert_eq!(read("650 MB"), Ok(650_000_000));
        assert_eq!(read("100000"), Ok(100_000));
        for wrong in ["", "GiB", "-1GiB", "1.2.3GiB", "10 B", "NaN", "1e9GiB", "9 PB", "ü"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
