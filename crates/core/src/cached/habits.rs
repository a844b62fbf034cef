//! All that is said of one cached shelf.

use std::time::Duration;

use super::belief::Terms;
use super::keeping::KeepingRule;
use super::reach::ShelfReach;
use crate::platform::Platform;

/// How a cached shelf behaves.
#[derive(Debug, Clone, PartialEq)]
pub struct Habits {
    /// What of the upstream can be reached through it.
    pub reach: ShelfReach,
    /// How long it believes.
    pub terms: Terms,
    /// How long anybody waits for the upstream where an older answer may be served.
    pub patience: Duration,
    /// How long it keeps.
    pub keeping: KeepingRule,
    /// Bytes that it may take. None: no limit of its own.
    pub limit: Option<u64>,
    /// Platforms that are fetched ahead when an index is first pulled. Empty: none.
    pub platforms: Vec<Platform>,
    /// Whether signatures, SBOMs and the like are fetched ahead too.
    pub companions: bool,
}
