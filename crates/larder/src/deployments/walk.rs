//! Which files below a folder are worth a look? Hidden ones only where pipelines are known to live.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use larder_core::rewrite::FileContext;
use larder_transfer::files::shown;

use super::{BrokenFile, PassedOver};

/// Hidden folders in which pipelines and the environments of developers are described.
const FOLDERS: [&str; 24] = [
    ".argo",
    ".azure-pipelines",
    ".azuredevops",
    ".build",
    ".builds",
    ".buildkite",
    ".ci",
    ".circleci",
    ".concourse",
    ".deploy",
    ".devcontainer",
    ".docker",
    ".drone",
    ".github",
    ".gitlab",
    ".gitlab-ci",
    ".harness",
    ".jenkins",
    ".k8s",
    ".pipelines",
    ".semaphore",
    ".teamcity",
    ".tekton",
    ".woodpecker",
];

/// Hidden files that describe pipelines, without their ending.
const FILES: [&str; 16] = [
    ".appveyor",
    ".azure-pipelines",
    ".build",
    ".buildkite",
    ".builds",
    ".cirrus",
    ".cloudbuild",
    ".devcontainer",
    ".dockerfile",
    ".drone",
    ".gitlab-ci",
    ".pipeline",
    ".prow",
    ".travis",
    ".wercker",
    ".woodpecker",
];

/// What was found below a folder.
#[derive(Default)]
pub(super) struct WalkedFile {
    pub files: Vec<PathBuf>,
    pub broken: Vec<BrokenFile>,
    pub passed: Vec<PassedOver>,
}

fn is_hidden(name: &str) -> bool {
    name.starts_with('.') && name.len() > 1 && name != ".."
}

/// Whether a hidden file or folder is one that is read all the same.
fn is_known(name: &str, is_folder: bool) -> bool {
    let lower = name.to_ascii_lowercase();
    if is_folder {
        return FOLDERS.contains(&lower.as_str());
    }
    let stem = lower.rsplit_once('.').map_or(lower.as_str(), |(stem, _)| stem);
    let stem = if stem.is_empty() { &lower } else { stem };
    FILES.contains(&stem)
        || stem.ends_with("-ci")
        || stem.ends_with("pipeline")
        || stem.ends_with("pipelines")
}

/// The files below a folder that are worth a look.
pub(super) fn walk(folder: &Path, hidden: bool, workers: usize) -> WalkedFile {
    let found = Mutex::new(WalkedFile::default());
    let passed = Mutex::new(Vec::new());
    let mut walk = ignore::WalkBuilder::new(folder);
    let root = folder.to_owned();
    let passed_over = std::sync::Arc::new(passed);
    let told = std::sync::Arc::clone(&passed_over);
    walk.require_git(false).hidden(false).threads(workers).filter_entry(move |entry| {
        let Some(name) = entry.file_name().to_str() else { return true };
        if entry.depth() == 0 {
            return true;
        }
        let is_folder = entry.file_type().is_some_and(|kind| kind.is_dir());
        let pass = |why| {
            let one = PassedOver::file(shown(entry.path()), why);
            told.lock().unwrap_or_else(PoisonError::into_inner).push(one);
        };
        // Layers and records are nobody's deployments.
        if is_folder && larder_store::Store::is_local(entry.path()) {
            pass(super::STORE);
            return false;
        }
        if !is_hidden(name) {
            return true;
        }
        // What a version control keeps is nobody's deployment.
        if matches!(name, ".git" | ".hg" | ".svn" | ".jj") {
            return false;
        }
        // Other services that run jobs keep them in a folder alike.
        let has_jobs = || is_folder && entry.path().join("workflows").is_dir();
        if hidden || is_known(name, is_folder) || has_jobs() {
            return true;
        }
        let matters =
            is_folder || (FileContext::is_candidate(name) && !FileContext::is_named_plainly(name));
        if matters && entry.file_type().is_some_and(|kind| kind.is_dir() || kind.is_file()) {
            pass(super::HIDDEN);
        }
        false
    });
    walk.build_parallel().run(|| {
        Box::new(|entry| {
            let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
            match entry {
                Ok(entry) => {
                    let is_folder = entry.file_type().is_some_and(|kind| kind.is_dir());
                    if is_folder && entry.path().join(".ignore").exists() {
                        let file = larder_transfer::files::named(entry.path().join(".ignore"));
                        tracing::warn!("{file} leaves files out: what it names is not looked at");
                    }
                    let is_file = entry.file_type().is_some_and(|kind| kind.is_file());
                    if is_file && entry.file_name().to_str().is_some_and(FileContext::is_candidate)
                    {
                        found.files.push(entry.into_path());
                    }
                }
                Err(error) => {
                    found.broken.push(BrokenFile { file: shown(&root), cause: error.to_string() });
                }
            }
            ignore::WalkState::Continue
        })
    });
    let mut found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
    found.passed = std::mem::take(&mut *passed_over.lock().unwrap_or_else(PoisonError::into_inner));
    found
}

/// Whether a path is a folder that can be walked.
pub(super) fn is_folder(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|metadata| metadata.is_dir())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hidden_places_of_pipelines_are_known_by_name() {
        for (name, folder) in [
            (".github", true),
            (".tekton", true),
            (".gitlab-ci.yml", false),
            (".drone.yml", false),
            (".prow.yaml", false),
            (".devcontainer.json", false),
        ] {
            assert!(is_known(name, folder), "{name}");
        }
        for (name, folder) in
            [(".cache", true), (".venv", true), (".eslintrc.json", false), (".kube", true)]
        {
            assert!(!is_known(name, folder), "{name}");
        }
    }
}
