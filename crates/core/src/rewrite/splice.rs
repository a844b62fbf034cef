//! Put changes into a file, and prove that nothing else changed.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use super::parse::{ParseError, parse, parse_json};
use super::plan::Change;
use super::tree::{NodeId, Said};
use super::{File, Part, Scan, dialect};

/// Why nothing was changed. Each is a guard that failed: the file stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SpliceError {
    /// Two edits touch the same bytes, or one lies outside the text.
    #[error("two changes fall on the same bytes")]
    Overlap,
    /// The new text has a character that no reference has.
    #[error("`{0}` cannot be written in place of a reference")]
    Text(String),
    /// The result cannot be read any more.
    #[error("the changed file could not be read again: {0}")]
    Broken(ParseError),
    /// The result says something else than the planned changes.
    #[error("the changed file would mean something else in another place")]
    Meaning,
    /// Undoing the edits does not give the original bytes.
    #[error("undoing the changes does not give the original file")]
    Undo,
}

/// A change with its bytes before and after.
struct Spliced<'c> {
    change: &'c Change,
    old: Range<usize>,
    new: Range<usize>,
}

impl Scan<'_> {
    /// Puts the changes into the text that was scanned.
    ///
    /// The result is given only when it reads as before but for the planned changes, and when undoing
    /// them gives the original bytes.
    pub fn splice(&self, changes: &[Change]) -> Result<String, SpliceError> {
        let mut changes: Vec<&Change> = changes.iter().collect();
        changes.sort_by_key(|change| change.span().start);
        let mut result = String::with_capacity(self.text.len() + changes.len() * 32);
        let mut spliced = Vec::with_capacity(changes.len());
        let mut done = 0;
        for change in changes {
            let old = change.span();
            result.push_str(self.text.get(done..old.start).ok_or(SpliceError::Overlap)?);
            let start = result.len();
            result.push_str(&change.written()?);
            done = old.end;
            spliced.push(Spliced { change, old, new: start..result.len() });
        }
        result.push_str(self.text.get(done..).ok_or(SpliceError::Overlap)?);

        match self.lines {
            Some(dialect) => self.same_lines(dialect, &result, &spliced)?,
            None => {
                let mut grown: isize = 0;
                let mut rest = &spliced[..];
                for part in &self.parts {
                    let its = rest.partition_point(|one| one.old.start < part.span.end);
                    let (here, others) = rest.split_at(its);
                    rest = others;
                    let start = part.span.start.saturating_add_signed(grown);
                    for one in here {
                        grown += one.new.len().cast_signed() - one.old.len().cast_signed();
                    }
                    let end = part.span.end.saturating_add_signed(grown);
                    if !here.is_empty() {
                        let new = result.get(start..end).ok_or(SpliceError::Overlap)?;
                        same_but_for(part, new, start, here)?;
                    }
                }
                if !rest.is_empty() {
                    return Err(SpliceError::Overlap);
                }
            }
        }
        if self.undone(&result, &spliced) { Ok(result) } else { Err(SpliceError::Undo) }
    }

    fn undone(&self, result: &str, spliced: &[Spliced<'_>]) -> bool {
        let (mut old, mut new) = (0, 0);
        for one in spliced {
            if self.text.get(old..one.old.start) != result.get(new..one.new.start) {
                return false;
            }
            (old, new) = (one.old.end, one.new.end);
        }
        self.text.get(old..) == result.get(new..)
    }

    /// A file without a tree must name the same images as before but for the changes.
    fn same_lines(
        &self,
        dialect: super::Dialect,
        result: &str,
        spliced: &[Spliced<'_>],
    ) -> Result<(), SpliceError> {
        let again = dialect::lines(result, dialect, &File::default());
        if again.findings.len() != self.findings.len() {
            return Err(SpliceError::Meaning);
        }
        // Where each slot of a finding stands now, and what it says.
        for (old, new) in self.findings.iter().zip(&again.findings) {
            let (super::Access::Edit(before), super::Access::Edit(after)) =
                (&old.access, &new.access)
            else {
                // What is left alone must say what it said; and nothing becomes or ceases to be such.
                let both_left = matches!(old.access, super::Access::Leave(_))
                    && matches!(new.access, super::Access::Leave(_));
                if both_left && old.text == new.text {
                    continue;
                }
                return Err(SpliceError::Meaning);
            };
            for (before, after) in before.slots().zip(after.slots()) {
                let planned = spliced.iter().find_map(|one| match one.change {
                    Change::Put(slot, text) if slot.span == before.span => Some(text),
                    _ => None,
                });
                if after.text != *planned.unwrap_or(&before.text) {
                    return Err(SpliceError::Meaning);
                }
            }
        }
        Ok(())
    }
}

impl Change {
    fn span(&self) -> Range<usize> {
        match self {
            Self::Put(slot, _) => slot.span.clone(),
            Self::Add(entry) => entry.span.clone(),
        }
    }

    fn written(&self) -> Result<String, SpliceError> {
        match self {
            Self::Add(entry) => Ok(entry.written.clone()),
            Self::Put(slot, text) => {
                let known = |b: u8| b.is_ascii_alphanumeric() || b"._-:/@[]".contains(&b);
                // Only a digest may be taken away, and only where a text can be empty.
                if !text.bytes().all(known) || (text.is_empty() && slot.piece.is_some()) {
                    return Err(SpliceError::Text(text.clone()));
                }
                Ok(slot.form.write(text))
            }
        }
    }
}

/// Parses the new text of a part and compares what both say.
fn same_but_for(
    part: &Part<'_>,
    text: &str,
    start: usize,
    spliced: &[Spliced<'_>],
) -> Result<(), SpliceError> {
    let read = if part.is_json { parse_json(text, None) } else { parse(text) };
    let tree = read.map_err(SpliceError::Broken)?;
    let mut values: HashMap<NodeId, Vec<(&Spliced<'_>, &super::slot::Slot, &str)>> = HashMap::new();
    let mut added = Vec::new();
    let mut dropped = Vec::new();
    let mut expected: Vec<&str> = Vec::new();
    for one in spliced {
        match one.change {
            Change::Put(slot, text) => {
                let (_, node) = slot.node.ok_or(SpliceError::Meaning)?;
                values.entry(node).or_default().push((one, slot, text));
            }
            Change::Add(entry) => {
                added.push(one.new.start - start..one.new.end - start);
                dropped.extend(&entry.instead);
                expected.extend(entry.says.iter().map(String::as_str));
            }
        }
    }
    let dropped: HashSet<&NodeId> = dropped.into_iter().collect();
    let mut old = part.tree.said(&[]).filter(|(node, _)| !dropped.contains(node));
    let mut new = tree.said(&added);
    loop {
        let (old, new) = match (old.next(), new.next()) {
            (None, None) => break,
            (Some(old), Some(new)) => (old, new),
            _ => return Err(SpliceError::Meaning),
        };
        let fits = match values.get(&old.0) {
            None => old.1 == new.1,
            Some(puts) => match (old.1, new.1) {
                (Said::Scalar(value, before), Said::Scalar(now, after)) => {
                    before == after && planned(value, puts).is_some_and(|text| said(now, &text))
                }
                (Said::Alias(_), Said::Scalar(now, None)) => {
                    puts.iter().all(|(_, _, text)| now == *text)
                }
                _ => false,
            },
        };
        if !fits {
            return Err(SpliceError::Meaning);
        }
    }
    // What was added says what it should, and nothing more.
    let inside = |node: &super::tree::Node<'_>| {
        let start = node.span().start;
        let passed = added.partition_point(|span| span.end <= start);
        added.get(passed).is_some_and(|span| span.contains(&start))
    };
    let says: Vec<&str> = tree
        .nodes
        .iter()
        .filter(|node| matches!(node.kind, super::tree::Kind::Scalar(_)) && inside(node))
        .map(|node| &*node.value)
        .collect();
    if says == expected { Ok(()) } else { Err(SpliceError::Meaning) }
}

/// The line break that a block keeps is part of the value.
fn said(now: &str, text: &str) -> bool {
    now == text || now.trim_end_matches('\n') == text
}

/// The value that a node gets.
fn planned(value: &str, puts: &[(&Spliced<'_>, &super::slot::Slot, &str)]) -> Option<String> {
    let mut text = value.to_owned();
    for (_, slot, new) in puts.iter().rev() {
        match &slot.piece {
            None => (*new).clone_into(&mut text),
            Some(piece) => {
                text.get(piece.clone())?;
                text.replace_range(piece.clone(), new);
            }
        }
    }
    Some(text)
}
