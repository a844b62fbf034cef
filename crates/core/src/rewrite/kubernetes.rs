//! Which images do Kubernetes objects name?
//!
//! Found by shape, not by kind: wherever an object holds a pod spec (a list of maps with an image
//! under `containers`, `initContainers` or `ephemeralContainers`), in every built-in workload, in
//! `kind: List` and in custom resources that carry pod templates. Text in ConfigMaps and Secrets
//! is theirs, and schema words in a CustomResourceDefinition are no images.

use std::collections::{HashMap, HashSet};

use granit_parser::ScalarStyle;

use super::tree::{Content, NodeId, Tree, decode};
use super::{Access, Finding, Form, Slot, Workload};

const LISTS: [&str; 3] = ["containers", "initContainers", "ephemeralContainers"];
const NOT_LOOKED_INTO: [&str; 3] = ["CustomResourceDefinition", "ConfigMap", "Secret"];

/// An image's place, before it is known who else uses the same bytes.
struct Place {
    /// The node under `image`, an alias where one is written.
    node: NodeId,
    container: Option<NodeId>,
    workload: Workload,
    duplicate: bool,
}

/// Finds the images of all objects of a file, in the order of the file.
pub(super) fn find(tree: &Tree<'_>) -> Vec<Finding> {
    let mut places = Vec::new();
    let mut seen = HashSet::new();
    for document in &tree.documents {
        if object_kind(tree, *document).is_some() {
            walk(tree, *document, &mut seen, &mut places);
        }
    }
    let mut findings = settle(tree, &places);
    findings.sort_by_key(|finding| finding.position);
    findings
}

/// The kind of a Kubernetes object. None: it is none.
fn object_kind<'a>(tree: &'a Tree<'_>, node: NodeId) -> Option<&'a str> {
    tree.scalar(tree.get(node, "apiVersion")?)?;
    tree.scalar(tree.get(node, "kind")?)
}

fn workload(tree: &Tree<'_>, node: NodeId, kind: &str, outer: &Workload) -> Workload {
    let metadata = tree.get(node, "metadata");
    let field = |name| Some(tree.scalar(tree.get(metadata?, name)?)?.to_owned());
    Workload {
        kind: kind.to_owned(),
        name: field("name").or_else(|| field("generateName")).unwrap_or_default(),
        namespace: field("namespace").or_else(|| outer.namespace.clone()),
    }
}

/// Walks one object with a stack of its own; each node is visited once, however many aliases name it.
fn walk(tree: &Tree<'_>, top: NodeId, seen: &mut HashSet<NodeId>, places: &mut Vec<Place>) {
    let mut stack = vec![(top, Workload::default())];
    while let Some((node, mut owner)) = stack.pop() {
        let node = tree.resolve(node);
        if !seen.insert(node) {
            continue;
        }
        if let Some(items) = tree.items(node) {
            stack.extend(items.iter().map(|item| (*item, owner.clone())));
            continue;
        }
        if let Some(kind) = object_kind(tree, node) {
            if NOT_LOOKED_INTO.contains(&kind) {
                continue;
            }
            owner = workload(tree, node, kind, &owner);
        }
        for (key, value) in tree.entries(node) {
            let listed = tree.scalar(*key).is_some_and(|key| LISTS.contains(&key));
            match tree.items(*value) {
                Some(containers) if listed => {
                    for container in containers {
                        images_of(tree, *container, &owner, places);
                    }
                }
                _ => stack.push((*value, owner.clone())),
            }
        }
    }
}

fn images_of(tree: &Tree<'_>, container: NodeId, owner: &Workload, places: &mut Vec<Place>) {
    let mut images: Vec<NodeId> = tree.values(container, "image").collect();
    let mut bases: Vec<NodeId> = merged(tree, container);
    let mut depth = 0;
    // An image that comes through a merge belongs to the base, which may merge in its turn.
    while images.is_empty() && !bases.is_empty() && depth < 16 {
        images = bases.iter().filter_map(|base| tree.get(*base, "image")).take(1).collect();
        bases = bases.iter().flat_map(|base| merged(tree, *base)).collect();
        depth += 1;
    }
    let duplicate = images.len() > 1;
    for node in images {
        let container = tree.get(container, "name");
        places.push(Place { node, container, workload: owner.clone(), duplicate });
    }
}

/// The mappings that `<<` merges into this one, in the order in which they win.
fn merged(tree: &Tree<'_>, mapping: NodeId) -> Vec<NodeId> {
    tree.values(mapping, "<<")
        .flat_map(|value| tree.items(value).map_or_else(|| vec![value], <[NodeId]>::to_vec))
        .map(|node| tree.resolve(node))
        .take(64)
        .collect()
}

/// Joins the places that share bytes and decides what can be done with each.
fn settle(tree: &Tree<'_>, places: &[Place]) -> Vec<Finding> {
    // How often an alias anywhere in the file stands for a node, and how often one at an image does.
    let mut aliased: HashMap<NodeId, usize> = HashMap::new();
    for node in &tree.nodes {
        if let Content::Alias(target) = node.content {
            *aliased.entry(target).or_default() += 1;
        }
    }
    let mut at_images: HashMap<NodeId, usize> = HashMap::new();
    let mut uses: HashMap<NodeId, usize> = HashMap::new();
    for place in places {
        *uses.entry(place.node).or_default() += 1;
        if let Content::Alias(target) = tree.nodes[place.node].content {
            *at_images.entry(target).or_default() += 1;
        }
    }
    let count = |map: &HashMap<NodeId, usize>, node| map.get(&node).copied().unwrap_or(0);

    let mut settled = HashSet::new();
    let mut findings = Vec::new();
    for place in places {
        if !settled.insert(place.node) {
            continue;
        }
        let is_alias = matches!(tree.nodes[place.node].content, Content::Alias(_));
        let target = tree.resolve(place.node);
        if is_alias && count(&uses, target) > 0 {
            continue; // the definition is an image itself and is found there
        }
        let Some(text) = tree.scalar(target) else {
            // `image: {{ name }}` is a map to YAML; a null image is none.
            if matches!(tree.nodes[target].content, Content::Scalar { .. }) {
                continue;
            }
            findings.push(finding(tree, place, String::new(), 0, Access::Leave("it is no text")));
            continue;
        };
        let outside = count(&aliased, target) > count(&at_images, target);
        let access = if is_alias {
            slot(tree, place.node, text)
        } else if outside {
            Access::Leave("its anchor is used for something else too")
        } else {
            slot(tree, target, text)
        };
        let shared =
            if is_alias { 0 } else { count(&at_images, target) + count(&uses, target) - 1 };
        findings.push(finding(tree, place, text.to_owned(), shared, access));
    }
    findings
}

fn finding(
    tree: &Tree<'_>,
    place: &Place,
    text: String,
    shared_by: usize,
    access: Access,
) -> Finding {
    let node = &tree.nodes[place.node];
    let start = match (&node.content, place.container) {
        (Content::Mapping(_) | Content::Sequence(_), Some(name)) => tree.nodes[name].span.start,
        _ => node.span.start,
    };
    Finding {
        text,
        position: tree.position(start),
        workload: place.workload.clone(),
        container: place.container.and_then(|name| tree.scalar(name)).map(str::to_owned),
        shared_by,
        access,
        duplicate: place.duplicate,
    }
}

/// The bytes that can be replaced, if their meaning is beyond doubt: the slice, decoded on its own,
/// must give the value that the parser reported.
fn slot(tree: &Tree<'_>, id: NodeId, text: &str) -> Access {
    let node = &tree.nodes[id];
    let Some(slice) = tree.text.get(node.span.clone()) else {
        return Access::Leave("its place in the file is not certain");
    };
    let slot = |span, form| Access::Edit(Slot { span, form, event: node.event });
    let span = node.span.clone();
    let (form, fits) = match &node.content {
        Content::Alias(_) => return slot(span, Form::Alias),
        Content::Scalar { style, .. } => match style {
            ScalarStyle::Plain => (Form::Plain, slice == text),
            ScalarStyle::SingleQuoted => {
                (Form::SingleQuoted, decode(slice).as_deref() == Some(text))
            }
            ScalarStyle::DoubleQuoted => {
                (Form::DoubleQuoted, decode(slice).as_deref() == Some(text))
            }
            ScalarStyle::Literal | ScalarStyle::Folded => {
                const BLANKS: [char; 4] = [' ', '\t', '\r', '\n'];
                let line = slice.trim_matches(BLANKS);
                if line != text.trim_end_matches('\n') || line.contains(['\n', '\r']) {
                    return Access::Leave("it is written over several lines");
                }
                let start = span.start + slice.len() - slice.trim_start_matches(BLANKS).len();
                return slot(start..start + line.len(), Form::Block);
            }
        },
        _ => return Access::Leave("it is no text"),
    };
    if slice.contains(['\n', '\r']) {
        return Access::Leave("it is written over several lines");
    }
    if fits { slot(span, form) } else { Access::Leave("its place in the file is not certain") }
}
