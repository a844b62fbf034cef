//! YAML and JSON as a tree of nodes that know their bytes.

use std::borrow::Cow;
use std::ops::Range;

use granit_parser::{Event, Options, Parser, ScalarStyle};

use super::Position;

/// The most events that one file may have: bounds the memory that a hostile file can take.
const EVENT_LIMIT: usize = 8_000_000;

/// Why a file cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {}, column {}: {message}", position.line, position.column)]
pub struct ParseError {
    /// Where the parser stopped.
    pub position: Position,
    /// What it met.
    pub message: String,
}

/// A node's number in the [`Tree`].
pub(crate) type NodeId = usize;

/// All documents of one file.
#[derive(Debug, Default)]
pub(crate) struct Tree<'t> {
    pub nodes: Vec<Node<'t>>,
    /// The top node of each document.
    pub documents: Vec<NodeId>,
    pub text: &'t str,
    lines: Vec<usize>,
}

#[derive(Debug)]
pub(crate) struct Node<'t> {
    pub content: Content<'t>,
    /// The bytes of a scalar or an alias, quotes included. Empty for collections.
    pub span: Range<usize>,
    /// The event that it came from.
    pub event: usize,
}

#[derive(Debug)]
pub(crate) enum Content<'t> {
    Scalar {
        value: Cow<'t, str>,
        style: ScalarStyle,
    },
    Sequence(Vec<NodeId>),
    Mapping(Vec<(NodeId, NodeId)>),
    /// The anchored node that it stands for.
    Alias(NodeId),
}

/// What an event says, without its place: what must be the same before and after an edit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Said<'t> {
    /// A value, and the tag written on it.
    Scalar {
        value: Cow<'t, str>,
        tag: String,
    },
    Alias(usize),
    /// Starts and ends of documents and collections, with their tags.
    Shape(String),
}

/// A collection whose end has not come yet.
enum Open {
    Sequence(NodeId, Vec<NodeId>),
    Mapping(NodeId, Vec<(NodeId, NodeId)>, Option<NodeId>),
}

impl<'t> Tree<'t> {
    /// Line and column of a byte.
    pub fn position(&self, byte: usize) -> Position {
        let line = self.lines.partition_point(|start| *start <= byte).max(1);
        let start = self.lines.get(line - 1).copied().unwrap_or(0);
        let column = self.text.get(start..byte).map_or(0, |before| before.chars().count()) + 1;
        Position { line, column }
    }

    /// What a node stands for: itself, or the target of an alias.
    pub fn resolve(&self, id: NodeId) -> NodeId {
        match self.nodes[id].content {
            Content::Alias(target) => target,
            _ => id,
        }
    }

    /// The entries of a mapping. Empty for any other node.
    pub fn entries(&self, id: NodeId) -> &[(NodeId, NodeId)] {
        match &self.nodes[self.resolve(id)].content {
            Content::Mapping(entries) => entries,
            _ => &[],
        }
    }

    /// The items of a sequence. None for any other node.
    pub fn items(&self, id: NodeId) -> Option<&[NodeId]> {
        match &self.nodes[self.resolve(id)].content {
            Content::Sequence(items) => Some(items),
            _ => None,
        }
    }

    /// The text of a scalar that is there. None for collections and for null, written or not
    /// (YAML 1.2, "Core Schema").
    pub fn scalar(&self, id: NodeId) -> Option<&str> {
        let node = &self.nodes[self.resolve(id)];
        match &node.content {
            Content::Scalar { value, style: ScalarStyle::Plain }
                if matches!(&**value, "~" | "null" | "Null" | "NULL") =>
            {
                None
            }
            Content::Scalar { value, .. } if !node.span.is_empty() => Some(value),
            _ => None,
        }
    }

    /// The values under a key: several when it stands there more than once.
    pub fn values<'a>(
        &'a self,
        mapping: NodeId,
        key: &'a str,
    ) -> impl Iterator<Item = NodeId> + use<'a, 't> {
        self.entries(mapping)
            .iter()
            .filter(move |(name, _)| self.scalar(*name) == Some(key))
            .map(|(_, value)| *value)
    }

    /// The first value under a key.
    pub fn get(&self, mapping: NodeId, key: &str) -> Option<NodeId> {
        self.values(mapping, key).next()
    }
}

fn options() -> Options {
    let mut options = Options::default();
    options.emit_comments = false;
    // A JSON key may be longer than the parser's default look-ahead for simple keys.
    options.simple_key_max_lookahead = 1 << 20;
    options
}

/// The value of one scalar that is parsed on its own. None: it is none.
pub(crate) fn decode(slice: &str) -> Option<String> {
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

/// Reads events until the stream ends. `each` takes the event, its number and its bytes.
fn events<'t>(
    text: &'t str,
    mut each: impl FnMut(Event<'t>, usize, Range<usize>),
) -> Result<(), ParseError> {
    let mut parser = Parser::new_from_str_with_options(text, options());
    let mut number = 0;
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
        if number > EVENT_LIMIT {
            let position =
                Position { line: span.start.line().max(1), column: span.start.col() + 1 };
            return Err(ParseError { position, message: format!("more than {EVENT_LIMIT} nodes") });
        }
        each(event, number, span.byte_range().unwrap_or(0..0));
        number += 1;
    }
    Ok(())
}

/// What each event says, in order.
pub(crate) fn said(text: &str) -> Result<Vec<Said<'_>>, ParseError> {
    let mut all = Vec::new();
    let shape = |word: &str, tag: Option<Cow<'_, granit_parser::Tag>>| {
        let tag = tag.map(|tag| tag.to_string()).unwrap_or_default();
        Said::Shape(format!("{word}{tag}"))
    };
    events(text, |event, _, _| {
        all.push(match event {
            Event::Scalar(value, _, _, tag) => {
                let tag = tag.map(|tag| tag.to_string()).unwrap_or_default();
                Said::Scalar { value, tag }
            }
            Event::Alias(target) => Said::Alias(target),
            Event::SequenceStart(_, _, tag) => shape("[", tag),
            Event::MappingStart(_, _, tag) => shape("{", tag),
            Event::SequenceEnd => shape("]", None),
            Event::MappingEnd => shape("}", None),
            Event::DocumentStart(..) => shape("---", None),
            Event::DocumentEnd => shape("...", None),
            _ => shape("", None),
        });
    })?;
    Ok(all)
}

/// Parses every document. Nothing here is recursive; the parser bounds the nesting.
pub(crate) fn parse(text: &str) -> Result<Tree<'_>, ParseError> {
    let mut tree = Tree { text, ..Tree::default() };
    tree.lines = std::iter::once(0).chain(line_starts(text)).collect();
    let mut open: Vec<Open> = Vec::new();
    let mut anchors: std::collections::HashMap<usize, NodeId> = std::collections::HashMap::new();
    events(text, |event, number, range| {
        let (content, anchor) = match event {
            Event::Scalar(value, style, anchor, _) => (Content::Scalar { value, style }, anchor),
            // The parser refuses an alias whose anchor did not come before it; one inside the node
            // that it names stands for nothing that we can use.
            Event::Alias(target) => {
                (anchors.get(&target).copied().map_or(empty_scalar(), Content::Alias), 0)
            }
            Event::SequenceStart(_, anchor, _) => {
                let id = add(&mut tree, Content::Sequence(Vec::new()), 0..0, number);
                if anchor != 0 {
                    anchors.insert(anchor, id);
                }
                return open.push(Open::Sequence(id, Vec::new()));
            }
            Event::MappingStart(_, anchor, _) => {
                let id = add(&mut tree, Content::Mapping(Vec::new()), 0..0, number);
                if anchor != 0 {
                    anchors.insert(anchor, id);
                }
                return open.push(Open::Mapping(id, Vec::new(), None));
            }
            Event::SequenceEnd | Event::MappingEnd => {
                if let Some(done) = open.pop() {
                    let id = close(&mut tree, done);
                    attach(&mut tree, &mut open, id);
                }
                return;
            }
            _ => return,
        };
        let id = add(&mut tree, content, range, number);
        if anchor != 0 {
            anchors.insert(anchor, id);
        }
        attach(&mut tree, &mut open, id);
    })?;
    Ok(tree)
}

fn empty_scalar() -> Content<'static> {
    Content::Scalar { value: Cow::Borrowed(""), style: ScalarStyle::Plain }
}

fn add<'t>(tree: &mut Tree<'t>, content: Content<'t>, span: Range<usize>, event: usize) -> NodeId {
    tree.nodes.push(Node { content, span, event });
    tree.nodes.len() - 1
}

fn close(tree: &mut Tree<'_>, done: Open) -> NodeId {
    let (id, content) = match done {
        Open::Sequence(id, items) => (id, Content::Sequence(items)),
        Open::Mapping(id, entries, _) => (id, Content::Mapping(entries)),
    };
    tree.nodes[id].content = content;
    id
}

fn attach(tree: &mut Tree<'_>, open: &mut [Open], id: NodeId) {
    match open.last_mut() {
        None => tree.documents.push(id),
        Some(Open::Sequence(_, items)) => items.push(id),
        Some(Open::Mapping(_, entries, key)) => match key.take() {
            None => *key = Some(id),
            Some(key) => entries.push((key, id)),
        },
    }
}

/// The bytes after each line break: LF, CRLF or a lone CR.
fn line_starts(text: &str) -> impl Iterator<Item = usize> + '_ {
    let bytes = text.as_bytes();
    bytes.iter().enumerate().filter_map(move |(at, byte)| match byte {
        b'\n' => Some(at + 1),
        b'\r' if bytes.get(at + 1) != Some(&b'\n') => Some(at + 1),
        _ => None,
    })
}
