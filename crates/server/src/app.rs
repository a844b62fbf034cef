//! What every handler works with, and which handler answers.

use std::sync::Arc;
use std::time::Instant;

use axum::Router;
use axum::extract::{Request, State};
use axum::http::Method;
use axum::response::{IntoResponse as _, Response};
use larder_core::name::RepositoryName;
use larder_store::Store;
use tower_http::catch_panic::CatchPanicLayer;

use crate::error::{ApiError, Code};
use crate::path::Target;
use crate::{base, blobs, manifests, tags, uploads};

/// One registry.
pub struct App {
    /// Its bytes and records.
    pub store: Store,
    /// The shelves that take pushes. Empty: any name does.
    pub shelves: Vec<String>,
    /// Whether pushes are refused altogether.
    pub read_only: bool,
}

impl App {
    /// Refuses a push to where nothing can be pushed, and says where it can.
    pub(crate) fn check_push(&self, repository: &RepositoryName) -> Result<(), ApiError> {
        if self.read_only {
            return Err(ApiError::new(Code::Denied, "this registry is read-only"));
        }
        let shelf = repository.first_component();
        if self.shelves.is_empty() || self.shelves.iter().any(|known| known == shelf) {
            return Ok(());
        }
        let message = format!(
            "there is no shelf `{shelf}` here; the shelves are: {}",
            self.shelves.join(", ")
        );
        Err(ApiError::new(Code::NameUnknown, message))
    }
}

/// The registry as a service. A panic in a handler is answered with 500 and ends nothing else.
pub fn router(app: Arc<App>) -> Router {
    Router::new().fallback(answer).layer(CatchPanicLayer::new()).with_state(app)
}

async fn answer(State(app): State<Arc<App>>, request: Request) -> Response {
    let began = Instant::now();
    let method = request.method().clone();
    let path = request.uri().path().to_owned();
    let response = match Target::read(&path) {
        Ok(target) => dispatch(&app, target, request).await,
        Err(error) => Err(error.into()),
    };
    let response = response.unwrap_or_else(axum::response::IntoResponse::into_response);
    let milliseconds = began.elapsed().as_millis();
    tracing::info!(%method, path, status = response.status().as_u16(), milliseconds, "request");
    response
}

async fn dispatch(app: &App, target: Target, request: Request) -> Result<Response, ApiError> {
    let (parts, body) = request.into_parts();
    match (target, parts.method.clone()) {
        (Target::Base, Method::GET | Method::HEAD) => Ok(base::greet()),
        (Target::Manifest(repository, selector), Method::GET | Method::HEAD) => {
            manifests::get(app, &repository, &selector, &parts).await
        }
        (Target::Manifest(repository, selector), Method::PUT) => {
            manifests::put(app, &repository, selector, &parts, body).await
        }
        (Target::Blob(repository, digest), Method::GET | Method::HEAD) => {
            blobs::get(app, &repository, &digest, &parts).await
        }
        (Target::Uploads(repository), Method::POST) => {
            uploads::begin(app, &repository, &parts, body).await
        }
        (Target::Upload(repository, id), Method::PATCH) => {
            uploads::add(app, &repository, id, &parts, body).await
        }
        (Target::Upload(repository, id), Method::PUT) => {
            uploads::finish(app, &repository, id, &parts, body).await
        }
        (Target::Upload(repository, id), Method::GET) => {
            uploads::status(app, &repository, id).await
        }
        (Target::Upload(repository, id), Method::DELETE) => {
            uploads::cancel(app, &repository, id).await
        }
        (Target::Tags(repository), Method::GET) => tags::list(app, &repository, &parts).await,
        (_, method) => {
            let message = format!("{method} is not answered there by this version of the larder");
            Ok(ApiError::new(Code::Unsupported, message).into_response())
        }
    }
}
