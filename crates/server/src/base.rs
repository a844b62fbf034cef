//! The base end point: "is this a registry?" (Distribution Specification, "Determining support").

use axum::http::{HeaderName, HeaderValue, header};
use axum::response::{IntoResponse as _, Response};

pub(crate) fn greet() -> Response {
    let mut response = "{}".into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    let version = HeaderName::from_static("docker-distribution-api-version");
    headers.insert(version, HeaderValue::from_static("registry/2.0"));
    response
}
