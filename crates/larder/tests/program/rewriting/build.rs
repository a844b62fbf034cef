//! Build files: arguments, their defaults, stages, and everything else that an argument may say.

use std::collections::HashMap;

use super::yard::{Chance, Fates, Yard, files};

/// What a build file comes to: the images in their order, and all other texts with their variables filled in.
#[derive(Debug, PartialEq, Eq)]
struct Effect {
    images: Vec<String>,
    others: Vec<String>,
}

/// Fills variables as a shell does, with `:-` and `:+` alone.
fn fill(text: &str, known: &HashMap<String, String>) -> String {
    let chars: Vec<char> = text.chars().collect();
    let mut out = String::new();
    let mut at = 0;
    while at < chars.len() {
        if chars[at] != '$' {
            out.push(chars[at]);
            at += 1;
            continue;
        }
        at += 1;
        if chars.get(at) != Some(&'{') {
            let mut name = String::new();
            while at < chars.len() && (chars[at].is_ascii_alphanumeric() || chars[at] == '_') {
                name.push(chars[at]);
                at += 1;
            }
            out.push_str(known.get(&name).map_or("", String::as_str));
            continue;
        }
        let (mut depth, start) = (1, at + 1);
        let mut end = start;
        while depth > 0 {
            match chars[end] {
                '{' => depth += 1,
                '}' => depth -= 1,
                _ => {}
            }
            end += 1;
        }
        let inner: String = chars[start..end - 1].iter().collect();
        at = end;
        let cut = inner.find([':', '-', '+']).unwrap_or(inner.len());
        let (name, rule) = inner.split_at(cut);
        let value = known.get(name).map_or("", String::as_str);
        if let Some(other) = rule.strip_prefix(":-") {
            out.push_str(&if value.is_empty() { fill(other, known) } else { value.to_owned() });
        } else if let Some(other) = rule.strip_prefix(":+") {
            out.push_str(&if value.is_empty() { String::new() } else { fill(other, known) });
        } else {
            out.push_str(value);
        }
    }
    out
}

fn unquoted(text: &str) -> &str {
    text.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(text)
}

fn evaluate(text: &str) -> Effect {
    let mut effect = Effect { images: Vec::new(), others: Vec::new() };
    let mut global: HashMap<String, String> = HashMap::new();
    let mut stage: Option<HashMap<String, String>> = None;
    let mut stages: Vec<String> = Vec::new();
    // Lines that end with a backslash go on.
    let joined = text.replace("\\\n", "");
    let mut lines = joined.lines();
    while let Some(line) = lines.next() {
        let line = line.trim();
        if let Some(image) = line.strip_prefix("# syntax=") {
            effect.images.push(image.to_owned());
        }
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[0] {
            "ARG" => {
                let (name, value) =
                    words[1].split_once('=').map_or((words[1], None), |(n, v)| (n, Some(v)));
                match &mut stage {
                    None => {
                        if let Some(value) = value {
                            let value = fill(unquoted(value), &global);
                            global.insert(name.to_owned(), value);
                        }
                    }
                    Some(known) => {
                        let value = match value {
                            Some(value) => Some(fill(unquoted(value), known)),
                            None => global.get(name).cloned(),
                        };
                        known.extend(value.map(|value| (name.to_owned(), value)));
                    }
                }
            }
            "FROM" => {
                let mut rest = words[1..].iter();
                let mut image = *rest.next().unwrap();
                if let Some(platform) = image.strip_prefix("--platform=") {
                    effect.others.push(fill(platform, &global));
                    image = rest.next().unwrap();
                }
                let image = fill(unquoted(image), &global);
                if stages.contains(&image) {
                    effect.others.push(image);
                } else if image != "scratch" {
                    effect.images.push(image);
                }
                let name = rest.nth(1).map_or(String::new(), |name| name.to_lowercase());
                stages.push(name);
                stage = Some(HashMap::new());
            }
            "COPY" if words[1].starts_with("--from=") => {
                let from = &words[1][7..];
                if !(stages.iter().any(|one| one == from) || from.parse::<usize>().is_ok()) {
                    effect.images.push(from.to_owned());
                }
            }
            "RUN" if words[1].starts_with("--mount=") => {
                let from = words[1].split(',').find_map(|part| part.strip_prefix("from="));
                effect.images.extend(from.map(str::to_owned));
            }
            _ => {
                let known = stage.clone().unwrap_or_default();
                effect.others.push(fill(line, &known));
                // What it runs may read any of its variables.
                let mut all: Vec<String> = known.iter().map(|(k, v)| format!("{k}={v}")).collect();
                all.sort();
                effect.others.push(all.join(" "));
                if let Some(end) = words.iter().find_map(|word| word.strip_prefix("<<")) {
                    for line in lines.by_ref() {
                        effect.others.push(line.to_owned());
                        if line == end {
                            break;
                        }
                    }
                }
            }
        }
    }
    effect
}

const HOSTS: [&str; 5] =
    ["bazaar.example", "quarry.example:5000", "docker.io", "unrouted.example", "vent.example"];
const PATHS: [&str; 4] = ["library/kettle", "ashlog", "gauges/steam/twin", "brinedb"];
const TAGS: [&str; 4] = ["1", "2.0-slim", "latest", "3.18"];

fn literal(chance: &mut Chance) -> String {
    let host = if chance.one_in(3) { String::new() } else { format!("{}/", chance.of(&HOSTS)) };
    let tag = if chance.one_in(4) { String::new() } else { format!(":{}", chance.of(&TAGS)) };
    format!("{host}{}{tag}", chance.of(&PATHS))
}

fn made(chance: &mut Chance) -> String {
    let names = ["A", "B", "C", "D", "E"];
    let mut text = String::new();
    if chance.one_in(8) {
        text.push_str("# syntax=bazaar.example/library/builder:1\n");
    }
    // Each argument has a role, and may be used in any other.
    for name in names {
        if chance.one_in(4) {
            continue;
        }
        let value = match chance.below(8) {
            0 | 1 => chance.of(&HOSTS).to_owned(),
            2 => chance.of(&PATHS).to_owned(),
            3 => chance.of(&TAGS).to_owned(),
            4 => literal(chance),
            5 => format!("${{{}}}/{}", chance.of(&names), chance.of(&PATHS)),
            6 => format!("${{{}:-{}}}", chance.of(&names), literal(chance)),
            _ => format!("{}/{}", chance.of(&HOSTS), "library"),
        };
        match chance.below(4) {
            0 => text.push_str(&format!("ARG {name}=\"{value}\"\n")),
            1 if chance.one_in(3) => text.push_str(&format!("ARG {name}\n")),
            _ => text.push_str(&format!("ARG {name}={value}\n")),
        }
    }
    let mut stages = Vec::new();
    for number in 0..=chance.below(4) {
        let n = chance.of(&names);
        let m = chance.of(&names);
        let image = match chance.below(11) {
            0 | 1 => literal(chance),
            2 => format!("${{{n}}}"),
            3 => format!("${n}"),
            4 => format!("${{{n}}}/{}", literal(chance).rsplit('/').next().unwrap()),
            5 => format!("${{{n}}}:{}", chance.of(&TAGS)),
            6 => format!("{}:1.20-${{{n}}}", chance.of(&PATHS)),
            7 => format!("${{{n}:-{}}}/${{{m}}}", chance.of(&HOSTS)),
            8 => format!("${{{n}:+bazaar.example/}}{}", chance.of(&PATHS)),
            9 => format!("${{{n}:-{}}}", literal(chance)),
            _ => stages.last().cloned().unwrap_or_else(|| literal(chance)),
        };
        let platform =
            if chance.one_in(8) { format!("--platform=${{{m}}} ") } else { String::new() };
        let quoted = if chance.one_in(6) { format!("\"{image}\"") } else { image };
        text.push_str(&format!("FROM {platform}{quoted} AS s{number}\n"));
        stages.push(format!("s{number}"));
        for _ in 0..chance.below(4) {
            let n = chance.of(&names);
            match chance.below(9) {
                0 => text.push_str(&format!("ARG {n}\nRUN curl https://${{{n}}}/\n")),
                1 => text.push_str(&format!("ARG {n}=own\nLABEL a=$A b=${{{n}}}\n")),
                2 => text.push_str("RUN x=1<<SHIFT make\n"),
                3 => text.push_str("RUN cat <<END\nFROM no.example/x:1\nEND\n"),
                4 => text.push_str(&format!("COPY --from={} /a /b\n", literal(chance))),
                5 => text.push_str(&format!("COPY --from={} /a \\\n  /b\n", stages[0])),
                6 => text.push_str(&format!(
                    "RUN --mount=type=bind,from={},target=/x make\n",
                    literal(chance)
                )),
                7 => text.push_str("# FROM commented:1\nENV A=1\n"),
                _ => text.push_str("RUN make \\\n  all\n"),
            }
        }
    }
    text
}

#[test]
fn what_a_build_pulls_becomes_what_it_should_or_stays_and_is_told() {
    let yard = Yard::new();
    let mut texts = Vec::new();
    for number in 0..files() {
        let text = made(&mut Chance::new(number as u64));
        let name = format!("b/{}/{number}.Dockerfile", number / 100);
        yard.write(&name, &text);
        texts.push((name, text));
    }
    let told = yard.rewrite("b");
    let mut fates = Fates::default();
    for (name, old) in &texts {
        let new = yard.read(name);
        let (before, after) = (evaluate(old), evaluate(&new));
        let show = || format!("{name}\n{before:?}\n{after:?}\n--- old\n{old}--- new\n{new}");
        assert_eq!(before.others, after.others, "{}", show());
        assert_eq!(before.images.len(), after.images.len(), "{}", show());
        for (was, is) in before.images.iter().zip(&after.images) {
            fates.count(was, is, || told.of(name), show);
        }
    }
    fates.told("build files", texts.len());
}
