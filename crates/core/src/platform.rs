//! For which machines is an image made? Platforms of the OCI image index, and which child of an
//! index a machine takes.

use std::fmt;
use std::str::FromStr;

use crate::shown::cut;

/// Characters of each part that are kept: no standard one is longer.
const LONGEST: usize = 64;

/// Operating system, architecture and, where there is one, variant: `linux/arm/v7`.
///
/// ```
/// use larder_core::platform::Platform;
///
/// let node: Platform = "linux/x86_64".parse().unwrap();
/// assert_eq!(node.to_string(), "linux/amd64");
/// let image: Platform = "linux/arm64".parse().unwrap();
/// assert_eq!(image.suits(&node), None);
/// ```
///
/// The usual spellings (`x86_64`, `aarch64`, `armhf`, …) are turned into the standard's; a
/// variant that says nothing (`arm64/v8`, `amd64/v1`) is left out, so that equal machines compare
/// as equal. An architecture alone (`arm64`) is one of Linux.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Platform {
    /// `linux`, `windows`, …
    pub os: Box<str>,
    /// In the standard's spelling: `amd64`, `arm64`, `arm`, …
    pub architecture: Box<str>,
    /// `v7` and the like. None: the architecture has no variants, or its default is meant.
    pub variant: Option<Box<str>>,
}

/// Architectures that mean Linux when they are named without a system.
const ARCHITECTURES: [&str; 8] =
    ["amd64", "386", "arm64", "arm", "ppc64le", "s390x", "riscv64", "loong64"];

/// Why a text is no platform.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a platform; write it as `linux/amd64` or `linux/arm/v7`")]
pub struct PlatformError(String);

impl Platform {
    /// Puts the three fields into the standard's spelling.
    /// What an image says can be anything: what cannot be printed is written out.
    pub fn new(os: &str, architecture: &str, variant: Option<&str>) -> Self {
        let (os, architecture) = (cut(os, LONGEST), cut(architecture, LONGEST));
        let variant = variant.map(|variant| cut(variant, LONGEST));
        let variant = variant.as_deref();
        let lower = architecture.to_ascii_lowercase();
        let (architecture, implied) = match lower.as_str() {
            "x86_64" | "x86-64" | "x64" | "amd64" => ("amd64", None),
            "i386" | "i486" | "i586" | "i686" | "x86" | "386" => ("386", None),
            "aarch64" | "arm64" | "arm64v8" | "armv8" => ("arm64", None),
            "armhf" | "armv7" | "armv7l" | "armv7hl" => ("arm", Some("v7")),
            "armel" | "armv6" | "armv6l" => ("arm", Some("v6")),
            "armv5" | "armv5l" => ("arm", Some("v5")),
            "powerpc64le" | "ppc64el" => ("ppc64le", None),
            other => (other, None),
        };
        let variant = variant.filter(|v| !v.is_empty()).map(str::to_ascii_lowercase);
        let variant = variant.as_deref().or(implied).map(|v| v.strip_prefix('v').unwrap_or(v));
        let variant = match (architecture, variant) {
            ("arm64", Some("8")) | ("amd64", Some("1")) => None,
            ("arm", None) => Some("v7".into()),
            (_, variant) => variant.map(|v| format!("v{v}").into()),
        };
        Self { os: os.to_ascii_lowercase().into(), architecture: architecture.into(), variant }
    }

    /// Whether this is the `unknown/unknown` under which build records lie in an index beside the
    /// images: no machine's platform.
    pub fn is_unknown(&self) -> bool {
        &*self.os == "unknown" || &*self.architecture == "unknown"
    }

    /// How well an image made for `self` runs on a machine `on`: None not at all, else the higher
    /// the better. A machine also takes older variants of its architecture.
    pub fn suits(&self, on: &Platform) -> Option<u32> {
        if self.os != on.os || self.architecture != on.architecture {
            return None;
        }
        let level = |platform: &Platform| {
            let default = if &*platform.architecture == "arm64" { 8 } else { 1 };
            platform.variant.as_deref().map_or(Some(default), |v| v.strip_prefix('v')?.parse().ok())
        };
        if self.variant == on.variant {
            return Some(u32::MAX);
        }
        match (level(self), level(on)) {
            (Some(image), Some(machine)) if image <= machine => Some(image),
            _ => None,
        }
    }
}

impl FromStr for Platform {
    type Err = PlatformError;

    fn from_str(text: &str) -> Result<Self, PlatformError> {
        let wrong = || PlatformError(text.to_owned());
        let word = |part: &str| {
            !part.is_empty()
                && part.len() <= 32
                && part.bytes().all(|b| b.is_ascii_alphanumeric() || b"_.-".contains(&b))
        };
        let parts: Vec<&str> = text.split('/').collect();
        if !parts.iter().all(|part| word(part)) {
            return Err(wrong());
        }
        match parts[..] {
            [alone] => {
                let linux = Self::new("linux", alone, None);
                ARCHITECTURES.contains(&&*linux.architecture).then_some(linux).ok_or_else(wrong)
            }
            [os, architecture] => Ok(Self::new(os, architecture, None)),
            [os, architecture, variant] => Ok(Self::new(os, architecture, Some(variant))),
            _ => Err(wrong()),
        }
    }
}

impl fmt::Display for Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { os, architecture, variant } = self;
        match variant {
            Some(variant) => f.pad(&format!("{os}/{architecture}/{variant}")),
            None => f.pad(&format!("{os}/{architecture}")),
        }
    }
}

crate::name::serde_as_text!(Platform);

/// Which platforms of an image are wanted.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Platforms {
    /// Every one: the index stays as it is, byte for byte.
    #[default]
    All,
    /// These only.
    Some(Vec<Platform>),
}

impl Platforms {
    /// Whether an image made for this platform is wanted. Build records (`unknown/unknown`) go
    /// with [`Platforms::All`] only.
    pub fn want(&self, image: &Platform) -> bool {
        match self {
            Self::All => true,
            Self::Some(list) => list.iter().any(|on| image.suits(on).is_some()),
        }
    }

    /// The wanted platforms for which none of those that there are would do.
    pub fn lacking<'p>(
        &self,
        present: &(impl Iterator<Item = &'p Platform> + Clone),
    ) -> Vec<Platform> {
        match self {
            Self::All => Vec::new(),
            Self::Some(list) => {
                let lacks =
                    |on: &&Platform| !present.clone().any(|image| image.suits(on).is_some());
                list.iter().filter(lacks).cloned().collect()
            }
        }
    }
}

/// Platforms in words, with commas.
pub fn listed(platforms: &[Platform]) -> String {
    let words: Vec<String> = platforms.iter().map(ToString::to_string).collect();
    words.join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn platform(text: &str) -> Platform {
        text.parse().unwrap()
    }

    #[test]
    fn usual_spellings_mean_the_standard_ones() {
        for (written, standard) in [
            ("linux/x86_64", "linux/amd64"),
            ("Linux/AMD64", "linux/amd64"),
            ("linux/aarch64", "linux/arm64"),
            ("linux/arm64/v8", "linux/arm64"),
            ("linux/armhf", "linux/arm/v7"),
            ("linux/arm", "linux/arm/v7"),
            ("linux/arm/6", "linux/arm/v6"),
            ("arm64", "linux/arm64"),
            ("armv6l", "linux/arm/v6"),
        ] {
            assert_eq!(platform(written).to_string(), standard, "{written}");
        }
        for bad in ["", "linux", "linux/", "a/b/c/d", "linux/a b"] {
            assert!(bad.parse::<Platform>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_machine_takes_its_own_and_older_variants() {
        let suits = |image: &str, on: &str| platform(image).suits(&platform(on));
        assert!(suits("linux/arm/v6", "linux/arm/v7") < suits("linux/arm/v7", "linux/arm/v7"));
        assert!(suits("linux/arm/v6", "linux/arm/v7").is_some());
        assert_eq!(suits("linux/arm/v7", "linux/arm/v6"), None);
        assert_eq!(suits("linux/amd64", "linux/arm64"), None);
        assert_eq!(suits("linux/amd64/v3", "linux/amd64"), None);
        assert!(suits("linux/amd64", "linux/amd64/v3").is_some());
    }

    proptest::proptest! {
        #[test]
        fn what_parses_prints_to_the_same_and_suits_itself(text in "\\PC*|[a-zA-Z0-9_.-]{1,8}(/[a-zA-Z0-9_.-]{1,8}){1,2}") {
            if let Ok(platform) = text.parse::<Platform>() {
                let again: Platform = platform.to_string().parse().unwrap();
                proptest::prop_assert_eq!(&again, &platform);
                proptest::prop_assert_eq!(platform.suits(&again), Some(u32::MAX));
                proptest::prop_assert!(Platforms::Some(vec![again]).want(&platform));
            }
        }
    }
}
