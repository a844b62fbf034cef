//! What was signed over images on cached shelves: fetched before a rule asks for it.

use std::collections::BTreeMap;

use bytes::{Bytes, BytesMut};
use futures_util::{Stream, StreamExt as _, TryStreamExt as _, stream};
use larder_core::companion::list_tag;
use larder_core::digest::Digest;
use larder_core::document::Descriptor;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_core::signature::{SIGNATURE_TAGS, layer_limit};

use crate::app::App;
use crate::cache::{Cache, CachedBlob, Trouble, follow};
use crate::cached;
use crate::error::ApiError;

/// Contents that are fetched at once for one image, and the most bytes of all of them.
const TOGETHER: usize = 8;
const BYTES: u64 = 64 * 1024 * 1024;

/// What was fetched.
#[derive(Default)]
pub(super) struct BroughtCompanions {
    /// Contents that may be on their way into the store still.
    pub in_hand: BTreeMap<Digest, Bytes>,
    /// Whether the upstream could not be asked for all of it.
    pub is_doubtful: bool,
}

/// Fetches what lies beside these manifests of a cached shelf, by reference and under the tags of signatures; with `whole`,
/// also what signatures need to be examined.
pub(super) async fn bring(
    app: &App,
    repository: &RepositoryName,
    about: &[Digest],
    whole: bool,
) -> Result<BroughtCompanions, ApiError> {
    let mut brought = BroughtCompanions::default();
    for digest in about {
        let warning = cached::referrers(app, repository, digest).await?;
        brought.is_doubtful |= warning.is_some();
    }
    let Some(shelf) = app.cache.shelf_of(repository) else { return Ok(brought) };
    let path = shelf.upstream_name(repository)?;
    for digest in about {
        for ending in SIGNATURE_TAGS {
            let Ok(tag) = format!("{}.{ending}", list_tag(digest)).parse() else { continue };
            let selector = Selector::Tag(tag);
            match app.cache.manifest(&shelf, repository, &path, &selector, false).await {
                Ok(found) => brought.is_doubtful |= found.stale.is_some(),
                Err(trouble) if trouble.is_absent() => {}
                Err(trouble) => brought.is_doubtful |= may_do_without(trouble)?,
            }
        }
    }
    if !whole {
        return Ok(brought);
    }
    let (mut wanted, mut left) = (BTreeMap::new(), BYTES);
    for (digest, ..) in app.store.beside(repository, about).await? {
        let found = app.store.document(repository, &Selector::Digest(digest)).await?;
        let Some((_, document)) = found else { continue };
        for layer in document.blobs().skip(1) {
            let limit = layer_limit(&layer.media_type).unwrap_or_default().min(left);
            if layer.size <= limit && wanted.insert(layer.digest.clone(), layer.clone()).is_none() {
                left = left.saturating_sub(layer.size);
            }
        }
    }
    let fetches = wanted.into_values().map(|layer| async move {
        let bytes = content(app, repository, &layer, layer.size).await;
        (layer.digest, bytes)
    });
    let mut fetched = std::pin::pin!(stream::iter(fetches).buffer_unordered(TOGETHER));
    while let Some((digest, bytes)) = fetched.next().await {
        match bytes {
            Ok(bytes) => brought.in_hand.extend(bytes.map(|bytes| (digest, bytes))),
            // One that its upstream has lost does not keep the others from counting.
            Err(error) => {
                tracing::debug!(%repository, %digest, %error, "a signature cannot be fetched");
                brought.is_doubtful = true;
            }
        }
    }
    Ok(brought)
}

/// Whether it is judged by what is here, because the upstream cannot be asked.
fn may_do_without(trouble: Trouble) -> Result<bool, ApiError> {
    match Cache::may_do_without(&trouble) {
        true => Ok(true),
        false => Err(trouble.into()),
    }
}

/// A content of a cached shelf in memory, as it comes. None: it is larger than that, or could not be had whole.
pub(super) async fn content(
    app: &App,
    repository: &RepositoryName,
    of: &Descriptor,
    most: u64,
) -> Result<Option<Bytes>, ApiError> {
    let Some(shelf) = &app.cache.shelf_of(repository) else { return Ok(None) };
    if of.size > most {
        return Ok(None);
    }
    let path = shelf.upstream_name(repository)?;
    let bytes = match app.cache.blob(shelf, repository, &path, &of.digest, false).await? {
        CachedBlob::Here(size) if size <= most => {
            return Ok(Some(app.store.read_all(&of.digest, size).await?));
        }
        CachedBlob::Here(_) => return Ok(None),
        CachedBlob::Passing(_) => {
            let passing = app.cache.pass(shelf, &path, &of.digest, Some(of.size), None);
            all_of(Box::pin(passing).await?, of.size).await
        }
        CachedBlob::Coming(taking, _) => all_of(follow(taking, 0, Some(of.size)), of.size).await,
    };
    // What did not go through the store was checked by nobody.
    Ok(bytes.filter(|bytes| Digest::of(bytes) == of.digest))
}

async fn all_of(coming: impl Stream<Item = std::io::Result<Bytes>>, most: u64) -> Option<Bytes> {
    let all = coming.try_fold(BytesMut::new(), |mut all, piece| async move {
        if (all.len() + piece.len()) as u64 > most {
            return Err(std::io::ErrorKind::FileTooLarge.into());
        }
        all.extend_from_slice(&piece);
        Ok(all)
    });
    all.await.ok().map(BytesMut::freeze)
}
