//! How much may a shelf, a repository or an account hold?

use std::collections::BTreeMap;
use std::fmt;

use crate::name::RepositoryName;

/// The quotas of a shelf, in bytes. What is None has none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Quota {
    /// What all of the shelf may hold; what several of its repositories share counts once.
    pub shelf: Option<u64>,
    /// What each repository of it may hold.
    pub repository: Option<u64>,
    /// What each account may have pushed to it.
    pub account: Option<u64>,
}

/// What is held already, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct HeldBytes {
    pub shelf: u64,
    pub repository: u64,
    /// None: nobody in particular brings it.
    pub account: Option<u64>,
}

/// Whose quota it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum QuotaOf {
    Shelf,
    Repository,
    Account,
}

impl fmt::Display for QuotaOf {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Shelf => "shelf",
            Self::Repository => "repository",
            Self::Account => "account",
        })
    }
}

/// A quota, and how much of it is left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct QuotaLeft {
    pub of: QuotaOf,
    pub held: u64,
    pub most: u64,
}

impl QuotaLeft {
    /// In bytes. Where a quota was made smaller than what is held, nothing is left.
    pub fn left(&self) -> u64 {
        self.most.saturating_sub(self.held)
    }
}

impl Quota {
    /// Whether nothing is limited.
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    /// The quota that has the least left. None: there is none that matters here.
    pub fn tightest(&self, held: &HeldBytes) -> Option<QuotaLeft> {
        let one = |of, most: Option<u64>, held: Option<u64>| {
            most.zip(held).map(|(most, held)| QuotaLeft { of, held, most })
        };
        let all = [
            one(QuotaOf::Shelf, self.shelf, Some(held.shelf)),
            one(QuotaOf::Repository, self.repository, Some(held.repository)),
            one(QuotaOf::Account, self.account, held.account),
        ];
        all.into_iter().flatten().min_by_key(QuotaLeft::left)
    }

    /// Whether so many bytes more may be held.
    ///
    /// # Errors
    /// The quota that they would pass.
    pub fn check(&self, held: &HeldBytes, wanted: u64) -> Result<(), QuotaLeft> {
        match self.tightest(held) {
            Some(one) if wanted > one.left() => Err(one),
            _ => Ok(()),
        }
    }
}

/// The quotas of all shelves.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Quotas(BTreeMap<String, Quota>);

impl Quotas {
    /// What each shelf says; those that say nothing have none.
    pub fn new(all: impl IntoIterator<Item = (String, Quota)>) -> Self {
        Self(all.into_iter().filter(|(_, quota)| !quota.is_none()).collect())
    }

    /// The quota of the shelf in which a repository lies. None: it has none.
    pub fn of(&self, repository: &RepositoryName) -> Option<&Quota> {
        self.0.get(repository.first_component())
    }

    /// Every shelf that has one, by name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Quota)> {
        self.0.iter().map(|(shelf, quota)| (shelf.as_str(), quota))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn most() -> impl Strategy<Value = Option<u64>> {
        proptest::option::of(0..1000u64)
    }

    proptest! {
        /// Whatever comes in whatever order: no quota is passed by anything that was let in, and nothing is refused that
        /// fits all of them.
        #[test]
        fn nothing_that_is_let_in_passes_a_quota(
            shelf in most(), repository in most(), account in most(),
            pushes in proptest::collection::vec((0..200u64, any::<bool>(), any::<bool>()), 0..40),
        ) {
            let quota = Quota { shelf, repository, account };
            let mut held = HeldBytes { account: Some(0), ..HeldBytes::default() };
            for (bytes, here, ours) in pushes {
                let seen = HeldBytes {
                    repository: if here { held.repository } else { 0 },
                    account: ours.then_some(held.account.unwrap_or_default()),
                    ..held
                };
                let fits = |most: Option<u64>, held: u64| most.is_none_or(|most| held + bytes <= most);
                let all = fits(shelf, seen.shelf)
                    && fits(repository, seen.repository)
                    && seen.account.is_none_or(|held| fits(account, held));
                let checked = quota.check(&seen, bytes);
                prop_assert_eq!(checked.is_ok(), all);
                if checked.is_ok() {
                    held.shelf += bytes;
                    held.repository += if here { bytes } else { 0 };
                    held.account = held.account.map(|held| held + if ours { bytes } else { 0 });
                }
                let within = |most: Option<u64>, held: u64| most.is_none_or(|most| held <= most);
                prop_assert!(within(shelf, held.shelf) && within(repository, held.repository));
                prop_assert!(within(account, held.account.unwrap_or_default()));
            }
        }
    }

    #[test]
    fn the_tightest_is_told() {
        let quota = Quota { shelf: Some(100), repository: Some(50), account: Some(10) };
        let held = HeldBytes { shelf: 90, repository: 45, account: Some(1) };
        let told = quota.check(&held, 6).unwrap_err();
        assert_eq!((told.of, told.left(), told.most), (QuotaOf::Repository, 5, 50));
        assert!(quota.check(&held, 5).is_ok());
        let nobody = HeldBytes { account: None, repository: 0, ..held };
        assert_eq!(quota.check(&nobody, 11).unwrap_err().of, QuotaOf::Shelf);
        assert!(Quota::default().check(&held, u64::MAX).is_ok());
        // A quota that was made smaller lets nothing in, and does no harm otherwise.
        let smaller = Quota { shelf: Some(10), ..Quota::default() };
        assert_eq!(smaller.check(&held, 1).unwrap_err().left(), 0);
        assert!(smaller.check(&held, 0).is_ok());
    }
}
