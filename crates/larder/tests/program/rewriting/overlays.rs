//! Overlays upon bases and upon each other, rewritten together and apart, in every order.

use std::collections::BTreeMap;

use super::yard::{Chance, Fates, Yard, files};

/// An image on its way up: its name as text, and tag or digest behind it.
type Image = (String, String);

fn split(text: &str) -> Image {
    let name_end = text.find('@').unwrap_or(text.len());
    let last = text[..name_end].rfind('/').map_or(0, |at| at + 1);
    let end = text[last..name_end].find(':').map_or(name_end, |colon| last + colon);
    (text[..end].to_owned(), text[end..].to_owned())
}

/// The folder of one tree, read anew each time.
struct Tree<'y> {
    yard: &'y Yard,
    folder: String,
}

impl Tree<'_> {
    fn objects(&self, file: &str) -> Vec<Image> {
        let text = self.yard.read(&format!("{}/{file}", self.folder));
        let images = text
            .lines()
            .filter_map(|line| line.trim_start().trim_start_matches("- ").strip_prefix("image: "));
        images
            .map(|image| split(image.split(" #").next().unwrap().trim().trim_matches('"')))
            .collect()
    }

    /// What leaves an overlay; of a component, what leaves it when something reaches it.
    fn overlay(&self, name: &str, mut images: Vec<Image>) -> Vec<Image> {
        let text = self.yard.read(&format!("{}/{name}/kustomization.yaml", self.folder));
        let mut list = "";
        let mut entries: Vec<BTreeMap<String, String>> = Vec::new();
        let mut components = Vec::new();
        for line in text.lines() {
            let bare = line.split(" #").next().unwrap().trim_end();
            if !bare.starts_with([' ', '-']) {
                list = bare.trim_end_matches(':');
                continue;
            }
            let item = bare.strip_prefix("- ");
            match (list, item) {
                ("resources", Some(path)) => match path.strip_suffix(".yaml") {
                    Some(_) => images.extend(self.objects(path.trim_start_matches("../"))),
                    None => images.extend(self.overlay(path.trim_start_matches("../"), Vec::new())),
                },
                ("components", Some(path)) => {
                    components.push(path.trim_start_matches("../").to_owned());
                }
                ("images", item) => {
                    if item.is_some() {
                        entries.push(BTreeMap::new());
                    }
                    let (key, value) = item.unwrap_or(bare.trim_start()).split_once(": ").unwrap();
                    let value = value.trim_matches(['"', '\'']).to_owned();
                    entries.last_mut().unwrap().insert(key.to_owned(), value);
                }
                _ => {}
            }
        }
        for component in components {
            images = self.overlay(&component, images);
        }
        for entry in entries {
            for image in images.iter_mut().filter(|(name, _)| *name == entry["name"]) {
                if let Some(name) = entry.get("newName") {
                    image.0.clone_from(name);
                }
                if let Some(tag) = entry.get("newTag") {
                    image.1 = format!(":{tag}");
                }
                if let Some(digest) = entry.get("digest").filter(|digest| !digest.is_empty()) {
                    image.1 = format!("@{digest}");
                }
            }
        }
        images
    }

    fn tops(&self, names: &[&str]) -> Vec<String> {
        let all = names.iter().flat_map(|name| self.overlay(name, Vec::new()));
        let mut all: Vec<String> = all.map(|(name, rest)| format!("{name}{rest}")).collect();
        all.extend(
            ["base/one.yaml", "base/two.yaml"]
                .iter()
                .flat_map(|file| self.objects(file))
                .map(|(n, r)| format!("{n}{r}")),
        );
        all
    }
}

fn digest() -> String {
    format!("sha256:{}", "cd".repeat(32))
}

/// Writes a tree. `apart`: it is rewritten in pieces, so that each image has one spelling.
fn plant(yard: &Yard, folder: &str, chance: &mut Chance, apart: bool) -> Vec<&'static str> {
    const ALL: [&str; 7] = [
        "kettle",
        "docker.io/library/kettle",
        "bazaar.example/library/ashlog",
        "quarry.example:5000/gauges/steam",
        "unrouted.example/x/y",
        "ashlog",
        "vent.example/a",
    ];
    let spellings: Vec<&str> =
        ALL.iter().copied().filter(|one| !apart || !one.starts_with("docker.io/")).collect();
    let pod = |n: usize, chance: &mut Chance| {
        let image = format!("{}:{}", chance.of(&spellings), chance.of(&["1", "2"]));
        let image = if chance.one_in(3) { format!("\"{image}\"") } else { image };
        format!(
            "---\napiVersion: v1\nkind: Pod\nmetadata:\n  name: p{n}\nspec:\n  containers:\n  - image: {image}  # why\n"
        )
    };
    let mut used = Vec::new();
    for file in ["one", "two"] {
        let text: String = (0..=chance.below(3)).map(|n| pod(n, chance)).collect();
        yard.write(&format!("{folder}/base/{file}.yaml"), &text);
        used.extend(
            text.lines()
                .filter_map(|line| line.strip_prefix("  - image: "))
                .map(|image| split(image.split(" #").next().unwrap().trim().trim_matches('"')).0),
        );
    }
    let entries = |chance: &mut Chance, used: &mut Vec<String>| {
        let mut text = String::new();
        for _ in 0..chance.below(3) {
            // One that is about nothing is a fault of its own, and only told.
            let name = if apart || !chance.one_in(5) {
                used[chance.below(used.len())].clone()
            } else {
                chance.of(&ALL).to_owned()
            };
            let mut lines = vec![format!("name: {name}")];
            match chance.below(5) {
                0 | 1 => lines.push(format!("newTag: \"{}\"", chance.of(&["3", "4"]))),
                2 => lines.push(format!("digest: {}", digest())),
                3 => {
                    let new = chance.of(&spellings);
                    lines.push(format!("newName: {new}"));
                    lines.push("newTag: \"5\"".to_owned());
                    if !apart {
                        used.push(new.to_owned());
                    }
                }
                _ => lines.insert(0, format!("newTag: \"{}\"", chance.of(&["6", "7"]))),
            }
            if apart && lines.iter().any(|line| line.starts_with("newName")) {
                // Two names of one image would need to be told apart in each piece.
                continue;
            }
            text.push_str(&format!("- {}\n", lines.join("\n  ")));
        }
        if text.is_empty() { text } else { format!("images:\n{text}") }
    };
    let head = "apiVersion: kustomize.config.k8s.io/v1beta1\nkind: Kustomization\n";
    let has_component = chance.one_in(3);
    let components = if has_component { "components:\n- ../comp\n" } else { "" };
    let text = entries(chance, &mut used);
    yard.write(
        &format!("{folder}/a/kustomization.yaml"),
        format!("{head}resources:\n- ../base/one.yaml\n- ../base/two.yaml\n{components}{text}"),
    );
    if has_component {
        let text = entries(chance, &mut used);
        let head = "apiVersion: kustomize.config.k8s.io/v1alpha1\nkind: Component\n";
        yard.write(&format!("{folder}/comp/kustomization.yaml"), format!("{head}{text}"));
    }
    let mut tops = vec!["a"];
    if chance.one_in(2) {
        let text = entries(chance, &mut used);
        yard.write(
            &format!("{folder}/b/kustomization.yaml"),
            format!("{head}resources:\n- ../a\n{text}"),
        );
        tops.push("b");
    }
    if chance.one_in(3) {
        let text = entries(chance, &mut used);
        yard.write(
            &format!("{folder}/c/kustomization.yaml"),
            format!("{head}resources:\n- ../base/one.yaml\n{text}"),
        );
        tops.push("c");
    }
    tops
}

fn check(apart: bool) {
    let yard = Yard::new();
    let mut all = Vec::new();
    let folder = if apart { "p" } else { "o" };
    for number in 0..files() {
        let mut chance = Chance::new(3_000_000 + number as u64 * 2 + u64::from(apart));
        let folder = format!("{folder}/{number}");
        let tops = plant(&yard, &folder, &mut chance, apart);
        let before = Tree { yard: &yard, folder: folder.clone() }.tops(&tops);
        all.push((folder, tops, before));
    }
    let told = match apart {
        false => yard.rewrite(folder),
        true => {
            // All of one kind of piece at once, in an order of chance, and everything at last.
            let mut chance = Chance::new(7);
            let mut pieces = ["base", "a", "b", "c", "comp", "base/one.yaml"];
            for at in (1..pieces.len()).rev() {
                pieces.swap(at, chance.below(at + 1));
            }
            for piece in pieces {
                let paths: Vec<String> = all
                    .iter()
                    .map(|(folder, ..)| format!("{folder}/{piece}"))
                    .filter(|path| yard.path(path).exists() && !chance.one_in(3))
                    .collect();
                if !paths.is_empty() {
                    for some in paths.chunks(500) {
                        yard.larder(&format!("--json rewrite --write {}", some.join(" ")));
                    }
                }
            }
            yard.rewrite(folder)
        }
    };
    let mut fates = Fates::default();
    for (folder, tops, before) in &all {
        let after = Tree { yard: &yard, folder: folder.clone() }.tops(tops);
        let show = || {
            let mut text = format!("{folder}\n{before:#?}\n{after:#?}\n");
            for file in [
                "base/one.yaml",
                "base/two.yaml",
                "comp/kustomization.yaml",
                "a/kustomization.yaml",
                "b/kustomization.yaml",
                "c/kustomization.yaml",
            ] {
                if yard.path(&format!("{folder}/{file}")).exists() {
                    text.push_str(&format!(
                        "--- {file}\n{}",
                        yard.read(&format!("{folder}/{file}"))
                    ));
                }
            }
            text
        };
        assert_eq!(before.len(), after.len(), "{}", show());
        let is_told = || told.0.iter().any(|(file, _)| file.starts_with(&format!("{folder}/")));
        for (was, is) in before.iter().zip(&after) {
            fates.count(was, is, is_told, show);
        }
    }
    fates.told(if apart { "trees of overlays in pieces" } else { "trees of overlays" }, all.len());
}

#[test]
fn what_overlays_run_becomes_what_it_should_in_one_run() {
    check(false);
}

#[test]
fn what_overlays_run_becomes_what_it_should_however_it_is_cut_in_pieces() {
    check(true);
}
