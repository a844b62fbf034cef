//! What several commands take as options: `--only` and `--skip`, and spans that were numbers of seconds.

use larder_core::pattern::Pattern;
use larder_core::quantity::Span;
use larder_core::reference::Image;

/// Patterns of images.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct Pick {
    /// Only images that match, as HOST/REPOSITORY with `*` and `**` (again for more)
    #[arg(long, value_name = "PATTERN")]
    pub only: Vec<Pattern>,
    /// Not those that match (again for more)
    #[arg(long, value_name = "PATTERN")]
    pub skip: Vec<Pattern>,
}

impl Pick {
    /// Whether all images are meant.
    pub fn is_everything(&self) -> bool {
        self.only.is_empty() && self.skip.is_empty()
    }

    /// Whether an image is meant.
    pub fn takes(&self, image: &Image) -> bool {
        self.takes_name(&image.to_string())
    }

    /// The same for its HOST/REPOSITORY.
    pub fn takes_name(&self, name: &str) -> bool {
        let any = |patterns: &[Pattern]| patterns.iter().any(|one| one.matches(name));
        (self.only.is_empty() || any(&self.only)) && !any(&self.skip)
    }
}

/// A span; a number alone is one of seconds, as it was before spans were written with their unit.
pub fn seconds(text: &str) -> Result<Span, String> {
    match text.parse::<u32>() {
        Ok(seconds) => Ok(Span(std::time::Duration::from_secs(seconds.into()))),
        Err(_) => text.parse().map_err(|error: larder_core::quantity::SpanError| error.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_skipped_is_not_taken_even_if_it_is_among_the_only_ones() {
        let pattern = |text: &str| vec![text.parse().unwrap()];
        let pick = Pick { only: pattern("bazaar.example/**"), skip: pattern("**/kettle") };
        assert!(pick.takes_name("bazaar.example/library/ashlog"));
        assert!(!pick.takes_name("bazaar.example/library/kettle"));
        assert!(!pick.takes_name("ventworks.example/gauges/steamgauge"));
        assert!(Pick::default().is_everything() && Pick::default().takes_name("x"));
    }
}
