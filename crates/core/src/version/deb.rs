//! Versions of Debian's packages (Debian Policy, section 5.6.12, "Version").

use std::cmp::Ordering;

use super::{digits, is_number, numbers};

/// `[epoch:]upstream[-revision]`.
#[derive(Debug, Clone)]
pub(super) struct DebVersion {
    epoch: u32,
    upstream: String,
    revision: String,
}

impl DebVersion {
    /// None: the tool refuses it. What it only warns of is read.
    pub fn read(text: &str) -> Option<Self> {
        let text = text.trim_matches([' ', '\t', '\n', '\r']);
        if text.chars().any(char::is_whitespace) {
            return None;
        }
        let (epoch, rest) = match text.split_once(':') {
            Some((epoch, rest)) if is_number(epoch) => (epoch.parse().ok()?, rest),
            Some(_) => return None,
            None => (0, text),
        };
        if epoch > i32::MAX.unsigned_abs() || rest.is_empty() {
            return None;
        }
        let (upstream, revision) = match rest.rsplit_once('-') {
            Some((_, "")) => return None,
            Some(parts) => parts,
            None => (rest, ""),
        };
        if upstream.is_empty() {
            return None;
        }
        Some(Self { epoch, upstream: upstream.to_owned(), revision: revision.to_owned() })
    }

    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        self.epoch
            .cmp(&other.epoch)
            .then_with(|| runs(&self.upstream, &other.upstream))
            .then_with(|| runs(&self.revision, &other.revision))
    }
}

/// A sign's place among those that are no digits. The end, and a digit, stand between `~` and the letters.
fn place(sign: Option<char>) -> u32 {
    match sign {
        Some('~') => 0,
        None => 1,
        Some(sign) if sign.is_ascii_digit() => 1,
        Some(sign) if sign.is_ascii_alphabetic() => 2 + u32::from(sign),
        Some(sign) => 0x0100_0000 + u32::from(sign),
    }
}

/// Compares in turns what is no digit, sign by sign, and digits by what they count.
fn runs(mut a: &str, mut b: &str) -> Ordering {
    while !(a.is_empty() && b.is_empty()) {
        let signs = |text: &str| text.chars().next().is_some_and(|sign| !sign.is_ascii_digit());
        while signs(a) || signs(b) {
            let (first, second) = (a.chars().next(), b.chars().next());
            match place(first).cmp(&place(second)) {
                Ordering::Equal => {}
                other => return other,
            }
            a = &a[first.map_or(0, char::len_utf8)..];
            b = &b[second.map_or(0, char::len_utf8)..];
        }
        let ((first, rest_a), (second, rest_b)) = (digits(a), digits(b));
        match numbers(first, second) {
            Ordering::Equal => (a, b) = (rest_a, rest_b),
            other => return other,
        }
    }
    Ordering::Equal
}
