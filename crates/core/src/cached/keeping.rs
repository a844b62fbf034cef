//! What of a cached shelf may go, and what goes first?

use std::time::Duration;

use crate::digest::Digest;
use crate::name::{RepositoryName, Tag};
use crate::pattern::Pattern;

/// An image of a cached shelf: a manifest that no other lists, with all that it lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptCandidate {
    /// Its repository in the larder, shelf first.
    pub repository: RepositoryName,
    pub digest: Digest,
    /// The tags that point to it.
    pub tags: Vec<Tag>,
    /// When it, or something that it lists, was last asked for, in milliseconds since 1970; for what
    /// nobody has asked for, when it came.
    pub last: i64,
    /// The bytes that its repository alone would have no use for without it.
    pub bytes: u64,
}

/// For how long, and how much, a cached shelf keeps.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct KeepingRule {
    /// How long after the last pull. None: for ever.
    pub keep: Option<Duration>,
    /// Patterns over `PATH` and `PATH:TAG`, as the upstream names them, of what is never evicted.
    pub pinned: Vec<Pattern>,
}

/// Why something goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EvictReason {
    /// Nobody has pulled it for the time that it is kept.
    Unpulled,
    /// There is too much, and this was not pulled for longest.
    Room,
}

/// What goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Eviction<'k> {
    pub what: &'k KeptCandidate,
    pub why: EvictReason,
}

/// What was asked for so short a time ago may just be on its way to a node, in milliseconds.
const IN_USE: i64 = 60_000;

impl KeepingRule {
    /// Whether something is never evicted.
    pub fn is_pinned(&self, kept: &KeptCandidate) -> bool {
        let path = kept.repository.as_str().split_once('/').map_or("", |(_, path)| path);
        self.pinned.iter().any(|pattern| {
            pattern.matches(path)
                || kept.tags.iter().any(|tag| pattern.matches(&format!("{path}:{tag}")))
        })
    }

    /// When something goes if nobody pulls it, in milliseconds since 1970. None: never.
    pub fn expires(&self, kept: &KeptCandidate) -> Option<i64> {
        let keep = self.keep.filter(|_| !self.is_pinned(kept))?;
        Some(kept.last.saturating_add(i64::try_from(keep.as_millis()).unwrap_or(i64::MAX)))
    }

    /// What goes now, the longest unpulled first: all whose time has passed, and as many more as
    /// make up `excess` bytes. What was just asked for does not go to make room.
    ///
    /// What alone is more than `limit` never fits: it goes first, and nothing else goes for its sake while it is in use.
    pub fn going<'k>(
        &self,
        kept: &'k [KeptCandidate],
        limit: Option<u64>,
        excess: u64,
        now: i64,
    ) -> Vec<Eviction<'k>> {
        let mut candidates: Vec<&KeptCandidate> =
            kept.iter().filter(|one| !self.is_pinned(one)).collect();
        candidates.sort_by(|a, b| (a.last, &a.digest).cmp(&(b.last, &b.digest)));
        let mut excess = excess;
        let mut going = Vec::new();
        let fits = |what: &KeptCandidate| limit.is_none_or(|limit| what.bytes <= limit);
        for what in candidates.iter().filter(|what| !fits(what)) {
            excess = excess.saturating_sub(what.bytes);
            if what.last.saturating_add(IN_USE) <= now {
                going.push(Eviction { what, why: EvictReason::Room });
            }
        }
        for what in candidates.into_iter().filter(|what| fits(what)) {
            let why = if self.expires(what).is_some_and(|end| end <= now) {
                EvictReason::Unpulled
            } else if excess > 0 && what.last.saturating_add(IN_USE) <= now {
                EvictReason::Room
            } else {
                break;
            };
            excess = excess.saturating_sub(what.bytes);
            going.push(Eviction { what, why });
        }
        going
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kept(path: &str, tag: &str, last: i64, bytes: u64) -> KeptCandidate {
        KeptCandidate {
            repository: format!("bazaar/{path}").parse().unwrap(),
            digest: Digest::of(format!("{path}{tag}").as_bytes()),
            tags: vec![tag.parse().unwrap()],
            last,
            bytes,
        }
    }

    const DAY: i64 = 24 * 3_600_000;

    #[test]
    fn the_longest_unpulled_goes_first_and_what_is_pinned_never() {
        let keep = Some(Duration::from_secs(14 * 24 * 3600));
        let pinned = vec!["library/brinedb".parse().unwrap(), "library/*:lts".parse().unwrap()];
        let keeping = KeepingRule { keep, pinned };
        let all = [
            kept("library/brinedb", "1", 0, 100),
            kept("library/kettle", "lts", 0, 100),
            kept("library/kettle", "2", 10 * DAY, 100),
            kept("library/ashlog", "1", 2 * DAY, 100),
            kept("library/pipe", "1", 20 * DAY, 100),
        ];
        let going = |excess| -> Vec<(&str, EvictReason)> {
            let going = keeping.going(&all, None, excess, 20 * DAY + 1000);
            going.iter().map(|one| (one.what.repository.as_str(), one.why)).collect()
        };
        let ashlog = ("bazaar/library/ashlog", EvictReason::Unpulled);
        let kettle = ("bazaar/library/kettle", EvictReason::Room);
        assert_eq!(going(0), [ashlog]);
        assert_eq!(going(100), [ashlog]);
        assert_eq!(going(101), [ashlog, kettle]);
        assert_eq!(going(u64::MAX), [ashlog, kettle], "what was just asked for stays");
        assert_eq!(keeping.expires(&all[3]), Some(16 * DAY));
        // What never fits goes alone, and while it is in use nothing goes for it.
        let all = [
            kept("library/kettle", "2", DAY, 100),
            kept("library/model", "1", 2 * DAY, 1000),
            kept("library/ashlog", "1", DAY, 100),
        ];
        let keeping = KeepingRule { keep: None, pinned: Vec::new() };
        let going = |excess, now| -> Vec<&str> {
            let going = keeping.going(&all, Some(500), excess, now);
            going.iter().map(|one| one.what.repository.as_str()).collect()
        };
        assert_eq!(going(700, 3 * DAY), ["bazaar/library/model"]);
        assert!(going(700, 2 * DAY + 1).is_empty(), "it is being pulled");
        assert_eq!(going(1001, 3 * DAY).len(), 2, "what does fit makes room by itself");
        assert_eq!(keeping.expires(&all[0]), None);
    }
}
