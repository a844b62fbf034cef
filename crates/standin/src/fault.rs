//! What can go wrong with an upstream, put in front of a server that works.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use bytes::Bytes;
use futures_util::future::BoxFuture;
use futures_util::{FutureExt as _, StreamExt as _};

/// One thing that goes wrong.
#[derive(Debug, Clone)]
pub struct Fault {
    /// Requests of this method. None: of any.
    pub method: Option<&'static str>,
    /// Requests whose path contains this.
    pub path: String,
    /// How often it still goes wrong.
    pub times: usize,
    pub what: FaultKind,
}

/// How it goes wrong.
#[derive(Debug, Clone)]
pub enum FaultKind {
    /// This status, with a `Retry-After` in seconds where one is given.
    Status(u16, Option<u32>),
    /// The body breaks off after so many bytes, although its length was announced.
    CutAfter(usize),
    /// The body stops after so many bytes and never goes on.
    StallAfter(usize),
    /// It sends us to the same path at another address.
    Redirect(String),
    /// The answer has this field more.
    Says(&'static str, String),
    /// The answer lacks this field; without its length, the body comes in chunks.
    Without(&'static str),
    /// The body has so many bytes more, and the length says so.
    Longer(usize),
    /// One byte of the body is another.
    Altered,
    /// The answer comes so much later.
    Late(Duration),
    /// Another page altogether, as a portal sends it for every address.
    Page,
}

/// The faults of one upstream, changed while it runs.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    list: Arc<Mutex<Vec<Fault>>>,
}

impl Faults {
    /// Adds one.
    pub fn add(&self, method: Option<&'static str>, path: &str, times: usize, what: FaultKind) {
        self.list().push(Fault { method, path: path.to_owned(), times, what });
    }

    /// All is well again.
    pub fn clear(&self) {
        self.list().clear();
    }

    fn list(&self) -> MutexGuard<'_, Vec<Fault>> {
        self.list.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn take(&self, request: &Request) -> Option<FaultKind> {
        let mut list = self.list();
        let fault = list.iter_mut().find(|fault| {
            fault.times > 0
                && fault.method.is_none_or(|method| request.method() == method)
                && request.uri().path().contains(&fault.path)
        })?;
        fault.times -= 1;
        Some(fault.what.clone())
    }

    /// Answers a request, wrongly when a fault is due.
    pub(crate) async fn answer(&self, request: Request, next: axum::middleware::Next) -> Response {
        match self.take(&request) {
            None => next.run(request).await,
            Some(FaultKind::Late(pause)) => {
                tokio::time::sleep(pause).await;
                next.run(request).await
            }
            Some(FaultKind::Status(status, retry_after)) => {
                let status =
                    StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
                let mut response = (status, "").into_response();
                if let Some(seconds) = retry_after {
                    response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(seconds));
                }
                response
            }
            Some(FaultKind::Redirect(to)) => {
                let path = request.uri().path_and_query().map_or("/", |path| path.as_str());
                let mut response = StatusCode::TEMPORARY_REDIRECT.into_response();
                if let Ok(location) = HeaderValue::from_str(&format!("{to}{path}")) {
                    response.headers_mut().insert(header::LOCATION, location);
                }
                response
            }
            Some(FaultKind::Says(name, value)) => {
                let mut response = next.run(request).await;
                if let Ok(value) = HeaderValue::from_str(&value) {
                    response.headers_mut().insert(name, value);
                }
                response
            }
            Some(FaultKind::Without(name)) => {
                let (mut parts, body) = next.run(request).await.into_parts();
                parts.headers.remove(name);
                Response::from_parts(parts, Body::from_stream(body.into_data_stream()))
            }
            Some(FaultKind::StallAfter(limit)) => {
                shortened(next.run(request).await, limit, || std::future::pending().boxed())
            }
            Some(FaultKind::Page) => {
                let page = "<html><body>Please accept the terms.</body></html>";
                ([(header::CONTENT_TYPE, "text/html")], page).into_response()
            }
            Some(FaultKind::CutAfter(limit)) => shortened(next.run(request).await, limit, || {
                // So that what came before is on its way.
                tokio::time::sleep(Duration::from_millis(20)).boxed()
            }),
            Some(FaultKind::Longer(more)) => {
                let (mut parts, body) = next.run(request).await.into_parts();
                let length = parts.headers.get(header::CONTENT_LENGTH);
                let length = length.and_then(|text| text.to_str().ok()?.parse::<usize>().ok());
                if let Some(length) = length {
                    parts.headers.insert(header::CONTENT_LENGTH, HeaderValue::from(length + more));
                }
                let rest = futures_util::stream::once(async move { Ok(vec![0; more].into()) });
                Response::from_parts(parts, Body::from_stream(body.into_data_stream().chain(rest)))
            }
            Some(FaultKind::Altered) => {
                let (parts, body) = next.run(request).await.into_parts();
                let mut done = false;
                let body = body.into_data_stream().map(move |chunk| {
                    let chunk = chunk.map_err(std::io::Error::other)?;
                    if std::mem::replace(&mut done, true) || chunk.is_empty() {
                        return Ok::<_, std::io::Error>(chunk);
                    }
                    let mut wrong = chunk.to_vec();
                    wrong[0] ^= 1;
                    Ok(Bytes::from(wrong))
                });
                Response::from_parts(parts, Body::from_stream(body))
            }
        }
    }
}

/// The answer with so many bytes of its body; then `wait`, and the connection breaks.
fn shortened<F>(response: Response, limit: usize, wait: F) -> Response
where
    F: Fn() -> BoxFuture<'static, ()> + Send + 'static,
{
    let (parts, body) = response.into_parts();
    let mut left = limit;
    // One empty piece more, so that a body of a single piece is cut too.
    let end = futures_util::stream::once(async { Ok(Bytes::new()) });
    let body = body.into_data_stream().chain(end).then(move |chunk| {
        let chunk = chunk.map_err(std::io::Error::other).map(|mut chunk| {
            chunk.truncate(left);
            chunk
        });
        left -= chunk.as_ref().map_or(0, Bytes::len);
        let wait = chunk.as_ref().is_ok_and(Bytes::is_empty).then(&wait);
        async move {
            match wait {
                Some(wait) => {
                    wait.await;
                    Err(std::io::Error::other("cut"))
                }
                None => chunk,
            }
        }
    });
    Response::from_parts(parts, Body::from_stream(body))
}
