//! Texts become trees: YAML by the parser, JSON by its own stricter and quicker reading.

use std::borrow::Cow;
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};

use granit_parser::{Event, Options, Parser, ScalarStyle, Tag};

use crate::position::Position;
use crate::quick;
use crate::tree::{NODE_LIMIT, NodeKind, Tree};

/// Why a file cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {}, column {}: {message}", position.line, position.column)]
pub struct ParseError {
    /// Where the parser stopped.
    pub position: Position,
    pub message: String,
}

impl ParseError {
    /// The same in a text that goes before.
    #[must_use]
    pub fn after(mut self, start: Position) -> Self {
        self.position.line += start.line - 1;
        self
    }
}

/// What is said of a text whose reader was told to stop.
pub const STOPPED: &str = "reading it takes too long";

/// Whether the waiting caller has given up.
pub fn is_stopped(stop: Option<&AtomicBool>) -> bool {
    stop.is_some_and(|stop| stop.load(Ordering::Relaxed))
}

fn options() -> Options {
    let mut options = Options::default();
    options.emit_comments = false;
    // A JSON key may be longer than the parser's default look-ahead for simple keys.
    options.simple_key_max_lookahead = 1 << 20;
    options
}

/// Parses every document of a YAML text: plain ones the quick way, all others by the parser.
pub fn parse(text: &str) -> Result<Tree<'_>, ParseError> {
    quick::parse(text).map_or_else(|| by_parser(text), Ok)
}

/// Nothing here is recursive; the parser bounds the nesting.
pub(crate) fn by_parser(text: &str) -> Result<Tree<'_>, ParseError> {
    let mut parser = Parser::new_from_str_with_options(text, options());
    let mut tree = Tree::new(text);
    while let Some(event) = parser.next_event() {
        let (event, span) = event.map_err(|error| {
            let marker = error.marker();
            let position = Position { line: marker.line().max(1), column: marker.col() + 1 };
            let message = error.to_string();
            // The parser's text ends with its own place, counted otherwise.
            let message = message.split(" at byte ").next().unwrap_or(&message);
            let message = message.split(" at char ").next().unwrap_or(message).to_owned();
            ParseError { position, message }
        })?;
        let range = || span.byte_range().unwrap_or(0..0);
        let added = match event {
            Event::Scalar(value, style, anchor, tag) => {
                tree.add(NodeKind::Scalar(style), value, written(tag), anchor, range())
            }
            Event::Alias(anchor) => tree.add(NodeKind::Alias, "".into(), None, anchor, range()),
            Event::SequenceStart(_, anchor, tag) => {
                tree.add(NodeKind::Sequence, "".into(), written(tag), anchor, range())
            }
            Event::MappingStart(_, anchor, tag) => {
                tree.add(NodeKind::Mapping, "".into(), written(tag), anchor, range())
            }
            Event::SequenceEnd | Event::MappingEnd => {
                tree.close(range().end);
                Some(())
            }
            _ => Some(()),
        };
        if added.is_none() {
            let position =
                Position { line: span.start.line().max(1), column: span.start.col() + 1 };
            return Err(ParseError { position, message: format!("more than {NODE_LIMIT} nodes") });
        }
    }
    Ok(tree)
}

fn written(tag: Option<Cow<'_, Tag>>) -> Option<Box<str>> {
    tag.map(|tag| tag.to_string().into())
}

/// The value of one scalar that is parsed on its own. None: it is none.
pub fn decode(slice: &str) -> Option<String> {
    let mut parser = Parser::new_from_str_with_options(slice, options());
    let mut found = None;
    while let Some(event) = parser.next_event() {
        match event.ok()?.0 {
            Event::Scalar(value, ..) if found.is_none() => found = Some(value.into_owned()),
            Event::StreamStart | Event::DocumentStart(..) | Event::DocumentEnd => {}
            Event::StreamEnd => return found,
            _ => return None,
        }
    }
    found
}

/// The documents of a YAML stream, by their bytes. A line that begins with `---` ends a document
/// wherever it stands (YAML 1.2, 9.1.2), so that each can be parsed alone. A stream with
/// directives is taken as one.
pub fn documents(text: &str) -> Vec<Range<usize>> {
    let bytes = text.as_bytes();
    let mut parts = Vec::new();
    let mut from = 0;
    for at in memchr::memmem::find_iter(bytes, b"\n---") {
        let start = at + 1;
        if bytes.get(start + 3).is_none_or(|next| b" \t\r\n".contains(next)) {
            parts.push(from..start);
            from = start;
        }
    }
    parts.push(from..text.len());
    let directive = text.starts_with('%') || memchr::memmem::find(bytes, b"\n%").is_some();
    if parts.len() > 1 && directive {
        parts.clear();
        parts.push(0..text.len());
    }
    parts
}

/// How a text is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TextForm {
    Yaml,
    /// RFC 8259, strictly, since broken JSON may be YAML of another meaning.
    Json,
    /// With comments, a comma before the end of a list, keys without quotes and texts in single ones.
    Loose,
}

/// Reads a text again in the form that it had.
pub fn parse_as(text: &str, form: TextForm) -> Result<Tree<'_>, ParseError> {
    match form {
        TextForm::Yaml => parse(text),
        form => parse_json(text, None, form),
    }
}

/// How deep JSON may nest, as the YAML parser bounds it.
const DEPTH: usize = 255;

/// Parses a JSON text: one value, in which every node knows its bytes. A byte order mark before it is passed over.
pub fn parse_json<'t>(
    text: &'t str,
    stop: Option<&AtomicBool>,
    form: TextForm,
) -> Result<Tree<'t>, ParseError> {
    let loose = form == TextForm::Loose;
    let mut json = Json { text, bytes: text.as_bytes(), at: 0, tree: Tree::new(text), stop, loose };
    if text.starts_with('\u{feff}') {
        json.at = 3;
    }
    match json.value_and_end() {
        Ok(()) => Ok(json.tree),
        Err(message) => {
            let mut position = Position::default();
            position.advance(text.get(..json.at).unwrap_or(text));
            Err(ParseError { position, message: message.to_owned() })
        }
    }
}

struct Json<'t, 's> {
    text: &'t str,
    bytes: &'t [u8],
    at: usize,
    tree: Tree<'t>,
    stop: Option<&'s AtomicBool>,
    loose: bool,
}

impl Json<'_, '_> {
    fn blanks(&mut self) -> Option<u8> {
        loop {
            while self.bytes.get(self.at).is_some_and(|byte| b" \t\r\n".contains(byte)) {
                self.at += 1;
            }
            let rest = self.bytes.get(self.at..).unwrap_or_default();
            let length = match rest {
                [b'/', b'/', ..] if self.loose => {
                    memchr::memchr2(b'\n', b'\r', rest).unwrap_or(rest.len())
                }
                [b'/', b'*', inside @ ..] if self.loose => {
                    match memchr::memmem::find(inside, b"*/") {
                        Some(end) => end + 4,
                        None => return Some(b'/'),
                    }
                }
                _ => return rest.first().copied(),
            };
            self.at += length;
        }
    }

    fn value_and_end(&mut self) -> Result<(), &'static str> {
        // What closes each open collection.
        let mut open: Vec<u8> = Vec::new();
        loop {
            if is_stopped(self.stop) {
                return Err(STOPPED);
            }
            // A value, after its key where an object is open.
            let next = self.blanks().ok_or("it ends too early")?;
            if matches!(next, b'{' | b'[') {
                let kind = if next == b'{' { NodeKind::Mapping } else { NodeKind::Sequence };
                self.add(kind, "".into(), self.at..self.at + 1)?;
                if self.tree.depth() > DEPTH {
                    return Err("it is nested too deep");
                }
                self.at += 1;
                let close = if next == b'{' { b'}' } else { b']' };
                if self.blanks() == Some(close) {
                    self.at += 1;
                    self.tree.close(self.at);
                } else {
                    open.push(close);
                    self.key(close)?;
                    continue;
                }
            } else {
                self.scalar(next)?;
            }
            // What follows a value: the next one, or the ends of what is open.
            loop {
                let next = self.blanks();
                match (open.last(), next) {
                    (None, None) => return Ok(()),
                    (None, Some(_)) => return Err("something follows the value"),
                    (Some(close), Some(b',')) => {
                        let close = *close;
                        self.at += 1;
                        // Without a further value where that is allowed.
                        if self.loose && self.blanks() == Some(close) {
                            continue;
                        }
                        self.key(close)?;
                        break;
                    }
                    (Some(close), Some(next)) if *close == next => {
                        self.at += 1;
                        self.tree.close(self.at);
                        open.pop();
                    }
                    (Some(_), Some(_)) => return Err("a comma or an end is missing"),
                    (Some(_), None) => return Err("it ends too early"),
                }
            }
        }
    }

    fn key(&mut self, close: u8) -> Result<(), &'static str> {
        if close == b']' {
            return Ok(());
        }
        match self.blanks() {
            Some(b'"') => self.scalar(b'"')?,
            Some(b'\'') if self.loose => self.scalar(b'\'')?,
            Some(first)
                if self.loose && (first.is_ascii_alphabetic() || b"_$".contains(&first)) =>
            {
                let start = self.at;
                let word = |byte: &u8| byte.is_ascii_alphanumeric() || b"_$".contains(byte);
                while self.bytes.get(self.at).is_some_and(word) {
                    self.at += 1;
                }
                let raw = &self.text[start..self.at];
                self.add(NodeKind::Scalar(ScalarStyle::Plain), raw.into(), start..self.at)?;
            }
            _ => return Err("a key in quotes is missing"),
        }
        if self.blanks() != Some(b':') {
            return Err("a colon is missing");
        }
        self.at += 1;
        Ok(())
    }

    fn scalar(&mut self, first: u8) -> Result<(), &'static str> {
        let start = self.at;
        if first == b'"' {
            self.at += 1;
            let mut plain = true;
            loop {
                let rest = self.bytes.get(self.at..).unwrap_or_default();
                let stop = memchr::memchr2(b'"', b'\\', rest).ok_or("a quote is not closed")?;
                self.at += stop;
                if self.bytes[self.at] == b'"' {
                    break;
                }
                plain = false;
                self.at += 2;
            }
            self.at += 1;
            let raw = self.text.get(start..self.at).ok_or("a quote is not closed")?;
            let inside = &raw[1..raw.len() - 1];
            let value = if plain && !inside.bytes().any(|byte| byte < 0x20) {
                Cow::Borrowed(inside)
            } else {
                Cow::Owned(serde_json::from_str(raw).map_err(|_| "a text has a wrong escape")?)
            };
            return self.add(NodeKind::Scalar(ScalarStyle::DoubleQuoted), value, start..self.at);
        }
        if first == b'\'' && self.loose {
            let rest = self.bytes.get(start + 1..).unwrap_or_default();
            let end = memchr::memchr3(b'\'', b'\\', b'\n', rest).ok_or("a quote is not closed")?;
            if rest[end] != b'\'' {
                return Err("a text in single quotes has an escape or goes over several lines");
            }
            self.at = start + end + 2;
            let inside = &self.text[start + 1..start + 1 + end];
            return self.add(
                NodeKind::Scalar(ScalarStyle::SingleQuoted),
                inside.into(),
                start..self.at,
            );
        }
        let word = |byte: &u8| byte.is_ascii_alphanumeric() || b"+-.".contains(byte);
        while self.bytes.get(self.at).is_some_and(word) {
            self.at += 1;
        }
        let raw = &self.text[start..self.at];
        serde_json::from_str::<serde::de::IgnoredAny>(raw).map_err(|_| "there is no value here")?;
        self.add(NodeKind::Scalar(ScalarStyle::Plain), raw.into(), start..self.at)
    }
}

impl<'t> Json<'t, '_> {
    fn add(
        &mut self,
        kind: NodeKind,
        value: Cow<'t, str>,
        span: Range<usize>,
    ) -> Result<(), &'static str> {
        self.tree.add(kind, value, None, 0, span).ok_or("it has too many values")
    }
}
