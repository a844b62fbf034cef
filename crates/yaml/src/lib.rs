//! YAML and JSON as trees whose nodes know their bytes, so that an edit changes these bytes and no other.
//!
//! * [`parse`](mod@parse) - texts become trees: YAML by the parser, JSON by its own stricter and quicker reading
//! * [`position`] - lines and columns
//! * [`quick`] - plain YAML, eight times as quick as by the parser and the same
//! * [`tree`] - the nodes, what they hold and the way to them

mod parse;
mod position;
mod quick;
#[cfg(test)]
mod tests;
mod tree;

pub use granit_parser::ScalarStyle;
pub use parse::{
    ParseError, STOPPED, TextForm, decode, documents, is_stopped, parse, parse_as, parse_json,
};
pub use position::Position;
pub use tree::{
    NODE_LIMIT, Node, NodeId, NodeKind, SaidPart, Sayings, Tree, TreeStep, VisitedNodes,
};

/// For `fuzz/`: whether a text is read the quick way, which must be as the parser reads it.
#[cfg(fuzzing)]
pub fn is_quick(text: &str) -> bool {
    let Some(quick) = quick::parse(text) else { return false };
    assert_eq!(parse::by_parser(text).as_ref(), Ok(&quick));
    true
}
