//! Charts that take one registry from the chart above them: it changes only when all of them agree on another.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};

use larder_core::retarget::RetargetAnswer;
use larder_core::rewrite::decide::{Decider, Others};

use crate::deployments::{self, Candidate, Candidates, Family, Sight};

/// The registries that families get, by the file that writes each. Those that do not agree, or are not all among the
/// files of this run, keep theirs.
pub(super) fn agreed(
    found: &Candidates,
    sight: Sight<'_>,
    decider: &Decider<'_>,
) -> HashMap<PathBuf, String> {
    let mut all = HashMap::new();
    let paths: HashSet<&Path> = found.files.iter().map(|one| one.path.as_path()).collect();
    for family in found.families() {
        if let Some(host) = agrees(&family, &paths, sight, decider) {
            all.insert(family.top.clone(), host);
        }
    }
    all
}

fn agrees(
    family: &Family,
    paths_of_run: &HashSet<&Path>,
    sight: Sight<'_>,
    decider: &Decider<'_>,
) -> Option<String> {
    let here = |path: &PathBuf| paths_of_run.contains(path.as_path());
    // One that may not be changed would be left with a registry that is not its own.
    let mut all = std::iter::once(&family.top).chain(&family.members);
    if !family.whole || !all.all(|path| here(path) && sight.may_change(path)) {
        return None;
    }
    let paths: Vec<Candidate> = std::iter::once(&family.top)
        .chain(&family.members)
        .map(|path| Candidate::one(path.clone()))
        .collect();
    let hosts = deployments::each_of(&paths, sight, |_, scan| {
        let takes = scan.findings.iter().filter(|one| one.shared_registry && one.is_certain());
        let hosts =
            takes.filter_map(|one| match decider.retarget.answer(&one.text, one.tag_elsewhere) {
                RetargetAnswer::Become(new) => Some(new.host.to_string()),
                _ => None,
            });
        Ok(hosts.collect::<BTreeSet<String>>())
    });
    let hosts: BTreeSet<String> = hosts.done.into_iter().flatten().collect();
    let host = hosts.first().filter(|_| hosts.len() == 1)?.clone();
    // With that host, does each of them become what it should?
    let supposed = HashMap::from([(family.top.clone(), host.clone())]);
    let sight = Sight { agreed: Some(&supposed), ..sight };
    let done = deployments::each_of(&paths, sight, |_, scan| {
        let decided = decider.decide(scan, &Others::default());
        let all = scan.findings.iter().zip(&decided.decisions);
        let takes: Vec<bool> = all
            .filter(|(one, _)| one.shared_registry)
            .map(|(_, decision)| decision.to.is_some())
            .collect();
        Ok((takes.iter().all(|done| *done), takes.len()))
    });
    // Where nothing beside it takes the registry, there is no image by which it would change.
    let written = done.done.first().is_some_and(|(_, takes)| *takes > 0);
    let all = done.broken.is_empty() && done.done.len() == paths.len();
    (written && all && done.done.iter().all(|(fine, _)| *fine)).then_some(host)
}
