//! Why can a reference not be read, and what was probably meant?

use std::fmt;

use super::{Unqualified, read};
use crate::digest::DigestError;
use crate::name::NameError;

/// A text that is no reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MalformedReference {
    /// The text as written.
    pub text: String,
    /// What is wrong with it; the first thing that a reader meets.
    pub reason: Reason,
    /// What was meant, when one meaning is clear; always readable itself. None: it must be asked.
    pub proposal: Option<String>,
}

/// What is wrong with a reference.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Reason {
    #[error("it is empty")]
    Empty,
    /// `https://` or the like in front.
    #[error("it starts with `{0}`; a reference has no scheme")]
    Scheme(String),
    /// A blank or another character that cannot be seen.
    #[error("there is a blank in it")]
    Blank,
    /// A quotation mark.
    #[error("there is a quotation mark in it")]
    Quote,
    /// A mark of a template that was not filled in.
    #[error("there is a placeholder in it that was not filled in")]
    Placeholder,
    /// A slash at the end.
    #[error("it ends with a slash")]
    TrailingSlash,
    /// A colon with nothing after it.
    #[error("there is a colon, but no tag after it")]
    EmptyTag,
    /// A registry with nothing after it.
    #[error("it names a registry, but no repository in it")]
    MissingRepository,
    /// The digest cannot be read.
    #[error("{0}")]
    Digest(DigestError),
    /// One of the names cannot exist.
    #[error("{0}")]
    Name(NameError),
}

impl Reason {
    /// A short stable word for machines.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Empty => "empty",
            Self::Scheme(_) => "scheme",
            Self::Blank => "blank",
            Self::Quote => "quote",
            Self::Placeholder => "placeholder",
            Self::TrailingSlash => "trailing-slash",
            Self::EmptyTag => "empty-tag",
            Self::MissingRepository => "missing-repository",
            Self::Digest(_) => "digest",
            Self::Name(NameError::UpperCase(_)) => "upper-case",
            Self::Name(_) => "name",
        }
    }
}

impl fmt::Display for MalformedReference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Hostile texts are shown with their control characters made visible, and cut.
        let shown: String = self.text.chars().take(120).flat_map(char::escape_debug).collect();
        write!(f, "`{shown}` is not an image reference: {}", self.reason)
    }
}

impl std::error::Error for MalformedReference {}

/// The marks by which templates are told from literal text.
pub(crate) const TEMPLATE_MARKS: [&str; 6] = ["{{", "{%", "<%", "${", "$(", "@@"];

/// Whether somebody else fills a text in: there is a mark of a template in it, a variable of a shell, or a name
/// between marks (`@IMAGE@`, `<image>`).
pub fn is_open(text: &str) -> bool {
    let between = |open: char, close: char| {
        let inside = text.split_once(open).and_then(|(_, rest)| rest.split_once(close));
        inside.is_some_and(|(name, _)| {
            !name.is_empty()
                && name.chars().all(|c| c.is_ascii_alphanumeric() || "_- .".contains(c))
        })
    };
    text.contains('$')
        || TEMPLATE_MARKS.iter().any(|mark| text.contains(mark))
        || between('@', '@')
        || between('<', '>')
}

/// Refuses what no reference has, whatever its parts: so that the reason is the one a person sees.
pub(super) fn refuse_at_sight(text: &str) -> Result<(), Reason> {
    let blank = |c: char| c.is_whitespace() || c.is_control();
    if text.trim_matches(blank).is_empty() {
        return Err(Reason::Empty);
    }
    if is_open(text) {
        return Err(Reason::Placeholder);
    }
    if text.contains(['"', '\'', '`']) {
        return Err(Reason::Quote);
    }
    if text.contains(blank) {
        return Err(Reason::Blank);
    }
    if let Some(at) = text.find("://") {
        return Err(Reason::Scheme(text[..at + 3].to_owned()));
    }
    if let Some(rest) = text.strip_suffix('/') {
        let only_host = !rest.contains('/') && (rest.contains(['.', ':']) || rest == "localhost");
        return Err(if only_host { Reason::MissingRepository } else { Reason::TrailingSlash });
    }
    Ok(())
}

/// Adds the proposal: the text with everything mended that has one clear meaning.
pub(super) fn explain(text: &str, reason: Reason, unqualified: &Unqualified) -> MalformedReference {
    // A registry alone is no image, and a digest that is wrong may be meant as another one.
    let clear = !matches!(
        reason,
        Reason::Placeholder | Reason::Empty | Reason::MissingRepository | Reason::Digest(_)
    );
    let proposal = clear
        .then(|| mend(text))
        .filter(|mended| mended != text && read(mended, unqualified).is_ok());
    MalformedReference { text: text.to_owned(), reason, proposal }
}

fn mend(text: &str) -> String {
    let blank = |c: char| c.is_whitespace() || c.is_control();
    let trimmed = text.trim_matches(blank);
    // A blank beside a sign that parts a name is one too many; one within a word may be anything.
    let parts = |c: Option<char>| {
        c.is_some_and(|c| blank(c) || matches!(c, '/' | ':' | '@' | '"' | '\'' | '`'))
    };
    let within = trimmed.char_indices().any(|(at, c)| {
        let after = trimmed[at + c.len_utf8()..].chars().next();
        blank(c) && !parts(trimmed[..at].chars().next_back()) && !parts(after)
    });
    if within {
        return text.to_owned();
    }
    let bare: String = text
        .chars()
        .filter(|c| !c.is_whitespace() && !c.is_control() && !matches!(c, '"' | '\'' | '`'))
        .collect();
    let bare = bare.rfind("://").map_or(bare.as_str(), |at| &bare[at + 3..]);
    let bare = bare.trim_end_matches(['/', ':', '@']);
    let (name, digest) = match bare.split_once('@') {
        Some((name, digest)) => (name, Some(digest.to_ascii_lowercase())),
        None => (bare, None),
    };
    let last = name.rfind('/').map_or(0, |slash| slash + 1);
    let (name, tag) = match name[last..].find(':') {
        Some(colon) => name.split_at(last + colon),
        None => (name, ""),
    };
    let path: Vec<&str> = name.split('/').filter(|part| !part.is_empty()).collect();
    let mut mended = path.join("/").to_ascii_lowercase();
    mended.push_str(tag);
    // A digest that is wrong pins nothing, and without it the image would be another one tomorrow.
    match digest {
        Some(digest) if digest.parse::<crate::digest::Digest>().is_ok() => {
            mended.push('@');
            mended.push_str(&digest);
        }
        Some(_) => return text.to_owned(),
        None => {}
    }
    mended
}

#[cfg(test)]
mod tests {
    use super::super::Reference;
    use super::*;

    #[test]
    fn each_mistake_has_its_reason_and_its_proposal() {
        let short = "bazaar.example/kettle:2@sha256:12ab";
        for (written, word, proposal) in [
            ("https://bazaar.example/kettle:2", "scheme", Some("bazaar.example/kettle:2")),
            ("http://bazaar.example/kettle", "scheme", Some("bazaar.example/kettle")),
            ("Kettle:2", "upper-case", Some("kettle:2")),
            (
                "bazaar.example/Library/Kettle:V2",
                "upper-case",
                Some("bazaar.example/library/kettle:V2"),
            ),
            (" kettle:2", "blank", Some("kettle:2")),
            ("kettle :2", "blank", Some("kettle:2")),
            ("\"kettle:2\"", "quote", Some("kettle:2")),
            ("kettle:", "empty-tag", Some("kettle")),
            ("kettle/", "trailing-slash", Some("kettle")),
            ("bazaar.example//kettle", "name", Some("bazaar.example/kettle")),
            ("bazaar.example/", "missing-repository", None),
            ("127.0.0.1:5000", "missing-repository", None),
            ("localhost", "missing-repository", None),
            (":2", "missing-repository", None),
            (short, "digest", None),
            ("kettle@sha256:12ab", "digest", None),
            ("kettle:a b", "blank", None),
            ("kettle: 2", "blank", Some("kettle:2")),
            ("${REGISTRY}/kettle", "placeholder", None),
            ("$REGISTRY/kettle", "placeholder", None),
            ("@IMAGE@", "placeholder", None),
            ("<image>:2", "placeholder", None),
            ("", "empty", None),
            ("bazaar.example:99999/kettle", "name", None),
        ] {
            let malformed = Reference::read(written, &Unqualified::default()).unwrap_err();
            assert_eq!(malformed.reason.word(), word, "{written}");
            assert_eq!(malformed.proposal.as_deref(), proposal, "{written}");
        }
    }
}
