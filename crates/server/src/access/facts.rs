//! What is known of images, for rules that ask: gathered once for all who ask at a time, and kept while nothing of it
//! changes. Rules are held against it anew with every pull, so that what depends on the time is never kept.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

use larder_core::digest::Digest;
use larder_core::document::{Document, ImageConfig, MANIFEST_LIMIT};
use larder_core::name::{RepositoryName, Tag};
use larder_core::policy::{
    Fact, FactsWish, ImageFacts, InsideFacts, InsideGap, InsideWish, SignatureFacts, SignatureWish,
};
use larder_core::reference::{Image, Selector};
use larder_core::signature::{Examined, Trust};
use larder_store::{Moment, Store, now, real_child};

use super::companions::{BroughtCompanions, bring, content};
use crate::app::App;
use crate::cached::{self, CachedManifest};
use crate::error::ApiError;
use crate::flights::Flights;

/// Images of which facts are kept, and about how many bytes all of them take.
const MOST: usize = 20_000;
const MOST_BYTES: usize = 64 * 1024 * 1024;
/// Ways in which one image is asked for.
const WAYS: usize = 8;
/// How long facts are kept, in milliseconds: by then what only the time changes is seen too.
const AGE: i64 = 5 * 60_000;
/// The same on a cached shelf, whose upstream may have more signatures by then.
const CACHED_AGE: i64 = 60_000;
/// The same where something could not be read, which may come at any time.
const DOUBTFUL_AGE: i64 = 2_000;

/// Which facts are wanted: what of them, and of what.
#[derive(Clone, Copy)]
pub(crate) struct FactsPlace<'w> {
    pub repository: &'w RepositoryName,
    pub selector: &'w Selector,
    pub wish: FactsWish<'w>,
}

/// What was gathered.
#[derive(Clone)]
pub(crate) struct KnownFacts {
    pub facts: Arc<ImageFacts>,
    /// Which manifest they are of. None: it is not here.
    pub digest: Option<Digest>,
    /// The manifest that was brought for it. None: none had to be, or what it tells was kept.
    pub brought: Option<CachedManifest>,
}

/// Of the same image rules of several clusters may ask for other things.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
struct WishKind {
    inside: Option<InsideWish>,
    looks_signed: bool,
    is_signed: bool,
}

impl WishKind {
    fn of(wish: &FactsWish<'_>) -> Self {
        let (inside, looks_signed) = (wish.inside, wish.looks_signed);
        Self { inside, looks_signed, is_signed: wish.signatures.is_some() }
    }
}

/// Facts, and when they were true.
struct FactsEntry {
    kind: WishKind,
    /// The tag that named the image too, where it was named by its digest.
    tag: Option<Tag>,
    at: Moment,
    published_at: Option<Moment>,
    /// By whose signatures they were judged. The allocation is compared: while it is held here, no other has its place.
    trust: Option<Arc<Trust>>,
    /// In milliseconds since 1970.
    until: i64,
    bytes: usize,
    digest: Option<Digest>,
    facts: Arc<ImageFacts>,
}

#[derive(Default)]
struct KeptInner {
    /// By repository, and within it by tag or digest.
    images: HashMap<RepositoryName, HashMap<Selector, Vec<FactsEntry>>>,
    number: usize,
    bytes: usize,
}

/// What is asked for at one moment, by whose trust.
#[derive(Clone, PartialEq, Eq, Hash)]
struct FlightKey {
    repository: RepositoryName,
    selector: Selector,
    tag: Option<Tag>,
    kind: WishKind,
    began: Option<Moment>,
    published_at: Option<Moment>,
    trust: usize,
    fetched: bool,
}

/// Facts that were gathered, and those that are being gathered.
#[derive(Default)]
pub(crate) struct GatheredFacts {
    kept: RwLock<KeptInner>,
    flights: Flights<FlightKey, Result<KnownFacts, ApiError>>,
}

/// What is wished for, for those who go on with it when who wished it is gone.
struct OwnWish {
    repository: RepositoryName,
    selector: Selector,
    inside: Option<InsideWish>,
    looks_signed: bool,
    signatures: Option<(Arc<Trust>, Image, Option<Tag>)>,
}

impl OwnWish {
    fn of(place: FactsPlace<'_>) -> Self {
        let signatures = place
            .wish
            .signatures
            .map(|wish| (Arc::clone(wish.trust), wish.image.clone(), wish.tag.cloned()));
        Self {
            repository: place.repository.clone(),
            selector: place.selector.clone(),
            inside: place.wish.inside,
            looks_signed: place.wish.looks_signed,
            signatures,
        }
    }

    fn place(&self) -> FactsPlace<'_> {
        let signatures = self.signatures.as_ref().map(|(trust, image, tag)| SignatureWish {
            trust,
            image,
            tag: tag.as_ref(),
        });
        FactsPlace {
            repository: &self.repository,
            selector: &self.selector,
            wish: FactsWish {
                inside: self.inside,
                runs: None,
                looks_signed: self.looks_signed,
                signatures,
            },
        }
    }
}

impl GatheredFacts {
    /// What was gathered of an image, if it is still true. `at` is the moment of its repository, where it is known.
    pub fn known(
        &self,
        store: &Store,
        FactsPlace { repository, selector, wish }: FactsPlace<'_>,
        at: Option<Moment>,
    ) -> Option<KnownFacts> {
        let kind = WishKind::of(&wish);
        let kept = self.kept.read().unwrap_or_else(PoisonError::into_inner);
        let entries = kept.images.get(repository)?.get(selector)?;
        let tag = tag_of(&wish);
        let entry = entries.iter().find(|one| one.kind == kind && one.tag.as_ref() == tag)?;
        let trust = wish.signatures.map(|wish| wish.trust);
        let is_same_trust = match (&entry.trust, trust) {
            (Some(one), Some(other)) => Arc::ptr_eq(one, other),
            (None, None) => true,
            _ => false,
        };
        let is_true = is_same_trust
            && entry.until > now()
            && at.or_else(|| store.moment(repository)) == Some(entry.at)
            && (kind.inside.is_none() || store.moment_of_advisories() == entry.published_at);
        is_true.then(|| KnownFacts {
            facts: Arc::clone(&entry.facts),
            digest: entry.digest.clone(),
            brought: None,
        })
    }

    /// What can be known of an image; who asks while it is gathered for another waits for that. Nothing is fetched from
    /// upstreams unless that is said.
    pub async fn look(
        &self,
        app: &Arc<App>,
        place: FactsPlace<'_>,
        fetched: bool,
    ) -> Result<KnownFacts, ApiError> {
        let store = &app.store;
        // Asked before anything is read: what is read after that is at least as true.
        let (at, published_at) = (store.moment(place.repository), store.moment_of_advisories());
        if let Some(known) = self.known(store, place, at) {
            return Ok(known);
        }
        let kind = WishKind::of(&place.wish);
        let trust = place.wish.signatures.map_or(0, |wish| Arc::as_ptr(wish.trust) as usize);
        // What is fetched for it changes a cached shelf, and does not make others fetch it too.
        let is_cached = app.cache.shelf_of(place.repository).is_some();
        let began = at.filter(|_| !is_cached);
        let fetched = fetched && is_cached;
        let published_at = published_at.filter(|_| kind.inside.is_some());
        let key = FlightKey {
            repository: place.repository.clone(),
            selector: place.selector.clone(),
            tag: tag_of(&place.wish).cloned(),
            kind,
            began,
            published_at,
            trust,
            fetched,
        };
        let (gathering, wish) = (Arc::clone(app), OwnWish::of(place));
        let flight = self.flights.join(key, || async move {
            let place = wish.place();
            if let Some(known) = gathering.facts.known(&gathering.store, place, at) {
                return Ok(known);
            }
            let Gathered { known, at, until } = gather(&gathering, place, fetched).await?;
            // What was not fetched says nothing to those who would have it fetched.
            if let Some((at, published_at)) = at.filter(|_| fetched == is_cached) {
                gathering.facts.keep(place, (at, published_at), &known, until);
            }
            Ok(known)
        });
        let is_joined = flight.is_joined;
        let store_gone = || Err(larder_store::StoreError::Closed.into());
        let known = flight.land().await.unwrap_or_else(store_gone)?;
        if is_joined && known.brought.is_some() {
            cached::count_recalled(app, place.repository);
        }
        Ok(known)
    }

    fn keep(
        &self,
        place: FactsPlace<'_>,
        (at, published_at): (Moment, Moment),
        KnownFacts { facts, digest, .. }: &KnownFacts,
        until: i64,
    ) {
        // What is not here may come at any time, and is looked for each time.
        if facts.held == Fact::Unknown {
            return;
        }
        let (kind, bytes) = (WishKind::of(&place.wish), weight(facts));
        if bytes > MOST_BYTES / 4 {
            return;
        }
        let entry = FactsEntry {
            kind,
            tag: tag_of(&place.wish).cloned(),
            at,
            published_at: Some(published_at),
            trust: place.wish.signatures.map(|wish| Arc::clone(wish.trust)),
            until,
            bytes,
            digest: digest.clone(),
            facts: Arc::clone(facts),
        };
        let mut kept = self.kept.write().unwrap_or_else(PoisonError::into_inner);
        if kept.number >= MOST || kept.bytes + bytes > MOST_BYTES {
            *kept = KeptInner::default();
        }
        let images = kept.images.entry(place.repository.clone()).or_default();
        let entries = images.entry(place.selector.clone()).or_default();
        let (mut gone, mut freed) = (0, 0);
        let mut leave = |one: &FactsEntry| {
            gone += 1;
            freed += one.bytes;
        };
        entries.retain(|one| {
            let is_same = one.kind == entry.kind && one.tag == entry.tag;
            if is_same {
                leave(one);
            }
            !is_same
        });
        if entries.len() >= WAYS {
            leave(&entries.remove(0));
        }
        entries.push(entry);
        kept.number = (kept.number + 1).saturating_sub(gone);
        kept.bytes = (kept.bytes + bytes).saturating_sub(freed);
    }
}

/// The tag under which signatures are judged.
fn tag_of<'w>(wish: &FactsWish<'w>) -> Option<&'w Tag> {
    wish.signatures.and_then(|wish| wish.tag)
}

/// About how many bytes of memory facts take.
fn weight(facts: &ImageFacts) -> usize {
    let signatures: usize = match &facts.signatures {
        Fact::Is(SignatureFacts { found, .. }) => found.iter().map(Examined::weight).sum(),
        _ => 0,
    };
    let touching = match &facts.inside {
        Fact::Is(InsideFacts { touching, .. }) => touching.len() * TOUCHING,
        _ => 0,
    };
    OVERHEAD + signatures + touching
}

/// What facts take beside what was found, and what one advisory takes.
const OVERHEAD: usize = 1024;
const TOUCHING: usize = 512;

/// What was gathered, the moments after which it was read, and until when it can be believed, in milliseconds since 1970.
struct Gathered {
    known: KnownFacts,
    at: Option<(Moment, Moment)>,
    until: i64,
}

/// What can be known of an image. For a cached shelf what tells it is fetched first, where that is wished.
async fn gather(app: &App, place: FactsPlace<'_>, fetched: bool) -> Result<Gathered, ApiError> {
    let FactsPlace { repository, selector, wish } = place;
    let store = &app.store;
    app.meters.facts.inc();
    let brought = match fetched {
        true => cached::manifest(app, repository, selector, true).await?,
        false => None,
    };
    let (mut config, mut companions) = (None, BroughtCompanions::default());
    if let Some(brought) = &brought {
        if wish.looks_signed || wish.signatures.is_some() {
            let mut about = store.listing(repository, &brought.digest).await?;
            about.insert(0, brought.digest.clone());
            companions = bring(app, repository, &about, wish.signatures.is_some()).await?;
        }
        config = child_config(app, repository, &Selector::Digest(brought.digest.clone())).await?;
    }
    // Asked before anything of it is read: what is read after that is at least as true.
    let at = store.moment(repository).zip(store.moment_of_advisories());
    let digest = match &brought {
        Some(brought) => Some(brought.digest.clone()),
        None => store.manifest_record(repository, selector).await?.map(|record| record.digest),
    };
    let whole = digest.clone().map(Selector::Digest);
    let whole = whole.as_ref().unwrap_or(selector);
    let mut facts = store.facts_with(repository, whole, wish, companions.in_hand).await?;
    // It may be on its way into the store still.
    if let Some(config) = config
        && facts.platforms == Fact::Unknown
    {
        facts.platforms = config.platform().map_or(Fact::Unknown, |one| Fact::Is(vec![one]));
    }
    // Nobody looked, which is something else than that nothing is known.
    facts.runs = Fact::NotLooked;
    let is_stale = brought.as_ref().is_some_and(|brought| brought.warning.is_some());
    let is_doubtful = companions.is_doubtful || is_stale;
    let until = until(&facts, brought.as_ref(), is_doubtful);
    Ok(Gathered { known: KnownFacts { facts: Arc::new(facts), digest, brought }, at, until })
}

fn until(facts: &ImageFacts, brought: Option<&CachedManifest>, is_doubtful: bool) -> i64 {
    let may_be_read =
        matches!(&facts.inside, Fact::Is(InsideFacts { gap: Some(InsideGap::Unread(_)), .. }));
    let age = match brought {
        _ if is_doubtful || may_be_read => DOUBTFUL_AGE,
        Some(_) => CACHED_AGE,
        None => AGE,
    };
    let signed = match &facts.signatures {
        Fact::Is(found) => found.until().map(|until| until.saturating_mul(1000)),
        _ => None,
    };
    let told = brought.and_then(|brought| brought.until);
    [signed, told].into_iter().flatten().fold(now() + age, i64::min)
}

/// The configuration of an image on a cached shelf, or of the first image of an index.
async fn child_config(
    app: &App,
    repository: &RepositoryName,
    whole: &Selector,
) -> Result<Option<ImageConfig>, ApiError> {
    let document = async |selector: &Selector| -> Result<Option<Document>, ApiError> {
        Ok(app.store.document(repository, selector).await?.map(|(_, document)| document))
    };
    let mut image = document(whole).await?;
    let child = image.as_ref().and_then(real_child).map(|child| child.digest.clone());
    if let Some(child) = child {
        let child = Selector::Digest(child);
        cached::manifest(app, repository, &child, false).await?;
        image = document(&child).await?;
    }
    let Some(config) = image.as_ref().and_then(Document::config) else { return Ok(None) };
    let bytes = content(app, repository, config, MANIFEST_LIMIT as u64).await?;
    Ok(bytes.and_then(|bytes| ImageConfig::read(&bytes).ok()))
}
