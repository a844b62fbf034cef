//! Who signed what is held here: companions are read, and examined for rules that ask.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bytes::Bytes;
use larder_core::companion::{is_made_from_digest, list_tag, subject_of};
use larder_core::digest::Digest;
use larder_core::document::{Document, MANIFEST_LIMIT};
use larder_core::name::RepositoryName;
use larder_core::policy::{SignatureFacts, SignatureWish};
use larder_core::reference::Selector;
use larder_core::signature::{
    FoundBy, GatheredCompanion, Question, SIGNATURE_TAGS, Target, examine, layer_limit,
};

use crate::error::StoreError;
use crate::store::Store;

/// The most companions that are read, and the most bytes of all their layers.
const COMPANIONS: usize = 1000;
const BYTES: u64 = 64 * 1024 * 1024;

impl Store {
    /// What a companion is about, as far as that is held beside it; anything else is about itself. Companions are judged as
    /// what they are about, or nobody could read a signature under a rule that asks for one.
    pub(crate) async fn judged_as(
        &self,
        repository: &RepositoryName,
        (digest, document): (&Digest, &Document),
        by_tags: bool,
    ) -> Result<Option<(Digest, Document)>, StoreError> {
        // Whoever pushes an image can write into it that it is about one that is signed.
        if document.may_run() {
            return Ok(None);
        }
        let about = match &document.subject {
            Some(subject) => Some(subject.digest.clone()),
            None if !by_tags => None,
            None => {
                let homes = self.homes_of(vec![digest.clone()]).await?;
                let homes = homes.into_iter().flat_map(|(_, homes)| homes);
                let mut tags = homes.filter(|home| home.repository == *repository);
                tags.find_map(|home| {
                    is_made_from_digest(&home.tag).then(|| subject_of(&home.tag))?
                })
            }
        };
        match about {
            Some(about) => self.document(repository, &Selector::Digest(about)).await,
            None => Ok(None),
        }
    }

    /// Everything that was signed over an image, or over an index of the repository that lists it.
    pub(crate) async fn signature_facts(
        &self,
        repository: &RepositoryName,
        (digest, document): (&Digest, &Document),
        wish: SignatureWish<'_>,
        in_hand: BTreeMap<Digest, Bytes>,
    ) -> Result<SignatureFacts, StoreError> {
        let mut indexes: Vec<(Digest, Document)> = Vec::new();
        let listing = self.listing(repository, digest).await?;
        // What is withdrawn vouches for nothing.
        for index in listing.into_iter().filter(|index| !wish.trust.withdrawn.contains(index)) {
            let found = self.document(repository, &Selector::Digest(index)).await?;
            indexes.extend(found.filter(|(_, index)| index.lists_platform(digest)));
        }
        let about = std::iter::once(digest).chain(indexes.iter().map(|(index, _)| index));
        let gathered =
            self.gather_companions(repository, about.cloned().collect(), in_hand).await?;
        let is_withdrawn = wish.trust.withdrawn.contains(digest);
        let trust = Arc::clone(wish.trust);
        let names = [wish.image.to_string()];
        let tags: Vec<String> = wish.tag.iter().map(ToString::to_string).collect();
        let image = (digest.clone(), document.clone());
        let now = crate::clock::now().div_euclid(1000);
        let examined = tokio::task::spawn_blocking(move || {
            let targets: Vec<Target<'_>> = indexes
                .iter()
                .map(|(digest, document)| Target {
                    digest,
                    media_type: &document.media_type,
                    bytes: &document.bytes,
                })
                .collect();
            let question = Question {
                names: &names,
                tags: &tags,
                image: Target {
                    digest: &image.0,
                    media_type: &image.1.media_type,
                    bytes: &image.1.bytes,
                },
                indexes: &targets,
                now,
            };
            examine(&trust, &question, gathered.iter().map(GatheredCompanion::found))
        });
        let found = examined.await.map_err(|_| StoreError::Closed)?;
        Ok(SignatureFacts { found, is_withdrawn })
    }

    /// The manifests that may be signatures of these, each with what it is about: no more than anybody examines.
    pub async fn beside(
        &self,
        repository: &RepositoryName,
        about: &[Digest],
    ) -> Result<Vec<(Digest, Digest, FoundBy)>, StoreError> {
        let mut found: Vec<(Digest, Digest, FoundBy)> = Vec::new();
        for about in about {
            for one in self.referrers(repository, about, None, COMPANIONS).await? {
                found.push((one.manifest.digest, about.clone(), FoundBy::Reference));
            }
            for ending in SIGNATURE_TAGS {
                let Ok(tag) = format!("{}.{ending}", list_tag(about)).parse() else { continue };
                let beside = self.manifest_record(repository, &Selector::Tag(tag)).await?;
                found.extend(beside.map(|one| (one.digest, about.clone(), FoundBy::Tag)));
            }
        }
        found.truncate(COMPANIONS);
        Ok(found)
    }

    /// Reads what lies beside these manifests in a repository.
    async fn gather_companions(
        &self,
        repository: &RepositoryName,
        about: Vec<Digest>,
        in_hand: BTreeMap<Digest, Bytes>,
    ) -> Result<Vec<GatheredCompanion>, StoreError> {
        let (mut all, mut seen, mut left) = (Vec::new(), BTreeSet::new(), BYTES);
        for (digest, about, how) in self.beside(repository, &about).await? {
            if !seen.insert((digest.clone(), about.clone())) {
                continue;
            }
            let Some(document) = self.manifest_of(repository, &digest).await? else { continue };
            let mut layers = BTreeMap::new();
            for layer in document.blobs().skip(1) {
                let Some(limit) = layer_limit(&layer.media_type) else { continue };
                if layer.size > limit.min(left) {
                    continue;
                }
                let bytes = match in_hand.get(&layer.digest) {
                    Some(bytes) => bytes.clone(),
                    None => match self.blob(repository, &layer.digest).await? {
                        Some(size) if size == layer.size => {
                            self.read_all(&layer.digest, size).await?
                        }
                        Some(_) | None => continue,
                    },
                };
                left = left.saturating_sub(layer.size);
                layers.insert(layer.digest.clone(), bytes.to_vec());
            }
            let manifest: Bytes = document.bytes;
            all.push(GatheredCompanion { digest, about, how, manifest, layers });
        }
        Ok(all)
    }

    /// A manifest of a repository. None: it is not there, or cannot be read.
    async fn manifest_of(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<Document>, StoreError> {
        let found = self.document(repository, &Selector::Digest(digest.clone())).await?;
        let fits = |document: &Document| document.bytes.len() <= MANIFEST_LIMIT;
        Ok(found.map(|(_, document)| document).filter(fits))
    }
}
