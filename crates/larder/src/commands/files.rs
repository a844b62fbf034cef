//! Which files of a folder are deployments, and what is in them.

use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use larder_core::rewrite::{FILE_LIMIT, Scan, scan};
use serde::Serialize;

use crate::context::shown;

/// Endings of files that are looked into when a folder is named. A file that is named itself is
/// looked into whatever it is called.
const ENDINGS: [&str; 3] = ["yaml", "yml", "json"];

/// A file that could not be looked into.
#[derive(Debug, Clone, Serialize)]
pub struct Broken {
    /// Which, as written from here.
    pub file: String,
    /// Why.
    pub cause: String,
}

/// A deployment file.
pub struct Deployment {
    /// Where it is.
    pub path: PathBuf,
    /// The path as written from here.
    pub shown: String,
    /// Its text.
    pub text: String,
    /// What is in it.
    pub scan: Scan,
}

/// Finds and reads all deployments below the paths. A folder's ignore rules (`.gitignore`,
/// `.ignore`) are respected, hidden files are left out, links are not followed. One bad file never
/// stops the others.
pub fn read(paths: &[PathBuf]) -> (Vec<Deployment>, Vec<Broken>) {
    let (mut found, mut broken) = (Vec::new(), Vec::new());
    for path in paths {
        if path.is_dir() {
            let mut walk = ignore::WalkBuilder::new(path);
            walk.require_git(false).sort_by_file_path(Path::cmp);
            for entry in walk.build() {
                match entry {
                    Ok(entry)
                        if entry.file_type().is_some_and(|kind| kind.is_file())
                            && has_ending(entry.path()) =>
                    {
                        one(entry.path(), false, &mut found, &mut broken);
                    }
                    Ok(_) => {}
                    Err(error) => {
                        broken.push(Broken { file: shown(path), cause: error.to_string() });
                    }
                }
            }
        } else {
            one(path, true, &mut found, &mut broken);
        }
    }
    (found, broken)
}

fn has_ending(path: &Path) -> bool {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    ENDINGS.iter().any(|known| ending.eq_ignore_ascii_case(known))
}

fn one(path: &Path, named: bool, found: &mut Vec<Deployment>, broken: &mut Vec<Broken>) {
    match load(path) {
        Ok((text, scan)) => {
            found.push(Deployment { path: path.to_owned(), shown: shown(path), text, scan });
        }
        // A JSON file of a folder need not be a deployment at all.
        Err(_)
            if !named
                && path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("json")) => {}
        Err(cause) => broken.push(Broken { file: shown(path), cause }),
    }
}

fn load(path: &Path) -> Result<(String, Scan), String> {
    let file = fs::File::open(path).map_err(|error| error.to_string())?;
    let mut bytes = Vec::new();
    file.take(FILE_LIMIT + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() as u64 > FILE_LIMIT {
        return Err(format!("it is larger than {}", crate::output::bytes(FILE_LIMIT)));
    }
    let text = String::from_utf8(bytes).map_err(|_| "it is no UTF-8 text".to_owned())?;
    let is_json = path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("json"));
    // Broken JSON may still be YAML of another meaning.
    if is_json
        && let Err(error) =
            serde_json::from_str::<serde::de::IgnoredAny>(text.trim_start_matches('\u{feff}'))
    {
        return Err(error.to_string());
    }
    let scan = scan(&text).map_err(|error| error.to_string())?;
    Ok((text, scan))
}
