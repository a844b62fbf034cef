//! Which images of a larder does a text name? A shelf, a repository, or some of its tags or digests, also by patterns.

use crate::digest::{Digest, DigestError, DigestStart};
use crate::name::{NameError, RepositoryName};
use crate::pattern::{Pattern, PatternError};

/// What a text such as `vendor/steam*:1.*` names among the images that a larder holds.
///
/// ```
/// use larder_core::holdings::{HeldImages, HeldPattern};
///
/// let some: HeldPattern = "vendor/*/steamgauge:1.*".parse().unwrap();
/// assert!(some.has_repository(&"vendor/gauges/steamgauge".parse().unwrap()));
/// assert!(matches!(some.images(), HeldImages::Tags(tags) if tags.matches("1.9.2")));
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldPattern {
    repositories: Repositories,
    images: HeldImages,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Repositories {
    One(RepositoryName),
    Some(Pattern),
}

/// Which images of a repository are named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HeldImages {
    /// All of them: only the repository is named.
    All,
    /// Those whose tag matches.
    Tags(Pattern),
    /// The only one whose digest begins so.
    Manifest(DigestStart),
}

/// Why a text names no images.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(transparent)]
pub enum HeldPatternError {
    /// The repository is none.
    Name(#[from] NameError),
    /// A pattern of repositories or tags is none.
    Pattern(#[from] PatternError),
    /// The digest is neither a digest nor the beginning of one.
    Digest(#[from] DigestError),
}

/// Characters that no name has: a text with one of them is a pattern.
const WILD: [char; 5] = ['*', '?', '[', '{', '\\'];

impl HeldPattern {
    /// Which images of the repositories are named.
    pub fn images(&self) -> &HeldImages {
        &self.images
    }

    /// The repository, where it is written out. None: a pattern names repositories.
    pub fn repository(&self) -> Option<&RepositoryName> {
        match &self.repositories {
            Repositories::One(name) => Some(name),
            Repositories::Some(_) => None,
        }
    }

    /// The repository that all that match lie below, from the parts before the first wildcard. None: any may match.
    pub fn below(&self) -> Option<RepositoryName> {
        match &self.repositories {
            Repositories::One(name) => Some(name.clone()),
            Repositories::Some(pattern) => {
                let plain = pattern.as_str().split(WILD).next().unwrap_or_default();
                plain.rsplit_once('/').and_then(|(parts, _)| parts.parse().ok())
            }
        }
    }

    /// Whether a repository is one of those that are named.
    pub fn has_repository(&self, name: &RepositoryName) -> bool {
        match &self.repositories {
            Repositories::One(one) => one == name,
            Repositories::Some(pattern) => pattern.matches(name.as_str()),
        }
    }

    /// Whether a repository is named, or one below which it lies: a shelf stands for all that is on it.
    pub fn has_repository_or_parent(&self, name: &RepositoryName) -> bool {
        let text = name.as_str();
        let parents = text.match_indices('/').map(|(at, _)| &text[..at]);
        parents.chain([text]).any(|one| match &self.repositories {
            Repositories::One(name) => name.as_str() == one,
            Repositories::Some(pattern) => pattern.matches(one),
        })
    }

    /// Whether an image with these tags and this digest is named, once its repository is. A tag is None for an image
    /// that has none.
    pub fn has_image(&self, tag: Option<&str>, digest: &Digest) -> bool {
        match &self.images {
            HeldImages::All => true,
            HeldImages::Tags(pattern) => tag.is_some_and(|tag| pattern.matches(tag)),
            HeldImages::Manifest(start) => start.begins(digest),
        }
    }
}

impl std::fmt::Display for HeldPattern {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.repositories {
            Repositories::One(name) => write!(f, "{name}")?,
            Repositories::Some(pattern) => write!(f, "{pattern}")?,
        }
        match &self.images {
            HeldImages::All => Ok(()),
            HeldImages::Tags(tags) => write!(f, ":{tags}"),
            HeldImages::Manifest(start) => write!(f, "@{start}"),
        }
    }
}

impl std::str::FromStr for HeldPattern {
    type Err = HeldPatternError;

    fn from_str(text: &str) -> Result<Self, HeldPatternError> {
        let (repository, images) = match text.split_once('@') {
            Some((repository, digest)) => (repository, HeldImages::Manifest(digest.parse()?)),
            None => match text.split_once(':') {
                Some((repository, tag)) => (repository, HeldImages::Tags(tag.parse()?)),
                None => (text, HeldImages::All),
            },
        };
        // An image with tag and digest is the one with the digest.
        let repository = match &images {
            HeldImages::Manifest(_) => {
                repository.split_once(':').map_or(repository, |(name, _)| name)
            }
            _ => repository,
        };
        let repositories = match repository.contains(WILD) {
            true => Repositories::Some(repository.parse()?),
            false => Repositories::One(repository.parse()?),
        };
        Ok(Self { repositories, images })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn read(text: &str) -> HeldPattern {
        text.parse().unwrap()
    }

    #[test]
    fn repositories_are_named_in_full_or_by_a_pattern() {
        let cases = [
            (
                "vendor/kettle",
                Some("vendor/kettle"),
                ["vendor/kettle"].as_slice(),
                ["vendor/kettle/x"].as_slice(),
            ),
            (
                "vendor/*",
                Some("vendor"),
                &["vendor/kettle"],
                &["vendor/gauges/steam", "own/kettle"],
            ),
            ("vendor/**", Some("vendor"), &["vendor/kettle", "vendor/a/b"], &["vendors/a"]),
            ("vendor/ga*/steam", Some("vendor"), &["vendor/gauges/steam"], &["vendor/x/steam"]),
            ("*/kettle", None, &["vendor/kettle", "own/kettle"], &["vendor/x/kettle"]),
            ("ven*", None, &["vendor"], &["vendor/kettle"]),
            ("vendor/{a,b}:1", Some("vendor"), &["vendor/a", "vendor/b"], &["vendor/c"]),
        ];
        for (text, below, those, others) in cases {
            let some = read(text);
            assert_eq!(some.below().map(|name| name.to_string()).as_deref(), below, "{text}");
            for name in those {
                assert!(some.has_repository(&name.parse().unwrap()), "{text} names {name}");
            }
            let all = format!("{}/deeper/still", those[0]).parse().unwrap();
            assert!(some.has_repository_or_parent(&all), "{text} has {all} below it");
            for name in others {
                assert!(
                    !some.has_repository(&name.parse().unwrap()),
                    "{text} does not name {name}"
                );
            }
        }
    }

    #[test]
    fn tags_are_a_pattern_and_digests_as_short_as_they_are_shown() {
        let digest = Digest::of(b"kettle");
        let tagged = read("vendor/kettle:1.*");
        assert!(tagged.has_image(Some("1.9"), &digest));
        assert!(!tagged.has_image(Some("2.0"), &digest));
        assert!(!tagged.has_image(None, &digest));
        let short = &digest.hex()[..12];
        for text in [format!("vendor/kettle@{short}"), format!("vendor/kettle:2@{digest}")] {
            assert!(read(&text).has_image(None, &digest), "{text}");
            assert!(!read(&text).has_image(None, &Digest::of(b"other")), "{text}");
        }
        assert!(read("vendor/kettle").has_image(None, &digest));
    }

    #[test]
    fn what_is_neither_a_name_nor_a_pattern_is_refused() {
        for text in
            ["", "Vendor/kettle", "vendor/[", "vendor/kettle:[", "vendor/kettle@12", "vendor/*:"]
        {
            assert!(text.parse::<HeldPattern>().is_err(), "{text}");
        }
    }
}
