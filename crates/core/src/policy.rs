//! May this image run there? Classes say where it comes from, in the operator's words; rules say what
//! follows from it.

mod classes;
mod rules;

pub use classes::Classes;
pub use rules::{Asked, Asks, Decided, Fact, Facts, Lack, Rule, Rules, Verdict};
