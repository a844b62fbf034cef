//! The files that an archive is cut into.

use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::ARCHIVE;
use crate::quantity::{Size, SizeError};
use crate::shown::shown;

/// One file of the archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Volume {
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
        let Size(bytes) = text.parse().map_err(|error: SizeError| error.to_string())?;
        match bytes {
            // Smaller volumes would be more names than content.
            0..65_536 => Err(format!("a volume has 64 KiB at least, and {} is less", shown(text))),
            bytes => Ok(Self(bytes)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_of_volumes_are_read() {
        let read = |text: &str| text.parse::<VolumeSize>().map(|size| size.0);
        assert_eq!(read("4.3GiB"), Ok(4_617_089_843));
        for wrong in ["", "10 B", "63 KiB"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
