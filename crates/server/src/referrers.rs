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
use crate::manifests::too_much_at_once;

/// Referrers in one answer.
const PAGE: usize = 100;
/// Bytes of annotations in one answer; the last of them may go beyond. What is left comes with the next page.
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
    // Long: one page, bounded in bytes, filter and next page in one pass.
    let wanted = query(parts, "artifactType").filter(|kind| !kind.is_empty());
    let after = match query(parts, "after").map(|after| after.parse::<Digest>()) {
        None => None,
        Some(Ok(after)) => Some(after),
        Some(Err(error)) => return Err(ApiError::new(Code::DigestInvalid, error.to_string())),
    };
    let warning = cached::referrers(app, repository, subject).await?;
    let mut found = app.store.referrers(repository, subject, after.as_ref(), PAGE + 1).await?;
    let more = found.len() > PAGE;
    found.truncate(PAGE);
    let mut next = found.last().filter(|_| more).map(|last| last.manifest.digest.clone());
    let client = parts.extensions.get::<Client>().map(|client| client.0);
    let mut share = app.memory.share(client);
    let (mut read, mut last) = (0, None);
    let mut shown = Vec::new();
    for record in found {
        if read >= READ {
            next = last;
            break;
        }
        last = Some(record.manifest.digest.clone());
        let kind = record.artifact_type.as_deref();
        if wanted.as_deref().is_none_or(|wanted| kind == Some(wanted)) {
            read += record.annotations_size;
            shown.push(record);
        }
    }
    // Twice: as they are read, and in the answer.
    if !share.grow(usize::try_from(read).unwrap_or(usize::MAX).saturating_mul(2)) {
        return Err(too_much_at_once());
    }
    let digests = shown.iter().map(|one| one.manifest.digest.clone()).collect();
    let annotations = app.store.annotations(repository, digests).await?;
    let entries = shown.into_iter().zip(annotations).map(|(record, annotations)| {
        let mut entry = serde_json::json!({
            "mediaType": record.manifest.media_type, "digest": record.manifest.digest,
            "size": record.manifest.size,
        });
        if let Some(kind) = record.artifact_type {
            entry["artifactType"] = kind.into();
        }
        if !annotations.is_empty() {
            entry["annotations"] = serde_json::json!(annotations);
        }
        entry
    });
    let entries: Vec<serde_json::Value> = entries.collect();
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
