//! Which images does a Dockerfile name? The base images of its stages, what is copied or mounted from
//! images, and the image that reads the file itself.

use std::collections::HashMap;

/// An image that a Dockerfile names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// The line, counted from 1, on which the instruction begins.
    pub line: usize,
    /// The instruction's word: `FROM`, `COPY`, `ADD`, `RUN`, `syntax`.
    pub by: &'static str,
    /// The reference, with the defaults of its arguments put in.
    pub text: String,
    /// Whether it holds an argument without a default: only a build can tell what it is.
    pub open: bool,
}

/// The largest file that is looked into, in bytes.
pub const LIMIT: usize = 1024 * 1024;
/// Images that are taken from one file.
const MOST: usize = 1000;

/// Whether a file is one, by its name.
pub fn is_buildfile(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    ["dockerfile", "containerfile"].iter().any(|stem| {
        lower == *stem
            || lower.strip_prefix(stem).is_some_and(|rest| rest.starts_with('.'))
            || lower.strip_suffix(stem).is_some_and(|rest| rest.ends_with('.'))
    })
}

/// Finds them, in the order of the file. What is no Dockerfile names none.
///
/// ```
/// use larder_core::buildfile::images;
///
/// let found = images("ARG V=2\nFROM kettle:$V AS base\nFROM base\nCOPY --from=ashlog:1 /a /b\n");
/// let texts: Vec<&str> = found.iter().map(|one| one.text.as_str()).collect();
/// assert_eq!(texts, ["kettle:2", "ashlog:1"]);
/// ```
pub fn images(text: &str) -> Vec<Named> {
    let mut found = Vec::new();
    let mut arguments: HashMap<String, Option<String>> = HashMap::new();
    let mut stages: Vec<String> = Vec::new();
    let (mut escape, mut begun) = ('\\', false);
    for line in text.lines() {
        // Directives stand at the very top, before anything else.
        let Some((name, value)) =
            line.trim().strip_prefix('#').and_then(|rest| rest.split_once('='))
        else {
            break;
        };
        match name.trim().to_ascii_lowercase().as_str() {
            "escape" if value.trim() == "`" => escape = '`',
            "syntax" => found.push(Named {
                line: 1 + text[..position(text, line)].matches('\n').count(),
                by: "syntax",
                text: value.trim().to_owned(),
                open: false,
            }),
            _ => {}
        }
    }
    for (line, instruction) in instructions(text, escape) {
        if found.len() >= MOST {
            break;
        }
        let Some((word, rest)) = instruction.trim().split_once(char::is_whitespace) else {
            continue;
        };
        let mut words = rest.split_whitespace();
        match word.to_ascii_uppercase().as_str() {
            "ARG" if !begun => {
                for word in words {
                    let (name, value) = match word.split_once('=') {
                        Some((name, value)) => {
                            (name, Some(value.trim_matches(['"', '\'']).to_owned()))
                        }
                        None => (word, None),
                    };
                    arguments.insert(name.to_owned(), value);
                }
            }
            "FROM" => {
                begun = true;
                let Some(image) = words.find(|word| !word.starts_with("--")) else { continue };
                let name = words.next().filter(|word| word.eq_ignore_ascii_case("as"));
                let stage = name.and_then(|_| words.next()).map(str::to_lowercase);
                let (image, open) = fill(image, &arguments);
                let is_stage = stages.contains(&image.to_lowercase());
                if !is_stage && image != "scratch" {
                    found.push(Named { line, by: "FROM", text: image, open });
                }
                stages.push(stage.unwrap_or_default());
            }
            by @ ("COPY" | "ADD" | "RUN") => {
                let by = match by {
                    "COPY" => "COPY",
                    "ADD" => "ADD",
                    _ => "RUN",
                };
                let options = rest.split_whitespace().take_while(|word| word.starts_with("--"));
                for option in options {
                    let from = match by {
                        "RUN" => option.strip_prefix("--mount=").and_then(|mount| {
                            mount.split(',').find_map(|part| part.strip_prefix("from="))
                        }),
                        _ => option.strip_prefix("--from="),
                    };
                    let Some(from) = from else { continue };
                    let (image, open) = fill(from.trim_matches(['"', '\'']), &arguments);
                    let is_stage =
                        image.parse::<usize>().is_ok() || stages.contains(&image.to_lowercase());
                    if !is_stage {
                        found.push(Named { line, by, text: image, open });
                    }
                }
            }
            _ => {}
        }
    }
    found
}

fn position(text: &str, line: &str) -> usize {
    line.as_ptr() as usize - text.as_ptr() as usize
}

/// Instructions with the line on which each begins; continued lines are joined, comments left out.
fn instructions(text: &str, escape: char) -> Vec<(usize, String)> {
    let mut all: Vec<(usize, String)> = Vec::new();
    let mut open: Option<(usize, String)> = None;
    for (number, line) in text.lines().enumerate() {
        if line.trim_start().starts_with('#') || (open.is_some() && line.trim().is_empty()) {
            continue;
        }
        let (start, mut so_far) = open.take().unwrap_or((number + 1, String::new()));
        match line.trim_end().strip_suffix(escape) {
            Some(part) => {
                so_far.push_str(part);
                so_far.push(' ');
                open = Some((start, so_far));
            }
            None => {
                so_far.push_str(line);
                all.push((start, so_far));
            }
        }
    }
    all.extend(open);
    all
}

/// Puts the defaults of arguments in. True: one has none.
fn fill(text: &str, arguments: &HashMap<String, Option<String>>) -> (String, bool) {
    let (mut filled, mut open, mut rest) = (String::new(), false, text);
    while let Some(at) = rest.find('$') {
        filled.push_str(&rest[..at]);
        let after = &rest[at + 1..];
        let (name, otherwise, end) = match after.strip_prefix('{') {
            Some(inner) => {
                let close = inner.find('}').unwrap_or(inner.len());
                let body = &inner[..close];
                let (name, otherwise) = match body.split_once(":-").or_else(|| body.split_once('-'))
                {
                    Some((name, otherwise)) => (name, Some(otherwise)),
                    None => (body, None),
                };
                (name, otherwise, (close + 2).min(after.len()))
            }
            None => {
                let end = after.find(|c: char| !c.is_ascii_alphanumeric() && c != '_');
                let end = end.unwrap_or(after.len());
                (&after[..end], None, end)
            }
        };
        let known = arguments.get(name).and_then(Option::as_deref).or(otherwise);
        match known {
            Some(value) => filled.push_str(value),
            None => {
                open = true;
                filled.push_str(&rest[at..=at + end]);
            }
        }
        rest = &after[end..];
    }
    filled.push_str(rest);
    (filled, open)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(file: &str) -> Vec<(usize, String, bool)> {
        images(file).into_iter().map(|one| (one.line, one.text, one.open)).collect()
    }

    #[test]
    fn every_way_to_name_an_image_is_found() {
        let file = "# syntax=bazaar.example/library/builder:1\n\
            ARG BASE=kettle\nARG TAG\n\
            FROM --platform=linux/amd64 ${BASE}:2 AS Boil\n\
            from bazaar.example/library/ashlog:${TAG:-1.4}\n\
            FROM brinedb:$TAG\n\
            # FROM commented:1\n\
            FROM boil\n\
            FROM scratch\n\
            COPY --chown=1 --from=ventworks.example/gauges/steamgauge:1.9.2 \\\n  # why\n  /a \\\n  /b\n\
            COPY --from=boil /a /b\nCOPY --from=0 /a /b\n\
            RUN --mount=type=bind,from=bazaar.example/library/tools,target=/t make\n";
        assert_eq!(
            texts(file),
            [
                (1, "bazaar.example/library/builder:1".into(), false),
                (4, "kettle:2".into(), false),
                (5, "bazaar.example/library/ashlog:1.4".into(), false),
                (6, "brinedb:$TAG".into(), true),
                (10, "ventworks.example/gauges/steamgauge:1.9.2".into(), false),
                (16, "bazaar.example/library/tools".into(), false),
            ]
        );
        let windows = "# escape=`\nFROM kettle:2 `\n  AS base\nFROM base\n";
        assert_eq!(texts(windows), [(2, "kettle:2".into(), false)]);
    }

    #[test]
    fn files_are_known_by_their_names() {
        for name in ["Dockerfile", "dockerfile.dev", "board.Dockerfile", "Containerfile"] {
            assert!(is_buildfile(name), "{name}");
        }
        for name in ["Dockerfiles", "mydockerfile", "deploy.yaml", "dockerfile-notes"] {
            assert!(!is_buildfile(name), "{name}");
        }
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics(text in "((FROM|ARG|COPY --from=|RUN --mount=from=|# syntax=)[ $a-z{}:\\-\\\\]{0,12}\n|\\PC{0,10}){0,6}") {
            images(&text);
        }
    }
}
