//! Several rows with one statement, and several questions with one.

use crate::sql::{Connection, Many, Result, Row, ToValue, Value};

/// Rows that one statement writes, and names that it asks for.
const TOGETHER: usize = 400;

/// A value of a row that is written with others.
#[derive(Debug, Clone)]
pub(super) enum Cell {
    Integer(i64),
    Text(String),
    Bytes(Vec<u8>),
}

impl Cell {
    /// A text.
    pub fn text(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

impl ToValue for Cell {
    fn value(&self) -> Value<'_> {
        match self {
            Self::Integer(number) => number.value(),
            Self::Text(text) => text.value(),
            Self::Bytes(bytes) => bytes.value(),
        }
    }
}

/// `($1, $2), ($3, $4)` and so on.
fn places(rows: usize, columns: usize) -> String {
    let row = |row: usize| {
        let all: Vec<String> = (1..=columns).map(|at| format!("${}", row * columns + at)).collect();
        format!("({})", all.join(", "))
    };
    (0..rows).map(row).collect::<Vec<_>>().join(", ")
}

/// Writes rows, several with one statement; those that are there already stay.
pub(super) fn insert(
    connection: &Connection,
    into: &str,
    columns: usize,
    rows: &[Vec<Cell>],
) -> Result<()> {
    for some in rows.chunks(TOGETHER) {
        let sql = format!(
            "INSERT INTO {into} VALUES {} ON CONFLICT DO NOTHING",
            places(some.len(), columns)
        );
        let given: Vec<Cell> = some.iter().flatten().cloned().collect();
        connection.prepare_cached(&sql)?.execute(Many(given))?;
    }
    Ok(())
}

/// Asks with lists of names, some at a time, each time with `first` before them.
pub(super) fn ask<T>(
    connection: &Connection,
    sql: impl Fn(&str) -> String,
    first: &dyn ToValue,
    names: &[&str],
    mut read: impl FnMut(&Row<'_>) -> Result<T>,
) -> Result<Vec<T>> {
    let mut found = Vec::new();
    for some in names.chunks(TOGETHER) {
        // As many places each time, so that there are few statements to prepare.
        let width = if some.len() == TOGETHER { TOGETHER } else { some.len().next_power_of_two() };
        let places: Vec<String> = (0..width).map(|at| format!("${}", at + 2)).collect();
        let last = some.last().copied().unwrap_or_default();
        let padded: Vec<&str> =
            some.iter().copied().chain(std::iter::repeat(last)).take(width).collect();
        let mut given: Vec<&dyn ToValue> = vec![first];
        given.extend(padded.iter().map(|name| name as &dyn ToValue));
        let mut statement = connection.prepare_cached(&sql(&places.join(", ")))?;
        let mut rows = statement.query(&given[..])?;
        while let Some(row) = &rows.next()? {
            found.push(read(row)?);
        }
    }
    Ok(found)
}
