//! What of an upstream can be reached through a shelf?

use std::fmt;

use crate::name::RepositoryName;
use crate::pattern::{Pattern, PatternError, PatternSet};

/// The patterns of a cached shelf, over the upstream's repositories.
#[derive(Debug, Clone)]
pub struct ShelfReach {
    only: Vec<Pattern>,
    skip: Vec<Pattern>,
    compiled: (PatternSet, PatternSet),
}

/// Why a repository cannot be reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OutOfReach {
    /// No pattern of `only` matches; these are all of them.
    NotAmong(Vec<Pattern>),
    /// This pattern of `skip` matches.
    Skipped(Pattern),
}

impl fmt::Display for OutOfReach {
    /// The end of a sentence that begins with the shelf.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotAmong(only) => {
                let only: Vec<&str> = only.iter().map(Pattern::as_str).collect();
                write!(f, "reaches only {}", only.join(", "))
            }
            Self::Skipped(pattern) => write!(f, "leaves out {pattern}"),
        }
    }
}

/// By what is written; the rest is compiled from it.
impl PartialEq for ShelfReach {
    fn eq(&self, other: &Self) -> bool {
        (&self.only, &self.skip) == (&other.only, &other.skip)
    }
}

impl ShelfReach {
    /// With these patterns. `only` empty: everything that `skip` does not leave out.
    pub fn new(only: Vec<Pattern>, skip: Vec<Pattern>) -> Result<Self, PatternError> {
        let compiled = (PatternSet::new(&only)?, PatternSet::new(&skip)?);
        Ok(Self { only, skip, compiled })
    }

    /// Whether a repository of the upstream can be reached.
    pub fn check(&self, repository: &RepositoryName) -> Result<(), OutOfReach> {
        let (only, skip) = &self.compiled;
        if let Some(place) = skip.first_match(repository.as_str()) {
            return Err(OutOfReach::Skipped(self.skip[place].clone()));
        }
        if self.only.is_empty() || only.first_match(repository.as_str()).is_some() {
            return Ok(());
        }
        Err(OutOfReach::NotAmong(self.only.clone()))
    }

    /// The patterns of `only`.
    pub fn only(&self) -> &[Pattern] {
        &self.only
    }

    /// The patterns of `skip`.
    pub fn skip(&self) -> &[Pattern] {
        &self.skip
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn skip_wins_over_only_and_both_are_named() {
        let patterns = |list: &[&str]| list.iter().map(|text| text.parse().unwrap()).collect();
        let name = |text: &str| text.parse::<RepositoryName>().unwrap();
        let all = ShelfReach::new(Vec::new(), Vec::new()).unwrap();
        assert_eq!(all.check(&name("community/pipewatch")), Ok(()));
        let some = ShelfReach::new(patterns(&["library/**"]), patterns(&["library/old*"])).unwrap();
        assert_eq!(some.check(&name("library/kettle")), Ok(()));
        let outside = some.check(&name("community/pipewatch")).unwrap_err();
        assert_eq!(outside.to_string(), "reaches only library/**");
        let skipped = some.check(&name("library/oldkettle")).unwrap_err();
        assert_eq!(skipped.to_string(), "leaves out library/old*");
    }
}
