//! What is known of how an image is.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::advisory::{Severity, matched};
use larder_core::digest::Digest;
use larder_core::document::{CONFIG_LIMIT, Document, ImageConfig, MANIFEST_LIMIT};
use larder_core::health::{HealthFacts, SystemRelease};
use larder_core::inventory::compose;
use larder_core::policy::{InsideGap, TouchingAdvisory};

use crate::error::StoreError;
use crate::inside::{gap_of, outcomes_of, system_of, told};
use crate::records::{NotedFinding, TouchingFinding};
use crate::store::Store;

/// How many different advisories of each severity touch an image, and of how many nobody can say.
pub fn counted(touching: &[TouchingAdvisory]) -> (BTreeMap<Severity, usize>, usize) {
    let mut sure: BTreeMap<&str, Severity> = BTreeMap::new();
    let mut doubted: BTreeSet<&str> = BTreeSet::new();
    for one in touching {
        let name = one.names.first().map_or("", String::as_str);
        match one.doubt {
            None => drop(sure.insert(name, one.severity)),
            Some(_) => drop(doubted.insert(name)),
        }
    }
    let mut counted = BTreeMap::new();
    for severity in sure.values() {
        *counted.entry(*severity).or_default() += 1;
    }
    let doubts = doubted.iter().filter(|name| !sure.contains_key(*name)).count();
    (counted, doubts)
}

/// The same of what was found, where nothing is hidden and nobody asks for other names.
fn plainly(found: Vec<TouchingFinding>) -> Vec<TouchingAdvisory> {
    let each = found.into_iter().filter_map(|one| {
        let (names, known_at) = (vec![one.name.clone()], one.known_at);
        told(one, names, known_at)
    });
    each.collect()
}

impl Store {
    /// What is known of how an image is that is not here, by what is known of its layers. What its documents say is not
    /// in it.
    pub async fn health_of_layers(
        &self,
        image: &Digest,
        layers: &[Digest],
    ) -> Result<HealthFacts, StoreError> {
        let known = self.layer_facts(layers).await?;
        let inventory = compose(&outcomes_of(layers, &known));
        let missing = layers.iter().filter(|layer| !known.contains_key(*layer)).count();
        let gap = match (missing, inventory.unread.len()) {
            (0, 0) => None,
            (0, parts) => {
                Some(InsideGap::Unreadable(format!("{parts} of its parts cannot be read")))
            }
            (layers, _) => Some(InsideGap::Unread(format!(
                "{layers} of its layers have not been read (`larder inventory` reads them)"
            ))),
        };
        let keys = matched(&inventory).into_iter().map(|(key, _)| key).collect();
        let found = self.findings_of(keys).await?.into_iter();
        let found = found.map(|(package, advisory, of, verdict)| TouchingFinding {
            finding: NotedFinding { image: image.clone(), advisory, package, layer: 0, verdict },
            severity: of.advisory.severity(),
            known_at: of.known_at,
            name: of.advisory.id,
        });
        let (advisories, doubts) = counted(&self.unhidden(found.collect()).await?);
        let system = system_of(inventory.release.as_ref());
        let is_known = !system.name.is_empty();
        let system = SystemRelease::new(&system.name, &system.release, &system.support_end);
        Ok(HealthFacts {
            advisories,
            doubts,
            gap,
            has_feeds: self.has_advisories().await?,
            systems: if is_known { vec![system] } else { Vec::new() },
            ..HealthFacts::default()
        })
    }

    /// What is known of how an image is, with all of its platforms that are here. None: it is not here, or it is no image.
    pub async fn health_facts(&self, digest: &Digest) -> Result<Option<HealthFacts>, StoreError> {
        let Some(document) = self.document_of(digest).await? else { return Ok(None) };
        let images = self.layers_of_images([digest.clone()]).await?.images;
        if images.is_empty() {
            return Ok(None);
        }
        self.note_images(&images).await?;
        let manifests: Vec<Digest> = images.keys().cloned().collect();
        let noted = self.noted(manifests.clone()).await?;
        let found = self.touching(manifests, None, true).await?;
        // Few larders have statements of their own: without, no advisory has to be read.
        let touching = match self.has_statements().await? {
            true => self.unhidden(found).await?,
            false => plainly(found),
        };
        let (advisories, doubts) = counted(&touching);
        let mut facts = HealthFacts {
            advisories,
            doubts,
            gap: gap_of(&noted),
            has_feeds: self.has_advisories().await?,
            unpinned_base: document.unpinned_base(),
            ..HealthFacts::default()
        };
        let systems: BTreeSet<_> = noted.into_iter().map(|(_, noted)| noted.system).collect();
        let systems = systems.iter().filter(|system| !system.name.is_empty());
        facts.systems = systems
            .map(|one| SystemRelease::new(&one.name, &one.release, &one.support_end))
            .collect();
        for image in images.keys() {
            let Some(document) = self.document_of(image).await? else { continue };
            let mut of =
                HealthFacts { unpinned_base: document.unpinned_base(), ..HealthFacts::default() };
            if let Some(config) = document.config()
                && config.size <= CONFIG_LIMIT as u64
                && self.size(&config.digest).await?.is_some()
            {
                let bytes = self.read_all(&config.digest, config.size).await?;
                if let Ok(config) = ImageConfig::read(&bytes) {
                    of.built = config.built();
                    of.runs_as_root = Some(config.run.is_root());
                }
            }
            facts.add(of);
        }
        Ok(Some(facts))
    }

    async fn document_of(&self, digest: &Digest) -> Result<Option<Document>, StoreError> {
        let size = self.size(digest).await?;
        let Some(size) = size.filter(|size| *size <= MANIFEST_LIMIT as u64) else {
            return Ok(None);
        };
        Ok(Document::read(self.read_all(digest, size).await?, None).ok())
    }
}
