//! Jobs of continuous integration: the images in which they run and the services beside them.

use std::collections::HashSet;
use std::rc::Rc;

use super::super::finding::{ImageRole, Over, Workload};
use super::super::place::{ImagePlace, TreeFindings, WrittenReference, shortened};
use super::{Dialect, FileContext, shape};
use larder_yaml::{NodeId, Tree};

/// What is inside these is not for the one who runs the jobs to read as an image.
const NOT_LOOKED_INTO: [&str; 12] = [
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
    "outputs",
    "artifacts",
];
/// What jobs run on, not in; and the values from which jobs are multiplied.
const PASSED: [(&str, Over); 6] = [
    ("machine", Over::Machine),
    ("macos", Over::Machine),
    ("pool", Over::Machine),
    ("vm", Over::Machine),
    ("matrix", Over::Matrix),
    ("strategy", Over::Matrix),
];
const SCHEME: &str = "docker://";

/// Finds the images of all jobs. False: it is no pipeline.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    _file: &FileContext<'_>,
    found: &mut TreeFindings,
) -> bool {
    // Long: one dialect of pipelines after the other.
    if !is_one(tree, top) {
        return false;
    }
    // Where a language or other pipelines are named, services are names of programs, or of what is defined elsewhere.
    let services_are_images =
        ["language", "pipelines"].iter().all(|key| tree.get(top, key).is_none());
    let declared = declared(tree, top);
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
        let has = |key: &str| tree.get(node, key).is_some();
        let is_step =
            (has("args") || has("entrypoint")) && !has("image") && !has("uses") && !has("run");
        for (key, value) in tree.entries(node) {
            let name = tree.scalar(key).unwrap_or_default();
            if NOT_LOOKED_INTO.contains(&name) {
                continue;
            }
            if let Some((_, why)) = PASSED.iter().find(|(key, _)| *key == name) {
                // What stands below may be an image all the same, to its readers.
                let named = tree.get(value, "image").filter(|image| tree.filled(*image).is_some());
                let listed = tree.get(value, "include").and_then(|list| tree.items(list));
                let included =
                    listed.into_iter().flatten().filter_map(|one| tree.get(one, "image"));
                for node in named.into_iter().chain(included) {
                    found.pass(node, *why);
                }
                if *why == Over::Matrix
                    && let Some(matrix) = tree.get(value, "matrix")
                {
                    let list = tree.get(matrix, "include").and_then(|list| tree.items(list));
                    for one in list.into_iter().flatten() {
                        if let Some(image) = tree.get(one, "image") {
                            found.pass(image, *why);
                        }
                    }
                }
                continue;
            }
            match name {
                "image" | "container" => {
                    // An alias of a container that is declared elsewhere names no image.
                    let is_alias = name == "container"
                        && (has("image")
                            || tree.scalar(value).is_some_and(|text| declared.contains(text)));
                    let node = tree.get(value, "name").filter(|_| name == "image").unwrap_or(value);
                    if !is_alias {
                        image(tree, node, &owner, found);
                    }
                }
                "services" if services_are_images => {
                    for item in tree.items(value).into_iter().flatten() {
                        // With an image of its own, its name is that of a host.
                        if tree.get(item, "image").is_some() {
                            continue;
                        }
                        let node = tree.get(item, "name").unwrap_or(item);
                        image(tree, node, &owner, found);
                    }
                }
                // A step that is nothing but an image and its arguments.
                "name" if is_step => match tree.filled(value) {
                    Some(text) if shape::looks_like_one(text) || text.contains('$') => {
                        image(tree, value, &owner, found);
                    }
                    Some(_) => found.pass(value, Over::Word),
                    None => {}
                },
                "uses" => scheme(tree, value, &owner, found),
                _ => {}
            }
            let owner = if node == tree.resolve(top) || owner.name == "jobs" {
                let kind = "job".to_owned();
                Rc::new(Workload { kind, name: shortened(name), ..Workload::default() })
            } else {
                Rc::clone(&owner)
            };
            stack.push((value, owner));
        }
    }
    true
}

/// The names of containers that are declared beside their images, to be named by jobs.
fn declared<'a>(tree: &'a Tree<'_>, top: NodeId) -> HashSet<&'a str> {
    let list = tree.get(top, "resources").and_then(|at| tree.get(at, "containers"));
    let items = list.and_then(|list| tree.items(list)).into_iter().flatten();
    items.filter_map(|one| tree.text_of(one, "container")).collect()
}

/// An image by its name, or the file of a build, or one behind a scheme.
fn image(tree: &Tree<'_>, node: NodeId, owner: &Rc<Workload>, found: &mut TreeFindings) {
    let Some(text) = tree.filled(node) else { return };
    let file = text.rsplit('/').next().unwrap_or_default();
    if text.starts_with(SCHEME) {
        scheme(tree, node, owner, found);
    } else if !(super::buildfile::may_be_named_so(file) || text.starts_with(['.', '/'])) {
        add(WrittenReference::Filled(node), owner, found);
    }
}

fn scheme(tree: &Tree<'_>, node: NodeId, owner: &Rc<Workload>, found: &mut TreeFindings) {
    let span = tree.nodes[node].span();
    let raw = tree.text.get(span.clone()).unwrap_or_default();
    if let Some(at) = raw.find(SCHEME) {
        let from = span.start + at + SCHEME.len();
        let end = span.end - usize::from(raw.ends_with(['"', '\'']));
        if from < end {
            add(WrittenReference::Piece(node, from..end), owner, found);
        }
    }
}

fn add(written: WrittenReference, owner: &Rc<Workload>, found: &mut TreeFindings) {
    let owner = Rc::clone(owner);
    found.add(ImagePlace {
        owner,
        ..ImagePlace::new(written, Dialect::Pipeline, ImageRole::Pulled)
    });
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
    let listed = |key: &str| {
        let items = tree.get(top, key).and_then(|list| tree.items(list));
        items.into_iter().flatten().any(|one| has(one, &["steps", "container", "pool", "jobs"]))
    };
    any(tree.get(top, "jobs"), &jobs)
        || any(Some(top), &["script", "before_script"])
        || has(top, &["before_script", "after_script", "pipelines"])
        || tree.get(top, "runs").is_some_and(|runs| tree.text_of(runs, "using") == Some("docker"))
        || steps("steps")
        || steps("pipeline")
        || listed("jobs")
        || listed("stages")
        || (has(top, &["pool", "trigger", "resources"]) && has(top, &["steps"]))
        || any(tree.get(top, "pipeline"), &["commands"])
        || any(tree.get(top, "steps"), &["commands"])
}
