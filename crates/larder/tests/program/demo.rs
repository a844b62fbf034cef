//! `larder demo`: every chapter holds, the files stay where they were asked for, and no secret that was
//! made lies anywhere but where its owner alone can read it.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use crate::house::House;

/// What looks like a secret: a key's form, a signed token, the operator's token.
fn secrets(text: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(text);
    let words = text.split(|c: char| !(c.is_ascii_alphanumeric() || "_-.".contains(c)));
    let is_secret = |word: &&str| {
        (word.starts_with("larder_") && word.len() == 74)
            || (word.starts_with("eyJ") && word.matches('.').count() == 2 && word.len() > 100)
            || (word.starts_with("operator-") && word.len() > 40)
    };
    words.filter(is_secret).map(str::to_owned).collect()
}

fn files(folder: &Path, each: &mut impl FnMut(&Path)) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let kind = entry.file_type().unwrap();
        if kind.is_dir() {
            files(&entry.path(), each);
        } else if kind.is_file() {
            each(&entry.path());
        }
    }
}

#[test]
fn the_story_holds_from_the_first_chapter_to_the_last() {
    let house = House::new();
    let told = house.larder("demo --into kept").ends(0).says(&[
        "1. The vendor's deployment does not run",
        "no such host",
        "InvalidImageName",
        "7. Every dialect",
        "11. A tag moves",
        "14. What moves, what is refused, what goes",
        "15. A pod without a secret",
        "give the pod the pull secret of this larder",
        "ask for an intake entry instead",
        "20. The door",
        "22. What is wrong with it?",
        "denied the request",
        "24. Signed by whom",
        "by a key that nobody named",
        "25. Our own approval",
        "1 image signed",
        "28. Four pods that look alike",
        "29. No stored credential",
        "30. A chart and its images",
        "31. Somebody is told",
        "iron-larder.refused",
        "Every chapter held",
    ]);
    assert_eq!(told.out.matches("Running").count(), 17, "from all four larders");
    assert!(house.read("kept/larder.lock").contains("gauges/steamgauge"));
    for text in [&told.out, &told.err] {
        assert_eq!(secrets(text.as_bytes()), Vec::<String>::new(), "a secret is shown");
    }
    // The kubeconfig is the proof that the search finds what there is.
    let mut found = Vec::new();
    files(&house.path("kept"), &mut |path| {
        let mode = fs::metadata(path).unwrap().permissions().mode();
        if !secrets(&fs::read(path).unwrap()).is_empty() {
            found.push(path.file_name().unwrap().to_owned());
            assert_eq!(mode & 0o077, 0, "{} holds a secret and others may read it", path.display());
        }
    });
    assert_eq!(found, ["kubeconfig"]);
    house.larder("demo --into kept").ends(2).says(&["is not empty"]);
}

#[test]
fn one_chapter_can_be_shown_alone_and_all_can_be_listed() {
    let house = House::new();
    let listed = house.larder("demo --list").ends(0);
    assert_eq!(listed.out.lines().filter(|line| line.trim_start().starts_with("31. ")).count(), 1);
    let shown = house.larder("demo --chapter 2").ends(0);
    let said = &shown.out;
    assert!(
        said.contains("2. Know what runs") && said.contains("$ larder survey deploy"),
        "{said}"
    );
    assert!(!said.contains("1. The vendor") && !said.contains("3. Look"), "{said}");
    assert!(said.contains("Chapter 2 held, and all before it"), "{said}");
    house.larder("demo --chapter 99").ends(2).says(&["there is no chapter 99; there are 31"]);
    house.larder("demo --json").ends(2).says(&["leave `--json` out"]);
}
