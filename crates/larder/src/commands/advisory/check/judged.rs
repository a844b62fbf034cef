//! Findings with what advisories and statements say of them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use larder_core::advisory::{PackageKey, PackageVerdict, Severity, matched, that_counts};
use larder_core::digest::Digest;
use larder_core::inventory::ImageInventory;
use larder_store::{FeedAdvisory, Store, StoreError};

use super::{CheckedImage, Finding, StatementSeen, Unknown};
use crate::inventory::kind;

/// A finding, or what is unknown, as an advisory says it of a package.
pub enum Judged {
    Finding(Box<Finding>),
    Unknown(Unknown),
    Nothing,
}

/// An advisory with what is told of it, found out once for all its findings.
pub struct RatedAdvisory {
    feed: Arc<str>,
    pub id: Arc<str>,
    aliases: Arc<[String]>,
    summary: Arc<str>,
    severity: Severity,
    score: Option<f64>,
}

impl RatedAdvisory {
    pub fn of(one: &FeedAdvisory) -> Self {
        let FeedAdvisory { feed, advisory, .. } = one;
        Self {
            feed: feed.as_str().into(),
            id: advisory.id.as_str().into(),
            aliases: advisory.names().into_iter().skip(1).map(str::to_owned).collect(),
            summary: larder_core::shown::cut(&advisory.summary, 300).into(),
            severity: advisory.severity(),
            score: advisory.vector().map(|(_, score)| score),
        }
    }

    /// What it says of a package in a layer, which is counted from 0.
    pub fn judged(&self, package: &PackageKey, verdict: PackageVerdict, layer: usize) -> Judged {
        let fixed = match verdict {
            PackageVerdict::NotAffected => return Judged::Nothing,
            PackageVerdict::Unknown(cause) => {
                return Judged::Unknown(Unknown {
                    advisory: self.id.to_string(),
                    kind: kind(package.ecosystem),
                    package: package.name.clone(),
                    version: package.version.clone(),
                    cause,
                });
            }
            PackageVerdict::Affected { fixed } => fixed,
        };
        Judged::Finding(Box::new(Finding {
            advisory: self.id.clone(),
            aliases: self.aliases.clone(),
            feed: self.feed.clone(),
            summary: self.summary.clone(),
            severity: self.severity.word(),
            score: self.score,
            kind: kind(package.ecosystem),
            package: package.name.clone(),
            version: package.version.clone(),
            installed: Vec::new(),
            fixed_version: Some(fixed).filter(|fixed| !fixed.is_empty()),
            layer: layer + 1,
            layer_digest: None,
            command: None,
            shared_count: 0,
            shared_with: Arc::default(),
            mended_by: Arc::default(),
            mended_upstream: Vec::new(),
            statement: None,
            rank: self.severity,
        }))
    }
}

/// The names by which packages that are built from what a finding names are in an image.
pub fn installed(finding: &Finding, inventory: &ImageInventory) -> Vec<String> {
    let names = matched(inventory).into_iter().filter_map(|(key, place)| {
        let is_it = kind(key.ecosystem) == finding.kind
            && key.name == finding.package
            && key.version == finding.version;
        is_it.then(|| inventory.packages[place].package.name.clone())
    });
    let names: BTreeSet<String> = names.collect();
    names.into_iter().collect()
}

/// One of several findings that are the same: advisories of several feeds, a package at many places.
pub fn once(findings: &mut Vec<Finding>) {
    let mut seen = BTreeSet::new();
    findings.retain(|one| {
        seen.insert((one.advisory.clone(), one.kind, one.package.clone(), one.version.clone()))
    });
}

/// Puts statements to the findings that they are about: of several the latest counts.
pub async fn states(images: &mut [CheckedImage], store: &Store) -> Result<(), StoreError> {
    if !store.has_statements().await? {
        return Ok(());
    }
    let names: BTreeSet<&str> = images
        .iter()
        .flat_map(|image| &image.findings)
        .flat_map(|one| one.aliases.iter().map(String::as_str).chain([&*one.advisory]))
        .collect();
    let names: BTreeSet<String> = names.into_iter().map(str::to_owned).collect();
    if names.is_empty() {
        return Ok(());
    }
    let statements = store.statements_about(names).await?;
    let mut by_name: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (place, (_, _, statement)) in statements.iter().enumerate() {
        for name in &statement.vulnerabilities {
            by_name.entry(name).or_default().push(place);
        }
    }
    for image in images {
        let digest = image.digest.parse::<Digest>().ok();
        let digests: Vec<&Digest> = digest.iter().collect();
        for finding in &mut image.findings {
            let places: BTreeSet<usize> = finding
                .aliases
                .iter()
                .map(String::as_str)
                .chain([&*finding.advisory])
                .filter_map(|name| by_name.get(name))
                .flatten()
                .copied()
                .collect();
            let Some(package) = key_of(finding) else { continue };
            let counts = that_counts(&statements, places, &package, &digests);
            finding.statement = counts.map(|place| {
                let (feed, is_own, statement) = &statements[place];
                StatementSeen {
                    status: statement.status.word(),
                    because: statement.because.clone(),
                    author: statement.author.clone(),
                    feed: feed.clone(),
                    at: statement.at.to_string(),
                    hides: *is_own && statement.status.hides(),
                }
            });
        }
    }
    Ok(())
}

fn key_of(finding: &Finding) -> Option<PackageKey> {
    let ecosystem = crate::inventory::ecosystem(finding.kind)?;
    let (name, version) = (finding.package.clone(), finding.version.clone());
    Some(PackageKey { ecosystem, name, release: String::new(), version })
}
