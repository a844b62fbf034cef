//! Before what a parcel brings gets its tags: the rules of this side, by the signers that are trusted here.

use std::sync::Arc;

use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::parcel::ParcelImage;
use larder_core::policy::{Court, ImageName};
use larder_core::reference::{Image, Selector};
use larder_store::Store;
use larder_transfer::Source;
use larder_transfer::parcel::{Parcel, ParcelSource};

use super::elsewhere::FarRegistry;
use crate::config::Config;
use crate::context::{own, read_lock};
use crate::failure::Failure;
use crate::signatures::{JudgedImage, SignatureGate};

/// What images have to pass.
pub(super) struct ParcelGate {
    court: Court,
}

/// An image that is about to be unpacked.
#[derive(Clone, Copy)]
pub(super) struct Arriving<'a> {
    pub to: &'a RepositoryName,
    pub tag: &'a Tag,
    pub digest: &'a Digest,
    /// Where it came from first, as whoever signed the parcel says. None: nobody does.
    pub image: Option<&'a Image>,
}

impl ParcelGate {
    /// By the rules of a configuration. None: none asks who signed an image.
    pub fn of(config: &Config) -> Result<Option<Self>, Failure> {
        let court = config.court(read_lock(config)?)?;
        Ok(court.rules.ask_signed(None).then_some(Self { court }))
    }

    /// Refuses an image that a rule refuses for who signed it.
    pub async fn check(&self, source: &dyn Source, of: Arriving<'_>) -> Result<(), Failure> {
        let what = format!("cannot unpack {}:{}", of.to, of.tag);
        let selector = Selector::Digest(of.digest.clone());
        let found = source.manifest(&selector).await;
        let found = found.map_err(|error| Failure::transfer(what.clone(), &error))?;
        let named = ImageName { tag: Some(of.tag), digest: Some(of.digest) };
        let here = self.court.repository(of.to, named);
        // What no entry of this side brings in is judged by where the parcel says that it comes from.
        let case = match of.image.filter(|_| here.own) {
            Some(image) => self.court.intake(image, named),
            None => here,
        };
        let judged = JudgedImage { case, found: &found, from: source, held: None };
        let gate = SignatureGate { court: &self.court, trust: &self.court.trust.trust };
        let facts = gate.facts(&judged).await?;
        let remedy = "the signers of this side decide: `larder check` shows them; change the rule, or have it signed where the parcel is made";
        gate.check(&judged, &facts, what, remedy)
    }

    /// The images of a parcel that are refused, each with the reason.
    pub async fn refused<'p>(
        &self,
        parcel: &'p Arc<Parcel>,
        store: &Store,
        elsewhere: Option<&FarRegistry>,
        config: &Config,
    ) -> Result<Vec<(&'p ParcelImage, Failure)>, Failure> {
        let mut refused = Vec::new();
        for image in &parcel.contents.images {
            let source = source_of(parcel, image, store, elsewhere, config)?;
            let arriving = Arriving {
                to: &image.to,
                tag: &image.tag,
                digest: &image.digest,
                image: Some(&image.image),
            };
            match self.check(&source, arriving).await {
                Ok(()) => {}
                Err(failure) if failure.exit == crate::failure::Exit::No => {
                    refused.push((image, failure));
                }
                Err(failure) => return Err(failure),
            }
        }
        Ok(refused)
    }
}

/// An image of a parcel as a source: what the parcel leaves out is read where it goes.
pub(super) fn source_of(
    parcel: &Arc<Parcel>,
    image: &ParcelImage,
    store: &Store,
    elsewhere: Option<&FarRegistry>,
    config: &Config,
) -> Result<ParcelSource, Failure> {
    let held: Box<dyn Source> = match elsewhere {
        Some(elsewhere) => Box::new(elsewhere.end(&image.to, config)?),
        None => Box::new(own(store.clone(), config, image.to.clone()).reading_all()),
    };
    Ok(ParcelSource { parcel: Arc::clone(parcel), held, companions: image.companions.clone() })
}
