//! What the sources themselves must hold: short files, and a word on everything that others may use.

use std::fs;
use std::path::{Path, PathBuf};

fn sources(folder: &Path, all: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, all);
        } else if path.extension().is_some_and(|end| end == "rs") {
            all.push(path);
        }
    }
}

fn every_source() -> Vec<PathBuf> {
    let mut all = Vec::new();
    sources(Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap(), &mut all);
    assert!(all.len() > 300, "{}", all.len());
    all
}

#[test]
fn no_file_has_more_than_600_lines_and_each_says_what_it_answers() {
    for path in every_source() {
        let text = fs::read_to_string(&path).unwrap();
        assert!(text.lines().count() <= 600, "{} is too long", path.display());
        assert!(text.starts_with("//!"), "{} does not say what it is for", path.display());
    }
}

#[test]
fn everything_public_has_a_doc() {
    let own = Path::new(env!("CARGO_MANIFEST_DIR"));
    let (mut seen, mut without) = (0, Vec::new());
    let kinds = ["fn ", "async fn ", "const fn ", "struct ", "enum ", "trait ", "type ", "const "];
    for path in every_source() {
        if path.starts_with(own) || !path.components().any(|part| part.as_os_str() == "src") {
            continue;
        }
        let text = fs::read_to_string(&path).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        for (number, line) in lines.iter().enumerate() {
            let Some(item) = line.trim_start().strip_prefix("pub ") else { continue };
            if !kinds.iter().any(|kind| item.starts_with(kind)) {
                continue;
            }
            let before = lines[..number].iter().rev().map(|line| line.trim_start());
            seen += 1;
            // Attributes stand between, perhaps on several lines.
            let said = before
                .take_while(|line| !line.is_empty() && !line.ends_with(['}', ';']))
                .any(|line| line.starts_with("///"));
            if !said {
                without.push(format!("{}:{}: {}", path.display(), number + 1, line.trim()));
            }
        }
    }
    assert!(seen > 1000, "{seen}");
    assert!(without.is_empty(), "{} without a doc:\n{}", without.len(), without.join("\n"));
}
