//! Plain lists: one reference on each line, comments after `#`.

use super::super::finding::{Finding, FindingAccess, Over};
use super::super::slot::{Hold, Slot};
use super::{Dialect, shape};

/// Lines that are looked at to tell what a file is.
const LOOKED_AT: usize = 1000;

/// What a line says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ListLine {
    /// A name with a tag or a digest.
    Image,
    /// A name with a registry and nothing more.
    Name,
    /// A host with a port.
    Port,
    /// One word that speaks of a registry or a tag, and is no reference.
    Malformed,
    Other,
}

/// The first word of each line that is no comment, with the byte at which it begins; the whole line where more follows
/// than a comment.
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

fn line(word: &str) -> ListLine {
    if word.len() > 1024 || word.contains([' ', '\t']) {
        return ListLine::Other;
    }
    if shape::is_host_and_port(word) {
        return ListLine::Port;
    }
    if shape::is_digest_alone(word) {
        return ListLine::Other;
    }
    if shape::looks_like_one(word) {
        return if shape::has_tag(word) { ListLine::Image } else { ListLine::Name };
    }
    let speaks =
        word.contains('/') && word.rsplit('/').next().is_some_and(|last| last.contains(':'));
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"._-/:@".contains(&b);
    if speaks && word.bytes().all(plain) { ListLine::Malformed } else { ListLine::Other }
}

/// Whether a file speaks of images by its name.
fn is_named_so(name: &str) -> bool {
    name.to_ascii_lowercase().contains("image")
}

/// Whether a text is a list of references. By its name one odd line is enough that is a reference; of another at
/// least half of the lines are, and what has neither a tag nor a digest is no list of images.
pub(super) fn is_one(text: &str, name: &str) -> bool {
    let (mut images, mut names, mut ports, mut all) = (0, 0, 0, 0);
    for (_, word) in words(text).take(LOOKED_AT) {
        all += 1;
        match line(word) {
            ListLine::Image => images += 1,
            ListLine::Name => names += 1,
            ListLine::Port => ports += 1,
            ListLine::Malformed | ListLine::Other => {}
        }
    }
    if is_named_so(name) {
        return images + names > 0;
    }
    // Numbers without any other tag are ports: `broker:9092`.
    images > 0
        && ports == 0
        && 2 * (images + names) >= all
        && !words(text).take(LOOKED_AT).all(|(_, word)| shape::may_be_port(word))
}

/// What stands in a list.
#[derive(Default)]
pub(super) struct ListItems {
    /// The references, with the byte of each.
    pub found: Vec<(usize, Finding)>,
    /// What is passed over, likewise.
    pub passed: Vec<(usize, String, Over)>,
}

/// Reads a list.
pub(super) fn find(text: &str, name: &str) -> ListItems {
    let mut listed = ListItems::default();
    // Among images, by the name of the file too, a word alone is one.
    let with_words =
        is_named_so(name) && words(text).any(|(_, word)| line(word) == ListLine::Image);
    for (at, word) in words(text) {
        let said = match line(word) {
            ListLine::Other if with_words && is_repository(word) => ListLine::Name,
            said => said,
        };
        match said {
            ListLine::Image | ListLine::Name | ListLine::Malformed => {
                let slot = Slot::bare(at..at + word.len(), word);
                let access = FindingAccess::Edit(Box::new(Hold::Whole(slot)));
                let finding = Finding { access, ..Finding::of(word.to_owned(), Dialect::List) };
                listed.found.push((at, finding));
            }
            ListLine::Port => listed.passed.push((at, word.to_owned(), Over::Port)),
            ListLine::Other => listed.passed.push((at, word.to_owned(), Over::Line)),
        }
    }
    listed
}

/// Whether a word can be the name of an image alone, or with a path before it.
fn is_repository(word: &str) -> bool {
    let known = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b"._-/".contains(&b);
    let ends = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    word.bytes().all(known)
        && word.starts_with(ends)
        && word.ends_with(ends)
        && !word.contains("//")
}

/// Why a text that could be a list is none. None: nothing in it looks like a reference.
pub(super) fn why_not(text: &str) -> Option<Over> {
    let mut met = None;
    for (_, word) in words(text).take(LOOKED_AT) {
        match line(word) {
            ListLine::Image if shape::may_be_port(word) => met = met.or(Some(Over::Port)),
            ListLine::Port => met = met.or(Some(Over::Port)),
            ListLine::Name => met = met.or(Some(Over::Names)),
            _ => return None,
        }
    }
    met
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_has_nothing_but_references_and_comments() {
        let text = "\u{feff}# ours\n\n  kettle:2  # boils\r\nbazaar.example/library/ashlog\n";
        assert!(is_one(text, ""));
        let found: Vec<_> =
            find(text, "").found.into_iter().map(|(at, one)| (at, one.text)).collect();
        assert_eq!(found[0], (text.find("kettle").unwrap(), "kettle:2".into()));
        assert_eq!(found[1].1, "bazaar.example/library/ashlog");
        for other in [
            "",
            "# nothing\n",
            "kettle:2 is good\n",
            "kettle:2\nhello\nall\n",
            "broker-0.broker:9092\nbroker-1.broker:9092\n",
            "broker:9092\n",
            "sha256:0123456789012345678901234567890123456789\n",
            "forge.example/pkg/errors\nforge.example/pkg/valves\n",
        ] {
            assert!(!is_one(other, "notes.txt"), "{other}");
        }
        // One odd line hides nothing.
        let odd =
            "kettle:2\nbazaar.example/library/ashlog:1\nnot an image line\nforge.example//x:1\n";
        assert!(is_one(odd, "12-list.txt") && is_one(odd, "images.lst"));
        let listed = find(odd, "");
        assert_eq!(listed.found.len(), 3);
        assert_eq!(listed.passed, [(41, "not an image line".to_owned(), Over::Line)]);
        assert!(is_one("a\nb\nc\nkettle:2\n", "images.txt"));
    }
}
