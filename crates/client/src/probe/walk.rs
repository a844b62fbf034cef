//! From the tag to the last layer, as a node goes.

use std::time::Instant;

use futures_util::StreamExt as _;
use futures_util::future::BoxFuture;
use larder_core::diagnosis::{HostOutcome, PullStep};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::{CONFIG_LIMIT, Descriptor, Document, ImageConfig, ManifestShape};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use reqwest::{Method, StatusCode};

use super::ask::{Asking, DOCUMENT_LIMIT, ProbeAnswer};
use super::{EndedAt, ProbeTarget, Trail};

/// Manifests that are looked into until the one for a platform is found.
const LOOKED_INTO: usize = 32;
/// Blobs that are looked for at once.
const AT_ONCE: usize = 4;
/// Blobs of one image that are looked for.
const BLOBS: usize = 500;

/// The types of configuration that a runtime runs.
const CONFIGS: [&str; 2] =
    ["application/vnd.oci.image.config.v1+json", "application/vnd.docker.container.image.v1+json"];

/// Goes through an image.
pub(super) async fn walk(
    asking: &Asking<'_>,
    target: &ProbeTarget<'_>,
    trail: &mut Trail,
) -> Result<HostOutcome, EndedAt> {
    let repository = target.repository;
    let path = format!("{repository}/manifests/{}", target.selector);
    let began = Instant::now();
    let first = asking.send(Method::HEAD, asking.url(&path), None).await;
    let first = match first {
        // What the connection shows of trust and reach is told as that.
        Err(stop) => {
            return trail.note(step_of(&stop), began, Err(stop), HostOutcome::described);
        }
        Ok(first) => first,
    };
    let mut pass = None;
    let mut head = first;
    if head.status == StatusCode::UNAUTHORIZED {
        let got = asking.pass(&head).await;
        let shown = asking.shows_credentials();
        pass = Some(trail.note(PullStep::SignIn, began, got, |pass| {
            let how =
                if pass.starts_with("Basic") { "with name and secret" } else { "with a token" };
            let who = if shown { "" } else { " for anybody" };
            format!("it asks for a sign-in; {how}{who}")
        })?);
        head = asking.send(Method::HEAD, asking.url(&path), pass.as_deref()).await?;
    }
    trail.reported = head.reported;
    let pass = pass.as_deref();
    if head.status == StatusCode::METHOD_NOT_ALLOWED {
        head = asking.send(Method::GET, asking.url(&path), pass).await?;
    }
    let began = Instant::now();
    let found = examine(asking, head, &path, pass).await;
    let step = found.as_ref().err().map_or(PullStep::Existence, step_of);
    let (digest, stale) = trail.note(step, began, found, |(digest, stale)| {
        let stale = if *stale { ", an older answer" } else { "" };
        match digest {
            Some(digest) => format!("{} is {digest}{stale}", target.selector),
            None => format!("{} is there{stale}", target.selector),
        }
    })?;
    let selector = digest.clone().map_or_else(|| target.selector.clone(), Selector::Digest);
    let began = Instant::now();
    let top = document(asking, target, &selector, pass).await;
    let (digest, top) = trail.note(PullStep::Content, began, top, |(_, top)| {
        format!("{} bytes of {}", top.bytes.len(), top.media_type)
    })?;
    let began = Instant::now();
    let chosen = choose(asking, target, &top, pass).await;
    let (image, alone) =
        trail.note(PullStep::Platform, began, chosen, |(image, alone)| match alone {
            Some(alone) if image.is_none() => format!("one image alone, for {alone}"),
            _ => format!("made for {}", target.platform),
        })?;
    let image = image.unwrap_or(top);
    let began = Instant::now();
    let whole = blobs(asking, target, &image, pass).await;
    trail.note(PullStep::Content, began, whole, |count| {
        let how = if target.deep { "read, and unaltered" } else { "there, with the right sizes" };
        format!("{count} blobs are {how}")
    })?;
    Ok(HostOutcome::Pulls {
        digest: digest.to_string(),
        expected: None,
        alone: alone.map(|alone| alone.to_string()),
        stale,
    })
}

/// The step at which an outcome breaks.
fn step_of(stop: &EndedAt) -> PullStep {
    match stop {
        HostOutcome::UnknownAuthority(_)
        | HostOutcome::WrongName(_)
        | HostOutcome::CertificateExpired(_)
        | HostOutcome::CertificateEarly(_)
        | HostOutcome::ClientCertificate => PullStep::Trust,
        HostOutcome::Unauthorized { .. }
        | HostOutcome::TokenDown(_)
        | HostOutcome::TokenRefused { .. }
        | HostOutcome::TokenOdd(_) => PullStep::SignIn,
        HostOutcome::TokenWithoutAccess { .. } | HostOutcome::Forbidden(_) => PullStep::Permission,
        HostOutcome::NotFound => PullStep::Existence,
        HostOutcome::RateLimited(_) | HostOutcome::Failing { .. } => PullStep::Allowance,
        HostOutcome::OddHead(_)
        | HostOutcome::ManifestTooLarge(_)
        | HostOutcome::ManifestOdd(_) => PullStep::Content,
        _ => PullStep::Reach,
    }
}

/// What the answer to HEAD says: the digest, and whether it is an older one.
async fn examine(
    asking: &Asking<'_>,
    head: ProbeAnswer,
    path: &str,
    pass: Option<&str>,
) -> Result<(Option<Digest>, bool), EndedAt> {
    let odd = |text: &str| HostOutcome::OddHead(text.to_owned());
    if !head.status.is_success() {
        let shown = asking.shows_credentials();
        if head.status.is_redirection() {
            return Err(odd(&format!("{}", head.status)));
        }
        return Err(asking.refusal(head, asking.url(path), pass, shown).await);
    }
    if head.status == StatusCode::NO_CONTENT {
        return Err(odd("204 No Content"));
    }
    let kind = head.media_type().unwrap_or_default().to_owned();
    if kind == "text/html" {
        let page = asking.send(Method::GET, asking.url(path), pass).await?;
        return Err(Asking::page(page).await.unwrap_or_else(|| odd("its type is text/html")));
    }
    if head.length() == Some(0) {
        return Err(odd("its length is 0"));
    }
    if let Some(size) = head.length().filter(|size| *size >= DOCUMENT_LIMIT as u64) {
        return Err(HostOutcome::ManifestTooLarge(size));
    }
    if kind.is_empty() || kind == "application/json" {
        return Err(odd("it does not say what kind of manifest it is"));
    }
    let stale = head.header("warning").is_some_and(|text| text.trim_start().starts_with("110"));
    let digest = match head.header("docker-content-digest") {
        None => None,
        Some(text) => Some(text.parse().map_err(|_| odd(&format!("`{text}` is no digest")))?),
    };
    Ok((digest, stale))
}

/// Fetches a manifest or an index and looks whether it is what it was asked by.
async fn document(
    asking: &Asking<'_>,
    target: &ProbeTarget<'_>,
    selector: &Selector,
    pass: Option<&str>,
) -> Result<(Digest, Document), EndedAt> {
    let path = format!("{}/manifests/{selector}", target.repository);
    let answer = asking.send(Method::GET, asking.url(&path), pass).await?;
    if !answer.status.is_success() {
        let shown = asking.shows_credentials();
        return Err(asking.refusal(answer, asking.url(&path), pass, shown).await);
    }
    let kind = answer.media_type().map(str::to_owned);
    let bytes = answer.read(DOCUMENT_LIMIT - 1).await?;
    let bytes = bytes.ok_or(HostOutcome::ManifestTooLarge(DOCUMENT_LIMIT as u64))?;
    let digest = match selector {
        Selector::Tag(_) => Digest::of(&bytes),
        Selector::Digest(wanted) => {
            let mut hasher = Hasher::new(wanted.algorithm());
            hasher.update(&bytes);
            let actual = hasher.finish();
            if actual != *wanted {
                return Err(HostOutcome::BlobCorrupt(format!("the manifest {wanted} is {actual}")));
            }
            actual
        }
    };
    let document = Document::read(bytes, kind.as_deref())
        .map_err(|error| HostOutcome::ManifestOdd(error.to_string()))?;
    Ok((digest, document))
}

/// The image that the node takes, where it is another document; and the platform of one that stands
/// alone.
async fn choose(
    asking: &Asking<'_>,
    target: &ProbeTarget<'_>,
    top: &Document,
    pass: Option<&str>,
) -> Result<(Option<Document>, Option<Platform>), EndedAt> {
    match &top.kind {
        ManifestShape::Index(_) => {
            let mut left = LOOKED_INTO;
            let mut present = Vec::new();
            match within(asking, target, top, pass, &mut left, &mut present).await? {
                Some(image) => runs(&image).map(|()| (Some(image), None)),
                None => Err(HostOutcome::PlatformMissing(present)),
            }
        }
        ManifestShape::Manifest { config, .. } => {
            runs(top)?;
            Ok((None, platform_of(asking, target, config, pass).await?))
        }
    }
}

/// The image of an index that a node takes, as its runtime looks for it: an index in an index is looked into, and an
/// image that does not say for what it is made is known by its configuration. None: there is none; what there is
/// instead is added to `present`.
fn within<'w>(
    asking: &'w Asking<'_>,
    target: &'w ProbeTarget<'_>,
    index: &'w Document,
    pass: Option<&'w str>,
    left: &'w mut usize,
    present: &'w mut Vec<String>,
) -> BoxFuture<'w, Result<Option<Document>, EndedAt>> {
    Box::pin(async move {
        let others = index.children().iter().filter_map(Descriptor::platform);
        let others = others.filter(|one| !one.is_unknown() && one.suits(target.platform).is_none());
        present.extend(others.map(|one| one.to_string()));
        let mut missing = None;
        for child in index.children_for(target.platform) {
            let Some(fewer) = left.checked_sub(1) else { break };
            *left = fewer;
            let selector = Selector::Digest(child.digest.clone());
            let found = match document(asking, target, &selector, pass).await {
                Ok((_, found)) => found,
                Err(HostOutcome::NotFound) => {
                    missing.get_or_insert(HostOutcome::ChildMissing(child.digest.to_string()));
                    continue;
                }
                Err(stop) => return Err(stop),
            };
            match &found.kind {
                ManifestShape::Index(_) => {
                    let inner = within(asking, target, &found, pass, left, present).await?;
                    if inner.is_some() {
                        return Ok(inner);
                    }
                }
                ManifestShape::Manifest { .. } if child.platform().is_some() => {
                    return Ok(Some(found));
                }
                ManifestShape::Manifest { config, .. } => {
                    match platform_of(asking, target, config, pass).await? {
                        Some(its) if its.suits(target.platform).is_some() => {
                            return Ok(Some(found));
                        }
                        Some(its) => present.push(its.to_string()),
                        // What is no image (an attestation, a signature) is for no platform.
                        None => {}
                    }
                }
            }
        }
        missing.map_or(Ok(None), Err)
    })
}

/// For what an image is made, by its configuration. None: it does not say.
async fn platform_of(
    asking: &Asking<'_>,
    target: &ProbeTarget<'_>,
    config: &Descriptor,
    pass: Option<&str>,
) -> Result<Option<Platform>, EndedAt> {
    if config.size > CONFIG_LIMIT as u64 {
        return Ok(None);
    }
    let path = format!("{}/blobs/{}", target.repository, config.digest);
    let answer = asking.send(Method::GET, asking.url(&path), pass).await?;
    if answer.status == StatusCode::NOT_FOUND {
        return Err(HostOutcome::BlobMissing(config.digest.to_string()));
    }
    let bytes = answer.read(CONFIG_LIMIT).await?.unwrap_or_default();
    Ok(ImageConfig::read(&bytes).ok().and_then(|config| config.platform()))
}

/// Whether a runtime can run it at all.
fn runs(image: &Document) -> Result<(), EndedAt> {
    let kind = image.config().map(|config| config.media_type.as_str()).unwrap_or_default();
    if CONFIGS.contains(&kind) {
        return Ok(());
    }
    Err(HostOutcome::NoImage(format!("its configuration is of the type {kind}")))
}

/// Looks for all blobs of an image. Gives how many there are.
async fn blobs(
    asking: &Asking<'_>,
    target: &ProbeTarget<'_>,
    image: &Document,
    pass: Option<&str>,
) -> Result<usize, EndedAt> {
    let all: Vec<&Descriptor> = image.blobs().take(BLOBS).collect();
    let count = all.len();
    let looked = all.into_iter().map(|blob| blob_is_there(asking, target, blob, pass));
    let mut looked = futures_util::stream::iter(looked).buffered(AT_ONCE);
    while let Some(found) = looked.next().await {
        found?;
    }
    Ok(count)
}

async fn blob_is_there(
    asking: &Asking<'_>,
    target: &ProbeTarget<'_>,
    blob: &Descriptor,
    pass: Option<&str>,
) -> Result<(), EndedAt> {
    let path = format!("{}/blobs/{}", target.repository, blob.digest);
    let method = if target.deep { Method::GET } else { Method::HEAD };
    let mut answer = asking.send(method, asking.url(&path), pass).await?;
    match answer.status {
        StatusCode::NOT_FOUND => return Err(HostOutcome::BlobMissing(blob.digest.to_string())),
        status if !status.is_success() => {
            let shown = asking.shows_credentials();
            return Err(asking.refusal(answer, asking.url(&path), pass, shown).await);
        }
        _ => {}
    }
    if let Some(length) = answer.length().filter(|length| *length != blob.size) {
        let text = format!("{} has {length} bytes, not {}", blob.digest, blob.size);
        return Err(HostOutcome::BlobLength(text));
    }
    if !target.deep {
        return Ok(());
    }
    let mut hasher = Hasher::new(blob.digest.algorithm());
    let mut received = 0_u64;
    loop {
        match answer.response.chunk().await {
            Ok(Some(chunk)) => {
                received += chunk.len() as u64;
                hasher.update(&chunk);
            }
            Ok(None) => break,
            Err(error) if error.is_timeout() => return Err(HostOutcome::Stalled),
            Err(_) => {
                let text = format!("after {received} of {} bytes of {}", blob.size, blob.digest);
                return Err(HostOutcome::StreamCut(text));
            }
        }
        if received > blob.size {
            return Err(HostOutcome::BlobLength(format!(
                "{} is longer than {}",
                blob.digest, blob.size
            )));
        }
    }
    let actual = hasher.finish();
    if actual != blob.digest {
        return Err(HostOutcome::BlobCorrupt(format!("{} is {actual}", blob.digest)));
    }
    Ok(())
}
