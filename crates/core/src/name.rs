//! Which names can exist? Hosts, repositories and tags that cannot be made wrong.
//!
//! Grammar: OCI Distribution Specification 1.1, "Pulling manifests" (`<name>`, `<reference>`), and
//! the open reference grammar for the host in front.

use crate::digest::Digest;
use std::fmt;
use std::str::FromStr;

/// The longest `host/repository` that clients accept (Distribution Specification, "Pulling
/// manifests": many limit the two together to 255).
pub const NAME_LIMIT: usize = 255;
/// The longest tag.
pub const TAG_LIMIT: usize = 128;

/// Why a name cannot exist.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    #[error("{0} is empty")]
    Empty(&'static str),
    /// Longer than the limit in bytes.
    #[error("{what} has {found} characters; {limit} are the most")]
    TooLong {
        what: &'static str,
        /// Its length.
        found: usize,
        limit: usize,
    },
    /// A repository with an upper-case letter.
    #[error("repository names are lower case; `{0}` is not")]
    UpperCase(String),
    /// A part between slashes that the grammar does not allow.
    #[error(
        "`{0}` cannot be a part of a repository name: letters and digits, with one `.`, one or two `_`, or `-` between them"
    )]
    Component(String),
    /// An empty part between slashes.
    #[error("there is an empty part between two slashes")]
    EmptyComponent,
    /// A character that a tag cannot have.
    #[error(
        "a tag is made of letters, digits, `_`, `.` and `-`, and starts with none of `.` `-`; `{0}` is not"
    )]
    Tag(String),
    #[error("`{0}` is not a host name, an IPv4 address or an IPv6 address in brackets")]
    Host(String),
    /// An address in the place of a host.
    #[error("`{0}` is an address; a host is written without `https://` and without a path")]
    Address(String),
    #[error("`{0}` is not a port: a number from 1 to 65535")]
    Port(String),
}

/// Gives a text type `Serialize` and `Deserialize` through `Display` and `FromStr`.
macro_rules! serde_as_text {
    ($type:ty) => {
        impl serde::Serialize for $type {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }
        impl<'de> serde::Deserialize<'de> for $type {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let text = <std::borrow::Cow<'de, str> as serde::Deserialize>::deserialize(from)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}
pub(crate) use serde_as_text;

/// Declares a checked text: the type, how it prints and how it is read.
macro_rules! checked_text {
    ($(#[$doc:meta])* $name:ident, $check:ident) => {
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(Box<str>);

        impl $name {
            /// The text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }
        impl FromStr for $name {
            type Err = NameError;
            fn from_str(text: &str) -> Result<Self, NameError> {
                $check(text).map(|text| Self(text.into()))
            }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }
        serde_as_text!($name);
    };
}

checked_text! {
    /// A repository's name within a registry, `gauges/steamgauge`.
    RepositoryName, check_repository
}
checked_text! {
    /// A tag.
    Tag, check_tag
}
checked_text! {
    /// A registry's host with its port where one is named, in lower case: `bazaar.example`,
    /// `localhost:5000`, `[::1]:5000`. One registry has one spelling: the usual ports of HTTPS and HTTP are left out,
    /// and numbers are written in one way.
    Host, check_host
}

impl RepositoryName {
    /// The first part: the shelf, within a larder.
    pub fn first_component(&self) -> &str {
        self.0.split('/').next().unwrap_or(&self.0)
    }

    /// Whether there is one part only.
    pub fn is_single(&self) -> bool {
        !self.0.contains('/')
    }
}

/// What the names of tags begin with that stand for a digest.
const BY_DIGEST: &str = "digest-";

impl Tag {
    /// What a reference without tag and digest stands for.
    pub fn latest() -> Self {
        Self("latest".into())
    }

    /// The tag under which an image is kept that is wanted by its digest alone, so that it is found and not collected.
    /// None: the digest is of an algorithm that makes longer names than tags may have.
    pub fn of_digest(digest: &Digest) -> Option<Self> {
        (digest.algorithm().name() == "sha256")
            .then(|| Self(format!("{BY_DIGEST}{}", digest.hex()).into()))
    }

    /// The digest by which the image is wanted that is kept under this tag. None: it is a tag like others.
    pub fn as_digest(&self) -> Option<Digest> {
        format!("sha256:{}", self.0.strip_prefix(BY_DIGEST)?).parse().ok()
    }

    /// Whether the tag's own name says that it moves: nothing in it counts, as in `latest`,
    /// `stable`, `edge`.
    pub fn moves_by_name(&self) -> bool {
        !self.0.bytes().any(|b| b.is_ascii_digit())
    }
}

impl Host {
    /// An address with its port.
    pub fn of(address: std::net::SocketAddr) -> Self {
        Self(address.to_string().into())
    }

    /// The name or address without the port; IPv6 addresses without brackets.
    pub fn name(&self) -> &str {
        match self.0.strip_prefix('[') {
            Some(rest) => rest.split(']').next().unwrap_or(rest),
            None => self.0.split(':').next().unwrap_or(&self.0),
        }
    }

    /// Whether this names the machine itself: `localhost`, `127.0.0.0/8`, `::1`.
    pub fn is_loopback(&self) -> bool {
        let name = self.name();
        name == "localhost" || name.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
    }
}

fn bounded<'t>(what: &'static str, text: &'t str, limit: usize) -> Result<&'t str, NameError> {
    match text.len() {
        0 => Err(NameError::Empty(what)),
        found if found > limit => Err(NameError::TooLong { what, found, limit }),
        _ => Ok(text),
    }
}

fn check_repository(text: &str) -> Result<String, NameError> {
    bounded("the repository name", text, NAME_LIMIT)?;
    for part in text.split('/') {
        check_component(part)?;
    }
    Ok(text.to_owned())
}

/// `[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*`
fn check_component(part: &str) -> Result<(), NameError> {
    if part.is_empty() {
        return Err(NameError::EmptyComponent);
    }
    if part.bytes().any(|b| b.is_ascii_uppercase()) {
        return Err(NameError::UpperCase(part.to_owned()));
    }
    let letter = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    let fine = part.starts_with(letter)
        && part.ends_with(letter)
        && part.split(letter).all(|between| {
            matches!(between, "" | "." | "_" | "__") || between.bytes().all(|b| b == b'-')
        });
    if fine { Ok(()) } else { Err(NameError::Component(part.to_owned())) }
}

fn check_tag(text: &str) -> Result<String, NameError> {
    bounded("the tag", text, TAG_LIMIT)?;
    let word = |b: u8| b.is_ascii_alphanumeric() || b == b'_';
    let fine = text.bytes().next().is_some_and(word)
        && text.bytes().all(|b| word(b) || b == b'.' || b == b'-');
    if fine { Ok(text.to_owned()) } else { Err(NameError::Tag(text.to_owned())) }
}

fn check_host(text: &str) -> Result<String, NameError> {
    bounded("the host", text, NAME_LIMIT)?;
    if text.contains("://") {
        return Err(NameError::Address(text.to_owned()));
    }
    let wrong = || NameError::Host(text.to_owned());
    let mut canonical = None;
    let (name, port) = if let Some(rest) = text.strip_prefix('[') {
        let (address, after) = rest.split_once(']').ok_or_else(wrong)?;
        let address = address.parse::<std::net::Ipv6Addr>().map_err(|_| wrong())?;
        canonical = Some(format!("[{address}]"));
        match after.strip_prefix(':') {
            Some(port) => (None, Some(port)),
            None if after.is_empty() => (None, None),
            None => return Err(wrong()),
        }
    } else {
        match text.split_once(':') {
            Some((name, port)) => (Some(name), Some(port)),
            None => (Some(text), None),
        }
    };
    if let Some(port) = port {
        let digits = !port.is_empty() && port.bytes().all(|b| b.is_ascii_digit());
        if !digits || !port.parse::<u16>().is_ok_and(|number| number > 0) {
            return Err(NameError::Port(port.to_owned()));
        }
    }
    let port = port.and_then(|port| port.parse::<u16>().ok());
    let label = |part: &str| {
        !part.is_empty()
            && part.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
            && !part.starts_with('-')
            && !part.ends_with('-')
    };
    if name.is_some_and(|name| !name.split('.').all(label)) {
        return Err(wrong());
    }
    let name = canonical.or_else(|| name.map(str::to_ascii_lowercase)).ok_or_else(wrong)?;
    // A name without a dot is told from a repository's by its port alone.
    let says_host = name.contains(['.', '[']) || name == "localhost";
    Ok(match port {
        Some(443 | 80) if says_host => name,
        Some(port) => format!("{name}:{port}"),
        None => name,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repository_names_follow_the_grammar() {
        for good in ["kettle", "library/brinedb", "a/b/c", "a.b", "a__b", "a---b", "0"] {
            assert!(good.parse::<RepositoryName>().is_ok(), "{good}");
        }
        for bad in
            ["", "/a", "a/", "a//b", "A", "a..b", "a___b", "-a", "a-", "a._b", "ä", "a b", "../etc"]
        {
            assert!(bad.parse::<RepositoryName>().is_err(), "{bad}");
        }
        assert!("a".repeat(255).parse::<RepositoryName>().is_ok());
        assert!("a".repeat(256).parse::<RepositoryName>().is_err());
    }

    #[test]
    fn tags_follow_the_grammar() {
        for good in ["1.9.2", "_x", "latest", "V2-rc.1_b"] {
            assert!(good.parse::<Tag>().is_ok(), "{good}");
        }
        for bad in ["", ".1", "-1", "a/b", "a:b", "a b"] {
            assert!(bad.parse::<Tag>().is_err(), "{bad}");
        }
        assert!("a".repeat(129).parse::<Tag>().is_err());
    }

    #[test]
    fn hosts_are_lower_cased_and_checked() {
        let host = |text: &str| text.parse::<Host>();
        assert_eq!(host("Bazaar.Example:5000").unwrap().as_str(), "bazaar.example:5000");
        assert_eq!(host("[::1]:5000").unwrap().name(), "::1");
        for (spelled, means) in [
            ("bazaar.example:443", "bazaar.example"),
            ("BAZAAR.example:0443", "bazaar.example"),
            ("bazaar.example:80", "bazaar.example"),
            ("bazaar.example:05000", "bazaar.example:5000"),
            ("[0:0::1]:443", "[::1]"),
            ("localhost:80", "localhost"),
            ("larder:443", "larder:443"),
        ] {
            assert_eq!(host(spelled).unwrap().as_str(), means, "{spelled}");
        }
        assert!(host("[::1]").unwrap().is_loopback());
        assert!(host("127.0.0.1:1").unwrap().is_loopback());
        for bad in [
            "", "a:", "a:0", "a:70000", "a:+1", "[::1", "[x]", "[::1]x", "-a", "a_b", "a..b", "a/b",
        ] {
            assert!(host(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn what_is_wrong_with_a_name_is_said_with_the_part_that_is_wrong() {
        let long = "a".repeat(256);
        let repository = |text: &str| text.parse::<RepositoryName>().unwrap_err().to_string();
        for (text, said) in [
            ("", "is empty"),
            ("a//b", "an empty part between two slashes"),
            ("vendor/Kettle", "repository names are lower case; `Kettle` is not"),
            ("vendor/ket..tle", "`ket..tle` cannot be a part of a repository name"),
            ("vendor/../etc", "`..` cannot be a part of a repository name"),
            (long.as_str(), "has 256 characters; 255 are the most"),
        ] {
            assert!(repository(text).contains(said), "{text}: {}", repository(text));
        }
        let tag = |text: &str| text.parse::<Tag>().unwrap_err().to_string();
        assert!(tag(".1").contains("starts with none of `.` `-`; `.1` is not"), "{}", tag(".1"));
        assert!(tag(&long).contains("128 are the most"), "{}", tag(&long));
        let host = |text: &str| text.parse::<Host>().unwrap_err().to_string();
        assert!(host("a:70000").contains("`70000` is not a port: a number from 1 to 65535"));
        assert!(host("https://b.example/x").contains("written without `https://`"));
        assert!(host("a_b").contains("`a_b` is not a host name"), "{}", host("a_b"));
        assert!(host("[::1").contains("IPv6 address in brackets"), "{}", host("[::1"));
    }
}
