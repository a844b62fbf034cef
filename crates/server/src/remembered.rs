//! What was just asked for: manifests with their headers ready, and that a repository has a blob.
//!
//! An answer is given again only while nothing that its repository holds has changed since it was looked up: not by this
//! process and not by another one on the same store. What changes elsewhere empties nothing.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

use axum::http::HeaderValue;
use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{Moment, Store, now};

use crate::path::EndPoint;

/// Bytes of manifests that are kept.
const MOST: usize = 16 * 1024 * 1024;
/// What an entry costs beside the manifest's own bytes.
const OVERHEAD: usize = 1024;

/// What lies at a path.
pub(crate) enum KnownAnswer {
    Manifest(Arc<HeldManifest>),
    /// A blob, and until when that may be told without a look, in milliseconds since 1970: what a HEAD has told is kept
    /// from being collected only so long.
    Blob {
        size: u64,
        until: i64,
    },
}

/// A manifest, ready to be answered with.
pub(crate) struct HeldManifest {
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
pub(crate) struct RememberedAnswer {
    pub path: Arc<str>,
    pub target: EndPoint,
    pub known: KnownAnswer,
}

/// An answer, and the moment of its repository at which it was looked up.
struct RememberedEntry {
    at: Moment,
    answer: Arc<RememberedAnswer>,
    bytes: usize,
}

#[derive(Default)]
struct RememberedInner {
    answers: HashMap<Arc<str>, RememberedEntry>,
    bytes: usize,
}

/// What was asked for, by its path.
#[derive(Default)]
pub(crate) struct RememberedAnswers {
    inner: RwLock<RememberedInner>,
}

impl RememberedAnswers {
    /// What lies at a path, if it is known and still true now; with the moment of its repository.
    pub fn get(&self, store: &Store, path: &str) -> Option<(Arc<RememberedAnswer>, Moment)> {
        let inner = self.inner.read().unwrap_or_else(PoisonError::into_inner);
        let entry = inner.answers.get(path)?;
        let now = store.moment(entry.answer.target.repository()?)?;
        if entry.at != now {
            return None;
        }
        match &entry.answer.known {
            KnownAnswer::Manifest(held) if !still_holds(held.until) => None,
            KnownAnswer::Blob { until, .. } if !still_holds(Some(*until)) => None,
            _ => Some((Arc::clone(&entry.answer), now)),
        }
    }

    /// Keeps what was looked up; `at` is the moment of its repository before it was. Where there is no room, what is true
    /// no more goes first, and then all.
    pub fn keep(&self, store: &Store, path: &str, at: Moment, known: KnownAnswer) {
        let Ok(target) = EndPoint::read(path) else { return };
        let size = match &known {
            KnownAnswer::Manifest(held) => held.bytes.len() + OVERHEAD,
            KnownAnswer::Blob { .. } => OVERHEAD / 2,
        };
        let bytes = size + path.len();
        let mut inner = self.inner.write().unwrap_or_else(PoisonError::into_inner);
        if inner.bytes + bytes > MOST {
            let moment = |target: &EndPoint| store.moment(target.repository()?);
            inner.answers.retain(|_, entry| moment(&entry.answer.target) == Some(entry.at));
            inner.bytes = inner.answers.values().map(|entry| entry.bytes).sum();
            if inner.bytes > MOST / 2 {
                *inner = RememberedInner::default();
            }
        }
        let path: Arc<str> = path.into();
        let answer = Arc::new(RememberedAnswer { path: Arc::clone(&path), target, known });
        inner.bytes += bytes;
        if let Some(before) = inner.answers.insert(path, RememberedEntry { at, answer, bytes }) {
            inner.bytes -= before.bytes;
        }
    }
}

/// How long it is told without a look that a blob is here, in milliseconds.
const HOUR: i64 = 3_600_000;

impl KnownAnswer {
    /// A blob that was just looked up.
    pub fn blob(size: u64) -> Self {
        Self::Blob { size, until: now() + HOUR }
    }
}

/// Whether an answer that holds until a time, in milliseconds since 1970, may still be given.
pub(crate) fn still_holds(until: Option<i64>) -> bool {
    until.is_none_or(|until| now() < until)
}
