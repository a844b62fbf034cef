//! What was just asked for: manifests with their headers ready, and that a repository has a blob.
//!
//! An answer is given again only while nothing that any repository holds has changed since it was
//! looked up: not by this process and not by another one on the same store.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

use axum::http::HeaderValue;
use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{Moment, now};

use crate::path::Target;

/// Bytes of manifests that are kept; then all of them are let go of.
const MOST: usize = 16 * 1024 * 1024;
/// What an entry costs beside the manifest's own bytes.
const OVERHEAD: usize = 1024;

/// What lies at a path.
pub(crate) enum Known {
    Manifest(Arc<Held>),
    /// A blob of this size in bytes.
    Blob(u64),
}

/// A manifest, ready to be answered with.
pub(crate) struct Held {
    pub repository: RepositoryName,
    pub digest: Digest,
    pub bytes: Bytes,
    pub content_type: HeaderValue,
    pub content_digest: HeaderValue,
    pub etag: HeaderValue,
    pub length: HeaderValue,
    /// Until when this is the answer, in milliseconds since 1970. None: as long as nothing changes.
    pub until: Option<i64>,
}

/// What a path names, and what lies there.
pub(crate) struct Answer {
    pub path: Arc<str>,
    pub target: Target,
    pub known: Known,
}

#[derive(Default)]
struct Inner {
    at: Option<Moment>,
    answers: HashMap<Arc<str>, Arc<Answer>>,
    bytes: usize,
}

/// What was asked for, by its path.
#[derive(Default)]
pub(crate) struct Remembered {
    inner: RwLock<Inner>,
}

impl Remembered {
    /// What lies at a path, if it is known and still true at this moment.
    pub fn get(&self, path: &str, now: &Moment) -> Option<Arc<Answer>> {
        let inner = self.inner.read().unwrap_or_else(PoisonError::into_inner);
        if inner.at.as_ref() != Some(now) {
            return None;
        }
        let answer = inner.answers.get(path)?;
        match &answer.known {
            Known::Manifest(held) if !still_holds(held.until) => None,
            _ => Some(Arc::clone(answer)),
        }
    }

    /// Keeps what was looked up; `at` is the moment before it was.
    pub fn keep(&self, path: &str, at: Moment, known: Known) {
        let Ok(target) = Target::read(path) else { return };
        let mut inner = self.inner.write().unwrap_or_else(PoisonError::into_inner);
        if inner.at != Some(at) || inner.bytes > MOST {
            *inner = Inner { at: Some(at), ..Inner::default() };
        }
        let size = match &known {
            Known::Manifest(held) => held.bytes.len() + OVERHEAD,
            Known::Blob(_) => OVERHEAD / 2,
        };
        inner.bytes += size + path.len();
        let path: Arc<str> = path.into();
        let answer = Answer { path: Arc::clone(&path), target, known };
        inner.answers.insert(path, Arc::new(answer));
    }
}

/// Whether an answer that holds until a time, in milliseconds since 1970, may still be given.
pub(crate) fn still_holds(until: Option<i64>) -> bool {
    until.is_none_or(|until| now() < until)
}
