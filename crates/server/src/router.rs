//! Which handler answers a request?

use std::sync::Arc;
use std::time::Instant;

use axum::Router;
use axum::extract::{Request, State};
use axum::http::Method;
use axum::response::{IntoResponse as _, Response};
use tower_http::catch_panic::CatchPanicLayer;

use crate::app::App;
use crate::error::{ApiError, Code};
use crate::path::Target;
use crate::{base, blobs, manifests, referrers, tags, uploads};

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
        (Target::Referrers(repository, subject), Method::GET) => {
            referrers::list(app, &repository, &subject, &parts).await
        }
        (Target::Tags(repository), Method::GET) => tags::list(app, &repository, &parts).await,
        (_, method) => {
            let message = format!("{method} is not answered there by this version of the larder");
            Ok(ApiError::new(Code::Unsupported, message).into_response())
        }
    }
}
