//! What looks like the name of an image wherever it stands: the values of charts, and settings that
//! other programs made.

use std::collections::HashMap;
use std::rc::Rc;

use super::super::finding::{Role, Workload};
use super::super::place::{Found, Parts, Place, Written};
use super::super::tree::{NodeId, Tree, Visited};
use super::{Dialect, File};

/// Whose the mapping is that is looked at.
pub(super) struct Around<'f> {
    pub dialect: Dialect,
    pub owner: Rc<Workload>,
    /// The registry that is written once for all.
    pub registry: Option<NodeId>,
    pub file: &'f File<'f>,
}

/// Whether a document is the values of a chart.
pub(super) fn is_values(tree: &Tree<'_>, top: NodeId, file: &File<'_>) -> bool {
    let lower = file.name.to_ascii_lowercase();
    let split = |(key, value): (NodeId, NodeId)| {
        tree.scalar(key).is_some_and(is_image_key) && tree.get(value, "repository").is_some()
    };
    file.app_version.is_some()
        || (!file.is_json() && lower.contains("values"))
        || tree.entries(top).any(split)
}

/// Walks a document that belongs to no other dialect.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    file: &File<'_>,
    dialect: Dialect,
    found: &mut Found,
) {
    let global = tree.get(top, "global");
    let registry = global.and_then(|global| tree.get(global, "imageRegistry"));
    let registry = registry.filter(|node| tree.filled(*node).is_some());
    let around = Around { dialect, owner: Rc::default(), registry, file };
    let mut stack = vec![top];
    let mut seen = Visited::none_of(tree);
    while let Some(node) = stack.pop() {
        let node = tree.resolve(node);
        if !seen.insert(node) {
            continue;
        }
        if let Some(items) = tree.items(node) {
            stack.extend(items);
            continue;
        }
        of_mapping(tree, node, &around, found);
        stack.extend(tree.entries(node).map(|(_, value)| value));
    }
}

/// Looks at the entries of one mapping.
pub(super) fn of_mapping(tree: &Tree<'_>, node: NodeId, around: &Around<'_>, found: &mut Found) {
    let mut whole = false;
    let mut tags = None;
    let mut called = None;
    let mut name_of = || *called.get_or_insert_with(|| tree.get(node, "name"));
    for (key, value) in tree.entries(node) {
        let Some(name) = tree.scalar(key) else { continue };
        if name == "images" && tree.is_mapping(value) {
            for (key, inner) in tree.entries(value) {
                if tree.filled(inner).is_some_and(looks_like_one) {
                    found.add(place(Written::Whole(inner), around, Some(key)));
                }
            }
        }
        if name == "images"
            && let Some(items) = tree.items(value)
        {
            for item in items {
                if tree.filled(item).is_some_and(looks_like_one) {
                    found.add(place(Written::Whole(item), around, None));
                }
            }
        }
        if !is_image_key(name) || tree.is_mapping(value) {
            continue;
        }
        let Some(text) = tree.filled(value) else { continue };
        // Its tag may stand beside it.
        let tags = tags.get_or_insert_with(|| tags_of(tree, node));
        let tag = tags.get(name).or_else(|| tags.get("")).copied();
        let tag = tag.filter(|tag| tree.scalar(*tag).is_some() && !has_tag(text));
        if let Some(tag) = tag
            && is_name(text)
        {
            let parts = Parts {
                registry: None,
                name: value,
                tag: Some(tag),
                digest: None,
                usual_tag: None,
            };
            found.add(place(Written::Parts(parts), around, name_of()));
            whole = true;
        } else if looks_like_one(text) {
            found.add(place(Written::Whole(value), around, name_of()));
            whole = true;
        }
    }
    if !whole && let Some(written) = parts(tree, node, around) {
        found.add(place(written, around, name_of()));
    }
}

/// The entries `tag` and `NAMETag` of a mapping, by NAME: looked up once, as there may be as many as images.
fn tags_of<'a>(tree: &'a Tree<'_>, node: NodeId) -> HashMap<&'a str, NodeId> {
    let mut tags = HashMap::new();
    for (key, value) in tree.entries(node) {
        let name = tree.scalar(key).and_then(|key| match key {
            "tag" => Some(""),
            key => key.strip_suffix("Tag").filter(|name| !name.is_empty()),
        });
        if let Some(name) = name {
            tags.entry(name).or_insert(value);
        }
    }
    tags
}

/// A mapping that keeps the parts of a reference apart.
fn parts(tree: &Tree<'_>, node: NodeId, around: &Around<'_>) -> Option<Written> {
    let get = |key: &str| tree.get(node, key);
    let name = get("repository")?;
    let text = tree.filled(name).filter(|text| is_name(text))?;
    let (registry, tag, digest) = (get("registry"), get("tag"), get("digest"));
    // A chart's own place has no tag beside it.
    if registry.is_none() && tag.is_none() && digest.is_none() && !names_registry(text) {
        return None;
    }
    if get("chart").is_some() || get("chartVersion").is_some() {
        return None;
    }
    let usual = tag.is_none_or(|tag| tree.filled(tag).is_none());
    let usual_tag = around.file.app_version.filter(|_| usual).map(str::to_owned);
    let registry = around.registry.or(registry);
    Some(Written::Parts(Parts { registry, name, tag, digest, usual_tag }))
}

fn place(written: Written, around: &Around<'_>, container: Option<NodeId>) -> Place {
    Place {
        owner: Rc::clone(&around.owner),
        container,
        ..Place::new(written, around.dialect, Role::Likely)
    }
}

fn is_image_key(key: &str) -> bool {
    key == "image" || key == "Image" || key.ends_with("Image") || key.ends_with("_image")
}

/// Whether a text can be a repository, with or without a registry before it.
fn is_name(text: &str) -> bool {
    let known = |b: u8| b.is_ascii_alphanumeric() || b"._-/:[]".contains(&b);
    text.bytes().all(known) && !text.contains("//") && !text.starts_with(['/', '.'])
}

fn has_tag(text: &str) -> bool {
    text.rsplit('/').next().is_some_and(|last| last.contains([':', '@']))
}

/// Whether the first part of a name can only be a registry.
pub(super) fn names_registry(text: &str) -> bool {
    text.split_once('/').is_some_and(|(first, rest)| {
        !rest.is_empty() && (first.contains(['.', ':']) || first == "localhost")
    })
}

/// Whether a text that stands where an image could stand is one: it names a registry or a tag.
/// A word alone is none: `image: cirros` is the disk of a machine.
pub(super) fn looks_like_one(text: &str) -> bool {
    const PICTURES: [&str; 7] = [".png", ".jpg", ".jpeg", ".svg", ".gif", ".webp", ".ico"];
    let known = |b: u8| b.is_ascii_alphanumeric() || b"._-/:@[]+".contains(&b);
    if text.len() > 512 || !text.bytes().all(known) || text.contains("//") {
        return false;
    }
    if text.starts_with(['/', '.', ':', '@']) || text.ends_with(['/', ':', '@']) {
        return false;
    }
    let lower = text.to_ascii_lowercase();
    if PICTURES.iter().any(|ending| lower.ends_with(ending)) {
        return false;
    }
    let digits = |text: &str| text.bytes().all(|b| b.is_ascii_digit());
    let tagged = match text.rsplit_once(':') {
        // Numbers with a colon are a time or a port.
        Some((name, tag)) => {
            !tag.contains('/') && name.bytes().any(|b| b.is_ascii_lowercase()) && !digits(name)
        }
        None => false,
    };
    names_registry(text) || tagged
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_alone_is_no_image_and_a_name_with_a_registry_or_a_tag_is_one() {
        for one in [
            "kettle:2",
            "library/kettle:2",
            "bazaar.example/library/kettle",
            "localhost:5000/kettle",
            "bazaar.example/kettle@sha256:12",
        ] {
            assert!(looks_like_one(one), "{one}");
        }
        for none in [
            "cirros",
            "glance",
            "pictures/logo.png",
            "bazaar.example/logo.PNG",
            "/srv/images",
            "./kettle:2",
            "https://bazaar.example/kettle",
            "12:30",
            "{{ image }}:2",
            "a b:2",
            "kettle:",
            "",
        ] {
            assert!(!looks_like_one(none), "{none}");
        }
    }
}
