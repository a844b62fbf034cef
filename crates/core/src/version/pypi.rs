//! Versions of Python's packages (Python Packaging, "Version specifiers"; PEP 440, appendix B).

use std::cmp::Ordering;

use super::{digits, is_number, numbers};

#[derive(Debug, Clone)]
pub(super) struct PyPiVersion {
    epoch: String,
    /// Without zeros at the end.
    release: Vec<String>,
    /// 0 for an alpha, 1 for a beta, 2 for a candidate, with its number.
    pre: Option<(u8, String)>,
    post: Option<String>,
    dev: Option<String>,
    local: Vec<String>,
}

/// What pre-releases are called; longer words first.
const PRE: [(&str, u8); 8] = [
    ("preview", 2),
    ("alpha", 0),
    ("beta", 1),
    ("pre", 2),
    ("rc", 2),
    ("a", 0),
    ("b", 1),
    ("c", 2),
];

/// A part that a word begins: `[-_.]? WORD [-_.]? digits?`. Gives its number, and what is left.
fn part<'t>(text: &'t str, word: &str) -> Option<(String, &'t str)> {
    let separated = |text: &'t str| text.strip_prefix(['-', '_', '.']).unwrap_or(text);
    let rest = separated(text).strip_prefix(word)?;
    let (number, after) = digits(separated(rest));
    // A separator without a number belongs to what comes next.
    let left = if number.is_empty() { rest } else { after };
    Some((number.to_owned(), left))
}

impl PyPiVersion {
    /// None: it is none of the many spellings.
    pub fn read(text: &str) -> Option<Self> {
        let text = text.trim().to_ascii_lowercase();
        let text = text.strip_prefix('v').unwrap_or(&text);
        let (text, local) = match text.split_once('+') {
            Some((text, local)) => (text, locals(local)?),
            None => (text, Vec::new()),
        };
        let (epoch, mut rest) = match text.split_once('!') {
            Some((epoch, rest)) if is_number(epoch) => (epoch.to_owned(), rest),
            Some(_) => return None,
            None => (String::new(), text),
        };
        let mut release = Vec::new();
        loop {
            let (number, after) = digits(rest);
            if number.is_empty() {
                return None;
            }
            release.push(number.to_owned());
            rest = after;
            match rest
                .strip_prefix('.')
                .filter(|next| next.starts_with(|c: char| c.is_ascii_digit()))
            {
                Some(next) => rest = next,
                None => break,
            }
        }
        while release.last().is_some_and(|last| last.bytes().all(|digit| digit == b'0')) {
            release.pop();
        }
        let mut pre = None;
        for (word, kind) in PRE {
            if let Some((number, left)) = part(rest, word) {
                (pre, rest) = (Some((kind, number)), left);
                break;
            }
        }
        let mut post = None;
        let bare = rest.strip_prefix('-').map(digits).filter(|(number, _)| !number.is_empty());
        if let Some((number, left)) = bare {
            (post, rest) = (Some(number.to_owned()), left);
        } else {
            for word in ["post", "rev", "r"] {
                if let Some((number, left)) = part(rest, word) {
                    (post, rest) = (Some(number), left);
                    break;
                }
            }
        }
        let mut dev = None;
        if let Some((number, left)) = part(rest, "dev") {
            (dev, rest) = (Some(number), left);
        }
        rest.is_empty().then_some(Self { epoch, release, pre, post, dev, local })
    }

    /// Which of two comes first.
    pub fn compare(&self, other: &Self) -> Ordering {
        let releases = || {
            let longest = self.release.len().max(other.release.len());
            let at = |release: &[String], at: usize| release.get(at).cloned().unwrap_or_default();
            (0..longest).fold(Ordering::Equal, |order, one| {
                order.then_with(|| numbers(&at(&self.release, one), &at(&other.release, one)))
            })
        };
        numbers(&self.epoch, &other.epoch)
            .then_with(releases)
            .then_with(|| self.stage().cmp(&other.stage()))
            .then_with(|| match (&self.pre, &other.pre) {
                (Some((_, a)), Some((_, b))) => numbers(a, b),
                _ => Ordering::Equal,
            })
            // A version without a post-release comes before those with one, one without a dev-release behind.
            .then_with(|| with_or_without(self.post.as_ref(), other.post.as_ref(), Ordering::Less))
            .then_with(|| with_or_without(self.dev.as_ref(), other.dev.as_ref(), Ordering::Greater))
            .then_with(|| locals_in_order(&self.local, &other.local))
    }

    /// Where it stands: before all pre-releases, among them, or behind them.
    fn stage(&self) -> u8 {
        match (&self.pre, &self.post, &self.dev) {
            (None, None, Some(_)) => 0,
            (Some((kind, _)), ..) => 1 + kind,
            _ => 4,
        }
    }
}

/// The order of two parts, of which one that is not there stands so to one that is.
fn with_or_without(a: Option<&String>, b: Option<&String>, lacking: Ordering) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) => numbers(a, b),
        (None, None) => Ordering::Equal,
        (None, Some(_)) => lacking,
        (Some(_), None) => lacking.reverse(),
    }
}

/// `[a-z0-9]+([-_.][a-z0-9]+)*`.
fn locals(text: &str) -> Option<Vec<String>> {
    let all: Vec<String> = text.split(['-', '_', '.']).map(str::to_owned).collect();
    let fits = |one: &String| {
        !one.is_empty()
            && one.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit())
    };
    all.iter().all(fits).then_some(all)
}

fn locals_in_order(a: &[String], b: &[String]) -> Ordering {
    let both = a.iter().zip(b);
    both.fold(Ordering::Equal, |order, (a, b)| {
        order.then_with(|| match (is_number(a), is_number(b)) {
            (true, true) => numbers(a, b),
            (true, false) => Ordering::Greater,
            (false, true) => Ordering::Less,
            (false, false) => a.cmp(b),
        })
    })
    .then_with(|| a.len().cmp(&b.len()))
}
