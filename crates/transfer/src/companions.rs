//! What belongs to an image, wherever the image is: its referrers, theirs, and so on.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::companion::{Companion, is_beside, kind, list_tag};
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::Tag;
use larder_core::reference::Selector;
use larder_core::signature::SIGNATURE_TAGS;

use super::{Source, TransferError};

/// The most companions that one image may have.
const LIMIT: usize = 1000;

/// A manifest as the companion that it is. None: it is not about `about`.
pub(super) fn companion(about: &Digest, document: &Document) -> Option<Companion> {
    let subject = document.subject.as_ref()?;
    (subject.digest == *about).then(|| Companion {
        about: about.clone(),
        kind: kind(document.artifact_type()),
        size: document.bytes.len() as u64,
        tag: None,
    })
}

/// Those of a layout's entries that are about a digest.
pub(super) async fn among(
    source: &dyn Source,
    entries: Vec<Digest>,
    about: &Digest,
) -> Result<Vec<(Digest, Companion)>, TransferError> {
    let mut found = Vec::new();
    for digest in entries {
        let (digest, document) = source.manifest(&Selector::Digest(digest)).await?;
        found.extend(companion(about, &document).map(|companion| (digest, companion)));
    }
    Ok(found)
}

/// The companions of some manifests, the companions of these, and so on. `tags` are tags of the
/// repository: the older scheme names companions there.
pub async fn companions(
    source: &dyn Source,
    of: Vec<Digest>,
    tags: &[Tag],
) -> Result<BTreeMap<Digest, Companion>, TransferError> {
    let mut found = BTreeMap::new();
    let mut asked: BTreeSet<Digest> = BTreeSet::new();
    let mut open = of;
    while let Some(about) = open.pop() {
        if !asked.insert(about.clone()) {
            continue;
        }
        let mut new = source.companions(&about).await?;
        let list = list_tag(&about);
        for tag in tags.iter().filter(|tag| is_beside(tag, &list)) {
            let (digest, document) = source.manifest(&Selector::Tag(tag.clone())).await?;
            let companion = Companion {
                about: about.clone(),
                kind: kind(document.artifact_type()),
                size: document.bytes.len() as u64,
                tag: Some(tag.clone()),
            };
            new.push((digest, companion));
        }
        for (digest, companion) in new {
            open.push(digest.clone());
            found.entry(digest).or_insert(companion);
        }
        if found.len() > LIMIT {
            return Err(TransferError::TooManyCompanions(LIMIT));
        }
    }
    Ok(found)
}

/// The same with what lies under the tags of signatures, which are made from a digest: for places of which the tags are not
/// listed.
pub async fn belonging(
    source: &dyn Source,
    about: Vec<Digest>,
) -> Result<BTreeMap<Digest, Companion>, TransferError> {
    let mut tags = Vec::new();
    for digest in &about {
        for ending in SIGNATURE_TAGS {
            let Ok(tag) = format!("{}.{ending}", list_tag(digest)).parse::<Tag>() else { continue };
            match source.manifest(&Selector::Tag(tag.clone())).await {
                Ok(_) => tags.push(tag),
                Err(error) if error.is_missing() => {}
                Err(error) => return Err(error),
            }
        }
    }
    companions(source, about, &tags).await
}
