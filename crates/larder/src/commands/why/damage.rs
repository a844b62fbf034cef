//! What the larder's own disk lacks of an image: the ledger answers a HEAD for what is not there any more.

use larder_core::diagnosis::HostOutcome;
use larder_core::platform::Platform;
use larder_core::reference::{Reference, Selector};
use larder_store::{Store, StoreError};

use crate::failure::Failure;

/// What is missing, or has another size than it should, of what a node of this platform pulls. None: nothing.
pub(super) async fn of(
    store: &Store,
    here: &Reference,
    platform: &Platform,
) -> Result<Option<HostOutcome>, Failure> {
    look(store, here, platform)
        .await
        .map_err(|error| Failure::store("cannot tell whether the store is whole", &error))
}

async fn look(
    store: &Store,
    here: &Reference,
    platform: &Platform,
) -> Result<Option<HostOutcome>, StoreError> {
    let repository = &here.repository;
    let Some((_, mut document)) = store.document(repository, &here.selector()).await? else {
        return Ok(None);
    };
    // An index in an index is looked into once more, as runtimes do.
    for _ in 0..2 {
        let Some(child) = document.children_for(platform).first().map(|it| it.digest.clone())
        else {
            break;
        };
        match store.document(repository, &Selector::Digest(child)).await? {
            Some((_, inner)) => document = inner,
            None => return Ok(None),
        }
    }
    for blob in document.blobs() {
        match store.size_on_disk(&blob.digest).await? {
            Some(size) if size == blob.size => {}
            Some(size) => {
                let told = format!(
                    "{} has {size} bytes on the larder's disk, and not {}",
                    blob.digest, blob.size
                );
                return Ok(Some(HostOutcome::BlobLength(told)));
            }
            None => {
                return Ok(Some(HostOutcome::BlobMissing(blob.digest.to_string())));
            }
        }
    }
    Ok(None)
}
