//! What a dialect says of a tree, and what becomes of it: the nodes that name an image, settled with
//! the anchors and merges of the whole document.

use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::rc::Rc;

use super::Position;
use super::dialect::{FileContext, is_foreign};
use super::finding::{Finding, FindingAccess, ImageRole, Over, PassedText, Workload};
use super::insert::PodSpec;
use super::slot::{Hold, Slot, SlotPlace, Words};
use super::variables;
use super::{Dialect, Scan};
use larder_yaml::is_stopped;
use larder_yaml::{NodeId, NodeKind, TreeStep};

/// All that a dialect found in one tree.
#[derive(Default)]
pub(super) struct TreeFindings {
    pub places: Vec<ImagePlace>,
    pub pods: Vec<NodeId>,
    /// What could be taken for an image and is none.
    pub passed: Vec<(NodeId, Over)>,
}

/// One place that names an image, before it is known who else uses the same bytes.
pub(super) struct ImagePlace {
    pub written: WrittenReference,
    pub dialect: Dialect,
    pub role: ImageRole,
    pub owner: Rc<Workload>,
    pub container: Option<NodeId>,
    /// The same key stands there more than once.
    pub duplicate: bool,
    /// Its number in [`TreeFindings::pods`].
    pub pod: Option<usize>,
    /// Why it is left as it is, whatever it is written like. None: it need not be.
    pub left: Option<&'static str>,
}

impl ImagePlace {
    /// A place that belongs to nobody.
    pub fn new(written: WrittenReference, dialect: Dialect, role: ImageRole) -> Self {
        let owner = Rc::default();
        Self {
            written,
            dialect,
            role,
            owner,
            container: None,
            duplicate: false,
            pod: None,
            left: None,
        }
    }
}

impl TreeFindings {
    /// One more place.
    pub fn add(&mut self, place: ImagePlace) {
        self.places.push(place);
    }

    /// Something that is passed over.
    pub fn pass(&mut self, node: NodeId, why: Over) {
        const MOST: usize = 10_000;
        if self.passed.len() < MOST {
            self.passed.push((node, why));
        }
    }
}

/// How an image is named. The nodes are those under the keys, aliases where they are written.
pub(super) enum WrittenReference {
    Whole(NodeId),
    /// With variables in it, as shells and builds fill them.
    Filled(NodeId),
    Parts(ReferenceParts),
    /// An entry that gives images of one name another.
    Overlay(ReferenceParts, Option<NodeId>),
    /// A piece of a scalar, by its bytes in the tree's text.
    Piece(NodeId, Range<usize>),
}

/// A reference whose parts stand apart.
#[derive(Clone)]
pub(super) struct ReferenceParts {
    pub registry: Option<NodeId>,
    pub name: NodeId,
    pub tag: Option<NodeId>,
    pub digest: Option<NodeId>,
    /// The tag where none is written: the chart's. None: it is not known here.
    pub usual_tag: Option<String>,
    /// A chart above this one writes the registry for all images.
    pub above: bool,
    /// The registry is written once for all images of the chart.
    pub global: bool,
}

/// What a node says of an image. Nodes that share bytes must say the same of it.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Says {
    Whole,
    Registry,
    Name,
    Tag,
    Digest,
}

impl WrittenReference {
    fn nodes(&self) -> Vec<(Says, NodeId)> {
        let parts = |parts: &ReferenceParts| {
            let all = [
                (Says::Registry, parts.registry),
                (Says::Name, Some(parts.name)),
                (Says::Tag, parts.tag),
                (Says::Digest, parts.digest),
            ];
            all.into_iter().filter_map(|(says, node)| Some((says, node?))).collect::<Vec<_>>()
        };
        match self {
            Self::Whole(node) | Self::Filled(node) | Self::Piece(node, _) => {
                vec![(Says::Whole, *node)]
            }
            Self::Parts(all) => parts(all),
            Self::Overlay(all, to) => {
                let mut nodes = parts(all);
                nodes.extend(to.map(|to| (Says::Name, to)));
                nodes
            }
        }
    }

    /// The node of the name, where the parts of a reference stand apart.
    pub fn names(&self) -> Option<NodeId> {
        match self {
            Self::Parts(parts) => Some(parts.name),
            _ => None,
        }
    }

    /// The node by whose place the finding is told.
    fn first(&self) -> NodeId {
        match self {
            Self::Whole(node) | Self::Filled(node) | Self::Piece(node, _) => *node,
            Self::Parts(parts) => parts.name,
            Self::Overlay(parts, to) => to.unwrap_or(parts.name),
        }
    }
}

/// Joins the places that share bytes, decides what can be done with each, and adds all to the scan.
/// Ends early when it is told to stop.
pub(super) fn settle(
    scan: &mut Scan<'_>,
    part: usize,
    found: &TreeFindings,
    file: &FileContext<'_>,
) {
    // Long: the questions about one place in their order, each of which can end it.
    let Some(its) = scan.parts.get(part) else { return };
    let at = SlotPlace { tree: &its.tree, part, start: its.span.start };
    let uses = Uses::of(&at, &found.places, file);
    let mut words = None;
    let pods_before = scan.pods.len();
    let pods = found.pods.iter().map(|node| PodSpec { part, node: *node });
    let mut settled = HashSet::new();
    let mut findings = Vec::new();
    for place in &found.places {
        if is_stopped(file.stop) {
            return;
        }
        let first = place.written.first();
        let mut role = place.role;
        if let WrittenReference::Whole(node) | WrittenReference::Filled(node) = place.written {
            let target = at.tree.resolve(node);
            let elsewhere = target != node && uses.direct.contains_key(&(Says::Whole, target));
            if !settled.insert(node) || elsewhere {
                continue; // found once, where it is defined
            }
            if at.tree.scalar(target).is_none()
                && matches!(at.tree.nodes[target].kind, NodeKind::Scalar(_))
            {
                continue; // a null image is none
            }
        }
        let mut read = uses.read(&at, place, &mut words);
        if let Some(why) = place.left {
            read.access = FindingAccess::Leave(why);
        }
        if role == ImageRole::Built {
            read.access = FindingAccess::Leave("it is what a build makes");
        }
        if place.written.nodes().iter().any(|(_, node)| is_foreign(at.tree, *node)) {
            role = ImageRole::Open;
            read.access =
                FindingAccess::Leave("its tag makes another program put something else there");
            let tag = at.tree.nodes[at.tree.resolve(first)].tag.as_deref().unwrap_or_default();
            read.text = format!("{tag} {}", read.text);
        }
        let start = match at.tree.nodes[first].kind {
            // `image: {{ name }}` is a map to YAML.
            NodeKind::Mapping | NodeKind::Sequence => place.container.unwrap_or(first),
            _ => first,
        };
        let byte = match &place.written {
            WrittenReference::Piece(_, span) => span.start,
            _ => at.tree.nodes[start].span().start,
        };
        findings.push((
            byte,
            Finding {
                text: read.text,
                position: Position::default(),
                dialect: place.dialect,
                workload: Workload::clone(&place.owner),
                container: place.container.and_then(|name| at.tree.scalar(name)).map(shortened),
                shared_by: read.shared_by,
                access: read.access,
                duplicate: place.duplicate,
                role,
                tag_elsewhere: read.tag_elsewhere,
                shared_registry: matches!(&place.written, WrittenReference::Parts(parts) if parts.above || parts.global),
                pod: place.pod.map(|pod| pods_before + pod),
            },
        ));
    }
    findings.sort_by_key(|(byte, _)| *byte);
    // Positions are counted once through the text, not from its beginning for each.
    let mut position = its.position;
    let mut counted = 0;
    for (byte, finding) in &mut findings {
        position.advance(at.tree.text.get(counted..*byte).unwrap_or_default());
        counted = (*byte).max(counted);
        finding.position = position;
    }
    let mut passed = found.passed.clone();
    passed.sort_by_key(|(node, _)| at.tree.nodes[*node].span().start);
    passed.dedup();
    let (mut position, mut counted) = (its.position, 0);
    let passed = passed.into_iter().map(|(node, why)| {
        let byte = at.tree.nodes[node].span().start;
        position.advance(at.tree.text.get(counted..byte).unwrap_or_default());
        counted = byte.max(counted);
        PassedText { position, text: at.tree.scalar(node).map(shortened).unwrap_or_default(), why }
    });
    let passed: Vec<PassedText> = passed.collect();
    let pods: Vec<PodSpec> = pods.collect();
    scan.passed.extend(passed);
    scan.findings.extend(findings.into_iter().map(|(_, finding)| finding));
    scan.pods.extend(pods);
}

/// Who uses which node for what.
struct Uses<'f> {
    file: &'f FileContext<'f>,
    /// How often an alias anywhere in the text stands for a node.
    aliased: HashMap<NodeId, usize>,
    /// How often one at a place of an image does.
    at_images: HashMap<(Says, NodeId), usize>,
    /// How often a node is itself at the place of an image.
    direct: HashMap<(Says, NodeId), usize>,
}

/// What a place comes to.
struct ReadPlace {
    text: String,
    access: FindingAccess,
    tag_elsewhere: bool,
    shared_by: usize,
}

/// Whether a node stands under a key that is there for its anchor alone: `x-image: &image …`.
fn is_kept_for_aliases(at: &SlotPlace<'_, '_>, node: NodeId) -> bool {
    const KEYS: [&str; 4] = ["anchors", "aliases", "definitions", "yaml_anchors"];
    let path = at.tree.path(node);
    matches!(path.first(), Some(TreeStep::Key(key))
        if key.starts_with(['.', '_']) || key.starts_with("x-") || KEYS.contains(key))
}

impl<'f> Uses<'f> {
    fn of(at: &SlotPlace<'_, '_>, places: &[ImagePlace], file: &'f FileContext<'f>) -> Self {
        let (aliased, at_images, direct) = (HashMap::new(), HashMap::new(), HashMap::new());
        let mut uses = Self { file, aliased, at_images, direct };
        for target in at.tree.aliases() {
            *uses.aliased.entry(target).or_default() += 1;
        }
        for (says, node) in places.iter().flat_map(|place| place.written.nodes()) {
            let target = at.tree.resolve(node);
            let of = if target == node { &mut uses.direct } else { &mut uses.at_images };
            *of.entry((says, target)).or_default() += 1;
        }
        uses
    }

    /// The slot of a node: its own, that of the definition it is an alias of, or a literal's in the
    /// alias's place.
    fn slot(&self, at: &SlotPlace<'_, '_>, says: Says, node: NodeId) -> Result<Slot, &'static str> {
        let target = at.tree.resolve(node);
        let count =
            |of: &HashMap<(Says, NodeId), usize>| of.get(&(says, target)).copied().unwrap_or(0);
        let others = self.aliased.get(&target).copied().unwrap_or(0) > count(&self.at_images);
        if target != node
            && count(&self.direct) == 0
            && (others || !is_kept_for_aliases(at, target))
        {
            return at.slot(node);
        }
        if others {
            return Err("its anchor is used for something else too");
        }
        at.slot(target)
    }

    /// How many further places take their image from where it is defined.
    fn shared_by(&self, target: NodeId, node: NodeId) -> usize {
        let count = |of: &HashMap<(Says, NodeId), usize>| {
            of.get(&(Says::Whole, target)).copied().unwrap_or(0)
        };
        if target == node { (count(&self.at_images) + count(&self.direct)).max(1) - 1 } else { 0 }
    }

    fn read<'t>(
        &self,
        at: &SlotPlace<'t, 't>,
        place: &ImagePlace,
        words: &mut Option<(NodeId, Words<'t>)>,
    ) -> ReadPlace {
        // Long: the forms of one place in their order.
        let tree = at.tree;
        let text = |node: NodeId| tree.scalar(node).unwrap_or_default().to_owned();
        let mut read = ReadPlace {
            text: String::new(),
            access: FindingAccess::Leave("it is no text"),
            tag_elsewhere: false,
            shared_by: 0,
        };
        match &place.written {
            WrittenReference::Whole(node) => {
                let target = tree.resolve(*node);
                read.shared_by = self.shared_by(target, *node);
                if matches!(tree.nodes[target].kind, NodeKind::Scalar(_)) {
                    read.text = text(target);
                    read.access = access(self.slot(at, Says::Whole, *node).map(Hold::Whole));
                }
            }
            WrittenReference::Filled(node) => {
                let target = tree.resolve(*node);
                let value = &*tree.nodes[target].value;
                let span = tree.nodes[target].span();
                // Only a text that stands as it is read has pieces with places.
                let inside = tree.text.get(span.clone()).and_then(|raw| raw.find(value));
                let start = span.start + inside.unwrap_or_default();
                // What `.env` says goes before a default, and stands in another file.
                let known = |name: &str| {
                    let set = self.file.variables.filter(|_| place.dialect == Dialect::Compose)?;
                    set.get(name).map(|value| (value.to_owned(), None))
                };
                let filled = variables::fill(value, start, &known);
                read.shared_by = self.shared_by(target, *node);
                read.text.clone_from(&filled.text);
                read.tag_elsewhere = filled.tag_elsewhere;
                read.access = if filled.literal {
                    access(self.slot(at, Says::Whole, *node).map(Hold::Whole))
                } else if target != *node || self.aliased.contains_key(&target) {
                    FindingAccess::Leave("it has variables, and an anchor that others use")
                } else if inside.is_none() {
                    FindingAccess::Leave("its place in the file is not certain")
                } else {
                    let named = filled.names.iter().any(|name| known(name).is_some());
                    let held = filled.hold(&|piece| at.piece(target, piece).ok());
                    access(held.map_err(|why| if named { IN_ENV } else { why }))
                };
            }
            WrittenReference::Parts(parts) => {
                read.tag_elsewhere = self.put_together(at, parts, parts.name, &mut read.text);
                read.access = access(self.parts(at, parts));
            }
            WrittenReference::Overlay(parts, to) => {
                let shown = to.unwrap_or(parts.name);
                read.tag_elsewhere = self.put_together(at, parts, shown, &mut read.text);
                let slot = |says, node| self.slot(at, says, node);
                let hold = || {
                    Ok(Hold::Overlay {
                        of: slot(Says::Name, parts.name)?,
                        to: to.map(|to| slot(Says::Name, to)).transpose()?,
                        digest: parts.digest.map(|node| slot(Says::Digest, node)).transpose()?,
                    })
                };
                read.access = access(hold());
            }
            WrittenReference::Piece(node, span) => {
                tree.text.get(span.clone()).unwrap_or_default().clone_into(&mut read.text);
                let aliased = self.aliased.get(node).copied().unwrap_or(0) > 0;
                read.access = match aliased {
                    true => FindingAccess::Leave("its anchor is used for something else too"),
                    false if place.role != ImageRole::Text => {
                        access(at.piece(*node, span.clone()).map(Hold::Whole))
                    }
                    false => {
                        let words = match words {
                            Some((of, words)) if of == node => words,
                            words => &mut words.insert((*node, Words::of(at, *node))).1,
                        };
                        access(at.word(*node, span.clone(), words).map(Hold::Whole))
                    }
                };
            }
        }
        read
    }

    /// Writes the reference that parts make. True: the tag is not among them.
    fn put_together(
        &self,
        at: &SlotPlace<'_, '_>,
        parts: &ReferenceParts,
        name: NodeId,
        to: &mut String,
    ) -> bool {
        let text = |node: Option<NodeId>| node.and_then(|node| at.tree.filled(node));
        let above = match parts.above {
            true => self.file.registry.map(|above| above.now),
            false => None,
        };
        if let Some(registry) = above.or_else(|| text(parts.registry)) {
            to.push_str(registry.trim_end_matches('/'));
            to.push('/');
        }
        let name = text(Some(name)).unwrap_or_default();
        to.push_str(name);
        let digest = text(parts.digest);
        let tag = text(parts.tag).or(parts.usual_tag.as_deref());
        let has_tag = name.rsplit('/').next().is_some_and(|last| last.contains([':', '@']));
        match tag {
            // Some keep the digest under `tag`.
            Some(tag) if tag.starts_with("sha256:") || tag.starts_with("sha512:") => {
                to.push('@');
                to.push_str(tag);
            }
            Some(tag) if !has_tag => {
                to.push(':');
                to.push_str(tag);
            }
            _ => {}
        }
        if let Some(digest) = digest {
            to.push('@');
            to.push_str(digest.trim_start_matches('@'));
        }
        tag.is_none() && digest.is_none() && !has_tag
    }

    fn parts(&self, at: &SlotPlace<'_, '_>, parts: &ReferenceParts) -> Result<Hold, &'static str> {
        if parts.above && self.file.registry.is_none_or(|above| above.becomes.is_none()) {
            return Err("a chart above this one writes its registry; rewrite both in one run");
        }
        if parts.global && self.file.shared_registry {
            return Err("charts below this one take its registry too, and are not all here");
        }
        let slot = |says, node| self.slot(at, says, node);
        let registry = parts.registry.filter(|node| at.tree.filled(*node).is_some());
        let registry = registry.filter(|_| !parts.above);
        Ok(Hold::Parts {
            above: parts.above,
            registry: registry.map(|node| slot(Says::Registry, node)).transpose()?,
            name: slot(Says::Name, parts.name)?,
            digest: parts
                .digest
                .filter(|node| at.tree.scalar(*node).is_some())
                .map(|node| slot(Says::Digest, node))
                .transpose()?,
        })
    }
}

const IN_ENV: &str = "`.env` beside it decides what it is; change it there";

/// A name as it is told with each image of its object: the platform's have 253 characters at most.
pub(super) fn shortened(name: &str) -> String {
    const LONGEST: usize = 256;
    let mut end = LONGEST.min(name.len());
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    name[..end].to_owned()
}

fn access(hold: Result<Hold, &'static str>) -> FindingAccess {
    hold.map_or_else(FindingAccess::Leave, |hold| FindingAccess::Edit(Box::new(hold)))
}
