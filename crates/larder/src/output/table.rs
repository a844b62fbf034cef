//! Tables without lines: columns that stand under their names.

use comfy_table::{Cell, ContentArrangement, presets};

use super::{DIM, paint};

/// A table that is filled row by row.
pub struct Table {
    inner: comfy_table::Table,
}

impl Table {
    /// A table with these columns. `width` is what the terminal has; None: nothing is wrapped.
    pub fn new(width: Option<u16>, columns: &[&str]) -> Self {
        let mut inner = comfy_table::Table::new();
        inner.load_style(presets::NOTHING);
        match width {
            Some(width) => {
                inner.set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
            }
            None => {
                inner.set_content_arrangement(ContentArrangement::Disabled);
            }
        }
        inner.set_header(columns.iter().map(|name| Cell::new(super::ready(&paint(DIM, name)))));
        for column in inner.column_iter_mut() {
            column.set_padding((0, 2));
        }
        Self { inner }
    }

    /// Adds a row.
    pub fn row<T: Into<String>>(&mut self, cells: impl IntoIterator<Item = T>) {
        let cells = cells.into_iter().map(|cell| super::ready(&cell.into()));
        self.inner.add_row(cells.collect::<Vec<String>>());
    }

    /// The table's lines, without blanks at their ends.
    pub fn text(&self) -> String {
        let lines = self.inner.lines().map(|line| super::unready(line.trim_end()));
        lines.collect::<Vec<_>>().join("\n")
    }
}
