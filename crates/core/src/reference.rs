//! Which image does this text name? The open reference grammar, short names, and what is wrong
//! with a reference that cannot be read.

mod malformed;

use std::fmt;
use std::str::FromStr;

use crate::digest::Digest;
use crate::name::{Host, NameError, RepositoryName, Tag};

pub(crate) use malformed::is_open;
pub use malformed::{MalformedReference, Reason};

/// The default public registry, and the names under which it is also written.
pub(crate) const DEFAULT_NAMES: [&str; 4] =
    [DEFAULT_HOST, "index.docker.io", "registry-1.docker.io", "registry.hub.docker.com"];
const DEFAULT_HOST: &str = "docker.io";
pub(crate) const DEFAULT_PREFIX: &str = "library";

/// A reference in normal form: the host is always named, short names are written out.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Reference {
    pub host: Host,
    /// The repository within it.
    pub repository: RepositoryName,
    /// The tag as written. None: there is none.
    pub tag: Option<Tag>,
    /// The digest as written. None: there is none. With both, the digest decides what is pulled.
    pub digest: Option<Digest>,
}

/// What names a manifest within a repository (`<reference>` in the Distribution Specification).
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Selector {
    /// By a tag, which may point elsewhere tomorrow.
    Tag(Tag),
    /// By content.
    Digest(Digest),
}

/// What a name without a registry stands for: `HOST/PREFIX`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unqualified {
    host: Host,
    prefix: Option<RepositoryName>,
}

/// A reference that was read, and what its writer left open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// The normal form.
    pub reference: Reference,
    /// No registry is named: what it means depends on who reads it.
    pub ambiguous: bool,
    /// The name without a registry looks like a host with nothing after it (`bazaar.example`).
    pub looks_like_host: bool,
}

impl Default for Unqualified {
    /// The default public registry's own images.
    #[allow(clippy::expect_used)] // two constants that are read by this module's tests
    fn default() -> Self {
        Self {
            host: DEFAULT_HOST.parse().expect("a constant host"),
            prefix: Some(DEFAULT_PREFIX.parse().expect("a constant name")),
        }
    }
}

impl Unqualified {
    /// The host.
    pub fn host(&self) -> &Host {
        &self.host
    }

    /// What stands before a name without a slash. None: nothing.
    pub fn prefix(&self) -> Option<&RepositoryName> {
        self.prefix.as_ref()
    }

    /// What stands between the host and a short name. None: short names mean another host, or nothing
    /// stands there.
    pub fn prefix_at(&self, host: &Host) -> Option<&RepositoryName> {
        self.prefix.as_ref().filter(|_| self.host == *host)
    }
}

impl FromStr for Unqualified {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        match text.split_once('/') {
            Some((host, prefix)) => Ok(Self { host: host.parse()?, prefix: Some(prefix.parse()?) }),
            None => Ok(Self { host: text.parse()?, prefix: None }),
        }
    }
}

impl fmt::Display for Unqualified {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.prefix {
            Some(prefix) => write!(f, "{}/{prefix}", self.host),
            None => write!(f, "{}", self.host),
        }
    }
}

crate::name::serde_as_text!(Unqualified);

impl Reference {
    /// Reads a reference as written by a person.
    ///
    /// ```
    /// use larder_core::reference::Reference;
    ///
    /// let unqualified = "bazaar.example/library".parse().unwrap();
    /// let read = Reference::read("kettle:2", &unqualified).unwrap();
    /// assert_eq!(read.reference.to_string(), "bazaar.example/library/kettle:2");
    /// assert!(read.ambiguous);
    ///
    /// let wrong = Reference::read("https://bazaar.example/Kettle:2", &unqualified).unwrap_err();
    /// assert_eq!(wrong.proposal.as_deref(), Some("bazaar.example/kettle:2"));
    /// ```
    ///
    /// # Errors
    /// [`MalformedReference`] has the reason and, where one meaning is clear, the text that was meant.
    pub fn read(text: &str, unqualified: &Unqualified) -> Result<Reading, MalformedReference> {
        read(text, unqualified).map_err(|reason| malformed::explain(text, reason, unqualified))
    }

    /// What is asked of the registry: the digest where there is one, else the tag, else `latest`.
    pub fn selector(&self) -> Selector {
        match (&self.digest, &self.tag) {
            (Some(digest), _) => Selector::Digest(digest.clone()),
            (None, Some(tag)) => Selector::Tag(tag.clone()),
            (None, None) => Selector::Tag(Tag::latest()),
        }
    }

    /// The same image at another digest or tag.
    #[must_use]
    pub fn at(&self, selector: Selector) -> Self {
        let (tag, digest) = match selector {
            Selector::Tag(tag) => (Some(tag), None),
            Selector::Digest(digest) => (None, Some(digest)),
        };
        Self { host: self.host.clone(), repository: self.repository.clone(), tag, digest }
    }

    /// `host/repository`, without tag and digest.
    pub fn image(&self) -> Image {
        Image { host: self.host.clone(), repository: self.repository.clone() }
    }

    /// Whether tomorrow's pull may bring something else: no digest, and no tag or one whose name
    /// says that it moves.
    pub fn is_floating(&self) -> bool {
        self.digest.is_none() && self.tag.as_ref().is_none_or(Tag::moves_by_name)
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.host, self.repository)?;
        if let Some(tag) = &self.tag {
            write!(f, ":{tag}")?;
        }
        if let Some(digest) = &self.digest {
            write!(f, "@{digest}")?;
        }
        Ok(())
    }
}

impl serde::Serialize for Reference {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl fmt::Display for Selector {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tag(tag) => write!(f, "{tag}"),
            Self::Digest(digest) => write!(f, "{digest}"),
        }
    }
}

impl FromStr for Selector {
    type Err = NameError;

    /// A text with a colon can only be a digest; tags have none.
    fn from_str(text: &str) -> Result<Self, NameError> {
        match text.parse() {
            Ok(digest) => Ok(Self::Digest(digest)),
            Err(_) => text.parse().map(Self::Tag),
        }
    }
}

/// An image's name without tag and digest, with its registry: `ventworks.example/gauges/steamgauge`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Image {
    pub host: Host,
    /// The repository within it.
    pub repository: RepositoryName,
}

impl Image {
    /// One of its tags, and optionally a digest.
    pub fn with(&self, tag: Option<Tag>, digest: Option<Digest>) -> Reference {
        Reference { host: self.host.clone(), repository: self.repository.clone(), tag, digest }
    }
}

impl fmt::Display for Image {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.host, self.repository)
    }
}

impl FromStr for Image {
    type Err = String;

    /// An image always names its registry: what a configuration says must not depend on who reads it.
    fn from_str(text: &str) -> Result<Self, String> {
        let reading = Reference::read(text, &Unqualified::default()).map_err(|e| e.to_string())?;
        if reading.ambiguous {
            return Err(format!(
                "`{text}` names no registry; write the host in front, as in `bazaar.example/{text}`"
            ));
        }
        if reading.reference.tag.is_some() || reading.reference.digest.is_some() {
            return Err(format!("`{text}` has a tag or a digest; an image is named without them"));
        }
        Ok(reading.reference.image())
    }
}

crate::name::serde_as_text!(Image);

/// Reads the grammar strictly.
fn read(text: &str, unqualified: &Unqualified) -> Result<Reading, Reason> {
    malformed::refuse_at_sight(text)?;
    let (rest, digest) = match text.split_once('@') {
        Some((rest, digest)) => (rest, Some(digest.parse().map_err(Reason::Digest)?)),
        None => (text, None),
    };
    // The colon of a tag stands after the last slash; one before it belongs to a port.
    let last = rest.rfind('/').map_or(0, |slash| slash + 1);
    // An IPv6 host may stand alone by mistake; its colons are no tag.
    let colon = if rest[last..].starts_with('[') { None } else { rest[last..].find(':') };
    let (name, tag) = match colon {
        Some(colon) => {
            let (name, tag) = rest.split_at(last + colon);
            (name, Some(read_tag(&tag[1..])?))
        }
        None => (rest, None),
    };
    if name.is_empty() {
        return Err(Reason::MissingRepository);
    }

    let first = name.split('/').next().unwrap_or(name);
    let names_host = first.contains(['.', ':', '[']) || first == "localhost";
    let (host, path) = match name.split_once('/') {
        Some((host, path)) if names_host => {
            (Some(host.parse::<Host>().map_err(Reason::Name)?), path)
        }
        _ => (None, name),
    };
    if path.is_empty() || (host.is_none() && is_bare_host(name)) {
        return Err(Reason::MissingRepository);
    }
    let repository: RepositoryName = path.parse().map_err(Reason::Name)?;
    let ambiguous = host.is_none();
    let looks_like_host = ambiguous && repository.is_single() && path.contains('.');
    let (host, repository) = complete(host, repository, unqualified)?;
    let length = host.as_str().len() + 1 + repository.as_str().len();
    if length > crate::name::NAME_LIMIT {
        let what = "the name with its registry";
        let limit = crate::name::NAME_LIMIT;
        return Err(Reason::Name(NameError::TooLong { what, found: length, limit }));
    }
    let reference = Reference { host, repository, tag, digest };
    Ok(Reading { reference, ambiguous, looks_like_host })
}

fn read_tag(text: &str) -> Result<Tag, Reason> {
    match text.parse() {
        Ok(tag) => Ok(tag),
        Err(NameError::Empty(_)) => Err(Reason::EmptyTag),
        Err(error) => Err(Reason::Name(error)),
    }
}

/// Writes a short name out, and gives the default public registry one name.
fn complete(
    host: Option<Host>,
    repository: RepositoryName,
    unqualified: &Unqualified,
) -> Result<(Host, RepositoryName), Reason> {
    let prefixed = |prefix: &str| format!("{prefix}/{repository}").parse().map_err(Reason::Name);
    match host {
        None => match &unqualified.prefix {
            Some(prefix) if repository.is_single() => {
                Ok((unqualified.host.clone(), prefixed(prefix.as_str())?))
            }
            _ => Ok((unqualified.host.clone(), repository)),
        },
        Some(host) if DEFAULT_NAMES.contains(&host.as_str()) => {
            let host = Unqualified::default().host;
            if repository.is_single() {
                Ok((host, prefixed(DEFAULT_PREFIX)?))
            } else {
                Ok((host, repository))
            }
        }
        Some(host) => Ok((host, repository)),
    }
}

/// Whether a name without a slash can only be a machine: an address, or `localhost`.
fn is_bare_host(name: &str) -> bool {
    name == "localhost" || name.starts_with('[') || name.parse::<std::net::Ipv4Addr>().is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unqualified() -> Unqualified {
        "bazaar.example/library".parse().unwrap()
    }

    fn normal(text: &str) -> String {
        Reference::read(text, &unqualified()).unwrap().reference.to_string()
    }

    #[test]
    fn references_are_written_out() {
        let digest = Digest::of(b"x");
        let both = format!("bazaar.example/library/kettle:2@{digest}");
        for (written, meant) in [
            ("kettle", "bazaar.example/library/kettle"),
            ("kettle:2", "bazaar.example/library/kettle:2"),
            ("community/pipewatch:1", "bazaar.example/community/pipewatch:1"),
            ("localhost/kettle", "localhost/kettle"),
            ("localhost:5000/kettle:2", "localhost:5000/kettle:2"),
            ("Bazaar.EXAMPLE/library/kettle:2", "bazaar.example/library/kettle:2"),
            ("[::1]:5000/vendor/kettle:2", "[::1]:5000/vendor/kettle:2"),
            ("[2001:db8::1]/kettle", "[2001:db8::1]/kettle"),
            ("docker.io/kettle", "docker.io/library/kettle"),
            ("index.docker.io/kettle:2", "docker.io/library/kettle:2"),
            (&both, &both),
        ] {
            assert_eq!(normal(written), meant, "{written}");
        }
    }

    #[test]
    fn what_the_writer_left_open_is_told() {
        let read = |text: &str| Reference::read(text, &unqualified()).unwrap();
        assert!(read("kettle:2").ambiguous);
        assert!(!read("bazaar.example/kettle:2").ambiguous);
        assert!(read("bazaar.example").looks_like_host);
        assert!(read("kettle").reference.is_floating());
        assert!(read("kettle:stable").reference.is_floating());
        assert!(!read("kettle:2").reference.is_floating());
        let pinned = format!("kettle@{}", Digest::of(b""));
        assert!(!read(&pinned).reference.is_floating());
        assert_eq!(read("kettle").reference.selector(), Selector::Tag(Tag::latest()));
    }

    #[test]
    fn the_name_with_its_registry_has_a_limit() {
        let long = format!("bazaar.example/{}", "a".repeat(241));
        let error = Reference::read(&long, &unqualified()).unwrap_err();
        assert!(error.to_string().contains("255 are the most"), "{error}");
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics_and_the_normal_form_is_stable(text in "\\PC*|[a-zA-Z0-9:/@.\\[\\]_ -]{0,40}") {
            match Reference::read(&text, &unqualified()) {
                Ok(read) => {
                    let again = Reference::read(&read.reference.to_string(), &unqualified()).unwrap();
                    proptest::prop_assert_eq!(again.reference, read.reference);
                }
                Err(malformed) => {
                    if let Some(proposal) = &malformed.proposal {
                        proptest::prop_assert!(Reference::read(proposal, &unqualified()).is_ok());
                    }
                }
            }
        }
    }
}
