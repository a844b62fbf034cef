//! Versions of Alpine's packages: `digits(.digits)*[a-z](_suffix digits?)*(~hex)?(-rN)?`, and nothing else.

use std::cmp::Ordering;

use super::{digits, numbers};

#[derive(Debug, Clone)]
pub(super) struct ApkVersion(Vec<ApkPart>);

/// A part, in the order in which the grammar has them.
#[derive(Debug, Clone)]
enum ApkPart {
    Number {
        digits: String,
        is_first: bool,
    },
    Letter(char),
    /// Its place among the suffixes; those below 0 come before a version without any.
    Suffix(i8),
    SuffixNumber(String),
    Commit(String),
    Revision(String),
}

/// The suffixes, in their order; a version without one stands after `rc`.
const SUFFIXES: [(&str, i8); 9] = [
    ("alpha", -4),
    ("beta", -3),
    ("pre", -2),
    ("rc", -1),
    ("cvs", 1),
    ("svn", 2),
    ("git", 3),
    ("hg", 4),
    ("p", 5),
];

impl ApkPart {
    fn kind(part: Option<&Self>) -> u8 {
        match part {
            Some(Self::Number { .. }) => 0,
            Some(Self::Letter(_)) => 1,
            Some(Self::Suffix(_)) => 2,
            Some(Self::SuffixNumber(_)) => 3,
            Some(Self::Commit(_)) => 4,
            Some(Self::Revision(_)) => 5,
            None => 6,
        }
    }
}

impl ApkVersion {
    /// None: the tool does not take it for one.
    pub fn read(text: &str) -> Option<Self> {
        let mut parts = Vec::new();
        let number = |text: &str| {
            let (found, rest) = digits(text);
            (!found.is_empty()).then(|| (found.to_owned(), rest.to_owned()))
        };
        let (first, mut rest) = number(text)?;
        parts.push(ApkPart::Number { digits: first, is_first: true });
        while let Some(after) = rest.strip_prefix('.') {
            let (digits, next) = number(after)?;
            parts.push(ApkPart::Number { digits, is_first: false });
            rest = next;
        }
        if let Some(letter) = rest.chars().next().filter(char::is_ascii_lowercase) {
            parts.push(ApkPart::Letter(letter));
            rest = rest[1..].to_owned();
        }
        while let Some(after) = rest.strip_prefix('_') {
            let end = after.bytes().take_while(u8::is_ascii_lowercase).count();
            let (word, next) = after.split_at(end);
            let (_, place) = SUFFIXES.iter().find(|(known, _)| *known == word)?;
            parts.push(ApkPart::Suffix(*place));
            let (found, next) = digits(next);
            if !found.is_empty() {
                parts.push(ApkPart::SuffixNumber(found.to_owned()));
            }
            rest = next.to_owned();
        }
        if let Some(after) = rest.strip_prefix('~') {
            let hex = |byte: &u8| byte.is_ascii_digit() || (b'a'..=b'f').contains(byte);
            let end = after.bytes().take_while(hex).count();
            if end == 0 {
                return None;
            }
            parts.push(ApkPart::Commit(after[..end].to_owned()));
            rest = after[end..].to_owned();
        }
        if let Some(after) = rest.strip_prefix("-r") {
            let (revision, next) = number(after)?;
            parts.push(ApkPart::Revision(revision));
            rest = next;
        }
        rest.is_empty().then_some(Self(parts))
    }

    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        let mut at = 0;
        loop {
            let (a, b) = (self.0.get(at), other.0.get(at));
            at += 1;
            let order = match (a, b) {
                (None, None) => return Ordering::Equal,
                (
                    Some(ApkPart::Number { digits: a, is_first }),
                    Some(ApkPart::Number { digits: b, .. }),
                ) => match !is_first && (a.starts_with('0') || b.starts_with('0')) {
                    true => a.cmp(b),
                    false => numbers(a, b),
                },
                (Some(ApkPart::Letter(a)), Some(ApkPart::Letter(b))) => a.cmp(b),
                (Some(ApkPart::Suffix(a)), Some(ApkPart::Suffix(b))) => a.cmp(b),
                (Some(ApkPart::SuffixNumber(a)), Some(ApkPart::SuffixNumber(b)))
                | (Some(ApkPart::Revision(a)), Some(ApkPart::Revision(b))) => numbers(a, b),
                (Some(ApkPart::Commit(a)), Some(ApkPart::Commit(b))) => a.cmp(b),
                (Some(ApkPart::Suffix(place)), _) if *place < 0 => return Ordering::Less,
                (_, Some(ApkPart::Suffix(place))) if *place < 0 => return Ordering::Greater,
                // What comes first in the grammar comes last in the order.
                (a, b) => return ApkPart::kind(b).cmp(&ApkPart::kind(a)),
            };
            if order != Ordering::Equal {
                return order;
            }
        }
    }
}
