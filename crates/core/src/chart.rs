//! Charts: read from their archives and from the index of a plain chart repository, and written as artifacts of a
//! registry.
//!
//! * [`fill`] - what its templates say with its own values
//! * [`index`](mod@index) - what a chart repository offers
//! * [`archive`] - a chart's files
//! * [`artifact`] - the same chart as a registry has it
//! * [`description`] - what it says of itself there
//! * `expression` - what an expression in a template says
//! * `wire` - the media types that the form needs

pub mod archive;
pub mod artifact;
pub mod description;
mod expression;
pub mod fill;
pub mod index;
mod wire;

pub use archive::{ChartArchive, ChartError};
pub use artifact::{ChartArtifact, chart_layer};
pub use description::ChartDescription;
pub use fill::{ChartHelpers, ChartScope};
pub use index::{ChartIndex, ChartVersion, SaidDigest};

use crate::name::Tag;

/// The tag of a chart's version: `+` stands in no tag, and `_` in no version (Semantic Versioning 2.0, section 10).
/// None: no tag can name it.
pub fn tag_of(version: &str) -> Option<Tag> {
    version.replace('+', "_").parse().ok()
}

/// The version of a chart by its tag.
pub fn version_of(tag: &str) -> String {
    tag.replace('_', "+")
}
