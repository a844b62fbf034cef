//! Which images do Kubernetes objects name?
//!
//! Found by shape, not by kind: wherever an object holds a pod spec (a list of maps with an image
//! under `containers`, `initContainers` or `ephemeralContainers`), in every built-in workload, in
//! `kind: List` and in custom resources that carry pod templates; where the configuration says so;
//! and what looks like an image elsewhere. Text in ConfigMaps is theirs, and schema words in a
//! CustomResourceDefinition are no images.

use std::fmt;
use std::rc::Rc;
use std::str::FromStr;

use super::super::finding::{ImageRole, Over, Workload};
use super::super::place::{ImagePlace, TreeFindings, WrittenReference, shortened};
use super::shape::{self, Around};
use super::{Dialect, FileContext, strings};
use larder_yaml::is_stopped;
use larder_yaml::{NodeId, Tree, VisitedNodes};

const LISTS: [&str; 3] = ["containers", "initContainers", "ephemeralContainers"];
const NOT_LOOKED_INTO: [&str; 2] = ["CustomResourceDefinition", "Secret"];
/// Keys of objects that others made under which the parts of a pod stand, one or a list of them: what has an `image`
/// there runs it.
const PARTS: [&str; 6] =
    ["steps", "sidecars", "stepTemplate", "container", "script", "containerTemplate"];
/// The kind of a reference that names an image of a registry, beside others.
const IMAGE_KINDS: [&str; 1] = ["DockerImage"];
/// The node label by which pods ask for a CPU architecture.
const ARCHITECTURE: &str = "kubernetes.io/arch";

/// Where a kind that others made names images.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CustomResource {
    /// Its API group. Empty: any.
    pub group: String,
    pub kind: String,
    /// The way from the object to the reference.
    pub path: FieldPath,
}

/// Keys joined by dots; `[]` after one stands for every item of a list, `*` for every key:
/// `spec.tools[].image`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldPath(Vec<Field>);

#[derive(Debug, Clone, PartialEq, Eq)]
enum Field {
    Key(String),
    AnyKey,
    Items,
}

/// Why a text is no path.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no path of keys as in `spec.tools[].image`")]
pub struct FieldPathError(String);

impl FromStr for FieldPath {
    type Err = FieldPathError;

    fn from_str(text: &str) -> Result<Self, FieldPathError> {
        let wrong = || FieldPathError(text.chars().take(80).collect());
        let mut fields = Vec::new();
        for part in text.split('.') {
            let key = part.trim_end_matches("[]");
            let lists = (part.len() - key.len()) / 2;
            match key {
                "" => return Err(wrong()),
                "*" => fields.push(Field::AnyKey),
                _ if key.contains(['[', ']', ' ', '*']) => return Err(wrong()),
                _ => fields.push(Field::Key(key.to_owned())),
            }
            fields.extend(std::iter::repeat_n(Field::Items, lists));
        }
        if fields.len() > 32 { Err(wrong()) } else { Ok(Self(fields)) }
    }
}

impl CustomResource {
    /// Whether a text can hold such a place: it has the last key of the path in it.
    pub(super) fn may_be_in(&self, text: &str) -> bool {
        let last = self.path.0.iter().rev().find_map(|field| match field {
            Field::Key(key) => Some(key),
            Field::AnyKey | Field::Items => None,
        });
        last.is_none_or(|key| memchr::memmem::find(text.as_bytes(), key.as_bytes()).is_some())
    }
}

impl fmt::Display for FieldPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (number, field) in self.0.iter().enumerate() {
            let dot = if number > 0 && *field != Field::Items { "." } else { "" };
            match field {
                Field::Key(key) => write!(f, "{dot}{key}")?,
                Field::AnyKey => write!(f, "{dot}*")?,
                Field::Items => write!(f, "[]")?,
            }
        }
        Ok(())
    }
}

/// Finds the images of one object and of all that it holds. False: it is no object.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    file: &FileContext<'_>,
    found: &mut TreeFindings,
) -> bool {
    if object_kind(tree, top).is_none() {
        return false;
    }
    Walk { tree, file, seen: VisitedNodes::none_of(tree), found }.from(top);
    true
}

/// The kind of a Kubernetes object. None: it is none.
fn object_kind<'a>(tree: &'a Tree<'_>, node: NodeId) -> Option<&'a str> {
    tree.text_of(node, "apiVersion")?;
    tree.text_of(node, "kind")
}

/// What is on the way down.
#[derive(Clone)]
struct PathStep<'k> {
    node: NodeId,
    /// The key under which it stands.
    key: Option<&'k str>,
    owner: Rc<Workload>,
    pod: Option<usize>,
    /// What a build makes stands here.
    made: bool,
}

/// A walk with a stack of its own; each node is visited once, however many aliases name it.
struct Walk<'w, 't> {
    tree: &'w Tree<'t>,
    file: &'w FileContext<'w>,
    seen: VisitedNodes,
    found: &'w mut TreeFindings,
}

impl<'w> Walk<'w, '_> {
    fn from(mut self, top: NodeId) {
        let owner = Rc::default();
        let mut stack = vec![PathStep { node: top, key: None, owner, pod: None, made: false }];
        while let Some(step) = stack.pop() {
            let node = self.tree.resolve(step.node);
            if is_stopped(self.file.stop) || self.file.is_over(self.found.places.len()) {
                return;
            }
            if !self.seen.insert(node) {
                continue;
            }
            let step = PathStep { node, ..step };
            if let Some(items) = self.tree.items(node) {
                stack.extend(items.map(|item| PathStep { node: item, ..step.clone() }));
            } else if self.tree.is_mapping(node) {
                self.mapping(step, &mut stack);
            }
        }
    }

    fn mapping(&mut self, mut step: PathStep<'w>, stack: &mut Vec<PathStep<'w>>) {
        // Long: one key of an object after the other.
        let (tree, node) = (self.tree, step.node);
        let object = object_kind(tree, node);
        if let Some(kind) = object {
            step.owner = Rc::new(workload(tree, node, kind, &step.owner));
            self.custom(&step, kind);
            if NOT_LOOKED_INTO.contains(&kind) {
                return;
            }
            if kind == "ConfigMap" {
                self.texts(&step);
                return;
            }
        }
        let is_list = |list: &str| tree.get(node, list).and_then(|at| tree.items(at)).is_some();
        let is_pod = LISTS.iter().any(|list| is_list(list));
        if is_pod {
            let architectures = architectures(tree, node);
            if !architectures.is_empty() {
                let owner = Workload::clone(&step.owner);
                step.owner = Rc::new(Workload { architectures, ..owner });
            }
            if tree.get(node, "containers").is_some() {
                step.pod = Some(self.found.pods.len());
                self.found.pods.push(node);
            }
        }
        let run = !is_pod && !step.made && step.key.is_some_and(|key| PARTS.contains(&key));
        match tree.get(node, "image").filter(|image| run && tree.filled(*image).is_some()) {
            Some(image) => {
                let name = tree.get(node, "name");
                self.add(WrittenReference::Whole(image), ImageRole::Likely, name, &step);
            }
            // What has containers may name an image beside them.
            None => {
                let around = Around {
                    dialect: Dialect::Kubernetes,
                    owner: Rc::clone(&step.owner),
                    registry: None,
                    file: self.file,
                    made: step.made,
                };
                shape::of_mapping(tree, node, step.key, &around, self.found);
            }
        }
        if tree.text_of(node, "kind").is_some_and(|kind| IMAGE_KINDS.contains(&kind))
            && let Some(name) = tree.get(node, "name").filter(|name| tree.filled(*name).is_some())
        {
            let role = if step.made { ImageRole::Built } else { ImageRole::Likely };
            self.add(WrittenReference::Whole(name), role, None, &step);
        }
        for (key, value) in tree.entries(node) {
            let name = tree.scalar(key).unwrap_or_default();
            let listed = LISTS.contains(&name);
            match tree.items(value) {
                Some(containers) if listed => {
                    for container in containers {
                        if self.file.is_over(self.found.places.len()) {
                            return;
                        }
                        self.container(container, &step, stack);
                    }
                }
                // An image mounted as a volume.
                Some(volumes) if is_pod && name == "volumes" => {
                    for volume in volumes {
                        let image = tree.get(volume, "image");
                        if let Some(from) = image.and_then(|image| tree.get(image, "reference")) {
                            let name = tree.get(volume, "name");
                            self.add(WrittenReference::Whole(from), ImageRole::Pulled, name, &step);
                        }
                    }
                }
                _ if name == "metadata" => {}
                // What a cluster says of an object that it has.
                _ if name == "status" && object.is_some() => {
                    if names_image(tree, value) {
                        self.found.pass(value, Over::Status);
                    }
                }
                _ => {
                    let made = step.made || shape::is_made(name);
                    stack.push(PathStep { node: value, key: Some(name), made, ..step.clone() });
                }
            }
        }
    }

    fn container(&mut self, container: NodeId, step: &PathStep<'w>, stack: &mut Vec<PathStep<'w>>) {
        let tree = self.tree;
        let images = images_of(tree, container);
        let duplicate = images.len() > 1;
        let name = tree.get(container, "name");
        for node in &images {
            let place = Self::place(WrittenReference::Whole(*node), ImageRole::Pulled, name, step);
            self.found.add(ImagePlace { duplicate, ..place });
        }
        for key in ["args", "command"] {
            let Some(words) = tree.get(container, key).and_then(|list| tree.items(list)) else {
                continue;
            };
            for word in words {
                self.pieces(word, strings::Hint::of_word(tree.scalar(word)), name, step);
            }
        }
        let env = tree.get(container, "env").and_then(|list| tree.items(list));
        for variable in env.into_iter().flatten() {
            let hint = strings::Hint::of_name(tree.text_of(variable, "name"));
            if let Some(value) = tree.get(variable, "value") {
                self.pieces(value, hint, name, step);
            }
        }
        // What is not a container at all may hold one further down.
        if images.is_empty() {
            stack.push(PathStep { node: container, ..step.clone() });
        }
    }

    fn pieces(
        &mut self,
        node: NodeId,
        hint: strings::Hint,
        container: Option<NodeId>,
        step: &PathStep<'_>,
    ) {
        let pieces = strings::pieces(self.tree, node, hint);
        if pieces.len() == strings::MOST {
            self.found.pass(node, Over::Many);
        }
        for span in pieces {
            self.add(WrittenReference::Piece(node, span), ImageRole::Text, container, step);
        }
    }

    /// The files within a ConfigMap.
    fn texts(&mut self, step: &PathStep<'_>) {
        let Some(data) = self.tree.get(step.node, "data") else { return };
        for (key, value) in self.tree.entries(data) {
            let hint = strings::Hint::of_name(self.tree.scalar(key));
            self.pieces(value, hint, Some(key), step);
        }
    }

    fn custom(&mut self, step: &PathStep<'_>, kind: &str) {
        let group = self.tree.text_of(step.node, "apiVersion").unwrap_or_default();
        let group = group.split_once('/').map_or("", |(group, _)| group);
        for one in self.file.custom {
            if one.kind != kind || (!one.group.is_empty() && one.group != group) {
                continue;
            }
            for node in follow(self.tree, step.node, &one.path) {
                if self.tree.filled(node).is_some() {
                    self.add(WrittenReference::Whole(node), ImageRole::Pulled, None, step);
                }
            }
        }
    }

    fn add(
        &mut self,
        written: WrittenReference,
        role: ImageRole,
        container: Option<NodeId>,
        step: &PathStep<'_>,
    ) {
        let place = Self::place(written, role, container, step);
        self.found.add(place);
    }

    fn place(
        written: WrittenReference,
        role: ImageRole,
        container: Option<NodeId>,
        step: &PathStep<'_>,
    ) -> ImagePlace {
        ImagePlace {
            owner: Rc::clone(&step.owner),
            container,
            pod: step.pod,
            ..ImagePlace::new(written, Dialect::Kubernetes, role)
        }
    }
}

fn workload(tree: &Tree<'_>, node: NodeId, kind: &str, outer: &Workload) -> Workload {
    let metadata = tree.get(node, "metadata");
    let field = |name| metadata.and_then(|at| tree.text_of(at, name)).map(shortened);
    Workload {
        kind: shortened(kind),
        name: field("name").or_else(|| field("generateName")).unwrap_or_default(),
        namespace: field("namespace").or_else(|| outer.namespace.clone()),
        architectures: Vec::new(),
    }
}

/// The architectures of which a pod needs one: by the label that it selects nodes by, or the first of its terms that
/// names some (Kubernetes API: `nodeSelector`, `affinity.nodeAffinity`).
fn architectures(tree: &Tree<'_>, pod: NodeId) -> Vec<String> {
    const MOST: usize = 16;
    let selected = tree.get(pod, "nodeSelector").and_then(|at| tree.text_of(at, ARCHITECTURE));
    if let Some(one) = selected {
        return vec![shortened(one)];
    }
    let required = ["affinity", "nodeAffinity", "requiredDuringSchedulingIgnoredDuringExecution"];
    let terms = required
        .iter()
        .try_fold(pod, |at, key| tree.get(at, key))
        .and_then(|at| tree.get(at, "nodeSelectorTerms"));
    let mut all = Vec::new();
    // A node that suits one of the terms is enough, so that each must name some.
    for term in terms.and_then(|terms| tree.items(terms)).into_iter().flatten() {
        let expressions = tree.get(term, "matchExpressions").and_then(|list| tree.items(list));
        let named = expressions.into_iter().flatten().find(|one| {
            tree.text_of(*one, "key") == Some(ARCHITECTURE)
                && tree.text_of(*one, "operator") == Some("In")
        });
        let Some(values) = named.and_then(|one| tree.get(one, "values")) else { return Vec::new() };
        let values = tree.items(values).into_iter().flatten();
        all.extend(values.filter_map(|one| tree.filled(one)).map(shortened).take(MOST));
    }
    all.truncate(MOST);
    all
}

/// Whether a key `image` stands anywhere within a node.
fn names_image(tree: &Tree<'_>, node: NodeId) -> bool {
    let nodes = tree.nodes.get(node..tree.next(node)).unwrap_or_default();
    nodes.iter().any(|node| node.value == "image")
}

/// The nodes that a path leads to. A bound on their number keeps aliases from multiplying them.
fn follow(tree: &Tree<'_>, top: NodeId, path: &FieldPath) -> Vec<NodeId> {
    const MOST: usize = 10_000;
    let mut at = vec![top];
    for field in &path.0 {
        let mut next = Vec::new();
        for node in at {
            match field {
                Field::Key(key) => next.extend(tree.values(node, key)),
                Field::AnyKey => next.extend(tree.entries(node).map(|(_, value)| value)),
                Field::Items => next.extend(tree.items(node).into_iter().flatten()),
            }
            next.truncate(MOST);
        }
        at = next;
    }
    at
}

/// The nodes under `image` of a mapping; of what is merged into it where it has none itself.
pub(super) fn images_of(tree: &Tree<'_>, container: NodeId) -> Vec<NodeId> {
    values_of(tree, container, "image")
}

/// The nodes under a key of a mapping; of what is merged into it where it has none itself.
pub(super) fn values_of(tree: &Tree<'_>, mapping: NodeId, key: &str) -> Vec<NodeId> {
    let mut values: Vec<NodeId> = tree.values(mapping, key).collect();
    let mut bases: Vec<NodeId> = merged(tree, mapping);
    let mut depth = 0;
    // What comes through a merge belongs to the base, which may merge in its turn.
    while values.is_empty() && !bases.is_empty() && depth < 16 {
        values = bases.iter().filter_map(|base| tree.get(*base, key)).take(1).collect();
        bases = bases.iter().flat_map(|base| merged(tree, *base)).take(64).collect();
        depth += 1;
    }
    values
}

/// The mappings that `<<` merges into this one, in the order in which they win.
fn merged(tree: &Tree<'_>, mapping: NodeId) -> Vec<NodeId> {
    let mut bases = Vec::new();
    for value in tree.values(mapping, "<<") {
        match tree.items(value) {
            Some(items) => bases.extend(items.map(|node| tree.resolve(node)).take(64)),
            None => bases.push(tree.resolve(value)),
        }
    }
    bases.truncate(64);
    bases
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_read_and_written_alike() {
        for path in ["spec.image", "spec.tools[].image", "spec.*.image", "items[][].x"] {
            assert_eq!(path.parse::<FieldPath>().unwrap().to_string(), path);
        }
        for wrong in ["", "spec..image", "spec.[]", "spec.a[0]", "a b", "a."] {
            assert!(wrong.parse::<FieldPath>().is_err(), "{wrong}");
        }
    }
}
