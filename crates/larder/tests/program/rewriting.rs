//! `larder rewrite --write` over files that are made by chance, and over every shape that once came out wrong. What a
//! file pulls before and after is told by evaluators that share nothing with the program.
//!
//! `LARDER_FILES=20000` makes more of them.

// Counts are shown with `--nocapture`.
#![allow(clippy::print_stdout)]

mod asked;
mod build;
mod cases;
mod compose;
mod overlays;
mod values;
mod yard;
