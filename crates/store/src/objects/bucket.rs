//! Objects in an object store that speaks S3.

use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use futures_util::stream::{self, BoxStream, FuturesUnordered};
use futures_util::{StreamExt as _, TryStreamExt as _};
use larder_core::digest::{Digest, Hasher};
use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::path::Path;
use object_store::signer::Signer as _;
use object_store::{
    BackoffConfig, Certificate, ClientOptions, GetOptions, MultipartUpload, ObjectMeta,
    ObjectStore, ObjectStoreExt as _, PutMode, PutOptions, PutPayload, RetryConfig,
};
use tokio::sync::Semaphore;

use crate::blobs::BlobReader;
use crate::error::StoreError;
use crate::local::{Folder, Object, SealedContent, UploadHolder};

/// The bytes of a part. A content has 10,000 of them at most.
const PART: u64 = 8 * 1024 * 1024;
const PARTS: u64 = 9_000;
/// Parts of one content that are on their way at once.
const AT_ONCE: usize = 3;
/// How long a whole answer may take, but for contents on their way out.
const CALL: Duration = Duration::from_secs(120);
/// How long nothing may come of a content on its way out.
const STALL: Duration = Duration::from_secs(20);
/// What says whose the objects are.
const OWNER: &str = "owner";
/// How long an address holds that a client was sent to: it may come back to it where it was cut off.
const LINK: Duration = Duration::from_secs(20 * 60);
/// How often a content is asked for again without any progress.
const TRIES: u32 = 5;

/// Where the objects are.
#[derive(Clone)]
pub struct BucketPlace {
    /// The name of the bucket.
    pub bucket: String,
    /// The address of the object store.
    pub endpoint: String,
    /// The region that requests are signed for.
    pub region: String,
    /// What every object's name begins with. Empty: nothing.
    pub prefix: String,
    /// Who asks.
    pub key: BucketKey,
    /// The only certificates of authorities that are believed, as PEM. None: those of the system are.
    pub authorities: Option<Vec<u8>>,
    /// The address at which clients reach it, who are sent there for what they ask. None: they are not.
    pub clients_at: Option<String>,
}

/// A key of the object store.
#[derive(Clone)]
pub struct BucketKey {
    /// Its name, which may be seen.
    pub id: String,
    /// The secret.
    pub secret: String,
    /// What else is shown with one that ends by itself. None: nothing.
    pub session: Option<String>,
}

impl std::fmt::Debug for BucketPlace {
    /// Without what is secret.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "BucketPlace({} at {})", self.bucket, self.endpoint)
    }
}

/// Why an object store cannot be spoken to.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct BucketError(String);

/// Objects in a bucket. Clones share the connections.
#[derive(Clone)]
pub(crate) struct Bucket {
    inner: Arc<BucketInner>,
}

struct BucketInner {
    /// For contents on their way out: their time is not bounded as a whole.
    streams: AmazonS3,
    calls: AmazonS3,
    /// Who signs addresses for clients. None: they are not sent here.
    links: Option<AmazonS3>,
    /// For what the library has no call for.
    plain: reqwest::Client,
    prefix: String,
    /// MiB that may still be held of contents on their way there.
    memory: Semaphore,
}

/// MiB of contents on their way to the object store that are held at once, however many there are.
const MEMORY: u32 = 96;

/// The MiB that are held of a content of so many bytes while it is sent.
fn memory_of(bytes: u64) -> u32 {
    let part = PART.max(bytes.div_ceil(PARTS));
    let held = bytes.min(part.saturating_mul(AT_ONCE as u64)).div_ceil(1024 * 1024);
    u32::try_from(held).unwrap_or(MEMORY).clamp(1, MEMORY)
}

pub(super) fn said(doing: &'static str) -> impl FnOnce(object_store::Error) -> StoreError {
    move |error| match error {
        object_store::Error::NotFound { path, .. } => StoreError::NotFound(path),
        error => StoreError::Objects { doing, cause: super::told::told(&error) },
    }
}

impl Bucket {
    /// Speaks to nobody yet.
    pub fn new(place: &BucketPlace) -> Result<Self, BucketError> {
        let plain = place.endpoint.starts_with("http://");
        let options = || -> Result<ClientOptions, BucketError> {
            let options = ClientOptions::new()
                .with_allow_http(plain)
                .with_connect_timeout(Duration::from_secs(5))
                .with_read_timeout_disabled();
            let Some(authorities) = &place.authorities else { return Ok(options) };
            let authorities = Certificate::from_pem_bundle(authorities)
                .map_err(|error| BucketError(format!("its `ca` cannot be read: {error}")))?;
            Ok(authorities.into_iter().fold(
                options.with_no_system_certificates(true),
                ClientOptions::with_root_certificate,
            ))
        };
        let build_at = |endpoint: &str, options: ClientOptions| {
            // Nothing is taken from the environment, and the builder is never shown: it has the secret.
            let builder = AmazonS3Builder::new()
                .with_bucket_name(&place.bucket)
                .with_endpoint(endpoint)
                .with_region(&place.region)
                .with_access_key_id(&place.key.id)
                .with_secret_access_key(&place.key.secret)
                .with_allow_http(plain)
                .with_client_options(options)
                .with_retry(RetryConfig {
                    backoff: BackoffConfig {
                        init_backoff: Duration::from_millis(100),
                        max_backoff: Duration::from_secs(5),
                        base: 2.0,
                    },
                    max_retries: 4,
                    retry_timeout: Duration::from_secs(60),
                });
            let builder = match &place.key.session {
                Some(session) => builder.with_token(session),
                None => builder,
            };
            builder.build().map_err(|error| BucketError(error.to_string()))
        };
        let streams = build_at(&place.endpoint, options()?.with_timeout_disabled())?;
        let calls = build_at(&place.endpoint, options()?.with_timeout(CALL))?;
        // It is never asked anything itself.
        let link = |at: &String| build_at(at, options()?.with_allow_http(true));
        let links = place.clients_at.as_ref().map(link).transpose()?;
        let prefix = match place.prefix.trim_matches('/') {
            "" => String::new(),
            prefix => format!("{prefix}/"),
        };
        let (plain, memory) = (plain_client(place)?, Semaphore::new(MEMORY as usize));
        Ok(Self { inner: Arc::new(BucketInner { streams, calls, links, plain, prefix, memory }) })
    }

    /// Makes sure that the place belongs to a store of this name.
    ///
    /// # Errors
    /// [`StoreError::Foreign`] when it belongs to another.
    pub async fn own(&self, id: &str) -> Result<(), StoreError> {
        let path = self.path(OWNER)?;
        for _ in 0..2 {
            match self.inner.calls.get_opts(&path, GetOptions::new().with_range(Some(0..64))).await
            {
                Ok(found) => {
                    let found = found.bytes().await.map_err(said("be read"))?;
                    return match found == id.as_bytes() {
                        true => Ok(()),
                        false => Err(StoreError::Foreign(path.to_string())),
                    };
                }
                Err(object_store::Error::NotFound { .. }) => {}
                Err(error) => return Err(said("be read")(error)),
            }
            // Of two that come at once the last stays; each then reads whose it is.
            let put = self.inner.calls.put(&path, id.to_owned().into()).await;
            put.map_err(said("be written"))?;
        }
        Ok(())
    }

    /// Whether clients are sent here for what they ask.
    pub fn gives_links(&self) -> bool {
        self.inner.links.is_some()
    }

    /// An address for what lies at a place, which holds for a while. None: clients are not sent here.
    pub async fn link_to(&self, place: &str) -> Result<Option<String>, StoreError> {
        let Some(links) = &self.inner.links else { return Ok(None) };
        let signed = links.signed_url(reqwest::Method::GET, &self.path(place)?, LINK).await;
        signed.map(|url| Some(url.into())).map_err(said("sign an address"))
    }

    /// What every object's name begins with.
    pub(super) fn prefix(&self) -> &str {
        &self.inner.prefix
    }

    /// Who asks by signed addresses, and who signs them.
    pub(super) fn asker(&self) -> (&reqwest::Client, &AmazonS3) {
        (&self.inner.plain, &self.inner.calls)
    }

    fn path(&self, place: &str) -> Result<Path, StoreError> {
        Path::parse(format!("{}{place}", self.inner.prefix)).map_err(|error| StoreError::Objects {
            doing: "be asked for a place",
            cause: error.to_string(),
        })
    }

    /// How long ago what lies at a place was written, and its size in bytes. None: nothing lies there.
    pub async fn age_of(&self, place: &str) -> Result<Option<(Duration, u64)>, StoreError> {
        match self.inner.calls.head(&self.path(place)?).await {
            Ok(found) => Ok(Some((age(found.last_modified.into()), found.size))),
            Err(object_store::Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(said("be read")(error)),
        }
    }

    /// Opens a range of what lies at a place, which must lie within its size. What breaks off goes on where it was.
    pub async fn read(&self, place: &str, range: Range<u64>) -> Result<BlobReader, StoreError> {
        if range.is_empty() {
            return Ok(BlobReader::new(stream::empty()));
        }
        let path = self.path(place)?;
        let coming = self.open(&path, range.clone()).await?;
        let state = Coming { bucket: self.clone(), path, range, tries: 0, answer: Some(coming) };
        Ok(BlobReader::new(stream::try_unfold(state, Coming::next)))
    }

    async fn open(
        &self,
        path: &Path,
        range: Range<u64>,
    ) -> Result<BoxStream<'static, object_store::Result<Bytes>>, StoreError> {
        let options = GetOptions { range: Some(range.into()), ..GetOptions::default() };
        let asked = tokio::time::timeout(STALL, self.inner.streams.get_opts(path, options)).await;
        match asked {
            Ok(answer) => Ok(answer.map_err(said("be read"))?.into_stream()),
            Err(_) => Err(late()),
        }
    }

    /// Keeps content that is at hand whole, which must have this digest, at a place.
    pub async fn put(
        &self,
        digest: &Digest,
        content: Bytes,
        place: String,
    ) -> Result<SealedContent, StoreError> {
        let mut hasher = Hasher::new(digest.algorithm());
        hasher.update(&content);
        let actual = hasher.finish();
        if actual != *digest {
            return Err(StoreError::Mismatch { expected: digest.clone(), actual });
        }
        let size = content.len() as u64;
        let path = self.path(&place)?;
        self.inner.calls.put(&path, content.into()).await.map_err(said("be written"))?;
        Ok(SealedContent::elsewhere(digest.clone(), size, place))
    }

    /// Does once to an object what is not done to every one, and tells what is lacking that we can do without.
    pub async fn try_out(
        &self,
        digest: &Digest,
        place: &str,
    ) -> Result<Vec<&'static str>, StoreError> {
        let part = u8::from_str_radix(&digest.hex()[..2], 16).unwrap_or_default();
        if !self.objects(part).await?.iter().any(|object| object.place == place) {
            let cause = "an object that was just written is not among them".to_owned();
            return Err(StoreError::Objects { doing: "be listed", cause });
        }
        let [copied, pieced, kept] =
            ["copied", "pieced", "kept"].map(|name| format!("{place}.{name}"));
        self.inner
            .calls
            .copy(&self.path(place)?, &self.path(&copied)?)
            .await
            .map_err(said("copy an object"))?;
        let path = self.path(&pieced)?;
        let begun = self.inner.calls.put_multipart(&path).await;
        let mut upload = begun.map_err(said("begin an upload of several parts"))?;
        let sent = upload.put_part(Bytes::from_static(b"the only part").into()).await;
        sent.map_err(said("take a part of an upload"))?;
        upload.complete().await.map(drop).map_err(said("complete an upload of several parts"))?;
        let path = self.path(&kept)?;
        let first = || PutOptions { mode: PutMode::Create, ..PutOptions::default() };
        let mut lacking = Vec::new();
        let mut keep = Vec::new();
        for content in ["first", "second"] {
            keep.push(self.inner.calls.put_opts(&path, content.into(), first()).await.is_ok());
        }
        if keep != [true, false] {
            lacking.push("the object store cannot be asked to write only what is not there yet; the larder writes each object under a name of its own, and does without");
        }
        self.remove(vec![copied, pieced, kept]).await?;
        Ok(lacking)
    }

    /// What lies below a place.
    pub(super) fn list(
        &self,
        folder: &str,
    ) -> Result<BoxStream<'static, object_store::Result<ObjectMeta>>, StoreError> {
        Ok(self.inner.calls.list(Some(&self.path(folder)?)))
    }

    /// Takes content that was verified in a folder.
    pub async fn take(&self, from: &Folder, sealed: &SealedContent) -> Result<(), StoreError> {
        self.take_range(from, &sealed.place, 0..sealed.size, &sealed.place).await
    }

    /// Makes what lies at a place verified content, without it being sent.
    pub async fn copy(&self, from: &str, sealed: &SealedContent) -> Result<(), StoreError> {
        let (from, to) = (self.path(from)?, self.path(&sealed.place)?);
        self.inner.calls.copy(&from, &to).await.map_err(said("be written"))
    }

    /// Takes a part of what lies at a place in a folder.
    pub async fn take_range(
        &self,
        from: &Folder,
        at: &str,
        range: Range<u64>,
        place: &str,
    ) -> Result<(), StoreError> {
        let path = self.path(place)?;
        let wanted = range.end - range.start;
        // Taken once for all parts: who held some while waiting for more would stand still with the others.
        let _memory = self.inner.memory.acquire_many(memory_of(wanted)).await;
        if wanted <= PART {
            let content = read_all(from, at, range).await?;
            self.inner.calls.put(&path, content).await.map_err(said("be written"))?;
            return Ok(());
        }
        let mut upload =
            self.inner.calls.put_multipart(&path).await.map_err(said("begin to write"))?;
        match send(&mut *upload, from, at, range).await {
            Ok(()) => Ok(()),
            Err(error) => {
                // Its answer may have been lost, and all is well.
                if let Ok(Some((_, size))) = self.age_of(place).await
                    && size == wanted
                {
                    return Ok(());
                }
                if let Err(error) = upload.abort().await {
                    tracing::debug!(%error, "parts of a content could not be given up");
                }
                Err(error)
            }
        }
    }

    /// Removes what lies at some places; what is gone already is none of them.
    pub async fn remove(&self, places: Vec<String>) -> Result<(), StoreError> {
        let paths: Vec<Path> =
            places.iter().map(|place| self.path(place)).collect::<Result<_, _>>()?;
        let paths = stream::iter(paths.into_iter().map(Ok)).boxed();
        let mut gone = self.inner.calls.delete_stream(paths);
        while let Some(removed) = gone.next().await {
            match removed {
                Ok(_) | Err(object_store::Error::NotFound { .. }) => {}
                Err(error) => return Err(said("remove")(error)),
            }
        }
        Ok(())
    }

    /// The objects whose digests begin with this byte, sorted.
    pub async fn objects(&self, part: u8) -> Result<Vec<Object>, StoreError> {
        let mut found = Vec::new();
        for algorithm in ["sha256", "sha512"] {
            let folder = format!("content/{algorithm}/{part:02x}");
            let mut listed = self.inner.calls.list(Some(&self.path(&folder)?));
            while let Some(one) = listed.try_next().await.map_err(said("be listed"))? {
                let name = one.location.filename().unwrap_or_default();
                let hex = name.split('.').next().unwrap_or_default();
                let Ok(digest) = format!("{algorithm}:{hex}").parse() else { continue };
                let place = format!("{folder}/{name}");
                let age = age(one.last_modified.into());
                found.push(Object { digest, place, size: one.size, age });
            }
        }
        found.sort_by(|a, b| (&a.digest, &a.place).cmp(&(&b.digest, &b.place)));
        Ok(found)
    }

    /// Who has what lies at a place: nobody can hold it, and who has just written it has noted that.
    pub async fn hold(&self, place: &str) -> Result<UploadHolder, StoreError> {
        match self.age_of(place).await? {
            Some(_) => Ok(UploadHolder::Ours(None)),
            None => Ok(UploadHolder::Nothing),
        }
    }

    /// Keeps what lies at a place aside for somebody to look at, and tells where. None: nothing lay there.
    pub async fn set_aside(
        &self,
        digest: &Digest,
        place: &str,
    ) -> Result<Option<String>, StoreError> {
        let aside = format!("quarantine/{}-{}", digest.algorithm().name(), digest.hex());
        match self.inner.calls.copy(&self.path(place)?, &self.path(&aside)?).await {
            Ok(()) => {
                self.remove(vec![place.to_owned()]).await?;
                Ok(Some(aside))
            }
            Err(object_store::Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(said("be written")(error)),
        }
    }
}

/// A client that believes the same authorities.
fn plain_client(place: &BucketPlace) -> Result<reqwest::Client, BucketError> {
    let wrong = |error: reqwest::Error| BucketError(error.to_string());
    let builder = reqwest::Client::builder()
        .connect_timeout(Duration::from_secs(5))
        .redirect(reqwest::redirect::Policy::none());
    let builder = match &place.authorities {
        None => builder,
        Some(authorities) => {
            let all = reqwest::Certificate::from_pem_bundle(authorities).map_err(wrong)?;
            builder.tls_certs_only(all)
        }
    };
    builder.build().map_err(wrong)
}

fn late() -> StoreError {
    StoreError::Objects { doing: "be read", cause: "nothing came in time".to_owned() }
}

/// How long ago this was. What is from the future is from now.
pub(super) fn age(written: SystemTime) -> Duration {
    written.elapsed().unwrap_or_default()
}

async fn read_all(from: &Folder, place: &str, range: Range<u64>) -> Result<PutPayload, StoreError> {
    let mut reader = from.read(place, range).await?;
    let mut pieces = Vec::new();
    while let Some(piece) = reader.next().await {
        pieces.push(piece?);
    }
    Ok(pieces.into_iter().collect())
}

/// Sends all parts, some at once, and makes them one.
async fn send(
    upload: &mut dyn MultipartUpload,
    from: &Folder,
    place: &str,
    range: Range<u64>,
) -> Result<(), StoreError> {
    let part = PART.max((range.end - range.start).div_ceil(PARTS));
    let mut sending = FuturesUnordered::new();
    let mut at = range.start;
    while at < range.end {
        let end = (at + part).min(range.end);
        let content = read_all(from, place, at..end).await?;
        sending.push(upload.put_part(content));
        if sending.len() >= AT_ONCE
            && let Some(sent) = sending.next().await
        {
            sent.map_err(said("be written"))?;
        }
        at = end;
    }
    while let Some(sent) = sending.next().await {
        sent.map_err(said("be written"))?;
    }
    upload.complete().await.map(drop).map_err(said("be written"))
}

/// A content on its way out.
struct Coming {
    bucket: Bucket,
    path: Path,
    /// What is still to come.
    range: Range<u64>,
    /// How often it was asked for again since the last of it came.
    tries: u32,
    answer: Option<BoxStream<'static, object_store::Result<Bytes>>>,
}

impl Coming {
    async fn next(mut self) -> Result<Option<(Bytes, Self)>, StoreError> {
        while !self.range.is_empty() {
            if self.answer.is_none() {
                match self.bucket.open(&self.path, self.range.clone()).await {
                    Ok(coming) => self.answer = Some(coming),
                    Err(error @ StoreError::NotFound(_)) => return Err(error),
                    Err(error) => {
                        self.again(error).await?;
                        continue;
                    }
                }
            }
            let Some(coming) = &mut self.answer else { continue };
            // Only while we wait: how long the reader pauses is its own affair.
            let error = match tokio::time::timeout(STALL, coming.next()).await {
                Ok(Some(Ok(mut piece))) => {
                    let wanted = self.range.end - self.range.start;
                    piece.truncate(usize::try_from(wanted).unwrap_or(usize::MAX));
                    if piece.is_empty() {
                        continue;
                    }
                    self.range.start += piece.len() as u64;
                    self.tries = 0;
                    return Ok(Some((piece, self)));
                }
                Ok(Some(Err(error))) => said("be read")(error),
                Ok(None) => StoreError::Objects {
                    doing: "be read",
                    cause: format!("{} bytes did not come", self.range.end - self.range.start),
                },
                Err(_) => late(),
            };
            self.answer = None;
            self.again(error).await?;
        }
        Ok(None)
    }

    /// Pauses before it is asked for again; an error where that has not helped.
    async fn again(&mut self, error: StoreError) -> Result<(), StoreError> {
        self.tries += 1;
        if self.tries >= TRIES || matches!(error, StoreError::NotFound(_)) {
            return Err(error);
        }
        tracing::debug!(%error, "a content is asked for again");
        tokio::time::sleep(Duration::from_millis(100) * 2_u32.pow(self.tries)).await;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_content_holds_more_memory_than_there_is() {
        let mib = 1024 * 1024;
        assert_eq!([0, 1, mib, mib + 1].map(memory_of), [1, 1, 1, 2]);
        assert_eq!([8, 16, 24, 1000].map(|size| memory_of(size * mib)), [8, 16, 24, 24]);
        assert_eq!([200 * 1024, 5_000_000].map(|size| memory_of(size * mib)), [69, MEMORY]);
    }
}
