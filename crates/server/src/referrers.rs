//! What refers to a manifest (Distribution Specification, "Listing Referrers").

use std::convert::Infallible;

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderName, HeaderValue, header};
use axum::response::{IntoResponse as _, Response};
use bytes::Bytes;
use futures_util::stream;
use larder_core::digest::Digest;
use larder_core::document::media_type;
use larder_core::name::RepositoryName;

use crate::app::App;
use crate::cached;
use crate::error::{ApiError, Code};
use crate::headers::{insert, query};
use crate::limits::Client;
use crate::manifests::{self, too_much_at_once};

/// Referrers in one answer.
const PAGE: usize = 100;
/// Bytes of manifests that are read for one answer; the last of them may go beyond. What is left comes with the next
/// page.
const READ: u64 = 2 * 1024 * 1024;
/// Bytes of an answer that are handed on at once.
const PIECE: usize = 64 * 1024;

/// Answers with an index of them. One that nobody refers to, and one that is not there, has an
/// empty index: its signatures may well come before it.
pub(crate) async fn list(
    app: &App,
    repository: &RepositoryName,
    subject: &Digest,
    parts: &Parts,
) -> Result<Response, ApiError> {
    let wanted = query(parts, "artifactType").filter(|kind| !kind.is_empty());
    let after = match query(parts, "after").map(|after| after.parse::<Digest>()) {
        None => None,
        Some(Ok(after)) => Some(after),
        Some(Err(error)) => return Err(ApiError::new(Code::DigestInvalid, error.to_string())),
    };
    let warning = cached::referrers(app, repository, subject).await?;
    let mut found =
        app.store.ledger.referrers(repository, subject, after.as_ref(), PAGE + 1).await?;
    let more = found.len() > PAGE;
    found.truncate(PAGE);
    let mut next = found.last().filter(|_| more).map(|last| last.digest.clone());
    let mut entries = Vec::new();
    let client = parts.extensions.get::<Client>().map(|client| client.0);
    let mut share = app.memory.share(client);
    let (mut read, mut last) = (0, None);
    for record in found {
        if read >= READ {
            next = last;
            break;
        }
        read += record.size;
        last = Some(record.digest.clone());
        // Twice: as it is read, and in the answer.
        if !share.grow(usize::try_from(record.size).unwrap_or(usize::MAX).saturating_mul(2)) {
            return Err(too_much_at_once());
        }
        let bytes = app.store.read_all(&record.digest, record.size).await?;
        let document = manifests::document(app, bytes, Some(record.media_type.clone())).await?;
        let document = document.map_err(|error| {
            tracing::error!(%error, digest = %record.digest, "a stored manifest cannot be read");
            ApiError::new(Code::ManifestInvalid, format!("{} cannot be read", record.digest))
                .with_status(axum::http::StatusCode::INTERNAL_SERVER_ERROR)
        })?;
        let kind = document.artifact_type();
        if wanted.as_deref().is_some_and(|wanted| kind != Some(wanted)) {
            continue;
        }
        let mut entry = serde_json::json!({
            "mediaType": record.media_type, "digest": record.digest, "size": record.size,
        });
        if let Some(kind) = kind {
            entry["artifactType"] = kind.into();
        }
        if !document.annotations.is_empty() {
            entry["annotations"] = serde_json::json!(document.annotations);
        }
        entries.push(entry);
    }
    let index = serde_json::json!({
        "schemaVersion": 2, "mediaType": media_type::INDEX, "manifests": entries,
    });
    let text = Bytes::from(index.to_string());
    let length = text.len();
    drop(index);
    // Handed on piece by piece, and counted as held until the last one is taken.
    let pieces = stream::unfold((text, share), |(mut text, share)| async move {
        let piece = text.split_to(text.len().min(PIECE));
        (!piece.is_empty()).then_some((Ok::<_, Infallible>(piece), (text, share)))
    });
    let mut response = Body::from_stream(pieces).into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type::INDEX));
    headers.insert(header::CONTENT_LENGTH, HeaderValue::from(length));
    cached::warn(headers, warning.as_ref());
    if let Some(wanted) = &wanted {
        insert(headers, HeaderName::from_static("oci-filters-applied"), "artifactType");
        tracing::debug!(wanted, "referrers filtered");
    }
    if let Some(next) = next {
        let kind = wanted.map(|kind| format!("&artifactType={}", kind.replace('+', "%2B")));
        let kind = kind.unwrap_or_default();
        let link =
            format!("</v2/{repository}/referrers/{subject}?after={next}{kind}>; rel=\"next\"");
        insert(headers, header::LINK, &link);
    }
    Ok(response)
}
