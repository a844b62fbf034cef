//! Put changes into a file, and prove that nothing else changed: no other byte that means something, and no other
//! image that is pulled by readers of the file.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::ops::Range;

use super::change::Change;
use super::dialect::{self, Above};
use super::finding::Finding;
use super::plan::FindingWish;
use super::{FileContext, Part, Scan};
use larder_yaml::{NodeId, SaidPart, Tree};
use larder_yaml::{ParseError, parse_as};

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
    /// Images are pulled by another name than they should be; the numbers of the findings.
    #[error("{} of the changed file would be pulled by another name than it should", .0.len())]
    Effect(Vec<usize>),
}

/// What became of a file.
#[derive(Debug, Default)]
pub struct Rewrite {
    /// The new text. None: nothing changes.
    pub text: Option<String>,
    /// The wishes that are not fulfilled, by the finding's number, and why.
    pub refused: BTreeMap<usize, &'static str>,
    /// The additions that were left out, by their number: it could not be proved that they add nothing else.
    pub left_out: BTreeSet<usize>,
}

/// A change with its bytes before and after.
struct SplicedChange<'c> {
    change: &'c Change,
    old: Range<usize>,
    new: Range<usize>,
}

/// Something that can be put back by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Item {
    Wish(usize),
    Addition(usize),
}

/// How often a file is tried anew to find what cannot be proved. Then the rest is left.
const TRIES: usize = 64;

const UNPROVED: &str = "it cannot be proved that nothing else would change with it";

impl Scan<'_> {
    /// Fulfils the wishes (one for each finding, in their order; None: it stays what it is) and adds the additions.
    ///
    /// The new text is read again as the old one was, and evaluated: each image that was to change has become
    /// what it was to become, and all that is pulled otherwise, every variable that is used for something else
    /// and every other byte that means something is what it was. What cannot be proved is put back, alone, and
    /// the rest is done.
    pub fn rewrite(&self, wishes: &[Option<FindingWish>], additions: &[Change]) -> Rewrite {
        let mut done = Rewrite::default();
        let mut planned = self.plan_all(wishes);
        done.refused = std::mem::take(&mut planned.refused);
        let mut items: Vec<Item> = (0..wishes.len())
            .filter(|number| wishes[*number].is_some() && !done.refused.contains_key(number))
            .map(Item::Wish)
            .collect();
        items.extend((0..additions.len()).map(Item::Addition));
        if items.is_empty() {
            return done;
        }
        let (mut good, mut tries) = (Vec::new(), TRIES);
        // First all; then without those that are known to come out wrong; then by halves.
        let all = match done.refused.is_empty() {
            true => self.all(planned.changes, wishes, additions),
            false => self.attempt(&items, wishes, additions),
        };
        match all {
            Ok(text) => {
                done.text = text;
                return done;
            }
            Err(SpliceError::Effect(wrong)) => {
                let wrong: BTreeSet<usize> = wrong.into_iter().collect();
                let is_wrong =
                    |item: &Item| matches!(item, Item::Wish(number) if wrong.contains(number));
                let rest: Vec<Item> =
                    items.iter().copied().filter(|item| !is_wrong(item)).collect();
                if rest.len() < items.len()
                    && let Ok(text) = self.attempt(&rest, wishes, additions)
                {
                    done.text = text;
                    good = rest;
                    tries = 0;
                }
            }
            Err(_) => {}
        }
        if good.is_empty() {
            self.halves(&items, wishes, additions, &mut good, &mut done.text, &mut tries);
        }
        let good: BTreeSet<Item> = good.into_iter().collect();
        for item in items.iter().filter(|item| !good.contains(item)) {
            match item {
                Item::Wish(number) => {
                    done.refused.insert(*number, UNPROVED);
                }
                Item::Addition(number) => {
                    done.left_out.insert(*number);
                }
            }
        }
        done
    }

    /// Adds to what is good what can be proved of the items beside it.
    fn halves(
        &self,
        items: &[Item],
        wishes: &[Option<FindingWish>],
        additions: &[Change],
        good: &mut Vec<Item>,
        text: &mut Option<String>,
        tries: &mut usize,
    ) {
        if items.is_empty() || *tries == 0 {
            return;
        }
        *tries -= 1;
        let mut all = good.clone();
        all.extend_from_slice(items);
        if let Ok(new) = self.attempt(&all, wishes, additions) {
            *good = all;
            *text = new;
        } else if items.len() > 1 {
            let (left, right) = items.split_at(items.len() / 2);
            self.halves(left, wishes, additions, good, text, tries);
            self.halves(right, wishes, additions, good, text, tries);
        }
    }

    /// All of the wishes as they were planned, and the proof. None: they change nothing.
    fn all(
        &self,
        planned: Vec<Change>,
        wishes: &[Option<FindingWish>],
        additions: &[Change],
    ) -> Result<Option<String>, SpliceError> {
        let mut changes = additions.to_vec();
        changes.extend(planned);
        match changes.is_empty() {
            true => Ok(None),
            false => self.put(&changes, Some(wishes)).map(Some),
        }
    }

    /// Some of the wishes, and the proof. None: they change nothing.
    fn attempt(
        &self,
        items: &[Item],
        wishes: &[Option<FindingWish>],
        additions: &[Change],
    ) -> Result<Option<String>, SpliceError> {
        let mut some = vec![None; wishes.len()];
        let mut changes = Vec::new();
        for item in items {
            match item {
                Item::Wish(number) => some[*number].clone_from(&wishes[*number]),
                Item::Addition(number) => changes.push(additions[*number].clone()),
            }
        }
        let plan = self.plan_all(&some);
        if !plan.refused.is_empty() {
            return Err(SpliceError::Effect(plan.refused.keys().copied().collect()));
        }
        self.all(plan.changes, &some, &changes)
    }

    /// Puts the changes into the text that was scanned.
    ///
    /// The result is given only when it reads as before but for the planned changes, and when undoing
    /// them gives the original bytes.
    pub fn splice(&self, changes: &[Change]) -> Result<String, SpliceError> {
        self.put(changes, None)
    }

    fn put(
        &self,
        changes: &[Change],
        wishes: Option<&[Option<FindingWish>]>,
    ) -> Result<String, SpliceError> {
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
            spliced.push(SplicedChange { change, old, new: start..result.len() });
        }
        result.push_str(self.text.get(done..).ok_or(SpliceError::Overlap)?);
        let proof = match self.lines {
            Some(dialect) => self.same_lines(dialect, &result, &spliced, wishes),
            None => self.same_parts(&result, &spliced, wishes),
        };
        proof?;
        if self.undone(&result, &spliced) { Ok(result) } else { Err(SpliceError::Undo) }
    }

    fn undone(&self, result: &str, spliced: &[SplicedChange<'_>]) -> bool {
        let (mut old, mut new) = (0, 0);
        for one in spliced {
            if self.text.get(old..one.old.start) != result.get(new..one.new.start) {
                return false;
            }
            (old, new) = (one.old.end, one.new.end);
        }
        self.text.get(old..) == result.get(new..)
    }

    /// Each part that changes must say what it said but for the changes, and name the images that it should.
    fn same_parts(
        &self,
        result: &str,
        spliced: &[SplicedChange<'_>],
        wishes: Option<&[Option<FindingWish>]>,
    ) -> Result<(), SpliceError> {
        let mut grown: isize = 0;
        let mut rest = spliced;
        let mut wrong = Vec::new();
        for part in &self.parts {
            // What is added behind the last byte belongs to the last part.
            let end = part.span.end + usize::from(part.span.end == self.text.len());
            let its = rest.partition_point(|one| one.old.start < end);
            let (here, others) = rest.split_at(its);
            rest = others;
            let start = part.span.start.saturating_add_signed(grown);
            for one in here {
                grown += one.new.len().cast_signed() - one.old.len().cast_signed();
            }
            let end = part.span.end.saturating_add_signed(grown);
            if here.is_empty() {
                continue;
            }
            let new = result.get(start..end).ok_or(SpliceError::Overlap)?;
            let tree = parse_as(new, part.form).map_err(SpliceError::Broken)?;
            same_but_for(part, &tree, start, here)?;
            let Some(wishes) = wishes else { continue };
            // The chart above has its new registry by then.
            let above = self.file.registry.map(|above| Above {
                now: above.becomes.unwrap_or(above.now),
                becomes: above.becomes,
            });
            let file = FileContext { registry: above, ..self.file };
            let mut again = Scan { text: new, file, ..Scan::default() };
            let part_again = Part::new(0..new.len(), part.position, tree, part.form);
            dialect::read(&mut again, part_again, &file).map_err(SpliceError::Broken)?;
            self.compare(part.findings.clone(), &again.findings, wishes, &mut wrong)?;
        }
        match (rest.is_empty(), wrong.is_empty()) {
            (false, _) => Err(SpliceError::Overlap),
            (true, false) => Err(SpliceError::Effect(wrong)),
            (true, true) => Ok(()),
        }
    }

    /// Whether the findings of a part, or of all, name afterwards what they should. Notes those that do not.
    fn compare(
        &self,
        numbers: Range<usize>,
        again: &[Finding],
        wishes: &[Option<FindingWish>],
        wrong: &mut Vec<usize>,
    ) -> Result<(), SpliceError> {
        if again.len() != numbers.len() {
            return Err(SpliceError::Meaning);
        }
        for (number, new) in numbers.zip(again) {
            let Some(old) = self.findings.get(number) else { return Err(SpliceError::Meaning) };
            let said = new.text.trim_end_matches('\n');
            let fine = match wishes.get(number).and_then(Option::as_ref) {
                Some(FindingWish::Become(wished)) => said == wished.to_string(),
                Some(FindingWish::Entry { to, .. }) => {
                    let rest = said.strip_prefix(to.as_str());
                    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with([':', '@']))
                }
                None => {
                    (&old.text, old.role, &old.workload, old.tag_elsewhere)
                        == (&new.text, new.role, &new.workload, new.tag_elsewhere)
                }
            };
            if !(fine && old.dialect == new.dialect && old.container == new.container) {
                wrong.push(number);
            }
        }
        Ok(())
    }

    /// A file without a tree must name the same images as before but for the changes, and say the same by its
    /// variables in all other places.
    fn same_lines(
        &self,
        lines: super::Dialect,
        result: &str,
        spliced: &[SplicedChange<'_>],
        wishes: Option<&[Option<FindingWish>]>,
    ) -> Result<(), SpliceError> {
        let again = dialect::lines(result, lines, &self.file).map_err(SpliceError::Broken)?;
        if again.findings.len() != self.findings.len() || again.elsewhere != self.elsewhere {
            return Err(SpliceError::Meaning);
        }
        let planned: HashMap<(usize, usize), &str> = spliced
            .iter()
            .filter_map(|one| match one.change {
                Change::Put(slot, text) => Some(((slot.span.start, slot.span.end), text.as_str())),
                Change::Add(_) => None,
            })
            .collect();
        let mut wrong = Vec::new();
        // Where each slot of a finding stands now, and what it says.
        for (number, (old, new)) in self.findings.iter().zip(&again.findings).enumerate() {
            let fine = match (&old.access, &new.access) {
                (super::FindingAccess::Edit(before), super::FindingAccess::Edit(after)) => {
                    before.slots().zip(after.slots()).all(|(before, after)| {
                        let text = planned.get(&(before.span.start, before.span.end));
                        after.text == *text.unwrap_or(&before.text.as_str())
                    })
                }
                // What is left alone must say what it said; and nothing becomes or ceases to be such.
                (super::FindingAccess::Leave(before), super::FindingAccess::Leave(after)) => {
                    before == after && old.text == new.text
                }
                _ => false,
            };
            if !fine {
                wrong.push(number);
            }
        }
        if let Some(wishes) = wishes {
            self.compare(0..self.findings.len(), &again.findings, wishes, &mut wrong)?;
        }
        match wrong.is_empty() {
            true => Ok(()),
            false => Err(SpliceError::Effect(wrong)),
        }
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

/// Compares what a part said with what its new text says.
fn same_but_for(
    part: &Part<'_>,
    tree: &Tree<'_>,
    start: usize,
    spliced: &[SplicedChange<'_>],
) -> Result<(), SpliceError> {
    let mut values: HashMap<NodeId, Vec<(&SplicedChange<'_>, &super::slot::Slot, &str)>> =
        HashMap::new();
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
    let dropped: HashSet<NodeId> = dropped.into_iter().copied().collect();
    let none = HashSet::new();
    let mut old = part.tree.said(&[], &dropped);
    let mut new = tree.said(&added, &none);
    loop {
        let (old, new) = match (old.next(), new.next()) {
            (None, None) => break,
            (Some(old), Some(new)) => (old, new),
            _ => return Err(SpliceError::Meaning),
        };
        let fits = match values.get(&old.0) {
            None => old.1 == new.1,
            Some(puts) => match (old.1, new.1) {
                (SaidPart::Scalar(value, before), SaidPart::Scalar(now, after)) => {
                    before == after && planned(value, puts).is_some_and(|text| said(now, &text))
                }
                (SaidPart::Alias(_), SaidPart::Scalar(now, None)) => {
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
    let added: Vec<Range<usize>> = added.into_iter().filter(|span| !span.is_empty()).collect();
    let inside = |node: &larder_yaml::Node<'_>| {
        let start = node.span().start;
        let passed = added.partition_point(|span| span.end <= start);
        added.get(passed).is_some_and(|span| span.contains(&start))
    };
    let says: Vec<&str> = tree
        .nodes
        .iter()
        .filter(|node| matches!(node.kind, larder_yaml::NodeKind::Scalar(_)) && inside(node))
        .map(|node| &*node.value)
        .collect();
    if says == expected { Ok(()) } else { Err(SpliceError::Meaning) }
}

/// The line break that a block keeps is part of the value.
fn said(now: &str, text: &str) -> bool {
    now == text || now.trim_end_matches('\n') == text
}

/// The value that a node gets.
fn planned(value: &str, puts: &[(&SplicedChange<'_>, &super::slot::Slot, &str)]) -> Option<String> {
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
