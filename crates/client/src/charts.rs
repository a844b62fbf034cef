//! A plain chart repository, asked as a registry is: its index says which charts there are, and each is given as the
//! artifact that a registry would have. Nothing else of the client knows of it.

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use larder_core::chart::archive::ARCHIVE_LIMIT;
use larder_core::chart::index::INDEX_LIMIT;
use larder_core::chart::{ChartArtifact, ChartIndex, ChartVersion, SaidDigest};
use larder_core::digest::Digest;
use larder_core::document::media_type;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use larder_core::shown::cut;
use reqwest::{Method, Response, ResponseBuilderExt as _, StatusCode, Url};
use serde_json::json;

use crate::error::ClientError;
use crate::request::{Call, Registry};
use crate::sign_in::TokenScope;
use crate::transport::read_bounded;

/// How long an index is believed.
const FRESH: Duration = Duration::from_secs(300);
/// Charts that are kept in memory.
const KEPT: usize = 4;
/// Charts of which it is remembered which version they are.
const PLACES: usize = 10_000;

/// What is known of a chart repository.
#[derive(Default)]
pub(crate) struct Charts {
    index: tokio::sync::Mutex<Option<(Instant, Arc<ChartIndex>)>>,
    known: Mutex<Known>,
}

#[derive(Default)]
struct Known {
    /// The charts that were fetched last.
    artifacts: VecDeque<(RepositoryName, Arc<ChartArtifact>)>,
    /// Which version has a content, as far as it was met.
    places: HashMap<(RepositoryName, Digest), Tag>,
    /// Versions that somebody wants, so that their contents can be found by digest.
    expected: HashMap<RepositoryName, BTreeSet<Tag>>,
}

/// What is asked for, by the path of a request (Distribution Specification, "Endpoints").
enum Asked {
    Base,
    Catalog,
    Tags(RepositoryName),
    Manifest(RepositoryName, Selector),
    Blob(RepositoryName, Digest),
}

impl Asked {
    fn of(path: &str) -> Option<Self> {
        let path = path.split_once("/v2/")?.1;
        match path {
            "" => return Some(Self::Base),
            "_catalog" => return Some(Self::Catalog),
            _ => {}
        }
        if let Some(name) = path.strip_suffix("/tags/list") {
            return name.parse().ok().map(Self::Tags);
        }
        let (rest, last) = path.rsplit_once('/')?;
        let (name, what) = rest.rsplit_once('/')?;
        let name = name.parse().ok()?;
        match what {
            "manifests" => {
                let digest = last.parse().map(Selector::Digest).ok();
                let selector = digest.or_else(|| last.parse().map(Selector::Tag).ok())?;
                Some(Self::Manifest(name, selector))
            }
            "blobs" => Some(Self::Blob(name, last.parse().ok()?)),
            _ => None,
        }
    }
}

impl Charts {
    fn known(&self) -> MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Somebody wants a version, and will ask for its content by digest.
    pub fn expect(&self, name: &RepositoryName, tag: &Tag) {
        self.known().expected.entry(name.clone()).or_default().insert(tag.clone());
    }

    /// Answers what a registry would be asked.
    pub async fn answer(&self, registry: &Registry, call: &Call) -> Result<Response, ClientError> {
        if call.method != Method::GET && call.method != Method::HEAD {
            return Ok(answered(call, StatusCode::METHOD_NOT_ALLOWED, "text/plain", Bytes::new()));
        }
        let missing = || answered(call, StatusCode::NOT_FOUND, "application/json", Bytes::new());
        let json = |value: serde_json::Value| {
            answered(call, StatusCode::OK, "application/json", value.to_string().into())
        };
        match Asked::of(call.url.path()) {
            None => Ok(missing()),
            Some(Asked::Base) => {
                self.index(registry).await?;
                Ok(json(json!({})))
            }
            Some(Asked::Catalog) => {
                let index = self.index(registry).await?;
                let names: Vec<&str> = index.names().map(RepositoryName::as_str).collect();
                Ok(json(json!({ "repositories": names })))
            }
            Some(Asked::Tags(name)) => {
                let index = self.index(registry).await?;
                let Some(versions) = index.versions(&name) else { return Ok(missing()) };
                let tags: Vec<&str> = versions.keys().map(Tag::as_str).collect();
                Ok(json(json!({ "name": name.as_str(), "tags": tags })))
            }
            Some(Asked::Manifest(name, selector)) => {
                let found = self.find(registry, &name, &selector).await?;
                let Some(found) = found else { return Ok(missing()) };
                let mut answer =
                    answered(call, StatusCode::OK, media_type::MANIFEST, found.manifest.clone());
                if let Ok(digest) = found.digest.as_str().parse() {
                    answer.headers_mut().insert("docker-content-digest", digest);
                }
                Ok(answer)
            }
            Some(Asked::Blob(name, digest)) => {
                let selector = Selector::Digest(digest.clone());
                let found = self.find(registry, &name, &selector).await?;
                let Some(found) = found else { return Ok(missing()) };
                let content = match digest {
                    digest if digest == found.config_digest => found.config.clone(),
                    digest if digest == found.archive_digest => found.archive.clone(),
                    _ => return Ok(missing()),
                };
                Ok(answered(call, StatusCode::OK, "application/octet-stream", content))
            }
        }
    }

    /// The index, asked anew after a while.
    async fn index(&self, registry: &Registry) -> Result<Arc<ChartIndex>, ClientError> {
        let mut kept = self.index.lock().await;
        if let Some((at, index)) = &*kept
            && at.elapsed() < FRESH
        {
            return Ok(Arc::clone(index));
        }
        let transport = registry.transport();
        let base = format!("{}/index.yaml", transport.options.endpoint);
        let url = Url::parse(&base).map_err(|error| transport.protocol(error.to_string()))?;
        let bytes = fetch(registry, url, "the index of its charts", INDEX_LIMIT).await?;
        let wrong = |cause: String| transport.protocol(format!("its index of charts: {cause}"));
        let index = tokio::task::spawn_blocking(move || {
            let text = std::str::from_utf8(&bytes).map_err(|_| "it is no UTF-8".to_owned())?;
            ChartIndex::read(text).map_err(|error| error.to_string())
        });
        let index = index.await.map_err(|error| wrong(error.to_string()))?;
        let index = Arc::new(index.map_err(wrong)?);
        *kept = Some((Instant::now(), Arc::clone(&index)));
        Ok(index)
    }

    /// The chart of a version, or one of whose contents that is the digest. None: there is none, as far as it can be
    /// told without fetching them all.
    async fn find(
        &self,
        registry: &Registry,
        name: &RepositoryName,
        selector: &Selector,
    ) -> Result<Option<Arc<ChartArtifact>>, ClientError> {
        let digest = match selector {
            Selector::Tag(tag) => return self.fetch(registry, name, tag).await,
            Selector::Digest(digest) => digest,
        };
        let (kept, place, expected) = {
            let known = self.known();
            let kept = known.artifacts.iter().find(|(of, one)| of == name && has(one, digest));
            let place = known.places.get(&(name.clone(), digest.clone())).cloned();
            let expected = known.expected.get(name).cloned().unwrap_or_default();
            (kept.map(|(_, one)| Arc::clone(one)), place, expected)
        };
        if kept.is_some() {
            return Ok(kept);
        }
        let candidates: Vec<Tag> = match place {
            Some(tag) => vec![tag],
            None => {
                let known = self.known();
                let met =
                    |tag: &Tag| known.places.iter().any(|((of, _), at)| of == name && at == tag);
                expected.into_iter().filter(|tag| !met(tag)).collect()
            }
        };
        for tag in candidates {
            let found = self.fetch(registry, name, &tag).await?;
            if let Some(found) = found.filter(|found| has(found, digest)) {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    /// Fetches a version's archive, from the first of its addresses that has it.
    async fn fetch(
        &self,
        registry: &Registry,
        name: &RepositoryName,
        tag: &Tag,
    ) -> Result<Option<Arc<ChartArtifact>>, ClientError> {
        let index = self.index(registry).await?;
        let Some(version) = index.versions(name).and_then(|versions| versions.get(tag)) else {
            return Ok(None);
        };
        let transport = registry.transport();
        let host = || transport.host().to_owned();
        let chart = format!("{name} {}", cut(&version.version, 100));
        let archive = self.archive(registry, version, &chart).await?;
        let wrong =
            |cause: String| ClientError::Chart { host: host(), chart: chart.clone(), cause };
        let actual = Digest::of(&archive);
        match &version.digest {
            SaidDigest::Is(said) if *said != actual => {
                let expected = said.clone();
                return Err(ClientError::Mismatch { host: host(), expected, actual });
            }
            SaidDigest::Odd(said) => {
                return Err(wrong(format!("its index says `{said}`, which is no digest")));
            }
            SaidDigest::Is(_) | SaidDigest::Nothing => {}
        }
        let artifact = tokio::task::spawn_blocking(move || ChartArtifact::of(archive)).await;
        let artifact = artifact.map_err(|error| wrong(error.to_string()))?;
        let artifact = artifact.map_err(|error| wrong(error.to_string()))?;
        if artifact.name != name.as_str() || artifact.version != version.version {
            let own = format!("{} {}", artifact.name, artifact.version);
            return Err(wrong(format!("by its archive it is {}", cut(&own, 200))));
        }
        let artifact = Arc::new(artifact);
        let mut known = self.known();
        if known.places.len() > PLACES {
            known.places.clear();
        }
        for content in [&artifact.digest, &artifact.config_digest, &artifact.archive_digest] {
            known.places.insert((name.clone(), content.clone()), tag.clone());
        }
        while known.artifacts.len() >= KEPT {
            known.artifacts.pop_front();
        }
        known.artifacts.push_back((name.clone(), Arc::clone(&artifact)));
        Ok(Some(artifact))
    }

    async fn archive(
        &self,
        registry: &Registry,
        version: &ChartVersion,
        chart: &str,
    ) -> Result<Bytes, ClientError> {
        let transport = registry.transport();
        let endpoint = &transport.options.endpoint;
        let base = Url::parse(&format!("{endpoint}/"))
            .map_err(|error| transport.protocol(error.to_string()))?;
        let host = || transport.host().to_owned();
        let chart = || chart.to_owned();
        let action = format!("the chart {}", chart());
        let cause = "its index does not say where it lies".to_owned();
        let mut met = ClientError::Chart { host: host(), chart: chart(), cause };
        for address in &version.urls {
            let url = base.join(address).ok().filter(|url| {
                let own = endpoint.is_same_host(url);
                let allowed = own || (transport.options.foreign && endpoint.may_lead_to(url));
                allowed && url.username().is_empty() && url.password().is_none()
            });
            let Some(url) = url else {
                let at = cut(address, 200);
                met = ClientError::ChartElsewhere { host: host(), chart: chart(), at };
                continue;
            };
            match fetch(registry, url, &action, ARCHIVE_LIMIT).await {
                Ok(archive) => return Ok(archive),
                Err(error) => met = error,
            }
        }
        Err(met)
    }
}

fn has(artifact: &ChartArtifact, digest: &Digest) -> bool {
    [&artifact.digest, &artifact.config_digest, &artifact.archive_digest].contains(&digest)
}

/// Fetches a file whole.
async fn fetch(
    registry: &Registry,
    url: Url,
    action: &str,
    limit: usize,
) -> Result<Bytes, ClientError> {
    let call = Call::new(Method::GET, url, TokenScope::Base, action.to_owned());
    let answer = registry.send_as_it_is(&call).await?;
    if !answer.status().is_success() {
        return Err(registry.transport().refusal(answer, action).await);
    }
    let read = read_bounded(answer, limit).await;
    read.map_err(|cause| registry.transport().protocol(format!("{action}: {cause}")))
}

/// An answer of our own.
fn answered(call: &Call, status: StatusCode, kind: &str, content: Bytes) -> Response {
    let length = content.len();
    let body = if call.method == Method::HEAD { Bytes::new() } else { content };
    let answer = http::Response::builder()
        .status(status)
        .url(call.url.clone())
        .header(http::header::CONTENT_TYPE, kind)
        .header(http::header::CONTENT_LENGTH, length)
        .body(body);
    match answer {
        Ok(answer) => answer.into(),
        // Never: all of it is ours.
        Err(_) => http::Response::new(Bytes::new()).into(),
    }
}
