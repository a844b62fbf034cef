//! A quota that a push would pass: refused, with what takes the most of it.

use std::sync::Arc;

use axum::http::request::Parts;
use larder_core::access::Action;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::quantity::Size;
use larder_core::quota::QuotaOf;
use larder_core::shown::shown;
use larder_store::{BlobWriter, QuotaPassed, Store, StoreError, UploadId, WeightyImage};
use tokio::time::{Duration, Instant};

use crate::access::Caller;
use crate::app::App;
use crate::error::{ApiError, Code};

/// Images of each kind that are named, and those that are looked up: not everybody may see all of them.
const NAMED: usize = 2;
const LOOKED_UP: usize = 50;
/// How long what was found of a shelf is used again: it is long to find, and refused clients ask again.
const REMEMBERED: Duration = Duration::from_secs(60);
/// Shelves and repositories that are remembered.
const MOST: usize = 64;

/// The largest images, and the longest unpulled.
type Weighty = Arc<(Vec<WeightyImage>, Vec<WeightyImage>)>;

/// What takes room, as it was found a moment ago.
#[derive(Default)]
pub(crate) struct WeightyAnswers(tokio::sync::Mutex<Vec<(String, Instant, Weighty)>>);

impl WeightyAnswers {
    async fn of(&self, store: &Store, passed: &QuotaPassed) -> Result<Weighty, StoreError> {
        let whole = passed.passed.of != QuotaOf::Repository;
        let shelf = passed.repository.first_component();
        let about = if whole { shelf } else { passed.repository.as_str() };
        let mut answers = self.0.lock().await;
        answers.retain(|(_, at, _)| at.elapsed() < REMEMBERED);
        if let Some((.., known)) = answers.iter().find(|(name, ..)| name == about) {
            return Ok(Arc::clone(known));
        }
        let repository = (!whole).then_some(&passed.repository);
        let found = Arc::new(store.weighty_images(shelf, repository, LOOKED_UP).await?);
        if answers.len() < MOST {
            answers.push((about.to_owned(), Instant::now(), Arc::clone(&found)));
        }
        Ok(found)
    }
}

/// What takes the most room, of what the client may see. Empty: nothing of it.
fn words(weighty: &Weighty, sees: impl Fn(&WeightyImage) -> bool) -> String {
    let name = |one: &WeightyImage| shown(&format!("{}:{}", one.repository, one.tag)).into_owned();
    let list = |all: &[WeightyImage], word: &dyn Fn(&WeightyImage) -> String| {
        let seen = all.iter().filter(|one| sees(one)).take(NAMED);
        seen.map(word).collect::<Vec<_>>().join(", ")
    };
    let (largest, oldest) = &**weighty;
    let largest = list(largest, &|one| format!("{} ({})", name(one), Size(one.bytes)));
    let oldest = list(oldest, &|one| match one.pulled {
        None => format!("{} (never)", name(one)),
        Some(_) => name(one),
    });
    match largest.is_empty() {
        true => String::new(),
        false => format!(". The largest there: {largest}; the longest unpulled: {oldest}"),
    }
}

/// What the client is told of an error of the store: of a passed quota, with what takes it.
pub(crate) async fn explained(app: &App, parts: &Parts, error: StoreError) -> ApiError {
    let StoreError::Quota(passed) = error else { return error.into() };
    let (plan, caller) = (app.plan(), parts.extensions.get::<Caller>());
    // A name that somebody may not pull is not told either.
    let sees = |one: &WeightyImage| {
        one.repository
            .parse()
            .is_ok_and(|name| caller.is_some_and(|caller| plan.may(caller, Action::Pull, &name)))
    };
    let takes = match app.weighty.of(&app.store, &passed).await {
        Ok(weighty) => words(&weighty, sees),
        Err(error) => {
            tracing::warn!(%error, "the images that take a quota could not be listed");
            String::new()
        }
    };
    ApiError::new(Code::Denied, format!("{passed}{takes}"))
}

/// Whether a repository has what comes, as far as it is said what that is.
pub(crate) async fn is_there(
    app: &App,
    repository: &RepositoryName,
    digest: Option<&Digest>,
) -> Result<bool, StoreError> {
    match digest {
        None => Ok(false),
        Some(digest) => Ok(app.store.blob(repository, digest).await?.is_some()),
    }
}

/// Ends an upload that a quota leaves no room for: nothing of it is kept.
pub(crate) async fn give_up(
    app: &App,
    parts: &Parts,
    id: Option<UploadId>,
    writer: BlobWriter,
    error: StoreError,
) -> ApiError {
    drop(writer);
    if let Some(id) = id
        && let Err(error) = app.store.cancel_upload(id).await
    {
        tracing::warn!(%error, "an upload that passes a quota could not be ended");
    }
    explained(app, parts, error).await
}
