//! Letting go of what nobody pulls any more, in small steps beside the traffic.

use std::sync::Arc;
use std::time::Duration;

use larder_core::cached::{EvictReason, Eviction, KeptCandidate};
use larder_core::digest::Digest;
use larder_store::{StoreError, now};

use super::Cache;
use super::shelf::CachedShelf;

/// How often it is looked what may go.
const TURN: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(30));
/// The lease of the process that keeps house.
const HOUSE: &str = "keep-house";
/// Images that go in one step, and the pause after it.
const STEP: usize = 8;
const PAUSE: Duration = Duration::from_millis(50);
/// Bytes that came so short a time ago are not removed: somebody may be about to record them.
const GRACE: Duration = Duration::from_secs(60);
/// Loose blobs that go in one step.
const LOOSE: usize = 64;
/// How long a blob that no manifest names stays where nothing else is said, in milliseconds.
const LOOSE_LIFE: i64 = 24 * 3_600_000;

/// What went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EvictedTotals {
    pub images: usize,
    /// Bytes that are free again.
    pub bytes: u64,
}

impl Cache {
    /// What goes on beside the requests for as long as the registry runs. It never ends by itself.
    /// `settle` has what was asked for up to now written down.
    pub(crate) async fn keep_house<F: Future<Output = ()>>(&self, settle: impl Fn() -> F) {
        tokio::join!(self.fetch_ahead(), self.let_go_in_turn(settle));
    }

    async fn let_go_in_turn<F: Future<Output = ()>>(&self, settle: impl Fn() -> F) {
        let mut waiting = Vec::new();
        loop {
            let shelves = self.shelves();
            let shortest = shelves.iter().filter_map(|shelf| shelf.keeping.keep).min();
            let turn = shortest.map_or(TURN.1, |keep| (keep / 4).clamp(TURN.0, TURN.1));
            tokio::select! {
                () = tokio::time::sleep(turn) => {}
                () = self.inner.room.notified() => {}
            }
            settle().await;
            match self.let_go_by_turns(&mut waiting).await {
                Ok(gone) if gone.images > 0 => {
                    tracing::info!(
                        images = gone.images,
                        bytes = gone.bytes,
                        "evicted what nobody pulls"
                    );
                }
                Ok(_) => {}
                Err(error) => tracing::error!(%error, "what nobody pulls could not be evicted"),
            }
        }
    }

    /// Evicts what may go, unless another process keeps house on this store right now. A full disk does not keep it
    /// from making room: what is kept aside is for that.
    async fn let_go_by_turns(
        &self,
        waiting: &mut Vec<Digest>,
    ) -> Result<EvictedTotals, StoreError> {
        match self.let_go_alone(waiting).await {
            Err(error) if error.is_full() => {
                self.inner.store.use_spare().await?;
                self.let_go_alone(waiting).await
            }
            done => done,
        }
    }

    async fn let_go_alone(&self, waiting: &mut Vec<Digest>) -> Result<EvictedTotals, StoreError> {
        if self.shelves().is_empty() {
            return Ok(EvictedTotals::default());
        }
        let Some(lease) = self.inner.store.acquire(HOUSE).await? else {
            return Ok(EvictedTotals::default());
        };
        let gone = self.let_go(waiting).await;
        let released = lease.release().await;
        let gone = gone?;
        released.map(|()| gone)
    }

    /// Evicts what may go. `waiting` holds contents whose bytes were too young to be removed.
    pub(crate) async fn let_go(
        &self,
        waiting: &mut Vec<Digest>,
    ) -> Result<EvictedTotals, StoreError> {
        let store = &self.inner.store;
        let mut gone = EvictedTotals::default();
        for shelf in self.shelves() {
            let excess = match shelf.limit {
                Some(limit) => {
                    let names = std::slice::from_ref(&shelf.name);
                    store.bytes_of(names).await?.saturating_sub(limit)
                }
                None => 0,
            };
            // Where nothing can have to go, nothing is looked through.
            if excess > 0 || shelf.keeping.keep.is_some() {
                let kept = store.kept(&shelf.name).await?;
                gone.images += self.let_go_of(&shelf, &kept, excess, waiting).await?;
            }
            let life = shelf.keeping.keep.and_then(|keep| i64::try_from(keep.as_millis()).ok());
            let before = now().saturating_sub(life.unwrap_or(LOOSE_LIFE));
            waiting.extend(store.let_go_loose(&shelf.name, before, LOOSE).await?);
        }
        gone.images += self.let_go_together(waiting).await?;
        gone.bytes = self.free(waiting).await?;
        Ok(gone)
    }

    /// Holds all shelves together to the store's limit.
    async fn let_go_together(&self, waiting: &mut Vec<Digest>) -> Result<usize, StoreError> {
        let Some(limit) = self.limit() else { return Ok(0) };
        let store = &self.inner.store;
        let names: Vec<String> = self.shelves().iter().map(|shelf| shelf.name.clone()).collect();
        let mut excess = store.bytes_of(&names).await?.saturating_sub(limit);
        let mut images = 0;
        // The longest unpulled of all shelves: each shelf has its own pins.
        let mut candidates: Vec<(KeptCandidate, Arc<CachedShelf>)> = Vec::new();
        if excess > 0 {
            for shelf in self.shelves() {
                let kept = store.kept(&shelf.name).await?;
                let going = shelf.keeping.going(&kept, None, u64::MAX, now());
                candidates
                    .extend(going.into_iter().map(|one| (one.what.clone(), Arc::clone(&shelf))));
            }
            candidates.sort_by_key(|(kept, _)| kept.last);
        }
        for (kept, shelf) in candidates {
            if excess == 0 {
                break;
            }
            excess = excess.saturating_sub(kept.bytes);
            images += self
                .let_go_one(&shelf, &Eviction { what: &kept, why: EvictReason::Room }, waiting)
                .await?;
        }
        Ok(images)
    }

    async fn let_go_of(
        &self,
        shelf: &CachedShelf,
        kept: &[KeptCandidate],
        excess: u64,
        waiting: &mut Vec<Digest>,
    ) -> Result<usize, StoreError> {
        let mut images = 0;
        for (number, going) in
            shelf.keeping.going(kept, shelf.limit, excess, now()).iter().enumerate()
        {
            if number > 0 && number.is_multiple_of(STEP) {
                tokio::time::sleep(PAUSE).await;
            }
            images += self.let_go_one(shelf, going, waiting).await?;
        }
        Ok(images)
    }

    async fn let_go_one(
        &self,
        shelf: &CachedShelf,
        going: &Eviction<'_>,
        waiting: &mut Vec<Digest>,
    ) -> Result<usize, StoreError> {
        let KeptCandidate { repository, digest, last, .. } = going.what;
        // Nothing goes that was asked for since it was looked at.
        let gone = self.inner.store.let_go(repository, digest, *last).await?;
        if gone.is_empty() {
            return Ok(0);
        }
        let why = match going.why {
            EvictReason::Unpulled => "nobody pulled it",
            EvictReason::Room => "room",
        };
        tracing::info!(shelf = shelf.name, %repository, %digest, why, "evict an image");
        waiting.extend(gone);
        Ok(1)
    }

    /// Removes the bytes that nothing names any more and gives how many these were.
    async fn free(&self, waiting: &mut Vec<Digest>) -> Result<u64, StoreError> {
        waiting.sort();
        waiting.dedup();
        let store = &self.inner.store;
        let all = std::mem::take(waiting);
        let grace = i64::try_from(GRACE.as_millis()).unwrap_or(i64::MAX);
        let freed = store.free_unused(all.clone(), now() - grace).await?;
        for digest in all {
            // What is too young is tried again, unless something names it once more.
            if freed.binary_search_by(|(one, _)| one.cmp(&digest)).is_err()
                && store.anywhere(&digest).await?.is_none()
                && store.size(&digest).await?.is_some()
            {
                waiting.push(digest);
            }
        }
        Ok(freed.iter().map(|(_, size)| size).sum())
    }
}

#[cfg(test)]
mod tests {

    use bytes::Bytes;
    use larder_client::{Options, Registry};
    use larder_core::cached::{Habits, KeepingRule, ShelfReach, Terms};
    use larder_core::document::Document;
    use larder_core::name::RepositoryName;
    use larder_store::Store;

    use super::*;
    use crate::cache::{CachePlan, ShelfPlan, UpstreamPlan};

    /// Two shelves over an upstream that nobody reaches.
    fn cache(store: &Store, limits: [Option<u64>; 2], together: Option<u64>, pin: &str) -> Cache {
        let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
        let host: larder_core::name::Host = "bazaar.example".parse().unwrap();
        let options = Options::new(host.as_str(), "http://127.0.0.1:9".parse().unwrap());
        let (registry, made_of) = (Registry::new(options).unwrap(), Digest::of(b""));
        let upstream = UpstreamPlan { host: host.clone(), registry, made_of, allowance: None };
        let shelf = |name: &str, limit| {
            let day = Duration::from_secs(24 * 3600);
            ShelfPlan {
                name: name.into(),
                host: host.clone(),
                short: None,
                habits: Habits {
                    reach: ShelfReach::new(Vec::new(), Vec::new()).unwrap(),
                    terms: Terms { recheck: day, stale: day },
                    patience: day,
                    keeping: KeepingRule { keep: None, pinned: vec![pin.parse().unwrap()] },
                    limit,
                    platforms: Vec::new(),
                    companions: false,
                },
            }
        };
        let shelves = vec![shelf("one", limits[0]), shelf("two", limits[1])];
        Cache::new(
            store.clone(),
            &CachePlan { upstreams: vec![upstream], shelves, limit: together },
        )
    }

    /// An image with one layer of a thousand bytes, pulled so many minutes ago.
    async fn image(store: &Store, folder: &std::path::Path, name: &str, layer: u8, minutes: i64) {
        let repository: RepositoryName = name.parse().unwrap();
        let content = Bytes::from(vec![layer; 1000]);
        let blob = Digest::of(&content);
        store.put_blob(&repository, &blob, content).await.unwrap();
        let part = format!(
            r#"{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{blob}","size":1000}}"#
        );
        let text = format!(
            r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.manifest.v1+json","config":{part},"layers":[],"annotations":{{"name":"{name}"}}}}"#
        );
        let document = Document::read(text.into(), None).unwrap();
        let digest = Digest::of(&document.bytes);
        store.believe(&repository, &digest, &document, Some("1".parse().unwrap())).await.unwrap();
        // As if all of that had been then.
        let ledger = rusqlite::Connection::open(folder.join("ledger.sqlite")).unwrap();
        let at = now() - minutes * 60_000;
        let sql = "UPDATE manifests SET added = ?1 WHERE digest = ?2";
        ledger.execute(sql, rusqlite::params![at, digest.as_str()]).unwrap();
        ledger.execute("UPDATE contents SET put_at = ?1", [now() - 3_600_000]).unwrap();
    }

    async fn names(store: &Store) -> Vec<String> {
        let tags = store.tags_after(None, 100).await.unwrap();
        tags.into_iter().map(|(repository, _, _)| repository.to_string()).collect()
    }

    #[tokio::test]
    async fn the_longest_unpulled_makes_room_unless_it_is_pinned_or_needed_elsewhere() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        for (name, layer, minutes) in [
            ("one/a", 1, 50),
            ("one/b", 2, 40),
            ("one/c", 3, 30),
            ("one/new", 4, 0),
            ("two/a", 1, 60),
            ("two/b", 5, 20),
            ("vendor/a", 2, 90),
        ] {
            image(&store, folder.path(), name, layer, minutes).await;
        }
        let mut waiting = Vec::new();
        // Nothing is over its limit.
        let cached = cache(&store, [Some(1 << 20), None], None, "none");
        assert_eq!(cached.let_go(&mut waiting).await.unwrap(), EvictedTotals::default());
        // One shelf: three of its four images are too many; `a` is pinned, `new` was just pulled.
        let cached = cache(&store, [Some(1500), None], None, "a");
        let gone = cached.let_go(&mut waiting).await.unwrap();
        assert_eq!(gone.images, 2);
        assert_eq!(names(&store).await, ["one/a", "one/new", "two/a", "two/b", "vendor/a"]);
        // The layer of `one/b` is vendor's too: only the other one is free, with the two manifests.
        assert!((1000..2500).contains(&gone.bytes), "{gone:?}");
        let shared = Digest::of(&[2; 1000]);
        assert_eq!(store.size(&shared).await.unwrap(), Some(1000));
        assert_eq!(store.size(&Digest::of(&[3; 1000])).await.unwrap(), None);
        // All together: what was not pulled for longest, on whichever shelf.
        let cached = cache(&store, [None, None], Some(3200), "none");
        cached.let_go(&mut waiting).await.unwrap();
        assert_eq!(names(&store).await, ["one/a", "one/new", "two/b", "vendor/a"]);
        assert_eq!(store.size(&Digest::of(&[1; 1000])).await.unwrap(), Some(1000));
        assert!(waiting.is_empty(), "{waiting:?}");
    }

    #[tokio::test]
    async fn one_at_a_time_keeps_house() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        image(&store, folder.path(), "one/a", 1, 50).await;
        let cached = cache(&store, [Some(500), None], None, "none");
        let other = Store::open_local(folder.path()).unwrap();
        let lease = other.acquire(HOUSE).await.unwrap().unwrap();
        let mut waiting = Vec::new();
        assert_eq!(cached.let_go_by_turns(&mut waiting).await.unwrap(), EvictedTotals::default());
        assert_eq!(names(&store).await, ["one/a"]);
        lease.release().await.unwrap();
        assert_eq!(cached.let_go_by_turns(&mut waiting).await.unwrap().images, 1);
        assert!(names(&store).await.is_empty());
        assert!(other.acquire(HOUSE).await.unwrap().is_some(), "it is free again");
    }
}
