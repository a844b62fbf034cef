//! Giving content: blobs as streams that become visible only when their digest is right, mounts,
//! manifests byte for byte.

use std::ops::Range;
use std::sync::{Arc, Mutex};

use bytes::Bytes;
use futures_util::{Stream, StreamExt as _};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::Document;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use reqwest::header::{
    AUTHORIZATION, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, HeaderMap, HeaderValue, LOCATION,
    RANGE,
};
use reqwest::{Body, Method, Response, StatusCode, Url};

use crate::error::ClientError;
use crate::request::{Call, Registry};
use crate::sign_in::TokenScope;

/// An upload that broke off, and that the registry may know yet.
#[derive(Debug, Clone)]
pub struct CutUpload(Url);

/// Why a blob was not sent, and what is left of it at the registry. None: nothing is.
#[derive(Debug)]
pub struct FailedPush {
    pub error: ClientError,
    pub left: Option<CutUpload>,
}

impl From<ClientError> for FailedPush {
    fn from(error: ClientError) -> Self {
        Self { error, left: None }
    }
}

/// The outcome of asking a registry to take a blob from another of its repositories.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mount {
    /// It has it now; nothing was sent.
    Done,
    /// It must be sent.
    Refused,
}

impl Registry {
    /// Whether the repository has the blob.
    pub async fn has_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<bool, ClientError> {
        let url = self.repository_url(repository, &format!("blobs/{digest}"));
        let scope = TokenScope::Push(repository.to_string(), None);
        let call = Call::new(Method::HEAD, url, scope, format!("the push to {repository}"));
        let answer = self.send(&call).await?;
        match answer.status() {
            status if status.is_success() => Ok(true),
            StatusCode::NOT_FOUND => Ok(false),
            _ => Err(self.transport().refusal(answer, &call.action).await),
        }
    }

    /// Asks the registry to take a blob from another of its repositories.
    pub async fn mount(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        from: &RepositoryName,
    ) -> Result<Mount, ClientError> {
        let mut url = self.repository_url(repository, "blobs/uploads/");
        url.query_pairs_mut()
            .append_pair("mount", digest.as_str())
            .append_pair("from", from.as_str());
        let scope = TokenScope::Push(repository.to_string(), Some(from.to_string()));
        let call = Call::new(Method::POST, url, scope, format!("the push to {repository}"));
        let answer = self.send(&call).await?;
        match answer.status() {
            StatusCode::CREATED => Ok(Mount::Done),
            StatusCode::ACCEPTED => {
                // It opened an upload instead, which we do not want.
                if let Ok(url) = self.location(&answer) {
                    self.cancel(repository, url).await;
                }
                Ok(Mount::Refused)
            }
            // Some registries refuse what they do not know instead of opening an upload.
            StatusCode::NOT_FOUND | StatusCode::METHOD_NOT_ALLOWED => Ok(Mount::Refused),
            _ => Err(self.transport().refusal(answer, &call.action).await),
        }
    }

    /// Sends a blob. It becomes visible only if the stream has exactly the digest and size; a
    /// stream that has not, or that breaks off, leaves nothing behind.
    ///
    /// # Errors
    /// [`ClientError::Source`] when the stream fails; [`ClientError::Mismatch`] or
    /// [`ClientError::Length`] when it is not what it should be.
    pub async fn push_blob<S, E>(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: u64,
        content: S,
    ) -> Result<(), ClientError>
    where
        S: Stream<Item = Result<Bytes, E>> + Send + 'static,
        E: std::fmt::Display + Send + 'static,
    {
        match self.push_from(repository, digest, size, None, content).await {
            Ok(()) => Ok(()),
            Err(FailedPush { error, left }) => {
                if let Some(left) = left {
                    self.give_up(repository, left).await;
                }
                Err(error)
            }
        }
    }

    /// How many bytes of an upload the registry has, and where it goes on. None: it knows nothing of it (Distribution
    /// Specification, "Pushing a blob in chunks").
    pub async fn pushed(
        &self,
        repository: &RepositoryName,
        upload: &CutUpload,
    ) -> Result<Option<(u64, CutUpload)>, ClientError> {
        let scope = TokenScope::Push(repository.to_string(), None);
        let action = format!("the push to {repository}");
        let call = Call::new(Method::GET, upload.0.clone(), scope, action);
        let answer = self.send(&call).await?;
        if !answer.status().is_success() {
            return Ok(None);
        }
        let range = answer.headers().get(RANGE).and_then(|value| value.to_str().ok());
        let last = range.and_then(|text| text.trim_start_matches("bytes=").strip_prefix("0-"));
        // `0-0` is one byte to some and none to others.
        let last = last.and_then(|text| text.parse::<u64>().ok()).filter(|last| *last > 0);
        let next = self.location(&answer).unwrap_or_else(|_| upload.0.clone());
        Ok(last.map(|last| (last + 1, CutUpload(next))))
    }

    /// The same as [`push_blob`](Self::push_blob), from a byte of an upload on that broke off; the registry then is the
    /// one that compares the digest. What breaks off again is left at the registry and told.
    pub async fn push_from<S, E>(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: u64,
        from: Option<(u64, CutUpload)>,
        content: S,
    ) -> Result<(), FailedPush>
    where
        S: Stream<Item = Result<Bytes, E>> + Send + 'static,
        E: std::fmt::Display + Send + 'static,
    {
        let scope = TokenScope::Push(repository.to_string(), None);
        let action = format!("the push to {repository}");
        let (from, upload) = match from {
            Some((from, CutUpload(upload))) => (from, upload),
            None => {
                let url = self.repository_url(repository, "blobs/uploads/");
                let call = Call::new(Method::POST, url, scope.clone(), action.clone());
                let answer = self.send(&call).await?;
                if answer.status() != StatusCode::ACCEPTED {
                    return Err(self.transport().refusal(answer, &action).await.into());
                }
                (0, self.location(&answer)?)
            }
        };
        let rest = size.saturating_sub(from);
        let seen = Arc::new(Mutex::new(SentBytes {
            hasher: Hasher::new(digest.algorithm()),
            size: 0,
            failed: None,
        }));
        let sent = self
            .send_stream(&scope, &upload, from..size, watched(content, Arc::clone(&seen)))
            .await;
        let SentBytes { hasher, size: actual_size, failed } = take(&seen, digest);
        let host = || self.host().to_owned();
        let cut = || Some(CutUpload(upload.clone()));
        let outcome = match (failed, sent) {
            (Some(cause), _) => {
                let error = ClientError::Source { host: host(), cause };
                return Err(FailedPush { error, left: cut() });
            }
            (None, _) if actual_size > rest => Err(ClientError::Length {
                host: host(),
                digest: digest.clone(),
                expected: size,
                actual: from + actual_size,
            }),
            (None, Err(error)) => return Err(FailedPush { error, left: cut() }),
            (None, Ok(answer)) if !answer.status().is_success() => {
                Err(self.transport().refusal(answer, &action).await)
            }
            (None, Ok(answer)) => {
                let next = self.location(&answer).unwrap_or_else(|_| upload.clone());
                let actual = hasher.finish();
                if from > 0 || actual == *digest {
                    return Ok(self.finish(repository, digest, next).await?);
                }
                Err(ClientError::Mismatch { host: host(), expected: digest.clone(), actual })
            }
        };
        self.cancel(repository, upload).await;
        Ok(outcome?)
    }

    async fn send_stream<S>(
        &self,
        scope: &TokenScope,
        upload: &Url,
        range: Range<u64>,
        content: S,
    ) -> Result<Response, ClientError>
    where
        S: Stream<Item = Result<Bytes, std::io::Error>> + Send + 'static,
    {
        let mut request = self
            .transport()
            .http
            .patch(upload.clone())
            .header(CONTENT_TYPE, "application/octet-stream")
            .header(CONTENT_LENGTH, range.end.saturating_sub(range.start))
            .body(Body::wrap_stream(content));
        if range.start > 0 {
            let sent = format!("{}-{}", range.start, range.end.saturating_sub(1));
            request = request.header(CONTENT_RANGE, sent);
        }
        if self.transport().options.endpoint.is_same_host(upload)
            && let Some(pass) = self.inner.passes.current(scope).await
        {
            request = request.header(AUTHORIZATION, pass.header());
        }
        request.send().await.map_err(|error| self.transport().unreachable(&error))
    }

    async fn finish(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        mut url: Url,
    ) -> Result<(), ClientError> {
        url.query_pairs_mut().append_pair("digest", digest.as_str());
        let scope = TokenScope::Push(repository.to_string(), None);
        let mut call = Call::new(Method::PUT, url, scope, format!("the push to {repository}"));
        call.body = Some(Bytes::new());
        let answer = self.send(&call).await?;
        match answer.status() {
            StatusCode::CREATED => Ok(()),
            _ => Err(self.transport().refusal(answer, &call.action).await),
        }
    }

    /// Gives up an upload that broke off.
    pub async fn give_up(&self, repository: &RepositoryName, upload: CutUpload) {
        self.cancel(repository, upload.0).await;
    }

    /// Gives an upload up. The registry removes it in time anyway, so a failure is only noted.
    async fn cancel(&self, repository: &RepositoryName, url: Url) {
        let scope = TokenScope::Push(repository.to_string(), None);
        let call =
            Call::new(Method::DELETE, url, scope, format!("giving up an upload to {repository}"));
        if let Err(error) = self.send(&call).await {
            tracing::debug!(%error, "an upload could not be given up");
        }
    }

    /// Sends a manifest as it is, under a tag or its digest. One that is about another is also put
    /// on the list of its referrers, where the registry does not do so itself.
    pub async fn push_manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        document: &Document,
    ) -> Result<(), ClientError> {
        let headers = self.put_manifest(repository, selector, document).await?;
        match &document.subject {
            Some(subject) if !headers.contains_key("oci-subject") => {
                self.list_referrer(repository, &subject.digest, document).await
            }
            _ => Ok(()),
        }
    }

    /// Sends a manifest, and gives the answer's headers.
    pub(crate) async fn put_manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        document: &Document,
    ) -> Result<HeaderMap, ClientError> {
        let url = self.repository_url(repository, &format!("manifests/{selector}"));
        let scope = TokenScope::Push(repository.to_string(), None);
        let mut call = Call::new(Method::PUT, url, scope, format!("the push to {repository}"));
        let media_type = HeaderValue::from_str(&document.media_type)
            .map_err(|_| self.transport().protocol("a media type that no header can carry"))?;
        call.headers.insert(CONTENT_TYPE, media_type);
        call.body = Some(document.bytes.clone());
        let answer = self.send(&call).await?;
        match answer.status() {
            StatusCode::CREATED => Ok(answer.headers().clone()),
            _ => Err(self.transport().refusal(answer, &call.action).await),
        }
    }

    /// The `Location` of an answer, when it may be followed.
    fn location(&self, answer: &Response) -> Result<Url, ClientError> {
        let text = answer.headers().get(LOCATION).and_then(|value| value.to_str().ok());
        text.and_then(|text| answer.url().join(text).ok())
            .filter(|url| self.transport().options.endpoint.may_lead_to(url))
            .ok_or_else(|| self.transport().protocol("an upload without a usable Location"))
    }
}

/// What went past on the way to the registry.
struct SentBytes {
    hasher: Hasher,
    size: u64,
    failed: Option<String>,
}

/// Hashes a stream while it is sent: the only time that these bytes are hashed on their way.
fn watched<S, E>(
    content: S,
    seen: Arc<Mutex<SentBytes>>,
) -> impl Stream<Item = Result<Bytes, std::io::Error>> + Send
where
    S: Stream<Item = Result<Bytes, E>> + Send + 'static,
    E: std::fmt::Display + Send + 'static,
{
    content.map(move |chunk| {
        let mut seen = seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match chunk {
            Ok(chunk) => {
                seen.hasher.update(&chunk);
                seen.size += chunk.len() as u64;
                Ok(chunk)
            }
            Err(error) => {
                seen.failed = Some(error.to_string());
                Err(std::io::Error::other("the source failed"))
            }
        }
    })
}

fn take(seen: &Mutex<SentBytes>, digest: &Digest) -> SentBytes {
    let fresh = SentBytes { hasher: Hasher::new(digest.algorithm()), size: 0, failed: None };
    std::mem::replace(&mut *seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner), fresh)
}
