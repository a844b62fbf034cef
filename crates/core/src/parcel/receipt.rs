//! What a larder holds, as it tells another that makes parcels for it.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::digest::Digest;
use crate::name::{RepositoryName, Tag};

const VERSION: u32 = 1;

/// What a larder holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Receipt {
    /// The name of the larder.
    pub made_by: String,
    /// When, as RFC 3339 in UTC.
    pub made_at: String,
    /// Its images, sorted by repository and tag.
    pub images: Vec<HeldImage>,
    /// Its blobs, configurations and manifests.
    pub blobs: BTreeSet<Digest>,
}

/// A tag that a larder has.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HeldImage {
    /// The repository, shelf first.
    pub name: RepositoryName,
    pub tag: Tag,
    /// What it points to.
    pub digest: Digest,
}

/// Why a receipt cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReceiptError {
    /// Not the JSON that we write.
    #[error("it is no receipt: {0}")]
    Shape(String),
    /// Written by a later version.
    #[error("it is a receipt of version {0}; this program reads version {VERSION}")]
    Version(u64),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawReceipt {
    receipt: u64,
    made_by: String,
    made_at: String,
    images: Vec<HeldImage>,
    /// The hashes by their algorithm: ten thousand times `sha256:` tells nobody anything.
    blobs: BTreeMap<String, Vec<String>>,
}

impl Receipt {
    /// Reads one line of JSON.
    pub fn read(text: &str) -> Result<Self, ReceiptError> {
        let shape = |error: String| ReceiptError::Shape(error);
        let raw: RawReceipt =
            serde_json::from_str(text).map_err(|error| shape(error.to_string()))?;
        if raw.receipt != u64::from(VERSION) {
            return Err(ReceiptError::Version(raw.receipt));
        }
        if [&raw.made_by, &raw.made_at].iter().any(|text| text.chars().any(char::is_control)) {
            return Err(shape("who made it when is no plain text".into()));
        }
        let mut blobs = BTreeSet::new();
        for (algorithm, hashes) in raw.blobs {
            for hash in hashes {
                let digest = format!("{algorithm}:{hash}").parse();
                blobs.insert(
                    digest.map_err(|error: crate::digest::DigestError| shape(error.to_string()))?,
                );
            }
        }
        let RawReceipt { made_by, made_at, mut images, .. } = raw;
        images.sort();
        Ok(Self { made_by, made_at, images, blobs })
    }

    /// One line of JSON, the same for the same receipt.
    pub fn write(&self) -> String {
        let mut blobs: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for digest in &self.blobs {
            blobs.entry(digest.algorithm().name()).or_default().push(digest.hex());
        }
        json!({
            "receipt": VERSION, "made_by": self.made_by, "made_at": self.made_at,
            "images": self.images, "blobs": blobs,
        })
        .to_string()
    }

    /// What a tag points to there. None: there is no such tag.
    pub fn digest(&self, name: &RepositoryName, tag: &Tag) -> Option<&Digest> {
        let at = self.images.binary_search_by(|held| (&held.name, &held.tag).cmp(&(name, tag)));
        at.ok().map(|at| &self.images[at].digest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_receipt_reads_back_as_it_was_written() {
        let held = |name: &str, tag: &str| HeldImage {
            name: name.parse().unwrap(),
            tag: tag.parse().unwrap(),
            digest: Digest::of(tag.as_bytes()),
        };
        let receipt = Receipt {
            made_by: "turbine-hall".into(),
            made_at: "2026-02-03T04:05:06Z".into(),
            images: vec![held("vendor/ashlog", "1.4"), held("vendor/kettle", "2")],
            blobs: (0..50).map(|n: u32| Digest::of(&n.to_le_bytes())).collect(),
        };
        let text = receipt.write();
        assert_eq!(Receipt::read(&text).unwrap(), receipt);
        let tag = "2".parse().unwrap();
        let found = receipt.digest(&"vendor/kettle".parse().unwrap(), &tag);
        assert_eq!(found, Some(&Digest::of(b"2")));
        assert_eq!(receipt.digest(&"vendor/ashlog".parse().unwrap(), &tag), None);
        assert!(matches!(
            Receipt::read(&text.replace("\"receipt\":1", "\"receipt\":9")),
            Err(ReceiptError::Version(9))
        ));
        let climbing = text.replacen("\"sha256\":[\"", "\"sha256\":[\"../", 1);
        assert!(matches!(Receipt::read(&climbing), Err(ReceiptError::Shape(_))));
    }
}
