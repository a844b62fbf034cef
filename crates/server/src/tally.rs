//! Counting pulls beside the requests: in memory, written down once a second.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_store::{Use, now};

const DAY: i64 = 24 * 3_600_000;
/// Manifests that are counted at once; what comes on top of them before they are written is not.
const MOST: usize = 50_000;

#[derive(Default)]
struct PullCount {
    pulls: u64,
    last: i64,
}

type PullCounts = HashMap<RepositoryName, HashMap<Digest, PullCount>>;

/// What was asked for since it was last written down.
#[derive(Default)]
pub(crate) struct Tally {
    counts: Mutex<(PullCounts, usize)>,
}

impl Tally {
    fn counts(&self) -> MutexGuard<'_, (PullCounts, usize)> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Counts one request for a manifest: fetched, or only asked about.
    pub fn count(&self, repository: &RepositoryName, digest: &Digest, fetched: bool) {
        self.add(repository, digest, u64::from(fetched), now());
    }

    fn add(&self, repository: &RepositoryName, digest: &Digest, pulls: u64, last: i64) {
        let mut guard = self.counts();
        let (counts, known) = &mut *guard;
        let known_one = counts.get_mut(repository).and_then(|counts| counts.get_mut(digest));
        if let Some(count) = known_one {
            count.pulls += pulls;
            count.last = count.last.max(last);
        } else if *known < MOST {
            *known += 1;
            let counts = counts.entry(repository.clone()).or_default();
            counts.insert(digest.clone(), PullCount { pulls, last });
        }
    }

    /// Takes what was counted.
    pub fn take(&self) -> Vec<Use> {
        let (counts, _) = std::mem::take(&mut *self.counts());
        let mut uses = Vec::new();
        for (repository, counts) in counts {
            for (digest, PullCount { pulls, last }) in counts {
                let repository = repository.clone();
                uses.push(Use { repository, digest, day: last / DAY, pulls, last });
            }
        }
        uses
    }

    /// Takes back what could not be written down.
    pub fn give_back(&self, uses: Vec<Use>) {
        for one in uses {
            self.add(&one.repository, &one.digest, one.pulls, one.last);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_add_up_and_come_back_when_they_could_not_be_written() {
        let tally = Tally::default();
        let repository = "vendor/kettle".parse().unwrap();
        let digest = Digest::of(b"x");
        tally.count(&repository, &digest, false);
        tally.count(&repository, &digest, true);
        let uses = tally.take();
        assert!(tally.take().is_empty());
        tally.count(&repository, &digest, true);
        tally.give_back(uses);
        let uses = tally.take();
        assert_eq!((uses.len(), uses[0].pulls), (1, 2));
        assert_eq!(uses[0].day, uses[0].last / DAY);
    }
}
