//! What a request still sends after its answer is known: it is read and thrown away, within bounds.
//!
//! A client that sends before it reads would otherwise lose the answer: its connection is reset (HTTP/1.1), or its stream
//! is (HTTP/2, RFC 9113, section 8.1, which not every client takes for the end of a good answer).

use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::{Body, HttpBody};
use axum::http::{HeaderMap, HeaderValue, Version, header};
use axum::response::Response;
use bytes::Bytes;
use futures_util::StreamExt as _;
use hyper::body::{Frame, SizeHint};

/// Bytes that are read and thrown away.
const MOST: usize = 256 * 1024 * 1024;
/// How long that may take, and how long nothing may come.
const TIME: Duration = Duration::from_secs(30);
const IDLE: Duration = Duration::from_secs(1);

type LeftBody = Arc<Mutex<Option<Body>>>;

/// A body that comes back when its reader has enough.
struct KeptBody {
    body: Option<Body>,
    left: LeftBody,
}

impl HttpBody for KeptBody {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        let Some(body) = &mut self.body else { return Poll::Ready(None) };
        let frame = Pin::new(body).poll_frame(cx);
        // What has ended or broken off leaves nothing.
        if matches!(frame, Poll::Ready(None | Some(Err(_)))) {
            self.body = None;
        }
        frame
    }

    fn is_end_stream(&self) -> bool {
        self.body.as_ref().is_none_or(HttpBody::is_end_stream)
    }

    fn size_hint(&self) -> SizeHint {
        self.body.as_ref().map_or_else(|| SizeHint::with_exact(0), HttpBody::size_hint)
    }
}

impl Drop for KeptBody {
    fn drop(&mut self) {
        let body = self.body.take().filter(|body| !body.is_end_stream());
        *self.left.lock().unwrap_or_else(PoisonError::into_inner) = body;
    }
}

/// What may be left of a request.
pub(crate) struct Rest {
    left: LeftBody,
    first: bool,
    asks_first: bool,
}

impl Rest {
    /// Keeps an eye on a request's body.
    pub fn of(version: Version, headers: &HeaderMap, body: Body) -> (Body, Self) {
        let left = LeftBody::default();
        // A client that asks before sending has sent nothing.
        let asks_first = headers.contains_key(header::EXPECT);
        let rest = Self { left: Arc::clone(&left), first: version < Version::HTTP_2, asks_first };
        if body.is_end_stream() {
            return (body, rest);
        }
        (Body::new(KeptBody { body: Some(body), left }), rest)
    }

    /// Reads what is left beside the answer, which says where its connection ends with it.
    pub fn throw_away(self, response: &mut Response) {
        let left = self.left.lock().unwrap_or_else(PoisonError::into_inner).take();
        let Some(body) = left else { return };
        if self.first {
            response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
        }
        if self.asks_first {
            return;
        }
        tokio::spawn(tokio::time::timeout(TIME, async move {
            let (mut pieces, mut read) = (body.into_data_stream(), 0);
            while let Ok(Some(Ok(piece))) = tokio::time::timeout(IDLE, pieces.next()).await {
                read += piece.len();
                if read > MOST {
                    return;
                }
            }
        }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rest(
        version: Version,
        fields: &[(&'static str, &'static str)],
        bytes: &str,
    ) -> (Body, Rest) {
        let fields = fields.iter().map(|(name, value)| {
            (header::HeaderName::from_static(name), HeaderValue::from_static(value))
        });
        let pieces = bytes.to_owned();
        let stream = futures_util::stream::iter([Ok::<_, std::io::Error>(pieces)]);
        Rest::of(version, &fields.collect(), Body::from_stream(stream))
    }

    #[tokio::test]
    async fn an_answer_says_that_its_connection_ends_when_something_is_left() {
        for (version, read, ends) in [
            (Version::HTTP_11, false, true),
            (Version::HTTP_11, true, false),
            (Version::HTTP_2, false, false),
        ] {
            let (body, rest) = rest(version, &[], "body");
            match read {
                true => drop(axum::body::to_bytes(body, 10).await.unwrap()),
                false => drop(body),
            }
            let mut response = Response::new(Body::empty());
            rest.throw_away(&mut response);
            let told = response.headers().contains_key(header::CONNECTION);
            assert_eq!(told, ends, "{version:?}, read: {read}");
        }
        let (body, rest) = Rest::of(Version::HTTP_11, &HeaderMap::new(), Body::empty());
        drop(body);
        let mut response = Response::new(Body::empty());
        rest.throw_away(&mut response);
        assert!(response.headers().is_empty(), "nothing was sent");
    }

    #[tokio::test]
    async fn what_is_left_is_read_unless_its_client_asks_first() {
        for (fields, is_read) in [(&[][..], true), (&[("expect", "100-continue")][..], false)] {
            let read = Arc::new(Mutex::new(false));
            let seen = Arc::clone(&read);
            let stream = futures_util::stream::once(async move {
                *seen.lock().unwrap() = true;
                Ok::<_, std::io::Error>("body")
            });
            let fields = fields.iter().map(|(name, value)| {
                (header::HeaderName::from_static(name), HeaderValue::from_static(value))
            });
            let (body, rest) =
                Rest::of(Version::HTTP_2, &fields.collect(), Body::from_stream(stream));
            drop(body);
            rest.throw_away(&mut Response::new(Body::empty()));
            tokio::time::sleep(Duration::from_millis(20)).await;
            assert_eq!(*read.lock().unwrap(), is_read);
        }
    }
}
