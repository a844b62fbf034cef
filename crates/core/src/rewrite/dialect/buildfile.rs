//! Which images does a build need? The bases of its stages, what is copied or mounted from images,
//! and the image that reads the file itself. Read line by line: it is no tree.

use std::collections::HashMap;
use std::ops::Range;

use super::super::finding::{Access, Finding, Workload};
use super::super::slot::Slot;
use super::super::variables::{self, Known};
use super::Dialect;

/// Images that are taken from one file.
const MOST: usize = 10_000;
/// Bytes of the defaults that are made of other arguments, all together.
const MOST_FILLED: usize = 1024 * 1024;
/// Instructions that begin a file of this kind.
const FIRST: [&str; 2] = ["FROM", "ARG"];

/// Whether a file is one, by its name.
pub(super) fn is_named_so(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    ["dockerfile", "containerfile"].iter().any(|stem| {
        lower == *stem
            || lower.strip_prefix(stem).is_some_and(|rest| rest.starts_with('.'))
            || lower.strip_suffix(stem).is_some_and(|rest| rest.ends_with('.'))
    })
}

/// Whether a file is one, by its first instruction.
pub(super) fn is_one(text: &str) -> bool {
    let text = text.trim_start_matches('\u{feff}');
    let lines = text.lines().map(str::trim_start);
    let mut lines = lines.filter(|line| !line.is_empty() && !line.starts_with('#'));
    let first = |line: &str| {
        let word = line.split_ascii_whitespace().next().unwrap_or_default();
        FIRST.iter().any(|known| word.eq_ignore_ascii_case(known))
    };
    lines.next().is_some_and(first)
        && text.lines().any(|line| {
            line.trim_start().get(..5).is_some_and(|word| word.eq_ignore_ascii_case("from "))
        })
}

/// A word of an instruction, and where it begins.
#[derive(Debug, Clone, Copy)]
struct Word<'t> {
    text: &'t str,
    at: usize,
}

impl Word<'_> {
    /// The rest of the word from a byte on.
    fn from(self, start: usize) -> Self {
        Word { text: &self.text[start..], at: self.at + start }
    }

    /// Without the quotes around it.
    fn bare(self) -> Self {
        let quoted = |quote: char| {
            self.text.len() >= 2 && self.text.starts_with(quote) && self.text.ends_with(quote)
        };
        if quoted('"') || quoted('\'') {
            return Word { text: &self.text[1..self.text.len() - 1], at: self.at + 1 };
        }
        self
    }

    fn strip(self, prefix: &str) -> Option<Self> {
        self.text.strip_prefix(prefix).map(|_| self.from(prefix.len()))
    }
}

/// The references, with the byte of each.
pub(super) fn find(text: &str) -> Vec<(usize, Finding)> {
    let mut reading =
        Reading { text, found: Vec::new(), arguments: HashMap::new(), filled: 0, stages: vec![] };
    let escape = reading.directives();
    let mut begun = false;
    for words in instructions(text, escape) {
        if reading.found.len() >= MOST {
            break;
        }
        let mut words = words.into_iter().peekable();
        words.next_if(|word| word.text.eq_ignore_ascii_case("ONBUILD"));
        let Some(first) = words.next() else { continue };
        match first.text.to_ascii_uppercase().as_str() {
            "ARG" if !begun => words.for_each(|word| reading.argument(word)),
            "FROM" => {
                begun = true;
                reading.stage(&mut words);
            }
            by @ ("COPY" | "ADD" | "RUN") => {
                while let Some(option) = words.next_if(|word| word.text.starts_with("--")) {
                    reading.option(option, by == "RUN");
                }
            }
            _ => {}
        }
    }
    reading.found
}

struct Reading<'t> {
    text: &'t str,
    found: Vec<(usize, Finding)>,
    /// Arguments before the first stage, and the bytes of their defaults. None: they have none.
    arguments: HashMap<&'t str, Option<Known>>,
    /// Bytes of the defaults that are made of other arguments.
    filled: usize,
    stages: Vec<String>,
}

impl<'t> Reading<'t> {
    /// The lines at the very top that say how the file is read. Gives the character that continues a
    /// line.
    fn directives(&mut self) -> char {
        let mut escape = '\\';
        let mut at = if self.text.starts_with('\u{feff}') { 3 } else { 0 };
        for line in self.text[at..].split_inclusive('\n') {
            let start = at;
            at += line.len();
            let Some(body) = line.trim().strip_prefix('#') else { break };
            let Some((name, value)) = body.split_once('=') else { break };
            let value = value.trim();
            match name.trim().to_ascii_lowercase().as_str() {
                "escape" if value == "`" => escape = '`',
                "syntax" if !value.is_empty() => {
                    let offset = value.as_ptr() as usize - line.as_ptr() as usize;
                    self.image(Word { text: value, at: start + offset }, "syntax");
                }
                _ => {}
            }
        }
        escape
    }

    fn argument(&mut self, word: Word<'t>) {
        let (name, value) = match word.text.split_once('=') {
            Some((name, _)) => {
                let value = word.from(name.len() + 1).bare();
                let span = value.at..value.at + value.text.len();
                // A default that is made of others: theirs are put in, and it cannot be edited.
                if value.text.contains('$') {
                    let filled = variables::fill(value.text, value.at, &|name| self.known(name));
                    self.filled += filled.text.len();
                    let whole = !filled.open && !filled.tag_elsewhere;
                    let known = whole && self.filled <= MOST_FILLED;
                    (name, known.then_some((filled.text, None)))
                } else {
                    (name, Some((value.text.to_owned(), Some(span))))
                }
            }
            None => (word.text, None),
        };
        self.arguments.insert(name, value);
    }

    fn known(&self, name: &str) -> Option<Known> {
        self.arguments.get(name).cloned().flatten()
    }

    fn stage(&mut self, mut words: impl Iterator<Item = Word<'t>>) {
        let Some(image) = words.find(|word| !word.text.starts_with("--")) else { return };
        let named = words.next().filter(|word| word.text.eq_ignore_ascii_case("as"));
        let stage = named.and_then(|_| words.next()).map(|word| word.text.to_lowercase());
        self.image(image, "FROM");
        self.stages.push(stage.unwrap_or_default());
    }

    fn option(&mut self, option: Word<'t>, is_run: bool) {
        if !is_run {
            if let Some(from) = option.strip("--from=") {
                self.image(from, "COPY");
            }
            return;
        }
        let Some(mount) = option.strip("--mount=") else { return };
        let mut at = 0;
        for part in mount.text.split(',') {
            if let Some(text) = part.strip_prefix("from=") {
                let from = mount.from(at + "from=".len());
                self.image(Word { text, at: from.at }, "RUN");
            }
            at += part.len() + 1;
        }
    }

    /// Adds an image, unless the word means a stage of the file itself.
    fn image(&mut self, word: Word<'t>, by: &str) {
        let word = word.bare();
        let filled = variables::fill(word.text, word.at, &|name| self.known(name));
        let name = filled.text.to_lowercase();
        let is_stage = name.parse::<usize>().is_ok() || self.stages.contains(&name);
        if is_stage || name == "scratch" || name.is_empty() {
            return;
        }
        let text = self.text;
        let slot = |span: Range<usize>| text.get(span.clone()).map(|text| Slot::bare(span, text));
        let hold = filled.hold(&slot);
        let finding = Finding {
            access: hold.map_or_else(Access::Leave, |hold| Access::Edit(Box::new(hold))),
            tag_elsewhere: filled.tag_elsewhere,
            workload: Workload { kind: "build".into(), ..Workload::default() },
            container: Some(by.to_owned()),
            ..Finding::of(filled.text, Dialect::Buildfile)
        };
        self.found.push((word.at, finding));
    }
}

/// The instructions as their words; continued lines are joined, comments and what is read by
/// others (here-documents) left out.
fn instructions(text: &str, escape: char) -> Vec<Vec<Word<'_>>> {
    let mut all: Vec<Vec<Word<'_>>> = Vec::new();
    let mut open: Option<Vec<Word<'_>>> = None;
    // What ends the here-documents that have begun, and whether tabs may stand before it.
    let mut inside: Vec<(&str, bool)> = Vec::new();
    let mut start = usize::from(text.starts_with('\u{feff}')) * 3;
    for line in text[start..].split_inclusive('\n') {
        let at = start;
        start += line.len();
        let body = line.trim_end_matches(['\n', '\r']);
        if let Some((end, tabs)) = inside.first() {
            let bare = if *tabs { body.trim_start_matches('\t') } else { body };
            if bare == *end {
                inside.remove(0);
            }
            continue;
        }
        let bare = body.trim();
        if bare.starts_with('#') || (open.is_some() && bare.is_empty()) {
            continue;
        }
        let mut words = open.take().unwrap_or_default();
        let (bare, continued) = match bare.strip_suffix(escape) {
            Some(part) => (part, true),
            None => (bare, false),
        };
        for word in bare.split_ascii_whitespace() {
            let offset = word.as_ptr() as usize - line.as_ptr() as usize;
            inside.extend(here_document(word));
            words.push(Word { text: word, at: at + offset });
        }
        if !words.first().is_some_and(|word| reads_more(word.text)) {
            inside.clear();
        }
        if continued {
            inside.clear();
            open = Some(words);
        } else {
            all.push(words);
        }
    }
    all.extend(open);
    all
}

fn reads_more(instruction: &str) -> bool {
    ["RUN", "COPY", "ADD", "ONBUILD"].iter().any(|word| instruction.eq_ignore_ascii_case(word))
}

/// What ends a here-document that a word begins: `<<EOF`, `<<-"EOF"`, `3<<EOF`.
fn here_document(word: &str) -> Option<(&str, bool)> {
    let (_, rest) = word.split_once("<<")?;
    let (rest, tabs) = match rest.strip_prefix('-') {
        Some(rest) => (rest, true),
        None => (rest, false),
    };
    let end = rest.trim_matches(['"', '\'']);
    let known = |b: u8| b.is_ascii_alphanumeric() || b == b'_';
    (!end.is_empty() && end.bytes().all(known)).then_some((end, tabs))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(file: &str) -> Vec<(String, bool)> {
        let found = find(file).into_iter();
        found.map(|(_, one)| (one.text, matches!(one.access, Access::Edit(_)))).collect()
    }

    #[test]
    fn every_way_to_name_an_image_is_found() {
        let file = "# syntax=bazaar.example/library/builder:1\n\
            ARG BASE=kettle\nARG TAG\nARG WHOLE=\"bazaar.example/library/ashlog:1.4\"\n\
            FROM --platform=linux/amd64 ${BASE}:2 AS Boil\n\
            from bazaar.example/library/ashlog:${TAG:-1.4}\n\
            FROM brinedb:$TAG\n\
            FROM $WHOLE\nFROM ${NOTHING}/x\n\
            # FROM commented:1\n\
            FROM boil\n\
            FROM scratch\n\
            COPY --chown=1 --from=ventworks.example/gauges/steamgauge:1.9.2 \\\n  # why\n  /a \\\n  /b\n\
            COPY --from=boil /a /b\nCOPY --from=0 /a /b\n\
            RUN <<EOF\nFROM inside:1\nEOF\n\
            COPY <<-\"END\" /x\nFROM inside:2\n\tEND\n\
            ONBUILD COPY --from=kettle:3 /a /b\n\
            RUN --mount=type=bind,from=bazaar.example/library/tools,target=/t make\n";
        assert_eq!(
            texts(file),
            [
                ("bazaar.example/library/builder:1".into(), true),
                ("kettle:2".into(), true),
                ("bazaar.example/library/ashlog:1.4".into(), true),
                ("brinedb".into(), true),
                ("bazaar.example/library/ashlog:1.4".into(), true),
                ("${NOTHING}/x".into(), false),
                ("ventworks.example/gauges/steamgauge:1.9.2".into(), true),
                ("kettle:3".into(), true),
                ("bazaar.example/library/tools".into(), true),
            ]
        );
        let windows = "# escape=`\r\nFROM kettle:2 `\r\n  AS base\r\nFROM base\r\n";
        assert_eq!(texts(windows), [("kettle:2".into(), true)]);
    }

    #[test]
    fn a_default_that_is_made_of_others_has_no_place_in_the_file() {
        let file = "ARG REG=bazaar.example\nARG BASE=${REG}/library/kettle:2\nFROM ${BASE}\nFROM $REG/library/ashlog:1\n";
        let found = find(file);
        assert_eq!(found[0].1.text, "bazaar.example/library/kettle:2");
        assert!(matches!(found[0].1.access, Access::Leave(_)), "{:?}", found[0].1.access);
        assert!(matches!(found[1].1.access, Access::Edit(_)));
    }

    #[test]
    fn arguments_that_double_each_other_stay_small() {
        let mut file = "ARG A0=aaaaaaaaaa\n".to_owned();
        for number in 1..=20_000 {
            let last = number - 1;
            file.push_str(&format!("ARG A{number}=${{A{last}}}${{A{last}}}\n"));
        }
        file.push_str("FROM ${A3}\nFROM ${A41}\n");
        let found = texts(&file);
        assert_eq!(found[0].0, "a".repeat(80));
        assert_eq!(found[1], ("${A41}".to_owned(), false));
    }

    #[test]
    fn files_are_known_by_their_names_and_by_what_they_begin_with() {
        for name in ["Dockerfile", "dockerfile.dev", "board.Dockerfile", "Containerfile"] {
            assert!(is_named_so(name), "{name}");
        }
        for name in ["Dockerfiles", "mydockerfile", "deploy.yaml", "dockerfile-notes"] {
            assert!(!is_named_so(name), "{name}");
        }
        assert!(is_one("# x\n\nARG A=1\nfrom kettle:$A\n"));
        assert!(!is_one("From: somebody\nto: you\n"));
        assert!(!is_one("run: x\nFROM kettle\n"));
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics(text in "((FROM|ARG|COPY --from=|RUN --mount=from=|# syntax=|RUN <<E)[ $a-z{}:\\-\\\\]{0,12}\n|\\PC{0,10}){0,6}") {
            find(&text);
        }
    }
}
