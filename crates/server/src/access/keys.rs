//! The keys that were issued, as the store has them: read anew when they changed, by whichever process.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};

use larder_core::access::key::KeyId;
use larder_core::access::stop::Stops;
use larder_store::{KeyRecord, Moment, Store, StoreError};

/// The keys at one moment.
#[derive(Default)]
pub(crate) struct KeyTable {
    at: Option<Moment>,
    version: i64,
    pub by_id: Arc<HashMap<KeyId, KeyRecord>>,
    /// What was stopped by hand.
    pub stops: Arc<Stops>,
}

/// All keys, and which were used since that was last written down.
#[derive(Default)]
pub(crate) struct Keys {
    known: RwLock<Arc<KeyTable>>,
    used: Mutex<HashMap<KeyId, (i64, Option<IpAddr>)>>,
    /// When they were last read without having been heard of.
    again: Mutex<Option<Instant>>,
}

impl Keys {
    fn known(&self) -> Arc<KeyTable> {
        Arc::clone(&self.known.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// The keys, if none can have changed since they were read.
    pub fn at(&self, moment: &Moment) -> Option<Arc<KeyTable>> {
        let known = self.known();
        (known.at.as_ref() == Some(moment)).then_some(known)
    }

    /// The keys as they are now.
    pub async fn now(&self, store: &Store) -> Result<Arc<KeyTable>, StoreError> {
        // Asked before the keys are read: what is read then is at least as true.
        let at = store.moment_of_access();
        if let Some(known) = at.as_ref().and_then(|at| self.at(at)) {
            return Ok(known);
        }
        self.read(store, at).await
    }

    /// Reads the keys, if they have changed; they are as true as they were at a moment.
    async fn read(&self, store: &Store, at: Option<Moment>) -> Result<Arc<KeyTable>, StoreError> {
        let version = store.keys_version().await?;
        let before = self.known();
        let (by_id, stops) = if before.at.is_some() && before.version == version {
            (Arc::clone(&before.by_id), Arc::clone(&before.stops))
        } else {
            let all = store.keys().await?;
            let by_id = all.into_iter().map(|key| (key.id.clone(), key)).collect();
            (Arc::new(by_id), Arc::new(Stops::new(store.stops().await?)))
        };
        let known = Arc::new(KeyTable { at, version, by_id, stops });
        *self.known.write().unwrap_or_else(PoisonError::into_inner) = Arc::clone(&known);
        Ok(known)
    }

    /// The keys as they are now, whatever was heard of changes; asked a few times in a second at most.
    pub async fn again(&self, store: &Store) -> Result<Arc<KeyTable>, StoreError> {
        const EACH: Duration = Duration::from_millis(100);
        {
            let mut last = self.again.lock().unwrap_or_else(PoisonError::into_inner);
            if last.is_some_and(|last| last.elapsed() < EACH) {
                return Ok(self.known());
            }
            *last = Some(Instant::now());
        }
        let at = store.moment_of_access();
        self.read(store, at).await
    }

    /// Notes that somebody signed in with a key.
    pub fn note_use(&self, id: &KeyId, at: i64, from: Option<IpAddr>) {
        let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        match used.get_mut(id) {
            Some(last) => *last = (at, from),
            None => {
                used.insert(id.clone(), (at, from));
            }
        }
    }

    /// Writes down which keys were used. What cannot be written is kept for the next time.
    pub async fn write(&self, store: &Store) {
        let used = std::mem::take(&mut *self.used.lock().unwrap_or_else(PoisonError::into_inner));
        if used.is_empty() {
            return;
        }
        let text = |from: &Option<IpAddr>| from.map(|from| from.to_string()).unwrap_or_default();
        let list = used.iter().map(|(id, (at, from))| (id.clone(), *at, text(from))).collect();
        if let Err(error) = store.note_key_uses(list).await {
            tracing::warn!(%error, "the use of keys could not be noted; it is tried again");
            let mut now = self.used.lock().unwrap_or_else(PoisonError::into_inner);
            for (id, use_) in used {
                now.entry(id).or_insert(use_);
            }
        }
    }
}
