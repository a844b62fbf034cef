//! The built program on files in a temporary folder, against stand-ins on real sockets.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used)]

mod configuration;
mod copy;
mod demo;
mod house;
mod intake;
mod look;
mod remotes;
mod rewrite;
mod serve;
mod survey;
