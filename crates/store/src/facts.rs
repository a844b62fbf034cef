//! What the store tells of an image, for rules that ask.

use std::collections::BTreeMap;

use bytes::Bytes;
use larder_core::companion;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, ImageConfig, MANIFEST_LIMIT};
use larder_core::name::RepositoryName;
use larder_core::platform::Platform;
use larder_core::policy::{Fact, FactsWish, ImageFacts};
use larder_core::reference::Selector;

use crate::error::StoreError;
use crate::ledger::HeldSince;
use crate::store::Store;

/// Referrers that are looked at for a signature.
const REFERRERS: usize = 100;

impl Store {
    /// What is known of an image's content, and what of it is wished for. What the repository does not hold is unknown.
    pub async fn facts(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        wish: FactsWish<'_>,
    ) -> Result<ImageFacts, StoreError> {
        self.facts_with(repository, selector, wish, BTreeMap::new()).await
    }

    /// The same, with contents of companions that were just fetched, and may not be in the store yet.
    pub async fn facts_with(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        wish: FactsWish<'_>,
        in_hand: BTreeMap<Digest, Bytes>,
    ) -> Result<ImageFacts, StoreError> {
        let Some((digest, document)) = self.document(repository, selector).await? else {
            return Ok(ImageFacts::UNKNOWN);
        };
        let by_tags = wish.signatures.is_some();
        let judged = self.judged_as(repository, (&digest, &document), by_tags).await?;
        let about =
            judged.as_ref().map_or((&digest, &document), |(digest, document)| (digest, document));
        let mut facts = self.outer_facts(repository, (&digest, &document)).await?;
        if judged.is_some() {
            facts.signed = self.outer_facts(repository, about).await?.signed;
        }
        if let Some(mut wish) = wish.signatures {
            // The tag of a signature is none that the image was signed under.
            wish.tag = wish.tag.filter(|_| judged.is_none());
            facts.signatures =
                Fact::Is(self.signature_facts(repository, about, wish, in_hand).await?);
        }
        if let Some(wish) = wish.inside {
            facts.inside = Fact::Is(self.inside(&digest, &document, wish).await?);
        }
        if let Some((cluster, since)) = wish.runs {
            let runs = self.runs(repository, (&digest, &document), cluster, since).await?;
            facts.runs = Fact::Is(runs);
        }
        Ok(facts)
    }

    /// Whether a cluster was seen since then, in milliseconds since 1970, to use what a tag or digest stands for.
    pub async fn is_running(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        cluster: &str,
        since: i64,
    ) -> Result<bool, StoreError> {
        match self.document(repository, selector).await? {
            Some((digest, document)) => {
                self.runs(repository, (&digest, &document), cluster, since).await
            }
            None => Ok(false),
        }
    }

    async fn runs(
        &self,
        repository: &RepositoryName,
        (digest, document): (&Digest, &Document),
        cluster: &str,
        since: i64,
    ) -> Result<bool, StoreError> {
        // A node asks for the index by its tag, and for its platform's image by digest.
        let mut contents = self.listing(repository, digest).await?;
        contents.extend(document.children().iter().map(|child| child.digest.clone()));
        contents.insert(0, digest.clone());
        self.is_used_by(cluster, repository, contents, since).await
    }

    /// What is known of an image without looking into its layers.
    async fn outer_facts(
        &self,
        repository: &RepositoryName,
        (digest, document): (&Digest, &Document),
    ) -> Result<ImageFacts, StoreError> {
        let since = self.held_since(repository, digest).await?;
        let mut facts = ImageFacts { signed: Fact::Is(false), ..ImageFacts::UNKNOWN };
        // A platform's image is signed with the index that lists it.
        let indexes = self.listing(repository, digest).await?;
        for about in std::iter::once(digest).chain(&indexes) {
            if self.is_signed(repository, about).await? {
                facts.signed = Fact::Is(true);
            }
        }
        let Some(child) = real_child(document) else {
            if document.children().is_empty() {
                let config = self.config(repository, document).await?;
                facts.held = held(since, config.as_ref());
                let platform = config.and_then(|config| config.platform());
                facts.platforms = platform.map_or(Fact::Unknown, |one| Fact::Is(vec![one]));
            }
            return Ok(facts);
        };
        let listed = document.children().iter().filter_map(Descriptor::platform);
        facts.platforms = Fact::Is(listed.filter(|one: &Platform| !one.is_unknown()).collect());
        let child = Selector::Digest(child.digest.clone());
        let config = match self.document(repository, &child).await? {
            Some((_, image)) => self.config(repository, &image).await?,
            None => None,
        };
        facts.held = held(since, config.as_ref());
        Ok(facts)
    }

    /// What a tag or digest of a repository stands for, read. None: it is not there.
    pub async fn document(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<(Digest, Document)>, StoreError> {
        let found = self.manifest(repository, selector).await?;
        Ok(found.and_then(|(record, bytes)| {
            Some((record.digest, Document::read(bytes, Some(&record.media_type)).ok()?))
        }))
    }

    async fn is_signed(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, StoreError> {
        let referrers = self.referrers(repository, digest, None, REFERRERS).await?;
        let mut kinds = referrers.iter().filter_map(|one| one.artifact_type.as_deref());
        if kinds.any(companion::is_signature) {
            return Ok(true);
        }
        // Older signatures lie under a tag that is made from the digest.
        let tag = format!("{}.sig", companion::list_tag(digest));
        let Ok(tag) = tag.parse() else { return Ok(false) };
        Ok(self.manifest_record(repository, &Selector::Tag(tag)).await?.is_some())
    }

    /// The configuration of an image. None: it is none, or too large, or not here.
    async fn config(
        &self,
        repository: &RepositoryName,
        document: &Document,
    ) -> Result<Option<ImageConfig>, StoreError> {
        let Some(config) = document.config() else { return Ok(None) };
        match self.blob(repository, &config.digest).await? {
            Some(size) if size <= MANIFEST_LIMIT as u64 => {
                Ok(ImageConfig::read(&self.read_all(&config.digest, size).await?).ok())
            }
            _ => Ok(None),
        }
    }
}

/// Since when an image counts as held. One that was here before ages counted from then keeps the age that it says
/// of itself: what could be pulled yesterday can be pulled today.
fn held(since: Option<HeldSince>, config: Option<&ImageConfig>) -> Fact<i64> {
    let Some(HeldSince { added, counts }) = since else { return Fact::Unknown };
    let said = config.and_then(ImageConfig::built).filter(|_| !counts);
    Fact::Is(said.map_or(added, |said| said.min(added)))
}

/// The first image of an index that is for a platform. None: it is no index, or has none.
pub fn real_child(document: &Document) -> Option<&Descriptor> {
    let is_real = |child: &&Descriptor| child.platform().is_some_and(|one| !one.is_unknown());
    document.children().iter().find(is_real)
}
