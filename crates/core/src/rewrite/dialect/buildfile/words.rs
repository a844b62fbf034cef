//! The instructions of a build file as their words: lines that go on are joined, comments and here-documents left out.

use std::borrow::Cow;
use std::ops::Range;

/// Here-documents without an end that are looked for.
const ENDLESS: usize = 64;

/// A word of an instruction, and where it begins.
#[derive(Debug, Clone)]
pub(super) struct BuildWord<'t> {
    pub text: Cow<'t, str>,
    /// None: it is written over several lines, and stands in no one place.
    pub at: Option<usize>,
    /// Where it is told.
    pub shown: usize,
}

impl BuildWord<'_> {
    /// A part of the word.
    pub fn part(&self, range: Range<usize>) -> Self {
        let text = match &self.text {
            Cow::Borrowed(text) => Cow::Borrowed(&text[range.clone()]),
            Cow::Owned(text) => Cow::Owned(text[range.clone()].to_owned()),
        };
        let at = self.at.map(|at| at + range.start);
        BuildWord { text, at, shown: at.unwrap_or(self.shown) }
    }

    /// The rest of the word from a byte on.
    pub fn from(&self, start: usize) -> Self {
        self.part(start..self.text.len())
    }

    /// Without the quotes around it, and what they say of variables.
    pub fn bare(&self) -> (Self, Quotes) {
        let quoted = |quote: char| {
            self.text.len() >= 2 && self.text.starts_with(quote) && self.text.ends_with(quote)
        };
        let quotes = if quoted('"') {
            Quotes::Double
        } else if quoted('\'') {
            Quotes::Single
        } else {
            return (self.clone(), Quotes::None);
        };
        (self.part(1..self.text.len() - 1), quotes)
    }

    /// The word without a prefix. None: it does not begin so.
    pub fn strip(&self, prefix: &str) -> Option<Self> {
        self.text.strip_prefix(prefix).map(|_| self.from(prefix.len()))
    }

    /// Whether it is this word, in any case of letters.
    pub fn is(&self, word: &str) -> bool {
        self.text.eq_ignore_ascii_case(word)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Quotes {
    None,
    Double,
    /// Variables are no variables in them.
    Single,
}

/// A text whose quotes or escapes stand in its middle is read by the builder's own rules, which are not followed.
pub(super) fn is_simple(text: &str) -> bool {
    !text.contains(['"', '\'', '\\', '`'])
}

/// One logical line: what continued lines make together, and which bytes of the file each part of it is.
#[derive(Default)]
struct Logical {
    text: String,
    /// Where a piece begins in the text, and in the file.
    pieces: Vec<(usize, usize)>,
}

impl Logical {
    fn add(&mut self, text: &str, at: usize) {
        if !text.is_empty() {
            self.pieces.push((self.text.len(), at));
            self.text.push_str(text);
        }
    }

    /// The words, with their places.
    fn words<'t>(&self, file: &'t str) -> Vec<BuildWord<'t>> {
        let mut words = Vec::new();
        for word in self.text.split_ascii_whitespace() {
            let start = word.as_ptr() as usize - self.text.as_ptr() as usize;
            let number = self.pieces.partition_point(|(here, _)| *here <= start).saturating_sub(1);
            let Some((here, at)) = self.pieces.get(number) else { continue };
            let at = at + (start - here);
            let whole = file.get(at..at + word.len()).filter(|raw| *raw == word);
            let one_piece =
                self.pieces.get(number + 1).is_none_or(|(next, _)| *next >= start + word.len());
            words.push(match whole.filter(|_| one_piece) {
                Some(raw) => BuildWord { text: Cow::Borrowed(raw), at: Some(at), shown: at },
                None => BuildWord { text: Cow::Owned(word.to_owned()), at: None, shown: at },
            });
        }
        words
    }
}

/// The instructions as their words; continued lines are joined, comments and what is read by
/// others (here-documents) left out.
pub(super) fn instructions(text: &str, escape: char) -> Vec<Vec<BuildWord<'_>>> {
    let mut all: Vec<Vec<BuildWord<'_>>> = Vec::new();
    let mut open: Option<Logical> = None;
    let mut start = usize::from(text.starts_with('\u{feff}')) * 3;
    // Each that nothing ends is looked for to the end of the file.
    let mut endless = 0;
    while start < text.len() {
        let line = text[start..].split_inclusive('\n').next().unwrap_or_default();
        let at = start;
        start += line.len();
        let body = line.trim_end_matches(['\n', '\r']);
        let bare = body.trim();
        if bare.starts_with('#') || (open.is_some() && bare.is_empty()) {
            continue;
        }
        let mut logical = open.take().unwrap_or_default();
        // Blanks may follow the sign that continues a line.
        let ended = body.trim_end();
        let (part, continued) = match ended.strip_suffix(escape) {
            Some(part) => (part, true),
            None => (ended, false),
        };
        logical.add(part, at);
        if continued && start < text.len() {
            open = Some(logical);
            continue;
        }
        let words = logical.words(text);
        if words.first().is_some_and(|word| reads_more(&word.text)) {
            for (end, tabs) in here_documents(&logical.text) {
                // What nothing ends is none: it would hide all that follows.
                if endless > ENDLESS {
                    break;
                }
                match after_document(text, start, &end, tabs) {
                    Some(after) => start = after,
                    None => endless += 1,
                }
            }
        }
        if !words.is_empty() {
            all.push(words);
        }
    }
    if let Some(logical) = open {
        all.push(logical.words(text));
    }
    all
}

fn reads_more(instruction: &str) -> bool {
    ["RUN", "COPY", "ADD", "ONBUILD"].iter().any(|word| instruction.eq_ignore_ascii_case(word))
}

/// Where the text goes on behind a here-document that begins at a byte. None: nothing ends it.
fn after_document(text: &str, start: usize, end: &str, tabs: bool) -> Option<usize> {
    let mut at = start;
    for line in text[start..].split_inclusive('\n') {
        at += line.len();
        let body = line.trim_end_matches(['\n', '\r']);
        let bare = if tabs { body.trim_start_matches('\t') } else { body };
        if bare == end {
            return Some(at);
        }
    }
    None
}

/// What ends the here-documents that a line begins (`<<EOF`, `<<-"EOF"`, `3<<EOF`), and whether tabs may stand before
/// it. Each begins a word of the shell: in quotes, and within a word, it is a shift or a text.
fn here_documents(line: &str) -> Vec<(String, bool)> {
    let mut all = Vec::new();
    let mut quote: Option<char> = None;
    let mut word = String::new();
    let mut begun_bare = true;
    let mut finish = |word: &mut String, begun_bare: &mut bool| {
        if *begun_bare {
            all.extend(here_document(word));
        }
        word.clear();
        *begun_bare = true;
    };
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (None, ' ' | '\t') => finish(&mut word, &mut begun_bare),
            (None, '"' | '\'') => {
                // Quotes may stand around the word that ends it, and not before its sign.
                begun_bare &= word.contains("<<");
                quote = Some(c);
            }
            (Some(open), _) if c == open => quote = None,
            (None, '\\') => {
                word.push(c);
                word.extend(chars.next());
            }
            _ => word.push(c),
        }
    }
    finish(&mut word, &mut begun_bare);
    all
}

fn here_document(word: &str) -> Option<(String, bool)> {
    let rest = word.trim_start_matches(|c: char| c.is_ascii_digit()).strip_prefix("<<")?;
    let (rest, tabs) = match rest.strip_prefix('-') {
        Some(rest) => (rest, true),
        None => (rest, false),
    };
    (!rest.is_empty() && !rest.contains('<')).then(|| (rest.to_owned(), tabs))
}
