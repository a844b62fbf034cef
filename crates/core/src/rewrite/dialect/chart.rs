//! Charts: their version, and their templates, which are no YAML until they have run.

use std::ops::Range;

use super::super::finding::{Finding, FindingAccess, ImageRole, Over};
use super::super::objects_of;
use super::list::ListItems;
use super::{Dialect, shape, strings};
use crate::reference::is_open;
use larder_yaml::parse;

/// What stands in a template is never changed.
pub(super) const LEFT: FindingAccess = FindingAccess::Leave("it stands in a template");

/// The version of what a chart installs, by its `Chart.yaml`. None: it does not say, or it is none.
pub fn app_version(chart: &str) -> Option<String> {
    objects_of(chart, &["appVersion"])
}

/// The charts that a chart wants below it, by their names, by its `Chart.yaml`.
pub fn dependencies(chart: &str) -> Vec<String> {
    const MOST: usize = 1000;
    let Ok(tree) = parse(chart) else { return Vec::new() };
    let list = tree.documents.first().and_then(|top| tree.get(*top, "dependencies"));
    let items = list.and_then(|list| tree.items(list)).into_iter().flatten();
    let names = items.filter_map(|one| tree.text_of(one, "name"));
    names.filter(|name| !name.contains('/')).take(MOST).map(str::to_owned).collect()
}

/// The references that stand in a template under a key `image`, and those within its other lines, with the byte of
/// each. In the template `of_chart` a word alone is one too: it becomes a container's.
pub(super) fn find(text: &str, of_chart: bool) -> ListItems {
    let mut listed = ListItems::default();
    let comments = comments(text);
    let mut start = 0;
    for line in text.split_inclusive(['\n', '\r']) {
        let at = start;
        start += line.len();
        let passed = comments.partition_point(|span| span.end <= at);
        if comments.get(passed).is_some_and(|span| span.start <= at) {
            continue;
        }
        let body = line.trim_end_matches(['\n', '\r']);
        let bare = body.trim_start_matches([' ', '\t', '-', '"', '\'']);
        let key = bare.strip_prefix("image").map(|rest| rest.trim_start_matches(['"', '\'']));
        let Some(value) = key.and_then(|rest| rest.strip_prefix(':')) else {
            if !bare.starts_with('#') {
                listed.found.extend(strings::of_line(body).into_iter().map(|(offset, text)| {
                    let found = Finding::of(text.to_owned(), Dialect::Template);
                    (at + offset, Finding { role: ImageRole::Text, access: LEFT, ..found })
                }));
            }
            continue;
        };
        let text = value_of(value);
        if text.is_empty() || text.starts_with(['#', '|', '>', '&', '*', '[', '!']) {
            continue;
        }
        let offset = text.as_ptr() as usize - line.as_ptr() as usize;
        let known = |b: u8| b.is_ascii_alphanumeric() || b"._-".contains(&b);
        let word = text.bytes().all(known);
        let none = (word && !of_chart) || (!word && text.contains([' ', '{']));
        if none && !is_open(text) && !shape::looks_like_one(text) {
            listed.passed.push((at + offset, text.to_owned(), Over::Word));
            continue;
        }
        let finding = Finding {
            role: ImageRole::Template,
            access: LEFT,
            ..Finding::of(text.to_owned(), Dialect::Template)
        };
        listed.found.push((at + offset, finding));
    }
    listed
}

/// What the template's own program never gives out, by its bytes.
fn comments(text: &str) -> Vec<Range<usize>> {
    let mut all = Vec::new();
    let mut at = 0;
    while let Some(open) = memchr::memmem::find(&text.as_bytes()[at..], b"{") {
        let start = at + open;
        let rest = &text[start..];
        let end = if rest.starts_with("{{/*") || rest.starts_with("{{- /*") {
            "*/"
        } else if rest.starts_with("{#") {
            "#}"
        } else {
            at = start + 1;
            continue;
        };
        let Some(length) = rest.find(end) else { break };
        all.push(start..start + length);
        at = start + length;
    }
    all
}

/// A value without its quotes and the comment after it. What a template puts in stays.
fn value_of(text: &str) -> &str {
    let text = text.trim_matches([' ', '\t']);
    for quote in ['"', '\''] {
        if let Some(inside) = text.strip_prefix(quote) {
            return inside.rfind(quote).map_or(inside, |end| &inside[..end]);
        }
    }
    text.find(" #").map_or(text, |end| &text[..end]).trim_end_matches([' ', '\t'])
}
