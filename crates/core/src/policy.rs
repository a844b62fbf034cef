//! May this image run there? Classes say where it comes from, in the operator's words; rules say what
//! follows from it.

mod classes;
mod court;
mod facts;
mod inside;
mod rules;
mod signed;

pub use classes::Classes;
pub use court::{Case, Court, Elsewhere, ImageName, Judgement, RuleAnswer, Ruling, TrustKept};
pub use facts::{Fact, FactsWish, ImageFacts};
pub use inside::{
    AdvisoryException, AdvisoryLimit, InsideAnswer, InsideAsks, InsideFacts, InsideGap, InsideLack,
    InsideWish, MalformedLimit, TouchingAdvisory, answer,
};
pub use rules::{
    Asks, Lack, PolicyRule, RuleDecision, RuleQuestion, Rules, Spared, Verdict, WhatRuns,
};
pub use signed::{SignatureFacts, SignatureShort, SignatureWish};
