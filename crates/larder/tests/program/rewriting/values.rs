//! Values of charts: the parts of references apart, a registry for all of them, charts below charts.

use std::collections::BTreeMap;

use super::yard::{Chance, Fates, Yard, files};

/// Values by their paths, `a.image.tag`; read from the block style in which they are written here.
type Values = BTreeMap<String, String>;

fn read(text: &str) -> Values {
    let mut values = Values::new();
    let mut path: Vec<(usize, String)> = Vec::new();
    for line in text.lines() {
        let bare = line.split(" #").next().unwrap().trim_end();
        let indent = bare.len() - bare.trim_start().len();
        let Some((key, value)) =
            bare.trim_start().split_once(':').filter(|_| !bare.trim_start().starts_with('#'))
        else {
            continue;
        };
        while path.last().is_some_and(|(at, _)| *at >= indent) {
            path.pop();
        }
        path.push((indent, key.to_owned()));
        let keys: Vec<&str> = path.iter().map(|(_, key)| key.as_str()).collect();
        let value = value.trim().trim_matches(['"', '\'']);
        values.insert(keys.join("."), value.to_owned());
    }
    values
}

/// What the templates of such a chart make of a component.
fn image(values: &Values, name: &str, global: &str, app: &str) -> Option<String> {
    let get = |key: &str| values.get(&format!("{name}.{key}")).map(String::as_str);
    let filled = |key: &str| get(key).filter(|text| !text.is_empty());
    let whole =
        |registry: Option<&str>, repository: &str, tag: Option<&str>, digest: Option<&str>| {
            let registry = Some(global).filter(|text| !text.is_empty()).or(registry);
            let mut text =
                registry.map_or(repository.to_owned(), |host| format!("{host}/{repository}"));
            text.push_str(&format!(":{}", tag.unwrap_or(app)));
            if let Some(digest) = digest {
                text.push_str(&format!("@{digest}"));
            }
            text
        };
    // The image in parts.
    for key in ["image.repository", "image.image", "image.name"] {
        if let Some(repository) = filled(key) {
            return Some(whole(
                filled("image.registry"),
                repository,
                filled("image.tag"),
                filled("image.digest"),
            ));
        }
    }
    if let Some(repository) = filled("repository") {
        return Some(whole(filled("registry"), repository, filled("tag"), None));
    }
    // One of these is never served by the registry for all.
    if let Some(repository) = filled("imageRepository") {
        return Some(format!("{repository}:{}", filled("imageTag").unwrap_or(app)));
    }
    let image = filled("image")?;
    match filled("imageTag") {
        Some(tag) => Some(format!("{image}:{tag}")),
        // A word alone is not told from a disk or a picture.
        None => Some(image.to_owned()).filter(|text| text.contains([':', '/'])),
    }
}

const HOSTS: [&str; 4] = ["bazaar.example", "quarry.example:5000", "docker.io", "vent.example"];
const PATHS: [&str; 3] = ["library/kettle", "gauges/steam", "acme/web"];

fn components(chance: &mut Chance, global: bool, text: &mut String) -> Vec<String> {
    let mut names = Vec::new();
    for number in 0..=chance.below(4) {
        let name = format!("c{number}");
        let (host, path, tag) =
            (chance.of(&HOSTS), chance.of(&PATHS), chance.of(&["1", "\"2.5\"", "v3"]));
        let own = if global || chance.one_in(2) { "" } else { host };
        let repository = if own.is_empty() && !global && chance.one_in(2) {
            format!("{host}/{path}")
        } else {
            path.to_owned()
        };
        let body = match chance.below(11) {
            0 => format!(
                "  image:\n    registry: {host}\n    repository: {path}\n    tag: {tag}  # why\n"
            ),
            1 => format!("  image:\n    repository: {repository}\n    tag: {tag}\n"),
            2 => format!("  image:\n    repository: {repository}\n    pullPolicy: Always\n"),
            3 => format!("  image: {host}/{path}:7\n"),
            4 => format!(
                "  image:\n    registry: {host}\n    image: {path}\n    tag: {tag}\n    digest: \"\"\n"
            ),
            5 => format!("  image:\n    name: {repository}\n    tag: {tag}\n"),
            6 => format!("  imageRepository: {host}/{path}\n  imageTag: {tag}\n"),
            7 => format!("  image: {host}/{path}\n  imageTag: {tag}\n"),
            8 => "  image: kettle\n  logo: a/b.png\n".to_owned(),
            9 => format!("  repository: {repository}\n  tag: {tag}\n"),
            _ => format!(
                "  image:\n    registry: {host}\n    repository: {path}\n    tag: {tag}\n    digest: sha256:{}\n",
                "ab".repeat(32)
            ),
        };
        text.push_str(&format!("{name}:\n  replicas: 2\n{body}  heroImage: cdn.example/hero\n"));
        names.push(name);
    }
    names
}

#[test]
fn what_a_chart_runs_becomes_what_it_should_with_all_charts_below_it() {
    let yard = Yard::new();
    let mut all = Vec::new();
    for number in 0..files() {
        let mut chance = Chance::new(2_000_000 + number as u64);
        let folder = format!("v/{number}");
        let chart = |name: &str, more: &str| {
            format!("apiVersion: v2\nname: {name}\nversion: 1.0.0\nappVersion: \"9.1\"\n{more}")
        };
        let has_global = chance.one_in(2);
        let global = if has_global { chance.of(&HOSTS) } else { "" };
        let mut top = match has_global {
            true => format!("global:\n  imageRegistry: {global}\n"),
            false => "global:\n  imageRegistry: \"\"\n".to_owned(),
        };
        let mut files = Vec::new();
        let names = components(&mut chance, has_global, &mut top);
        yard.write(&format!("{folder}/values.yaml"), &top);
        files.push((format!("{folder}/values.yaml"), top, names));
        let mut wants = String::new();
        if chance.one_in(3) {
            let mut below = String::new();
            let names = components(&mut chance, has_global, &mut below);
            yard.write(&format!("{folder}/charts/sub/Chart.yaml"), chart("sub", ""));
            yard.write(&format!("{folder}/charts/sub/values.yaml"), &below);
            files.push((format!("{folder}/charts/sub/values.yaml"), below, names));
        } else if chance.one_in(6) {
            wants = "dependencies:\n- name: far\n  version: 1.0.0\n  repository: https://charts.example\n".to_owned();
        }
        if chance.one_in(6) {
            let mut more = String::new();
            let names = components(&mut chance, has_global, &mut more);
            yard.write(&format!("{folder}/values-prod.yaml"), &more);
            files.push((format!("{folder}/values-prod.yaml"), more, names));
        }
        yard.write(&format!("{folder}/Chart.yaml"), chart("top", &wants));
        all.push((folder, files, wants));
    }
    let told = yard.rewrite("v");
    let mut fates = Fates::default();
    for (folder, files, wants) in &all {
        let global =
            |text: &str| read(text).get("global.imageRegistry").cloned().unwrap_or_default();
        let new_top = yard.read(&format!("{folder}/values.yaml"));
        let (was, is) = (global(&files[0].1), global(&new_top));
        // Charts that are not here go on to take the registry that they took.
        if !wants.is_empty() && !was.is_empty() {
            assert_eq!(was, is, "{folder}: charts that are not here take its registry");
        }
        for (name, old, components) in files {
            let new = yard.read(name);
            let (before, after) = (read(old), read(&new));
            assert_eq!(before.len(), after.len(), "{name}\n{old}\n{new}");
            for component in components {
                let hero = format!("{component}.heroImage");
                assert_eq!(before.get(&hero), after.get(&hero));
                let (from, to) =
                    (image(&before, component, &was, "9.1"), image(&after, component, &is, "9.1"));
                let show = || {
                    format!("{name} {component} global {was} -> {is}\n--- old\n{old}--- new\n{new}")
                };
                let (Some(from), Some(to)) = (&from, &to) else {
                    assert_eq!(from, to, "{}", show());
                    continue;
                };
                fates.count(from, to, || told.of(name), show);
            }
        }
    }
    fates.told("charts", all.len());
}
