//! Does a name match a pattern? Globs over names whose parts are separated by `/`: `*` is one
//! part or a piece of it, `**` any number of parts.

use std::fmt;
use std::str::FromStr;

use globset::{Glob, GlobBuilder, GlobMatcher, GlobSet, GlobSetBuilder};

/// One pattern, compiled.
///
/// ```
/// use larder_core::pattern::Pattern;
///
/// let pattern: Pattern = "vendor/**".parse().unwrap();
/// assert!(pattern.matches("vendor/gauges/steamgauge"));
/// assert!(!pattern.matches("other/steamgauge"));
/// ```
#[derive(Clone)]
pub struct Pattern {
    text: Box<str>,
    matcher: GlobMatcher,
}

/// Why a text is no pattern.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a pattern: {reason}")]
pub struct PatternError {
    text: String,
    reason: String,
}

fn compile(text: &str) -> Result<Glob, PatternError> {
    let wrong = |reason: String| PatternError { text: text.to_owned(), reason };
    if text.is_empty() || text.len() > 512 {
        return Err(wrong("it has no characters, or more than 512".into()));
    }
    GlobBuilder::new(text)
        .literal_separator(true)
        .build()
        .map_err(|error| wrong(error.kind().to_string()))
}

impl Pattern {
    /// The pattern as written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The same as a regular expression over the whole name, without flags.
    pub fn regex(&self) -> String {
        let regex = self.matcher.glob().regex();
        regex.find('^').map_or(regex, |begins| &regex[begins..]).to_owned()
    }

    /// Whether the whole name matches.
    pub fn matches(&self, name: &str) -> bool {
        self.matcher.is_match(name)
    }
}

impl FromStr for Pattern {
    type Err = PatternError;

    fn from_str(text: &str) -> Result<Self, PatternError> {
        Ok(Self { text: text.into(), matcher: compile(text)?.compile_matcher() })
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl fmt::Debug for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Eq for Pattern {}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

crate::name::serde_as_text!(Pattern);

/// Several patterns that are tried at once.
#[derive(Debug, Clone)]
pub struct PatternSet {
    set: GlobSet,
}

impl Default for PatternSet {
    /// No pattern.
    fn default() -> Self {
        Self { set: GlobSet::empty() }
    }
}

impl PatternSet {
    /// Compiles the patterns together. The order is kept: it is what [`PatternSet::first_match`]
    /// speaks of.
    pub fn new<'p>(patterns: impl IntoIterator<Item = &'p Pattern>) -> Result<Self, PatternError> {
        let mut builder = GlobSetBuilder::new();
        let mut last = String::new();
        for pattern in patterns {
            builder.add(compile(&pattern.text)?);
            last.clone_from(&pattern.text.to_string());
        }
        let set = builder
            .build()
            .map_err(|error| PatternError { text: last, reason: error.kind().to_string() })?;
        Ok(Self { set })
    }

    /// The positions of all patterns that match, in order.
    pub fn matches(&self, name: &str) -> Vec<usize> {
        self.set.matches(name)
    }

    /// The position of the first pattern that matches. None: no pattern does.
    pub fn first_match(&self, name: &str) -> Option<usize> {
        self.set.matches(name).first().copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_star_is_one_part_and_two_are_any() {
        let pattern = |text: &str| text.parse::<Pattern>().unwrap();
        assert!(pattern("library/*").matches("library/kettle"));
        assert!(!pattern("library/*").matches("library/a/b"));
        assert!(pattern("vendor/**").matches("vendor/a/b"));
        assert!(pattern("ventworks.example/**").matches("ventworks.example/gauges/steamgauge"));
        assert!(!pattern("vendor/**").matches("vendors/a"));
        assert!(pattern("1.*").matches("1.9.2"));
        assert!("a[".parse::<Pattern>().unwrap_err().to_string().contains("`a[`"));
    }

    #[test]
    fn the_first_match_is_told() {
        let list: Vec<Pattern> = ["a/**", "*/b"].iter().map(|t| t.parse().unwrap()).collect();
        let set = PatternSet::new(&list).unwrap();
        assert_eq!(set.first_match("a/b"), Some(0));
        assert_eq!(set.first_match("c/b"), Some(1));
        assert_eq!(set.first_match("c"), None);
    }
}
