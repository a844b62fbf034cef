//! Collections in flow style.

use super::{DEPTH, Plain};
use crate::tree::NodeKind;

impl Plain<'_> {
    /// A collection in flow style, each scalar of it on one line.
    pub(super) fn flow(&mut self, depth: usize) -> Option<()> {
        let is_sequence = self.peek()? == b'[';
        let kind = if is_sequence { NodeKind::Sequence } else { NodeKind::Mapping };
        let close = if is_sequence { b']' } else { b'}' };
        self.tree.add(kind, "".into(), None, 0, self.at..self.at + 1)?;
        self.at += 1;
        self.blanks_in_flow()?;
        while self.peek()? != close {
            if !is_sequence {
                let key = self.scalar(true)?;
                if self.peek()? != b':' || self.bytes.get(self.at + 1) != Some(&b' ') {
                    return None;
                }
                self.add(key)?;
                self.at += 1;
                self.blanks();
            }
            match self.peek()? {
                b'[' | b'{' if depth < DEPTH => self.flow(depth + 1)?,
                _ => {
                    let scalar = self.scalar(true)?;
                    self.add(scalar)?;
                }
            }
            self.blanks_in_flow()?;
            match self.peek()? {
                b',' => self.at += 1,
                byte if byte == close => break,
                _ => return None,
            }
            self.blanks_in_flow()?;
            // A comma before the end is left to the parser.
            if self.peek()? == close {
                return None;
            }
        }
        self.at += 1;
        self.tree.close(self.at);
        Some(())
    }

    /// Goes over blanks and ends of lines. None: what follows is not deeper than the collection that all
    /// stands in.
    fn blanks_in_flow(&mut self) -> Option<()> {
        self.blanks();
        while self.peek() == Some(b'\n') {
            self.at += 1;
            let line = self.at;
            self.blanks();
            if self.peek()? != b'\n' && self.at - line <= self.open.last()?.column {
                return None;
            }
        }
        Some(())
    }
}
