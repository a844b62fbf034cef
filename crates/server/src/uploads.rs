//! Blobs on their way in (Distribution Specification, "Pushing blobs", "Mounting a blob").

use axum::body::Body;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::Response;
use larder_core::access::Action;
use larder_core::access::possession::Proof;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{BlobWriter, Purpose, StoreError, UploadId, now};

use crate::access::Caller;
use crate::app::App;
use crate::blocked;
use crate::error::{ApiError, Code};
use crate::headers::{insert, query};
use crate::limits::{BrokenConnection, Client, PacedBody};
use crate::meters::{CountedGuard, ReceivedBytes};
use crate::plan::Plan;
use crate::quota;
use crate::range::read_content_range;

/// POST: opens an upload, takes a whole blob, or takes one over from another repository.
pub(crate) async fn begin(
    app: &App,
    plan: &Plan,
    repository: &RepositoryName,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    app.store.check_room(0).await?;
    let store = app.store.as_account(&account(parts));
    if let Some(digest) = digest_of(parts, "mount")? {
        let caller = parts.extensions.get::<Caller>();
        let may = |from: &RepositoryName| {
            caller.is_some_and(|caller| plan.may(caller, Action::Pull, from))
        };
        let from = query(parts, "from").map(|from| from.parse::<RepositoryName>());
        let there = match from {
            // What may not be pulled is as good as not there: the client then sends the blob itself.
            Some(Ok(from)) if !may(&from) => None,
            Some(Ok(from)) => app.store.blob(&from, &digest).await?,
            // A mount without a source may take it from anywhere, where everybody may pull everything; a
            // name that cannot exist has nothing.
            None if plan.court.open => app.store.anywhere(&digest).await?,
            None | Some(Err(_)) => None,
        };
        if let Some(size) = there
            && store.share_blob(repository, &digest, Some(size), Proof::Mount).await?
        {
            return Ok(created(repository, &digest));
        }
    } else if let Some(digest) = digest_of(parts, "digest")? {
        let caller = parts.extensions.get::<Caller>();
        blocked::check(app, caller, repository.as_str(), [&digest]).await?;
        // Nobody knows its name, so nobody can go on with it.
        let (writer, received) = take(app, repository, (None, Some(&digest)), parts, body).await?;
        store.commit_blob(repository, &digest, writer).await?;
        return Ok(with_received(created(repository, &digest), received));
    }
    let id = open(app, repository, &account(parts)).await?;
    Ok(progress(StatusCode::ACCEPTED, repository, id, 0))
}

/// Uploads that one account may have open.
const OPEN: usize = 1000;
/// After so long an open upload of an account makes room for a new one of the same, in milliseconds.
const FORGOTTEN: i64 = 3_600_000;

/// By whom uploads are told apart.
pub(crate) fn account(parts: &Parts) -> String {
    parts.extensions.get::<Caller>().map(|caller| caller.who.to_string()).unwrap_or_default()
}

/// Opens an upload of somebody. Where that one has too many, those that were forgotten make room.
async fn open(app: &App, repository: &RepositoryName, account: &str) -> Result<UploadId, ApiError> {
    let store = &app.store;
    if let Some(id) = store.begin_upload(repository, account, OPEN).await? {
        return Ok(id);
    }
    for old in store.uploads_before(account, now().saturating_sub(FORGOTTEN)).await? {
        match store.cancel_upload(old).await {
            Ok(()) | Err(StoreError::NotFound(_) | StoreError::Busy(_)) => {}
            Err(error) => return Err(error.into()),
        }
    }
    if let Some(id) = store.begin_upload(repository, account, OPEN).await? {
        return Ok(id);
    }
    let message = format!("{OPEN} uploads of this account are open; finish or cancel some of them");
    let error = ApiError::new(Code::TooManyRequests, message);
    Err(error.with_header(header::RETRY_AFTER, HeaderValue::from_static("60")))
}

/// Refuses an upload that is another's, or another repository's, as one that is not there.
async fn check_own(
    app: &App,
    id: UploadId,
    repository: &RepositoryName,
    parts: &Parts,
) -> Result<(), ApiError> {
    match app.store.is_upload_of(id, repository, &account(parts)).await? {
        true => Ok(()),
        false => Err(StoreError::NotFound(format!("upload {id}")).into()),
    }
}

/// PATCH: adds bytes, in order.
pub(crate) async fn add(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    check_own(app, id, repository, parts).await?;
    let (writer, received) = take(app, repository, (Some(id), None), parts, body).await?;
    let size = writer.park().await?;
    Ok(with_received(progress(StatusCode::ACCEPTED, repository, id, size), received))
}

/// PUT: adds the last bytes, if any, and makes the upload a blob.
pub(crate) async fn finish(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
    parts: &Parts,
    body: Body,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    let Some(digest) = digest_of(parts, "digest")? else {
        return Err(ApiError::new(
            Code::DigestInvalid,
            "the last request of an upload names its `digest`",
        ));
    };
    check_own(app, id, repository, parts).await?;
    blocked::check(app, parts.extensions.get::<Caller>(), repository.as_str(), [&digest]).await?;
    let (writer, received) = take(app, repository, (Some(id), Some(&digest)), parts, body).await?;
    app.store.as_account(&account(parts)).commit_blob(repository, &digest, writer).await?;
    Ok(with_received(created(repository, &digest), received))
}

/// GET: how far an upload has come.
pub(crate) async fn status(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
    parts: &Parts,
) -> Result<Response, ApiError> {
    check_own(app, id, repository, parts).await?;
    let size = app.store.uploaded(id).await?;
    Ok(progress(StatusCode::NO_CONTENT, repository, id, size))
}

/// DELETE: gives an upload up.
pub(crate) async fn cancel(
    app: &App,
    repository: &RepositoryName,
    id: UploadId,
    parts: &Parts,
) -> Result<Response, ApiError> {
    app.check_push(repository)?;
    check_own(app, id, repository, parts).await?;
    app.store.cancel_upload(id).await?;
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::NO_CONTENT;
    Ok(response)
}

/// What announces more is compared with the whole disk.
const LARGE: u64 = 1024 * 1024 * 1024;
/// Bytes for which room is kept at once where nobody has said how many come.
const ROOM_EACH: u64 = 1024 * 1024;

/// Streams a request's body into an upload (without an id: into one that ends with this request), and tells how many bytes it had. What came before a body
/// broke off is kept: the client can ask for the status and go on.
async fn take(
    app: &App,
    repository: &RepositoryName,
    (id, digest): (Option<UploadId>, Option<&Digest>),
    parts: &Parts,
    body: Body,
) -> Result<(BlobWriter, u64), ApiError> {
    // Long: the standard's cases of one request in their order.
    let announced = parts.headers.get(header::CONTENT_LENGTH);
    let announced = announced.and_then(|length| length.to_str().ok()?.parse::<u64>().ok());
    let range = chunk_range(&parts.headers)?;
    if let (Some((start, end)), Some(length)) = (range, announced)
        && end - start + 1 != length
    {
        let message =
            format!("Content-Range names {} bytes, and {length} are sent", end - start + 1);
        return Err(ApiError::new(Code::SizeInvalid, message));
    }
    let client = parts.extensions.get::<Client>().map(|client| client.0);
    let most = app.plan().limits.uploads_per_client;
    let _slot = match client.map(|client| app.uploads.take(client, most)) {
        Some(None) => {
            let message =
                format!("this client sends {most} uploads at once already; let one of them finish");
            let error = ApiError::new(Code::TooManyRequests, message);
            return Err(error.with_header(header::RETRY_AFTER, HeaderValue::from_static("1")));
        }
        slot => slot,
    };
    let store = app.store.as_account(&account(parts));
    let _counted = CountedGuard::one(&app.meters.uploads);
    if let Some(announced) = announced.filter(|length| *length > LARGE)
        && let Some(capacity) = app.store.capacity().await?
        && announced > capacity
    {
        let message =
            format!("{announced} bytes are announced, and the larder's whole disk has {capacity}");
        let error = ApiError::new(Code::SizeInvalid, message);
        return Err(error.with_status(StatusCode::PAYLOAD_TOO_LARGE));
    }
    let mut room = app.store.keep_room(announced.unwrap_or(ROOM_EACH)).await?;
    let mut writer = match id {
        Some(id) => app.store.resume_upload(id).await?,
        None => app.store.write_once(Purpose::Read).await?,
    };
    if let Some((start, _)) = range
        && start != writer.offset()
    {
        let offset = writer.park().await?;
        let message =
            format!("the upload has {offset} bytes; the next chunk starts there, not at {start}");
        return Err(out_of_order(message, offset));
    }
    let left = match store.check_quota(repository, writer.offset() + announced.unwrap_or(0)).await {
        Ok(left) => left,
        // What is there already takes nothing.
        Err(StoreError::Quota(_)) if quota::is_there(app, repository, digest).await? => None,
        Err(error) => return Err(quota::give_up(app, parts, id, writer, error).await),
    };
    let mut body = PacedBody::new(body, &app.plan().limits);
    let (mut received, mut kept) = (0, announced.unwrap_or(ROOM_EACH));
    loop {
        match body.next().await {
            Ok(None) => break,
            Ok(Some(chunk)) => {
                let length = chunk.len() as u64;
                received += length;
                if left.is_some_and(|left| writer.offset() + length > left) {
                    let passed = store.check_quota(repository, writer.offset() + length).await;
                    if let Err(error) = passed {
                        return Err(quota::give_up(app, parts, id, writer, error).await);
                    }
                }
                writer.write(chunk).await?;
                room.take(length);
            }
            Err(error) => {
                writer.park().await?;
                let status = match error {
                    BrokenConnection::Slow(..) => StatusCode::REQUEST_TIMEOUT,
                    BrokenConnection::Off(_) => StatusCode::BAD_REQUEST,
                };
                let error = ApiError::new(Code::BlobUploadInvalid, format!("the upload: {error}"));
                return Err(error.with_status(status));
            }
        }
        if received >= kept {
            kept = received + ROOM_EACH;
            if let Err(error) = app.store.grow_room(&mut room, ROOM_EACH).await {
                writer.park().await?;
                return Err(error.into());
            }
        }
    }
    if let Some((start, end)) = range
        && end - start + 1 != received
    {
        let offset = writer.park().await?;
        let message = format!("Content-Range names {} bytes, and {received} came", end - start + 1);
        return Err(out_of_order(message, offset));
    }
    Ok((writer, received))
}

fn out_of_order(message: String, offset: u64) -> ApiError {
    let error = ApiError::new(Code::BlobUploadInvalid, message)
        .with_status(StatusCode::RANGE_NOT_SATISFIABLE);
    match HeaderValue::from_str(&received(offset)) {
        Ok(range) => error.with_header(header::RANGE, range),
        Err(_) => error,
    }
}

fn with_received(mut response: Response, bytes: u64) -> Response {
    response.extensions_mut().insert(ReceivedBytes(bytes));
    response
}

/// The first and the last byte of a chunk, as it says. None: it does not say.
fn chunk_range(headers: &HeaderMap) -> Result<Option<(u64, u64)>, ApiError> {
    let Some(range) = headers.get(header::CONTENT_RANGE) else { return Ok(None) };
    let read = range.to_str().ok().and_then(read_content_range);
    read.map(Some).ok_or_else(|| {
        let message = "Content-Range is written as `START-END`, both counted from 0 and included";
        ApiError::new(Code::BlobUploadInvalid, message)
            .with_status(StatusCode::RANGE_NOT_SATISFIABLE)
    })
}

fn digest_of(parts: &Parts, name: &str) -> Result<Option<Digest>, ApiError> {
    query(parts, name)
        .map(|text| {
            text.parse().map_err(|error: larder_core::digest::DigestError| {
                ApiError::new(Code::DigestInvalid, error.to_string())
            })
        })
        .transpose()
}

fn received(size: u64) -> String {
    format!("0-{}", size.saturating_sub(1))
}

fn progress(status: StatusCode, repository: &RepositoryName, id: UploadId, size: u64) -> Response {
    let mut response = Response::new(Body::empty());
    *response.status_mut() = status;
    let headers = response.headers_mut();
    insert(headers, header::LOCATION, &format!("/v2/{repository}/blobs/uploads/{id}"));
    insert(headers, header::RANGE, &received(size));
    // Smaller chunks are taken too; they are only slow.
    insert(headers, HeaderName::from_static("oci-chunk-min-length"), "65536");
    insert(headers, HeaderName::from_static("docker-upload-uuid"), &id.to_string());
    response
}

fn created(repository: &RepositoryName, digest: &Digest) -> Response {
    let mut response = Response::new(Body::empty());
    *response.status_mut() = StatusCode::CREATED;
    let headers = response.headers_mut();
    insert(headers, header::LOCATION, &format!("/v2/{repository}/blobs/{digest}"));
    insert(headers, HeaderName::from_static("docker-content-digest"), digest.as_str());
    response
}
