//! May this image run there? Classes say where it comes from, in the operator's words; rules say what
//! follows from it.

mod classes;
mod court;
mod rules;

pub use classes::Classes;
pub use court::{Case, Court, Elsewhere, ImageName, Judgement, RuleAnswer, Ruling};
pub use rules::{
    Asks, Fact, ImageFacts, Lack, PolicyRule, RuleDecision, RuleQuestion, Rules, Verdict,
};
