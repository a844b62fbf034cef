//! Plain lists: one reference on each line, comments after `#`.

use super::super::finding::{Access, Finding};
use super::super::slot::{Hold, Slot};
use super::{Dialect, shape};

/// The first word of each line that is no comment, with the byte at which it begins.
fn words(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut start = 0;
    text.split_inclusive(['\n', '\r']).filter_map(move |line| {
        let at = start;
        start += line.len();
        let line = line.trim_start_matches('\u{feff}');
        let lead = line.len() - line.trim_start_matches([' ', '\t']).len();
        let rest = line[lead..].trim_end_matches(['\n', '\r', ' ', '\t']);
        let word = rest.split([' ', '\t']).next().unwrap_or_default();
        // Something behind the reference must be a comment.
        let behind = rest[word.len()..].trim_start_matches([' ', '\t']);
        let is_comment = behind.is_empty() || behind.starts_with('#');
        let offset = rest.as_ptr() as usize - line.as_ptr() as usize;
        let marked = usize::from(at == 0 && text.starts_with('\u{feff}')) * 3;
        let word = if is_comment { word } else { rest };
        (!word.is_empty() && !word.starts_with('#')).then_some((at + marked + offset, word))
    })
}

/// Whether every line is a reference, or a comment.
pub(super) fn is_one(text: &str) -> bool {
    let mut any = false;
    for (_, word) in words(text) {
        if !shape::looks_like_one(word) {
            return false;
        }
        any = true;
    }
    any
}

/// The references, with the byte of each.
pub(super) fn find(text: &str) -> Vec<(usize, Finding)> {
    let found = words(text).filter(|(_, word)| shape::looks_like_one(word));
    found
        .map(|(at, word)| {
            let slot = Slot::bare(at..at + word.len(), word);
            let access = Access::Edit(Box::new(Hold::Whole(slot)));
            (at, Finding { access, ..Finding::of(word.to_owned(), Dialect::List) })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_has_nothing_but_references_and_comments() {
        let text = "\u{feff}# ours\n\n  kettle:2  # boils\r\nbazaar.example/library/ashlog\n";
        assert!(is_one(text));
        let found: Vec<_> = find(text).into_iter().map(|(at, one)| (at, one.text)).collect();
        assert_eq!(found[0], (text.find("kettle").unwrap(), "kettle:2".into()));
        assert_eq!(found[1].1, "bazaar.example/library/ashlog");
        for other in ["", "# nothing\n", "kettle:2 is good\n", "kettle:2\nhello\n"] {
            assert!(!is_one(other), "{other}");
        }
    }
}
