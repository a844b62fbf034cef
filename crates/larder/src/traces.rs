//! Traces for others (OTLP over HTTP): where they go is told as the specification of OpenTelemetry says, by
//! `OTEL_EXPORTER_OTLP_TRACES_ENDPOINT` or `OTEL_EXPORTER_OTLP_ENDPOINT`. Without either nothing is traced.

use std::sync::OnceLock;

use larder_client::{Web, WebOptions};
use larder_server::SpanParents;
use opentelemetry::propagation::{Extractor, TextMapPropagator as _};
use opentelemetry::trace::TracerProvider as _;
use opentelemetry_http::{Bytes, HttpClient, HttpError, Request, Response};
use opentelemetry_otlp::{Protocol, WithExportConfig as _, WithHttpConfig as _};
use opentelemetry_sdk::Resource;
use opentelemetry_sdk::propagation::TraceContextPropagator;
use opentelemetry_sdk::trace::SdkTracerProvider;
use tracing::Span;
use tracing_opentelemetry::OpenTelemetrySpanExt as _;

static PROVIDER: OnceLock<SdkTracerProvider> = OnceLock::new();

/// Where traces go. None: nowhere.
fn endpoint() -> Option<String> {
    let said = |name| std::env::var(name).ok().filter(|text: &String| !text.is_empty());
    said("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT").or_else(|| {
        let base = said("OTEL_EXPORTER_OTLP_ENDPOINT")?;
        Some(format!("{}/v1/traces", base.trim_end_matches('/')))
    })
}

/// What sends them: our own client, in our own runtime.
#[derive(Debug)]
struct Sender {
    runtime: tokio::runtime::Handle,
}

#[async_trait::async_trait]
impl HttpClient for Sender {
    async fn send_bytes(&self, request: Request<Bytes>) -> Result<Response<Bytes>, HttpError> {
        let (parts, body) = request.into_parts();
        let sent = self.runtime.spawn(async move {
            let web = Web::new(&parts.uri.to_string(), WebOptions::default())?;
            web.send("POST", "", Some(("application/json", body.to_vec()))).await
        });
        let answer = sent.await??;
        Ok(Response::builder().status(answer.status).body(answer.body.into())?)
    }
}

/// A layer that takes up spans. None: nobody wants traces.
///
/// # Errors
/// In words, when they cannot be sent there.
pub fn layer<S>(
    runtime: tokio::runtime::Handle,
) -> Result<Option<impl tracing_subscriber::Layer<S>>, String>
where
    S: tracing::Subscriber + for<'s> tracing_subscriber::registry::LookupSpan<'s>,
{
    let Some(endpoint) = endpoint() else { return Ok(None) };
    let exporter = opentelemetry_otlp::SpanExporter::builder()
        .with_http()
        .with_http_client(Sender { runtime })
        .with_protocol(Protocol::HttpJson)
        .with_endpoint(endpoint)
        .build()
        .map_err(|error| error.to_string())?;
    let resource = Resource::builder().with_service_name("larder").build();
    let provider =
        SdkTracerProvider::builder().with_resource(resource).with_batch_exporter(exporter).build();
    let tracer = provider.tracer("larder");
    let _ = PROVIDER.set(provider);
    larder_server::trace_requests(SpanParents { named: below, of: beside });
    Ok(Some(
        tracing_opentelemetry::layer()
            .with_tracer(tracer)
            .with_location(false)
            .with_threads(false)
            .with_target(false),
    ))
}

/// The fields of a request, as the propagator reads them.
struct Fields<'f>(&'f http::HeaderMap);

impl Extractor for Fields<'_> {
    fn get(&self, key: &str) -> Option<&str> {
        self.0.get(key)?.to_str().ok()
    }

    fn keys(&self) -> Vec<&str> {
        self.0.keys().map(http::HeaderName::as_str).collect()
    }
}

/// Puts a span below the one that a request names.
fn below(span: &Span, fields: &http::HeaderMap) {
    let context = TraceContextPropagator::new().extract(&Fields(fields));
    // A span that nobody takes up has no parent.
    let _ = span.set_parent(context);
}

/// Puts a span below another, which may end before it.
fn beside(span: &Span, of: &Span) {
    let _ = span.set_parent(of.context());
}

/// Sends what is left.
pub async fn finish() {
    let Some(provider) = PROVIDER.get() else { return };
    let ended = tokio::task::spawn_blocking(|| provider.shutdown()).await;
    if let Ok(Err(error)) = ended {
        tracing::warn!(%error, "the last traces could not be sent");
    }
}
