//! Shapes that once came out wrong, each with what becomes of it and what is told.
//!
//! A folder has the files (`given`), those that change (`becomes`), and `told`: the exit status of both commands, and
//! what they say.

use std::fs;
use std::path::{Path, PathBuf};

use super::yard::{Yard, shown};

fn below(folder: &Path, all: &mut Vec<PathBuf>) {
    let mut entries: Vec<PathBuf> =
        fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    entries.sort();
    for path in entries {
        if path.is_dir() { below(&path, all) } else { all.push(path) }
    }
}

#[test]
fn every_shape_becomes_what_it_should_and_is_told() {
    let cases = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/program/rewriting/cases");
    let mut folders: Vec<PathBuf> =
        fs::read_dir(&cases).unwrap().map(|entry| entry.unwrap().path()).collect();
    folders.retain(|path| path.is_dir());
    folders.sort();
    assert!(folders.len() > 25, "{}", folders.len());
    for case in folders {
        let yard = Yard::new();
        let own = case.join("larder.toml");
        let config = if own.exists() { own } else { cases.join("larder.toml") };
        yard.write("larder.toml", fs::read(config).unwrap());
        let (given, becomes) = (case.join("given"), case.join("becomes"));
        let mut files = Vec::new();
        below(&given, &mut files);
        for file in &files {
            let name = file.strip_prefix(&given).unwrap();
            yard.write(&format!("given/{}", shown(name)), fs::read(file).unwrap());
        }
        let survey = yard.larder("survey given");
        let rewrite = yard.larder("rewrite --write given");
        for line in fs::read_to_string(case.join("told")).unwrap().lines() {
            let (word, rest) = line.split_once(' ').unwrap();
            let said = |run: &crate::house::Run, words: &str| {
                assert!(
                    run.err.contains(words),
                    "{}: `{words}` is not said\n{}",
                    shown(&case),
                    run.err
                );
            };
            match (word, rest.strip_prefix("says ")) {
                ("survey", Some(words)) => said(&survey, words),
                ("says", _) => said(&rewrite, rest),
                ("survey", None) => {
                    assert_eq!(survey.exit.to_string(), rest, "{}\n{}", shown(&case), survey.err);
                }
                ("rewrite", None) => {
                    assert_eq!(rewrite.exit.to_string(), rest, "{}\n{}", shown(&case), rewrite.err);
                }
                _ => panic!("{}: {line}", shown(&case)),
            }
        }
        for file in &files {
            let name = file.strip_prefix(&given).unwrap();
            let expected =
                [becomes.join(name), file.clone()].into_iter().find(|path| path.exists()).unwrap();
            let now = fs::read(yard.path(&format!("given/{}", shown(name)))).unwrap();
            let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
            assert_eq!(text(&now), text(&fs::read(expected).unwrap()), "{}", shown(file));
        }
        // Once done, nothing more is to do.
        let again = yard.larder("--json rewrite --write given").json();
        assert_eq!(again["changed"], 0, "{}", shown(&case));
    }
}
