//! Is an upstream asked, or is it left alone for a while?
//!
//! Failures in a row open the circuit: nobody asks until a pause has passed, then one probe goes
//! through. It closes the circuit or opens it for twice as long. A rate limit is no failure: the
//! upstream works, and has said when it may be asked again.

use std::time::Duration;

/// Failures in a row after which the upstream is left alone.
const FAILURES: u32 = 3;
/// The first pause, and the longest, in milliseconds.
const PAUSE: (i64, i64) = (5_000, 120_000);
/// How long a rate limit counts that does not say when it ends, and the longest that is believed.
const LIMITED: (Duration, Duration) = (Duration::from_secs(60), Duration::from_secs(24 * 3600));
/// A probe that has not come back after this is given up, in milliseconds.
const PROBE: i64 = 90_000;

/// What went wrong with an upstream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CircuitTrouble {
    /// It could not be reached, or failed.
    Failed,
    /// It limits our rate; how long, when it says so.
    Limited(Option<Duration>),
}

/// How an upstream stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Condition {
    Well,
    /// So many failures in a row, and it is asked all the same.
    Ailing(u32),
    /// It limits our rate until this time, in milliseconds since 1970.
    Limited(i64),
    /// It is left alone until this time, in milliseconds since 1970; then one request probes it.
    Resting(i64),
}

/// How often an upstream that limits us for long is asked whether it still does, in milliseconds.
const GENTLY: i64 = 15 * 60_000;

/// The circuit of one upstream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Circuit {
    failures: u32,
    pause: i64,
    rests_until: i64,
    limited_until: i64,
    /// When it was last asked although it limits us, to see whether it still does; else when that began.
    tried_limit: i64,
    trying_limit: bool,
    probing_since: Option<i64>,
}

impl Circuit {
    /// Asks to be let through. One that is let through tells afterwards how it went.
    ///
    /// # Errors
    /// The condition that forbids it.
    pub fn enter(&mut self, now: i64) -> Result<(), Condition> {
        match self.condition(now) {
            // A limit of many hours is often lifted before: one request now and then finds that out.
            Condition::Limited(until)
                if until.saturating_sub(now) > GENTLY
                    && now.saturating_sub(self.tried_limit) >= GENTLY =>
            {
                self.tried_limit = now;
                self.trying_limit = true;
                Ok(())
            }
            Condition::Well | Condition::Ailing(0..FAILURES) => Ok(()),
            Condition::Ailing(_) => {
                // The pause has passed: one goes through.
                if self.probing_since.is_some_and(|since| now < since.saturating_add(PROBE)) {
                    return Err(Condition::Resting(now));
                }
                self.probing_since = Some(now);
                Ok(())
            }
            condition => Err(condition),
        }
    }

    /// It answered.
    pub fn succeeded(&mut self) {
        let Self { limited_until, tried_limit, trying_limit, .. } = *self;
        *self = match trying_limit {
            true => Self::default(),
            false => Self { limited_until, tried_limit, ..Self::default() },
        };
    }

    /// Something went wrong.
    pub fn failed(&mut self, trouble: CircuitTrouble, now: i64) {
        self.probing_since = None;
        self.trying_limit = false;
        match trouble {
            CircuitTrouble::Limited(asked) => {
                if now >= self.limited_until {
                    self.tried_limit = now;
                }
                let asked = asked.unwrap_or(LIMITED.0).min(LIMITED.1);
                let end = now.saturating_add(i64::try_from(asked.as_millis()).unwrap_or(i64::MAX));
                self.limited_until = self.limited_until.max(end);
            }
            CircuitTrouble::Failed => {
                self.failures = self.failures.saturating_add(1);
                if self.failures >= FAILURES && now >= self.rests_until {
                    self.pause = (self.pause * 2).clamp(PAUSE.0, PAUSE.1);
                    self.rests_until = now.saturating_add(self.pause);
                }
            }
        }
    }

    /// It limits us until then, as it said before we were started anew.
    pub fn limit(&mut self, until: i64, now: i64) {
        let longest = i64::try_from(LIMITED.1.as_millis()).unwrap_or(i64::MAX);
        self.limited_until = until.min(now.saturating_add(longest));
        self.tried_limit = now;
    }

    /// How the upstream stands.
    pub fn condition(&self, now: i64) -> Condition {
        if now < self.limited_until {
            Condition::Limited(self.limited_until)
        } else if now < self.rests_until {
            Condition::Resting(self.rests_until)
        } else if self.failures > 0 {
            Condition::Ailing(self.failures)
        } else {
            Condition::Well
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_limit_is_looked_at_now_and_then() {
        let mut circuit = Circuit::default();
        circuit.failed(CircuitTrouble::Limited(Some(Duration::from_secs(6 * 3600))), 0);
        assert!(circuit.enter(GENTLY - 1).is_err());
        // An answer to what was asked before says nothing of the limit.
        circuit.succeeded();
        assert!(circuit.enter(GENTLY - 1).is_err());
        assert_eq!(circuit.enter(GENTLY), Ok(()), "one goes through");
        assert!(circuit.enter(GENTLY + 1).is_err(), "and no other");
        circuit.failed(CircuitTrouble::Limited(Some(Duration::from_secs(6 * 3600))), GENTLY + 2);
        assert!(circuit.enter(GENTLY + 3).is_err());
        assert_eq!(circuit.enter(2 * GENTLY), Ok(()));
        circuit.succeeded();
        assert_eq!(circuit.condition(2 * GENTLY + 1), Condition::Well, "it is lifted");
        circuit.limit(i64::MAX, 0);
        assert_eq!(circuit.condition(1), Condition::Limited(86_400_000));
    }

    #[test]
    fn an_upstream_that_fails_again_and_again_is_left_alone_and_probed() {
        let mut circuit = Circuit::default();
        for _ in 0..FAILURES - 1 {
            assert_eq!(circuit.enter(0), Ok(()));
            circuit.failed(CircuitTrouble::Failed, 0);
        }
        assert_eq!(circuit.enter(0), Ok(()));
        circuit.failed(CircuitTrouble::Failed, 0);
        assert_eq!(circuit.enter(4_999), Err(Condition::Resting(5_000)));
        assert_eq!(circuit.enter(5_000), Ok(()), "one probe");
        assert_eq!(circuit.enter(5_001), Err(Condition::Resting(5_001)), "and no other");
        circuit.failed(CircuitTrouble::Failed, 6_000);
        assert_eq!(circuit.condition(6_000), Condition::Resting(16_000), "twice as long");
        assert_eq!(circuit.enter(16_000), Ok(()));
        circuit.succeeded();
        assert_eq!(circuit.condition(16_001), Condition::Well);
    }

    #[test]
    fn failures_while_it_rests_make_the_rest_no_longer() {
        let mut circuit = Circuit::default();
        for now in 0..10 {
            circuit.failed(CircuitTrouble::Failed, now);
        }
        assert_eq!(circuit.condition(100), Condition::Resting(5_002));
    }

    #[test]
    fn a_probe_that_never_comes_back_is_followed_by_another() {
        let mut circuit = Circuit::default();
        for _ in 0..FAILURES {
            circuit.failed(CircuitTrouble::Failed, 0);
        }
        assert_eq!(circuit.enter(10_000), Ok(()));
        assert!(circuit.enter(10_000 + PROBE - 1).is_err());
        assert_eq!(circuit.enter(10_000 + PROBE), Ok(()));
    }

    #[test]
    fn a_limit_holds_as_long_as_the_upstream_says() {
        let mut circuit = Circuit::default();
        circuit.failed(CircuitTrouble::Limited(Some(Duration::from_secs(30))), 0);
        circuit.failed(CircuitTrouble::Limited(Some(Duration::from_secs(10))), 0);
        assert_eq!(circuit.enter(29_999), Err(Condition::Limited(30_000)));
        assert_eq!(circuit.enter(30_000), Ok(()));
        circuit.failed(CircuitTrouble::Limited(None), 30_000);
        assert_eq!(circuit.condition(30_001), Condition::Limited(90_000));
        circuit.failed(CircuitTrouble::Limited(Some(Duration::MAX)), 0);
        assert_eq!(circuit.condition(90_000), Condition::Limited(86_400_000));
    }
}
