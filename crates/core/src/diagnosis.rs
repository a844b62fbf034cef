//! Why does a pull fail? From what is known to what is wrong, and what to do.
//!
//! [`diagnose`] is a function of the [`Evidence`] alone. What is not known is said to be unknown, and
//! then the answer is weaker: a confident cause rests on everything that could speak against it.

mod cause;
mod decide;
mod describe;
mod event;
mod evidence;
mod remedy;
#[cfg(test)]
mod tests;

pub use cause::{Cause, PullStep};
pub use decide::diagnose;
pub use event::{PullEvent, WordingFit, read_events, refusal};
pub use evidence::{
    ContentAccess, Credential, Evidence, HostOutcome, KeyState, NameEvidence, Nodes, Policy,
    Record, Secret, SecretFault, Through, Visit,
};
pub use remedy::{Blanks, Remedy};

/// How sure it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Confidence {
    /// It fits what is known; other causes fit as well.
    Possible,
    /// It fits best; something that could speak against it is not known.
    Likely,
    /// Nothing that is known or unknown speaks against it.
    Certain,
}

impl Confidence {
    /// Its word, for people and in JSON.
    pub fn word(self) -> &'static str {
        match self {
            Self::Possible => "possible",
            Self::Likely => "likely",
            Self::Certain => "certain",
        }
    }
}

/// What comes of the evidence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PullVerdict {
    /// The pull would succeed. What is not as it should be all the same.
    Succeeds(Vec<Diagnosis>),
    /// It fails, and why.
    Fails(Diagnosis),
    /// It cannot be told, and what is missing to tell it.
    Undecided(Vec<String>),
}

/// A cause that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnosis {
    pub cause: Cause,
    /// How sure it is.
    pub confidence: Confidence,
    /// What is so, in a sentence with its names.
    pub told: String,
    /// The steps that hold: the fault is not there.
    pub ruled_out: Vec<PullStep>,
    /// What to do, the likeliest first.
    pub remedies: Vec<Remedy>,
    /// Causes of which runtimes say the very same, where nothing else is known.
    pub or: Vec<Cause>,
}
