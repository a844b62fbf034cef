//! `larder inventory --sbom`: the packages of an image as a bill of materials in an open form.

use larder_core::sbom::{SbomSubject, cyclonedx, spdx};

use crate::context::{Context, now};
use crate::failure::{Exit, Outcome};
use crate::inventory::NamedInventory;
use crate::output::time;

/// The form of a bill of materials.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
    /// SPDX 2.3, as JSON.
    Spdx,
    /// CycloneDX 1.6, as JSON.
    Cyclonedx,
}

/// Writes the bill of materials of an image to stdout.
pub fn write(form: Form, named: &NamedInventory, context: &Context) -> Outcome {
    let layers: Vec<_> = named.read.layers.iter().map(|layer| layer.digest.clone()).collect();
    let subject = SbomSubject {
        reference: &named.reference,
        digest: &named.read.digest,
        layers: &layers,
        made_at: &time(now()),
        version: env!("CARGO_PKG_VERSION"),
    };
    let document = match form {
        Form::Spdx => spdx(&subject, &named.read.inventory),
        Form::Cyclonedx => cyclonedx(&subject, &named.read.inventory),
    };
    context.output.standard_document(&document);
    let unread = named.read.inventory.unread.len();
    if unread > 0 {
        let told = "note: not everything was read, so that packages may be missing";
        context.output.note(format!("{told}; `larder inventory` says what"));
    }
    Ok(Exit::Done)
}
