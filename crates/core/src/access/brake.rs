//! How long does an answer to a wrong secret wait? Wrong guesses are slowed for each address and each
//! account; the right secret never waits, so nobody can lock an account's owner out.
//!
//! What counts is different secrets for an account, and different pairs of account and secret from an address: a
//! runtime repeats the same wrong one six times at once. Addresses of IPv6 count by their network of 64 bits, of which
//! anybody has as many addresses as he likes.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

/// Different wrong secrets that are answered at once.
const FREE: usize = 5;
/// A wait is never longer.
const LONGEST: Duration = Duration::from_secs(4);
/// After so long without another one, in milliseconds, all is forgotten.
const FORGET: i64 = 10 * 60_000;
/// Addresses and accounts that are remembered.
const MOST: usize = 10_000;
/// Secrets that are told apart for each of them.
const TOLD_APART: usize = 16;

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum BrakedAddress {
    Address(IpAddr),
    Account(Box<str>),
}

#[derive(Debug, Default)]
struct SignInTries {
    /// What the last secrets were, as short hashes.
    secrets: Vec<u64>,
    count: usize,
    last: i64,
}

/// The wrong secrets of late.
#[derive(Debug, Default)]
pub struct Brake {
    tried: HashMap<BrakedAddress, SignInTries>,
}

impl Brake {
    /// Notes a wrong secret (a short hash of it) and says how long its answer waits. Times are in
    /// milliseconds since 1970.
    pub fn wrong(&mut self, from: Option<IpAddr>, user: &str, secret: u64, now: i64) -> Duration {
        if self.tried.len() >= MOST {
            self.tried.retain(|_, tried| now - tried.last < FORGET);
            // Still full: one who fills it with addresses gains nothing but that all start anew.
            if self.tried.len() >= MOST {
                self.tried.clear();
            }
        }
        let user: String = user.chars().take(128).collect();
        let pair = pair(&user, secret);
        let of_account = self.note(BrakedAddress::Account(user.into()), secret, now);
        let of_address =
            from.map(|from| self.note(BrakedAddress::Address(neighbourhood(from)), pair, now));
        delay(of_account.max(of_address.unwrap_or(0)))
    }

    fn note(&mut self, whose: BrakedAddress, secret: u64, now: i64) -> usize {
        let tried = self.tried.entry(whose).or_default();
        if now - tried.last >= FORGET {
            *tried = SignInTries::default();
        }
        tried.last = now;
        if !tried.secrets.contains(&secret) {
            tried.count += 1;
            if tried.secrets.len() >= TOLD_APART {
                tried.secrets.remove(0);
            }
            tried.secrets.push(secret);
        }
        tried.count
    }
}

/// An account and a secret as one number.
fn pair(user: &str, secret: u64) -> u64 {
    use std::hash::{DefaultHasher, Hash as _, Hasher as _};
    let mut hasher = DefaultHasher::new();
    (user, secret).hash(&mut hasher);
    hasher.finish()
}

/// The address by which a client is told from others: of IPv6, its network of 64 bits.
pub fn neighbourhood(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(six) => IpAddr::V6((six.to_bits() & !u128::from(u64::MAX)).into()),
        four @ IpAddr::V4(_) => four,
    }
}

fn delay(count: usize) -> Duration {
    let over = u32::try_from(count.saturating_sub(FREE)).unwrap_or(u32::MAX);
    if over == 0 {
        return Duration::ZERO;
    }
    Duration::from_millis(100).saturating_mul(1 << (over - 1).min(10)).min(LONGEST)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn different_secrets_are_slowed_and_the_same_one_is_not() {
        let mut brake = Brake::default();
        let from = Some(IpAddr::from([10, 0, 0, 1]));
        for _ in 0..100 {
            assert_eq!(brake.wrong(from, "ci", 1, 0), Duration::ZERO, "a runtime repeats itself");
        }
        let waits: Vec<Duration> =
            (2..20).map(|secret| brake.wrong(from, "ci", secret, 1)).collect();
        assert_eq!(waits[3], Duration::ZERO);
        assert_eq!(waits[4], Duration::from_millis(100));
        assert_eq!(*waits.last().unwrap(), LONGEST);
        let other = Some(IpAddr::from([10, 0, 0, 2]));
        assert_eq!(
            brake.wrong(other, "ci", 99, 2),
            LONGEST,
            "the account is guessed from all over"
        );
        assert_eq!(brake.wrong(other, "field-lab", 99, 2), Duration::ZERO);
        assert_eq!(brake.wrong(from, "anything", 100, 2), LONGEST, "the address guesses at all");
        assert_eq!(brake.wrong(from, "ci", 101, FORGET + 3), Duration::ZERO);
    }

    #[test]
    fn one_secret_with_many_names_and_one_network_of_ipv6_are_slowed() {
        let mut brake = Brake::default();
        let from = Some(IpAddr::from([10, 0, 0, 1]));
        let waits: Vec<Duration> =
            (0..20).map(|number| brake.wrong(from, &format!("user{number}"), 1, 0)).collect();
        assert_eq!(waits[4], Duration::ZERO);
        assert_eq!(*waits.last().unwrap(), LONGEST);
        let near = |number: u64| format!("2001:db8:1:2::{number:x}").parse::<IpAddr>().ok();
        let waits: Vec<Duration> = (0..20)
            .map(|number| brake.wrong(near(number), &format!("other{number}"), number, 0))
            .collect();
        assert_eq!(*waits.last().unwrap(), LONGEST);
        let far = "2001:db8:1:3::1".parse::<IpAddr>().ok();
        assert_eq!(brake.wrong(far, "else", 99, 0), Duration::ZERO);
    }

    #[test]
    fn what_is_remembered_is_bounded() {
        let mut brake = Brake::default();
        for number in 0..30_000_u32 {
            brake.wrong(Some(IpAddr::from(number.to_be_bytes())), "ci", u64::from(number), 0);
        }
        assert!(brake.tried.len() <= MOST + 2);
    }
}
