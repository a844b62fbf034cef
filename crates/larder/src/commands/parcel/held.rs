//! Images that this larder holds, whoever brought them, on their way into a parcel.

use std::collections::BTreeMap;

use larder_core::companion::is_made_from_digest;
use larder_core::document::Document;
use larder_core::holdings::HeldImages;
use larder_core::name::{RepositoryName, Tag};
use larder_core::parcel::{ParcelCompanion, ParcelImage};
use larder_core::platform::Platforms;
use larder_core::reference::{Image, Selector};
use larder_store::Store;
use larder_transfer::{Outline, Own, Source, TransferError, belonging};

use super::pack::PackedImage;
use crate::commands::{NamedRepositories, named_images};
use crate::config::Config;
use crate::failure::{Exit, Failure};

/// Looks into all images that the names mean.
pub(super) async fn look_into(
    names: &[String],
    config: &Config,
    store: &Store,
) -> Result<Vec<Result<PackedImage, Failure>>, Failure> {
    let what = "cannot pack what is held";
    let mut all: BTreeMap<(RepositoryName, Tag), Result<PackedImage, Failure>> = BTreeMap::new();
    for text in names {
        let pattern = named_images(text, config, what)?;
        if matches!(pattern.images(), HeldImages::Manifest(_)) {
            let cause = format!("{text} names a digest, and what crosses has a tag");
            return Err(Failure::usage(what, cause, "name one of its tags"));
        }
        let before = all.len();
        let mut pages =
            NamedRepositories::new(store, &pattern, *pattern.images() == HeldImages::All);
        while let Some(page) = pages.next().await? {
            for name in page {
                let tags = store.tags(&name, None, usize::MAX).await;
                let tags = tags.map_err(|error| Failure::store(what, &error))?.unwrap_or_default();
                for tag in tags {
                    let wanted = match pattern.images() {
                        HeldImages::Tags(tags) => tags.matches(tag.as_str()),
                        _ => true,
                    };
                    // What is made from the digest of an image goes with it.
                    if !wanted || is_made_from_digest(&tag) {
                        continue;
                    }
                    let image = one(&name, &tag, config, store).await;
                    all.insert((name.clone(), tag), image);
                }
            }
        }
        if all.len() == before {
            let cause = format!("the larder holds nothing under {text}");
            let remedy = "`larder shelf list` shows what there is";
            return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
        }
    }
    Ok(all.into_values().collect())
}

async fn one(
    name: &RepositoryName,
    tag: &Tag,
    config: &Config,
    store: &Store,
) -> Result<PackedImage, Failure> {
    let failed =
        |error: TransferError| Failure::transfer(format!("cannot pack {name}:{tag}"), &error);
    let source = Own::new(store.clone(), name.clone());
    let (digest, top) = source.manifest(&Selector::Tag(tag.clone())).await.map_err(failed)?;
    // What the index lists and is not here stays away.
    let mut absent = Vec::new();
    for child in top.children() {
        let selector = Selector::Digest(child.digest.clone());
        let here = store.manifest_record(name, &selector).await;
        if here.map_err(|error| failed(error.into()))?.is_none() {
            absent.push(child.digest.clone());
        }
    }
    let mut needs = BTreeMap::new();
    let mut add = |document: &Document, digest: &larder_core::digest::Digest| {
        needs.insert(digest.clone(), document.bytes.len() as u64);
        needs.extend(document.blobs().map(|blob| (blob.digest.clone(), blob.size)));
    };
    add(&top, &digest);
    let here = top.children().iter().map(|child| child.digest.clone());
    let here: Vec<_> = here.filter(|child| !absent.contains(child)).collect();
    for child in &here {
        let outline = Outline::of(&source, child, &Platforms::All, None).await.map_err(failed)?;
        outline.documents.iter().for_each(|(digest, document)| add(document, digest));
    }
    let about = std::iter::once(digest.clone()).chain(here).collect();
    let mut belongs = Vec::new();
    for (digest, companion) in belonging(&source, about).await.map_err(failed)? {
        let outline = Outline::of(&source, &digest, &Platforms::All, None).await.map_err(failed)?;
        let document = outline.documents.last().map(|(_, document)| document);
        belongs.push(ParcelCompanion {
            media_type: document.map(|one| one.media_type.clone()).unwrap_or_default(),
            size: document.map_or(0, |one| one.bytes.len() as u64),
            digest,
            kind: companion.kind,
            tag: companion.tag,
        });
        outline.documents.iter().for_each(|(digest, document)| add(document, digest));
    }
    let image = ParcelImage {
        to: name.clone(),
        tag: tag.clone(),
        image: Image { host: config.larder.url.host.clone(), repository: name.clone() },
        media_type: top.media_type.clone(),
        size: top.bytes.len() as u64,
        digest,
        absent,
        companions: belongs,
    };
    Ok(PackedImage { source: Box::new(source), image, needs })
}
