//! What does a cached shelf serve, how long does it believe it, and what may go?
//!
//! Nothing here asks anybody: facts and the time come in, verdicts go out.

mod belief;
mod circuit;
mod habits;
mod keeping;
mod reach;

pub use belief::{Belief, BeliefTrust, Terms};
pub use circuit::{Circuit, CircuitTrouble, Condition};
pub use habits::Habits;
pub use keeping::{EvictReason, Eviction, KeepingRule, KeptCandidate};
pub use reach::{OutOfReach, ShelfReach};
