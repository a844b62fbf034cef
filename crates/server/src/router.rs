//! Which handler answers a request?

use std::convert::Infallible;
use std::future::{Ready, ready};
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Instant;

use axum::Router;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderValue, Method, StatusCode, Version, header};
use axum::response::{IntoResponse as _, Response};
use futures_util::FutureExt as _;
use futures_util::future::{BoxFuture, Either};
use hyper::body::Incoming;
use larder_core::access::Who;
use larder_store::RecordKind;
use tracing::Instrument as _;

use crate::access::{
    Caller, Head, RecordSubject, RecordedDeed, RuleOutcome, TOKEN_PATH, answer_token, check_grant,
    check_rules, is_probe, probing, refuse_catalog,
};
use crate::account::RequestAccount;
use crate::app::App;
use crate::error::{ApiError, Code};
use crate::limits::{Asker, Client};
use crate::mirror;
use crate::operation::{Operation, Verb, about};
use crate::path::EndPoint;
use crate::plan::Plan;
use crate::rest::Rest;
use crate::traced;
use crate::{
    base, blobs, cached, catalog, door, full, health, manifests, referrers, tags, uploads,
};

/// The registry as a service for a listener.
#[derive(Clone)]
pub struct RegistryService(pub Arc<App>);

impl hyper::service::Service<Request<Incoming>> for RegistryService {
    type Response = Response;
    type Error = Infallible;
    type Future = Either<
        Ready<Result<Response, Infallible>>,
        BoxFuture<'static, Result<Response, Infallible>>,
    >;

    fn call(&self, request: Request<Incoming>) -> Self::Future {
        let Some(span) = traced::span_of(&request) else { return self.answered(request) };
        let answer = span.in_scope(|| self.answered(request));
        let of = span.clone();
        let answer = async move {
            let answer = answer.await;
            if let Ok(response) = &answer {
                traced::answered(&of, response.status());
            }
            answer
        };
        Either::Right(answer.instrument(span).boxed())
    }
}

impl RegistryService {
    fn answered(
        &self,
        mut request: Request<Incoming>,
    ) -> <Self as hyper::service::Service<Request<Incoming>>>::Future {
        if is_probe(request.headers()) {
            let app = Arc::clone(&self.0);
            return Either::Right(probing(received(app, request.map(Body::new))).map(Ok).boxed());
        }
        let plan = self.0.gate.plan();
        if let Err(refused) = mirror::receive(&self.0, &plan, &mut request) {
            return Either::Left(ready(Ok(refuse(&self.0, &request, refused))));
        }
        // What is known already is answered without waiting for anything.
        match manifests::recall(&self.0, &plan, &request) {
            Some(mut response) => {
                end_with(&self.0, request.version(), &mut response);
                Either::Left(ready(Ok(response)))
            }
            None => {
                let request = request.map(Body::new);
                Either::Right(answer(Arc::clone(&self.0), plan, request).map(Ok).boxed())
            }
        }
    }
}

/// Answers one request as it came.
async fn received(app: Arc<App>, mut request: Request) -> Response {
    let plan = app.gate.plan();
    match mirror::receive(&app, &plan, &mut request) {
        Ok(()) => answer(app, plan, request).await,
        Err(refused) => refuse(&app, &request, refused),
    }
}

/// The registry as a router, for callers that put something in front of it.
pub fn router(app: Arc<App>) -> Router {
    Router::new()
        .fallback(|State(app): State<Arc<App>>, request: Request| async move {
            match is_probe(request.headers()) {
                true => probing(received(app, request)).await,
                false => received(app, request).await,
            }
        })
        .with_state(app)
}

/// The registry's figures and state, for a listener of their own.
#[derive(Clone)]
pub struct Figures {
    /// Whose figures they are.
    pub app: Arc<App>,
}

impl hyper::service::Service<Request<Incoming>> for Figures {
    type Response = Response;
    type Error = Infallible;
    type Future = BoxFuture<'static, Result<Response, Infallible>>;

    fn call(&self, request: Request<Incoming>) -> Self::Future {
        let app = Arc::clone(&self.app);
        async move {
            let plan = app.gate.plan();
            if plan.metrics_key && request.uri().path() == "/metrics" {
                let caller = app.gate.identify(&plan, Head::of(&request)).await;
                let is_account =
                    caller.as_ref().is_ok_and(|caller| matches!(caller.who, Who::Account(_)));
                if !is_account {
                    let error = caller.err().unwrap_or_else(|| {
                        ApiError::new(Code::Unauthorized, "sign in with the key of an account")
                    });
                    let basic = HeaderValue::from_static("Basic realm=\"metrics\"");
                    let mut response = error.into_response();
                    response.headers_mut().insert(header::WWW_AUTHENTICATE, basic);
                    return Ok(response);
                }
            }
            let known = matches!(*request.method(), Method::GET | Method::HEAD);
            let response = match request.uri().path() {
                _ if !known => health::plain(StatusCode::METHOD_NOT_ALLOWED, "GET, HEAD\n".into()),
                "/metrics" => {
                    app.meters.set_serving(app.peers.counts(), &app.plan().fingerprint);
                    let (upstreams, reserve) = (app.cache.upstreams(), app.plan().reserve);
                    let text = app.meters.text(&app.store, &upstreams, reserve).await;
                    health::plain(StatusCode::OK, text)
                }
                "/healthz" => health::alive(),
                "/readyz" => health::ready(&app).await,
                _ => health::plain(StatusCode::NOT_FOUND, "/metrics, /healthz, /readyz\n".into()),
            };
            Ok(response)
        }
        .boxed()
    }
}

/// Refuses a request that is not looked into any further.
fn refuse<B>(app: &Arc<App>, request: &Request<B>, refused: ApiError) -> Response {
    let caller = Caller {
        who: Who::Anonymous,
        by: None,
        token: None,
        address: request.extensions().get::<Client>().map(|client| client.0),
        node: true,
    };
    let refused = written_down(app, &caller, None, refused);
    let mut response = account(app, request, "nothing").close_with(refused.into_response());
    response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    response
}

/// Writes a refusal down that is none yet, and gives it its number.
fn written_down(app: &App, caller: &Caller, about: Option<String>, refused: ApiError) -> ApiError {
    let Some(sentence) = refused.to_keep() else { return refused };
    let mut happened = RecordedDeed::of(caller, RecordKind::Refused, sentence);
    happened.reference = about.map(RecordSubject::Text);
    let number = app.recorder.note(&happened);
    refused.with_number(&number.to_string())
}

fn account<B>(app: &Arc<App>, request: &Request<B>, resource: &'static str) -> RequestAccount {
    RequestAccount {
        client: request.extensions().get::<Client>().map(|client| client.0),
        cluster: request.extensions().get::<Asker>().map(|asker| asker.cluster.clone()),
        who: Who::Anonymous,
        method: request.method().clone(),
        path: request.uri().path().into(),
        resource,
        began: Instant::now(),
        app: Arc::clone(app),
    }
}

/// How the upstreams of the cached shelves stand.
/// Answers one request. A panic in a handler is answered with 500 and ends nothing else.
async fn answer(app: Arc<App>, plan: Arc<Plan>, request: Request) -> Response {
    match request.uri().path() {
        "/healthz" => return health::alive(),
        "/readyz" => return health::ready(&app).await,
        _ => {}
    }
    if door::is_one(request.uri().path()) {
        let mut account = account(&app, &request, "door");
        let (response, told) = door::answer(&app, &plan, request).await;
        account.path = told.into();
        return account.close_with(response);
    }
    let target = EndPoint::read(request.uri().path());
    // Some in front of us may have read such a body's length otherwise: nothing that follows it on the
    // same connection is believed (RFC 9112, section 6.1).
    let ends = request.headers().contains_key(header::TRANSFER_ENCODING);
    let is_token = request.uri().path() == TOKEN_PATH;
    let resource = target.as_ref().map_or("nothing", EndPoint::resource);
    let mut account = account(&app, &request, if is_token { "token" } else { resource });
    let about = target.as_ref().ok().and_then(about);
    let mut asks = None;
    let (version, (head, body)) = (request.version(), request.into_parts());
    let (body, rest) = Rest::of(version, &head.headers, body);
    let request = Request::from_parts(head, body);
    let handled = async {
        if is_token {
            return answer_token(&app, &plan, request).await;
        }
        let (parts, body) = request.into_parts();
        let caller = app.gate.identify(&plan, Head::from(&parts)).await?;
        account.who = caller.who.clone();
        asks = Some(caller.clone());
        match target {
            Ok(target) => admit(&app, &plan, caller, &target, parts, body).await,
            Err(error) => Err(error.into()),
        }
    };
    let response = match AssertUnwindSafe(handled).catch_unwind().await {
        Ok(Ok(response)) => response,
        Ok(Err(mut error)) => {
            if error.is_full() {
                error = error.adding(&full::advice(&app.store).await);
            }
            match &asks {
                Some(caller) => written_down(&app, caller, about, error).into_response(),
                None => error.into_response(),
            }
        }
        Err(_) => {
            tracing::error!(path = &*account.path, "a handler panicked");
            ApiError::new(Code::Internal, "the larder failed; its log has the cause")
                .into_response()
        }
    };
    let mut response = account.close_with(response);
    rest.throw_away(&mut response);
    if ends {
        response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    end_with(&app, version, &mut response);
    response
}

/// A larder that is about to end ends each connection with its answer, so that nobody asks on it what is not answered.
fn end_with(app: &App, version: Version, response: &mut Response) {
    if version < Version::HTTP_2 && app.peers.is_stopping() {
        response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
}

/// Answers a client that may ask.
async fn admit(
    app: &Arc<App>,
    plan: &Plan,
    caller: Caller,
    target: &EndPoint,
    mut parts: Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.gate.take_one(plan, &caller.who)?;
    let operation = Operation::of(target, &parts.method)?;
    check_grant(&app.gate, plan, &caller, operation, Head::from(&parts)).await?;
    let ruled = match operation.pull() {
        Some(pull) => check_rules(app, plan, &caller, pull).await?,
        None => RuleOutcome::default(),
    };
    if let Some(judged) = ruled.judged {
        parts.extensions.insert(judged);
    }
    if let Some(brought) = ruled.brought {
        parts.extensions.insert(brought);
    }
    parts.extensions.insert(caller.clone());
    let mut response = dispatch(app, plan, &caller, operation, parts, body).await?;
    if let Some(kind) = operation.recorded() {
        let mut happened = RecordedDeed::of(&caller, kind, "");
        happened.reference = about(target).map(RecordSubject::Text);
        app.recorder.count(&happened);
    }
    if let Some(warning) = ruled.warning {
        response.headers_mut().append(cached::WARNING, warning);
    }
    Ok(response)
}

async fn dispatch(
    app: &App,
    plan: &Plan,
    caller: &Caller,
    operation: Operation<'_>,
    parts: Parts,
    body: Body,
) -> Result<Response, ApiError> {
    match (operation.target, operation.verb) {
        (EndPoint::Base, _) => Ok(base::greet()),
        (EndPoint::Catalog, _) => {
            refuse_catalog(plan, caller, Head::from(&parts))?;
            catalog::list(app, plan, caller, &parts).await
        }
        (EndPoint::Manifest(repository, selector), Verb::Put) => {
            manifests::put(app, repository, selector.clone(), &parts, body).await
        }
        (EndPoint::Manifest(repository, selector), Verb::Delete) => {
            manifests::delete(app, repository, selector).await
        }
        (EndPoint::Manifest(repository, selector), _) => {
            manifests::get(app, repository, selector, &parts).await
        }
        (EndPoint::Blob(repository, digest), Verb::Delete) => {
            blobs::delete(app, repository, digest).await
        }
        (EndPoint::Blob(repository, digest), _) => {
            blobs::get(app, repository, digest, &parts).await
        }
        (EndPoint::Uploads(repository), _) => {
            uploads::begin(app, plan, repository, &parts, body).await
        }
        (EndPoint::Upload(repository, id), Verb::Put) => {
            uploads::finish(app, repository, *id, &parts, body).await
        }
        (EndPoint::Upload(repository, id), Verb::Delete) => {
            uploads::cancel(app, repository, *id, &parts).await
        }
        (EndPoint::Upload(repository, id), Verb::Read) => {
            uploads::status(app, repository, *id, &parts).await
        }
        (EndPoint::Upload(repository, id), _) => {
            uploads::add(app, repository, *id, &parts, body).await
        }
        (EndPoint::Referrers(repository, subject), _) => {
            referrers::list(app, repository, subject, &parts).await
        }
        (EndPoint::Tags(repository), _) => tags::list(app, repository, &parts).await,
    }
}
