//! References that are put together from variables: `${REGISTRY:-bazaar.example}/library/kettle:$TAG`.

use std::ops::Range;

use super::slot::{Hold, Slot};

/// A text with its variables filled in.
#[derive(Debug)]
pub(super) struct FilledText {
    /// The reference; without its tag where only that is open.
    pub text: String,
    /// A variable that nobody gives a value decides the tag.
    pub tag_elsewhere: bool,
    /// One decides the name: nothing can be said.
    pub open: bool,
    /// There is no variable in it.
    pub literal: bool,
    /// The variables that are in it, those of defaults that are used too.
    pub names: Vec<String>,
    /// The whole text with its defaults; [`OPEN`] stands for what nobody gives.
    full: String,
    /// Which bytes of `full` are which bytes of the file.
    segments: Vec<Segment>,
}

#[derive(Debug)]
struct Segment {
    here: Range<usize>,
    /// None: they stand nowhere in the file as they are.
    from: Option<Range<usize>>,
}

/// The value of a variable, and the bytes of the file that say exactly this. None: it is made of other variables, or
/// stands in another file.
pub(super) type KnownValue = (String, Option<Range<usize>>);

/// Bytes of a filled text at most: no reference is longer, and variables of variables grow without end.
const LONGEST: usize = 1024;

/// How deep defaults may stand in defaults.
const DEPTH: usize = 8;

/// Stands where a variable has no value.
const OPEN: char = '\u{1}';
/// The value of a variable that has one which cannot be told.
pub(super) const UNKNOWN: &str = "\u{1}";

/// Fills in the variables of a text whose first byte is at `start`. Braces may give a default (`${X:-value}`,
/// `${X-value}`), another value (`${X:+value}`, `${X+value}`) or an error (`${X:?text}`); a default goes after what
/// is `known`. What else braces can do is not followed: such a text is open.
pub(super) fn fill(
    text: &str,
    start: usize,
    known: &dyn Fn(&str) -> Option<KnownValue>,
) -> FilledText {
    let mut filled = FilledText {
        text: String::new(),
        tag_elsewhere: false,
        open: false,
        literal: true,
        names: Vec::new(),
        full: String::new(),
        segments: Vec::new(),
    };
    filled.take(text, start, known, 0);
    let end = filled.name_end();
    filled.open = filled.full[..end].contains(OPEN);
    filled.tag_elsewhere = !filled.open && filled.full[end..].contains(OPEN);
    filled.text = match (filled.open, filled.tag_elsewhere) {
        (true, _) => text.to_owned(),
        (false, true) => filled.full[..end].to_owned(),
        (false, false) => filled.full.clone(),
    };
    filled
}

/// What stands after a `$`.
struct Variable<'t> {
    name: &'t str,
    /// What follows the name in braces, and the bytes of the text that it is about.
    rule: VariableRule,
    inside: Range<usize>,
    /// How many bytes all of it takes.
    length: usize,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum VariableRule {
    /// Nothing: the value.
    Value,
    /// `-`, and with a colon also where the value is empty.
    Default {
        empty_too: bool,
    },
    /// `+`, and with a colon only where the value is not empty.
    Other {
        unless_empty: bool,
    },
    /// `?`: an error where there is none.
    Required,
    Unknown,
}

fn variable(after: &str) -> Variable<'_> {
    let word = |text: &str| {
        text.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(text.len())
    };
    let Some(inner) = after.strip_prefix('{') else {
        let end = word(after);
        // `$$` is a dollar and no variable; no reference has one.
        let length = end.max(usize::from(after.starts_with('$')));
        return Variable { name: &after[..end], rule: VariableRule::Value, inside: 0..0, length };
    };
    let name = &inner[..word(inner)];
    let mut depth = 1;
    let close = inner.char_indices().find(|(_, c)| {
        depth += match c {
            '{' => 1,
            '}' => -1,
            _ => 0,
        };
        depth == 0
    });
    let Some((close, _)) = close else {
        return Variable {
            name: "",
            rule: VariableRule::Unknown,
            inside: 0..0,
            length: after.len(),
        };
    };
    let rest = &inner[name.len()..close];
    let colon = rest.starts_with(':');
    let sign = rest.trim_start_matches(':');
    let rule = match (rest, sign.chars().next()) {
        ("", _) => VariableRule::Value,
        (_, Some('-')) => VariableRule::Default { empty_too: colon },
        (_, Some('+')) => VariableRule::Other { unless_empty: colon },
        (_, Some('?')) => VariableRule::Required,
        _ => VariableRule::Unknown,
    };
    let rule = if rest.starts_with("::") { VariableRule::Unknown } else { rule };
    let from = 1 + name.len() + usize::from(colon) + 1;
    Variable { name, rule, inside: from.min(1 + close)..1 + close, length: close + 2 }
}

impl FilledText {
    fn take(
        &mut self,
        text: &str,
        start: usize,
        known: &dyn Fn(&str) -> Option<KnownValue>,
        depth: usize,
    ) {
        let mut at = 0;
        while let Some(found) = text[at..].find('$') {
            let dollar = at + found;
            self.add(&text[at..dollar], Some(start + at..start + dollar));
            self.literal = false;
            let after = &text[dollar + 1..];
            let Variable { name, rule, inside, length } = variable(after);
            at = dollar + 1 + length;
            if name.is_empty() || depth > DEPTH {
                self.full.push(OPEN);
                continue;
            }
            self.names.push(name.to_owned());
            let value = known(name);
            if value.as_ref().is_some_and(|(value, _)| value.contains(OPEN)) {
                self.full.push(OPEN);
                continue;
            }
            let from = start + dollar + 1 + inside.start;
            let inside = &after[inside];
            match (rule, value) {
                (VariableRule::Unknown, _) => self.full.push(OPEN),
                (VariableRule::Default { empty_too: true }, Some((value, _)))
                    if value.is_empty() =>
                {
                    self.take(inside, from, known, depth + 1);
                }
                (VariableRule::Other { unless_empty }, Some((value, _))) => {
                    if !(unless_empty && value.is_empty()) {
                        self.take(inside, from, known, depth + 1);
                    }
                }
                (_, Some((value, from))) => self.add(&value, from),
                (VariableRule::Default { .. }, None) => self.take(inside, from, known, depth + 1),
                (_, None) => self.full.push(OPEN),
            }
        }
        self.add(&text[at..], Some(start + at..start + text.len()));
    }

    fn add(&mut self, text: &str, from: Option<Range<usize>>) {
        if self.full.len() + text.len() > LONGEST {
            // What is longer is no reference; nothing is said of it.
            self.full.clear();
            self.segments.clear();
            self.full.push(OPEN);
        } else if !text.is_empty() {
            let here = self.full.len()..self.full.len() + text.len();
            self.segments.push(Segment { here, from });
            self.full.push_str(text);
        }
    }

    /// Where registry and repository end.
    fn name_end(&self) -> usize {
        let last = self.full.rfind('/').map_or(0, |slash| slash + 1);
        self.full[last..].find([':', '@']).map_or(self.full.len(), |at| last + at)
    }

    /// Where bytes of the filled text come from, if from one piece.
    fn source(&self, wanted: &Range<usize>) -> Option<Range<usize>> {
        let segment = self
            .segments
            .iter()
            .find(|one| one.here.start <= wanted.start && wanted.end <= one.here.end)?;
        let start = segment.from.as_ref()?.start + (wanted.start - segment.here.start);
        Some(start..start + wanted.len())
    }

    /// The bytes to change for another reference. `slot` gives those of a piece of the source.
    pub fn hold(&self, slot: &dyn Fn(Range<usize>) -> Option<Slot>) -> Result<Hold, &'static str> {
        const MADE_UP: &str = "it is put together from variables";
        if self.open {
            return Err("a variable without a default decides what it is");
        }
        let of = |range: Range<usize>| self.source(&range).and_then(slot);
        if let Some(slot) = of(0..self.full.len()) {
            return Ok(Hold::Whole(slot));
        }
        let end = self.name_end();
        if let Some(slot) = of(0..end) {
            return Ok(Hold::Name(slot));
        }
        let host = self.full[..end].find('/').ok_or(MADE_UP)?;
        // Without a registry in front the first part belongs to the name.
        if !names_host(&self.full[..host]) {
            return Err(MADE_UP);
        }
        let registry = of(0..host).ok_or(MADE_UP)?;
        let name = of(host + 1..end).ok_or(MADE_UP)?;
        Ok(Hold::Parts { registry: Some(registry), name, digest: None, above: false })
    }
}

fn names_host(part: &str) -> bool {
    part.contains(['.', ':', '[']) || part == "localhost"
}
