//! Semantic Versioning 2.0.0, as npm, Go and Cargo read it. Build metadata makes no difference.

use std::cmp::Ordering;

use super::{digits, is_number, numbers};

#[derive(Debug, Clone)]
pub(super) struct SemanticVersion {
    numbers: [String; 3],
    /// Empty: it is a release.
    pre: Vec<String>,
}

/// `MAJOR.MINOR.PATCH[-PRE][+BUILD]`, as the standard has it.
pub(super) fn strict(text: &str) -> Option<SemanticVersion> {
    read(text, 3)
}

/// The same with a leading `v`; larger numbers than its language has are refused.
pub(super) fn npm(text: &str) -> Option<SemanticVersion> {
    const LARGEST: &str = "9007199254740991";
    let text = text.trim();
    let found = read(text.strip_prefix('v').unwrap_or(text), 3)?;
    let fits = |number: &String| numbers(number, LARGEST) != Ordering::Greater;
    (found.numbers.iter().all(fits)).then_some(found)
}

/// With or without the `v`; what is left out at the end is 0, and has no pre-release then.
pub(super) fn go(text: &str) -> Option<SemanticVersion> {
    read(text.strip_prefix('v').unwrap_or(text), 1)
}

fn read(text: &str, least: usize) -> Option<SemanticVersion> {
    let (text, build) = match text.split_once('+') {
        Some((text, build)) => (text, Some(build)),
        None => (text, None),
    };
    if build.is_some_and(|build| !build.split('.').all(is_identifier)) {
        return None;
    }
    let (core, pre) = match text.split_once('-') {
        Some((core, pre)) => (core, Some(pre)),
        None => (text, None),
    };
    let mut found: Vec<String> = Vec::new();
    for number in core.split('.') {
        let (number, rest) = digits(number);
        let is_plain = is_number(number) && (number == "0" || !number.starts_with('0'));
        if !is_plain || !rest.is_empty() || found.len() == 3 {
            return None;
        }
        found.push(number.to_owned());
    }
    if found.len() < least || (found.len() < 3 && (pre.is_some() || build.is_some())) {
        return None;
    }
    found.resize(3, "0".to_owned());
    let pre = match pre {
        None => Vec::new(),
        Some(pre) => {
            let all: Vec<String> = pre.split('.').map(str::to_owned).collect();
            let fits = |one: &String| {
                is_identifier(one) && !(is_number(one) && one.len() > 1 && one.starts_with('0'))
            };
            if !all.iter().all(fits) {
                return None;
            }
            all
        }
    };
    Some(SemanticVersion { numbers: found.try_into().ok()?, pre })
}

fn is_identifier(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
}

impl SemanticVersion {
    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        let cores = self.numbers.iter().zip(&other.numbers);
        let cores = cores.fold(Ordering::Equal, |order, (a, b)| order.then_with(|| numbers(a, b)));
        let pre = || match (self.pre.is_empty(), other.pre.is_empty()) {
            (true, true) => Ordering::Equal,
            (true, false) => Ordering::Greater,
            (false, true) => Ordering::Less,
            (false, false) => {
                let both = self.pre.iter().zip(&other.pre);
                both.fold(Ordering::Equal, |order, (a, b)| order.then_with(|| identifiers(a, b)))
                    .then_with(|| self.pre.len().cmp(&other.pre.len()))
            }
        };
        cores.then_with(pre)
    }
}

fn identifiers(a: &str, b: &str) -> Ordering {
    match (is_number(a), is_number(b)) {
        (true, true) => numbers(a, b),
        (true, false) => Ordering::Less,
        (false, true) => Ordering::Greater,
        (false, false) => a.cmp(b),
    }
}
