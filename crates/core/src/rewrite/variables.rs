//! References that are put together from variables: `${REGISTRY:-bazaar.example}/library/kettle:$TAG`.

use std::ops::Range;

use super::slot::{Hold, Slot};

/// A text with its variables filled in.
#[derive(Debug)]
pub(super) struct Filled {
    /// The reference; without its tag where only that is open.
    pub text: String,
    /// A variable that nobody gives a value decides the tag.
    pub tag_elsewhere: bool,
    /// One decides the name: nothing can be said.
    pub open: bool,
    /// There are no variables in it.
    pub literal: bool,
    full: String,
    segments: Vec<Segment>,
}

/// A piece of the filled text.
#[derive(Debug)]
struct Segment {
    /// Its bytes in the filled text.
    here: Range<usize>,
    /// The bytes of the file that say exactly this. None: no such bytes exist, so it cannot be edited.
    from: Option<Range<usize>>,
}

/// The value of a variable, and the bytes of the file that say exactly this. None: it is made of other variables.
pub(super) type Known = (String, Option<Range<usize>>);

/// Bytes of a filled text at most: no reference is longer, and variables of variables grow without end.
const LONGEST: usize = 1024;

/// Stands where a variable has no value.
const OPEN: char = '\u{1}';

/// Fills in the variables of a text whose first byte is at `start`. Braces may give a default
/// (`${X:-value}`, `${X-value}`); a default goes after what is `known`.
pub(super) fn fill(text: &str, start: usize, known: &dyn Fn(&str) -> Option<Known>) -> Filled {
    let mut filled = Filled {
        text: String::new(),
        tag_elsewhere: false,
        open: false,
        literal: true,
        full: String::new(),
        segments: Vec::new(),
    };
    let mut at = 0;
    while let Some(found) = text[at..].find('$') {
        let dollar = at + found;
        filled.add(&text[at..dollar], Some(start + at..start + dollar));
        filled.literal = false;
        let after = &text[dollar + 1..];
        let (name, otherwise, length) = variable(after);
        at = dollar + 1 + length;
        if name.is_empty() {
            filled.full.push(OPEN);
        } else if let Some((value, from)) = known(name) {
            filled.add(&value, from);
        } else if let Some(inside) = otherwise {
            let from = start + dollar + 1 + inside.start..start + dollar + 1 + inside.end;
            filled.add(&after[inside], Some(from));
        } else {
            filled.full.push(OPEN);
        }
    }
    filled.add(&text[at..], Some(start + at..start + text.len()));
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

/// The name after a `$`, the bytes of its default, and how many bytes all of it takes.
fn variable(after: &str) -> (&str, Option<Range<usize>>, usize) {
    let word = |text: &str| {
        text.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(text.len())
    };
    let Some(inner) = after.strip_prefix('{') else {
        let end = word(after);
        // `$$` is a dollar and no variable; no reference has one.
        return (&after[..end], None, end.max(usize::from(after.starts_with('$'))));
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
    let Some((close, _)) = close else { return ("", None, after.len()) };
    let rest = &inner[name.len()..close];
    let sign = [":-", "-"].into_iter().find(|sign| rest.starts_with(sign));
    let default = sign.map(|sign| 1 + name.len() + sign.len()..1 + close);
    // A default that is made of variables itself is for the one who fills it.
    let default = default.filter(|inside| !after[inside.clone()].contains('$'));
    (name, default, close + 2)
}

impl Filled {
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
        let registry = of(0..host).ok_or(MADE_UP)?;
        let name = of(host + 1..end).ok_or(MADE_UP)?;
        Ok(Hold::Parts { registry: Some(registry), name, digest: None })
    }
}
