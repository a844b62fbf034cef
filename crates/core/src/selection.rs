//! Which of an upstream's tags are wanted?

use crate::name::Tag;
use crate::pattern::Pattern;

/// What an intake entry says of the tags that it wants.
#[derive(Debug, Clone, PartialEq)]
pub enum Tags {
    /// These, whether or not the upstream lists them.
    Exact(Vec<Tag>),
    /// Those that the upstream lists and that match.
    Match(Pattern),
}

impl Tags {
    /// Whether the upstream's list of tags is needed to decide.
    pub fn need_listing(&self) -> bool {
        matches!(self, Self::Match(_))
    }

    /// The wanted tags, sorted, each once. `listed` is what the upstream has; it is not looked at
    /// for [`Tags::Exact`].
    pub fn select(&self, listed: &[Tag]) -> Vec<Tag> {
        let mut wanted: Vec<Tag> = match self {
            Self::Exact(tags) => tags.clone(),
            Self::Match(pattern) => {
                listed.iter().filter(|tag| pattern.matches(tag.as_str())).cloned().collect()
            }
        };
        wanted.sort();
        wanted.dedup();
        wanted
    }

    /// Whether this tag is wanted, should the upstream have it.
    pub fn want(&self, tag: &Tag) -> bool {
        match self {
            Self::Exact(tags) => tags.contains(tag),
            Self::Match(pattern) => pattern.matches(tag.as_str()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tags(list: &[&str]) -> Vec<Tag> {
        list.iter().map(|tag| tag.parse().unwrap()).collect()
    }

    #[test]
    fn exact_tags_need_no_listing_and_patterns_take_what_is_listed() {
        let exact = Tags::Exact(tags(&["2", "1", "2"]));
        assert!(!exact.need_listing());
        assert_eq!(exact.select(&[]), tags(&["1", "2"]));
        let pattern = Tags::Match("1.*".parse().unwrap());
        assert!(pattern.need_listing());
        assert_eq!(
            pattern.select(&tags(&["2.0", "1.9.2", "1.8", "1.9.2"])),
            tags(&["1.8", "1.9.2"])
        );
        assert!(pattern.want(&tags(&["1.7"])[0]) && !pattern.want(&tags(&["x"])[0]));
    }
}
