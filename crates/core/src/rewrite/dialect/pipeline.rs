//! Jobs of continuous integration: the images in which they run and the services beside them.

use std::collections::HashSet;
use std::rc::Rc;

use super::super::finding::{Role, Workload};
use super::super::place::{Found, Place, Written};
use super::super::tree::{NodeId, Tree};
use super::{Dialect, File, shape};

/// What is inside these is not for the one who runs the jobs to read as an image.
const NOT_LOOKED_INTO: [&str; 10] = [
    "script",
    "before_script",
    "after_script",
    "run",
    "variables",
    "env",
    "environment",
    "with",
    "args",
    "on",
];
const SCHEME: &str = "docker://";

/// Finds the images of all jobs. False: it is no pipeline.
pub(super) fn find(tree: &Tree<'_>, top: NodeId, _file: &File<'_>, found: &mut Found) -> bool {
    if !is_one(tree, top) {
        return false;
    }
    let mut seen = HashSet::new();
    let mut stack = vec![(top, Rc::new(Workload::default()))];
    while let Some((node, owner)) = stack.pop() {
        let node = tree.resolve(node);
        if !seen.insert(node) {
            continue;
        }
        for item in tree.items(node).into_iter().flatten() {
            stack.push((item, Rc::clone(&owner)));
        }
        let builds = tree.get(node, "args").is_some() || tree.get(node, "entrypoint").is_some();
        for (key, value) in tree.entries(node) {
            let name = tree.scalar(key).unwrap_or_default();
            if NOT_LOOKED_INTO.contains(&name) {
                continue;
            }
            let mut add = |written| {
                let owner = Rc::clone(&owner);
                found.add(Place { owner, ..Place::new(written, Dialect::Pipeline, Role::Pulled) });
            };
            match name {
                "image" | "container" => {
                    let node = tree.get(value, "name").filter(|_| name == "image").unwrap_or(value);
                    if tree.filled(node).is_some() {
                        add(Written::Filled(node));
                    }
                }
                "services" => {
                    for item in tree.items(value).into_iter().flatten() {
                        let node = tree.get(item, "name").unwrap_or(item);
                        if tree.filled(node).is_some() {
                            add(Written::Filled(node));
                        }
                    }
                }
                // A step that is nothing but an image and its arguments.
                "name" if builds && tree.filled(value).is_some_and(shape::names_registry) => {
                    add(Written::Filled(value));
                }
                "uses" => {
                    let span = tree.nodes[value].span();
                    let raw = tree.text.get(span.clone()).unwrap_or_default();
                    if let Some(at) = raw.find(SCHEME) {
                        let from = span.start + at + SCHEME.len();
                        let end = span.end - usize::from(raw.ends_with(['"', '\'']));
                        add(Written::Piece(value, from..end));
                    }
                }
                _ => {}
            }
            let owner = if node == tree.resolve(top) || owner.name == "jobs" {
                let kind = "job".to_owned();
                Rc::new(Workload { kind, name: name.to_owned(), ..Workload::default() })
            } else {
                Rc::clone(&owner)
            };
            stack.push((value, owner));
        }
    }
    true
}

fn is_one(tree: &Tree<'_>, top: NodeId) -> bool {
    let has = |node: NodeId, keys: &[&str]| keys.iter().any(|key| tree.get(node, key).is_some());
    let any = |node: Option<NodeId>, keys: &[&str]| {
        node.is_some_and(|node| tree.entries(node).any(|(_, value)| has(value, keys)))
    };
    let steps = |key: &str| {
        let items = tree.get(top, key).and_then(|list| tree.items(list));
        items.into_iter().flatten().any(|step| {
            has(step, &["commands", "args", "entrypoint", "settings", "script"])
                && has(step, &["image", "name"])
        })
    };
    let jobs = ["runs-on", "steps", "docker", "container", "uses", "script"];
    any(tree.get(top, "jobs"), &jobs)
        || any(Some(top), &["script", "before_script"])
        || has(top, &["before_script", "after_script", "pipelines"])
        || tree.get(top, "runs").is_some_and(|runs| tree.text_of(runs, "using") == Some("docker"))
        || steps("steps")
        || steps("pipeline")
        || any(tree.get(top, "pipeline"), &["commands"])
        || any(tree.get(top, "steps"), &["commands"])
}
