//! What Iron Larder computes and decides.
//!
//! Nothing here does I/O, waits, reads a clock or prints. Each module answers one question and
//! takes every fact that it needs as an argument, so that it can be tested on its own; the crates
//! above carry out what is decided here.
//!
//! * [`access`] - who asks and what it may do: grants, keys, tokens, blocks
//! * [`advisory`] - what was published about packages, and whether it is about one that we have
//! * [`allowance`] - how many more pulls an upstream allows
//! * [`cached`] - what a cached shelf believes, keeps and evicts
//! * [`certificate`] - what a certificate says of itself
//! * [`chart`] - charts, from repositories of their own and as artifacts
//! * [`companion`] - signatures, SBOMs and the like beside an image
//! * [`diagnosis`] - why a pull fails, from evidence to remedy
//! * [`digest`] - the names of bytes
//! * [`document`] - indexes, manifests and configurations over their original bytes
//! * [`door`] - admission reviews, read and answered
//! * [`handoff`] - what a cluster needs in order to pull
//! * [`holdings`] - what a larder holds, shares and could drop
//! * [`immutable`] - tags that never move
//! * [`inventory`] - what is inside an image, layer by layer
//! * [`lock`] - what intake entries resolved to, and what differs
//! * [`name`] - hosts, repositories and tags that cannot be wrong
//! * [`nearest`] - the name that was meant
//! * [`nodes`] - nodes' mirror configuration, read and written
//! * [`notice`] - events for others: what they are about, their form and signature, pauses between attempts
//! * [`objects`] - objects of a cluster's API as values
//! * [`parcel`] - the layout of parcels, receipts and their contents
//! * [`pattern`] - globs over names
//! * [`platform`] - platforms, and which image suits one
//! * [`policy`] - classes, rules, and the court that decides
//! * [`purl`] - what packages are called in SBOMs and advisories
//! * [`quantity`] - spans of time and sizes, as people write them
//! * [`quota`] - how much a shelf, a repository or an account may hold
//! * [`reference`](mod@reference) - the grammar of references
//! * [`retarget`] - what a reference in a deployment becomes
//! * [`retention`] - which images of a shelf go, and why the others stay
//! * [`rewrite`] - where files name images, and changing only that
//! * [`rounds`] - what needs a decision, worst first
//! * [`route`] - where an upstream's image is found here, and back
//! * [`sbom`] - bills of materials, written and read
//! * [`schedule`] - when something is due that is done each day or week
//! * [`selection`] - which tags are wanted, and why not the others
//! * [`shown`] - texts from outside, safe to print
//! * [`signature`] - who signed what: keys, envelopes of images' signatures, certificates, time stamps, log proofs
//! * [`trail`] - the record as signed files that follow each other
//! * [`version`] - the order of versions
//! * [`workload`] - which workload an object of a cluster belongs to

pub mod access;
pub mod advisory;
pub mod allowance;
pub mod cached;
pub mod certificate;
pub mod chart;
pub mod companion;
mod der;
pub mod diagnosis;
pub mod digest;
pub mod document;
pub mod door;
pub mod handoff;
pub mod health;
pub mod holdings;
pub mod immutable;
pub mod inventory;
pub mod lock;
pub mod name;
pub mod nearest;
pub mod nodes;
pub mod notice;
pub mod objects;
pub mod parcel;
pub mod pattern;
pub mod platform;
pub mod policy;
pub mod purl;
pub mod quantity;
pub mod quota;
pub mod reference;
pub mod retarget;
pub mod retention;
pub mod rewrite;
pub mod rounds;
pub mod route;
pub mod sbom;
pub mod schedule;
pub mod selection;
pub mod shown;
pub mod signature;
pub mod trail;
pub mod version;
pub mod workload;
