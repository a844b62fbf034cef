//! Compose files: variables with and without defaults, `.env`, anchors and merges, and what services build.

use std::collections::{BTreeMap, BTreeSet};

use super::yard::{Chance, Fates, Yard, files};

type Variables = BTreeMap<String, String>;

/// Fills variables as the program of these files does. None: one is wanted and not there.
fn fill(text: &str, known: &Variables) -> Option<String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(after) = rest.strip_prefix('$') {
            out.push('$');
            rest = after;
            continue;
        }
        let Some(inner) = rest.strip_prefix('{') else {
            let end =
                rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
            out.push_str(known.get(&rest[..end]).map_or("", String::as_str));
            rest = &rest[end..];
            continue;
        };
        let mut depth = 1;
        let end = inner
            .char_indices()
            .find(|(_, c)| {
                depth += i32::from(*c == '{') - i32::from(*c == '}');
                depth == 0
            })?
            .0;
        let (body, after) = (&inner[..end], &inner[end + 1..]);
        rest = after;
        let cut = body.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(body.len());
        let (name, rule) = body.split_at(cut);
        let value = known.get(name);
        let filled = value.filter(|value| !value.is_empty());
        let text = match rule {
            "" => value.cloned().unwrap_or_default(),
            rule if rule.starts_with(":-") => match filled {
                Some(value) => value.clone(),
                None => fill(&rule[2..], known)?,
            },
            rule if rule.starts_with('-') => match value {
                Some(value) => value.clone(),
                None => fill(&rule[1..], known)?,
            },
            rule if rule.starts_with(":?") => filled?.clone(),
            rule if rule.starts_with(":+") => match filled {
                Some(_) => fill(&rule[2..], known)?,
                None => String::new(),
            },
            _ => return None,
        };
        out.push_str(&text);
    }
    out.push_str(rest);
    Some(out)
}

/// What one service is: its image, and whether it is built.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
struct Service {
    image: Option<String>,
    built: bool,
    others: Vec<String>,
}

fn bare(text: &str) -> String {
    let text = text.split(" #").next().unwrap().trim();
    let quoted = |q: char| text.strip_prefix(q).and_then(|rest| rest.strip_suffix(q));
    quoted('"').or_else(|| quoted('\'')).unwrap_or(text).to_owned()
}

/// Reads the lines of which these files are made.
fn services(text: &str, known: &Variables) -> Option<BTreeMap<String, Service>> {
    let mut bases: BTreeMap<String, Service> = BTreeMap::new();
    let mut names: BTreeMap<String, String> = BTreeMap::new();
    let mut all: BTreeMap<String, Service> = BTreeMap::new();
    let (mut base, mut service) = (None::<String>, None::<String>);
    for line in
        text.lines().filter(|line| !line.trim_start().starts_with('#') && !line.trim().is_empty())
    {
        let indent = line.len() - line.trim_start().len();
        let line = line.trim();
        let (key, value) = line.split_once(':').map(|(k, v)| (k, v.trim())).unwrap();
        match (indent, key) {
            (0, "services") => base = None,
            (0, _) => {
                // `x-img: &img value`, or `x-app: &app` and what it holds.
                let anchor = value.strip_prefix('&').unwrap();
                match anchor.split_once(' ') {
                    Some((name, value)) => {
                        names.insert(name.to_owned(), bare(value));
                        base = None;
                    }
                    None => base = Some(anchor.to_owned()),
                }
            }
            (2, key) if base.is_none() => {
                service = Some(key.to_owned());
                all.insert(key.to_owned(), Service::default());
            }
            (_, key) => {
                let merged = bases.get(value.trim_start_matches('*')).cloned();
                let one = match &base {
                    Some(name) => bases.entry(name.clone()).or_default(),
                    None => all.get_mut(service.as_ref()?)?,
                };
                match key {
                    "image" => {
                        let text = match value.strip_prefix('*') {
                            Some(name) => names.get(name.trim())?.clone(),
                            None => bare(value),
                        };
                        one.image = Some(fill(&text, known)?);
                    }
                    "build" => one.built = true,
                    "<<" => {
                        let merged = merged?;
                        one.built |= merged.built;
                        if one.image.is_none() {
                            one.image = merged.image;
                        }
                    }
                    _ => one.others.push(format!("{key}={}", fill(&bare(value), known)?)),
                }
            }
        }
    }
    // What one builds, another runs.
    let made: BTreeSet<String> =
        all.values().filter(|one| one.built).filter_map(|one| one.image.clone()).collect();
    for one in all.values_mut() {
        one.built |= one.image.as_ref().is_some_and(|image| made.contains(image));
    }
    Some(all)
}

const HOSTS: [&str; 4] = ["bazaar.example", "quarry.example:5000", "docker.io", "unrouted.example"];
const PATHS: [&str; 3] = ["library/kettle", "gauges/steam", "acme/web"];

fn image(chance: &mut Chance) -> String {
    let (host, path) = (chance.of(&HOSTS), chance.of(&PATHS));
    let text = match chance.below(14) {
        0 => "kettle:2".to_owned(),
        1 | 2 => format!("{host}/{path}:1"),
        3 => format!("${{REG:-{host}}}/{path}:${{TAG:-1}}"),
        4 => format!("${{REG-{host}}}/{path}:${{V}}"),
        5 => format!("{host}/{path}:${{TAG}}"),
        6 => format!("{host}/{path}:$TAG"),
        7 => format!("${{ALL:-{host}/{path}:3}}"),
        8 => format!("${{ALL:-{host}/{path}}}:${{V:-4}}"),
        9 => format!("${{REG:-${{SUB:-{host}}}}}/{path}:5"),
        10 => format!("$REG/{path}:6"),
        11 => format!("{host}/{path}:1${{V:+-slim}}"),
        12 => format!("{host}/${{NS:-library}}/kettle:7"),
        _ => format!("{host}/{path}:${{TAG:?wanted}}"),
    };
    match chance.below(4) {
        0 => format!("\"{text}\""),
        1 => format!("'{text}'  # why"),
        _ => text,
    }
}

fn made(chance: &mut Chance) -> (String, Variables) {
    let mut text = String::new();
    if chance.one_in(3) {
        text.push_str(&format!("x-img: &img {}\n", image(chance)));
    }
    let has_img = !text.is_empty();
    let has_app = chance.one_in(3);
    if has_app {
        text.push_str("x-app: &app\n");
        if chance.one_in(2) {
            text.push_str("  build: .\n");
        }
        text.push_str(&format!("  image: {}\n", image(chance)));
    }
    text.push_str("services:\n");
    for number in 0..=chance.below(4) {
        text.push_str(&format!("  s{number}:\n"));
        match chance.below(6) {
            0 if has_app => text.push_str("    <<: *app\n"),
            1 if has_img => text.push_str("    image: *img\n"),
            2 => text.push_str("    build: ./here\n    image: acme/web:dev\n"),
            3 => text.push_str("    image: acme/web:dev\n"),
            _ => text.push_str(&format!("    image: {}\n", image(chance))),
        }
        if chance.one_in(3) {
            text.push_str("    hostname: ${REG:-bazaar.example}\n");
        }
        if has_img && chance.one_in(8) {
            text.push_str("    container_name: plain # image: no.example/x:1\n");
        }
    }
    let mut env = Variables::new();
    for (name, value) in [
        ("TAG", "8"),
        ("REG", "vent.example"),
        ("NS", "gauges"),
        ("V", "9"),
        ("ALL", "vent.example/a/b:1"),
    ] {
        if chance.one_in(5) {
            env.insert(name.to_owned(), value.to_owned());
        }
    }
    (text, env)
}

#[test]
fn what_services_pull_becomes_what_it_should_in_every_environment() {
    let yard = Yard::new();
    let mut all = Vec::new();
    for number in 0..files() {
        let (text, env) = made(&mut Chance::new(1_000_000 + number as u64));
        let folder = format!("c/{number}");
        if !env.is_empty() {
            let lines: Vec<String> =
                env.iter().map(|(name, value)| format!("{name}={value}\n")).collect();
            yard.write(&format!("{folder}/.env"), format!("# ours\n{}", lines.concat()));
        }
        yard.write(&format!("{folder}/compose.yaml"), &text);
        all.push((format!("{folder}/compose.yaml"), text, env));
    }
    let told = yard.rewrite("c");
    let mut fates = Fates::default();
    for (name, old, env) in &all {
        let new = yard.read(name);
        for more in [&[][..], &[("TAG", "5")], &[("TAG", "6"), ("V", "7")]] {
            // What the shell says goes before `.env`.
            let mut known = env.clone();
            known
                .extend(more.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())));
            let (before, after) = (services(old, &known), services(&new, &known));
            let show = || {
                format!(
                    "{name} {env:?} {more:?}\n{before:#?}\n{after:#?}\n--- old\n{old}--- new\n{new}"
                )
            };
            let (Some(before), Some(after)) = (&before, &after) else {
                assert_eq!(before.is_some(), after.is_some(), "{}", show());
                continue;
            };
            assert_eq!(before.len(), after.len());
            for ((_, was), (_, is)) in before.iter().zip(after) {
                assert_eq!((was.built, &was.others), (is.built, &is.others), "{}", show());
                let (Some(from), Some(to)) = (&was.image, &is.image) else { continue };
                if was.built {
                    assert_eq!(from, to, "{}", show());
                    continue;
                }
                fates.count(from, to, || told.of(name), show);
            }
        }
    }
    fates.told("Compose files", all.len());
}
