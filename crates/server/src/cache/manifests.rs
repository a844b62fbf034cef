//! Manifests, tags and lists of a cached shelf.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use larder_client::ClientError;
use larder_core::cached::{Belief, BeliefTrust};
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use larder_store::now;

use super::ahead::AheadJob;
use super::shelf::CachedShelf;
use super::trouble::Trouble;
use super::{Cache, InHand};

/// How long a list that an upstream gave is believed.
const LISTED: Duration = Duration::from_secs(60);
/// Companions of one manifest that are fetched, and how many of them at once: a signature may lie behind many notes of
/// others.
const COMPANIONS: usize = 1000;
const TOGETHER: usize = 8;

/// What a tag or digest points to on a cached shelf. The manifest is in hand, or in the store.
#[derive(Debug, Clone)]
pub(crate) struct FoundManifest {
    pub digest: Digest,
    /// Until when it need not be asked for again, in milliseconds since 1970. None: for ever.
    pub until: Option<i64>,
    /// The manifest, where it was just fetched: there may have been no room to keep it.
    pub document: InHand,
    /// Whether the upstream was asked for the content.
    pub fetched: bool,
    /// Why an older answer is given instead of the upstream's. None: it is the upstream's.
    pub stale: Option<Trouble>,
}

/// One tag of a cached shelf, as a check works with it.
#[derive(Clone)]
struct TagCheck {
    shelf: Arc<CachedShelf>,
    repository: RepositoryName,
    path: RepositoryName,
    tag: Tag,
    /// Whether the upstream is asked although its last answer is young.
    anew: bool,
}

impl Cache {
    /// What a tag or digest points to; fetched where it is not here. The repository's name at the
    /// upstream must have been checked. `counted`: as an answer to a client; what is only looked at on the way is none.
    pub(crate) async fn manifest(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        selector: &Selector,
        counted: bool,
    ) -> Result<FoundManifest, Trouble> {
        let count = |counter: &AtomicU64| counter.fetch_add(u64::from(counted), Ordering::Relaxed);
        let what = selector.to_string();
        let held = self.held(shelf, repository, selector).await?;
        if let Some((digest, Some(until))) = &held {
            count(&shelf.traffic.hits);
            let until = Some(*until).filter(|until| *until < i64::MAX);
            return Ok(FoundManifest {
                digest: digest.clone(),
                until,
                document: None,
                fetched: false,
                stale: None,
            });
        }
        // What failed a moment ago is not tried again for everybody who asks.
        let outcome = match (self.in_vain(repository, &what), selector) {
            (Some(trouble), _) => Err(trouble),
            (None, Selector::Digest(digest)) => {
                count(&shelf.traffic.misses);
                let fetched = self.fetch(shelf, repository, path, digest).await;
                fetched.map(|document| (digest.clone(), document))
            }
            (None, Selector::Tag(tag)) => {
                count(if held.is_some() { &shelf.traffic.hits } else { &shelf.traffic.misses });
                let tagged = TagCheck {
                    shelf: Arc::clone(shelf),
                    repository: repository.clone(),
                    path: path.clone(),
                    tag: tag.clone(),
                    anew: false,
                };
                self.check(tagged, held.is_some()).await
            }
        };
        match (outcome, held) {
            (Ok((digest, document)), held) => {
                let fetched = held.is_none_or(|(before, _)| before != digest);
                Ok(FoundManifest { digest, until: Some(now()), document, fetched, stale: None })
            }
            // What the upstream deleted is kept for those who use it, as what cannot be asked for.
            (Err(trouble), Some((digest, None))) => Ok(FoundManifest {
                digest,
                until: Some(now()),
                document: None,
                fetched: false,
                stale: Some(trouble),
            }),
            // It was too old to be served before the upstream said that it has it no more.
            (Err(trouble), None) if trouble.is_absent() => {
                match self.held(shelf, repository, selector).await? {
                    Some((digest, _)) => Ok(FoundManifest {
                        digest,
                        until: Some(now()),
                        document: None,
                        fetched: false,
                        stale: Some(trouble),
                    }),
                    None => Err(trouble),
                }
            }
            (Err(trouble), _) => Err(trouble),
        }
    }

    /// What is here: with the time until which it need not be asked for again, or None where the
    /// upstream is to be asked first. Nothing: it is not here, or too old to be served.
    async fn held(
        &self,
        shelf: &CachedShelf,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<(Digest, Option<i64>)>, Trouble> {
        let store = &self.inner.store;
        match selector {
            Selector::Digest(digest) => {
                let found = store.manifest_record(repository, selector).await?;
                Ok(found.map(|_| (digest.clone(), Some(i64::MAX))))
            }
            Selector::Tag(tag) => {
                let belief = store.belief(repository, tag).await?;
                Ok(belief.and_then(|belief| match belief.trust(shelf.terms, now()) {
                    BeliefTrust::Until(until) => Some((belief.digest, Some(until))),
                    BeliefTrust::Ask => Some((belief.digest, None)),
                    BeliefTrust::TooOld => None,
                }))
            }
        }
    }

    /// Asks the upstream what a tag points to, once for all who want to know. Who can do with an older
    /// answer waits no longer than the shelf's patience.
    async fn check(&self, tagged: TagCheck, older: bool) -> Result<(Digest, InHand), Trouble> {
        let shelf = Arc::clone(&tagged.shelf);
        let host = || shelf.upstream.host().clone();
        let (repository, what) = (tagged.repository.clone(), tagged.tag.to_string());
        let key = (tagged.repository.clone(), tagged.tag.clone());
        let cache = self.clone();
        let flight = self.inner.checks.join(key, || async move {
            let outcome = cache.look(&tagged).await;
            if let Err(trouble) = &outcome {
                if older && !trouble.is_absent() {
                    tracing::warn!(%repository, tag = what, cause = %trouble, "an older answer is served");
                }
                if older != trouble.is_absent() {
                    cache.note_vain(&repository, &what, trouble);
                }
            }
            outcome
        });
        let patience = shelf.patience.saturating_sub(flight.age);
        let landed = match older {
            false => flight.land().await,
            true => tokio::time::timeout(patience, flight.land())
                .await
                .map_err(|_| Trouble::TooLong(host()))?,
        };
        landed.unwrap_or(Err(Trouble::Store))
    }

    /// What a tag points to at the upstream at this moment.
    pub(super) async fn ask_again(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        tag: &Tag,
    ) -> Result<Digest, Trouble> {
        let (shelf, repository, path) = (Arc::clone(shelf), repository.clone(), path.clone());
        let tagged = TagCheck { shelf, repository, path, tag: tag.clone(), anew: true };
        self.look(&tagged).await.map(|(digest, _)| digest)
    }

    /// Compares a tag with the upstream, or asks for it the first time.
    async fn look(&self, tagged: &TagCheck) -> Result<(Digest, InHand), Trouble> {
        let TagCheck { shelf, repository, path, tag, anew } = tagged;
        let (store, upstream) = (&self.inner.store, &shelf.upstream);
        let belief = store.belief(repository, tag).await?;
        // Who joined may have looked before an earlier check ended.
        if let (Some(belief), false) = (&belief, anew)
            && matches!(belief.trust(shelf.terms, now()), BeliefTrust::Until(_))
        {
            return Ok((belief.digest.clone(), None));
        }
        let Some(Belief { digest: known, .. }) = belief else {
            let selector = Selector::Tag(tag.clone());
            let asked = upstream.registry.manifest(path, &selector);
            let (digest, document) = upstream.ask(1, asked).await?;
            let bytes = document.bytes.len() as u64;
            shelf.traffic.fetched.fetch_add(bytes, Ordering::Relaxed);
            self.keep(tagged, &digest, &document).await?;
            return Ok((digest, Some(Arc::new(document))));
        };
        match upstream.ask(0, upstream.registry.recheck(path, tag, &known)).await {
            Ok(None) => {
                if store.confirm(repository, tag, &known, now()).await? {
                    return Ok((known, None));
                }
                // Another process found something else meanwhile, or dropped it.
                let belief = store.belief(repository, tag).await?;
                Ok((belief.map_or(known, |belief| belief.digest), None))
            }
            Ok(Some(resolved)) => {
                tracing::info!(%repository, %tag, before = %known, after = %resolved.digest, "a tag moved");
                let document = match self.fetch(shelf, repository, path, &resolved.digest).await? {
                    Some(document) => document,
                    None => {
                        let selector = Selector::Digest(resolved.digest.clone());
                        let found = store.document(repository, &selector).await?;
                        let (_, document) = found.ok_or(Trouble::Store)?;
                        Arc::new(document)
                    }
                };
                self.keep(tagged, &resolved.digest, &document).await?;
                Ok((resolved.digest, Some(document)))
            }
            Err(trouble) => {
                if trouble.is_absent() && store.note_gone(repository, tag, now()).await? {
                    tracing::warn!(%repository, %tag, digest = %known, "the upstream has a tag no more; it is kept as long as it is used");
                }
                Err(trouble)
            }
        }
    }

    /// Keeps what a tag points to now.
    async fn keep(
        &self,
        tagged: &TagCheck,
        digest: &Digest,
        document: &Document,
    ) -> Result<(), Trouble> {
        let kept = self.believe(&tagged.repository, digest, document, Some(&tagged.tag)).await?;
        if kept {
            self.think_ahead(&tagged.shelf, &tagged.repository, &tagged.path, digest, document);
        }
        Ok(())
    }

    /// Keeps a manifest, unless there is no room for it: then it passes through. False: it does.
    async fn believe(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        document: &Document,
        tag: Option<&Tag>,
    ) -> Result<bool, Trouble> {
        let store = &self.inner.store;
        let kept = async {
            store.check_room(document.bytes.len() as u64).await?;
            store.believe(repository, digest, document, tag.cloned()).await
        };
        match kept.await {
            Ok(()) => Ok(true),
            Err(error) if error.is_full() => {
                tracing::warn!(%repository, %digest, %error, "a manifest passes through; there is no room to keep it");
                self.inner.room.notify_one();
                Ok(false)
            }
            Err(error) => Err(error.into()),
        }
    }

    fn think_ahead(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
        document: &Document,
    ) {
        let index = !document.children().is_empty() && !shelf.platforms.is_empty();
        if index || shelf.companions {
            // A client that only looks at an image asks for none of its layers: it is fetched ahead once somebody does.
            self.inner.expected.put(AheadJob {
                shelf: Arc::clone(shelf),
                repository: repository.clone(),
                path: path.clone(),
                digest: digest.clone(),
            });
        }
    }

    /// Fetches a manifest by its digest, once for all who want it.
    pub(super) async fn fetch(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
    ) -> Result<InHand, Trouble> {
        let (cache, shelf) = (self.clone(), Arc::clone(shelf));
        let (repository, path, digest) = (repository.clone(), path.clone(), digest.clone());
        let flight = self.inner.fetches.join((repository.clone(), digest.clone()), || async move {
            let outcome = cache.fetch_now(&shelf, &repository, &path, &digest).await;
            if let Err(trouble) = &outcome
                && trouble.is_absent()
            {
                cache.note_vain(&repository, digest.as_str(), trouble);
            }
            outcome
        });
        flight.land().await.unwrap_or(Err(Trouble::Store))
    }

    async fn fetch_now(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        digest: &Digest,
    ) -> Result<InHand, Trouble> {
        let (store, upstream) = (&self.inner.store, &shelf.upstream);
        let selector = Selector::Digest(digest.clone());
        if store.manifest_record(repository, &selector).await?.is_some() {
            return Ok(None);
        }
        let asked = upstream.registry.manifest(path, &selector);
        let (_, document) = upstream.ask(1, asked).await?;
        let kept = self.believe(repository, digest, &document, None).await?;
        let bytes = document.bytes.len() as u64;
        shelf.traffic.fetched.fetch_add(bytes, Ordering::Relaxed);
        if kept && !store.is_listed(repository, digest).await? {
            self.think_ahead(shelf, repository, path, digest, &document);
        }
        Ok(Some(Arc::new(document)))
    }

    /// Fetches what refers to a manifest, as far as the upstream tells now; what was fetched before
    /// stays when it cannot be asked.
    pub async fn referrers(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
        subject: &Digest,
    ) -> Result<(), Trouble> {
        let what = format!("referrers {subject}");
        if let Some(trouble) = self.in_vain(repository, &what) {
            return Err(trouble);
        }
        let (cache, shelf) = (self.clone(), Arc::clone(shelf));
        let (repository, path, subject) = (repository.clone(), path.clone(), subject.clone());
        let flight = self.inner.lists.join((repository.clone(), what.clone()), || async move {
            let upstream = &shelf.upstream;
            let outcome = async {
                let asked = upstream.registry.referrers(&path, &subject);
                let found = upstream.ask(0, asked).await?;
                let found = found.into_iter().take(COMPANIONS);
                let fetch = async |digest: Digest| {
                    match cache.fetch(&shelf, &repository, &path, &digest).await {
                        // One that is listed and not there does not keep the others from being fetched.
                        Err(trouble) if trouble.is_absent() => Ok(()),
                        fetched => fetched.map(drop),
                    }
                };
                let fetches = found.map(|one| fetch(one.digest));
                stream::iter(fetches).buffer_unordered(TOGETHER).try_collect::<()>().await
            };
            let outcome: Result<(), Trouble> = outcome.await;
            if let Err(trouble) = &outcome {
                cache.note_vain(&repository, &what, trouble);
            }
            outcome
        });
        flight.land().await.unwrap_or(Err(Trouble::Store))
    }

    /// The upstream's tags of a repository, sorted.
    ///
    /// # Errors
    /// Whatever keeps the upstream from telling.
    pub async fn tags(
        &self,
        shelf: &Arc<CachedShelf>,
        repository: &RepositoryName,
        path: &RepositoryName,
    ) -> Result<Arc<Vec<Tag>>, Trouble> {
        if let Some(known) = shelf.lists.get(path) {
            return Ok(known);
        }
        let (shelf, path) = (Arc::clone(shelf), path.clone());
        let (kept, listed) = (Arc::clone(&shelf), path.clone());
        let flight = self.inner.lists.join((repository.clone(), "tags".into()), || async move {
            let mut tags = shelf.upstream.ask(0, shelf.upstream.registry.tags(&path)).await?;
            tags.sort();
            tags.dedup();
            shelf.lists.keep(&path, tags, LISTED);
            Ok(())
        });
        flight.land().await.unwrap_or(Err(Trouble::Store))?;
        kept.lists.get(&listed).ok_or(Trouble::Store)
    }

    /// Whether something can be answered from what is here when the upstream is in trouble.
    pub fn may_do_without(trouble: &Trouble) -> bool {
        match trouble {
            Trouble::Upstream(error) => !matches!(error, ClientError::NotFound { .. }),
            Trouble::OutOfReach(..) | Trouble::NoRepository(_) => false,
            _ => true,
        }
    }
}
