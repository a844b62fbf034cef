//! Tells the program of which commit it is, how it was built, and with which libraries.

use std::path::{Path, PathBuf};
use std::{env, fs};

/// The libraries that `larder --version --verbose` names.
const NAMED: &[&str] = &[
    "hyper",
    "libsqlite3-sys",
    "object_store",
    "reqwest",
    "ring",
    "rusqlite",
    "rustls",
    "tokio",
    "tokio-postgres",
];

fn main() {
    println!("cargo::rerun-if-env-changed=LARDER_COMMIT");
    let profile = env::var("PROFILE").unwrap_or_default();
    let root = Path::new(&env::var("CARGO_MANIFEST_DIR").unwrap_or_default()).join("../..");
    // A development build is made again and again: it does not ask for its commit.
    let asked = profile == "release";
    let commit = env::var("LARDER_COMMIT").ok().filter(|commit| !commit.is_empty());
    let commit = commit.or_else(|| asked.then(|| commit_of(&root.join(".git"))).flatten());
    let plain = |text: String| text.chars().filter(char::is_ascii_graphic).collect::<String>();
    println!("cargo::rustc-env=LARDER_COMMIT={}", plain(commit.unwrap_or_default()));
    let named = env::var("OUT_DIR").ok().and_then(|out| profile_of(Path::new(&out)));
    println!("cargo::rustc-env=LARDER_PROFILE={}", plain(named.unwrap_or(profile)));
    println!("cargo::rustc-env=LARDER_TARGET={}", env::var("TARGET").unwrap_or_default());
    let lock = root.join("Cargo.lock");
    println!("cargo::rerun-if-changed={}", lock.display());
    let lock = fs::read_to_string(lock).unwrap_or_default();
    println!("cargo::rustc-env=LARDER_LIBRARIES={}", libraries(&lock));
}

/// The profile's own name: the folder below which it is built.
fn profile_of(out: &Path) -> Option<String> {
    let mut above = out.ancestors();
    above.find(|folder| folder.file_name().is_some_and(|name| name == "build"))?;
    Some(above.next()?.file_name()?.to_str()?.to_owned())
}

/// The commit that is checked out, as the files of the repository say it.
fn commit_of(git: &Path) -> Option<String> {
    let watched = |path: PathBuf| {
        println!("cargo::rerun-if-changed={}", path.display());
        fs::read_to_string(path).ok()
    };
    let head = watched(git.join("HEAD"))?;
    let Some(name) = head.trim().strip_prefix("ref: ") else { return Some(head) };
    watched(git.join(name)).or_else(|| {
        let packed = watched(git.join("packed-refs"))?;
        let line = packed.lines().find(|line| line.ends_with(&format!(" {name}")))?;
        line.split(' ').next().map(str::to_owned)
    })
}

fn libraries(lock: &str) -> String {
    let mut all = Vec::new();
    for package in lock.split("[[package]]").skip(1) {
        let value = |key: &str| {
            let line = package.lines().find_map(|line| line.strip_prefix(&format!("{key} = ")))?;
            Some(line.trim_matches('"'))
        };
        if let (Some(name), Some(version)) = (value("name"), value("version"))
            && NAMED.contains(&name)
        {
            all.push(format!("{name} {version}"));
        }
    }
    all.join(", ")
}
