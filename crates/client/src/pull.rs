//! Taking content: manifests whole and verified, blobs as streams that resume where they broke.

use bytes::{Buf as _, Bytes, BytesMut};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{Document, MANIFEST_LIMIT, media_type};
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use reqwest::header::{
    ACCEPT, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, HeaderValue, IF_NONE_MATCH, RANGE,
};
use reqwest::{Method, Response, StatusCode, Url};
use tokio::sync::OwnedSemaphorePermit;

use crate::error::{ClientError, NotThere};
use crate::request::{Call, Registry};
use crate::sign_in::TokenScope;
use crate::transport::{innermost, read_bounded};

/// A try that brings fewer bytes than this does not count: a stream that drips must end some day.
const PROGRESS: u64 = 64 * 1024;

/// What a tag or digest points to, as the registry says without sending it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ResolvedTag {
    /// The content's name.
    pub digest: Digest,
    pub media_type: String,
    /// Its size in bytes.
    pub size: u64,
}

/// Addresses of one layer that are tried.
const ADDRESSES: usize = 4;

impl Registry {
    fn manifest_call(
        &self,
        method: Method,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Call {
        let url = self.repository_url(repository, &format!("manifests/{selector}"));
        let action = format!("the pull of {repository}");
        let mut call = Call::new(method, url, TokenScope::Pull(repository.to_string()), action);
        let accept = media_type::ACCEPT.join(", ");
        if let Ok(accept) = HeaderValue::from_str(&accept) {
            call.headers.insert(ACCEPT, accept);
        }
        call
    }

    /// Asks what a tag or digest points to with a HEAD request; a registry that leaves something
    /// out of that answer is asked with GET.
    pub async fn resolve(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<ResolvedTag, ClientError> {
        let call = self.manifest_call(Method::HEAD, repository, selector);
        let answer = self.send(&call).await?;
        self.resolved(repository, selector, answer, &call.action).await
    }

    /// What an answer to HEAD says.
    async fn resolved(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        answer: Response,
        action: &str,
    ) -> Result<ResolvedTag, ClientError> {
        match answer.status() {
            status if status.is_success() => {}
            StatusCode::NOT_FOUND => return Err(self.manifest_missing(repository, selector).await),
            StatusCode::METHOD_NOT_ALLOWED => {
                return self.resolve_by_get(repository, selector).await;
            }
            _ => return Err(self.transport().refusal(answer, action).await),
        }
        let header =
            |name| answer.headers().get(name).and_then(|value| HeaderValue::to_str(value).ok());
        let digest = header("docker-content-digest").and_then(|text| text.parse().ok());
        let digest = match selector {
            Selector::Digest(digest) => Some(digest.clone()),
            Selector::Tag(_) => digest,
        };
        let size = header(CONTENT_LENGTH.as_str())
            .and_then(|text| text.parse().ok())
            .filter(|size| *size > 0);
        let media_type = header(CONTENT_TYPE.as_str()).and_then(|text| text.split(';').next());
        match (digest, size, media_type.map(str::trim)) {
            (_, _, Some(old)) if media_type::is_schema1(old) => Err(self.document_error(
                repository,
                selector,
                larder_core::document::DocumentError::Schema1,
            )),
            (Some(digest), Some(size), Some(media_type))
                if media_type::ACCEPT.contains(&media_type) =>
            {
                Ok(ResolvedTag { digest, media_type: media_type.to_owned(), size })
            }
            _ => self.resolve_by_get(repository, selector).await,
        }
    }

    /// Asks whether a tag still points where it did, with one HEAD request that says so; a registry
    /// that takes such conditions then answers without looking further. None: it does.
    pub async fn recheck(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
        known: &Digest,
    ) -> Result<Option<ResolvedTag>, ClientError> {
        let selector = Selector::Tag(tag.clone());
        let mut call = self.manifest_call(Method::HEAD, repository, &selector);
        if let Ok(condition) = HeaderValue::from_str(&format!("\"{known}\"")) {
            call.headers.insert(IF_NONE_MATCH, condition);
        }
        let answer = self.send(&call).await?;
        if answer.status() == StatusCode::NOT_MODIFIED {
            return Ok(None);
        }
        let resolved = self.resolved(repository, &selector, answer, &call.action).await?;
        Ok(Some(resolved).filter(|resolved| resolved.digest != *known))
    }

    async fn resolve_by_get(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<ResolvedTag, ClientError> {
        let (digest, document) = self.manifest(repository, selector).await?;
        Ok(ResolvedTag {
            digest,
            size: document.bytes.len() as u64,
            media_type: document.media_type,
        })
    }

    /// Fetches a manifest or index and verifies it: against the digest that was asked for, else
    /// against the one that the registry states.
    pub async fn manifest(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<(Digest, Document), ClientError> {
        match self.manifest_if_any(repository, selector).await? {
            Some(found) => Ok(found),
            None => Err(self.manifest_missing(repository, selector).await),
        }
    }

    /// The same, with None for what is not there.
    pub(crate) async fn manifest_if_any(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<(Digest, Document)>, ClientError> {
        let call = self.manifest_call(Method::GET, repository, selector);
        let answer = self.send(&call).await?;
        match answer.status() {
            status if status.is_success() => {}
            StatusCode::NOT_FOUND => return Ok(None),
            _ => return Err(self.transport().refusal(answer, &call.action).await),
        }
        let header = |name: &str| Some(answer.headers().get(name)?.to_str().ok()?.to_owned());
        let announced = header(CONTENT_TYPE.as_str());
        let stated: Option<Digest> =
            header("docker-content-digest").and_then(|text| text.parse().ok());
        let bytes = read_bounded(answer, MANIFEST_LIMIT)
            .await
            .map_err(|cause| self.transport().protocol(cause))?;
        let expected = match selector {
            Selector::Digest(digest) => Some(digest.clone()),
            Selector::Tag(_) => stated,
        };
        let actual = match &expected {
            Some(expected) => {
                let mut hasher = Hasher::new(expected.algorithm());
                hasher.update(&bytes);
                hasher.finish()
            }
            None => Digest::of(&bytes),
        };
        if let Some(expected) = expected.filter(|expected| *expected != actual) {
            return Err(ClientError::Mismatch { host: self.host().to_owned(), expected, actual });
        }
        let document = Document::read(bytes, announced.as_deref())
            .map_err(|source| self.document_error(repository, selector, source))?;
        Ok(Some((actual, document)))
    }

    fn document_error(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
        source: larder_core::document::DocumentError,
    ) -> ClientError {
        let what = format!("{repository} {selector}");
        ClientError::Document { host: self.host().to_owned(), what, source }
    }

    /// Tells a missing tag from a missing repository: the list of tags knows.
    async fn manifest_missing(
        &self,
        repository: &RepositoryName,
        selector: &Selector,
    ) -> ClientError {
        let mut url = self.repository_url(repository, "tags/list");
        url.query_pairs_mut().append_pair("n", "1");
        let scope = TokenScope::Pull(repository.to_string());
        let call = Call::new(Method::GET, url, scope, format!("the tags of {repository}"));
        let there = match self.send(&call).await {
            Ok(answer) => answer.status() != StatusCode::NOT_FOUND,
            Err(_) => true,
        };
        let wanted = match selector {
            _ if !there => NotThere::Repository(repository.to_string()),
            Selector::Tag(tag) => NotThere::Tag(format!("{tag} in {repository}")),
            Selector::Digest(digest) => NotThere::Manifest(format!("{digest} in {repository}")),
        };
        ClientError::NotFound { host: self.host().to_owned(), wanted }
    }

    /// Opens a blob's stream. It waits until one of the registry's `parallel` streams is free.
    pub async fn blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: u64,
    ) -> Result<BlobStream, ClientError> {
        self.blob_from(repository, digest, Some(size), 0).await
    }

    /// Opens the stream of a layer that the registry does not have, where its manifest says that it lies: at the first of
    /// these addresses that has it. No login is shown there.
    ///
    /// # Errors
    /// [`ClientError::Foreign`] where that is not allowed for this registry; else as for a blob, also when no address is one
    /// to which the registry may lead.
    pub async fn foreign_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: Option<u64>,
        from: u64,
        addresses: &[String],
    ) -> Result<BlobStream, ClientError> {
        let host = || self.host().to_owned();
        if let Some(first) = addresses.first().filter(|_| !self.transport().options.foreign) {
            let at = larder_core::shown::cut(first, 200);
            return Err(ClientError::Foreign { host: host(), digest: digest.clone(), at });
        }
        let wanted = NotThere::Blob(format!("{digest} in {repository}"));
        let mut met = ClientError::NotFound { host: host(), wanted };
        for address in addresses.iter().take(ADDRESSES) {
            let allowed = Url::parse(address)
                .ok()
                .filter(|url| self.transport().options.endpoint.may_lead_to(url))
                .filter(|url| url.username().is_empty() && url.password().is_none());
            let Some(url) = allowed else {
                let shown = larder_core::shown::cut(address, 200);
                let cause = format!("{digest} lies at {shown}, which is not allowed");
                met = self.transport().protocol(cause);
                continue;
            };
            match self.stream(repository, digest, size, from, Some(url)).await {
                Ok(stream) => return Ok(stream),
                Err(error) => met = error,
            }
        }
        Err(met)
    }

    /// The same from a byte on, and for a blob of which nobody has said how large it is: then the
    /// registry's word is taken for it.
    pub async fn blob_from(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: Option<u64>,
        from: u64,
    ) -> Result<BlobStream, ClientError> {
        self.stream(repository, digest, size, from, None).await
    }

    async fn stream(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: Option<u64>,
        from: u64,
        address: Option<Url>,
    ) -> Result<BlobStream, ClientError> {
        let permit = self.inner.streams.clone().acquire_owned().await.ok();
        let mut stream = BlobStream {
            registry: self.clone(),
            repository: repository.clone(),
            digest: digest.clone(),
            address,
            size,
            received: from,
            idle_tries: 0,
            since_open: 0,
            known: 0,
            answer: None,
            _permit: permit,
        };
        stream.open().await?;
        Ok(stream)
    }

    /// A few bytes of a blob, by their places in it. None: the registry gives blobs from their beginning only.
    ///
    /// # Errors
    /// As for a blob; also when it gives other bytes than were asked for.
    pub async fn blob_piece(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        range: &std::ops::Range<u64>,
    ) -> Result<Option<Bytes>, ClientError> {
        let url = self.repository_url(repository, &format!("blobs/{digest}"));
        let scope = TokenScope::Pull(repository.to_string());
        let mut call = Call::new(Method::GET, url, scope, format!("the pull of {repository}"));
        let last = range.end.saturating_sub(1);
        if let Ok(wanted) = HeaderValue::from_str(&format!("bytes={}-{last}", range.start)) {
            call.headers.insert(RANGE, wanted);
        }
        let answer = self.send(&call).await?;
        match answer.status() {
            StatusCode::PARTIAL_CONTENT => {}
            StatusCode::OK | StatusCode::RANGE_NOT_SATISFIABLE => return Ok(None),
            StatusCode::NOT_FOUND => {
                let wanted = NotThere::Blob(format!("{digest} in {repository}"));
                return Err(ClientError::NotFound { host: self.host().to_owned(), wanted });
            }
            _ => return Err(self.transport().refusal(answer, &call.action).await),
        }
        let said = answer.headers().get(CONTENT_RANGE).and_then(|said| said.to_str().ok());
        let said = said.and_then(|said| said.strip_prefix("bytes ")?.split('/').next());
        if said != Some(&format!("{}-{last}", range.start)) {
            return Ok(None);
        }
        let length = usize::try_from(range.end - range.start).unwrap_or(usize::MAX);
        let body = read_bounded(answer, length).await;
        let body = body.map_err(|cause| self.transport().protocol(cause))?;
        Ok((body.len() == length).then_some(body))
    }

    /// Fetches a small blob whole and verifies it.
    ///
    /// # Errors
    /// [`ClientError::Length`] when it is announced as larger than `limit` bytes.
    pub async fn small_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        size: u64,
        limit: usize,
    ) -> Result<Bytes, ClientError> {
        if size > limit as u64 {
            let host = self.host().to_owned();
            return Err(ClientError::Length {
                host,
                digest: digest.clone(),
                expected: limit as u64,
                actual: size,
            });
        }
        let mut stream = self.blob(repository, digest, size).await?;
        let mut hasher = Hasher::new(digest.algorithm());
        let mut body = BytesMut::new();
        while let Some(chunk) = stream.next().await? {
            hasher.update(&chunk);
            body.extend_from_slice(&chunk);
        }
        let actual = hasher.finish();
        if actual != *digest {
            let host = self.host().to_owned();
            return Err(ClientError::Mismatch { host, expected: digest.clone(), actual });
        }
        Ok(body.freeze())
    }
}

/// A blob on its way. Its length is checked here; **its digest is not**: the receiver of the bytes
/// hashes them once, on the way to where they go.
pub struct BlobStream {
    registry: Registry,
    repository: RepositoryName,
    digest: Digest,
    /// Where it lies outside of the registry. None: it is the registry's.
    address: Option<Url>,
    /// None: neither the caller nor the registry has said.
    size: Option<u64>,
    received: u64,
    idle_tries: usize,
    /// Bytes that this try has brought.
    since_open: u64,
    /// Bytes that a server which ignores Range sends again, and that are thrown away.
    known: u64,
    answer: Option<Response>,
    _permit: Option<OwnedSemaphorePermit>,
}

impl BlobStream {
    /// The next bytes. None: all bytes came. A stream that breaks off is taken up again with a
    /// Range request as long as the tries bring something.
    pub async fn next(&mut self) -> Result<Option<Bytes>, ClientError> {
        loop {
            let cause = match self.answer.as_mut() {
                Some(answer) => match answer.chunk().await {
                    Ok(Some(mut chunk)) => {
                        let known = self.known.min(chunk.len() as u64);
                        self.known -= known;
                        chunk.advance(usize::try_from(known).unwrap_or(chunk.len()));
                        if chunk.is_empty() {
                            continue;
                        }
                        return self.take(chunk).map(Some);
                    }
                    // Without a length, the end of a body that is whole as such is the end.
                    Ok(None) if self.size.is_none_or(|size| size == self.received) => {
                        return Ok(None);
                    }
                    Ok(None) => "the connection was closed early".to_owned(),
                    Err(error) => innermost(&error),
                },
                None => "the connection was closed".to_owned(),
            };
            self.answer = None;
            if self.size == Some(self.received) {
                return Ok(None);
            }
            self.idle_tries = if self.since_open < PROGRESS { self.idle_tries + 1 } else { 0 };
            if self.idle_tries > self.registry.transport().options.retries {
                return Err(self.cut(cause));
            }
            tracing::debug!(host = self.registry.host(), digest = %self.digest, received = self.received, cause, "resuming");
            self.open().await?;
        }
    }

    fn take(&mut self, chunk: Bytes) -> Result<Bytes, ClientError> {
        self.received += chunk.len() as u64;
        self.since_open += chunk.len() as u64;
        match self.size {
            Some(size) if self.received > size => Err(self.wrong_length(size, self.received)),
            _ => Ok(chunk),
        }
    }

    /// How many bytes the blob has, as far as somebody has said.
    pub fn size(&self) -> Option<u64> {
        self.size
    }

    fn wrong_length(&self, expected: u64, actual: u64) -> ClientError {
        let host = self.registry.host().to_owned();
        ClientError::Length { host, digest: self.digest.clone(), expected, actual }
    }

    fn cut(&self, cause: String) -> ClientError {
        ClientError::Cut {
            host: self.registry.host().to_owned(),
            digest: self.digest.clone(),
            received: self.received,
            size: self.size.unwrap_or(self.received),
            cause,
        }
    }

    /// Opens the stream at the byte where it stands.
    async fn open(&mut self) -> Result<(), ClientError> {
        let registry = self.registry.clone();
        let url = self.address.clone().unwrap_or_else(|| {
            registry.repository_url(&self.repository, &format!("blobs/{}", self.digest))
        });
        let scope = TokenScope::Pull(self.repository.to_string());
        let mut call =
            Call::new(Method::GET, url, scope, format!("the pull of {}", self.repository));
        if self.received > 0
            && let Ok(range) = HeaderValue::from_str(&format!("bytes={}-", self.received))
        {
            call.headers.insert(RANGE, range);
        }
        let answer = registry.send(&call).await?;
        let starts_at = match answer.status() {
            StatusCode::OK => 0,
            StatusCode::PARTIAL_CONTENT => {
                let range =
                    answer.headers().get(CONTENT_RANGE).and_then(|range| range.to_str().ok());
                let start = range.and_then(|range| {
                    range.strip_prefix("bytes ")?.split('-').next()?.parse().ok()
                });
                start.ok_or_else(|| {
                    registry
                        .transport()
                        .protocol("a partial answer without a readable Content-Range")
                })?
            }
            StatusCode::NOT_FOUND => {
                let wanted = NotThere::Blob(format!("{} in {}", self.digest, self.repository));
                return Err(ClientError::NotFound { host: registry.host().to_owned(), wanted });
            }
            _ => return Err(registry.transport().refusal(answer, &call.action).await),
        };
        if starts_at > self.received {
            return Err(registry
                .transport()
                .protocol("a partial answer that begins after the byte that was asked for"));
        }
        // A length that is wrong from the start need not be read to its end.
        if let Some(length) = answer.content_length() {
            let says = starts_at.saturating_add(length);
            if let Some(size) = self.size.filter(|size| *size != says) {
                return Err(self.wrong_length(size, says));
            }
            self.size = Some(says);
        }
        self.answer = Some(answer);
        self.since_open = 0;
        self.known = self.received - starts_at;
        Ok(())
    }
}
