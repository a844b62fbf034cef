//! The built program on files in a temporary folder, against stand-ins on real sockets.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used)]
// The form in which snapshots are written and kept up to date.
#![allow(clippy::needless_raw_string_hashes)]

mod access;
mod behind;
mod cached;
mod cachefaults;
mod cachekeeping;
mod causes;
mod companions;
mod configuration;
mod copy;
mod demo;
mod dialects;
mod documents;
mod door;
mod endure;
mod faults;
mod handoff;
mod held;
mod house;
mod intake;
mod kill;
mod kubeconfigs;
mod large;
mod limits;
mod look;
mod node;
mod nodes;
mod numbered;
mod options;
mod ownname;
mod parcel;
mod passing;
mod places;
mod policies;
mod refusals;
mod reload;
mod remotes;
mod renewal;
mod rewrite;
mod rewriting;
mod security;
mod serve;
mod serving;
mod shelves;
mod store;
mod stub;
mod survey;
mod trust;
