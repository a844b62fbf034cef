//! A registry that answers as a test says, and what tests ask of it.
#![allow(dead_code, unreachable_pub)] // each test file takes what it needs

use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderMap, Method, Response};
use bytes::Bytes;
use larder_client::{Account, Credentials, Options, Registry};
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;

/// One request as the registry saw it.
#[derive(Debug, Clone)]
pub struct Seen {
    pub line: String,
    pub headers: HeaderMap,
}

impl Seen {
    pub fn authorization(&self) -> Option<&str> {
        self.headers.get("authorization").map(|value| value.to_str().unwrap())
    }
}

/// A registry that answers as a test says, and remembers what it was asked.
#[derive(Clone)]
pub struct Fake {
    pub seen: Arc<Mutex<Vec<Seen>>>,
    pub address: String,
}

pub type Answer = Response<Body>;

impl Fake {
    pub async fn start<F>(answer: F) -> Self
    where
        F: Fn(&Method, &str, &HeaderMap) -> Answer + Send + Sync + 'static,
    {
        Self::start_reading(move |method, path, headers, _| answer(method, path, headers)).await
    }

    /// The same for answers that rest on what was sent.
    pub async fn start_reading<F>(answer: F) -> Self
    where
        F: Fn(&Method, &str, &HeaderMap, Bytes) -> Answer + Send + Sync + 'static,
    {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap().to_string();
        let seen: Arc<Mutex<Vec<Seen>>> = Arc::default();
        let (answer, log) = (Arc::new(answer), Arc::clone(&seen));
        let router = Router::new().fallback(move |request: Request| {
            let line = format!("{} {}", request.method(), request.uri());
            let (parts, body) = request.into_parts();
            log.lock().unwrap().push(Seen { line, headers: parts.headers.clone() });
            let answer = Arc::clone(&answer);
            async move {
                // A body that is not read would break the connection instead of the request.
                let body = axum::body::to_bytes(body, usize::MAX).await.unwrap_or_default();
                answer(&parts.method, &parts.uri.to_string(), &parts.headers, body)
            }
        });
        tokio::spawn(async move { axum::serve(listener, router).await });
        Self { seen, address }
    }

    pub fn options(&self) -> Options {
        let endpoint = format!("http://{}", self.address).parse().unwrap();
        Options { pause: Duration::from_millis(1), ..Options::new("bazaar.example", endpoint) }
    }

    pub fn registry(&self) -> Registry {
        Registry::new(self.options()).unwrap()
    }

    pub fn signed_in(&self) -> Registry {
        let credentials = Credentials { user: "emberfall".into(), secret: "made-up".into() };
        Registry::new(Options { account: Some(Account::fixed(credentials)), ..self.options() })
            .unwrap()
    }

    pub fn lines(&self) -> Vec<String> {
        self.seen.lock().unwrap().iter().map(|seen| seen.line.clone()).collect()
    }
}

pub fn status(status: u16) -> Answer {
    Response::builder().status(status).body(Body::empty()).unwrap()
}

pub fn content(bytes: impl Into<Bytes>, media_type: &str) -> Answer {
    Response::builder().header("content-type", media_type).body(Body::from(bytes.into())).unwrap()
}

pub fn kettle() -> RepositoryName {
    "library/kettle".parse().unwrap()
}

pub fn tag(text: &str) -> Selector {
    Selector::Tag(text.parse().unwrap())
}
