//! Which images does a build need? The bases of its stages, what is copied or mounted from images,
//! and the image that reads the file itself. Read line by line: it is no tree.

mod words;

use std::borrow::Cow;
use std::collections::HashMap;
use std::ops::Range;

use super::super::finding::{Finding, FindingAccess, Workload};
use super::super::slot::Slot;
use super::super::variables::{self, FilledText, KnownValue};
use super::Dialect;
use words::{BuildWord, Quotes, instructions, is_simple};

/// Images that are taken from one file; one that names more is not read.
pub(super) const MOST: usize = 10_000;
/// Bytes of the defaults that are made of other arguments, all together.
const MOST_FILLED: usize = 1024 * 1024;
const STEMS: [&str; 2] = ["dockerfile", "containerfile"];
/// Instructions that begin a file of this kind.
const FIRST: [&str; 2] = ["FROM", "ARG"];

/// Whether a file is one, by its name: `Dockerfile`, `Dockerfile.dev`, `board.Dockerfile`.
pub(super) fn is_named_so(name: &str) -> bool {
    const TEXTS: [&str; 6] = [".md", ".html", ".rst", ".adoc", ".orig", ".rej"];
    let lower = name.to_ascii_lowercase();
    STEMS.iter().any(|stem| {
        lower == *stem
            || lower.strip_prefix(stem).is_some_and(|rest| rest.starts_with('.'))
            || lower.strip_suffix(stem).is_some_and(|rest| rest.ends_with('.'))
    }) && !TEXTS.iter().any(|ending| lower.ends_with(ending))
}

/// Whether a file may be one by its name, and its first instruction has to say so: `Dockerfile-1.2`.
pub(super) fn may_be_named_so(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    is_named_so(name)
        || STEMS.iter().any(|stem| {
            lower.strip_prefix(stem).is_some_and(|rest| rest.starts_with(['-', '_']))
                || lower.strip_suffix(stem).is_some_and(|rest| rest.ends_with(['-', '_']))
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

/// What was read of one file.
#[derive(Default)]
pub(super) struct Build {
    /// The references, with the byte of each.
    pub found: Vec<(usize, Finding)>,
    /// What its arguments say in other places than names of images: each with what it comes to.
    pub elsewhere: Vec<(String, Option<String>)>,
    /// It names more images than are read.
    pub too_many: bool,
}

/// Reads a file.
pub(super) fn find(text: &str) -> Build {
    let mut reading = StageReading {
        text,
        found: Vec::new(),
        arguments: HashMap::new(),
        filled: 0,
        stages: HashMap::new(),
        uses: HashMap::new(),
        elsewhere: Vec::new(),
    };
    let escape = reading.directives();
    let mut begun = false;
    let mut too_many = false;
    for words in instructions(text, escape) {
        if reading.found.len() > MOST {
            too_many = true;
            break;
        }
        let mut words = words.into_iter().peekable();
        words.next_if(|word| word.is("ONBUILD"));
        let Some(first) = words.next() else { continue };
        match first.text.to_ascii_uppercase().as_str() {
            "ARG" if !begun => words.for_each(|word| reading.argument(&word)),
            // A stage that names an argument makes its default a variable of everything that it runs.
            "ARG" => words.for_each(|word| reading.taken_over(&word)),
            "FROM" => {
                begun = true;
                reading.stage(&mut words);
            }
            by @ ("COPY" | "ADD" | "RUN") => {
                while let Some(option) = words.next_if(|word| word.text.starts_with("--")) {
                    reading.option(&option, by == "RUN");
                }
            }
            _ => {}
        }
    }
    reading.settle();
    let found = reading.found.into_iter().map(|one| (one.at, one.finding)).collect();
    Build { found, elsewhere: reading.elsewhere, too_many }
}

struct StageReading<'t> {
    text: &'t str,
    found: Vec<MetInstruction>,
    /// Arguments before the first stage, and the bytes of their defaults. None: they have none.
    arguments: HashMap<String, Option<KnownValue>>,
    /// Bytes of the defaults that are made of other arguments.
    filled: usize,
    /// The names of the stages, with their numbers.
    stages: HashMap<String, usize>,
    /// How often each argument is used for something, and its name at these times.
    uses: HashMap<String, usize>,
    /// See [`Build::elsewhere`].
    elsewhere: Vec<(String, Option<String>)>,
}

/// An image that was met.
struct MetInstruction {
    at: usize,
    finding: Finding,
    /// The arguments in it.
    names: Vec<String>,
}

impl<'t> StageReading<'t> {
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
                    let at = start + value.as_ptr() as usize - line.as_ptr() as usize;
                    let word = BuildWord { text: Cow::Borrowed(value), at: Some(at), shown: at };
                    self.image(&word, "syntax", false);
                }
                _ => {}
            }
        }
        escape
    }

    fn argument(&mut self, word: &BuildWord<'t>) {
        let Some((name, _)) = word.text.split_once('=') else {
            // Without a default it has the one that it had before, if any.
            self.arguments.entry(word.text.clone().into_owned()).or_default();
            return;
        };
        let (value, quotes) = word.from(name.len() + 1).bare();
        // It is set, and to what cannot be told.
        let unknown = || Some((variables::UNKNOWN.to_owned(), None));
        let known = if !is_simple(&value.text) {
            unknown()
        } else if !value.text.contains('$') {
            let span = value.at.map(|at| at..at + value.text.len());
            Some((value.text.into_owned(), span))
        } else if quotes == Quotes::Single {
            unknown()
        } else {
            // A default that is made of others: theirs are put in, and it cannot be edited.
            let filled = variables::fill(&value.text, 0, &|name| self.known(name));
            self.filled += filled.text.len();
            let whole = !filled.open && !filled.tag_elsewhere;
            let known = (whole && self.filled <= MOST_FILLED).then(|| filled.text.clone());
            for name in &filled.names {
                self.used(name);
            }
            self.elsewhere.push((format!("ARG {name}"), known.clone()));
            known.map(|text| (text, None)).or_else(unknown)
        };
        self.arguments.insert(name.to_owned(), known);
    }

    fn taken_over(&mut self, word: &BuildWord<'t>) {
        if !word.text.contains('=') && self.arguments.contains_key(&*word.text) {
            let name = word.text.clone().into_owned();
            self.used(&name);
            let value = self.known(&name).map(|(text, _)| text);
            self.elsewhere.push((name, value));
        }
    }

    fn used(&mut self, name: &str) {
        if self.uses.len() < MOST || self.uses.contains_key(name) {
            *self.uses.entry(name.to_owned()).or_default() += 1;
        }
    }

    fn known(&self, name: &str) -> Option<KnownValue> {
        self.arguments.get(name).cloned().flatten()
    }

    fn stage(&mut self, mut words: impl Iterator<Item = BuildWord<'t>>) {
        let mut image = None;
        for word in words.by_ref() {
            if !word.text.starts_with("--") {
                image = Some(word);
                break;
            }
            // `--platform=${ON}`
            for name in variables::fill(&word.text, 0, &|_| None).names {
                let value = self.known(&name).map(|(text, _)| text);
                self.used(&name);
                self.elsewhere.push((name, value));
            }
        }
        let Some(image) = image else { return };
        let named = words.next().filter(|word| word.is("as"));
        let stage = named.and_then(|_| words.next()).map(|word| word.text.to_lowercase());
        self.image(&image, "FROM", true);
        let number = self.stages.len();
        let mut stage = stage.unwrap_or_default();
        // One without a name has its number alone.
        if stage.is_empty() || self.stages.contains_key(&stage) {
            stage = format!("\u{1}{number}");
        }
        self.stages.insert(stage, number);
    }

    fn option(&mut self, option: &BuildWord<'t>, is_run: bool) {
        if !is_run {
            if let Some(from) = option.strip("--from=") {
                self.image(&from, "COPY", false);
            }
            return;
        }
        let Some(mount) = option.strip("--mount=") else { return };
        let mut at = 0;
        for part in mount.text.split(',') {
            if part.starts_with("from=") {
                self.image(&mount.part(at + "from=".len()..at + part.len()), "RUN", false);
            }
            at += part.len() + 1;
        }
    }

    /// Adds an image, unless the word means a stage of the file itself. `filled_in`: the builder puts the defaults of
    /// arguments in.
    fn image(&mut self, word: &BuildWord<'t>, by: &str, filled_in: bool) {
        let (word, quotes) = word.bare();
        let variables = word.text.contains('$');
        let nobody = |_: &str| None;
        let known = |name: &str| self.known(name);
        let start = word.at.unwrap_or_default();
        let simple = is_simple(&word.text) && !(variables && quotes == Quotes::Single);
        let filled = match filled_in && simple {
            true => variables::fill(&word.text, start, &known),
            false => variables::fill(&word.text, start, &nobody),
        };
        let name = filled.text.to_lowercase();
        let is_number = !filled_in && name.parse::<usize>().is_ok();
        if is_number || self.stages.contains_key(&name) || name == "scratch" || name.is_empty() {
            // What names a stage through an argument must go on to do so.
            for name in &filled.names {
                self.used(name);
            }
            if variables {
                self.elsewhere.push((word.text.into_owned(), Some(filled.text)));
            }
            return;
        }
        let access = self.access(&word, &filled, simple, filled_in);
        let finding = Finding {
            access,
            tag_elsewhere: filled.tag_elsewhere,
            workload: Workload { kind: "build".into(), ..Workload::default() },
            container: Some(by.to_owned()),
            ..Finding::of(filled.text, Dialect::Buildfile)
        };
        self.found.push(MetInstruction { at: word.shown, finding, names: filled.names });
    }

    fn access(
        &self,
        word: &BuildWord<'t>,
        filled: &FilledText,
        simple: bool,
        filled_in: bool,
    ) -> FindingAccess {
        if word.at.is_none() {
            return FindingAccess::Leave("it is written over several lines");
        }
        if !simple {
            return FindingAccess::Leave("quotes or escapes stand within it");
        }
        if !filled.literal && !filled_in {
            return FindingAccess::Leave(
                "a variable decides it, which not every builder fills in here",
            );
        }
        let text = self.text;
        let slot = |span: Range<usize>| text.get(span.clone()).map(|text| Slot::bare(span, text));
        match filled.hold(&slot) {
            Ok(hold) => FindingAccess::Edit(Box::new(hold)),
            Err(why) => FindingAccess::Leave(why),
        }
    }

    /// Leaves what stands in an argument that is used for something else too. An argument may name the image of
    /// several stages, and nothing else.
    fn settle(&mut self) {
        // Each use of an argument that is no slot of its image is one of another kind.
        let spans: HashMap<&str, Range<usize>> = self
            .arguments
            .iter()
            .filter_map(|(name, known)| Some((name.as_str(), known.as_ref()?.1.clone()?)))
            .collect();
        let mut others: HashMap<&str, bool> = HashMap::new();
        for name in self.uses.keys() {
            others.insert(name, true);
        }
        for met in &self.found {
            for name in &met.names {
                let span = spans.get(name.as_str());
                let slot = match (&met.finding.access, span) {
                    (FindingAccess::Edit(hold), Some(span)) => hold
                        .slots()
                        .any(|slot| span.start <= slot.span.start && slot.span.end <= span.end),
                    _ => false,
                };
                if !slot {
                    others.insert(name, true);
                }
            }
        }
        let kept: Vec<Range<usize>> =
            others.keys().filter_map(|name| spans.get(name)).cloned().collect();
        if kept.is_empty() {
            return;
        }
        for met in &mut self.found {
            let FindingAccess::Edit(hold) = &met.finding.access else { continue };
            let stands = |span: &Range<usize>| {
                hold.slots().any(|slot| span.start <= slot.span.start && slot.span.end <= span.end)
            };
            let within = met.names.iter().any(|name| spans.get(name.as_str()).is_some_and(stands));
            if within && kept.iter().any(stands) {
                met.finding.access = FindingAccess::Leave(
                    "the argument that names it is used for something else too",
                );
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(file: &str) -> Vec<(String, bool)> {
        let found = find(file).found.into_iter();
        found.map(|(_, one)| (one.text, matches!(one.access, FindingAccess::Edit(_)))).collect()
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
        let found = find(file).found;
        assert_eq!(found[0].1.text, "bazaar.example/library/kettle:2");
        assert!(matches!(found[0].1.access, FindingAccess::Leave(_)), "{:?}", found[0].1.access);
        // Its registry is used for that as well.
        assert!(matches!(found[1].1.access, FindingAccess::Leave(_)), "{:?}", found[1].1.access);
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
        for name in
            ["Dockerfiles", "mydockerfile", "deploy.yaml", "dockerfile-notes", "Dockerfile.md"]
        {
            assert!(!is_named_so(name), "{name}");
        }
        assert!(may_be_named_so("Dockerfile-1.2") && !may_be_named_so("Dockerfiles"));
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
