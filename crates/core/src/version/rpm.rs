//! Versions of RPM's packages.

use std::cmp::Ordering;

use super::{digits, is_number, numbers};

/// `[epoch:]version[-release]`. No epoch is the epoch 0; no release comes before any.
#[derive(Debug, Clone)]
pub(super) struct RpmVersion {
    epoch: String,
    version: String,
    release: Option<String>,
}

impl RpmVersion {
    /// None: it has no version.
    pub fn read(text: &str) -> Option<Self> {
        let (epoch, rest) = match text.split_once(':') {
            Some((epoch, rest)) if is_number(epoch) => (epoch, rest),
            Some(_) => return None,
            None => ("", text),
        };
        let (version, release) = match rest.rsplit_once('-') {
            Some((version, release)) => (version, Some(release.to_owned())),
            None => (rest, None),
        };
        if version.is_empty() {
            return None;
        }
        Some(Self { epoch: epoch.to_owned(), version: version.to_owned(), release })
    }

    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        let releases = || match (&self.release, &other.release) {
            (Some(a), Some(b)) => segments(a, b),
            (a, b) => a.is_some().cmp(&b.is_some()),
        };
        numbers(&self.epoch, &other.epoch)
            .then_with(|| segments(&self.version, &other.version))
            .then_with(releases)
    }
}

/// Compares runs of digits, of letters, `~` and `^`; everything else only separates them.
fn segments(mut a: &str, mut b: &str) -> Ordering {
    loop {
        let counts = |sign: char| sign.is_ascii_alphanumeric() || sign == '~' || sign == '^';
        a = a.trim_start_matches(|sign| !counts(sign));
        b = b.trim_start_matches(|sign| !counts(sign));
        match (a.strip_prefix('~'), b.strip_prefix('~')) {
            (Some(rest_a), Some(rest_b)) => {
                (a, b) = (rest_a, rest_b);
                continue;
            }
            (Some(_), None) => return Ordering::Less,
            (None, Some(_)) => return Ordering::Greater,
            (None, None) => {}
        }
        match (a.strip_prefix('^'), b.strip_prefix('^')) {
            (Some(rest_a), Some(rest_b)) => {
                (a, b) = (rest_a, rest_b);
                continue;
            }
            (Some(_), None) => {
                return if b.is_empty() { Ordering::Greater } else { Ordering::Less };
            }
            (None, Some(_)) => {
                return if a.is_empty() { Ordering::Less } else { Ordering::Greater };
            }
            (None, None) => {}
        }
        if a.is_empty() || b.is_empty() {
            return a.len().cmp(&b.len());
        }
        let is_digit = |text: &str| text.starts_with(|sign: char| sign.is_ascii_digit());
        let order = match (is_digit(a), is_digit(b)) {
            (true, true) => {
                let ((first, rest_a), (second, rest_b)) = (digits(a), digits(b));
                (a, b) = (rest_a, rest_b);
                numbers(first, second)
            }
            (true, false) => Ordering::Greater,
            (false, true) => Ordering::Less,
            (false, false) => {
                let letters = |text: &str| text.bytes().take_while(u8::is_ascii_alphabetic).count();
                let ((first, rest_a), (second, rest_b)) =
                    (a.split_at(letters(a)), b.split_at(letters(b)));
                (a, b) = (rest_a, rest_b);
                first.cmp(second)
            }
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}
