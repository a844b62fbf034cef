//! Blobs on their way in (Distribution Specification, "Pushing blobs", "Mounting a blob").

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::Response;
use futures_util::StreamExt as _;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{BlobWriter, UploadId};

use crate::app::App;
use crate::error::{ApiError, Code};
use crate::headers::{insert, query};

/// POST: opens an upload, takes a whole blob, or takes one over from another repository.
pub(crate) async fn begin(
    app: &App,
    repository: &RepositoryName,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    if let Some(digest) = digest_of(parts, "mount")? {
        let from = query(parts, "from").map(|from| from.parse::<RepositoryName>());
        let there = match from {
            Some(Ok(from)) => app.store.ledger.blob(&from, &digest).await?.is_some(),
            // A mount without a source may take it from anywhere; a name that cannot exist has nothing.
            None => true,
            Some(Err(_)) => false,
        };
        if there && app.store.share_blob(repository, &digest).await? {
            return Ok(created(repository, &digest));
        }
    } else if let Some(digest) = digest_of(parts, "digest")? {
        let id = app.store.blobs.begin().await?;
        return match take(app, id, parts, body).await {
            Ok(writer) => {
                app.store.commit_blob(repository, &digest, writer).await?;
                Ok(created(repository, &digest))
            }
            Err(error) => {
                app.store.blobs.cancel(id).await?;
                Err(error)
            }
        };
    }
    let id = app.store.blobs.begin().await?;
    Ok(progress(StatusCode::ACCEPTED, repository, id, 0))
}

/// PATCH: adds bytes, in order.
pub(crate) async fn add(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    let writer = take(app, id, parts, body).await?;
    let size = writer.park().await?;
    Ok(progress(StatusCode::ACCEPTED, repository, id, size))
}

/// PUT: adds the last bytes, if any, and makes the upload a blob.
pub(crate) async fn finish(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    let Some(digest) = digest_of(parts, "digest")? else {
        return Err(ApiError::new(
            Code::DigestInvalid,
            "the last request of an upload names its `digest`",
        ));
    };
    let writer = take(app, id, parts, body).await?;
    app.store.commit_blob(repository, &digest, writer).await?;
    Ok(created(repository, &digest))
}

/// GET: how far an upload has come.
pub(crate) async fn status(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
) -> Result<Response, ApiError> {
    let size = app.store.blobs.uploaded(id).await?;
    Ok(progress(StatusCode::NO_CONTENT, repository, id, size))
}

/// DELETE: gives an upload up.
pub(crate) async fn cancel(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    app.store.blobs.cancel(id).await?;
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::NO_CONTENT;
    Ok(response)
}

/// Streams a request's body into an upload. What came before a body broke off is kept: the client
/// can ask for the status and go on.
async fn take(
    app: &App,
    id: UploadId,
    parts: &Parts,
    body: Body,
) -> Result<Box<dyn BlobWriter>, ApiError> {
    let mut writer = app.store.blobs.resume(id).await?;
    if let Some(start) = chunk_start(&parts.headers)?
        && start != writer.offset()
    {
        let offset = writer.park().await?;
        let error = ApiError::new(
            Code::BlobUploadInvalid,
            format!("the upload has {offset} bytes; the next chunk starts there, not at {start}"),
        );
        let error = error.with_status(StatusCode::RANGE_NOT_SATISFIABLE);
        return Err(match HeaderValue::from_str(&received(offset)) {
            Ok(range) => error.with_header(header::RANGE, range),
            Err(_) => error,
        });
    }
    let mut body = body.into_data_stream();
    while let Some(chunk) = body.next().await {
        match chunk {
            Ok(chunk) => writer.write(chunk).await?,
            Err(error) => {
                writer.park().await?;
                return Err(ApiError::new(
                    Code::BlobUploadInvalid,
                    format!("the upload broke off: {error}"),
                ));
            }
        }
    }
    Ok(writer)
}

/// Where a chunk says that it starts. None: it does not say.
fn chunk_start(headers: &HeaderMap) -> Result<Option<u64>, ApiError> {
    let Some(range) = headers.get(header::CONTENT_RANGE) else { return Ok(None) };
    let numbers = range.to_str().ok().and_then(|range| {
        let range = range.strip_prefix("bytes ").unwrap_or(range);
        let (start, end) = range.split('/').next()?.split_once('-')?;
        Some((start.parse::<u64>().ok()?, end.parse::<u64>().ok()?))
    });
    match numbers {
        Some((start, end)) if start <= end => Ok(Some(start)),
        _ => {
            let message =
                "Content-Range is written as `START-END`, both counted from 0 and included";
            Err(ApiError::new(Code::BlobUploadInvalid, message)
                .with_status(StatusCode::RANGE_NOT_SATISFIABLE))
        }
    }
}

fn digest_of(parts: &Parts, name: &str) -> Result<Option<Digest>, ApiError> {
    query(parts, name)
        .map(|text| {
            text.parse().map_err(|error: larder_core::digest::DigestError| {
                ApiError::new(Code::DigestInvalid, error.to_string())
            })
        })
        .transpose()
}

fn received(size: u64) -> String {
    format!("0-{}", size.saturating_sub(1))
}

fn progress(status: StatusCode, repository: &RepositoryName, id: UploadId, size: u64) -> Response {
    let mut response = Response::new(Body::empty());
    *response.status_mut() = status;
    let headers = response.headers_mut();
    insert(headers, header::LOCATION, &format!("/v2/{repository}/blobs/uploads/{id}"));
    insert(headers, header::RANGE, &received(size));
    insert(headers, HeaderName::from_static("docker-upload-uuid"), &id.to_string());
    response
}

fn created(repository: &RepositoryName, digest: &Digest) -> Response {
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::CREATED;
    let headers = response.headers_mut();
    insert(headers, header::LOCATION, &format!("/v2/{repository}/blobs/{digest}"));
    insert(headers, HeaderName::from_static("docker-content-digest"), digest.as_str());
    response
}
