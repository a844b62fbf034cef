//! Which tags of a shelf never move once they are set?

use crate::companion::is_made_from_digest;
use crate::name::{RepositoryName, Tag};
use crate::pattern::Pattern;

/// The tags of one shelf that do not move, and the exceptions. Patterns are over `TAG` and `REPOSITORY:TAG`, the
/// repository without its shelf.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ImmutableTags {
    pub immutable: Vec<Pattern>,
    /// Those that may move all the same.
    pub movable: Vec<Pattern>,
}

impl ImmutableTags {
    /// Whether a tag of a repository stays where it was set first. Lists of referrers that clients keep under a tag grow,
    /// whatever is written.
    ///
    /// ```
    /// use larder_core::immutable::ImmutableTags;
    ///
    /// let all = ImmutableTags { immutable: vec!["*".parse().unwrap()], movable: vec!["board:edge".parse().unwrap()] };
    /// let holds = |tag: &str| all.holds(&"own/board".parse().unwrap(), &tag.parse().unwrap());
    /// assert!(holds("1.0") && !holds("edge"));
    /// ```
    pub fn holds(&self, repository: &RepositoryName, tag: &Tag) -> bool {
        let path = repository.as_str().split_once('/').map_or("", |(_, path)| path);
        let named = format!("{path}:{tag}");
        let any = |patterns: &[Pattern]| {
            patterns.iter().any(|one| one.matches(tag.as_str()) || one.matches(&named))
        };
        any(&self.immutable) && !any(&self.movable) && !is_made_from_digest(tag)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_are_named_alone_or_with_their_repository() {
        let patterns = |all: &[&str]| all.iter().map(|text| text.parse().unwrap()).collect();
        let tags = ImmutableTags {
            immutable: patterns(&["v*", "gauges/*:*"]),
            movable: patterns(&["vnext", "gauges/steam:nightly-*"]),
        };
        let holds =
            |name: &str, tag: &str| tags.holds(&name.parse().unwrap(), &tag.parse().unwrap());
        assert!(holds("own/board", "v1"));
        assert!(!holds("own/board", "latest"));
        assert!(!holds("own/board", "vnext"));
        assert!(holds("own/gauges/steam", "latest"));
        assert!(!holds("own/gauges/steam", "nightly-3"));
        let list = format!("sha256-{}", "a".repeat(64));
        assert!(!holds("own/gauges/steam", &list), "a list of referrers grows");
        assert!(!ImmutableTags::default().holds(&"own/a".parse().unwrap(), &"1".parse().unwrap()));
    }
}
