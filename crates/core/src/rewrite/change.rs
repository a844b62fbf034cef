//! What a rewrite changes in a file.

use std::ops::Range;

use larder_yaml::NodeId;

use super::slot::Slot;

/// One change of a file's bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// Another text in a slot.
    Put(Slot, String),
    /// Something that was not there.
    Add(Addition),
}

/// Something that is added to a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Addition {
    /// The bytes that it takes the place of: none, or those of a null.
    pub(super) span: Range<usize>,
    pub(super) written: String,
    /// The scalars that it adds, in their order.
    pub(super) says: Vec<String>,
    /// The nodes that it takes the place of, with all that they hold.
    pub(super) instead: Vec<NodeId>,
}
