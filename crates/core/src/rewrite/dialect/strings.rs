//! Image references within longer texts: environment values, arguments, files in ConfigMaps.

use std::ops::Range;

use super::shape;
use larder_yaml::{NodeId, NodeKind, Tree};

/// What the surroundings of a text say of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hint {
    /// Its name speaks of an image: a tag alone makes it one.
    Image,
    /// Nothing: only a name with a registry and a tag or digest is one.
    Nothing,
}

impl Hint {
    /// By the name of a variable.
    pub fn of_name(name: Option<&str>) -> Self {
        /// What follows `image` in names of settings that are about images and name none.
        const OTHERS: [&str; 32] = [
            "proxy",
            "url",
            "uri",
            "host",
            "hostname",
            "port",
            "addr",
            "address",
            "endpoint",
            "server",
            "service",
            "path",
            "dir",
            "directory",
            "folder",
            "file",
            "format",
            "size",
            "type",
            "width",
            "height",
            "quality",
            "cache",
            "policy",
            "pull",
            "push",
            "user",
            "username",
            "password",
            "secret",
            "api",
            "store",
        ];
        let says = name.is_some_and(|name| {
            let lower = name.to_ascii_lowercase();
            let Some(at) = lower.rfind("image") else { return false };
            // `IMAGE_PROXY`, `imageCacheUrl`: the words behind it say what it is.
            let behind = lower[at + "image".len()..]
                .trim_start_matches('s')
                .trim_start_matches(['_', '-', '.']);
            !OTHERS.iter().any(|word| behind.starts_with(word) || behind.ends_with(word))
        });
        if says { Self::Image } else { Self::Nothing }
    }

    /// By a word of a command line itself: `--sidecar-image=kettle:2`.
    pub fn of_word(word: Option<&str>) -> Self {
        let option = word.and_then(|word| word.split_once('='));
        Self::of_name(option.map(|(option, _)| option).filter(|option| option.starts_with('-')))
    }
}

/// References in one scalar at the most.
pub(super) const MOST: usize = 1000;
/// What cannot be part of a reference ends a word.
const ENDS: [char; 14] = [' ', '\t', '\r', '\n', '"', '\'', '=', ',', ';', '(', ')', '<', '>', '|'];

/// The bytes in the tree's text that hold references. Empty where the scalar is an alias: what it
/// stands for is found where it is defined.
pub(super) fn pieces(tree: &Tree<'_>, node: NodeId, hint: Hint) -> Vec<Range<usize>> {
    let node = &tree.nodes[node];
    if !matches!(node.kind, NodeKind::Scalar(_)) {
        return Vec::new();
    }
    let span = node.span();
    let Some(raw) = tree.text.get(span.clone()) else { return Vec::new() };
    // Without these there is neither a registry nor a word that says so.
    if hint == Hint::Nothing && memchr::memchr2(b'/', b':', raw.as_bytes()).is_none() {
        return Vec::new();
    }
    words(raw)
        .filter(|(at, word)| {
            shape::looks_like_one(word) && is_one(word, says_image(&raw[..*at], hint))
        })
        .map(|(at, word)| span.start + at..span.start + at + word.len())
        .take(MOST)
        .collect()
}

/// The references in a line of a template, and where each begins: those that stand there, and what is filled in behind
/// an option that speaks of an image (`--sidecar-image={{ … }}:{{ … }}`).
pub(super) fn of_line(line: &str) -> Vec<(usize, &str)> {
    let option_before = |at: usize| {
        let before = line[..at].strip_suffix('=')?;
        let start = before.rfind(ENDS).map_or(0, |end| end + 1);
        Some(&before[start..]).filter(|name| name.starts_with('-'))
    };
    let mut all = Vec::new();
    // Nothing is filled in behind the last of these.
    let last = line.rfind("}}").unwrap_or(0);
    let mut filled_to = 0;
    for (at, _) in line.match_indices('=') {
        let at = at + 1;
        if at > filled_to && at < last && Hint::of_name(option_before(at)) == Hint::Image {
            let value = filled_word(&line[at..]);
            if value.contains("{{") {
                filled_to = at + value.len();
                all.push((at, value));
            }
        }
    }
    let open: Vec<_> =
        all.iter().map(|(at, value): &(usize, &str)| *at..at + value.len()).collect();
    let literal = words(line).filter(|(at, word)| {
        shape::looks_like_one(word)
            && is_one(word, says_image(&line[..*at], Hint::of_name(option_before(*at))))
            && {
                let before = open.partition_point(|span| span.start <= *at);
                before.checked_sub(1).is_none_or(|last| open[last].end <= *at)
            }
    });
    all.extend(literal);
    all.truncate(MOST);
    all
}

/// A word with what stands between `{{` and `}}` in it.
fn filled_word(text: &str) -> &str {
    let mut end = 0;
    while let Some(next) = text[end..].chars().next() {
        let length = match text[end..].strip_prefix("{{").map(|inside| inside.find("}}")) {
            Some(Some(inside)) => inside + 4,
            Some(None) => break,
            None if next == ']' || ENDS.contains(&next) => break,
            None => next.len_utf8(),
        };
        end += length;
    }
    &text[..end]
}

/// The words of a text, and where each begins.
pub(in super::super) fn words(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut start = 0;
    text.split(ENDS).map(move |word| {
        let at = start;
        // What ends a word is one byte long.
        start += word.len() + 1;
        (at, word)
    })
}

/// Whether what stands before a word on its line is the key `image`. Looks at what stands right before it
/// alone: a text in JSON is one line, however long it is.
fn says_image(before: &str, hint: Hint) -> bool {
    let key = before.trim_end_matches([' ', '"', '\'']).strip_suffix(':');
    let key = key.map(|key| key.trim_end_matches(['"', '\'', ' ']));
    hint == Hint::Image || key.is_some_and(|key| key.ends_with("image"))
}

/// Whether a word that looks like a reference is one.
fn is_one(word: &str, says_image: bool) -> bool {
    let tagged = word.rsplit('/').next().is_some_and(|last| last.contains(':'));
    let fixed = word.contains("@sha256:") || word.contains("@sha512:");
    // `host:port/path` and `key:value` are everywhere; a name, a slash and a tag are not.
    says_image || (shape::names_registry(word) && (tagged || fixed) && has_dotted_host(word))
}

fn has_dotted_host(word: &str) -> bool {
    word.split('/').next().is_some_and(|host| {
        host.contains('.') && host.bytes().any(|b| b.is_ascii_alphabetic())
            || host.starts_with("localhost:")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_can_be_nothing_else_is_found_without_a_word_that_says_so() {
        for (word, says, expected) in [
            ("bazaar.example/library/kettle:2", false, true),
            ("localhost:5000/kettle:2", false, true),
            ("kettle:2", false, false),
            ("kettle:2", true, true),
            ("bazaar.example/library/kettle", false, false),
            ("bazaar.example/library/kettle", true, true),
            ("10.0.0.1:53/udp:1", false, false),
            ("a/b/c:rw", false, false),
            ("postgres://h/x:1", true, false),
        ] {
            let found = shape::looks_like_one(word) && is_one(word, says);
            assert_eq!(found, expected, "{word}");
        }
    }

    #[test]
    fn lines_of_templates_are_read_by_what_stands_in_them() {
        for (line, expected) in [
            ("args: [\"--a=bazaar.example/x/y:1\"]", &["bazaar.example/x/y:1"][..]),
            ("- --helper-image=kettle:2", &["kettle:2"]),
            ("- --helper=kettle:2 http://x.example/a:1", &[]),
            (
                "- \"--helper-image={{ .Values.a }}:{{ .Values.b }}\", '--c-image={{ d }}'",
                &["{{ .Values.a }}:{{ .Values.b }}", "{{ d }}"],
            ),
            ("- --helper-image={{ .Values.a", &[]),
            (
                "- --helper-image={{ default \"bazaar.example/x/y:1\" .a }}",
                &["{{ default \"bazaar.example/x/y:1\" .a }}"],
            ),
            ("- --config={{ .Values.a }}", &[]),
        ] {
            let found: Vec<&str> = of_line(line).into_iter().map(|(_, word)| word).collect();
            assert_eq!(found, expected, "{line}");
        }
        for unit in ["=", "-image=", "--image={{", "--image={{}}", "a.example/b/c:1 "] {
            assert!(of_line(&unit.repeat(1_000_000 / unit.len())).len() <= MOST);
        }
    }

    #[test]
    fn a_name_that_speaks_of_images_need_not_hold_one() {
        for name in [
            "IMAGE",
            "SIDECAR_IMAGE",
            "RELATED_IMAGE_BOARD",
            "imageRef",
            "--helper-image",
            "IMAGES",
        ] {
            assert_eq!(Hint::of_name(Some(name)), Hint::Image, "{name}");
        }
        for name in [
            "IMAGE_PROXY",
            "IMAGE_SERVICE_HOST",
            "imageCacheUrl",
            "IMAGE_PULL_POLICY",
            "OTHER",
            "--image-port",
        ] {
            assert_eq!(Hint::of_name(Some(name)), Hint::Nothing, "{name}");
        }
    }

    #[test]
    fn a_text_is_looked_through_once_however_it_is_made() {
        for unit in [
            "image: a.example/b/c:1 ",
            "x ",
            "    ",
            "\"\"\"\"",
            "a.example/b/c:1 ",
            "image:      ",
        ] {
            let text = format!("'{}a.example/b/c:1'", unit.repeat(3_000_000 / unit.len()));
            let tree = super::super::super::parse(&text).unwrap();
            let found = pieces(&tree, tree.documents[0], Hint::Nothing);
            assert!(found.len() <= MOST);
        }
    }
}
