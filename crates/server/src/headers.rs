//! Parts of requests and answers that several handlers share: headers of content, the query.

use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use larder_core::digest::Digest;

/// The headers that every content has: its type, its digest, and that it never changes.
pub(crate) fn content_headers(headers: &mut HeaderMap, digest: &Digest, media_type: &str) {
    insert(headers, header::CONTENT_TYPE, media_type);
    insert(headers, HeaderName::from_static("docker-content-digest"), digest.as_str());
    insert(headers, header::ETAG, &format!("\"{digest}\""));
}

pub(crate) fn insert(headers: &mut HeaderMap, name: HeaderName, value: &str) {
    if let Ok(value) = HeaderValue::from_str(value) {
        headers.insert(name, value);
    }
}

/// Whether the client says that it has the content (RFC 9110, "If-None-Match").
pub(crate) fn is_known(headers: &HeaderMap, digest: &Digest) -> bool {
    let tags = headers.get(header::IF_NONE_MATCH).and_then(|tags| tags.to_str().ok());
    tags.is_some_and(|tags| {
        tags.split(',')
            .map(|tag| tag.trim().trim_start_matches("W/").trim_matches('"'))
            .any(|tag| tag == digest.as_str())
    })
}

/// One parameter of a request's query, decoded. None: it is not there.
pub(crate) fn query(parts: &Parts, name: &str) -> Option<String> {
    let query = parts.uri.query()?;
    let (_, value) =
        query.split('&').filter_map(|pair| pair.split_once('=')).find(|(key, _)| *key == name)?;
    // A `+` stays one: media types have it, and no value here has a space.
    percent_encoding::percent_decode_str(value).decode_utf8().ok().map(std::borrow::Cow::into_owned)
}
