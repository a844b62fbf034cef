//! YAML and JSON as a flat tree of nodes that know their bytes.

use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::Range;
use std::sync::OnceLock;

use granit_parser::ScalarStyle;

/// The most nodes that one text may have: bounds the memory that a hostile file can take.
pub const NODE_LIMIT: usize = 4_000_000;

/// A node's number in the [`Tree`].
pub type NodeId = usize;

/// The documents of one text. Nodes lie in the order of the text, each before what it holds, so
/// that a collection is the nodes from its own number up to where the [next](Node::next) begins.
#[derive(Debug, Default, PartialEq)]
pub struct Tree<'t> {
    pub text: &'t str,
    pub nodes: Vec<Node<'t>>,
    /// The top node of each document.
    pub documents: Vec<NodeId>,
    /// The nodes that anchors name, by the parser's number of the anchor.
    anchors: Vec<NodeId>,
    open: Vec<NodeId>,
    /// What holds each node, counted when it is first asked for.
    places: OnceLock<Vec<NodePlace>>,
}

/// Where a node stands in what holds it.
#[derive(Debug, Clone, Copy, PartialEq)]
struct NodePlace {
    /// [`u32::MAX`]: it is the top of a document.
    parent: u32,
    /// Its number among the nodes of its parent; keys count too.
    number: u32,
}

/// A scalar, a collection or an alias, as it stands in the text.
#[derive(Debug, PartialEq)]
pub struct Node<'t> {
    pub kind: NodeKind,
    /// A scalar's text, without quotes and escapes.
    pub value: Cow<'t, str>,
    /// As written on it. None: nothing is.
    pub tag: Option<Box<str>>,
    /// The anchor on it, or the one that an alias names. Zero: none.
    anchor: u32,
    start: u32,
    end: u32,
    next: u32,
}

/// What a node is. JSON's objects are mappings and its arrays sequences, both in flow style.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NodeKind {
    Scalar(ScalarStyle),
    Sequence,
    Mapping,
    Alias,
}

/// What a text says, without its places: what must be the same before and after an edit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SaidPart<'a> {
    /// Its value and its tag.
    Scalar(&'a str, Option<&'a str>),
    /// The number of the anchor that it names.
    Alias(u32),
    Open(NodeKind, Option<&'a str>),
    Close,
    Document,
}

impl Node<'_> {
    /// The bytes of a scalar or an alias, quotes included; of a collection in flow style, brackets
    /// included. A collection in block style ends where the next thing begins.
    pub fn span(&self) -> Range<usize> {
        self.start as usize..self.end as usize
    }

    /// Nothing is written there.
    pub fn is_absent(&self) -> bool {
        self.start == self.end
    }
}

impl<'t> Tree<'t> {
    /// A tree without nodes, to be filled by [`add`](Self::add) and [`close`](Self::close) in the order of the text.
    pub fn new(text: &'t str) -> Self {
        // About as many as there are; what is larger grows.
        let nodes = Vec::with_capacity((text.len() / 8).min(4096));
        Self { text, nodes, ..Self::default() }
    }

    /// Adds a scalar, or opens a collection. None: there are too many nodes.
    pub fn add(
        &mut self,
        kind: NodeKind,
        value: Cow<'t, str>,
        tag: Option<Box<str>>,
        anchor: usize,
        span: Range<usize>,
    ) -> Option<()> {
        let id = self.nodes.len();
        if id >= NODE_LIMIT {
            return None;
        }
        if self.open.is_empty() {
            self.documents.push(id);
        }
        if anchor != 0 && kind != NodeKind::Alias {
            if self.anchors.len() <= anchor {
                self.anchors.resize(anchor + 1, NodeId::MAX);
            }
            self.anchors[anchor] = id;
        }
        let small = |at: usize| u32::try_from(at).ok();
        let (start, end, next) = (small(span.start)?, small(span.end)?, small(id + 1)?);
        self.nodes.push(Node { kind, value, tag, anchor: small(anchor)?, start, end, next });
        if matches!(kind, NodeKind::Sequence | NodeKind::Mapping) {
            self.open.push(id);
        }
        Some(())
    }

    /// Closes the collection that was opened last.
    pub fn close(&mut self, end: usize) {
        let next = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
        if let Some(id) = self.open.pop() {
            self.nodes[id].next = next;
            self.nodes[id].end = u32::try_from(end).unwrap_or(u32::MAX).max(self.nodes[id].start);
        }
    }

    /// How many collections are open.
    pub fn depth(&self) -> usize {
        self.open.len()
    }

    /// The node after this one and all that it holds.
    pub fn next(&self, id: NodeId) -> NodeId {
        self.nodes[id].next as usize
    }

    /// What a node stands for: itself, or the target of an alias.
    pub fn resolve(&self, id: NodeId) -> NodeId {
        let node = &self.nodes[id];
        if node.kind != NodeKind::Alias {
            return id;
        }
        // An alias inside the node that it names stands for nothing that can be used.
        let target = self.anchors.get(node.anchor as usize).copied().unwrap_or(id);
        if target < id && self.next(target) <= id { target } else { id }
    }

    fn children(&self, id: NodeId) -> Children<'_, 't> {
        Children { tree: self, at: id + 1, end: self.next(id) }
    }

    /// The entries of a mapping, key and value. Empty for any other node.
    pub fn entries(&self, id: NodeId) -> impl Iterator<Item = (NodeId, NodeId)> + use<'_, 't> {
        let id = self.resolve(id);
        let mut all = match self.nodes[id].kind {
            NodeKind::Mapping => self.children(id),
            _ => Children { tree: self, at: 0, end: 0 },
        };
        std::iter::from_fn(move || Some((all.next()?, all.next()?)))
    }

    /// The items of a sequence. None for any other node.
    pub fn items(&self, id: NodeId) -> Option<impl Iterator<Item = NodeId> + use<'_, 't>> {
        let id = self.resolve(id);
        (self.nodes[id].kind == NodeKind::Sequence).then(|| self.children(id))
    }

    /// Whether it is a mapping, or an alias of one.
    pub fn is_mapping(&self, id: NodeId) -> bool {
        self.nodes[self.resolve(id)].kind == NodeKind::Mapping
    }

    /// The text of a scalar that is there. None for collections and for null, written or not
    /// (YAML 1.2, "Core Schema").
    pub fn scalar(&self, id: NodeId) -> Option<&str> {
        let node = &self.nodes[self.resolve(id)];
        match node.kind {
            NodeKind::Scalar(ScalarStyle::Plain)
                if matches!(&*node.value, "~" | "null" | "Null" | "NULL") =>
            {
                None
            }
            NodeKind::Scalar(_) if !node.is_absent() => Some(&node.value),
            _ => None,
        }
    }

    /// The text of a scalar that is there and not empty.
    pub fn filled(&self, id: NodeId) -> Option<&str> {
        self.scalar(id).filter(|text| !text.is_empty())
    }

    /// The values under a key: several when it stands there more than once.
    pub fn values<'a>(
        &'a self,
        mapping: NodeId,
        key: &'a str,
    ) -> impl Iterator<Item = NodeId> + use<'a, 't> {
        self.entries(mapping)
            .filter(move |(name, _)| self.scalar(*name) == Some(key))
            .map(|(_, value)| value)
    }

    /// The first value under a key.
    pub fn get(&self, mapping: NodeId, key: &str) -> Option<NodeId> {
        self.values(mapping, key).next()
    }

    /// The text under a key, if it is one and not empty.
    pub fn text_of(&self, mapping: NodeId, key: &str) -> Option<&str> {
        self.filled(self.get(mapping, key)?)
    }

    /// How often aliases anywhere name a node.
    pub fn aliases(&self) -> impl Iterator<Item = NodeId> + use<'_, 't> {
        let named = |(id, node): (NodeId, &Node<'t>)| {
            (node.kind == NodeKind::Alias).then(|| self.resolve(id)).filter(|target| *target != id)
        };
        self.nodes.iter().enumerate().filter_map(named)
    }

    /// All that the text says, in order, but for the nodes that lie in one of the spans, which are given in
    /// their order and do not overlap, and for those that are left out.
    pub fn said<'a>(
        &'a self,
        without: &'a [Range<usize>],
        left_out: &'a HashSet<NodeId>,
    ) -> Sayings<'a, 't> {
        Sayings { tree: self, without, left_out, at: 0, ends: Vec::new(), begun: false }
    }

    /// The way from the top of its document to a node, as keys and numbers. Empty: it is the top. Costs as
    /// much as the node lies deep, but for the first one that is asked for.
    pub fn path(&self, node: NodeId) -> Vec<TreeStep<'_>> {
        let places = self.places.get_or_init(|| self.places());
        let mut steps = Vec::new();
        let mut at = node;
        while let Some(place) = places.get(at)
            && let Some(parent) = self.nodes.get(place.parent as usize)
        {
            match parent.kind {
                // The key stands right before its value, as nothing is held by a key that is a scalar.
                NodeKind::Mapping if place.number % 2 == 1 => {
                    let key = key_before(at, place.parent as usize, places);
                    steps.push(TreeStep::Key(&self.nodes[self.resolve(key)].value));
                }
                _ => steps.push(TreeStep::Item(place.number as usize)),
            }
            at = place.parent as usize;
        }
        steps.reverse();
        steps
    }

    fn places(&self) -> Vec<NodePlace> {
        let top = NodePlace { parent: u32::MAX, number: 0 };
        let mut places = vec![top; self.nodes.len()];
        for (id, node) in self.nodes.iter().enumerate() {
            if matches!(node.kind, NodeKind::Sequence | NodeKind::Mapping)
                && let Ok(parent) = u32::try_from(id)
            {
                for (number, child) in (0_u32..).zip(self.children(id)) {
                    places[child] = NodePlace { parent, number };
                }
            }
        }
        places
    }
}

/// One step down into a tree: to the value of a key, or to the item with a number, counted from zero.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TreeStep<'a> {
    Key(&'a str),
    Item(usize),
}

/// The key of a value: the node before it that lies directly in the same mapping.
fn key_before(value: NodeId, mapping: NodeId, places: &[NodePlace]) -> NodeId {
    let mut key = value.saturating_sub(1);
    while places.get(key).is_some_and(|place| place.parent as usize != mapping) {
        key = places.get(key).map_or(mapping, |place| place.parent as usize);
    }
    key
}

struct Children<'a, 't> {
    tree: &'a Tree<'t>,
    at: NodeId,
    end: NodeId,
}

impl Iterator for Children<'_, '_> {
    type Item = NodeId;

    fn next(&mut self) -> Option<NodeId> {
        let id = self.at;
        (id < self.end).then(|| {
            self.at = self.tree.next(id);
            id
        })
    }
}

/// The nodes that a walk has been at: each is looked at once, however many aliases name it.
pub struct VisitedNodes(Vec<bool>);

impl VisitedNodes {
    /// A walk that has been at no node yet.
    pub fn none_of(tree: &Tree<'_>) -> Self {
        Self(vec![false; tree.nodes.len()])
    }

    /// Marks a node. False: it was marked before.
    pub fn insert(&mut self, node: NodeId) -> bool {
        !std::mem::replace(&mut self.0[node], true)
    }
}

/// See [`Tree::said`].
pub struct Sayings<'a, 't> {
    tree: &'a Tree<'t>,
    /// Those that may still come, in their order.
    without: &'a [Range<usize>],
    /// Left out with all that they hold.
    left_out: &'a HashSet<NodeId>,
    at: NodeId,
    ends: Vec<NodeId>,
    begun: bool,
}

impl<'a> Iterator for Sayings<'a, '_> {
    /// With the number of the node, where one begins.
    type Item = (NodeId, SaidPart<'a>);

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            if self.ends.last() == Some(&self.at) {
                self.ends.pop();
                return Some((NodeId::MAX, SaidPart::Close));
            }
            let id = self.at;
            let node = self.tree.nodes.get(id)?;
            if self.ends.is_empty() && !std::mem::replace(&mut self.begun, true) {
                return Some((NodeId::MAX, SaidPart::Document));
            }
            // A mapping in block style begins at its first key, be that a new one.
            let after = self.tree.next(id);
            let last = self.tree.nodes[after - 1].start as usize;
            let start = node.start as usize;
            let passed = self.without.partition_point(|span| span.end <= start);
            let inside = |span: &Range<usize>| span.contains(&start) && span.contains(&last);
            if self.without.get(passed).is_some_and(inside) || self.left_out.contains(&id) {
                self.at = after;
                continue;
            }
            self.at += 1;
            let tag = node.tag.as_deref();
            let said = match node.kind {
                NodeKind::Scalar(_) => SaidPart::Scalar(&node.value, tag),
                NodeKind::Alias => SaidPart::Alias(node.anchor),
                kind => {
                    self.ends.push(self.tree.next(id));
                    SaidPart::Open(kind, tag)
                }
            };
            self.begun = !self.ends.is_empty();
            return Some((id, said));
        }
    }
}
