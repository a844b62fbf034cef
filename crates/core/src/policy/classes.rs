//! Classes: images in the operator's words, named by patterns over `host/repository`.

use crate::pattern::{Pattern, PatternError, PatternSet};
use crate::reference::{Image, Reference};

/// The classes in the order of the configuration; the first that matches names an image's class.
#[derive(Debug, Clone, Default)]
pub struct Classes {
    names: Vec<Box<str>>,
    patterns: Vec<Pattern>,
    set: PatternSet,
}

/// By what is written; the rest is compiled from it.
impl PartialEq for Classes {
    fn eq(&self, other: &Self) -> bool {
        (&self.names, &self.patterns) == (&other.names, &other.patterns)
    }
}

impl Classes {
    /// Compiles `(class, patterns)` pairs.
    pub fn new<'c>(
        classes: impl IntoIterator<Item = (&'c str, &'c [Pattern])>,
    ) -> Result<Self, PatternError> {
        let flat: Vec<(&str, &Pattern)> = classes
            .into_iter()
            .flat_map(|(name, patterns)| patterns.iter().map(move |pattern| (name, pattern)))
            .collect();
        Ok(Self {
            names: flat.iter().map(|(name, _)| Box::from(*name)).collect(),
            patterns: flat.iter().map(|(_, pattern)| (*pattern).clone()).collect(),
            set: PatternSet::new(flat.iter().map(|(_, pattern)| *pattern))?,
        })
    }

    /// The image's class. None: no class names it.
    pub fn class_of(&self, reference: &Reference) -> Option<&str> {
        self.of(&reference.image())
    }

    /// The same for an image without tag and digest.
    pub fn of(&self, image: &Image) -> Option<&str> {
        self.set.first_match(&image.to_string()).map(|at| &*self.names[at])
    }

    /// The patterns in their order, each with its class.
    pub fn each(&self) -> impl Iterator<Item = (&str, &Pattern)> {
        self.names().zip(&self.patterns)
    }

    /// The names of all classes, some more than once.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(|name| &**name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reference::{Reference, Unqualified};

    #[test]
    fn the_first_class_that_matches_names_the_image() {
        let vetted: [Pattern; 1] = ["ventworks.example/**".parse().unwrap()];
        let rest: [Pattern; 1] = ["**".parse().unwrap()];
        let classes = Classes::new([("vetted", &vetted[..]), ("community", &rest[..])]).unwrap();
        let class = |text: &str| {
            let read = Reference::read(text, &Unqualified::default()).unwrap();
            classes.class_of(&read.reference).map(str::to_owned)
        };
        assert_eq!(class("ventworks.example/gauges/steamgauge:1").as_deref(), Some("vetted"));
        assert_eq!(class("bazaar.example/community/pipewatch").as_deref(), Some("community"));
    }
}
