//! Tables without lines: columns that stand under their names, in whatever room there is.
//!
//! No word is ever broken: a name, tag, digest or path can be copied as it stands. What does not fit is folded at its
//! blanks; then the columns that matter least are left out; then each row becomes a block of lines.

use unicode_width::UnicodeWidthStr as _;

use super::{DIM, paint};

/// A column of sentences is at least so wide before another column is left out for it.
const SENTENCE: usize = 24;
/// The longest first cell that counts as a word.
const WORD: usize = 14;
/// Blanks between two columns.
const GAP: usize = 2;

/// A table that is filled row by row.
pub struct Table {
    /// What the terminal has. None: no line is too long.
    width: Option<usize>,
    columns: Vec<String>,
    /// The columns that may be left out, the least important first.
    spare: Vec<usize>,
    rows: Vec<Vec<String>>,
}

impl Table {
    /// A table with these columns. `width` is what the terminal has; None: nothing is folded.
    pub fn new(width: Option<u16>, columns: &[&str]) -> Self {
        let columns = columns.iter().map(|name| (*name).to_owned()).collect();
        Self { width: width.map(usize::from), columns, spare: Vec::new(), rows: Vec::new() }
    }

    /// Names the columns that may be left out where there is no room, the least important first.
    #[must_use]
    pub fn sparing(mut self, names: &[&str]) -> Self {
        let place = |name: &&str| self.columns.iter().position(|column| column == name);
        self.spare = names.iter().filter_map(place).collect();
        self
    }

    /// Adds a row.
    pub fn row<T: Into<String>>(&mut self, cells: impl IntoIterator<Item = T>) {
        let mut cells: Vec<String> =
            cells.into_iter().map(|cell| super::ready(&cell.into())).collect();
        cells.resize(self.columns.len(), String::new());
        self.rows.push(cells);
    }

    /// The table's lines, without blanks at their ends.
    pub fn text(&self) -> String {
        self.arranged().0
    }

    /// The same, with the columns that were left out.
    pub fn arranged(&self) -> (String, Vec<&str>) {
        let mut shown: Vec<usize> = (0..self.columns.len()).collect();
        let (mut spare, mut left_out) = (self.spare.iter(), Vec::new());
        let lines = loop {
            if let Some(widths) = self.fit(&shown) {
                break self.lines(&shown, &widths);
            }
            match spare.next() {
                Some(least) => {
                    shown.retain(|column| column != least);
                    left_out.push(self.columns[*least].as_str());
                }
                None => {
                    left_out.clear();
                    break self.blocks();
                }
            }
        };
        let lines: Vec<String> = lines.iter().map(|line| super::unready(line.trim_end())).collect();
        (lines.join("\n"), left_out)
    }

    /// The widths of these columns. None: there is no room for them.
    fn fit(&self, shown: &[usize]) -> Option<Vec<usize>> {
        let (mut widths, least): (Vec<usize>, Vec<usize>) = shown
            .iter()
            .map(|&column| {
                let heading = self.columns[column].width();
                let cells = || self.rows.iter().map(|row| row[column].as_str());
                let whole = cells().flat_map(|cell| cell.split('\n')).map(seen).max().unwrap_or(0);
                let word = cells().flat_map(words).map(seen).max().unwrap_or(0);
                // Narrower than this, a sentence is hard to read.
                let least = word.max(whole.min(SENTENCE));
                (whole.max(heading), least.max(heading))
            })
            .unzip();
        let Some(width) = self.width else { return Some(widths) };
        let gaps = GAP * shown.len().saturating_sub(1);
        if least.iter().sum::<usize>() + gaps > width {
            return None;
        }
        // The widest gives way first, as long as none of its words has to be broken.
        let mut excess = (widths.iter().sum::<usize>() + gaps).saturating_sub(width);
        while excess > 0 {
            let room = |at: &usize| widths[*at] > least[*at];
            let at = (0..widths.len()).filter(room).max_by_key(|at| widths[*at])?;
            widths[at] -= 1;
            excess -= 1;
        }
        Some(widths)
    }

    fn lines(&self, shown: &[usize], widths: &[usize]) -> Vec<String> {
        self.lines_of(&self.rows, shown, widths)
    }

    fn lines_of(&self, rows: &[Vec<String>], shown: &[usize], widths: &[usize]) -> Vec<String> {
        let heading = |&column: &usize| super::ready(&paint(DIM, &self.columns[column]));
        let mut lines =
            vec![beside(&shown.iter().map(|c| vec![heading(c)]).collect::<Vec<_>>(), widths)];
        for row in rows {
            let cells: Vec<Vec<String>> = shown
                .iter()
                .zip(widths)
                .map(|(&column, &width)| folded(&row[column], width))
                .collect();
            let height = cells.iter().map(Vec::len).max().unwrap_or(0);
            for line in 0..height {
                let line: Vec<Vec<String>> = cells
                    .iter()
                    .map(|cell| cell.get(line).cloned().into_iter().collect())
                    .collect();
                lines.push(beside(&line, widths));
            }
        }
        lines
    }

    /// Each row as a block: what it is about, and below it the rest with their headings.
    fn blocks(&self) -> Vec<String> {
        let width = self.width.unwrap_or(usize::MAX);
        // A word such as a verdict goes before what it is about.
        let cells = |row: &Vec<String>| row.first().map_or(0, |cell| seen(cell));
        let widest = self.rows.iter().map(cells).max().unwrap_or(0);
        let lead = if widest <= WORD && self.columns.len() > 1 { 2 } else { 1 };
        let shown: Vec<usize> = (0..lead).collect();
        let widths: Vec<usize> = match lead {
            1 => vec![width],
            _ => {
                let first = widest.max(self.columns[0].width());
                vec![first, width.saturating_sub(first + GAP)]
            }
        };
        let rest = self.columns.iter().enumerate().skip(lead);
        let names = rest.clone().map(|(_, name)| name.width()).max().unwrap_or(0);
        let indent = names + 2 + GAP;
        let mut lines = self.lines_of(&[], &shown, &widths);
        for row in &self.rows {
            lines.extend(self.lines_of(std::slice::from_ref(row), &shown, &widths).split_off(1));
            for (column, name) in rest.clone() {
                let texts = folded(&row[column], width.saturating_sub(indent));
                for (number, text) in
                    texts.into_iter().enumerate().filter(|(_, text)| !text.is_empty())
                {
                    let name = if number == 0 { name.as_str() } else { "" };
                    let heading = super::ready(&paint(DIM, format!("{name:<names$}")));
                    lines.push(format!("  {heading}{:GAP$}{text}", ""));
                }
            }
        }
        lines
    }
}

/// One line of each cell, side by side.
fn beside(cells: &[Vec<String>], widths: &[usize]) -> String {
    let mut line = String::new();
    for (cell, &width) in cells.iter().zip(widths) {
        let text = cell.first().map(String::as_str).unwrap_or_default();
        line.push_str(text);
        line.extend(std::iter::repeat_n(' ', width.saturating_sub(seen(text)) + GAP));
    }
    line
}

/// How wide a text is on a terminal: styles take no room.
fn seen(text: &str) -> usize {
    let mut width = 0;
    for (number, part) in text.split('\u{1b}').enumerate() {
        let plain = match number {
            0 => part,
            _ => part.split_once('m').map_or("", |(_, rest)| rest),
        };
        width += plain.width();
    }
    width
}

/// What must not be broken.
fn words(text: &str) -> impl Iterator<Item = &str> {
    text.split([' ', '\n'])
}

/// A text in lines of this width, folded at its blanks; a longer word stands alone. A style that goes on is ended at the
/// end of each line and begun again.
fn folded(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut style = String::new();
    for part in text.split('\n') {
        let (mut line, mut column) = (style.clone(), 0);
        for (number, word) in part.split(' ').enumerate() {
            let long = seen(word);
            if number > 0 {
                if column > 0 && column + 1 + long > width {
                    lines.push(ended(line, &style));
                    (line, column) = (style.clone(), 0);
                } else {
                    line.push(' ');
                    column += 1;
                }
            }
            line.push_str(word);
            column += long;
            after(&mut style, word);
        }
        lines.push(ended(line, &style));
    }
    lines
}

fn ended(mut line: String, style: &str) -> String {
    if !style.is_empty() {
        line.push_str("\u{1b}[0m");
    }
    line
}

/// The style that goes on after a text.
fn after(style: &mut String, text: &str) {
    for part in text.split('\u{1b}').skip(1) {
        let Some((code, _)) = part.split_once('m') else { continue };
        match code {
            "[0" | "[" => style.clear(),
            code => style.push_str(&format!("\u{1b}{code}m")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{BAD, paint};
    use super::*;

    const DIGEST: &str = "sha256:2c26b46b68ffc68ff99b453c1d30413413422d706483bfa0f98a5e886266e7ae";

    fn table(width: Option<u16>) -> Table {
        let mut table =
            Table::new(width, &["IMAGE", "DIGEST", "SIZE", "WHY"]).sparing(&["SIZE", "DIGEST"]);
        table.row([
            "vendor/steamgauge:1.9.2",
            DIGEST,
            "12.0 MiB",
            "it is refused by a rule that says why",
        ]);
        table
    }

    #[test]
    fn nothing_is_folded_where_the_width_is_not_known() {
        let text = table(None).text();
        assert_eq!(text.lines().count(), 2);
        assert!(text.ends_with("it is refused by a rule that says why"), "{text}");
    }

    #[test]
    fn no_word_is_broken_however_narrow_it_is() {
        for width in 10..200 {
            let text = table(Some(width)).text();
            assert!(text.contains("vendor/steamgauge:1.9.2"), "{width}: {text}");
            assert!(!text.contains("sha256:") || text.contains(DIGEST), "{width}: {text}");
            let long = text.lines().map(|line| seen(&super::super::ready(line))).max().unwrap();
            assert!(long <= usize::from(width).max(DIGEST.len() + 10), "{width}: {text}");
            for word in ["refused", "rule"] {
                assert!(text.contains(word), "{width}: {text}");
            }
        }
    }

    #[test]
    fn the_least_important_column_goes_first_and_then_rows_become_blocks() {
        let wide = table(Some(122));
        let (text, left_out) = wide.arranged();
        assert!(text.contains("DIGEST") && !text.contains("SIZE"), "{text}");
        assert_eq!(left_out, ["SIZE"]);
        let text = table(Some(70)).text();
        assert!(!text.contains("DIGEST") && text.contains("WHY"), "{text}");
        let text = table(Some(24)).text();
        assert!(text.contains("\nvendor/steamgauge:1.9.2\n"), "{text}");
        assert!(text.contains(DIGEST) && text.contains("12.0 MiB"), "{text}");
    }

    #[test]
    fn a_style_ends_with_each_line_and_goes_on_in_the_next() {
        let painted = super::super::ready(&paint(BAD, "one two"));
        let lines = folded(&painted, 3);
        assert_eq!(lines.len(), 2);
        for line in &lines {
            assert!(line.starts_with('\u{1b}') && line.ends_with("\u{1b}[0m"), "{line:?}");
            assert_eq!(seen(line), 3);
        }
    }
}
