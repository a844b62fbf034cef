//! Bills of materials in open forms: written from our own reading of an image, and read where others made one (SPDX 2.3;
//! CycloneDX 1.6).

mod compare;
mod read;
mod write;

pub use compare::{SbomDifference, differences};
pub use read::{LARGEST, ListedPackage, MalformedSbom, Sbom, SbomForm, read_sbom};
pub use write::{SbomSubject, cyclonedx, spdx};
