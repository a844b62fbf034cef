//! Charts: their version, and their templates, which are no YAML until they have run.

use super::super::finding::{Access, Finding, Role};
use super::super::objects_of;
use super::Dialect;

/// The version of what a chart installs, by its `Chart.yaml`. None: it does not say, or it is none.
pub fn app_version(chart: &str) -> Option<String> {
    objects_of(chart, &["appVersion"])
}

/// The references that stand in a template under a key `image`, with the byte of each.
pub(super) fn find(text: &str) -> Vec<(usize, Finding)> {
    let mut found = Vec::new();
    let mut start = 0;
    for line in text.split_inclusive(['\n', '\r']) {
        let at = start;
        start += line.len();
        let body = line.trim_end_matches(['\n', '\r']);
        let bare = body.trim_start_matches([' ', '\t', '-', '"', '\'']);
        let Some(rest) = bare.strip_prefix("image") else { continue };
        let rest = rest.trim_start_matches(['"', '\'']);
        let Some(value) = rest.strip_prefix(':') else { continue };
        let text = value_of(value);
        if text.is_empty() || text.starts_with(['#', '|', '>', '&', '*', '[']) {
            continue;
        }
        let offset = text.as_ptr() as usize - line.as_ptr() as usize;
        let finding = Finding {
            role: Role::Template,
            access: Access::Leave("it stands in a template"),
            ..Finding::of(text.to_owned(), Dialect::Template)
        };
        found.push((at + offset, finding));
    }
    found
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
