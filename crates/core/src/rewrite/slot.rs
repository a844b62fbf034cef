//! The bytes that hold a reference or a part of one.

use std::collections::HashMap;
use std::ops::Range;

use larder_yaml::ScalarStyle;

use super::dialect::strings;
use larder_yaml::decode;
use larder_yaml::{NodeId, NodeKind, Tree};

/// The bytes of a reference: what can be replaced to change it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hold {
    /// All of it stands in one piece.
    Whole(Slot),
    /// Registry and repository stand in one piece; what follows them is written elsewhere, or made
    /// of variables, and stays.
    Name(Slot),
    /// Its parts stand apart.
    Parts {
        /// The registry. None: it stands before the repository.
        registry: Option<Slot>,
        name: Slot,
        /// The digest. None: there is no place for one.
        digest: Option<Slot>,
        /// The registry stands in the file of a chart above, and what it becomes is settled there.
        above: bool,
    },
    /// An overlay's entry: for images of this name, another.
    Overlay {
        /// The name of the images that it is about.
        of: Slot,
        /// The name that they get. None: there is no such key yet.
        to: Option<Slot>,
        /// The digest. None: there is no place for one.
        digest: Option<Slot>,
    },
}

impl Hold {
    /// All slots of it.
    pub(super) fn slots(&self) -> impl Iterator<Item = &Slot> {
        let all = match self {
            Self::Whole(slot) | Self::Name(slot) => [Some(slot), None, None],
            Self::Parts { registry, name, digest, .. } => {
                [registry.as_ref(), Some(name), digest.as_ref()]
            }
            Self::Overlay { of, to, digest } => [Some(of), to.as_ref(), digest.as_ref()],
        };
        all.into_iter().flatten()
    }

    /// The slot that holds all of it.
    pub(super) fn only(&self) -> Option<&Slot> {
        match self {
            Self::Whole(slot) => Some(slot),
            _ => None,
        }
    }
}

/// Bytes of a file that can be replaced.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slot {
    pub(super) span: Range<usize>,
    pub(super) form: SlotForm,
    /// What stands there now, decoded.
    pub(super) text: String,
    /// The part of the file and the node in it. None: the file is no tree.
    pub(super) node: Option<(usize, NodeId)>,
    /// Which bytes of the node's value it is. None: all of them.
    pub(super) piece: Option<Range<usize>>,
}

impl Slot {
    /// Bytes of a file that is no tree.
    pub(super) fn bare(span: Range<usize>, text: &str) -> Self {
        Self { span, form: SlotForm::Bare, text: text.to_owned(), node: None, piece: None }
    }
}

/// How a text is written there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SlotForm {
    Plain,
    SingleQuoted,
    DoubleQuoted,
    /// The one line of a block scalar, a piece of a longer text, or of a file that has no quotes.
    Bare,
    /// A `*alias` that a literal takes the place of.
    Alias,
}

impl SlotForm {
    /// A text in this form.
    pub(super) fn write(self, text: &str) -> String {
        // An IPv6 host in brackets would be a list to YAML, and nothing would be null.
        let needs_quotes = text.is_empty() || text.contains(['[', ']']);
        match self {
            Self::SingleQuoted => format!("'{text}'"),
            Self::DoubleQuoted => format!("\"{text}\""),
            Self::Plain | Self::Alias if needs_quotes => format!("\"{text}\""),
            Self::Plain | Self::Alias | Self::Bare => text.to_owned(),
        }
    }
}

/// A node of one part of the file.
#[derive(Clone, Copy)]
pub(super) struct SlotPlace<'a, 't> {
    pub tree: &'a Tree<'t>,
    /// The part's number, and where it begins in the file.
    pub part: usize,
    pub start: usize,
}

impl SlotPlace<'_, '_> {
    /// The bytes that can be replaced, if their meaning is beyond doubt: the slice, decoded on its
    /// own, must give the value that the parser reported.
    pub(super) fn slot(&self, id: NodeId) -> Result<Slot, &'static str> {
        let node = &self.tree.nodes[id];
        let slice = self.tree.text.get(node.span()).ok_or(UNCERTAIN)?;
        let text = &*node.value;
        let slot = |span: Range<usize>, form, text: &str| Slot {
            span: span.start + self.start..span.end + self.start,
            form,
            text: text.to_owned(),
            node: Some((self.part, id)),
            piece: None,
        };
        let (form, fits) = match node.kind {
            NodeKind::Alias => {
                let target = &self.tree.nodes[self.tree.resolve(id)];
                return Ok(slot(node.span(), SlotForm::Alias, &target.value));
            }
            NodeKind::Scalar(ScalarStyle::Plain) => (SlotForm::Plain, slice == text),
            NodeKind::Scalar(ScalarStyle::SingleQuoted) => {
                (SlotForm::SingleQuoted, unquoted(slice, '\'', text))
            }
            NodeKind::Scalar(ScalarStyle::DoubleQuoted) => {
                (SlotForm::DoubleQuoted, unquoted(slice, '"', text))
            }
            NodeKind::Scalar(ScalarStyle::Literal | ScalarStyle::Folded) => {
                const BLANKS: [char; 4] = [' ', '\t', '\r', '\n'];
                let line = slice.trim_matches(BLANKS);
                if line != text.trim_end_matches('\n') || line.contains(['\n', '\r']) {
                    return Err(SEVERAL_LINES);
                }
                let start =
                    node.span().start + slice.len() - slice.trim_start_matches(BLANKS).len();
                return Ok(slot(start..start + line.len(), SlotForm::Bare, line));
            }
            NodeKind::Sequence | NodeKind::Mapping => return Err("it is no text"),
        };
        if slice.contains(['\n', '\r']) {
            return Err(SEVERAL_LINES);
        }
        if fits { Ok(slot(node.span(), form, text)) } else { Err(UNCERTAIN) }
    }

    /// A word of a scalar: the bytes `span` of the tree's text, which must stand in the value as they stand in
    /// the text.
    pub(super) fn word(
        &self,
        id: NodeId,
        span: Range<usize>,
        words: &Words<'_>,
    ) -> Result<Slot, &'static str> {
        let word = self.tree.text.get(span.clone()).ok_or(UNCERTAIN)?;
        // The same word as often before it in the value as in the text, and as often at all.
        let (raw, value) = (words.raw.get(word), words.value.get(word));
        let (raw, value) =
            raw.zip(value).filter(|(raw, value)| raw.len() == value.len()).ok_or(UNCERTAIN)?;
        let number = raw.binary_search(&span.start).map_err(|_| UNCERTAIN)?;
        let at = *value.get(number).ok_or(UNCERTAIN)?;
        Ok(self.slot_of_piece(id, span, word, at))
    }

    fn slot_of_piece(&self, id: NodeId, span: Range<usize>, piece: &str, at: usize) -> Slot {
        Slot {
            span: span.start + self.start..span.end + self.start,
            form: SlotForm::Bare,
            text: piece.to_owned(),
            node: Some((self.part, id)),
            piece: Some(at..at + piece.len()),
        }
    }

    /// A piece of a scalar: the bytes `span` of the tree's text, which must stand in the value as they
    /// stand in the text.
    pub(super) fn piece(&self, id: NodeId, span: Range<usize>) -> Result<Slot, &'static str> {
        let node = &self.tree.nodes[id];
        let raw = self.tree.text.get(node.span()).ok_or(UNCERTAIN)?;
        let piece = self.tree.text.get(span.clone()).ok_or(UNCERTAIN)?;
        let ahead = self.tree.text.get(node.span().start..span.start).ok_or(UNCERTAIN)?;
        // The same piece as often before it in the value as in the text, and as often at all.
        let number = ahead.matches(piece).count();
        let same = raw.matches(piece).count() == node.value.matches(piece).count();
        let at = node.value.match_indices(piece).nth(number).filter(|_| same);
        let (at, _) = at.ok_or(UNCERTAIN)?;
        Ok(self.slot_of_piece(id, span, piece, at))
    }
}

/// Where the words of one text stand that could be references: in the bytes of the file, and in what they say.
/// Counted once for all of a text's references, since there may be thousands.
pub(super) struct Words<'t> {
    /// By the word, where it begins in the tree's text.
    raw: HashMap<&'t str, Vec<usize>>,
    /// By the word, where it begins in the value.
    value: HashMap<&'t str, Vec<usize>>,
}

impl<'t> Words<'t> {
    pub(super) fn of(at: &SlotPlace<'t, 't>, id: NodeId) -> Self {
        let node = &at.tree.nodes[id];
        let span = node.span();
        let raw = at.tree.text.get(span.clone()).unwrap_or_default();
        Self { raw: by_word(raw, span.start), value: by_word(&node.value, 0) }
    }
}

fn by_word(text: &str, start: usize) -> HashMap<&str, Vec<usize>> {
    let mut found: HashMap<&str, Vec<usize>> = HashMap::new();
    for (at, word) in strings::words(text) {
        // A reference without a slash or a colon is none that is looked for in a text.
        if word.len() <= 512 && memchr::memchr2(b'/', b':', word.as_bytes()).is_some() {
            found.entry(word).or_default().push(start + at);
        }
    }
    found
}

const UNCERTAIN: &str = "its place in the file is not certain";
const SEVERAL_LINES: &str = "it is written over several lines";

/// Whether a quoted slice says a text. What has no escapes is compared as it stands.
fn unquoted(slice: &str, quote: char, text: &str) -> bool {
    let inside = slice.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote));
    let simple = inside.filter(|inside| !inside.contains([quote, '\\', '\n', '\r']));
    match simple {
        Some(inside) => inside == text,
        None => decode(slice).as_deref() == Some(text),
    }
}
