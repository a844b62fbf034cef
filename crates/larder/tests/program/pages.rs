//! What the pages tell to type can be typed, and what they tell to write can be read.

use std::fs;
use std::path::{Path, PathBuf};

use crate::house::House;

/// All pages: those of `docs` and the first one.
fn pages() -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files: Vec<PathBuf> = vec![root.join("README.md")];
    let mut folders = vec![root.join("docs")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false if path.extension().is_some_and(|ending| ending == "md") => files.push(path),
                false => {}
            }
        }
    }
    files.sort();
    let named = |path: PathBuf| {
        let name = path.strip_prefix(&root).unwrap().display().to_string();
        (name, fs::read_to_string(path).unwrap())
    };
    files.into_iter().map(named).collect()
}

/// The blocks of a page that are written in something.
fn blocks<'p>(page: &'p str, kind: &str) -> Vec<&'p str> {
    let begin = format!("```{kind}\n");
    page.split(&begin).skip(1).filter_map(|rest| rest.split("\n```").next()).collect()
}

/// The calls of `larder` in a line for a shell, word by word: what stands before and after pipes too, without what the
/// shell does with files.
fn calls(line: &str) -> Vec<Vec<String>> {
    let (mut all, mut words, mut word) = (Vec::new(), Vec::new(), None::<String>);
    let mut quote = None;
    let mut passes_next = false;
    let end_word = |word: &mut Option<String>, words: &mut Vec<String>, passes: &mut bool| {
        if let Some(word) = word.take()
            && !std::mem::take(passes)
        {
            words.push(word);
        }
    };
    for c in line.chars() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (Some(_), c) => word.get_or_insert_default().push(c),
            (None, '\'' | '"') => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (None, '#') if word.is_none() => break,
            (None, '|' | '&' | ';') => {
                end_word(&mut word, &mut words, &mut passes_next);
                all.push(std::mem::take(&mut words));
            }
            (None, '>' | '<') => {
                end_word(&mut word, &mut words, &mut passes_next);
                passes_next = true;
            }
            (None, c) if c.is_whitespace() => end_word(&mut word, &mut words, &mut passes_next),
            (None, c) => word.get_or_insert_default().push(c),
        }
    }
    end_word(&mut word, &mut words, &mut passes_next);
    all.push(words);
    let of_larder = |words: Vec<String>| {
        let set = words.iter().take_while(|word| word.contains('=')).count();
        (words.get(set).map(String::as_str) == Some("larder")).then(|| words[set + 1..].to_vec())
    };
    all.into_iter().filter_map(of_larder).collect()
}

#[test]
fn every_call_on_the_pages_is_one_that_the_program_takes() {
    let split = calls("A=b larder x 'a b' \"c\" > f --y | larder z < g & other # larder no");
    assert_eq!(split, [vec!["x", "a b", "c", "--y"], vec!["z"]]);
    let house = House::new();
    let mut seen = 0;
    for (name, page) in pages() {
        for line in blocks(&page, "console").iter().flat_map(|block| block.lines()) {
            let Some(line) = line.strip_prefix("$ ") else { continue };
            for mut words in calls(line) {
                seen += 1;
                if words == ["--version", "--verbose"] {
                    continue;
                }
                words.push("--help".to_owned());
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                let run = house.larder_words(&words);
                assert_eq!(run.exit, 0, "{name}: {line}\n{}", run.err);
            }
        }
    }
    assert!(seen > 150, "{seen}");
}

#[test]
fn every_configuration_on_the_pages_has_keys_that_there_are() {
    let house = House::new();
    let mut seen = 0;
    for (name, page) in pages() {
        for block in blocks(&page, "toml") {
            let mut text = block.to_owned();
            if !text.contains("[larder]") {
                text = format!("[larder]\n\n{text}");
            }
            for (key, value) in [("name", "emberfall"), ("url", "https://larder.emberfall.example")]
            {
                let larder = text.split("[larder]").nth(1).unwrap().split("\n[").next().unwrap();
                if !larder.lines().any(|line| line.starts_with(&format!("{key} ="))) {
                    text =
                        text.replacen("[larder]\n", &format!("[larder]\n{key} = \"{value}\"\n"), 1);
                }
            }
            house.write("larder.toml", &text);
            let run = house.larder("check --offline");
            seen += 1;
            // What a part names stands elsewhere, and `…` stands for what is the reader's own.
            let elsewhere = ["has the name `", "this is no verifying key", "`…` is none"];
            let is_part = elsewhere.iter().any(|words| run.err.contains(words));
            assert!(
                !run.err.contains("cannot be used") || is_part,
                "{name}:\n{block}\n{}",
                run.err
            );
        }
    }
    assert!(seen > 15, "{seen}");
}
