//! How many more pulls does an upstream let us make, and when again?
//!
//! What counts as a pull is a manifest that is fetched; asking what a tag points to does not. Where
//! the operator states an allowance, our own record of pulls tells what is left of it. Where the
//! registry says in its answers what is left, that counts too, and the smaller one decides.

use std::time::Duration;

/// What an upstream lets us pull.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Allowance {
    /// So many manifests…
    pub pulls: u64,
    /// …in any span of this length.
    pub per: Duration,
}

/// What a registry says of its limit itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReportedLimit {
    /// How many pulls are left.
    pub remaining: u64,
    /// How many there are in a whole window. None: it does not say.
    pub limit: Option<u64>,
    /// How long after `at` all of them are back at the latest. None: it does not say.
    pub back_in: Option<Duration>,
    /// When it said so, in milliseconds since 1970.
    pub at: i64,
}

/// All that is known of one upstream's limit.
#[derive(Debug, Clone, Default)]
pub struct Budget {
    /// What the operator states. None: nothing.
    pub allowance: Option<Allowance>,
    /// Our pulls: when, in milliseconds since 1970, and how many.
    pub spent: Vec<(i64, u64)>,
    /// What the registry said last. None: nothing.
    pub reported: Option<ReportedLimit>,
}

/// Whether so many pulls can be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Afford {
    Now,
    /// From this time on, in milliseconds since 1970.
    At(i64),
    /// Never at once: so many are the most.
    Never(u64),
}

/// How long a report counts that does not say when the pulls are back.
const REPORT_LIFE: Duration = Duration::from_secs(3600);

fn milliseconds(span: Duration) -> i64 {
    i64::try_from(span.as_millis()).unwrap_or(i64::MAX)
}

impl Budget {
    /// How many pulls are left. None: no limit is known.
    pub fn left(&self, now: i64) -> Option<u64> {
        let stated = self.allowance.map(|allowance| {
            let since = now.saturating_sub(milliseconds(allowance.per));
            allowance.pulls.saturating_sub(self.spent_after(since))
        });
        let reported = self
            .report(now)
            .map(|(report, _)| report.remaining.saturating_sub(self.spent_after(report.at)));
        stated.into_iter().chain(reported).min()
    }

    /// How many pulls there are in a whole span. None: no limit is known, or the registry does not say.
    pub fn most(&self) -> Option<u64> {
        let most = self.allowance.map(|allowance| allowance.pulls);
        most.into_iter().chain(self.reported.and_then(|report| report.limit)).min()
    }

    /// When all of them are back, if nothing is pulled until then, in milliseconds since 1970. None: none is spent, or
    /// nothing is known of it.
    pub fn whole_at(&self, now: i64) -> Option<i64> {
        let stated = self.allowance.and_then(|allowance| {
            let last =
                self.spent.iter().filter(|(_, count)| *count > 0).map(|(at, _)| *at).max()?;
            Some(last.saturating_add(milliseconds(allowance.per)))
        });
        let reported = self.report(now).and_then(|(report, end)| {
            let spent = report.limit.is_none_or(|limit| report.remaining < limit);
            spent.then_some(end)
        });
        stated.into_iter().chain(reported).filter(|end| *end > now).max()
    }

    /// When so many pulls can be made.
    pub fn affords(&self, pulls: u64, now: i64) -> Afford {
        if let Some(most) = self.most().filter(|most| pulls > *most) {
            return Afford::Never(most);
        }
        if self.left(now).is_none_or(|left| left >= pulls) {
            return Afford::Now;
        }
        let stated = self.allowance.map(|allowance| {
            // The oldest pulls come back first.
            let mut spent = self.spent.clone();
            spent.sort_unstable();
            let per = milliseconds(allowance.per);
            let ends = spent.iter().map(|(at, _)| at.saturating_add(per)).filter(|end| *end > now);
            let enough = |end: &i64| {
                let since = end.saturating_sub(per);
                allowance.pulls.saturating_sub(self.spent_after(since)) >= pulls
            };
            std::iter::once(now).chain(ends).find(enough).unwrap_or(now)
        });
        let reported = self.report(now).map(|(report, end)| {
            let left = report.remaining.saturating_sub(self.spent_after(report.at));
            if left >= pulls { now } else { end }
        });
        Afford::At(stated.into_iter().chain(reported).max().unwrap_or(now))
    }

    /// Our pulls after a time.
    fn spent_after(&self, since: i64) -> u64 {
        self.spent.iter().filter(|(at, _)| *at > since).map(|(_, count)| count).sum()
    }

    /// What the registry said, while it still counts, and until when it does.
    fn report(&self, now: i64) -> Option<(ReportedLimit, i64)> {
        let report = self.reported?;
        let end = report.at.saturating_add(milliseconds(report.back_in.unwrap_or(REPORT_LIFE)));
        (end > now).then_some((report, end))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3_600_000;

    fn budget(spent: &[(i64, u64)]) -> Budget {
        let allowance = Allowance { pulls: 100, per: Duration::from_secs(6 * 3600) };
        Budget { allowance: Some(allowance), spent: spent.to_vec(), reported: None }
    }

    #[test]
    fn it_is_told_when_all_is_back() {
        let all = budget(&[(10 * HOUR, 60), (12 * HOUR, 30), (13 * HOUR, 0)]);
        assert_eq!((all.most(), all.whole_at(13 * HOUR)), (Some(100), Some(18 * HOUR)));
        assert_eq!(all.whole_at(18 * HOUR), None);
        assert_eq!(budget(&[]).whole_at(0), None);
        assert_eq!((Budget::default().most(), Budget::default().whole_at(0)), (None, None));
        let report = ReportedLimit {
            remaining: 10,
            limit: Some(50),
            back_in: Some(Duration::from_secs(7200)),
            at: 12 * HOUR,
        };
        let both = Budget { reported: Some(report), ..all };
        assert_eq!((both.most(), both.whole_at(13 * HOUR)), (Some(50), Some(18 * HOUR)));
        let said = Budget { allowance: None, ..both };
        assert_eq!(said.whole_at(13 * HOUR), Some(14 * HOUR));
        let full = ReportedLimit { remaining: 50, ..report };
        assert_eq!(Budget { reported: Some(full), ..said }.whole_at(13 * HOUR), None);
    }

    #[test]
    fn an_allowance_comes_back_as_our_pulls_grow_old() {
        assert_eq!(Budget::default().left(0), None);
        assert_eq!(Budget::default().affords(1_000_000, 0), Afford::Now);
        let budget = budget(&[(10 * HOUR, 60), (12 * HOUR, 30), (HOUR, 99)]);
        let now = 13 * HOUR;
        assert_eq!(budget.left(now), Some(10), "the first is long past");
        assert_eq!(budget.affords(10, now), Afford::Now);
        assert_eq!(budget.affords(11, now), Afford::At(16 * HOUR));
        assert_eq!(budget.affords(71, now), Afford::At(18 * HOUR));
        assert_eq!(budget.affords(101, now), Afford::Never(100));
        assert_eq!(budget.affords(100, 18 * HOUR), Afford::Now);
    }

    #[test]
    fn what_the_registry_says_counts_until_its_window_has_passed() {
        let back_in = Some(Duration::from_secs(3600));
        let reported = ReportedLimit { remaining: 5, limit: Some(200), back_in, at: 10 * HOUR };
        let budget = Budget { reported: Some(reported), ..budget(&[(10 * HOUR + 1, 2)]) };
        assert_eq!(budget.left(10 * HOUR + 2), Some(3));
        assert_eq!(budget.affords(4, 10 * HOUR + 2), Afford::At(11 * HOUR));
        assert_eq!(budget.left(11 * HOUR), Some(98), "the operator's own counts again");
        let silent = ReportedLimit { back_in: None, limit: None, ..reported };
        let budget = Budget { reported: Some(silent), ..Budget::default() };
        assert_eq!(budget.affords(6, 10 * HOUR), Afford::At(11 * HOUR));
        assert_eq!(budget.left(11 * HOUR), None);
    }

    proptest::proptest! {
        #[test]
        fn what_is_promised_for_later_is_there_then(
            spent in proptest::collection::vec((0i64..20 * HOUR, 1u64..60), 0..10),
            pulls in 1u64..=100,
        ) {
            let budget = budget(&spent);
            if let Afford::At(then) = budget.affords(pulls, 20 * HOUR) {
                proptest::prop_assert!(then > 20 * HOUR);
                proptest::prop_assert_eq!(budget.affords(pulls, then), Afford::Now);
                proptest::prop_assert_ne!(budget.affords(pulls, then - 1), Afford::Now);
            }
        }
    }
}
