//! Lines that were not there: the pull secret of a pod, the new name in an overlay.

use std::ops::Range;

use super::change::{Addition, Change};
use super::slot::{Slot, SlotForm};
use super::{Part, Scan};
use larder_yaml::{NodeId, NodeKind, Tree};

/// A pod spec of a Kubernetes object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PodSpec {
    pub(super) part: usize,
    pub(super) node: NodeId,
}

/// Why a pull secret cannot be written where it is needed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Unattached {
    /// A list of its own would hide the one that is merged in.
    #[error("its pull secrets come through a merge, which a list of its own would hide")]
    Merged,
    /// The list stands elsewhere, for others too.
    #[error("its pull secrets are an alias of a list that others use")]
    Alias,
    /// The list has properties that a new text could not keep.
    #[error("its pull secrets are written in a way that is left alone")]
    Odd,
    /// There is no line that could be followed.
    #[error("there is no line beside its containers that another could follow")]
    NoLine,
}

const KEY: &str = "imagePullSecrets";

impl Scan<'_> {
    /// The secrets that a pod spec names.
    pub fn secrets(&self, pod: &PodSpec) -> Vec<String> {
        let Some(part) = self.parts.get(pod.part) else { return Vec::new() };
        let tree = &part.tree;
        let lists = tree.values(pod.node, KEY).filter_map(|list| tree.items(list));
        lists.flatten().filter_map(|one| tree.text_of(one, "name")).map(str::to_owned).collect()
    }

    /// The way to a pod spec, as a JSON pointer (RFC 6901).
    pub fn pod_pointer(&self, pod: &PodSpec) -> String {
        self.parts
            .get(pod.part)
            .map(|part| super::pointer(&part.tree, pod.node))
            .unwrap_or_default()
    }

    /// What to add so that a pod spec names a pull secret, in the style of its file. None: it names
    /// it.
    pub fn attach(&self, pod: &PodSpec, secret: &str) -> Result<Option<Change>, Unattached> {
        let Some(part) = self.parts.get(pod.part) else { return Err(Unattached::Odd) };
        if self.secrets(pod).iter().any(|name| name == secret) {
            return Ok(None);
        }
        let tree = &part.tree;
        let mut entry = match tree.entries(pod.node).find(|(key, _)| tree.scalar(*key) == Some(KEY))
        {
            Some((key, list)) => into_list(tree, key, list, secret)?,
            None if tree.values(pod.node, "<<").any(|base| merges_secrets(tree, base)) => {
                return Err(Unattached::Merged);
            }
            None => new_list(part, pod.node, secret).ok_or(Unattached::NoLine)?,
        };
        entry.span = entry.span.start + part.span.start..entry.span.end + part.span.start;
        Ok(Some(Change::Add(entry)))
    }

    /// What to take out so that a pod spec does not name a pull secret any more. None: it names none of that name.
    pub fn detach(&self, pod: &PodSpec, secret: &str) -> Result<Option<Change>, Unattached> {
        let Some(part) = self.parts.get(pod.part) else { return Err(Unattached::Odd) };
        let tree = &part.tree;
        let Some((key, list)) =
            tree.entries(pod.node).find(|(key, _)| tree.scalar(*key) == Some(KEY))
        else {
            return Ok(None);
        };
        if tree.nodes[list].kind == NodeKind::Alias {
            return if self.secrets(pod).iter().any(|name| name == secret) {
                Err(Unattached::Alias)
            } else {
                Ok(None)
            };
        }
        let items = tree.items(list).into_iter().flatten();
        let Some(item) = items.into_iter().find(|item| tree.text_of(*item, "name") == Some(secret))
        else {
            return Ok(None);
        };
        let span = out_of_list(tree, key, list, item).ok_or(Unattached::Odd)?;
        let alone = tree.items(list).is_some_and(|items| items.count() == 1);
        let mut gone: Vec<NodeId> = (item..tree.next(item)).collect();
        if alone {
            gone = (key..tree.next(list)).collect();
        }
        let span = span.start + part.span.start..span.end + part.span.start;
        Ok(Some(Change::Add(Addition {
            span,
            written: String::new(),
            says: Vec::new(),
            instead: gone,
        })))
    }

    /// Takes the `newName` away that [`Self::name_entry`] puts in. None: it stands there otherwise.
    pub(super) fn without_name(&self, of: &Slot, to: &Slot) -> Option<Addition> {
        let (part, value) = to.node?;
        let part = self.parts.get(part)?;
        let (tree, start) = (&part.tree, part.span.start);
        let key = value.checked_sub(1)?;
        let name = tree.nodes[key].span();
        let end = to.span.end - start;
        let from = of.span.end - start;
        let between = tree.text.get(from..name.start)?;
        let own_line = {
            let blank = between.trim_start_matches(['\r', '\n']);
            let breaks = &between[..between.len() - blank.len()];
            let one = matches!(breaks, "\n" | "\r\n" | "\r");
            let ends = tree.text[end..].is_empty() || tree.text[end..].starts_with(['\r', '\n']);
            one && ends && blank.bytes().all(|byte| byte == b' ')
        };
        let plain = tree.text.get(name.end..to.span.start - start) == Some(": ");
        if tree.scalar(key) != Some("newName") || !plain || !(own_line || between == ", ") {
            return None;
        }
        let span = of.span.end..to.span.end;
        Some(Addition { span, written: String::new(), says: Vec::new(), instead: vec![key, value] })
    }

    /// A `newName` after the `name` of an overlay's entry.
    pub(super) fn name_entry(&self, of: &Slot, new: &str) -> Result<Addition, &'static str> {
        const ODD: &str = "there is no line of its own on which a new name could follow";
        let (part, _) = of.node.ok_or(ODD)?;
        let part = self.parts.get(part).ok_or(ODD)?;
        let tree = &part.tree;
        let start = of.span.start - part.span.start;
        let end = of.span.end - part.span.start;
        let line = line_start(tree.text, start);
        let lead = &tree.text[line..start];
        let key = lead.trim_end_matches(|c: char| c != ':').trim_end_matches(':');
        let key = key.trim_end_matches(|c: char| c.is_ascii_alphanumeric() || "\"'".contains(c));
        let written = if key.bytes().all(|byte| b" \t-".contains(&byte)) {
            let indent: String = key.replace('-', " ");
            let at = end + tree.text[end..].find(['\r', '\n']).unwrap_or(tree.text.len() - end);
            let text = format!(
                "{}{indent}newName: {}",
                line_end(tree.text, line),
                SlotForm::Plain.write(new)
            );
            (at..at, text)
        } else if key.contains('{') {
            (end..end, format!(", newName: {}", SlotForm::Plain.write(new)))
        } else {
            return Err(ODD);
        };
        Ok(Addition {
            span: written.0.start + part.span.start..written.0.end + part.span.start,
            written: written.1,
            says: vec!["newName".into(), new.to_owned()],
            instead: Vec::new(),
        })
    }
}

fn merges_secrets(tree: &Tree<'_>, base: NodeId) -> bool {
    match tree.items(base) {
        Some(mut bases) => bases.any(|base| tree.get(base, KEY).is_some()),
        None => tree.get(base, KEY).is_some(),
    }
}

/// Into a list that is there.
fn into_list(
    tree: &Tree<'_>,
    key: NodeId,
    list: NodeId,
    secret: &str,
) -> Result<Addition, Unattached> {
    let node = &tree.nodes[list];
    let text = tree.text;
    let says = vec!["name".to_owned(), secret.to_owned()];
    let quoted = text[tree.nodes[key].span()].starts_with('"');
    let item = item(secret, quoted, false);
    if node.tag.is_some() {
        return Err(Unattached::Odd);
    }
    match node.kind {
        NodeKind::Alias => Err(Unattached::Alias),
        NodeKind::Scalar(_) if tree.scalar(list).is_none() => {
            // What stands between the colon and the null may be an anchor.
            let colon = tree.nodes[key].span().end;
            let colon = colon + text[colon..].find(':').ok_or(Unattached::Odd)? + 1;
            let span = if node.is_absent() { colon..colon } else { node.span() };
            if !text[colon..span.start].trim_matches([' ', '\t']).is_empty() {
                return Err(Unattached::Odd);
            }
            let blank = if span.start == colon { " " } else { "" };
            let written = format!("{blank}[{item}]");
            Ok(Addition { span, written, says, instead: vec![list] })
        }
        NodeKind::Sequence => {
            let first = tree.items(list).and_then(|mut items| items.next());
            if text[node.span()].starts_with('[') {
                let end = node.span().end - 1;
                let inside = text[node.span().start + 1..end].trim_end();
                let comma = first.is_some() && !inside.ends_with(',');
                let at = node.span().start + 1 + inside.len();
                let written = match (first, comma) {
                    (None, _) => item,
                    (Some(_), true) => format!(", {item}"),
                    (Some(_), false) => format!(" {item}"),
                };
                return Ok(Addition { span: at..at, written, says, instead: Vec::new() });
            }
            let first = first.ok_or(Unattached::Odd)?;
            let dash = dash_before(text, tree.nodes[first].span().start).ok_or(Unattached::Odd)?;
            let line = line_start(text, dash);
            let indent = &text[line..dash];
            if !indent.trim_matches([' ', '\t']).is_empty() {
                return Err(Unattached::Odd);
            }
            let written = format!("- name: {secret}{}{indent}", line_end(text, line));
            Ok(Addition { span: dash..dash, written, says, instead: Vec::new() })
        }
        _ => Err(Unattached::Odd),
    }
}

/// A list where there is none. None: there is no place for it.
fn new_list(part: &Part<'_>, pod: NodeId, secret: &str) -> Option<Addition> {
    let tree = &part.tree;
    let text = tree.text;
    let says = vec![KEY.to_owned(), "name".to_owned(), secret.to_owned()];
    let entry = |at: usize, written: String| Addition {
        span: at..at,
        written,
        says: says.clone(),
        instead: Vec::new(),
    };
    if text[tree.nodes[pod].span()].starts_with('{') {
        let (key, _) = tree.entries(pod).next()?;
        let span = tree.nodes[key].span();
        let quoted = text[span.clone()].starts_with('"');
        let tight = !text[span.end..].trim_start_matches(':').starts_with([' ', '\n', '\r']);
        let (colon, comma) = if tight && quoted { (":", ",") } else { (": ", ", ") };
        let q = if quoted { "\"" } else { "" };
        let list = item(secret, quoted, tight && quoted);
        let lead = &text[line_start(text, span.start)..span.start];
        let own_line = lead.trim_matches([' ', '\t']).is_empty();
        let after = match own_line {
            true => format!(",{}{lead}", line_end(text, span.start)),
            false => comma.to_owned(),
        };
        return Some(entry(span.start, format!("{q}{KEY}{q}{colon}[{list}]{after}")));
    }
    // Before the containers; else before another key that stands first on its line.
    let first_on_line = |key: NodeId| {
        let start = tree.nodes[key].span().start;
        let lead = &text[line_start(text, start)..start];
        lead.bytes().all(|byte| byte == b' ').then_some((key, start, lead))
    };
    let containers = tree.entries(pod).find(|(key, _)| tree.scalar(*key) == Some("containers"));
    let on_line = containers
        .and_then(|(key, _)| first_on_line(key))
        .or_else(|| tree.entries(pod).find_map(|(key, _)| first_on_line(key)));
    let Some((key, start, indent)) = on_line else {
        // `- containers:`, `? containers`, `&name containers:`: right before it, and the key on the next line.
        let (key, _) = tree.entries(pod).next()?;
        let span = tree.nodes[key].span();
        let line = line_start(text, span.start);
        let lead = &text[line..span.start];
        let dash = lead.rfind("- ").map_or(0, |dash| dash + 2);
        let blanks = lead[dash..].bytes().take_while(|byte| *byte == b' ').count();
        let at = line + dash + blanks;
        let before = &text[line..at];
        if !before.bytes().all(|byte| byte == b' ' || byte == b'-') {
            return None;
        }
        let indent = " ".repeat(at - line);
        let end = line_end(text, span.start);
        let dash = " ".repeat(offset_of(tree, containers?.1, indent.len()));
        return Some(entry(at, format!("{KEY}:{end}{indent}{dash}- name: {secret}{end}{indent}")));
    };
    // Comments of the same column right above it belong to it, as far as they are comments.
    let bound = tree.nodes[..key]
        .iter()
        .rev()
        .find(|node| matches!(node.kind, NodeKind::Scalar(_) | NodeKind::Alias))
        .map_or(0, |node| node.span().end);
    let mut at = line_start(text, start);
    while at > bound {
        let above = line_start(text, text[..at].trim_end_matches(['\r', '\n']).len());
        let line = &text[above..at];
        let comment = line.strip_prefix(indent).is_some_and(|rest| rest.starts_with('#'));
        // Only one line break: an empty line parts a comment from what follows.
        if !comment || above < bound || line.matches('\n').count() > 1 {
            break;
        }
        at = above;
    }
    let end = line_end(text, start);
    let dash = " ".repeat(offset_of(tree, containers?.1, indent.len()));
    Some(entry(at, format!("{indent}{KEY}:{end}{indent}{dash}- name: {secret}{end}")))
}

/// How much deeper than its key a list stands, so that another one can stand alike.
fn offset_of(tree: &Tree<'_>, list: NodeId, indent: usize) -> usize {
    let text = tree.text;
    tree.items(list)
        .and_then(|mut items| items.next())
        .and_then(|first| dash_before(text, tree.nodes[first].span().start))
        .map(|dash| &text[line_start(text, dash)..dash])
        .filter(|lead| lead.bytes().all(|byte| byte == b' ') && lead.len() >= indent)
        .map_or(2, |lead| lead.len() - indent)
}

/// Takes a secret out of a list in which it stands. None: it stands there otherwise than it was put in.
fn out_of_list(tree: &Tree<'_>, key: NodeId, list: NodeId, item: NodeId) -> Option<Range<usize>> {
    let text = tree.text;
    let items: Vec<NodeId> = tree.items(list)?.collect();
    let number = items.iter().position(|one| *one == item)?;
    if tree.nodes[list].kind != NodeKind::Sequence || tree.entries(item).count() != 1 {
        return None;
    }
    let in_flow = text[tree.nodes[list].span()].starts_with('[');
    if items.len() == 1 {
        // The key goes with it: the whole line or lines, or the entry of a mapping in flow style.
        let span = tree.nodes[key].span();
        let line = line_start(text, span.start);
        let own_line = text[line..span.start].bytes().all(|byte| byte == b' ');
        let end = match in_flow {
            true => tree.nodes[list].span().end,
            false => end_of_value(tree, item),
        };
        let after = &text[end..];
        let rest = after.trim_start_matches([' ', '\t']);
        let ends_line = rest.is_empty() || rest.starts_with(['\r', '\n']);
        if own_line && ends_line {
            let breaks = after.len() - rest.len() + break_length(rest);
            return Some(line..end + breaks);
        }
        if in_flow && rest.starts_with(',') {
            let comma = after.len() - rest.len() + 1;
            let blanks = text[end + comma..].bytes().take_while(|byte| *byte == b' ').count();
            return Some(span.start..end + comma + blanks);
        }
        // As the first key behind a dash: what follows comes in its place.
        let next = text[end..].trim_start_matches([' ', '\t']);
        let breaks = break_length(next);
        let at = end + (text[end..].len() - next.len()) + breaks;
        let column = span.start - line;
        let blank = text.get(at..at + column)?.bytes().all(|byte| byte == b' ');
        return (breaks > 0 && blank).then_some(span.start..at + column);
    }
    if in_flow {
        let span = tree.nodes[item].span();
        return Some(match number {
            0 => span.start..tree.nodes[items[1]].span().start,
            _ => tree.nodes[items[number - 1]].span().end..span.end,
        });
    }
    let dash = dash_before(text, tree.nodes[item].span().start)?;
    let line = line_start(text, dash);
    if !text[line..dash].bytes().all(|byte| byte == b' ') {
        return None;
    }
    let end = end_of_value(tree, item);
    let rest = text[end..].trim_start_matches([' ', '\t']);
    if !(rest.is_empty() || rest.starts_with(['\r', '\n'])) {
        return None;
    }
    Some(line..end + (text[end..].len() - rest.len()) + break_length(rest))
}

/// Where the last scalar within a node ends.
fn end_of_value(tree: &Tree<'_>, node: NodeId) -> usize {
    let last = tree.next(node).saturating_sub(1);
    let within = tree.nodes[last].span().end;
    // A mapping in flow style ends with its bracket.
    match tree.text[tree.nodes[node].span()].starts_with('{') {
        true => tree.nodes[node].span().end,
        false => within,
    }
}

fn break_length(text: &str) -> usize {
    match text {
        text if text.starts_with("\r\n") => 2,
        text if text.starts_with(['\r', '\n']) => 1,
        _ => 0,
    }
}

fn item(secret: &str, quoted: bool, tight: bool) -> String {
    match (quoted, tight) {
        (true, true) => format!("{{\"name\":\"{secret}\"}}"),
        (true, false) => format!("{{\"name\": \"{secret}\"}}"),
        (false, _) => format!("{{name: {secret}}}"),
    }
}

/// The dash of a list's item.
fn dash_before(text: &str, item: usize) -> Option<usize> {
    if text[item..].starts_with("- ") || text[item..].starts_with("-\n") {
        return Some(item);
    }
    let before = text[..item].trim_end_matches([' ', '\t', '\r', '\n']);
    before.ends_with('-').then(|| before.len() - 1)
}

fn line_start(text: &str, at: usize) -> usize {
    text[..at].rfind(['\n', '\r']).map_or(0, |end| end + 1)
}

/// How the line of a byte ends; as the first line does where it is the last.
fn line_end(text: &str, at: usize) -> &'static str {
    let rest = [&text[at..], text].into_iter().find_map(|part| {
        let end = part.find(['\n', '\r'])?;
        Some(&part[end..])
    });
    match rest {
        Some(rest) if rest.starts_with("\r\n") => "\r\n",
        Some(rest) if rest.starts_with('\r') => "\r",
        _ => "\n",
    }
}
