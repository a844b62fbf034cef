//! Other larders that serve the same store: a configuration that differs is told, and makes nobody less ready.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use larder_store::{Peer, Store};

/// The program's version.
const VERSION: &str = env!("CARGO_PKG_VERSION");
/// A clock that differs by more than this is told, in milliseconds.
const CLOCK: i64 = 5_000;

/// What is known of those who serve the same store.
#[derive(Default)]
pub(crate) struct Peers {
    /// By which name this one is known to the others. None: it has none, and tells nobody.
    own: OnceLock<String>,
    known: Mutex<Vec<Peer>>,
    /// Whether this one is about to end.
    stopping: AtomicBool,
    clock_told: AtomicBool,
}

impl Peers {
    /// Gives this one its name.
    pub fn set_own(&self, name: String) {
        let _ = self.own.set(name);
    }

    /// This one's name. Empty: it has none yet.
    pub fn own(&self) -> String {
        self.own.get().cloned().unwrap_or_default()
    }

    /// From now on this one is about to end.
    pub fn stop(&self) {
        self.stopping.store(true, Ordering::Release);
    }

    /// Whether this one is about to end.
    pub fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::Acquire)
    }

    /// Says that this one serves, by a configuration, and hears of the others.
    pub async fn announce(&self, store: &Store, fingerprint: &str) {
        let Some(own) = self.own.get().filter(|_| store.is_shared() && !self.is_stopping()) else {
            return;
        };
        match store.announce(own, fingerprint, VERSION).await {
            Ok(peers) => *self.known.lock().unwrap_or_else(PoisonError::into_inner) = peers,
            Err(error) => tracing::debug!(%error, "the other larders are not told of this one"),
        }
        if let Ok(Some((ahead, _))) = store.records_server().await
            && ahead.abs() > CLOCK
            && !self.clock_told.swap(true, Ordering::Relaxed)
        {
            let seconds = ahead / 1000;
            tracing::warn!(seconds, "this machine's clock is not that of the database");
        }
    }

    /// Says that this one serves no more.
    pub async fn depart(&self, store: &Store) {
        if let Some(own) = self.own.get().filter(|_| store.is_shared())
            && let Err(error) = store.depart(own).await
        {
            tracing::debug!(%error, "the other larders are not told that this one ends");
        }
    }

    /// All that serve, with this one.
    pub fn all(&self) -> Vec<Peer> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// How many serve, with how many configurations and versions.
    pub fn counts(&self) -> [usize; 3] {
        let all = self.all();
        let distinct = |of: fn(&Peer) -> &str| all.iter().map(of).collect::<BTreeSet<_>>().len();
        [all.len(), distinct(|peer| &peer.configuration), distinct(|peer| &peer.version)]
    }

    /// A line about the configuration: this one's, and who has another.
    pub fn line(&self, fingerprint: &str) -> String {
        let others = self.all().into_iter().filter(|peer| peer.configuration != fingerprint);
        let others: Vec<String> =
            others.map(|peer| format!("{} at {}", peer.configuration, peer.name)).collect();
        match others.is_empty() {
            true => format!("configuration: {fingerprint}"),
            false => format!("configuration: {fingerprint}; differs: {}", others.join(", ")),
        }
    }
}
