//! A folder with a configuration, chance, and where images are to lead.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::house::{Run, run};

pub const OWN: &str = "larder.example:5080";

/// The registries that have a shelf, and its name.
pub const SHELVES: [(&str, &str); 4] = [
    ("docker.io", "hub"),
    ("bazaar.example", "bazaar"),
    ("quarry.example:5000", "quarry"),
    ("vent.example", "vent"),
];

pub struct Yard(tempfile::TempDir);

impl Yard {
    pub fn new() -> Self {
        let yard = Self(tempfile::tempdir().unwrap());
        let mut text =
            format!("[larder]\nname = \"t\"\nurl = \"http://{OWN}\"\naccess = \"open\"\n");
        for (host, shelf) in SHELVES {
            text.push_str(&format!(
                "[[upstream]]\nname = \"{shelf}\"\nhost = \"{host}\"\n[[shelf]]\nname = \"{shelf}\"\ncaches = \"{shelf}\"\n"
            ));
        }
        yard.write("larder.toml", text);
        yard
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap()
    }

    pub fn larder(&self, line: &str) -> Run {
        let mut command = Command::new(env!("CARGO_BIN_EXE_larder"));
        command.args(["--new-store", "--config", "larder.toml"]).args(line.split_whitespace());
        command.current_dir(self.path("")).stdin(Stdio::null()).env_remove("LARDER_CONFIG");
        run(&mut command)
    }

    /// The same with a text on stdin.
    pub fn reads(&self, line: &str, text: &str) -> Run {
        let mut command = Command::new(env!("CARGO_BIN_EXE_larder"));
        command.args(["--new-store", "--config", "larder.toml"]).args(line.split_whitespace());
        command.current_dir(self.path("")).env_remove("LARDER_CONFIG");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
        let done = child.wait_with_output().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Run {
            exit: done.status.code().unwrap_or(-1),
            out: text(&done.stdout),
            err: text(&done.stderr),
        }
    }

    /// Rewrites a folder and gives the files in which something is left, with what is said of it.
    pub fn rewrite(&self, folder: &str) -> Told {
        let done = self.larder(&format!("--json rewrite --write {folder}"));
        assert!(done.exit == 0 || done.exit == 1, "{}: {}", done.exit, done.err);
        let json = done.json();
        assert_eq!(json["broken"], serde_json::json!([]), "{}", done.err);
        let again = self.larder(&format!("--json rewrite --write {folder}")).json();
        let more = again["references"].as_array().unwrap();
        let more: Vec<_> = more.iter().filter(|one| !one["to"].is_null()).take(3).collect();
        assert_eq!(again["changed"], 0, "a second run changes something: {more:#?}");
        let all = json["references"].as_array().unwrap();
        Told(
            all.iter()
                .filter(|one| !one["left"].is_null() || !one["lacks"].is_null())
                .map(|one| {
                    (
                        one["file"].as_str().unwrap().to_owned(),
                        one["from"].as_str().unwrap().to_owned(),
                    )
                })
                .collect(),
        )
    }
}

/// What was left, by the file and the text.
pub struct Told(pub Vec<(String, String)>);

impl Told {
    pub fn of(&self, file: &str) -> bool {
        self.0.iter().any(|(named, _)| named == file)
    }
}

/// How many files of each kind are made.
pub fn files() -> usize {
    std::env::var("LARDER_FILES").ok().and_then(|text| text.parse().ok()).unwrap_or(1000)
}

/// Numbers by chance, the same in each run (a linear congruential generator).
pub struct Chance(u64);

impl Chance {
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub fn below(&mut self, most: usize) -> usize {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % most
    }

    pub fn of<'a>(&mut self, all: &[&'a str]) -> &'a str {
        all[self.below(all.len())]
    }

    pub fn one_in(&mut self, number: usize) -> bool {
        self.below(number) == 0
    }
}

/// A reference as a runtime reads it: `host/repository` and the rest. None: it is none.
pub fn normal(text: &str) -> Option<(String, String)> {
    let (name, digest) = match text.split_once('@') {
        Some((name, digest)) => (name, format!("@{digest}")),
        None => (text, String::new()),
    };
    let last = name.rfind('/').map_or(0, |at| at + 1);
    let (name, tag) = match name[last..].find(':') {
        Some(colon) => name.split_at(last + colon),
        None => (name, ""),
    };
    let known = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b"._-/:".contains(&b);
    if name.is_empty()
        || !name.bytes().all(known)
        || name.contains("//")
        || name.starts_with('/')
        || name.ends_with('/')
    {
        return None;
    }
    let (first, rest) = name.split_once('/').unwrap_or(("", name));
    let host = first.contains(['.', ':']) || first == "localhost";
    if first.split_once(':').is_some_and(|(_, port)| port.parse::<u16>().is_err()) {
        return None;
    }
    let full = match (host, name.contains('/')) {
        (true, _) if first == "docker.io" && !rest.contains('/') => {
            format!("docker.io/library/{rest}")
        }
        (true, _) => name.to_owned(),
        (false, true) => format!("docker.io/{name}"),
        (false, false) => format!("docker.io/library/{name}"),
    };
    Some((full, format!("{tag}{digest}")))
}

/// What a reference is to become. None: it stays.
pub fn target(text: &str) -> Option<String> {
    let (full, rest) = normal(text)?;
    let (host, path) = full.split_once('/')?;
    let (_, shelf) = SHELVES.iter().find(|(known, _)| *known == host)?;
    Some(format!("{OWN}/{shelf}/{path}{rest}"))
}

/// What became of the images of one test.
#[derive(Default)]
pub struct Fates {
    pub changed: usize,
    pub left: usize,
}

impl Fates {
    /// Counts one: it became what it should, or stayed. What could have changed and stays must be told.
    pub fn count(
        &mut self,
        was: &str,
        is: &str,
        told: impl Fn() -> bool,
        show: impl Fn() -> String,
    ) {
        // What is no reference is pulled by nobody.
        let stays = was == is || normal(was).is_none();
        match target(was) {
            Some(target) if target == is && !stays => self.changed += 1,
            Some(_) if stays => {
                assert!(told(), "{was} stays, and nobody is told\n{}", show());
                self.left += 1;
            }
            _ => assert!(stays, "{was} became {is}\n{}", show()),
        }
    }

    /// Says how many there were, and that there were enough.
    pub fn told(&self, what: &str, number: usize) {
        let Self { changed, left } = self;
        println!("{what}: {number}, {changed} images changed, {left} left and told");
        assert!(*changed > number, "{what}: {changed} of {number}");
    }
}

/// A word of a path that is shown when something is wrong.
pub fn shown(path: &Path) -> String {
    path.display().to_string()
}
