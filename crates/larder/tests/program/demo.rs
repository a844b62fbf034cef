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
        "denied the request",
        "21. Four pods that look alike",
        "22. No stored credential",
        "Every chapter held",
    ]);
    assert_eq!(told.out.matches("Running").count(), 14, "from all four larders");
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
