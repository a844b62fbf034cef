//! Do the rules allow it? What they ask of an image is looked up only when a rule asks.

use axum::http::{HeaderName, HeaderValue, Method};
use futures_util::TryStreamExt as _;
use larder_core::companion;
use larder_core::digest::Digest;
use larder_core::document::{Document, ImageConfig, MANIFEST_LIMIT};
use larder_core::name::RepositoryName;
use larder_core::platform::Platform;
use larder_core::policy::{Asked, Decided, Fact, Facts, Verdict};
use larder_core::reference::{Image, Selector};
use larder_store::{Kind, now};

use super::record::{Happened, reference};
use super::{AccessPlan, Caller};
use crate::app::App;
use crate::cache::{Blob, follow};
use crate::cached;
use crate::error::{ApiError, Code};

/// A warning that goes along with what is answered.
pub(crate) const WARNING: HeaderName = HeaderName::from_static("warning");

/// What is asked for of an image.
#[derive(Clone, Copy)]
pub(crate) enum Pull<'p> {
    /// A manifest, by tag or digest.
    Manifest(&'p RepositoryName, &'p Selector),
    /// A blob, which belongs to no image in particular.
    Part(&'p RepositoryName),
}

impl<'p> Pull<'p> {
    /// What a request pulls. None: it does not.
    pub fn of(target: &'p crate::path::Target, method: &Method) -> Option<Self> {
        use crate::path::Target;
        if *method != Method::GET && *method != Method::HEAD {
            return None;
        }
        match target {
            Target::Manifest(repository, selector) => Some(Self::Manifest(repository, selector)),
            Target::Blob(repository, _) => Some(Self::Part(repository)),
            _ => None,
        }
    }

    fn repository(self) -> &'p RepositoryName {
        match self {
            Self::Manifest(repository, _) | Self::Part(repository) => repository,
        }
    }
}

/// Whether the rules let somebody pull without a word. False: they do not, or must be asked at length.
pub(crate) fn passes(plan: &AccessPlan, caller: &Caller, pull: Pull<'_>) -> bool {
    if plan.rules.is_empty() {
        return true;
    }
    with_asked(plan, caller, pull, |asked| {
        let decided = plan.rules.decide(asked, &Facts::default());
        matches!(decided, Decided::Verdict { verdict: Verdict::Allow, .. })
    })
}

fn with_asked<T>(
    plan: &AccessPlan,
    caller: &Caller,
    pull: Pull<'_>,
    then: impl FnOnce(&Asked<'_>) -> T,
) -> T {
    let repository = pull.repository();
    let origin = plan.origins.of(repository);
    let own = origin.is_none();
    let image =
        origin.unwrap_or_else(|| Image { host: plan.host.clone(), repository: repository.clone() });
    let (tag, digest) = match pull {
        Pull::Manifest(_, Selector::Tag(tag)) => (Some(tag), None),
        Pull::Manifest(_, Selector::Digest(digest)) => (None, Some(digest)),
        Pull::Part(_) => (None, None),
    };
    then(&Asked {
        cluster: caller.who.cluster_name(),
        namespace: caller.who.namespace(),
        image: &image,
        class: plan.classes.of(&image),
        own,
        tag,
        digest,
        part: matches!(pull, Pull::Part(_)),
        now: now(),
    })
}

/// Lets a pull through, perhaps with a warning, or refuses it; either is written down.
pub(crate) async fn check(
    app: &App,
    plan: &AccessPlan,
    caller: &Caller,
    pull: Pull<'_>,
) -> Result<Option<HeaderValue>, ApiError> {
    if passes(plan, caller, pull) {
        return Ok(None);
    }
    let decide = |facts: &Facts| {
        with_asked(plan, caller, pull, |asked| match plan.rules.decide(asked, facts) {
            Decided::Needs(_) => None,
            Decided::Verdict { verdict, rule, lack } => Some((verdict, rule, lack)),
        })
    };
    let mut decided = decide(&Facts::default());
    if let (None, Pull::Manifest(repository, selector)) = (&decided, pull) {
        let facts = gather(app, repository, selector).await?;
        decided = decide(&facts);
    }
    let Some((verdict, Some(rule), lack)) = decided else { return Ok(None) };
    let rule = &plan.rules.all()[rule];
    let image = match pull {
        Pull::Manifest(repository, selector) => reference(repository, selector),
        Pull::Part(repository) => repository.to_string(),
    };
    let reason = rule.reason(lack.as_ref());
    let (kind, message) = match verdict {
        Verdict::Allow => return Ok(None),
        Verdict::Warn => (Kind::Warned, format!("{image} is let through; {reason}")),
        Verdict::Deny => (Kind::Refused, format!("{image} is refused by {reason}")),
    };
    let mut happened = Happened::of(caller, kind, &message);
    happened.reference = Some(image);
    happened.line = Some(rule.line.to_string());
    let number = app.recorder.note(happened);
    if verdict == Verdict::Deny {
        app.meters.refusals.with_label_values(&["rule"]).inc();
        return Err(ApiError::new(Code::Denied, format!("{message} [{number}]")));
    }
    let plain: String = message
        .chars()
        .map(|c| if matches!(c, ' '..='~') && c != '"' && c != '\\' { c } else { '?' })
        .take(200)
        .collect();
    Ok(HeaderValue::from_str(&format!("299 larder \"{plain} [{number}]\"")).ok())
}

/// What can be known of an image's content. For a cached shelf it is fetched.
async fn gather(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
) -> Result<Facts, ApiError> {
    let mut facts = Facts { platforms: Fact::Unknown, built: Fact::Unknown, signed: Fact::Unknown };
    let Some((digest, document)) = manifest(app, repository, selector).await? else {
        return Ok(facts);
    };
    let whole = app.store.ledger.listing(repository, &digest).await?;
    let mut signed = is_signed(app, repository, &digest).await?;
    for index in &whole {
        signed = signed || is_signed(app, repository, index).await?;
    }
    facts.signed = Fact::Is(signed);
    let children = document.children();
    let listed: Vec<Platform> =
        children.iter().filter_map(larder_core::document::Descriptor::platform).collect();
    let known = |platform: &Platform| !platform.is_unknown();
    let mut config = document.clone();
    if !children.is_empty() {
        facts.platforms = Fact::Is(listed.into_iter().filter(known).collect());
        let first = children.iter().find(|child| child.platform().is_some_and(|it| known(&it)));
        let Some(first) = first else { return Ok(facts) };
        let selector = Selector::Digest(first.digest.clone());
        match manifest(app, repository, &selector).await {
            Ok(Some((_, child))) => config = child,
            // A platform that was not brought in tells nothing; the index itself is here.
            Ok(None) | Err(_) => return Ok(facts),
        }
    }
    let Some(read) = read_config(app, repository, &config).await? else { return Ok(facts) };
    facts.built = read.built().map_or(Fact::Unknown, Fact::Is);
    if children.is_empty() {
        facts.platforms = read.platform().map_or(Fact::Unknown, |one| Fact::Is(vec![one]));
    }
    Ok(facts)
}

async fn manifest(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
) -> Result<Option<(Digest, Document)>, ApiError> {
    let brought = cached::manifest(app, repository, selector).await?;
    let named = brought.map(|brought| Selector::Digest(brought.digest));
    let found = app.store.manifest(repository, named.as_ref().unwrap_or(selector)).await?;
    Ok(found.and_then(|(record, bytes)| {
        let document = Document::read(bytes, Some(&record.media_type)).ok()?;
        Some((record.digest, document))
    }))
}

async fn is_signed(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
) -> Result<bool, ApiError> {
    cached::referrers(app, repository, digest).await?;
    for record in app.store.ledger.referrers(repository, digest, None, 100).await? {
        let bytes = app.store.read_all(&record.digest, record.size).await?;
        let Ok(document) = Document::read(bytes, Some(&record.media_type)) else { continue };
        if document.artifact_type().is_some_and(companion::is_signature) {
            return Ok(true);
        }
    }
    // Older signatures lie under a tag that is made from the digest.
    let tag = format!("{}.sig", digest.as_str().replace(':', "-"));
    let Ok(tag) = tag.parse() else { return Ok(false) };
    Ok(app.store.ledger.manifest(repository, &Selector::Tag(tag)).await?.is_some())
}

/// The configuration of an image. None: it is none, or too large, or not here.
async fn read_config(
    app: &App,
    repository: &RepositoryName,
    document: &Document,
) -> Result<Option<ImageConfig>, ApiError> {
    let Some(config) = document.config() else { return Ok(None) };
    let fits = |size: u64| size <= MANIFEST_LIMIT as u64;
    if !fits(config.size) {
        return Ok(None);
    }
    let bytes = match app.cache.shelf_of(repository) {
        None => match app.store.ledger.blob(repository, &config.digest).await? {
            Some(size) if fits(size) => app.store.read_all(&config.digest, size).await?,
            _ => return Ok(None),
        },
        Some(shelf) => {
            let path = shelf.upstream_name(repository)?;
            match app.cache.blob(shelf, repository, &path, &config.digest).await? {
                Blob::Here(size) if fits(size) => app.store.read_all(&config.digest, size).await?,
                Blob::Here(_) => return Ok(None),
                Blob::Coming(taking, _) => {
                    let read = follow(taking, 0, Some(config.size)).try_fold(
                        bytes::BytesMut::new(),
                        |mut all, piece| async move {
                            all.extend_from_slice(&piece);
                            Ok(all)
                        },
                    );
                    match read.await {
                        Ok(all) => all.freeze(),
                        Err(_) => return Ok(None),
                    }
                }
            }
        }
    };
    Ok(ImageConfig::read(&bytes).ok())
}
