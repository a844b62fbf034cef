//! Where do values of charts, settings and objects without pods name images? By the shape of their keys, not by the
//! program for which they are made.

use std::collections::HashMap;
use std::rc::Rc;

use super::super::finding::{ImageRole, Over, Workload};
use super::super::place::{ImagePlace, ReferenceParts, TreeFindings, WrittenReference};
use super::{Dialect, FileContext, strings};
use larder_yaml::{NodeId, Tree, VisitedNodes};

/// Whose the mapping is that is looked at.
pub(super) struct Around<'f> {
    pub dialect: Dialect,
    pub owner: Rc<Workload>,
    /// The registry that is written once for all.
    pub registry: Option<NodeId>,
    pub file: &'f FileContext<'f>,
    /// What stands here is what a build makes.
    pub made: bool,
}

/// Whether a key speaks of a picture: `heroImage`.
fn is_of_picture(key: &str) -> bool {
    const WORDS: [&str; 16] = [
        "hero",
        "logo",
        "background",
        "bg",
        "cover",
        "banner",
        "profile",
        "avatar",
        "thumbnail",
        "icon",
        "favicon",
        "preview",
        "splash",
        "header",
        "footer",
        "social",
    ];
    let lower = key.to_ascii_lowercase();
    WORDS.iter().any(|word| lower.starts_with(word))
}

/// Whether a file holds values of a chart by its name.
pub(super) fn is_named_values(file: &FileContext<'_>) -> bool {
    !file.is_json() && file.name.to_ascii_lowercase().contains("values")
}

/// Whether a document is the values of a chart.
pub(super) fn is_values(tree: &Tree<'_>, top: NodeId, file: &FileContext<'_>) -> bool {
    let split = |(key, value): (NodeId, NodeId)| {
        tree.scalar(key).is_some_and(is_image_key) && tree.get(value, "repository").is_some()
    };
    file.app_version.is_some() || is_named_values(file) || tree.entries(top).any(split)
}

/// Keys under which something is named that a build makes.
const MADE: [&str; 7] =
    ["output", "outputs", "artifacts", "destination", "destinations", "push", "pushTo"];

/// Whether what stands under a key is what a build makes.
pub(super) fn is_made(key: &str) -> bool {
    MADE.contains(&key)
}

/// Walks a document that belongs to no other dialect.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    file: &FileContext<'_>,
    dialect: Dialect,
    found: &mut TreeFindings,
) {
    let global = tree.get(top, "global");
    let registry = global.and_then(|global| tree.get(global, "imageRegistry"));
    let registry = registry.filter(|node| tree.filled(*node).is_some());
    let mut around = Around { dialect, owner: Rc::default(), registry, file, made: false };
    let mut stack = vec![(top, None, false)];
    let mut seen = VisitedNodes::none_of(tree);
    // What a container's arguments and variables name, where values hand them through.
    let with_texts = dialect == Dialect::Values && super::may_name_images(tree.text, file);
    while let Some((node, key, made)) = stack.pop() {
        let node = tree.resolve(node);
        if !seen.insert(node) {
            continue;
        }
        if let Some(items) = tree.items(node) {
            stack.extend(items.map(|item| (item, key, made)));
            continue;
        }
        around.made = made;
        of_mapping(tree, node, key, &around, found);
        if with_texts {
            texts(tree, node, &around, found);
        }
        for (name, value) in tree.entries(node) {
            let name = tree.scalar(name);
            let made = made || (dialect != Dialect::Values && name.is_some_and(is_made));
            stack.push((value, name, made));
        }
    }
}

/// Whether what stands under a key are a container's arguments: `args`, `extraArgs`, `command`.
fn is_of_arguments(key: &str) -> bool {
    matches!(key, "args" | "command") || key.ends_with("Args") || key.ends_with("_args")
}

/// Whether what stands under a key are a container's variables: `env`, `extraEnv`, `envVars`.
fn is_of_variables(key: &str) -> bool {
    matches!(key, "env" | "environment")
        || ["Env", "_env", "EnvVars", "envVars"].iter().any(|end| key.ends_with(end))
}

/// What the arguments and variables in a mapping name.
fn texts(tree: &Tree<'_>, node: NodeId, around: &Around<'_>, found: &mut TreeFindings) {
    let mut add = |node: NodeId, hint: strings::Hint| {
        let pieces = strings::pieces(tree, node, hint);
        if pieces.len() == strings::MOST {
            found.pass(node, Over::Many);
        }
        for span in pieces {
            let written = WrittenReference::Piece(node, span);
            found.add(place(written, ImageRole::Text, around, None));
        }
    };
    for (key, value) in tree.entries(node) {
        let Some(key) = tree.scalar(key) else { continue };
        if is_of_arguments(key) {
            for word in tree.items(value).into_iter().flatten() {
                add(word, strings::Hint::of_word(tree.scalar(word)));
            }
            // `{ name-of-option: value }`.
            for (name, value) in tree.entries(value) {
                add(value, strings::Hint::of_name(tree.scalar(name)));
            }
        } else if is_of_variables(key) {
            for variable in tree.items(value).into_iter().flatten() {
                if let Some(value) = tree.get(variable, "value") {
                    add(value, strings::Hint::of_name(tree.text_of(variable, "name")));
                }
            }
            // `{ NAME: value }`. What a key names as an image is found as one.
            for (name, value) in tree.entries(value) {
                let name = tree.scalar(name);
                if !name.is_some_and(is_image_key) {
                    add(value, strings::Hint::of_name(name));
                }
            }
        }
    }
}

/// The parts of a reference that stand beside each other in a mapping.
#[derive(Default)]
struct Beside {
    tag: Option<NodeId>,
    digest: Option<NodeId>,
    registry: Option<NodeId>,
}

/// What stands beside names in one mapping, by what the name's key begins with: `tag`, `imageTag`, `sidecarDigest`.
/// Looked up once, as there may be as many as images.
fn beside<'a>(tree: &'a Tree<'_>, node: NodeId) -> HashMap<&'a str, Beside> {
    let mut all: HashMap<&str, Beside> = HashMap::new();
    for (key, value) in tree.entries(node) {
        let Some(key) = tree.scalar(key) else { continue };
        let (name, part) = match key {
            "tag" | "Tag" => ("", "Tag"),
            "digest" | "Digest" => ("", "Digest"),
            "registry" | "Registry" => ("", "Registry"),
            key => {
                let part = ["Tag", "Digest", "Registry"].into_iter().find(|end| key.ends_with(end));
                let under = [("_tag", "Tag"), ("_digest", "Digest"), ("_registry", "Registry")];
                let under = under.into_iter().find(|(end, _)| key.ends_with(end));
                match (part, under) {
                    (Some(part), _) => (&key[..key.len() - part.len()], part),
                    (None, Some((end, part))) => (&key[..key.len() - end.len()], part),
                    (None, None) => continue,
                }
            }
        };
        let one = all.entry(name).or_default();
        let place = match part {
            "Tag" => &mut one.tag,
            "Digest" => &mut one.digest,
            _ => &mut one.registry,
        };
        place.get_or_insert(value);
    }
    all
}

/// What a key that holds a name begins with: `image` of `imageRepository`. None: it holds none.
fn stem_of(key: &str) -> Option<&str> {
    const ENDS: [&str; 4] = ["Repository", "_repository", "Name", "_name"];
    let stem = ENDS.iter().find_map(|end| key.strip_suffix(end))?;
    is_image_key(stem).then_some(stem)
}

/// Looks at the entries of one mapping. `key`: the one under which it stands itself.
pub(super) fn of_mapping(
    tree: &Tree<'_>,
    node: NodeId,
    key: Option<&str>,
    around: &Around<'_>,
    found: &mut TreeFindings,
) {
    // Long: the shapes that values have, the most certain first.
    let under_image = key.is_some_and(is_image_key);
    let mut whole = false;
    let mut all = None;
    let mut called = None;
    let mut name_of = || *called.get_or_insert_with(|| tree.get(node, "name"));
    for (key, value) in tree.entries(node) {
        let Some(name) = tree.scalar(key) else { continue };
        if name == "images" && tree.is_mapping(value) {
            for (key, inner) in tree.entries(value) {
                if tree.filled(inner).is_some_and(looks_like_one) {
                    found.add(place(
                        WrittenReference::Whole(inner),
                        role_of(tree, inner, false, around),
                        around,
                        Some(key),
                    ));
                }
            }
        }
        if name == "images"
            && let Some(items) = tree.items(value)
        {
            for item in items {
                if tree.filled(item).is_some_and(looks_like_one) {
                    found.add(place(
                        WrittenReference::Whole(item),
                        role_of(tree, item, false, around),
                        around,
                        None,
                    ));
                }
            }
        }
        let stem = stem_of(name);
        let is_exact = matches!(name, "image" | "Image");
        if !(is_image_key(name) || stem.is_some()) || tree.is_mapping(value) {
            continue;
        }
        let Some(text) = tree.filled(value) else { continue };
        if is_foreign(tree, value) {
            let marks = ["!Ref", "!Sub", "!GetAtt", "!ImportValue", "!Join", "!FindInMap"];
            let tag = tree.nodes[tree.resolve(value)].tag.as_deref().unwrap_or_default();
            if marks.contains(&tag) || looks_like_one(text) {
                found.add(place(
                    WrittenReference::Whole(value),
                    ImageRole::Open,
                    around,
                    name_of(),
                ));
            }
            continue;
        }
        // Its tag, its digest and its registry may stand beside it.
        let all = all.get_or_insert_with(|| beside(tree, node));
        let find = |get: &dyn Fn(&Beside) -> Option<NodeId>| {
            let own = all.get(stem.unwrap_or(name)).and_then(get);
            // In a mapping that is all one image they belong to it.
            own.or_else(|| all.get("").and_then(get))
        };
        let scalar = |id: &NodeId| tree.scalar(*id).is_some() || tree.nodes[*id].is_absent();
        let tag = find(&|one| one.tag).filter(|id| tree.scalar(*id).is_some() && !has_tag(text));
        let digest = find(&|one| one.digest).filter(scalar);
        let registry = find(&|one| one.registry).filter(|id| tree.filled(*id).is_some());
        let apart = tag.is_some()
            || registry.is_some()
            || digest.is_some_and(|id| tree.filled(id).is_some());
        if apart && is_name(text) && !is_picture(text) {
            let global = registry.is_some() && around.registry.is_some();
            let registry = around.registry.filter(|_| global).or(registry);
            let above = registry.is_some() && around.file.registry.is_some();
            let parts = ReferenceParts {
                registry,
                name: value,
                tag,
                digest,
                usual_tag: None,
                above,
                global,
            };
            let exact = tag.is_some() || registry.is_some();
            let role = role_of(tree, value, exact, around);
            found.add(place(WrittenReference::Parts(parts), role, around, name_of()));
            whole |= is_exact;
        } else if looks_like_one(text) {
            let role = match is_of_picture(name) && !has_tag(text) && !around.made {
                true => ImageRole::Doubtful,
                false => role_of(tree, value, is_exact, around),
            };
            found.add(place(WrittenReference::Whole(value), role, around, name_of()));
            whole |= is_exact;
        } else if is_exact || around.dialect == Dialect::Values {
            if crate::reference::is_open(text)
                && text.contains('$')
                && around.dialect != Dialect::Other
            {
                found.add(place(
                    WrittenReference::Whole(value),
                    ImageRole::Open,
                    around,
                    name_of(),
                ));
            } else if is_word(text) {
                found.pass(value, Over::Word);
            }
        }
    }
    if !whole && let Some((written, role)) = parts(tree, node, under_image, around, found) {
        // The name of the image is not that of the one who runs it.
        let own = name_of().filter(|name| written.names() != Some(*name));
        found.add(place(written, role, around, own));
    }
}

/// A mapping that keeps the parts of a reference apart.
fn parts(
    tree: &Tree<'_>,
    node: NodeId,
    under_image: bool,
    around: &Around<'_>,
    found: &mut TreeFindings,
) -> Option<(WrittenReference, ImageRole)> {
    let get = |key: &str| tree.get(node, key);
    let (registry, tag, digest) = (get("registry"), get("tag"), get("digest"));
    let beside = registry.is_some() || tag.is_some() || digest.is_some();
    let name = get("repository").or_else(|| get("name").filter(|_| under_image))?;
    let text = tree.filled(name).filter(|text| is_name(text) && !is_picture(text))?;
    if is_foreign(tree, name) || get("chart").is_some() || get("chartVersion").is_some() {
        return None;
    }
    let is_repository = get("repository") == Some(name);
    let served = around.registry.is_some() || around.file.registry.is_some();
    if !beside && !under_image && !served {
        // A chart's own place, or that of sources, has no tag beside it.
        if around.dialect != Dialect::Values || !names_registry(text) {
            return None;
        }
    }
    if !beside && !is_repository && !text.contains('/') {
        found.pass(name, Over::Word);
        return None;
    }
    if !beside && !under_image && served && !names_registry(text) && !text.contains('/') {
        return None;
    }
    let usual = tag.is_none_or(|tag| tree.filled(tag).is_none());
    let usual_tag = around.file.app_version.filter(|_| usual).map(str::to_owned);
    let exact = beside || around.dialect == Dialect::Values;
    let role = role_of(tree, name, exact, around);
    let global = around.registry.is_some();
    let above = around.file.registry.is_some();
    let registry = around.registry.or(registry);
    Some((
        WrittenReference::Parts(ReferenceParts {
            registry,
            name,
            tag,
            digest,
            usual_tag,
            above,
            global,
        }),
        role,
    ))
}

/// How sure it is that what stands there is an image. `exact`: its key, or what stands beside it, says so.
fn role_of(tree: &Tree<'_>, node: NodeId, exact: bool, around: &Around<'_>) -> ImageRole {
    let text = tree.filled(node).unwrap_or_default();
    match around.dialect {
        _ if around.made => ImageRole::Built,
        // In some other program's settings only a registry makes it one, and a key or a tag that says so.
        Dialect::Other if names_registry(text) && (exact || has_tag(text)) => ImageRole::Likely,
        Dialect::Other => ImageRole::Doubtful,
        _ => ImageRole::Likely,
    }
}

fn place(
    written: WrittenReference,
    role: ImageRole,
    around: &Around<'_>,
    container: Option<NodeId>,
) -> ImagePlace {
    let owner = Rc::clone(&around.owner);
    ImagePlace { owner, container, ..ImagePlace::new(written, around.dialect, role) }
}

/// Whether a key holds an image by its name.
pub(super) fn is_image_key(key: &str) -> bool {
    matches!(key, "image" | "Image") || key.ends_with("Image") || key.ends_with("_image")
}

/// Whether a scalar is no text by its tag: another program reads a function in it (`!Ref`).
pub(in super::super) fn is_foreign(tree: &Tree<'_>, node: NodeId) -> bool {
    let node = &tree.nodes[tree.resolve(node)];
    let text = ["!", "!!str", "tag:yaml.org,2002:str"];
    node.tag.as_deref().is_some_and(|tag| !text.contains(&tag))
}

/// Whether a text can be a repository, with or without a registry before it.
fn is_name(text: &str) -> bool {
    let known = |b: u8| b.is_ascii_alphanumeric() || b"._-/:@[]".contains(&b);
    text.len() <= 512
        && text.bytes().all(known)
        && !text.contains("//")
        && !text.starts_with(['/', '.', ':', '@'])
        && !text.ends_with(['/', ':', '@'])
}

/// Whether a text is one word, as the name of an image is, or of a disk.
fn is_word(text: &str) -> bool {
    let known = |b: u8| b.is_ascii_alphanumeric() || b"._-/".contains(&b);
    (2..=128).contains(&text.len())
        && text.bytes().all(known)
        && !is_picture(text)
        && !text.starts_with('/')
}

/// Whether a name has a tag or a digest with it.
pub(super) fn has_tag(text: &str) -> bool {
    text.rsplit('/').next().is_some_and(|last| last.contains([':', '@']))
}

/// Whether the first part of a name can only be a registry.
pub(super) fn names_registry(text: &str) -> bool {
    text.split_once('/').is_some_and(|(first, rest)| {
        !rest.is_empty() && (first.contains(['.', ':']) || first == "localhost")
    })
}

fn is_picture(text: &str) -> bool {
    const PICTURES: [&str; 14] = [
        ".png", ".jpg", ".jpeg", ".svg", ".gif", ".webp", ".ico", ".qcow2", ".iso", ".img",
        ".vmdk", ".raw", ".ova", ".tar.gz",
    ];
    let lower = text.to_ascii_lowercase();
    PICTURES.iter().any(|ending| lower.ends_with(ending))
}

/// Whether a word is a host with its port: `broker-0.broker:9092`.
pub(super) fn is_host_and_port(text: &str) -> bool {
    !text.contains('/')
        && text.rsplit_once(':').is_some_and(|(host, port)| {
            host.contains('.') && !port.is_empty() && port.parse::<u16>().is_ok()
        })
}

/// Whether the tag of a word could as well be the port of a host: `broker:9092`.
pub(super) fn may_be_port(text: &str) -> bool {
    !text.contains('/')
        && text.rsplit_once(':').is_some_and(|(_, port)| {
            port.parse::<u16>()
                .is_ok_and(|port| port >= 1000 || matches!(port, 22 | 25 | 53 | 80 | 443 | 636))
        })
}

/// Whether a word is a digest without a name: `sha256:…`.
pub(super) fn is_digest_alone(text: &str) -> bool {
    text.split_once(':').is_some_and(|(kind, rest)| {
        matches!(kind, "sha256" | "sha512" | "sha384" | "sha1" | "md5")
            && rest.len() >= 32
            && rest.bytes().all(|b| b.is_ascii_hexdigit())
    })
}

/// Whether a text that stands where an image could stand is one: it names a registry or a tag.
/// A word alone is none: `image: cirros` is the disk of a machine.
pub(super) fn looks_like_one(text: &str) -> bool {
    let known = |b: u8| b.is_ascii_alphanumeric() || b"._-/:@[]+".contains(&b);
    if text.len() > 512 || !text.bytes().all(known) || text.contains("//") {
        return false;
    }
    if text.starts_with(['/', '.', ':', '@']) || text.ends_with(['/', ':', '@']) {
        return false;
    }
    if is_picture(text) || is_digest_alone(text) || is_host_and_port(text) {
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
