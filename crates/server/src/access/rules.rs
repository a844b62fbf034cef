//! Do the rules allow it? What they ask of an image is looked up only when a rule asks.

use axum::http::HeaderValue;
use bytes::BytesMut;
use futures_util::TryStreamExt as _;
use larder_core::document::{Document, ImageConfig, MANIFEST_LIMIT};
use larder_core::name::RepositoryName;
use larder_core::policy::{Case, Fact, FactsWish, ImageFacts, ImageName, RuleAnswer, Verdict};
use larder_core::reference::Selector;
use larder_store::{RecordKind, now, real_child};

use super::Caller;
use super::record::{RecordSubject, RecordedDeed, reference};
use crate::app::App;
use crate::cache::{CachedBlob, follow};
use crate::cached;
use crate::error::{ApiError, Code};
use crate::headers::warning;
use crate::operation::Pull;
use crate::plan::Plan;

impl<'p> Pull<'p> {
    /// As the court sees it.
    fn case(self, plan: &'p Plan) -> Case<'p> {
        match self {
            Self::Manifest(repository, selector) => {
                plan.court.repository(repository, ImageName::from(selector))
            }
            Self::Part(repository) => {
                Case { part: true, ..plan.court.repository(repository, ImageName::default()) }
            }
        }
    }
}

/// Whether the rules let somebody pull, with nothing to say. False: they do not, or must be asked at length.
pub(crate) fn passes(plan: &Plan, caller: &Caller, pull: Pull<'_>) -> bool {
    if plan.court.rules.is_empty() {
        return true;
    }
    let ruled = rule(plan, caller, &pull.case(plan), &ImageFacts::default());
    matches!(ruled, RuleAnswer::Decided { verdict: Verdict::Allow, .. })
}

fn rule<'p>(
    plan: &'p Plan,
    caller: &Caller,
    case: &Case<'_>,
    facts: &ImageFacts,
) -> RuleAnswer<'p> {
    let who = &caller.who;
    plan.court.rule(who.cluster_name(), who.namespace(), case, facts, now())
}

/// Lets a pull through, perhaps with a warning, or refuses it; either is written down.
pub(crate) async fn check(
    app: &App,
    plan: &Plan,
    caller: &Caller,
    pull: Pull<'_>,
) -> Result<RuleOutcome, ApiError> {
    let mut ruled = RuleOutcome::default();
    if passes(plan, caller, pull) {
        return Ok(ruled);
    }
    let case = pull.case(plan);
    let mut answer = rule(plan, caller, &case, &ImageFacts::default());
    if let (RuleAnswer::Needs(_), Pull::Manifest(repository, selector)) = (&answer, pull) {
        let wish = plan.court.wish(caller.who.cluster_name(), &case, now());
        let (facts, brought) = Box::pin(gather(app, repository, selector, wish)).await?;
        ruled.brought = brought;
        answer = rule(plan, caller, &case, &facts);
    }
    let image = match pull {
        Pull::Manifest(repository, selector) => reference(repository, selector),
        Pull::Part(repository) => repository.to_string(),
    };
    let Some(said) = answer.said(&image) else { return Ok(ruled) };
    let kind = if said.denied { RecordKind::Refused } else { RecordKind::Warned };
    let mut happened = RecordedDeed::of(caller, kind, &said.sentence);
    happened.reference = Some(RecordSubject::Text(image));
    happened.line = Some(said.line);
    let number = app.recorder.note(&happened);
    let message = format!("{}{number}", said.sentence);
    if said.denied {
        app.meters.refusals.with_label_values(&["rule"]).inc();
        return Err(ApiError::new(Code::Denied, message));
    }
    ruled.warning = warning(299, &message);
    Ok(ruled)
}

/// What the rules say of a pull that they let through.
#[derive(Default)]
pub(crate) struct RuleOutcome {
    /// What is said with the answer.
    pub warning: Option<HeaderValue>,
    /// The manifest that was brought for it, if its content had to be known.
    pub brought: Option<cached::CachedManifest>,
}

/// What can be known of an image's content. For a cached shelf what tells it is fetched first.
async fn gather(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
    wish: FactsWish<'_>,
) -> Result<(ImageFacts, Option<cached::CachedManifest>), ApiError> {
    let Some(brought) = cached::manifest(app, repository, selector, true).await? else {
        return Ok((app.store.facts(repository, selector, wish).await?, None));
    };
    let whole = Selector::Digest(brought.digest.clone());
    cached::referrers(app, repository, &brought.digest).await?;
    for index in app.store.listing(repository, &brought.digest).await? {
        cached::referrers(app, repository, &index).await?;
    }
    let mut image = document(app, repository, &whole).await?;
    let child = image.as_ref().and_then(real_child).map(|child| child.digest.clone());
    if let Some(child) = child {
        let child = Selector::Digest(child);
        cached::manifest(app, repository, &child, false).await?;
        image = document(app, repository, &child).await?;
    }
    // It may be on its way into the store still, so it is read as it comes.
    let config = match &image {
        Some(image) => config(app, repository, image).await?,
        None => None,
    };
    let mut facts = app.store.facts(repository, &whole, wish).await?;
    if let Some(config) = config
        && facts.platforms == Fact::Unknown
    {
        facts.platforms = config.platform().map_or(Fact::Unknown, |one| Fact::Is(vec![one]));
    }
    Ok((facts, Some(brought)))
}

async fn document(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
) -> Result<Option<Document>, ApiError> {
    let found = app.store.manifest(repository, selector).await?;
    Ok(found.and_then(|(record, bytes)| Document::read(bytes, Some(&record.media_type)).ok()))
}

/// The configuration of an image on a cached shelf. None: it has none, or too large a one.
async fn config(
    app: &App,
    repository: &RepositoryName,
    image: &Document,
) -> Result<Option<ImageConfig>, ApiError> {
    let fits = |size: u64| size <= MANIFEST_LIMIT as u64;
    let Some(config) = image.config().filter(|config| fits(config.size)) else { return Ok(None) };
    let Some(shelf) = &app.cache.shelf_of(repository) else { return Ok(None) };
    let path = shelf.upstream_name(repository)?;
    let bytes = match app.cache.blob(shelf, repository, &path, &config.digest, false).await? {
        CachedBlob::Here(size) if fits(size) => app.store.read_all(&config.digest, size).await?,
        CachedBlob::Here(_) => return Ok(None),
        CachedBlob::Passing(_) => {
            let passing = app.cache.pass(shelf, &path, &config.digest, Some(config.size), None);
            let all =
                Box::pin(passing).await?.try_fold(BytesMut::new(), |mut all, piece| async move {
                    all.extend_from_slice(&piece);
                    Ok(all)
                });
            let Ok(all) = all.await else { return Ok(None) };
            all.freeze()
        }
        CachedBlob::Coming(taking, _) => {
            let coming = follow(taking, 0, Some(config.size));
            let all = coming.try_fold(BytesMut::new(), |mut all, piece| async move {
                all.extend_from_slice(&piece);
                Ok(all)
            });
            let Ok(all) = all.await else { return Ok(None) };
            all.freeze()
        }
    };
    Ok(ImageConfig::read(&bytes).ok())
}
