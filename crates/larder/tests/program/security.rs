//! What attackers and faults must not bring about: each attack of `docs/security.md`, through the program.

mod bounds;
mod claims;
mod door;
mod expiry;
mod files;
mod front;
mod possession;
mod publish;
mod secrets;
mod shares;
mod terminal;
mod writers;
