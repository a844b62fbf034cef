//! What Iron Larder computes and decides.
//!
//! Nothing here does I/O, waits, reads a clock or prints. Each module answers one question and
//! takes every fact that it needs as an argument, so that it can be tested on its own; the crates
//! above carry out what is decided here.

pub mod access;
pub mod allowance;
pub mod cached;
pub mod certificate;
pub mod companion;
pub mod diagnosis;
pub mod digest;
pub mod document;
pub mod door;
pub mod handoff;
pub mod holdings;
pub mod lock;
pub mod name;
pub mod nearest;
pub mod nodes;
pub mod objects;
pub mod parcel;
pub mod pattern;
pub mod platform;
pub mod policy;
pub mod reference;
pub mod retarget;
pub mod rewrite;
pub mod route;
pub mod selection;
pub mod shown;
pub mod signature;
