//! A stand-in registry: the larder's own server, with sign-in and faults in front.

use std::collections::{BTreeMap, HashMap};
use std::net::SocketAddr;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::extract::Request;
use axum::http::header::RANGE;
use axum::http::{Method, StatusCode};
use axum::middleware::Next;
use axum::response::IntoResponse as _;
use bytes::Bytes;
use hyper_util::service::TowerToHyperService;
use larder_core::digest::Digest;
use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::reference::Selector;
use larder_server::{App, Listener, Plan, Tls};
use larder_store::{Store, StoreError};
use tokio::net::TcpListener;
use tokio::sync::oneshot;

use crate::fault::Faults;
use crate::image::SampleImage;
use crate::sign_in::{SignIn, Tokens};

/// How a stand-in registry is set up.
#[derive(Default)]
pub struct UpstreamPlan {
    /// How it lets its clients in.
    pub sign_in: SignIn,
    /// Whether it takes no pushes.
    pub read_only: bool,
    /// Whether it lacks the referrers end point, as older registries do.
    pub no_referrers: bool,
    /// Whether it sends blobs from memory, so that measurements count next to nothing of it.
    pub from_memory: bool,
    /// With TLS. None: plain HTTP.
    pub tls: Option<Tls>,
}

type Memory = Arc<Mutex<HashMap<Digest, Bytes>>>;

/// A registry on a free loopback port. It stops when it is dropped.
pub struct Upstream {
    address: SocketAddr,
    store: Store,
    /// Blobs to be sent from memory. None: none are.
    memory: Option<Memory>,
    /// What goes wrong with it.
    pub faults: Faults,
    requests: Arc<Mutex<BTreeMap<String, usize>>>,
    /// The `Range` of each request that had one.
    ranges: Arc<Mutex<Vec<String>>>,
    /// Requests that came with credentials.
    signed: Arc<AtomicUsize>,
    sign_in: Arc<Mutex<SignIn>>,
    tokens: Tokens,
    scheme: &'static str,
    stop: Option<oneshot::Sender<()>>,
}

impl Upstream {
    /// Starts a registry that keeps its content below `folder`.
    pub async fn start(folder: &Path, plan: UpstreamPlan) -> Result<Self, StoreError> {
        let io = |doing: &'static str| move |source| StoreError::Io { doing: doing.into(), source };
        std::fs::create_dir_all(folder).map_err(io("cannot make the stand-in's folder"))?;
        let store = Store::open_local(folder)?;
        let listener = TcpListener::bind("127.0.0.1:0").await.map_err(io("cannot listen"))?;
        let address = listener.local_addr().map_err(io("cannot listen"))?;
        let serves = Plan { read_only: plan.read_only, ..Plan::open(Host::of(address)) };
        let app = App::new(store.clone(), serves, &[0; 32]);
        let (faults, requests) =
            (Faults::default(), Arc::<Mutex<BTreeMap<String, usize>>>::default());
        let (counted, failing) = (Arc::clone(&requests), faults.clone());
        let ranges = Arc::<Mutex<Vec<String>>>::default();
        let ranged = Arc::clone(&ranges);
        let (sign_in, tokens) = (Arc::new(Mutex::new(plan.sign_in)), Tokens::default());
        let asked = Arc::clone(&sign_in);
        let (signed, given) = (Arc::<AtomicUsize>::default(), tokens.clone());
        let with_credentials = Arc::clone(&signed);
        let no_referrers = plan.no_referrers;
        let memory = plan.from_memory.then(Memory::default);
        let held = memory.clone();
        let router = larder_server::router(Arc::new(app))
            .layer(axum::middleware::from_fn(move |request: Request, next: Next| {
                let found = held.as_ref().and_then(|held| recall(held, &request));
                async move {
                    match found {
                        Some(bytes) => bytes.into_response(),
                        None => next.run(request).await,
                    }
                }
            }))
            .layer(axum::middleware::from_fn(move |request: Request, next: Next| async move {
                if no_referrers && request.uri().path().contains("/referrers/") {
                    return StatusCode::NOT_FOUND.into_response();
                }
                let mut response = next.run(request).await;
                if no_referrers {
                    response.headers_mut().remove("oci-subject");
                }
                response
            }))
            .layer(axum::middleware::from_fn(move |request: Request, next: Next| {
                let now = asked.lock().unwrap_or_else(PoisonError::into_inner).clone();
                let tokens = tokens.clone();
                async move { now.answer(&tokens, request, next).await }
            }))
            .layer(axum::middleware::from_fn(move |request: Request, next: Next| {
                let failing = failing.clone();
                if request.headers().contains_key(axum::http::header::AUTHORIZATION) {
                    with_credentials.fetch_add(1, Ordering::Relaxed);
                }
                let range = request.headers().get(axum::http::header::RANGE);
                if let Some(range) = range.and_then(|range| range.to_str().ok()) {
                    ranged.lock().unwrap_or_else(PoisonError::into_inner).push(range.to_owned());
                }
                let line = format!("{} {}", request.method(), request.uri().path());
                *counted.lock().unwrap_or_else(PoisonError::into_inner).entry(line).or_default() +=
                    1;
                async move { failing.answer(request, next).await }
            }));
        let scheme = if plan.tls.is_some() { "https" } else { "http" };
        let (stop, stopped) = oneshot::channel::<()>();
        tokio::spawn(async move {
            let stopped = async {
                let _ = stopped.await;
            };
            let listener = Listener { tls: plan.tls, ..Listener::plain(listener) };
            let service = TowerToHyperService::new(router);
            let served = larder_server::serve(listener, service, stopped, Duration::ZERO).await;
            if let Err(error) = served {
                tracing::error!(%error, "a stand-in registry failed");
            }
        });
        let tokens = given;
        Ok(Self {
            address,
            store,
            memory,
            faults,
            requests,
            ranges,
            signed,
            sign_in,
            tokens,
            scheme,
            stop: Some(stop),
        })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Its address as an `endpoint`.
    pub fn endpoint(&self) -> String {
        format!("{}://{}", self.scheme, self.address)
    }

    /// Gives it an image, as its owner would.
    pub async fn hold(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
        image: &SampleImage,
    ) -> Result<(), StoreError> {
        self.hold_parts(repository, Some(tag), image).await
    }

    async fn hold_parts(
        &self,
        repository: &RepositoryName,
        tag: Option<&Tag>,
        image: &SampleImage,
    ) -> Result<(), StoreError> {
        for blob in &image.blobs {
            if let Some(memory) = &self.memory {
                let mut held = memory.lock().unwrap_or_else(PoisonError::into_inner);
                held.insert(blob.digest.clone(), blob.bytes.clone());
            }
            self.store.put_blob(repository, &blob.digest, blob.bytes.clone()).await?;
        }
        for (digest, document) in &image.documents {
            let tag = tag.filter(|_| digest == image.digest()).cloned();
            self.store.put_manifest(repository, digest, document, tag, false).await?;
        }
        Ok(())
    }

    /// Gives it something that is about an image, found by its `subject` or, with a tag, under
    /// that tag alone.
    pub async fn hold_companion(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
        tag: Option<&Tag>,
        kind: &str,
    ) -> Result<Digest, StoreError> {
        let companion = crate::image::companion(subject, kind, tag.is_none());
        self.hold_parts(repository, tag, &companion).await?;
        Ok(companion.digest().clone())
    }

    /// Gives it something with this content that is about an image, found by its `subject`.
    pub async fn hold_artifact(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
        kind: &str,
        content: &str,
    ) -> Result<Digest, StoreError> {
        let artifact = crate::image::artifact(subject, kind, true, content.to_owned());
        self.hold_parts(repository, None, &artifact).await?;
        Ok(artifact.digest().clone())
    }

    /// From now on it lets its clients in otherwise, and what it gave before is worth nothing any more.
    pub fn change_sign_in(&self, sign_in: SignIn) {
        *self.sign_in.lock().unwrap_or_else(PoisonError::into_inner) = sign_in;
        self.tokens.forget();
    }

    /// All tokens that it has given are worth nothing any more.
    pub fn forget_tokens(&self) {
        self.tokens.forget();
    }

    /// How many requests came with credentials since the last call.
    pub fn take_signed(&self) -> usize {
        self.signed.swap(0, Ordering::Relaxed)
    }

    /// What a tag or digest points to. None: nothing.
    pub async fn digest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<Digest>, StoreError> {
        let found = self.store.manifest(repository, selector).await?;
        Ok(found.map(|(record, _)| record.digest))
    }

    /// The `Range` of each request that had one since the last call, such as `bytes=1024-`.
    pub fn take_ranges(&self) -> Vec<String> {
        std::mem::take(&mut *self.ranges.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The requests that it was sent since the last call, each line as `GET /v2/…` with its count.
    pub fn take_requests(&self) -> BTreeMap<String, usize> {
        std::mem::take(&mut *self.requests.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// A whole blob that lies in memory.
fn recall(held: &Memory, request: &Request) -> Option<Bytes> {
    if request.method() != Method::GET || request.headers().contains_key(RANGE) {
        return None;
    }
    let digest = request.uri().path().rsplit_once("/blobs/")?.1.parse().ok()?;
    held.lock().unwrap_or_else(PoisonError::into_inner).get(&digest).cloned()
}

impl Drop for Upstream {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
    }
}
