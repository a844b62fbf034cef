//! Tags that are not made for all wanted platforms: what is locked stands in for them, or another tag.

use std::collections::BTreeMap;

use larder_core::lock::{Lock, LockedTag, PassedOver, Want};
use larder_core::platform::listed;

use super::super::upstream::{Answers, LackingTag, UnresolvedTag};
use super::{LockChange, LockedImage};
use crate::config::{Config, Intake};
use crate::failure::{Exit, Failure};

/// Takes the tags that lack something out of the answers.
pub fn take_out(answers: &mut Answers) -> BTreeMap<Want, LackingTag> {
    let all = std::mem::take(answers);
    let mut lacking = BTreeMap::new();
    for (want, answer) in all {
        match answer {
            Err(UnresolvedTag::Lacks(found)) => {
                lacking.insert(want, found);
            }
            answer => {
                answers.insert(want, answer);
            }
        }
    }
    lacking
}

/// Writes them into the lock, and tells what stands in for each. What nothing stands in for is a
/// failure.
pub fn settle(
    lacking: BTreeMap<Want, LackingTag>,
    config: &Config,
    before: &Lock,
    after: &mut Lock,
    lines: &mut Vec<LockedImage>,
    failures: &mut Vec<Failure>,
) {
    let mut by_image: BTreeMap<_, Vec<LackingTag>> = BTreeMap::new();
    for (want, found) in lacking {
        let known = before.entries.get(&want).filter(|known| stands_in(known, &want, config));
        let mut line = LockedImage { lacks: found.lacks.clone(), ..LockedImage::of(&want) };
        line.change = LockChange::PassedOver;
        match known {
            Some(known) => {
                line.tell(known, Some(known));
                after.entries.insert(want.clone(), known.clone());
            }
            None if found.named => {
                line.change = LockChange::Failed;
                line.cause = Some(found.failure.cause.clone());
                failures.push(found.failure.clone());
                // What was locked under its name stays locked: deployments and tidying go by it.
                if let Some(known) = before.entries.get(&want) {
                    line.tell(known, Some(known));
                    after.entries.insert(want.clone(), known.clone());
                }
            }
            None => by_image.entry(want.image.clone()).or_default().push(found.clone()),
        }
        let passed = PassedOver { digest: found.digest, lacks: found.lacks };
        after.passed_over.insert(want, passed);
        lines.push(line);
    }
    for (image, found) in by_image {
        if after.of_image(&image).next().is_some() {
            continue;
        }
        let mut lacks: Vec<_> = found.iter().flat_map(|one| one.lacks.clone()).collect();
        lacks.sort();
        lacks.dedup();
        let cause = format!(
            "none of the {} tags that were looked at is made for {}",
            found.len(),
            listed(&lacks)
        );
        let remedy = "`platforms` of its entry says what is wanted";
        let failure = Failure::usage(format!("cannot lock {image}"), cause, remedy);
        failures.push(failure.ending(Exit::No));
    }
    lines.sort_by(|a, b| (&a.image, &a.tag).cmp(&(&b.image, &b.tag)));
}

fn stands_in(known: &LockedTag, want: &Want, config: &Config) -> bool {
    let platforms = |intake: &Intake| known.lacks(&intake.platforms).is_empty();
    config.intake_of(&want.image).is_some_and(platforms)
}
