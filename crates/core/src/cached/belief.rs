//! How long is it believed what a tag points to?

use std::time::Duration;

use crate::digest::Digest;

/// How long a cached shelf believes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Terms {
    /// How long a tag is believed before the upstream is asked again.
    pub recheck: Duration,
    /// How long after the upstream last confirmed a tag it may still be served while the upstream
    /// cannot be asked.
    pub stale: Duration,
}

/// What is believed of a tag.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Belief {
    /// What it points to.
    pub digest: Digest,
    /// When the upstream last said so, in milliseconds since 1970.
    pub confirmed: i64,
}

/// What may be done with a belief.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BeliefTrust {
    /// Serve it; until this time, in milliseconds since 1970.
    Until(i64),
    /// Ask the upstream; serve it should that fail or take too long.
    Ask,
    /// Ask the upstream; it is too old to be served.
    TooOld,
}

impl Belief {
    /// What may be done with it now. A clock that was set back makes it fresh at most for as long as
    /// one just confirmed would be.
    pub fn trust(&self, terms: Terms, now: i64) -> BeliefTrust {
        let span = |span: Duration| i64::try_from(span.as_millis()).unwrap_or(i64::MAX);
        let confirmed = self.confirmed.min(now);
        let until = confirmed.saturating_add(span(terms.recheck));
        if now < until {
            BeliefTrust::Until(until)
        } else if now < until.max(confirmed.saturating_add(span(terms.stale))) {
            BeliefTrust::Ask
        } else {
            BeliefTrust::TooOld
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn belief_fades() {
        let terms = Terms { recheck: Duration::from_secs(900), stale: Duration::from_secs(86_400) };
        let belief = Belief { digest: Digest::of(b"x"), confirmed: 1_000_000 };
        assert_eq!(belief.trust(terms, 1_000_000), BeliefTrust::Until(1_900_000));
        assert_eq!(belief.trust(terms, 1_899_999), BeliefTrust::Until(1_900_000));
        assert_eq!(belief.trust(terms, 1_900_000), BeliefTrust::Ask);
        assert_eq!(belief.trust(terms, 87_399_999), BeliefTrust::Ask);
        assert_eq!(belief.trust(terms, 87_400_000), BeliefTrust::TooOld);
        let back = belief.trust(terms, 500_000);
        assert_eq!(back, BeliefTrust::Until(1_400_000), "the clock was set back");
        let never = Terms { recheck: Duration::ZERO, stale: Duration::ZERO };
        assert_eq!(belief.trust(never, 1_000_000), BeliefTrust::TooOld);
    }
}
