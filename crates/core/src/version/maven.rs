//! Versions of Maven's artifacts, as its `ComparableVersion` has them: every text is one.

use std::cmp::Ordering;

use super::{is_number, numbers};

#[derive(Debug, Clone)]
pub(super) struct MavenVersion(Vec<MavenItem>);

#[derive(Debug, Clone)]
enum MavenItem {
    Number(String),
    Word(String),
    List(Vec<MavenItem>),
}

/// Words that are known, in their order; a release has none of them, and stands where the empty one does.
const WORDS: [&str; 7] = ["alpha", "beta", "milestone", "rc", "snapshot", "", "sp"];
const RELEASE: usize = 5;

/// The lists of a version on their way, the innermost last.
struct OpenLists(Vec<Vec<MavenItem>>);

impl OpenLists {
    fn add(&mut self, item: MavenItem) {
        if let Some(list) = self.0.last_mut() {
            list.push(item);
        }
    }

    fn open(&mut self) {
        self.0.push(Vec::new());
    }

    fn is_empty(&self) -> bool {
        self.0.last().is_none_or(Vec::is_empty)
    }

    /// Closes all, from the innermost on; what says nothing at a list's end goes.
    fn close(mut self) -> Vec<MavenItem> {
        let mut inner = None;
        while let Some(mut list) = self.0.pop() {
            list.extend(inner.take().map(MavenItem::List));
            normalize(&mut list);
            inner = Some(list);
        }
        inner.unwrap_or_default()
    }
}

fn normalize(list: &mut Vec<MavenItem>) {
    for at in (0..list.len()).rev() {
        if list[at].is_nothing() {
            list.remove(at);
        } else if !matches!(list[at], MavenItem::List(_)) {
            break;
        }
    }
}

impl MavenVersion {
    /// Every text is one.
    pub fn read(text: &str) -> Self {
        let text = text.to_lowercase();
        let mut lists = OpenLists(vec![Vec::new()]);
        let (mut start, mut in_digits) = (0, false);
        for (at, sign) in text.char_indices() {
            let part = &text[start..at];
            match sign {
                '.' | '-' => {
                    lists.add(item(in_digits, part));
                    start = at + 1;
                    if sign == '-' {
                        lists.open();
                    }
                }
                _ if sign.is_ascii_digit() => {
                    if !in_digits && !part.is_empty() {
                        // `.X` of letters counts as `-X`.
                        if !lists.is_empty() {
                            lists.open();
                        }
                        lists.add(MavenItem::Word(word(part, true)));
                        start = at;
                        lists.open();
                    }
                    in_digits = true;
                }
                _ => {
                    if in_digits && !part.is_empty() {
                        lists.add(item(true, part));
                        start = at;
                        lists.open();
                    }
                    in_digits = false;
                }
            }
        }
        if text.len() > start {
            if !in_digits && !lists.is_empty() {
                lists.open();
            }
            lists.add(item(in_digits, &text[start..]));
        }
        Self(lists.close())
    }

    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        lists(&self.0, &other.0)
    }
}

fn item(in_digits: bool, text: &str) -> MavenItem {
    match text.is_empty() || (in_digits && is_number(text)) {
        true => MavenItem::Number(text.to_owned()),
        false => MavenItem::Word(word(text, false)),
    }
}

/// A word as it is compared: short for others, or another name of one.
fn word(text: &str, before_digits: bool) -> String {
    match (text, before_digits) {
        ("a", true) => "alpha",
        ("b", true) => "beta",
        ("m", true) => "milestone",
        ("ga" | "final" | "release", _) => "",
        ("cr", _) => "rc",
        (other, _) => other,
    }
    .to_owned()
}

/// Where a word stands: those that are not known come last, by their letters.
fn place(word: &str) -> (usize, &str) {
    match WORDS.iter().position(|known| *known == word) {
        Some(place) => (place, ""),
        None => (WORDS.len(), word),
    }
}

impl MavenItem {
    /// Whether it makes no difference at the end.
    fn is_nothing(&self) -> bool {
        match self {
            Self::Number(digits) => digits.bytes().all(|digit| digit == b'0'),
            Self::Word(word) => word.is_empty(),
            Self::List(list) => list.is_empty(),
        }
    }

    /// Its order against there being nothing.
    fn against_nothing(&self) -> Ordering {
        match self {
            Self::Number(_) if self.is_nothing() => Ordering::Equal,
            Self::Number(_) => Ordering::Greater,
            Self::Word(word) => place(word).cmp(&(RELEASE, "")),
            Self::List(list) => list
                .iter()
                .map(Self::against_nothing)
                .find(|order| *order != Ordering::Equal)
                .unwrap_or(Ordering::Equal),
        }
    }

    fn compare(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Self::Number(a), Self::Number(b)) => numbers(a, b),
            (Self::Word(a), Self::Word(b)) => place(a).cmp(&place(b)),
            (Self::List(a), Self::List(b)) => lists(a, b),
            // A word comes before a list, and a list before a number.
            (Self::Number(_), _) | (Self::List(_), Self::Word(_)) => Ordering::Greater,
            (Self::Word(_), _) | (Self::List(_), Self::Number(_)) => Ordering::Less,
        }
    }
}

fn lists(a: &[MavenItem], b: &[MavenItem]) -> Ordering {
    for at in 0..a.len().max(b.len()) {
        let order = match (a.get(at), b.get(at)) {
            (Some(a), Some(b)) => a.compare(b),
            (Some(a), None) => a.against_nothing(),
            (None, Some(b)) => b.against_nothing().reverse(),
            (None, None) => Ordering::Equal,
        };
        if order != Ordering::Equal {
            return order;
        }
    }
    Ordering::Equal
}
