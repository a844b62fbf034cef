//! Plain YAML, read quickly: mappings, sequences and scalars in the styles that people write by hand.
//!
//! It knows less than the parser and never guesses: whatever it is not sure of (anchors, tags, tabs, quotes
//! over several lines, anything that is wrong) it gives back, and the parser reads the text from
//! its beginning. What it does read becomes the very tree that the parser would make.

mod flow;
mod scalar;

use granit_parser::ScalarStyle;

use crate::tree::{NodeKind, Tree};
use scalar::Scalar;

/// How deep collections may nest here, well within what the parser allows.
const DEPTH: usize = 64;

/// The longest key, well within what the parser allows.
const KEY_LIMIT: usize = 512;

/// Reads a document. None: the parser is to read it.
pub(super) fn parse(text: &str) -> Option<Tree<'_>> {
    let mut plain = Plain {
        text,
        bytes: text.as_bytes(),
        at: 0,
        line: 0,
        open: Vec::new(),
        awaited: None,
        tree: Tree::new(text),
    };
    plain.document()?;
    Some(plain.tree)
}

struct Plain<'t> {
    text: &'t str,
    bytes: &'t [u8],
    /// The next byte.
    at: usize,
    /// The first byte of its line.
    line: usize,
    /// The block collections that it stands in.
    open: Vec<Block>,
    /// A key or a dash was the last on its line: where its value stands if none comes.
    awaited: Option<usize>,
    tree: Tree<'t>,
}

#[derive(Clone, Copy)]
struct Block {
    column: usize,
    is_sequence: bool,
}

impl<'t> Plain<'t> {
    fn document(&mut self) -> Option<()> {
        if !is_plain(self.text) {
            return None;
        }
        let begun = self.bytes.starts_with(b"---");
        if begun {
            self.at = 3;
            self.line_ends()?;
        }
        let Some(column) = self.next_line() else {
            // Nothing but comments, unless something was announced.
            return (!begun).then_some(());
        };
        if column == 0 && self.begins_or_ends() {
            return None;
        }
        self.node(column)?;
        // A lone scalar is nothing that is read here.
        self.open.first()?;
        while let Some(column) = self.next_line() {
            self.continued(column)?;
        }
        if let Some(absent) = self.awaited.take() {
            self.absent(absent)?;
        }
        while self.open.pop().is_some() {
            self.tree.close(self.at);
        }
        Some(())
    }

    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn blanks(&mut self) {
        while self.peek() == Some(b' ') {
            self.at += 1;
        }
    }

    /// Goes to the next line that says something, and gives the column where it begins.
    fn next_line(&mut self) -> Option<usize> {
        loop {
            self.line = self.at;
            self.blanks();
            match self.peek()? {
                b'\n' => self.at += 1,
                b'#' => self.pass_line(),
                _ => return Some(self.at - self.line),
            }
        }
    }

    fn pass_line(&mut self) {
        let rest = &self.bytes[self.at..];
        self.at += memchr::memchr(b'\n', rest).map_or(rest.len(), |end| end + 1);
    }

    /// The line has nothing more but perhaps a comment. None: it has.
    fn line_ends(&mut self) -> Option<()> {
        let from = self.at;
        self.blanks();
        match self.peek() {
            None => Some(()),
            Some(b'\n') => {
                self.at += 1;
                Some(())
            }
            Some(b'#') if self.at > from => {
                self.pass_line();
                Some(())
            }
            Some(_) => None,
        }
    }

    /// What may be the mark of a document's beginning or end.
    fn begins_or_ends(&self) -> bool {
        let rest = &self.bytes[self.at..];
        rest.starts_with(b"---") || rest.starts_with(b"...")
    }

    /// A dash that begins an item.
    fn at_dash(&self) -> bool {
        self.peek() == Some(b'-')
            && matches!(self.bytes.get(self.at + 1), None | Some(b' ' | b'\n'))
    }

    /// A line after the first: it closes what is deeper, and goes on with what it belongs to.
    fn continued(&mut self, column: usize) -> Option<()> {
        if column == 0 && self.begins_or_ends() {
            return None;
        }
        let dash = self.at_dash();
        if let Some(absent) = self.awaited.take() {
            let top = self.open.last()?;
            if column > top.column || (column == top.column && dash && !top.is_sequence) {
                return self.node(column);
            }
            self.absent(absent)?;
        }
        let top = loop {
            let top = *self.open.last()?;
            if column < top.column || (column == top.column && top.is_sequence && !dash) {
                self.open.pop();
                self.tree.close(self.at);
            } else {
                break top;
            }
        };
        match (top.is_sequence, dash) {
            _ if top.column != column => None,
            (true, true) => self.item(),
            (false, false) => {
                let key = self.scalar(false)?;
                self.entry(key)
            }
            _ => None,
        }
    }

    /// A node that begins here and may be a collection in block style.
    fn node(&mut self, column: usize) -> Option<()> {
        if self.at_dash() {
            // One that stands no deeper than its key begins after its dash, as the parser has it.
            let level = self.open.last().is_some_and(|top| top.column == column);
            self.enter(column, true, if level { self.after_dash() } else { self.at })?;
            return self.item();
        }
        if matches!(self.peek()?, b'[' | b'{' | b'|' | b'>') {
            return self.value();
        }
        let scalar = self.scalar(false)?;
        if self.peek() == Some(b':') {
            self.enter(column, false, scalar.span.start)?;
            return self.entry(scalar);
        }
        self.whole(scalar)
    }

    fn enter(&mut self, column: usize, is_sequence: bool, at: usize) -> Option<()> {
        let kind = if is_sequence { NodeKind::Sequence } else { NodeKind::Mapping };
        self.tree.add(kind, "".into(), None, 0, at..at)?;
        self.open.push(Block { column, is_sequence });
        (self.open.len() <= DEPTH).then_some(())
    }

    /// Where an item begins whose dash stands here: what follows, or the end of the line.
    fn after_dash(&self) -> usize {
        let rest = &self.bytes[self.at + 1..];
        let blanks = rest.iter().take_while(|byte| **byte == b' ').count();
        self.at
            + 1
            + match rest.get(blanks) {
                Some(b'#') => memchr::memchr(b'\n', rest).unwrap_or(rest.len()),
                _ => blanks,
            }
    }

    /// An item of the sequence that was opened last: what stands after its dash.
    fn item(&mut self) -> Option<()> {
        let begins = self.after_dash();
        if matches!(self.bytes.get(begins), None | Some(b'\n')) {
            self.awaited = Some(begins);
            self.at += 1;
            return self.line_ends();
        }
        self.at = begins;
        self.node(begins - self.line)
    }

    /// An entry of the mapping that was opened last: the colon after its key, and what follows.
    fn entry(&mut self, key: Scalar<'t>) -> Option<()> {
        let colon = self.at;
        if self.peek()? != b':' || key.span.len() > KEY_LIMIT {
            return None;
        }
        self.add(key)?;
        self.at += 1;
        self.blanks();
        match self.peek() {
            None | Some(b'\n' | b'#') => {
                self.awaited = Some(colon);
                self.at = colon + 1;
                self.line_ends()
            }
            Some(_) if self.at > colon + 1 => self.value(),
            Some(_) => None,
        }
    }

    /// A value that is no collection in block style, to the end of its line.
    fn value(&mut self) -> Option<()> {
        match self.peek()? {
            b'|' => return self.block_scalar(ScalarStyle::Literal),
            b'>' => return self.block_scalar(ScalarStyle::Folded),
            b'[' | b'{' => {
                self.flow(1)?;
                return self.line_ends();
            }
            _ => {}
        }
        let scalar = self.scalar(false)?;
        self.whole(scalar)
    }

    fn add(&mut self, scalar: Scalar<'t>) -> Option<()> {
        self.tree.add(NodeKind::Scalar(scalar.style), scalar.value, None, 0, scalar.span)
    }

    fn absent(&mut self, at: usize) -> Option<()> {
        self.tree.add(NodeKind::Scalar(ScalarStyle::Plain), "~".into(), None, 0, at..at)
    }
}

/// No characters that mean something of their own to the parser, or nothing at all.
fn is_plain(text: &str) -> bool {
    // Without a branch, so that many bytes are looked at at once.
    let seen = text.bytes().fold(0, |seen, byte| {
        let control = matches!(byte, 0..=8 | 11..=31 | 127);
        seen | u8::from(control) | (byte & 0x80)
    });
    let special = |one: char| {
        matches!(
            one,
            '\u{80}'..='\u{9f}' | '\u{2028}' | '\u{2029}' | '\u{feff}' | '\u{fffe}' | '\u{ffff}'
        )
    };
    seen & 1 == 0 && (seen < 0x80 || !text.chars().any(special))
}
