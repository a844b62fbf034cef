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
use crate::meters::{From, ReceivedBytes, RefusalCode, StreamedMark, ToldNumber};

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
        let ending = AnswerBegin::of(&response);
        self.close(response, ending)
    }

    /// The same with an answer that does not say itself where its content comes from.
    pub fn close_from(self, response: Response, from: From) -> Response {
        let ending = AnswerBegin { from: Some(from), ..AnswerBegin::of(&response) };
        self.close(response, ending)
    }

    fn close(self, response: Response, ending: AnswerBegin) -> Response {
        let length = http_body::Body::size_hint(response.body()).exact();
        let at_once =
            self.method == Method::HEAD || response.extensions().get::<StreamedMark>().is_none();
        if at_once {
            let sent = if self.method == Method::HEAD { 0 } else { length.unwrap_or(0) };
            self.write(&ending, sent, true);
            return response;
        }
        response.map(|body| {
            let counted =
                CountedBody { body, sent: 0, whole: false, account: Some((self, ending)) };
            Body::new(counted)
        })
    }

    fn write(&self, ending: &AnswerBegin, sent: u64, whole: bool) {
        let took = self.began.elapsed();
        self.app.gate.took(&self.who, sent.saturating_add(ending.received));
        let meters = &self.app.meters;
        let method = method_name(&self.method);
        let status = ending.status;
        meters.answered(self.resource, method, status, took, sent);
        if ending.received > 0 {
            meters.received.with_label_values(&[self.resource]).inc_by(ending.received);
        }
        if let Some(RefusalCode(code)) = ending.refused {
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
        let number = ending.number.as_ref().map_or("-", |ToldNumber(number)| number);
        let milliseconds = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
        let from = match ending.from {
            Some(From::Memory) => "memory",
            Some(From::Disk) => "disk",
            Some(From::Upstream) => "upstream",
            Some(From::Elsewhere) => "elsewhere",
            None => "-",
        };
        tracing::info!(
            target: "larder_server::access",
            client, cluster, who, %method, path, status, sent, received, milliseconds, from, whole, number, "request"
        );
    }
}

/// What is known of an answer when it begins.
struct AnswerBegin {
    status: u16,
    /// The length that was announced. None: none was.
    length: Option<u64>,
    received: u64,
    from: Option<From>,
    refused: Option<RefusalCode>,
    /// Under which number the record has it. None: the client was told none.
    number: Option<ToldNumber>,
}

impl AnswerBegin {
    fn of(response: &Response) -> Self {
        let extensions = response.extensions();
        Self {
            status: response.status().as_u16(),
            length: http_body::Body::size_hint(response.body()).exact().or_else(|| {
                let length = response.headers().get(axum::http::header::CONTENT_LENGTH)?;
                length.to_str().ok()?.parse().ok()
            }),
            received: extensions.get::<ReceivedBytes>().map_or(0, |received| received.0),
            from: extensions.get::<From>().copied(),
            refused: extensions.get::<RefusalCode>().copied(),
            number: extensions.get::<ToldNumber>().cloned(),
        }
    }
}

/// A body that counts what it gives.
struct CountedBody {
    body: Body,
    sent: u64,
    whole: bool,
    account: Option<(RequestAccount, AnswerBegin)>,
}

impl http_body::Body for CountedBody {
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

impl Drop for CountedBody {
    fn drop(&mut self) {
        if let Some((account, ending)) = self.account.take() {
            // Who knows the length does not ask whether that was all.
            let whole = self.whole || ending.length.is_some_and(|length| self.sent >= length);
            account.write(&ending, self.sent, whole);
        }
    }
}
