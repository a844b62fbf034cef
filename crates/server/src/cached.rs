//! Requests for what lies on a cached shelf: content is brought here first, then answered as any other.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method};
use axum::response::Response;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;

use crate::app::App;
use crate::cache::{Cache, CachedBlob, CachedShelf, FillInterest, FoundManifest, Trouble, follow};
use crate::error::ApiError;
use crate::headers::warning;
use crate::meters::{From, StreamedMark};
use crate::remembered::KnownAnswer;

pub(crate) const WARNING: HeaderName = HeaderName::from_static("warning");

/// What a tag or digest of a cached shelf points to.
#[derive(Clone)]
pub(crate) struct CachedManifest {
    pub digest: Digest,
    /// The same, where it was just fetched. None: it is in the store.
    pub document: Option<Arc<Document>>,
    /// Until when the same answer may be given again, in milliseconds since 1970. None: for ever.
    pub until: Option<i64>,
    /// What is said with an answer that may be out of date.
    pub warning: Option<HeaderValue>,
    /// Where the content came from.
    pub from: From,
}

/// Brings a manifest here, where its repository lies on a cached shelf. None: on none. `counted`: as an answer to a client.
pub(crate) async fn manifest(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
    counted: bool,
) -> Result<Option<CachedManifest>, ApiError> {
    let Some(shelf) = &app.cache.shelf_of(repository) else { return Ok(None) };
    let path = shelf.upstream_name(repository)?;
    let found = app.cache.manifest(shelf, repository, &path, selector, counted).await?;
    let from = if found.fetched { From::Upstream } else { From::Disk };
    let warning = found.stale.as_ref().map(stale);
    let FoundManifest { digest, until, document, .. } = found;
    Ok(Some(CachedManifest { digest, document, until, warning, from }))
}

/// The field that says that an answer may be out of date, and why.
fn stale(trouble: &Trouble) -> HeaderValue {
    warning(110, &format!("an older answer: {trouble}"))
        .unwrap_or(HeaderValue::from_static("110 larder \"an older answer\""))
}

/// Puts what is said with an answer that may be out of date.
pub(crate) fn warn(headers: &mut HeaderMap, warning: Option<&HeaderValue>) {
    if let Some(warning) = warning {
        headers.insert(WARNING, warning.clone());
    }
}

/// A blob on a cached shelf.
pub(crate) enum CachedReply {
    /// It is here; its size in bytes.
    Here(u64),
    /// It is on its way.
    Coming(FillInterest, Option<u64>),
    /// It passes through.
    Passing(Option<u64>),
    /// Only its size was asked for. None: nobody knows it before it is fetched.
    Size(Option<u64>),
}

/// Has a blob brought here, where its repository lies on a cached shelf. None: on none.
pub(crate) async fn blob(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
    parts: &Parts,
) -> Result<Option<CachedReply>, ApiError> {
    let Some(shelf) = &app.cache.shelf_of(repository) else { return Ok(None) };
    let path = shelf.upstream_name(repository)?;
    let moment = app.store.moment(repository);
    let keep = |size: u64| {
        if let Some(moment) = moment {
            app.remembered.keep(&app.store, parts.uri.path(), moment, KnownAnswer::blob(size));
        }
        Some(CachedReply::Here(size))
    };
    if parts.method == Method::HEAD {
        if let Some(size) = app.store.blob(repository, digest).await? {
            return Ok(keep(size));
        }
        let size = app.cache.blob_size(shelf, repository, &path, digest).await?;
        return Ok(Some(CachedReply::Size(size)));
    }
    Ok(match app.cache.blob(shelf, repository, &path, digest, true).await? {
        CachedBlob::Here(size) => keep(size),
        CachedBlob::Coming(taking, size) => Some(CachedReply::Coming(taking, size)),
        CachedBlob::Passing(size) => Some(CachedReply::Passing(size)),
    })
}

/// Sends bytes of a blob as they come. None as end: all of it.
pub(crate) fn send(response: &mut Response, taking: FillInterest, from: u64, end: Option<u64>) {
    *response.body_mut() = Body::from_stream(follow(taking, from, end));
    response.extensions_mut().insert(StreamedMark);
    response.extensions_mut().insert(From::Upstream);
}

/// Sends bytes of a blob that is not kept, straight from the upstream. None as range: all of it.
pub(crate) async fn pass(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
    size: Option<u64>,
    range: Option<Range<u64>>,
    response: &mut Response,
) -> Result<(), ApiError> {
    let Some((shelf, path)) = place(app, repository)? else { return Ok(()) };
    let passing = app.cache.pass(&shelf, &path, digest, size, range).await?;
    *response.body_mut() = Body::from_stream(passing);
    response.extensions_mut().insert(StreamedMark);
    response.extensions_mut().insert(From::Upstream);
    Ok(())
}

/// Counts what a client is sent of a cached shelf.
pub(crate) fn count_sent(app: &App, repository: &RepositoryName, bytes: u64) {
    if let Some(shelf) = &app.cache.shelf_of(repository) {
        shelf.traffic.sent.fetch_add(bytes, Ordering::Relaxed);
    }
}

/// Counts an answer that was given from memory.
pub(crate) fn count_recalled(app: &App, repository: &RepositoryName) {
    if let Some(shelf) = &app.cache.shelf_of(repository) {
        shelf.traffic.hits.fetch_add(1, Ordering::Relaxed);
    }
}

/// The tags of a repository on a cached shelf: the upstream's, or those that are here while it cannot
/// be asked, with what is said then. None: it lies on no cached shelf.
pub(crate) async fn tags(
    app: &App,
    repository: &RepositoryName,
) -> Result<Option<Result<Arc<Vec<Tag>>, HeaderValue>>, ApiError> {
    let Some((shelf, path)) = place(app, repository)? else { return Ok(None) };
    match app.cache.tags(&shelf, repository, &path).await {
        Ok(tags) => Ok(Some(Ok(tags))),
        Err(trouble) if Cache::may_do_without(&trouble) => Ok(Some(Err(stale(&trouble)))),
        Err(trouble) => Err(trouble.into()),
    }
}

/// Brings here what refers to a manifest on a cached shelf; gives what is said when the upstream
/// cannot be asked.
pub(crate) async fn referrers(
    app: &App,
    repository: &RepositoryName,
    subject: &Digest,
) -> Result<Option<HeaderValue>, ApiError> {
    let Some((shelf, path)) = place(app, repository)? else { return Ok(None) };
    match app.cache.referrers(&shelf, repository, &path, subject).await {
        Ok(()) => Ok(None),
        // What is not there has no referrers (Distribution Specification, "Listing Referrers").
        Err(trouble) if trouble.is_absent() => Ok(None),
        Err(trouble) if Cache::may_do_without(&trouble) => Ok(Some(stale(&trouble))),
        Err(trouble) => Err(trouble.into()),
    }
}

fn place(
    app: &App,
    repository: &RepositoryName,
) -> Result<Option<(Arc<CachedShelf>, RepositoryName)>, ApiError> {
    let Some(shelf) = app.cache.shelf_of(repository) else { return Ok(None) };
    let path = shelf.upstream_name(repository)?;
    Ok(Some((shelf, path)))
}
