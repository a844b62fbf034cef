//! Put new references into a file, and prove that nothing else changed.

use super::tree::{self, Said};
use super::{Form, ParseError, Slot};

/// One reference to be put in the place of another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// Where, as a finding gave it.
    pub slot: Slot,
    /// The new reference.
    pub text: String,
}

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

/// Splices the edits into `original`, which must be the text that the slots were found in.
///
/// The result is given only when it parses to the same events but for the planned changes, and
/// when undoing them gives the original bytes.
pub fn splice(original: &str, edits: &[Edit]) -> Result<String, SpliceError> {
    let mut edits: Vec<&Edit> = edits.iter().collect();
    edits.sort_by_key(|edit| edit.slot.span.start);
    if edits.is_empty() {
        return Ok(original.to_owned());
    }
    let mut result = String::with_capacity(original.len() + edits.len() * 32);
    let mut undo = Vec::with_capacity(edits.len());
    let mut done = 0;
    for edit in &edits {
        let span = edit.slot.span.clone();
        let kept = original.get(done..span.start).ok_or(SpliceError::Overlap)?;
        let old = original.get(span.clone()).ok_or(SpliceError::Overlap)?;
        result.push_str(kept);
        let new = written(edit)?;
        undo.push((result.len()..result.len() + new.len(), old));
        result.push_str(&new);
        done = span.end;
    }
    result.push_str(original.get(done..).ok_or(SpliceError::Overlap)?);

    let before = tree::said(original).map_err(SpliceError::Broken)?;
    let after = tree::said(&result).map_err(SpliceError::Broken)?;
    same_but_for(&before, &after, &edits)?;

    let mut restored = String::with_capacity(original.len());
    let mut done = 0;
    for (span, old) in undo {
        restored.push_str(&result[done..span.start]);
        restored.push_str(old);
        done = span.end;
    }
    restored.push_str(&result[done..]);
    if restored == original { Ok(result) } else { Err(SpliceError::Undo) }
}

/// The new text in the style of the old one.
fn written(edit: &Edit) -> Result<String, SpliceError> {
    let text = &edit.text;
    let known = |b: u8| b.is_ascii_alphanumeric() || b"._-:/@[]".contains(&b);
    if text.is_empty() || !text.bytes().all(known) {
        return Err(SpliceError::Text(text.clone()));
    }
    // An IPv6 host in brackets would be a list to YAML.
    let needs_quotes = text.contains(['[', ']']);
    Ok(match edit.slot.form {
        Form::SingleQuoted => format!("'{text}'"),
        Form::DoubleQuoted => format!("\"{text}\""),
        Form::Plain | Form::Alias if needs_quotes => format!("\"{text}\""),
        Form::Plain | Form::Alias | Form::Block => text.clone(),
    })
}

fn same_but_for(
    before: &[Said<'_>],
    after: &[Said<'_>],
    edits: &[&Edit],
) -> Result<(), SpliceError> {
    let mut planned = edits.iter().map(|edit| (edit.slot.event, edit)).collect::<Vec<_>>();
    planned.sort_by_key(|(event, _)| *event);
    let mut planned = planned.into_iter().peekable();
    if before.len() != after.len() {
        return Err(SpliceError::Meaning);
    }
    for (at, (old, new)) in before.iter().zip(after).enumerate() {
        let fits = match planned.next_if(|(event, _)| *event == at) {
            None => old == new,
            Some((_, edit)) => match (old, new) {
                // The line break that a block keeps is part of the value.
                (Said::Scalar { tag: old, .. }, Said::Scalar { value, tag }) => {
                    old == tag && value.trim_end_matches('\n') == edit.text
                }
                (Said::Alias(_), Said::Scalar { value, .. }) => *value == edit.text,
                _ => false,
            },
        };
        if !fits {
            return Err(SpliceError::Meaning);
        }
    }
    Ok(())
}
