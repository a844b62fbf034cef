//! A quota that a push would pass: refused, with what takes the most of it.

use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::quantity::Size;
use larder_core::quota::QuotaOf;
use larder_core::shown::shown;
use larder_store::{BlobWriter, QuotaPassed, Store, StoreError, UploadId, WeightyImage};
use tokio::time::{Duration, Instant};

use crate::app::App;
use crate::error::{ApiError, Code};

/// Images of each kind that are named.
const NAMED: usize = 2;
/// How long an answer about a shelf's images is given again: it is long to find, and refused clients ask again.
const REMEMBERED: Duration = Duration::from_secs(60);
/// Answers that are remembered.
const MOST: usize = 64;

/// What takes room, as it was found a moment ago.
#[derive(Default)]
pub(crate) struct WeightyAnswers(tokio::sync::Mutex<Vec<(String, Instant, String)>>);

impl WeightyAnswers {
    /// In words. Empty: nothing is known that could go.
    async fn of(&self, store: &Store, passed: &QuotaPassed) -> String {
        let whole = passed.passed.of != QuotaOf::Repository;
        let shelf = passed.repository.first_component();
        let about = if whole { shelf } else { passed.repository.as_str() };
        let mut answers = self.0.lock().await;
        answers.retain(|(_, at, _)| at.elapsed() < REMEMBERED);
        if let Some((.., text)) = answers.iter().find(|(name, ..)| name == about) {
            return text.clone();
        }
        let repository = (!whole).then_some(&passed.repository);
        let text = match store.weighty_images(shelf, repository, NAMED).await {
            Ok((largest, oldest)) => words(&largest, &oldest),
            Err(error) => {
                tracing::warn!(%error, "the images that take a quota could not be listed");
                String::new()
            }
        };
        if answers.len() < MOST {
            answers.push((about.to_owned(), Instant::now(), text.clone()));
        }
        text
    }
}

fn words(largest: &[WeightyImage], oldest: &[WeightyImage]) -> String {
    if largest.is_empty() {
        return String::new();
    }
    let name = |one: &WeightyImage| shown(&format!("{}:{}", one.repository, one.tag)).into_owned();
    let by_size = largest.iter().map(|one| format!("{} ({})", name(one), Size(one.bytes)));
    let by_pull = oldest.iter().map(|one| match one.pulled {
        None => format!("{} (never)", name(one)),
        Some(_) => name(one),
    });
    let list = |all: Vec<String>| all.join(", ");
    format!(
        ". The largest there: {}; the longest unpulled: {}",
        list(by_size.collect()),
        list(by_pull.collect())
    )
}

/// What the client is told of an error of the store: of a passed quota, with what takes it.
pub(crate) async fn explained(app: &App, error: StoreError) -> ApiError {
    match error {
        StoreError::Quota(passed) => {
            let takes = app.weighty.of(&app.store, &passed).await;
            ApiError::new(Code::Denied, format!("{passed}{takes}"))
        }
        error => error.into(),
    }
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
    explained(app, error).await
}
