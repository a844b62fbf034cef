//! Blobs on their way out (Distribution Specification, "Pulling blobs").

use std::sync::Arc;

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::response::Response;
use futures_util::StreamExt as _;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{Removal, StoreError};

use crate::access::Caller;
use crate::app::App;
use crate::blocked;
use crate::cached::{self, CachedReply};
use crate::error::{ApiError, Code};
use crate::headers::{content_headers, insert, is_known};
use crate::meters::{From, StreamedMark};
use crate::range::{RequestedRange, read_range};
use crate::remembered::KnownAnswer;

/// The part of a blob that is asked for. None: all of it, also where that is asked by HEAD, or only of another content
/// (RFC 9110, sections 14.2 and 13.1.5).
fn range_of<'p>(parts: &'p Parts, digest: &Digest) -> Option<&'p str> {
    if parts.method == Method::HEAD {
        return None;
    }
    // A time of change is never ours: content has none.
    let only = parts.headers.get(header::IF_RANGE);
    if only.is_some_and(|only| only.as_bytes() != format!("\"{digest}\"").as_bytes()) {
        return None;
    }
    parts.headers.get(header::RANGE)?.to_str().ok()
}

/// Content never changes under its digest; but who may have it can.
const FOR_EVER: &str = "private, max-age=31536000, immutable";

pub(crate) async fn get(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
    parts: &Parts,
) -> Result<Response, ApiError> {
    // Long: the states in which a blob can be, each with its answer.
    let caller = parts.extensions.get::<Caller>();
    blocked::check(app, caller, repository.as_str(), [digest]).await?;
    let recalled = recalled(app, parts);
    let is_told = parts.method == Method::HEAD && recalled.is_none();
    let had = match recalled {
        Some(size) => {
            cached::count_recalled(app, repository);
            Some(CachedReply::Here(size))
        }
        None => cached::blob(app, repository, digest, parts).await?,
    };
    let mut passes = false;
    let (size, coming) = match had {
        None => (Some(size(app, repository, digest, parts).await?), None),
        Some(CachedReply::Here(size)) => (Some(size), None),
        Some(CachedReply::Size(size)) => (size, None),
        Some(CachedReply::Coming(taking, size)) => (size, Some(taking)),
        Some(CachedReply::Passing(size)) => {
            passes = true;
            (size, None)
        }
    };
    if is_told && coming.is_none() && !passes && size.is_some() {
        // Who was told that it is here builds on that.
        if let Err(error) = app.store.renew(repository, digest).await {
            tracing::warn!(%error, %digest, "a blob's grace could not be renewed");
        }
    }
    let mut response = Response::new(Body::empty());
    content_headers(response.headers_mut(), digest, "application/octet-stream");
    if is_known(&parts.headers, digest) {
        *response.status_mut() = StatusCode::NOT_MODIFIED;
        return Ok(response);
    }
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static(FOR_EVER));
    let Some(size) = size else {
        // Nobody knows how long it is before it is here: no part of it can be named.
        if let Some(taking) = coming {
            cached::send(&mut response, taking, 0, None);
        } else if passes {
            Box::pin(cached::pass(app, repository, digest, None, None, &mut response)).await?;
        }
        return Ok(response);
    };
    response.headers_mut().insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    let range = match range_of(parts, digest).map(|range| read_range(range, size)) {
        None | Some(RequestedRange::Whole) => 0..size,
        Some(RequestedRange::Part(range)) => {
            *response.status_mut() = StatusCode::PARTIAL_CONTENT;
            let text = format!("bytes {}-{}/{size}", range.start, range.end - 1);
            insert(response.headers_mut(), header::CONTENT_RANGE, &text);
            range
        }
        Some(RequestedRange::Outside) => {
            let error = ApiError::new(Code::SizeInvalid, format!("the blob has {size} bytes"))
                .with_status(StatusCode::RANGE_NOT_SATISFIABLE);
            let text = HeaderValue::from_str(&format!("bytes */{size}"));
            return Err(match text {
                Ok(text) => error.with_header(header::CONTENT_RANGE, text),
                Err(_) => error,
            });
        }
    };
    insert(response.headers_mut(), header::CONTENT_LENGTH, &(range.end - range.start).to_string());
    if parts.method == Method::HEAD {
        return Ok(response);
    }
    cached::count_sent(app, repository, range.end - range.start);
    if let Some(taking) = coming {
        cached::send(&mut response, taking, range.start, Some(range.end));
    } else if passes {
        Box::pin(cached::pass(app, repository, digest, Some(size), Some(range), &mut response))
            .await?;
    } else if size >= REDIRECTED
        && let Some(link) = app.store.link_to(digest).await?
    {
        send_on(&mut response, &link);
    } else {
        let Ok(file) = Arc::clone(&app.readers).try_acquire_owned() else {
            let message =
                "the larder reads as many files as it has handles for; try again in a moment";
            let error = ApiError::new(Code::TooManyRequests, message);
            return Err(error.with_header(header::RETRY_AFTER, HeaderValue::from_static("2")));
        };
        let reader = app.store.read(digest, range).await.map_err(|error| match error {
            StoreError::NotFound(_) => {
                tracing::error!(%digest, "recorded and not there: `larder store verify` tells more");
                absent(repository, digest)
            }
            error => error.into(),
        })?;
        // The handle is free again with the last of the body.
        *response.body_mut() = Body::from_stream(reader.inspect(move |_| _ = &file));
        response.extensions_mut().insert(StreamedMark);
        response.extensions_mut().insert(From::Disk);
    }
    Ok(response)
}

/// Blobs of so many bytes are worth a way of their own.
const REDIRECTED: u64 = 1024 * 1024;

/// Sends a client to where it gets a blob. It asks there for the same part, and shows nothing that it has shown to us.
fn send_on(response: &mut Response, link: &str) {
    let headers = response.headers_mut();
    // What was said of the content is said there; the address does not hold for ever.
    headers.remove(header::CONTENT_LENGTH);
    headers.remove(header::CONTENT_RANGE);
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    insert(headers, header::LOCATION, link);
    *response.status_mut() = StatusCode::TEMPORARY_REDIRECT;
    response.extensions_mut().insert(From::Elsewhere);
}

fn absent(repository: &RepositoryName, digest: &Digest) -> ApiError {
    ApiError::new(Code::BlobUnknown, format!("{repository} has no blob {digest}"))
}

/// The size of a blob that the repository has.
async fn size(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
    parts: &Parts,
) -> Result<u64, ApiError> {
    let moment = app.store.moment(repository);
    let size = app.store.blob(repository, digest).await?;
    let size = size.ok_or_else(|| absent(repository, digest))?;
    if let Some(moment) = moment {
        app.remembered.keep(&app.store, parts.uri.path(), moment, KnownAnswer::blob(size));
    }
    Ok(size)
}

/// The size of a blob that the repository had a moment ago and has still.
fn recalled(app: &App, parts: &Parts) -> Option<u64> {
    match app.remembered.get(&app.store, parts.uri.path())?.0.known {
        KnownAnswer::Blob { size, .. } => Some(size),
        KnownAnswer::Manifest(_) => None,
    }
}

/// The answer to a plain HEAD of a blob whose size is known. None: it is not that plain.
pub(crate) fn head(digest: &Digest, size: u64, asked: &HeaderMap) -> Option<Response> {
    if is_known(asked, digest) {
        return None;
    }
    let mut response = Response::new(Body::empty());
    let headers = response.headers_mut();
    content_headers(headers, digest, "application/octet-stream");
    headers.insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static(FOR_EVER));
    headers.insert(header::CONTENT_LENGTH, HeaderValue::from(size));
    Some(response)
}

/// DELETE: takes a blob from the repository (Distribution Specification, "Deleting Blobs").
pub(crate) async fn delete(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
) -> Result<Response, ApiError> {
    app.check_removal(repository)?;
    match app.store.unlink_blob(repository, digest).await? {
        Removal::Done(()) => {
            let mut response = Response::new(Body::empty());
            *response.status_mut() = StatusCode::ACCEPTED;
            Ok(response)
        }
        Removal::NotThere => Err(absent(repository, digest)),
        Removal::Needed(by) => Err(ApiError::needed(&format!("the blob {digest}"), &by)),
    }
}
