//! HTTP/2 connections and their streams, bounded in time like connections of HTTP/1.1: a client that takes nothing of
//! an answer holds no file and no memory for it, and one that asks nothing holds no connection.

use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::Body;
use bytes::Bytes;
use http_body::{Frame, SizeHint};
use tokio::time::Instant;

use crate::limits::Limits;

/// What goes on on one connection.
#[derive(Default)]
pub(crate) struct ConnectionTraffic {
    /// Whether it has asked anything yet, by whichever protocol.
    asked: AtomicBool,
    /// Whether it speaks HTTP/2.
    is_second: AtomicBool,
    /// Requests that are not answered to their end.
    active: AtomicUsize,
    /// When the last of them ended.
    ended: Mutex<Option<Instant>>,
    bodies: Mutex<Vec<Weak<SharedBody>>>,
}

/// An answer's body, until it has ended or was given up.
struct SharedBody {
    inner: Mutex<Option<Body>>,
    polled: Mutex<Instant>,
}

/// That a request is being answered.
pub(crate) struct Active(Arc<ConnectionTraffic>);

impl Drop for Active {
    fn drop(&mut self) {
        self.0.active.fetch_sub(1, Ordering::AcqRel);
        *lock(&self.0.ended) = Some(Instant::now());
    }
}

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl ConnectionTraffic {
    /// A request of HTTP/1.1 came: its own time limits hold.
    pub fn asks_first(&self) {
        self.asked.store(true, Ordering::Relaxed);
    }

    /// A request of HTTP/2 came.
    pub fn asks_second(self: &Arc<Self>) -> Active {
        self.asked.store(true, Ordering::Relaxed);
        self.is_second.store(true, Ordering::Relaxed);
        self.active.fetch_add(1, Ordering::AcqRel);
        Active(Arc::clone(self))
    }

    /// Watches the body of an answer until it has ended.
    pub fn watch(&self, body: Body, active: Active) -> Body {
        let shared = Arc::new(SharedBody {
            inner: Mutex::new(Some(body)),
            polled: Mutex::new(Instant::now()),
        });
        lock(&self.bodies).push(Arc::downgrade(&shared));
        Body::new(WatchedStream { shared, _active: active })
    }

    /// Gives up what nobody takes, for as long as the connection lasts. It ends when the connection should.
    pub async fn bound(&self, limits: &Limits) {
        tokio::time::sleep(limits.header_time).await;
        if !self.asked.load(Ordering::Relaxed) {
            return;
        }
        if !self.is_second.load(Ordering::Relaxed) {
            return std::future::pending().await;
        }
        let each = (limits.stall.min(limits.header_time) / 4).max(Duration::from_millis(50));
        loop {
            tokio::time::sleep(each).await;
            let mut left = 0;
            lock(&self.bodies).retain(|body| {
                let Some(body) = body.upgrade() else { return false };
                let late = lock(&body.polled).elapsed() >= limits.stall;
                if late {
                    *lock(&body.inner) = None;
                }
                left += usize::from(!late);
                !late
            });
            let active = self.active.load(Ordering::Acquire);
            // All that it asked for waits for a client that takes nothing.
            let stuck = active > 0
                && left == 0
                && lock(&self.ended).is_none_or(|at| at.elapsed() >= limits.stall);
            let idle = active == 0
                && lock(&self.ended).is_some_and(|at| at.elapsed() >= limits.header_time);
            if idle || (stuck && self.has_given_up()) {
                return;
            }
        }
    }

    /// Whether every answer that is open was given up.
    fn has_given_up(&self) -> bool {
        lock(&self.bodies).is_empty()
    }
}

struct WatchedStream {
    shared: Arc<SharedBody>,
    _active: Active,
}

impl http_body::Body for WatchedStream {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        let mut inner = lock(&self.shared.inner);
        let Some(body) = inner.as_mut() else {
            let error =
                std::io::Error::new(std::io::ErrorKind::TimedOut, "the client takes nothing");
            return Poll::Ready(Some(Err(axum::Error::new(error))));
        };
        let polled = Pin::new(body).poll_frame(cx);
        *lock(&self.shared.polled) = Instant::now();
        polled
    }

    fn is_end_stream(&self) -> bool {
        lock(&self.shared.inner).as_ref().is_some_and(Body::is_end_stream)
    }

    fn size_hint(&self) -> SizeHint {
        lock(&self.shared.inner).as_ref().map(Body::size_hint).unwrap_or_default()
    }
}
