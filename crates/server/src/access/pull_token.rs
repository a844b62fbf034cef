//! A token that somebody shows, and the pulls that it has begun: these may end although the token does.

use std::collections::VecDeque;
use std::ops::Deref;
use std::sync::{Mutex, PoisonError};

use larder_core::access::token::TokenClaims;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{Store, StoreError};

/// Manifests that are remembered of each token; the oldest are forgotten.
const BEGUN: usize = 64;

/// A token of ours that somebody shows.
#[derive(Debug)]
pub(crate) struct PullToken {
    claims: TokenClaims,
    /// The manifests that were fetched with it while it was good.
    begun: Mutex<VecDeque<(RepositoryName, Digest)>>,
}

impl PullToken {
    /// With what a token says whose signature was checked.
    pub fn new(claims: TokenClaims) -> Self {
        Self { claims, begun: Mutex::default() }
    }

    /// Notes that a manifest was fetched with it.
    pub fn begins(&self, repository: &RepositoryName, manifest: &Digest) {
        let mut begun = self.begun.lock().unwrap_or_else(PoisonError::into_inner);
        if begun.iter().any(|(its, digest)| digest == manifest && its == repository) {
            return;
        }
        if begun.len() >= BEGUN {
            begun.pop_front();
        }
        begun.push_back((repository.clone(), manifest.clone()));
    }

    /// Whether content belongs to what was fetched with it while it was good: a manifest itself, its children, its
    /// blobs. A child that is fetched now belongs to it with all that it names.
    pub async fn goes_on(
        &self,
        store: &Store,
        repository: &RepositoryName,
        wanted: &Digest,
        is_manifest: bool,
    ) -> Result<bool, StoreError> {
        let begun: Vec<Digest> = {
            let begun = self.begun.lock().unwrap_or_else(PoisonError::into_inner);
            let its = begun.iter().rev().filter(|(its, _)| its == repository);
            its.map(|(_, digest)| digest.clone()).collect()
        };
        for manifest in begun {
            if manifest == *wanted {
                return Ok(true);
            }
            let found = store.manifest(repository, &Selector::Digest(manifest)).await?;
            let document = found
                .and_then(|(record, bytes)| Document::read(bytes, Some(&record.media_type)).ok());
            let Some(document) = document else { continue };
            let named = document.children().iter().any(|child| child.digest == *wanted)
                || document.blobs().any(|blob| blob.digest == *wanted);
            if named {
                if is_manifest {
                    self.begins(repository, wanted);
                }
                return Ok(true);
            }
        }
        Ok(false)
    }
}

impl Deref for PullToken {
    type Target = TokenClaims;

    fn deref(&self) -> &TokenClaims {
        &self.claims
    }
}
