//! Blobs on their way out (Distribution Specification, "Pulling blobs").

use std::ops::Range;

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::response::Response;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{Removal, StoreError};

use crate::account::{From, Streamed};
use crate::app::App;
use crate::error::{ApiError, Code};
use crate::headers::{content_headers, insert, is_known};
use crate::remembered::Known;

/// Content never changes under its digest; but who may have it can.
const FOR_EVER: &str = "private, max-age=31536000, immutable";

pub(crate) async fn get(
    app: &App,
    repository: &RepositoryName,
    digest: &Digest,
    parts: &Parts,
) -> Result<Response, ApiError> {
    let size = size(app, repository, digest, parts).await?;
    let mut response = Response::new(Body::empty());
    content_headers(response.headers_mut(), digest, "application/octet-stream");
    if is_known(&parts.headers, digest) {
        *response.status_mut() = StatusCode::NOT_MODIFIED;
        return Ok(response);
    }
    response.headers_mut().insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    let range = parts.headers.get(header::RANGE).and_then(|range| range.to_str().ok());
    let range = match range.map(|range| read_range(range, size)) {
        None | Some(Asked::Whole) => 0..size,
        Some(Asked::Part(range)) => {
            *response.status_mut() = StatusCode::PARTIAL_CONTENT;
            let text = format!("bytes {}-{}/{size}", range.start, range.end - 1);
            insert(response.headers_mut(), header::CONTENT_RANGE, &text);
            range
        }
        Some(Asked::Outside) => {
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
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static(FOR_EVER));
    if parts.method != Method::HEAD {
        let reader = app.store.blobs.read(digest, range).await.map_err(|error| match error {
            StoreError::NotFound(_) => {
                tracing::error!(%digest, "recorded and not there: `larder store verify` tells more");
                absent(repository, digest)
            }
            error => error.into(),
        })?;
        *response.body_mut() = Body::from_stream(reader);
        response.extensions_mut().insert(Streamed);
        response.extensions_mut().insert(From::Disk);
    }
    Ok(response)
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
    let (path, moment) = (parts.uri.path(), app.store.ledger.moment());
    let known = moment.and_then(|moment| app.remembered.get(path, &moment));
    if let Some(Known::Blob(size)) = known {
        return Ok(size);
    }
    let size = app.store.ledger.blob(repository, digest).await?;
    let size = size.ok_or_else(|| absent(repository, digest))?;
    if let Some(moment) = moment {
        app.remembered.keep(path, moment, Known::Blob(size));
    }
    Ok(size)
}

/// The answer to a plain HEAD of a blob whose size is known. None: it is not that plain.
pub(crate) fn head(path: &str, size: u64, asked: &HeaderMap) -> Option<Response> {
    let digest: Digest = path.rsplit('/').next()?.parse().ok()?;
    if asked.contains_key(header::RANGE) || is_known(asked, &digest) {
        return None;
    }
    let mut response = Response::new(Body::empty());
    let headers = response.headers_mut();
    content_headers(headers, &digest, "application/octet-stream");
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
    app.check_writable()?;
    match app.store.upkeep.unlink_blob(repository, digest).await? {
        Removal::Done(()) => {
            let mut response = Response::new(Body::empty());
            *response.status_mut() = StatusCode::ACCEPTED;
            Ok(response)
        }
        Removal::NotThere => Err(absent(repository, digest)),
        Removal::Needed(by) => Err(ApiError::needed(&format!("the blob {digest}"), &by)),
    }
}

/// What a Range header asks for.
#[derive(Debug, PartialEq, Eq)]
enum Asked {
    /// It cannot be read or asks for several pieces: it is ignored, as RFC 9110 allows.
    Whole,
    Part(Range<u64>),
    Outside,
}

/// Reads a Range header (RFC 9110, section 14.2).
fn read_range(text: &str, size: u64) -> Asked {
    let Some((first, last)) = text.strip_prefix("bytes=").and_then(|range| range.split_once('-'))
    else {
        return Asked::Whole;
    };
    let number = |text: &str| {
        text.bytes().all(|b| b.is_ascii_digit()).then(|| text.parse::<u64>().ok()).flatten()
    };
    match (first.trim(), last.trim()) {
        ("", suffix) => match number(suffix) {
            Some(0) => Asked::Outside,
            Some(_) if size == 0 => Asked::Outside,
            Some(count) => Asked::Part(size.saturating_sub(count)..size),
            None => Asked::Whole,
        },
        (first, last) => match (number(first), number(last)) {
            (Some(first), _) if first >= size => Asked::Outside,
            (Some(first), None) if last.is_empty() => Asked::Part(first..size),
            (Some(first), Some(last)) if first <= last => {
                Asked::Part(first..size.min(last.saturating_add(1)))
            }
            _ => Asked::Whole,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_standard_says() {
        for (text, asked) in [
            ("bytes=0-9", Asked::Part(0..10)),
            ("bytes=90-", Asked::Part(90..100)),
            ("bytes=90-1000", Asked::Part(90..100)),
            ("bytes=90-18446744073709551615", Asked::Part(90..100)),
            ("bytes=-10", Asked::Part(90..100)),
            ("bytes=-1000", Asked::Part(0..100)),
            ("bytes=100-", Asked::Outside),
            ("bytes=-0", Asked::Outside),
            ("bytes=9-0", Asked::Whole),
            ("bytes=0-1,5-6", Asked::Whole),
            ("bytes=+1-2", Asked::Whole),
            ("lines=0-1", Asked::Whole),
            ("bytes=x", Asked::Whole),
        ] {
            assert_eq!(read_range(text, 100), asked, "{text}");
        }
        assert_eq!(read_range("bytes=-1", 0), Asked::Outside);
    }

    proptest::proptest! {
        #[test]
        fn a_range_never_leaves_the_blob(text in "bytes=[0-9]{0,21}-[0-9]{0,21}|\\PC*", size in 0u64..1000) {
            if let Asked::Part(range) = read_range(&text, size) {
                proptest::prop_assert!(range.start < range.end && range.end <= size);
            }
        }
    }
}
