//! Manifests and indexes, byte for byte (Distribution Specification, "Pulling manifests" and
//! "Pushing manifests").

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderName, Method, StatusCode, header};
use axum::response::Response;
use bytes::Bytes;
use http_body_util::{BodyExt as _, LengthLimitError, Limited};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Document, MANIFEST_LIMIT};
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;

use crate::app::App;
use crate::error::{ApiError, Code};
use crate::headers::{content_headers, insert, is_known};

pub(crate) async fn get(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
    parts: &Parts,
) -> Result<Response, ApiError> {
    let Some(record) = app.store.ledger.manifest(repository, selector).await? else {
        return Err(absent(app, repository, selector).await?);
    };
    let mut response = Response::new(Body::empty());
    // Runtimes need the exact type, length and digest already with HEAD.
    content_headers(response.headers_mut(), &record.digest, &record.media_type);
    if is_known(&parts.headers, &record.digest) {
        *response.status_mut() = StatusCode::NOT_MODIFIED;
        return Ok(response);
    }
    insert(response.headers_mut(), header::CONTENT_LENGTH, &record.size.to_string());
    if parts.method != Method::HEAD {
        *response.body_mut() = Body::from(app.store.read_all(&record.digest, record.size).await?);
    }
    Ok(response)
}

/// Why there is nothing under a tag or digest.
async fn absent(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
) -> Result<ApiError, ApiError> {
    let ledger = &app.store.ledger;
    if ledger.tags(repository, None, 1).await?.is_none() {
        return Ok(ApiError::new(
            Code::NameUnknown,
            format!("there is no repository {repository}"),
        ));
    }
    let message = match selector {
        Selector::Digest(digest) if ledger.is_absent_child(repository, digest).await? => {
            format!("{digest} is for a platform that was not brought into {repository}")
        }
        selector => format!("{repository} has no {selector}"),
    };
    Ok(ApiError::new(Code::ManifestUnknown, message))
}

pub(crate) async fn put(
    app: &App,
    repository: &RepositoryName,
    selector: Selector,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    let announced = parts.headers.get(header::CONTENT_TYPE);
    let announced = announced.and_then(|value| value.to_str().ok()).map(str::to_owned);
    let bytes = read_body(body).await?;
    let (digest, tag) = match selector {
        Selector::Digest(expected) => {
            let mut hasher = Hasher::new(expected.algorithm());
            hasher.update(&bytes);
            let actual = hasher.finish();
            if actual != expected {
                let message = format!("the manifest has the digest {actual}, not {expected}");
                return Err(ApiError::new(Code::DigestInvalid, message));
            }
            (expected, None)
        }
        Selector::Tag(tag) => (Digest::of(&bytes), Some(tag)),
    };
    let document = Document::read(bytes, announced.as_deref())
        .map_err(|error| ApiError::new(Code::ManifestInvalid, error.to_string()))?;
    app.store.put_manifest(repository, &digest, &document, tag, false).await?;

    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::CREATED;
    let headers = response.headers_mut();
    insert(headers, header::LOCATION, &format!("/v2/{repository}/manifests/{digest}"));
    insert(headers, HeaderName::from_static("docker-content-digest"), digest.as_str());
    if let Some(subject) = &document.subject {
        // Says that the referrers end point knows it now, so that the client need keep no list itself.
        insert(headers, HeaderName::from_static("oci-subject"), subject.digest.as_str());
    }
    Ok(response)
}

/// The whole body, up to the limit of manifests.
async fn read_body(body: Body) -> Result<Bytes, ApiError> {
    match Limited::new(body, MANIFEST_LIMIT).collect().await {
        Ok(body) => Ok(body.to_bytes()),
        Err(error) if error.is::<LengthLimitError>() => {
            let error = ApiError::new(Code::ManifestInvalid, "a manifest has 4 MiB at most");
            Err(error.with_status(StatusCode::PAYLOAD_TOO_LARGE))
        }
        Err(error) => {
            Err(ApiError::new(Code::ManifestInvalid, format!("the manifest broke off: {error}")))
        }
    }
}
