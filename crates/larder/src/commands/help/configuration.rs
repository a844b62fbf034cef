//! `larder help configuration`: what stands in larder.toml, table by table.

use std::collections::BTreeSet;

use larder_core::nearest::nearest;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, Output, Report, STRONG, folded, paint};

/// The page that says what every key means.
pub const PAGE: &str = include_str!("../../../../../docs/configuration.md");

/// A part of the page: a table of larder.toml.
struct Part {
    /// Its name, without brackets.
    name: String,
    /// As the file has it.
    title: &'static str,
    text: &'static str,
}

/// The parts of the page, in its order.
fn parts() -> Vec<Part> {
    let part = |text: &'static str| {
        let (head, text) = text.split_once('\n')?;
        let title = head.trim().trim_matches('`');
        let name = title.trim_matches(['[', ']']).to_owned();
        Some(Part { name, title, text: text.trim() })
    };
    PAGE.split("\n## ").skip(1).filter_map(part).collect()
}

/// The names of the parts.
pub fn configuration_parts() -> BTreeSet<String> {
    parts().into_iter().map(|part| part.name).collect()
}

/// The tables of larder.toml.
#[derive(Serialize, JsonSchema)]
pub struct ConfigurationTables {
    tables: Vec<TableLine>,
}

#[derive(Serialize, JsonSchema)]
struct TableLine {
    table: String,
    /// As the file has it.
    written: &'static str,
    /// Its keys.
    keys: Vec<String>,
}

impl Report for ConfigurationTables {
    const KIND: &'static str = "configuration-tables";

    fn show(&self, out: &Output) {
        for TableLine { written, keys, .. } in &self.tables {
            let keys = folded(&keys.join(", "), out.width(), 15);
            match keys.is_empty() {
                true => out.result(written),
                false => out.result(format!("{written:<14} {}", paint(DIM, keys))),
            }
        }
        out.note("`larder help configuration TABLE` says what each key means; `larder init -` prints an example");
    }
}

/// What stands in one table of larder.toml.
#[derive(Serialize, JsonSchema)]
pub struct ConfigurationTable {
    table: String,
    /// The part of the page, as Markdown.
    page: &'static str,
    #[serde(skip)]
    title: &'static str,
}

/// The cells of a row of a Markdown table. None: it is none, or one of lines.
fn cells(line: &str) -> Option<Vec<String>> {
    let inner = line.strip_prefix("| ")?.strip_suffix(" |")?;
    Some(inner.split(" | ").map(|cell| plain(cell.trim())).collect())
}

/// A line of Markdown as a person reads it on a terminal: links by their words.
pub(in crate::commands) fn plain(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, (words, after))) = rest.split_once('[').and_then(|(before, link)| {
        let (words, target) = link.split_once("](")?;
        let (target, after) = target.split_once(')')?;
        let is_link = !words.contains(['[', ']']) && !target.contains(' ');
        is_link.then_some((before, (words, after)))
    }) {
        plain.push_str(before);
        plain.push_str(words);
        rest = after;
    }
    plain.push_str(rest);
    // What stands between two ` is written as it is.
    let pieces = plain.split('`').enumerate();
    pieces
        .map(
            |(place, piece)| {
                if place % 2 == 0 { piece.replace("**", "") } else { piece.to_owned() }
            },
        )
        .collect()
}

/// One block of the page.
pub(in crate::commands) enum Block {
    /// A key, what it is by default, and what it means.
    Key {
        key: String,
        default: String,
        meaning: String,
    },
    /// Lines of code, as they stand.
    Code(String),
    Paragraph(String),
}

/// A part of the page in blocks.
pub(in crate::commands) fn blocks(text: &str) -> Vec<Block> {
    let mut blocks = Vec::new();
    let mut paragraph: Vec<String> = Vec::new();
    let mut code: Option<Vec<&str>> = None;
    let end = |paragraph: &mut Vec<String>, blocks: &mut Vec<Block>| {
        if !paragraph.is_empty() {
            blocks.push(Block::Paragraph(paragraph.join(" ")));
            paragraph.clear();
        }
    };
    for line in text.lines() {
        if line.starts_with("```") {
            end(&mut paragraph, &mut blocks);
            code = match code.take() {
                Some(lines) => {
                    blocks.push(Block::Code(lines.join("\n")));
                    None
                }
                None => Some(Vec::new()),
            };
            continue;
        }
        if let Some(lines) = &mut code {
            lines.push(line);
            continue;
        }
        if line.is_empty() || line.starts_with("|---") {
            end(&mut paragraph, &mut blocks);
            continue;
        }
        match cells(line).map(|cells| (cells.len(), cells)) {
            Some((_, cells)) if cells.first().is_some_and(|cell| cell == "key") => {}
            Some((3, cells)) => {
                let mut cells = cells.into_iter();
                let mut next = || cells.next().unwrap_or_default();
                blocks.push(Block::Key { key: next(), default: next(), meaning: next() });
            }
            _ => {
                if line.starts_with("- ") {
                    end(&mut paragraph, &mut blocks);
                }
                paragraph.push(plain(line.trim()));
            }
        }
    }
    end(&mut paragraph, &mut blocks);
    blocks
}

impl Report for ConfigurationTable {
    const KIND: &'static str = "configuration-table";

    fn show(&self, out: &Output) {
        out.result(paint(STRONG, self.title));
        for block in blocks(self.page) {
            match block {
                Block::Key { key, default, meaning } => {
                    let default = paint(DIM, format!("({default})"));
                    let meaning = folded(&meaning, out.width(), 4);
                    out.result(format!("  {} {default}\n    {meaning}", paint(STRONG, key)));
                }
                Block::Code(text) => {
                    let text: Vec<String> =
                        text.lines().map(|line| format!("    {line}")).collect();
                    out.result(text.join("\n"));
                }
                Block::Paragraph(text) => out.result(folded(&text, out.width(), 0)),
            }
        }
    }
}

pub(super) fn all(context: &Context) -> Exit {
    let line = |part: Part| {
        let mut keys = Vec::new();
        for block in blocks(part.text) {
            // `newest = 3` is one of a key within.
            if let Block::Key { key, .. } = block
                && !key.contains('=')
            {
                keys.extend(key.split(", ").map(str::to_owned));
            }
        }
        TableLine { table: part.name, written: part.title, keys }
    };
    context.output.tell(&ConfigurationTables { tables: parts().into_iter().map(line).collect() });
    Exit::Done
}

pub(super) fn one(name: &str, context: &Context) -> Outcome {
    let wanted = name.trim_matches(['[', ']']);
    let all = parts();
    let Some(part) = all.iter().find(|part| part.name == wanted) else {
        let near = nearest(wanted, all.iter().map(|part| &*part.name));
        let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        let cause = format!("larder.toml has no table `{}`{near}", name.escape_debug());
        let remedy = "`larder help configuration` lists them all";
        return Err(Failure::usage("cannot help", cause, remedy));
    };
    let table = ConfigurationTable { table: part.name.clone(), page: part.text, title: part.title };
    context.output.tell(&table);
    Ok(Exit::Done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_table_of_the_example_has_its_part() {
        let example = include_str!("../../../assets/larder.toml");
        let named: BTreeSet<&str> = example
            .lines()
            .filter_map(|line| line.trim_start_matches(['#', ' ']).strip_prefix("[["))
            .filter_map(|line| line.split_once("]]").map(|(name, _)| name))
            .collect();
        let parts = configuration_parts();
        assert!(named.len() > 5, "{named:?}");
        for name in named {
            assert!(parts.contains(name), "{name} is not in {parts:?}");
        }
    }

    #[test]
    fn links_are_read_by_their_words() {
        assert_eq!(
            plain("see [access](access.md) and [[keep]](#keep)"),
            "see access and [[keep]](#keep)"
        );
        assert_eq!(plain("`*` is one part, `**` any"), "* is one part, ** any");
        assert_eq!(plain("`[\"a\"]` **all** of `[[upstream]]`"), "[\"a\"] all of [[upstream]]");
    }
}
