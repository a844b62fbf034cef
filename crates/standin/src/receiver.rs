//! A stand-in for whoever is told of events: it keeps what is posted to it, and can be made to fail.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};

use axum::Router;
use axum::extract::Request;
use axum::http::HeaderMap;
use axum::middleware::Next;
use bytes::Bytes;

use crate::fault::Faults;
use crate::serve_on_loopback;

/// What was posted to a receiver.
#[derive(Debug, Clone)]
pub struct PostedEvent {
    /// The fields of the request.
    pub headers: HeaderMap,
    /// Its content.
    pub body: Bytes,
}

impl PostedEvent {
    /// A field. Empty: it is not there.
    pub fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
    }

    /// The event.
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_slice(&self.body).unwrap_or_default()
    }
}

/// A receiver of events.
pub struct EventReceiver {
    pub address: SocketAddr,
    /// What goes wrong with it; what meets a fault is not kept.
    pub faults: Faults,
    posted: Arc<Mutex<Vec<PostedEvent>>>,
}

impl EventReceiver {
    /// Starts one on a free loopback port.
    ///
    /// # Errors
    /// When it cannot listen.
    pub async fn start() -> std::io::Result<Self> {
        let faults = Faults::default();
        let posted: Arc<Mutex<Vec<PostedEvent>>> = Arc::default();
        let (failing, kept) = (faults.clone(), Arc::clone(&posted));
        let router = Router::new()
            .fallback(move |headers: HeaderMap, body: Bytes| {
                kept.lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .push(PostedEvent { headers, body });
                async {}
            })
            .layer(axum::middleware::from_fn(move |request: Request, next: Next| {
                let failing = failing.clone();
                async move { failing.answer(request, next).await }
            }));
        let address = serve_on_loopback("a stand-in receiver", router, None).await?;
        Ok(Self { address, faults, posted })
    }

    /// What was posted up to now.
    pub fn posted(&self) -> Vec<PostedEvent> {
        self.posted.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}
