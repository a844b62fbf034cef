//! Versions of Ruby's gems.

use std::cmp::Ordering;

use super::{digits, is_number, numbers};

/// Runs of digits and of letters; zeros at the end of the numbers, and at the end of all, are cut.
#[derive(Debug, Clone)]
pub(super) struct GemVersion(Vec<String>);

impl GemVersion {
    /// `digits(.[0-9a-zA-Z]+)*(-[0-9A-Za-z-]+(.[0-9A-Za-z-]+)*)?`; None: it is something else.
    pub fn read(text: &str) -> Option<Self> {
        let text = text.trim();
        let (main, pre) = match text.split_once('-') {
            Some((main, pre)) => (main, Some(pre)),
            None => (text, None),
        };
        let of = |text: &str, dashes: bool| {
            !text.is_empty()
                && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || (dashes && byte == b'-'))
        };
        let mut parts = main.split('.');
        if !parts.next().is_some_and(is_number)
            || !parts.all(|part| of(part, false))
            || !pre.is_none_or(|pre| pre.split('.').all(|part| of(part, true)))
        {
            return None;
        }
        let mut all = Vec::new();
        let mut rest = &*text.replace('-', ".pre.");
        while let Some(start) = rest.find(|sign: char| sign.is_ascii_alphanumeric()) {
            rest = &rest[start..];
            let (number, after) = digits(rest);
            let (run, after) = match number.is_empty() {
                false => (number, after),
                true => rest.split_at(rest.bytes().take_while(u8::is_ascii_alphabetic).count()),
            };
            all.push(run.to_owned());
            rest = after;
        }
        let words = all.iter().position(|run| !is_number(run)).unwrap_or(all.len());
        let words = all.split_off(words);
        let cut = |mut runs: Vec<String>| {
            while runs.last().is_some_and(|run| run.bytes().all(|digit| digit == b'0')) {
                runs.pop();
            }
            runs
        };
        Some(Self([cut(all), cut(words)].concat()))
    }

    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        for at in 0..self.0.len().max(other.0.len()) {
            let run = |of: &Self| of.0.get(at).cloned().unwrap_or_else(|| "0".to_owned());
            let (a, b) = (run(self), run(other));
            let order = match (is_number(&a), is_number(&b)) {
                (true, true) => numbers(&a, &b),
                (true, false) => Ordering::Greater,
                (false, true) => Ordering::Less,
                (false, false) => a.cmp(&b),
            };
            if order != Ordering::Equal {
                return order;
            }
        }
        Ordering::Equal
    }
}
