//! Spans of requests, for whoever follows them through several services. Off, they cost a look at a flag.

use std::sync::OnceLock;

use http::{HeaderMap, Request};
use tracing::Span;

pub use larder_client::SPANS;

/// How spans are put below others.
#[derive(Clone, Copy)]
pub struct SpanParents {
    /// Below the one that a request's fields name (W3C Trace Context, `traceparent`).
    pub named: fn(&Span, &HeaderMap),
    /// Below another of ours, which may end before it.
    pub of: fn(&Span, &Span),
}

static PARENTS: OnceLock<SpanParents> = OnceLock::new();

/// From now on every request has a span.
pub fn trace_requests(parents: SpanParents) {
    let _ = PARENTS.set(parents);
}

/// The span of what is begun for the request that is being answered, and may go on after its answer.
pub(crate) fn apart(name: &'static str) -> Span {
    let Some(parents) = PARENTS.get() else { return Span::none() };
    let span = tracing::info_span!(target: SPANS, parent: None, "apart", otel.name = name);
    (parents.of)(&span, &Span::current());
    span
}

/// The span of a request. None: nobody wants one.
pub(crate) fn span_of<B>(request: &Request<B>) -> Option<Span> {
    let parents = PARENTS.get()?;
    let span = tracing::info_span!(
        target: SPANS,
        "request",
        otel.kind = "server",
        otel.name = tracing::field::Empty,
        otel.status_code = tracing::field::Empty,
        http.request.method = request.method().as_str(),
        url.path = request.uri().path(),
        http.response.status_code = tracing::field::Empty,
    );
    let kind = match request.uri().path() {
        path if path.contains("/manifests/") => "manifest",
        path if path.contains("/blobs/uploads") => "upload",
        path if path.contains("/blobs/") => "blob",
        _ => "request",
    };
    span.record("otel.name", format!("{} {kind}", request.method()));
    (parents.named)(&span, request.headers());
    Some(span)
}

/// Notes how it was answered.
pub(crate) fn answered(span: &Span, status: http::StatusCode) {
    span.record("http.response.status_code", status.as_u16());
    if status.is_server_error() {
        span.record("otel.status_code", "ERROR");
    }
}
