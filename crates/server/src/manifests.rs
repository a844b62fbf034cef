//! Manifests and indexes, byte for byte (Distribution Specification, "Pulling manifests", "Pushing
//! manifests" and "Deleting manifests").

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, Request, StatusCode, header};
use axum::response::Response;
use bytes::{Bytes, BytesMut};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Document, DocumentError, MANIFEST_LIMIT};
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{ManifestRecord, Removal, TagSetting, now};

use crate::access::{Caller, Head, JudgedManifest, is_granted, is_ruled_in, reference};
use crate::account::RequestAccount;
use crate::app::App;
use crate::error::{ApiError, Code};
use crate::headers::{accepts, insert, is_known};
use crate::limits::{Asker, BrokenConnection, Client, PacedBody, Share};
use crate::meters::From;
use crate::operation::Operation;
use crate::path::EndPoint;
use crate::plan::Plan;
use crate::remembered::{HeldManifest, KnownAnswer, still_holds};
use crate::{blobs, blocked, cached, quota, uploads};

const CONTENT_DIGEST: HeaderName = HeaderName::from_static("docker-content-digest");

/// Answers from memory, if the manifest was just asked for and nothing has changed since.
pub(crate) fn recall<B>(app: &Arc<App>, plan: &Plan, request: &Request<B>) -> Option<Response> {
    let method = request.method();
    // A body in chunks ends its connection: that is not for here.
    let plain = !request.headers().contains_key(header::TRANSFER_ENCODING);
    if !plain || (method != Method::GET && method != Method::HEAD) {
        return None;
    }
    let began = Instant::now();
    let path = request.uri().path();
    let (answer, at) = app.remembered.get(&app.store, path)?;
    let moment = app.store.moment_of_access()?;
    let target = &answer.target;
    let operation = Operation::of(target, method).ok()?;
    // A client that may not have it, or has to be looked at closely, goes the long way.
    let caller = app.gate.known(plan, Head::of(request), &moment)?;
    if !is_granted(plan, &caller, operation)
        || !operation.pull().is_none_or(|pull| is_ruled_in(app, plan, &caller, pull, at))
    {
        return None;
    }
    let named = match (&answer.known, target) {
        (KnownAnswer::Manifest(held), _) => &held.digest,
        (_, EndPoint::Blob(_, digest)) => digest,
        _ => return None,
    };
    if !blocked::passes(app, &moment, named) {
        return None;
    }
    let response = match (&answer.known, target) {
        (KnownAnswer::Manifest(held), _) => give(app, held, method, request.headers()).ok()?,
        (KnownAnswer::Blob { size, .. }, EndPoint::Blob(_, digest)) if method == Method::HEAD => {
            blobs::head(digest, *size, request.headers())?
        }
        _ => return None,
    };
    // Last of all, so that a request which goes the long way is counted once.
    app.gate.take_one(plan, &caller.who).ok()?;
    if let (KnownAnswer::Manifest(held), EndPoint::Manifest(_, selector)) = (&answer.known, target)
    {
        cached::count_recalled(app, &held.repository);
        note_pull(app, &caller, held, selector, method);
    }
    let account = RequestAccount {
        client: request.extensions().get::<Client>().map(|client| client.0),
        cluster: request.extensions().get::<Asker>().map(|asker| asker.cluster.clone()),
        who: caller.who,
        method: method.clone(),
        path: Arc::clone(&answer.path),
        resource: target.resource(),
        began,
        app: Arc::clone(app),
    };
    Some(account.close_from(response, From::Memory))
}

pub(crate) async fn get(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
    parts: &Parts,
) -> Result<Response, ApiError> {
    // Asked before the ledger is: what it says after that is at least as true.
    let mut moment = app.store.moment(repository);
    // The rules that had to know its content have brought it already.
    let brought = match parts.extensions.get::<cached::CachedManifest>() {
        Some(brought) => Some(brought.clone()),
        None => cached::manifest(app, repository, selector, true).await?,
    };
    let found = match &brought {
        // What is in hand need not be read again, and may not be kept at all.
        Some(cached::CachedManifest { digest, document: Some(document), .. }) => {
            let record = ManifestRecord {
                digest: digest.clone(),
                media_type: document.media_type.clone(),
                size: document.bytes.len() as u64,
            };
            Some((record, document.bytes.clone()))
        }
        Some(brought) => {
            let named = Selector::Digest(brought.digest.clone());
            app.store.manifest(repository, &named).await?
        }
        None => app.store.manifest(repository, selector).await?,
    };
    let Some((record, bytes)) = found else {
        return Err(absent(app, repository, selector).await?);
    };
    if parts.extensions.get::<JudgedManifest>().is_some_and(|judged| judged.0 != record.digest) {
        let about = reference(repository, selector);
        let message = format!("{about} moved while the rules were asked about it; ask again");
        let error = ApiError::new(Code::ManifestUnknown, message);
        let error = error.with_status(StatusCode::SERVICE_UNAVAILABLE);
        return Err(error.with_header(header::RETRY_AFTER, HeaderValue::from_static("1")));
    }
    let caller = parts.extensions.get::<Caller>();
    let about = reference(repository, selector);
    blocked::check(app, caller, &about, [&record.digest]).await?;
    let from = brought.as_ref().map_or(From::Disk, |brought| brought.from);
    let until = brought.as_ref().and_then(|brought| brought.until);
    let warning = brought.and_then(|brought| brought.warning);
    // What was just fetched changed something, and what may be out of date is asked about again.
    if warning.is_some() || !still_holds(until) {
        moment = None;
    }
    let text = |text: &str| {
        HeaderValue::from_str(text).map_err(|_| {
            let message = format!("the media type of {} cannot be written down", record.digest);
            ApiError::new(Code::Internal, message)
        })
    };
    let held = Arc::new(HeldManifest {
        repository: repository.clone(),
        content_type: text(&record.media_type)?,
        content_digest: text(record.digest.as_str())?,
        etag: text(&format!("\"{}\"", record.digest))?,
        length: HeaderValue::from(bytes.len()),
        bytes,
        digest: record.digest,
        until,
    });
    if let Some(moment) = moment {
        let known = KnownAnswer::Manifest(Arc::clone(&held));
        app.remembered.keep(&app.store, parts.uri.path(), moment, known);
    }
    let mut response = give(app, &held, &parts.method, &parts.headers)?;
    if let Some(caller) = parts.extensions.get::<Caller>() {
        note_pull(app, caller, &held, selector, &parts.method);
    }
    cached::warn(response.headers_mut(), warning.as_ref());
    response.extensions_mut().insert(from);
    Ok(response)
}

fn note_pull(
    app: &App,
    caller: &Caller,
    held: &HeldManifest,
    selector: &Selector,
    method: &Method,
) {
    let head = *method == Method::HEAD;
    if let Some(token) = caller.token.as_ref().filter(|token| token.check(now() / 1000).is_ok()) {
        token.begins(&held.repository, &held.digest);
    }
    app.recorder.note_pull(caller, &held.repository, selector, head, &held.digest);
}

/// The answer with a manifest. Runtimes need its exact type, length and digest already with HEAD.
fn give(
    app: &App,
    held: &HeldManifest,
    method: &Method,
    asked: &HeaderMap,
) -> Result<Response, ApiError> {
    let kind = held.content_type.to_str().unwrap_or_default();
    if !accepts(asked, kind) {
        let message = format!(
            "{} is of the type {kind}, which the request's Accept leaves out; it is never converted",
            held.digest
        );
        let error = ApiError::new(Code::ManifestUnknown, message);
        return Err(error.with_status(StatusCode::NOT_ACCEPTABLE));
    }
    let mut response = Response::new(Body::empty());
    let headers = response.headers_mut();
    headers.reserve(5);
    headers.insert(header::CONTENT_TYPE, held.content_type.clone());
    headers.insert(CONTENT_DIGEST, held.content_digest.clone());
    headers.insert(header::ETAG, held.etag.clone());
    let fetched = *method != Method::HEAD && !is_known(asked, &held.digest);
    app.tally.count(&held.repository, &held.digest, fetched);
    if is_known(asked, &held.digest) {
        *response.status_mut() = StatusCode::NOT_MODIFIED;
        return Ok(response);
    }
    headers.insert(header::CONTENT_LENGTH, held.length.clone());
    if fetched {
        cached::count_sent(app, &held.repository, held.bytes.len() as u64);
        *response.body_mut() = Body::from(held.bytes.clone());
    }
    Ok(response)
}

/// Why there is nothing under a tag or digest.
async fn absent(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
) -> Result<ApiError, ApiError> {
    let store = &app.store;
    if store.tags(repository, None, 1).await?.is_none() {
        return Ok(ApiError::new(
            Code::NameUnknown,
            format!("there is no repository {repository}"),
        ));
    }
    let message = match selector {
        Selector::Digest(digest) if store.is_absent_child(repository, digest).await? => {
            format!("{digest} is for a platform that was not brought into {repository}")
        }
        selector => format!("{repository} has no {selector}"),
    };
    Ok(ApiError::new(Code::ManifestUnknown, message))
}

pub(crate) async fn put(
    app: &App,
    repository: &RepositoryName,
    selector: Selector,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    app.store.check_room(0).await?;
    let announced = parts.headers.get(header::CONTENT_TYPE);
    let announced = announced.and_then(|value| value.to_str().ok()).map(str::to_owned);
    let (bytes, _share) = read_body(app, parts, body).await?;
    let (digest, tag) = match selector {
        Selector::Digest(expected) => {
            let mut hasher = Hasher::new(expected.algorithm());
            hasher.update(&bytes);
            let actual = hasher.finish();
            if actual != expected {
                let message = format!("the manifest has the digest {actual}, not {expected}");
                return Err(ApiError::new(Code::DigestInvalid, message));
            }
            (expected, None)
        }
        Selector::Tag(tag) => (Digest::of(&bytes), Some(tag)),
    };
    let document = document(app, bytes, announced)
        .await?
        .map_err(|error| ApiError::new(Code::ManifestInvalid, error.to_string()))?;
    let named = document.children().iter().map(|child| &child.digest);
    let named = named.chain(document.blobs().map(|blob| &blob.digest)).chain([&digest]);
    let caller = parts.extensions.get::<Caller>();
    blocked::check(app, caller, repository.as_str(), named).await?;
    let sparse = app.takes_sparse(repository);
    let immutable = tag.as_ref().is_some_and(|tag| app.is_immutable(repository, tag));
    let setting = TagSetting { tag, immutable };
    let store = app.store.as_account(&uploads::account(parts));
    let put = store.put_manifest(repository, &digest, &document, setting, sparse).await;
    if let Err(error) = put {
        return Err(quota::explained(app, parts, error).await);
    }
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::CREATED;
    let headers = response.headers_mut();
    insert(headers, header::LOCATION, &format!("/v2/{repository}/manifests/{digest}"));
    insert(headers, CONTENT_DIGEST, digest.as_str());
    if let Some(subject) = &document.subject {
        // Says that the referrers end point knows it now, so that the client need keep no list itself.
        insert(headers, HeaderName::from_static("oci-subject"), subject.digest.as_str());
    }
    Ok(response)
}

/// DELETE: a tag alone, or a manifest with the tags that point to it.
pub(crate) async fn delete(
    app: &App,
    repository: &RepositoryName,
    selector: &Selector,
) -> Result<Response, ApiError> {
    app.check_removal(repository)?;
    // What is removed could be set to something else.
    let named = match selector {
        Selector::Tag(tag) => vec![tag.clone()],
        Selector::Digest(digest) => app.store.tags_of(repository, digest).await?,
    };
    if let Some(tag) = named.iter().find(|tag| app.is_immutable(repository, tag)) {
        let message = format!(
            "the tag {tag} of {repository} is immutable; the larder's operator removes it with `larder shelf drop`"
        );
        return Err(ApiError::new(Code::Denied, message));
    }
    let gone = match selector {
        Selector::Tag(tag) => app.store.remove_tag(repository, tag).await?.is_some(),
        Selector::Digest(digest) => match app.store.remove_manifest(repository, digest).await? {
            Removal::Done(_) => true,
            Removal::NotThere => false,
            Removal::Needed(by) => return Err(ApiError::needed(digest.as_str(), &by)),
        },
    };
    if !gone {
        return Err(absent(app, repository, selector).await?);
    }
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::ACCEPTED;
    Ok(response)
}

/// The refusal of a request for which there is no memory now.
pub(crate) fn too_much_at_once() -> ApiError {
    let message = "this client has as much on its way as it may; let some of it end";
    let error = ApiError::new(Code::TooManyRequests, message);
    error.with_header(header::RETRY_AFTER, HeaderValue::from_static("1"))
}

/// Documents from this size on are read beside the threads that serve.
const LARGE: usize = 64 * 1024;
/// How long reading one may take.
const READING: Duration = Duration::from_secs(5);

/// Reads a manifest: a large one by a thread that keeps nobody waiting.
pub(crate) async fn document(
    app: &App,
    bytes: Bytes,
    media_type: Option<String>,
) -> Result<Result<Document, DocumentError>, ApiError> {
    if bytes.len() < LARGE {
        return Ok(Document::read(bytes, media_type.as_deref()));
    }
    let read = app.workers.run(READING, move |_| Document::read(bytes, media_type.as_deref()));
    read.await.map_err(|_| too_much_at_once())
}

/// The whole body, up to the limit of manifests.
async fn read_body(app: &App, parts: &Parts, body: Body) -> Result<(Bytes, Share), ApiError> {
    let too_large = || {
        let error = ApiError::new(Code::ManifestInvalid, "a manifest has 4 MiB at most");
        error.with_status(StatusCode::PAYLOAD_TOO_LARGE)
    };
    let length = parts.headers.get(header::CONTENT_LENGTH);
    let length = length.and_then(|length| length.to_str().ok()?.parse::<usize>().ok());
    if length.is_some_and(|length| length > MANIFEST_LIMIT) {
        return Err(too_large());
    }
    let mut body = PacedBody::new(body, &app.plan().limits);
    let mut bytes = BytesMut::new();
    let client = parts.extensions.get::<Client>().map(|client| client.0);
    let mut share = app.memory.share(client);
    loop {
        match body.next().await {
            Ok(None) => return Ok((bytes.freeze(), share)),
            Ok(Some(chunk)) if bytes.len() + chunk.len() > MANIFEST_LIMIT => {
                return Err(too_large());
            }
            Ok(Some(chunk)) if !share.grow(chunk.len()) => return Err(too_much_at_once()),
            Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
            Err(error) => {
                let status = match error {
                    BrokenConnection::Slow(..) => StatusCode::REQUEST_TIMEOUT,
                    BrokenConnection::Off(_) => StatusCode::BAD_REQUEST,
                };
                let error = ApiError::new(Code::ManifestInvalid, format!("the manifest: {error}"));
                return Err(error.with_status(status));
            }
        }
    }
}
