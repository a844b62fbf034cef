//! One line and one set of figures for each request, once its last byte is sent.

use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Instant;

use axum::body::Body;
use axum::http::Method;
use axum::response::Response;
use bytes::Bytes;
use larder_core::access::Who;

use crate::app::App;
use crate::meters::{From, Received, Refused, Streamed};

/// A request as it came in.
pub(crate) struct RequestAccount {
    pub app: Arc<App>,
    pub client: Option<IpAddr>,
    /// The cluster that it says it comes from.
    pub cluster: Option<String>,
    /// Who it was found to be.
    pub who: Who,
    pub method: Method,
    pub path: Arc<str>,
    pub resource: &'static str,
    pub began: Instant,
}

/// The methods that the figures know; a client can make up any other.
fn method_name(method: &Method) -> &'static str {
    match *method {
        Method::GET => "GET",
        Method::HEAD => "HEAD",
        Method::PUT => "PUT",
        Method::POST => "POST",
        Method::PATCH => "PATCH",
        Method::DELETE => "DELETE",
        _ => "other",
    }
}

impl RequestAccount {
    /// Closes the account when the last byte of the answer is sent, or nobody takes it any more.
    pub fn close_with(self, response: Response) -> Response {
        let ending = Ending::of(&response);
        self.close(response, ending)
    }

    /// The same with an answer that does not say itself where its content comes from.
    pub fn close_from(self, response: Response, from: From) -> Response {
        let ending = Ending { from: Some(from), ..Ending::of(&response) };
        self.close(response, ending)
    }

    fn close(self, response: Response, ending: Ending) -> Response {
        let length = http_body::Body::size_hint(response.body()).exact();
        let at_once =
            self.method == Method::HEAD || response.extensions().get::<Streamed>().is_none();
        if at_once {
            let sent = if self.method == Method::HEAD { 0 } else { length.unwrap_or(0) };
            self.write(&ending, sent, true);
            return response;
        }
        response.map(|body| {
            let counted = Counted { body, sent: 0, whole: false, account: Some((self, ending)) };
            Body::new(counted)
        })
    }

    fn write(&self, ending: &Ending, sent: u64, whole: bool) {
        let took = self.began.elapsed();
        self.app.gate.took(&self.who, sent.saturating_add(ending.received));
        let meters = &self.app.meters;
        let method = method_name(&self.method);
        let status = ending.status;
        meters.answered(self.resource, method, status, took, sent);
        if ending.received > 0 {
            meters.received.with_label_values(&[self.resource]).inc_by(ending.received);
        }
        if let Some(Refused(code)) = ending.refused {
            meters.errors.with_label_values(&[code]).inc();
        }
        if !tracing::enabled!(target: "larder_server::access", tracing::Level::INFO) {
            return;
        }
        let client = self.client.map(|client| client.to_string()).unwrap_or_default();
        let path = &*self.path;
        let cluster = self.cluster.as_deref().unwrap_or("-");
        let who = match &self.who {
            Who::Anonymous => "-".to_owned(),
            who => who.to_string(),
        };
        let received = ending.received;
        let milliseconds = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
        let from = match ending.from {
            Some(From::Memory) => "memory",
            Some(From::Disk) => "disk",
            Some(From::Upstream) => "upstream",
            None => "-",
        };
        tracing::info!(
            target: "larder_server::access",
            client, cluster, who, %method, path, status, sent, received, milliseconds, from, whole, "request"
        );
    }
}

/// What is known of an answer when it begins.
struct Ending {
    status: u16,
    /// The length that was announced. None: none was.
    length: Option<u64>,
    received: u64,
    from: Option<From>,
    refused: Option<Refused>,
}

impl Ending {
    fn of(response: &Response) -> Self {
        let extensions = response.extensions();
        Self {
            status: response.status().as_u16(),
            length: http_body::Body::size_hint(response.body()).exact().or_else(|| {
                let length = response.headers().get(axum::http::header::CONTENT_LENGTH)?;
                length.to_str().ok()?.parse().ok()
            }),
            received: extensions.get::<Received>().map_or(0, |received| received.0),
            from: extensions.get::<From>().copied(),
            refused: extensions.get::<Refused>().copied(),
        }
    }
}

/// A body that counts what it gives.
struct Counted {
    body: Body,
    sent: u64,
    whole: bool,
    account: Option<(RequestAccount, Ending)>,
}

impl http_body::Body for Counted {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<http_body::Frame<Bytes>, axum::Error>>> {
        let frame = std::task::ready!(Pin::new(&mut self.body).poll_frame(cx));
        match &frame {
            Some(Ok(frame)) => {
                self.sent += frame.data_ref().map_or(0, |data| data.len() as u64);
            }
            Some(Err(_)) => {}
            None => self.whole = true,
        }
        Poll::Ready(frame)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> http_body::SizeHint {
        self.body.size_hint()
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        if let Some((account, ending)) = self.account.take() {
            // Who knows the length does not ask whether that was all.
            let whole = self.whole || ending.length.is_some_and(|length| self.sent >= length);
            account.write(&ending, self.sent, whole);
        }
    }
}
