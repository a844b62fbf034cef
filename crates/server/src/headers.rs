//! Parts of requests and answers that several handlers share: headers of content, the query.

use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use larder_core::digest::Digest;

use crate::error::{ApiError, Code};

/// The headers that every content has: its type, its digest, and that it never changes.
pub(crate) fn content_headers(headers: &mut HeaderMap, digest: &Digest, media_type: &str) {
    insert(headers, header::CONTENT_TYPE, media_type);
    insert(headers, HeaderName::from_static("docker-content-digest"), digest.as_str());
    insert(headers, header::ETAG, &format!("\"{digest}\""));
}

/// A warning of ours (RFC 7234, section 5.5): the number, and a sentence as far as it is plain ASCII.
pub(crate) fn warning(number: u16, text: &str) -> Option<HeaderValue> {
    let plain = |c: char| if matches!(c, ' '..='~') && c != '"' && c != '\\' { c } else { '?' };
    let text: String = text.chars().map(plain).take(240).collect();
    HeaderValue::from_str(&format!("{number} larder \"{text}\"")).ok()
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
            .any(|tag| tag == "*" || tag == digest.as_str())
    })
}

/// Names in one page of a list, when the client does not ask for fewer.
const PAGE: usize = 1000;

/// How many names a client wants at once (Distribution Specification, "Listing Tags").
pub(crate) fn page_size(parts: &Parts) -> Result<usize, ApiError> {
    match query(parts, "n").as_deref().map(str::parse::<usize>) {
        None => Ok(PAGE),
        Some(Ok(count)) => Ok(count.min(PAGE)),
        Some(Err(_)) => Err(ApiError::new(Code::Unsupported, "`n` must be a number")
            .with_status(StatusCode::BAD_REQUEST)),
    }
}

/// Whether a client takes a media type (RFC 9110, section 12.5.1). One that does not say takes all.
pub(crate) fn accepts(headers: &HeaderMap, media_type: &str) -> bool {
    let mut said = false;
    for value in headers.get_all(header::ACCEPT) {
        let Ok(value) = value.to_str() else { return true };
        for range in value.split(',') {
            let mut parts = range.split(';').map(str::trim);
            let range = parts.next().unwrap_or_default();
            if range.is_empty() {
                continue;
            }
            said = true;
            let refused = parts.any(|part| matches!(part, "q=0" | "q=0.0" | "q=0.00" | "q=0.000"));
            let family = range.strip_suffix("/*").is_some_and(|family| {
                family == "*" || media_type.split('/').next() == Some(family)
            });
            // Some clients ask for JSON and mean any document.
            let json = range.eq_ignore_ascii_case("application/json");
            if !refused && (family || json || range.eq_ignore_ascii_case(media_type)) {
                return true;
            }
        }
    }
    !said
}

/// One parameter of a request's query, decoded. None: it is not there.
pub(crate) fn query(parts: &Parts, name: &str) -> Option<String> {
    let query = parts.uri.query()?;
    let (_, value) =
        query.split('&').filter_map(|pair| pair.split_once('=')).find(|(key, _)| *key == name)?;
    // A `+` stays one: media types have it, and no value here has a space.
    percent_encoding::percent_decode_str(value).decode_utf8().ok().map(std::borrow::Cow::into_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_client_takes_is_read_from_its_header() {
        let index = "application/vnd.oci.image.index.v1+json";
        for (accept, takes) in [
            (None, true),
            (Some(""), true),
            (Some("*/*"), true),
            (Some("application/*"), true),
            (Some("application/json"), true),
            (Some("text/html, application/vnd.oci.image.index.v1+json; q=0.5"), true),
            (Some("text/*"), false),
            (Some("application/vnd.oci.image.manifest.v1+json"), false),
            (Some("application/vnd.oci.image.index.v1+json;q=0"), false),
        ] {
            let mut headers = HeaderMap::new();
            if let Some(accept) = accept {
                headers.insert(header::ACCEPT, HeaderValue::from_static(accept));
            }
            assert_eq!(accepts(&headers, index), takes, "{accept:?}");
        }
    }
}
