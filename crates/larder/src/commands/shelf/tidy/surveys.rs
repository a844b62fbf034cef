//! What the lock and documents of surveys name: it never goes.

use std::collections::{HashMap, HashSet};

use larder_core::digest::Digest;
use larder_core::lock::Lock;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_core::retention::{HeldImage, InUse};
use larder_transfer::files::{read_bounded, shown};
use serde::Deserialize;

use crate::config::Config;
use crate::context::read_reference;
use crate::failure::Failure;

/// The largest document that is read, in bytes.
const LIMIT: usize = 64 * 1024 * 1024;

/// What is named, by repository.
#[derive(Default)]
pub(in crate::commands) struct Named {
    locked: HashMap<RepositoryName, HashSet<Digest>>,
    surveyed: HashMap<RepositoryName, Vec<(Selector, String)>>,
}

/// What matters of a survey.
#[derive(Deserialize)]
struct SurveyDocument {
    kind: String,
    references: Vec<SurveyReference>,
}

#[derive(Deserialize)]
struct SurveyReference {
    reference: String,
    target: Option<String>,
}

impl Named {
    /// Reads the lock, and the surveys that `[[keep]]` names.
    pub fn read(config: &Config, lock: &Lock) -> Result<Self, Failure> {
        let mut all = Self::default();
        for (want, locked) in &lock.entries {
            for intake in config.intake.iter().filter(|one| *one.image.get_ref() == want.image) {
                let to = config.destination(intake);
                if config.larder.has_name(&to.host) {
                    let digests = all.locked.entry(to.repository).or_default();
                    digests.insert(locked.here().clone());
                }
            }
        }
        let mut files: Vec<&String> = config.keeps.iter().flat_map(|keep| &keep.surveys).collect();
        files.sort_unstable();
        files.dedup();
        for file in files {
            all.add(config, file)?;
        }
        Ok(all)
    }

    /// What is wrong with the surveys that `[[keep]]` names, in words.
    pub fn unreadable(config: &Config) -> Vec<String> {
        let mut files: Vec<&String> = config.keeps.iter().flat_map(|keep| &keep.surveys).collect();
        files.sort_unstable();
        files.dedup();
        let told = files.into_iter().filter_map(|file| Self::default().add(config, file).err());
        told.map(|failure| format!("nothing can be tidied: {}: {}", failure.what, failure.cause))
            .collect()
    }

    fn add(&mut self, config: &Config, file: &str) -> Result<(), Failure> {
        let path = config.folder().join(file);
        let what = || format!("cannot read the survey {}", shown(&path));
        let bytes =
            read_bounded(&path, LIMIT).map_err(|error| Failure::file(what(), &path, &error))?;
        let remedy = "write it with `larder survey --json`; nothing was removed";
        let survey: SurveyDocument = serde_json::from_slice(&bytes)
            .map_err(|error| Failure::usage(what(), error, remedy))?;
        if survey.kind != "survey" {
            let cause = format!(
                "it is a document of the kind `{}`",
                larder_core::shown::cut(&survey.kind, 40)
            );
            return Err(Failure::usage(what(), cause, remedy));
        }
        for one in &survey.references {
            // Its name in this larder, whether that is written already or follows from a route.
            for text in [Some(&one.reference), one.target.as_ref()].into_iter().flatten() {
                let Ok(reading) = read_reference(text, Some(config)) else { continue };
                let reference = reading.reference;
                if config.larder.has_name(&reference.host) {
                    let selectors = self.surveyed.entry(reference.repository.clone()).or_default();
                    let mut both = vec![reference.selector()];
                    both.extend(reference.tag.clone().map(Selector::Tag));
                    selectors.extend(both.into_iter().map(|one| (one, file.to_owned())));
                }
            }
        }
        Ok(())
    }

    /// What names an image. None: nothing does.
    pub fn of(&self, repository: &RepositoryName, image: &HeldImage) -> Option<InUse> {
        let locked = self.locked.get(repository);
        if locked.is_some_and(|locked| locked.contains(&image.digest)) {
            return Some(InUse::Locked);
        }
        let named = self.surveyed.get(repository)?.iter().find(|(selector, _)| match selector {
            Selector::Tag(tag) => image.tag.as_ref() == Some(tag),
            Selector::Digest(digest) => *digest == image.digest,
        });
        named.map(|(_, file)| InUse::Survey(file.clone()))
    }
}
