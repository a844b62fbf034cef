//! How much may an account ask for? What it has left grows back steadily, so that a pause is never longer than what was
//! taken too much.

use std::collections::HashMap;
use std::time::Duration;

/// What an account may take within a span of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rate {
    /// Requests. None: any number.
    pub requests: Option<u64>,
    /// Bytes, sent to it and received from it. None: any number.
    pub bytes: Option<u64>,
    /// The span, in milliseconds; never 0.
    pub per: u64,
}

/// What accounts have left. An account of which nothing is kept has all.
#[derive(Debug, Default)]
pub struct RateLedger {
    accounts: HashMap<Box<str>, RateLeft>,
}

/// What is left, each number times the span: what grows back in a millisecond is then a whole number.
#[derive(Debug, Clone, Copy)]
struct RateLeft {
    requests: i128,
    bytes: i128,
    /// Milliseconds.
    at: i64,
}

impl Rate {
    /// All that it may have at once.
    fn whole(self, most: Option<u64>) -> i128 {
        i128::from(most.unwrap_or(0)).saturating_mul(self.per.into())
    }

    fn full(self, now: i64) -> RateLeft {
        RateLeft { requests: self.whole(self.requests), bytes: self.whole(self.bytes), at: now }
    }

    /// What is left by now. A clock that went back gives nothing and takes nothing.
    fn grown(self, left: RateLeft, now: i64) -> RateLeft {
        let passed = i128::from(now.saturating_sub(left.at).max(0));
        let grow = |left: i128, most: Option<u64>| {
            let back = passed.saturating_mul(most.unwrap_or(0).into());
            left.saturating_add(back).min(self.whole(most))
        };
        let (requests, bytes) = (grow(left.requests, self.requests), grow(left.bytes, self.bytes));
        RateLeft { requests, bytes, at: now }
    }
}

impl RateLedger {
    /// Takes one request. The error is how long the account has to wait for one; then nothing was taken.
    ///
    /// # Errors
    /// When it has taken all that it may.
    pub fn request(&mut self, account: &str, rate: Rate, now: i64) -> Result<(), Duration> {
        let left = self.accounts.get(account).map_or(rate.full(now), |left| rate.grown(*left, now));
        let one = i128::from(rate.per);
        let lacks = [
            (rate.requests, one.saturating_sub(left.requests)),
            // Who has taken more bytes than it may waits until that is made good.
            (rate.bytes, 1_i128.saturating_sub(left.bytes)),
        ];
        let wait = lacks.into_iter().filter_map(|(most, lacks)| {
            let most = i128::from(most?.max(1));
            (lacks > 0)
                .then(|| u64::try_from(lacks.saturating_add(most - 1) / most).unwrap_or(u64::MAX))
        });
        let wait = wait.max();
        let taken = if wait.is_none() && rate.requests.is_some() { one } else { 0 };
        let left = RateLeft { requests: left.requests.saturating_sub(taken), ..left };
        self.keep(account, left);
        wait.map_or(Ok(()), |wait| Err(Duration::from_millis(wait)))
    }

    /// Takes the bytes of a request that was let through.
    pub fn bytes(&mut self, account: &str, rate: Rate, bytes: u64, now: i64) {
        if rate.bytes.is_none() {
            return;
        }
        let left = self.accounts.get(account).map_or(rate.full(now), |left| rate.grown(*left, now));
        let taken = i128::from(bytes).saturating_mul(rate.per.into());
        let bytes = left.bytes.saturating_sub(taken);
        self.keep(account, RateLeft { bytes, ..left });
    }

    /// What is kept of accounts that have no bound any more goes.
    pub fn forget_all_but(&mut self, bounded: impl Fn(&str) -> bool) {
        self.accounts.retain(|account, _| bounded(account));
    }

    fn keep(&mut self, account: &str, left: RateLeft) {
        match self.accounts.get_mut(account) {
            Some(kept) => *kept = left,
            None => {
                self.accounts.insert(account.into(), left);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: Rate = Rate { requests: Some(3), bytes: Some(1000), per: 60_000 };

    #[test]
    fn requests_grow_back_one_by_one() {
        let mut taken = RateLedger::default();
        for _ in 0..3 {
            assert_eq!(taken.request("ci", RATE, 0), Ok(()));
        }
        assert_eq!(taken.request("ci", RATE, 0), Err(Duration::from_secs(20)));
        assert_eq!(taken.request("ci", RATE, 19_999), Err(Duration::from_millis(1)));
        assert_eq!(taken.request("other", RATE, 0), Ok(()), "each has its own");
        assert_eq!(taken.request("ci", RATE, 20_000), Ok(()));
        assert!(taken.request("ci", RATE, 20_000).is_err());
        // However long nobody came: never more than all.
        for _ in 0..3 {
            assert_eq!(taken.request("ci", RATE, 10_000_000), Ok(()));
        }
        assert!(taken.request("ci", RATE, 10_000_000).is_err());
    }

    #[test]
    fn bytes_are_taken_afterwards_and_made_good() {
        let mut taken = RateLedger::default();
        assert_eq!(taken.request("ci", RATE, 0), Ok(()));
        taken.bytes("ci", RATE, 2000, 0);
        let wait = taken.request("ci", RATE, 0).unwrap_err();
        assert!(wait > Duration::from_secs(60) && wait < Duration::from_secs(61), "{wait:?}");
        assert_eq!(taken.request("ci", RATE, 60_001), Ok(()));
    }

    #[test]
    fn a_clock_that_goes_back_locks_nobody_out() {
        let mut taken = RateLedger::default();
        for _ in 0..3 {
            assert_eq!(taken.request("ci", RATE, 1_000_000), Ok(()));
        }
        assert!(taken.request("ci", RATE, 0).is_err());
        assert_eq!(taken.request("ci", RATE, 20_000), Ok(()));
    }

    #[test]
    fn any_numbers_can_be_written() {
        let rate = Rate { requests: Some(u64::MAX), bytes: Some(u64::MAX), per: u64::MAX };
        let mut taken = RateLedger::default();
        taken.bytes("ci", rate, u64::MAX, i64::MIN);
        taken.bytes("ci", rate, u64::MAX, i64::MAX);
        let _ = taken.request("ci", rate, i64::MAX);
        let one = Rate { requests: None, ..rate };
        assert_eq!(RateLedger::default().request("ci", one, 0), Ok(()));
    }
}
