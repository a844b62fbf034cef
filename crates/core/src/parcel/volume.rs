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

/// What a parcel is carried on, by which its volumes are cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Medium {
    /// A disk whose file system takes no file of 4 GiB.
    Fat32,
    /// One layer of a DVD; one volume each.
    Dvd,
    /// Two layers of a DVD.
    DvdDouble,
    /// One layer of a Blu-ray disc.
    Bluray,
    /// Two layers of a Blu-ray disc.
    BlurayDouble,
}

impl Medium {
    /// All, with what they are called and how many bytes a volume on them may have. Discs are counted in blocks of 2048
    /// bytes; some are left for their file system.
    const ALL: [(&'static str, Self, u64); 5] = [
        ("fat32", Self::Fat32, 4_294_967_295),
        ("dvd", Self::Dvd, 4_700_372_992 - DISC),
        ("dvd-double", Self::DvdDouble, 8_543_666_176 - DISC),
        ("bluray", Self::Bluray, 25_025_314_816 - DISC),
        ("bluray-double", Self::BlurayDouble, 50_050_629_632 - DISC),
    ];

    /// The largest volume that it takes.
    pub fn volume(self) -> VolumeSize {
        let found = Self::ALL.into_iter().find(|(_, medium, _)| *medium == self);
        VolumeSize(found.map_or(u64::MAX, |(.., bytes)| bytes))
    }
}

/// What a disc's file system and the signed contents beside the volume take.
const DISC: u64 = 16 * 1024 * 1024;

impl FromStr for Medium {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let found = Self::ALL.into_iter().find(|(name, ..)| *name == text);
        let names: Vec<&str> = Self::ALL.iter().map(|(name, ..)| *name).collect();
        found
            .map(|(_, medium, _)| medium)
            .ok_or_else(|| format!("the media are: {}", names.join(", ")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn volumes_fit_their_medium() {
        assert_eq!("fat32".parse::<Medium>().unwrap().volume().0, u64::from(u32::MAX));
        assert!("dvd".parse::<Medium>().unwrap().volume().0 < 4_700_372_992);
        assert!("floppy".parse::<Medium>().unwrap_err().contains("fat32, dvd"));
    }

    #[test]
    fn sizes_of_volumes_are_read() {
        let read = |text: &str| text.parse::<VolumeSize>().map(|size| size.0);
        assert_eq!(read("4.3GiB"), Ok(4_617_089_843));
        for wrong in ["", "10 B", "63 KiB"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
