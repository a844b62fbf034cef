//! All records from one database to another.

use std::collections::HashSet;

use larder_core::digest::Digest;

use super::{convert, freeze};
use crate::sql::{Connection, Dialect, Kind, Many, Owned, Result, params};

/// A table, with what its columns hold.
struct Table {
    name: String,
    columns: Vec<(String, Kind)>,
}

/// The tables of this form, as a file has them.
fn tables(file: &Connection) -> Result<Vec<Table>> {
    let names: Vec<String> = file
        .prepare(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'
             ORDER BY name",
        )?
        .query_map([], |row| row.get(0))?
        .collect::<Result<_>>()?;
    let table = |name: String| {
        let columns = file
            .prepare("SELECT name, type FROM pragma_table_info($1) ORDER BY cid")?
            .query_map(params![name], |row| Ok((row.get(0)?, kind(&row.get::<String>(1)?))))?
            .collect::<Result<_>>()?;
        Ok(Table { name, columns })
    };
    names.into_iter().map(table).collect()
}

fn kind(name: &str) -> Kind {
    match name {
        "TEXT" => Kind::Text,
        "BLOB" => Kind::Bytes,
        _ => Kind::Integer,
    }
}

/// What records are changed to on their way to another store, whose objects are others.
pub(crate) struct Resettling {
    /// By which move they go.
    pub id: String,
    /// Where each content lies there.
    pub place: fn(&Digest, &str) -> String,
    /// Contents that could not be brought there.
    pub damaged: HashSet<Digest>,
}

/// Tables that say how one store is worked on, and not what it holds.
const OWN: [&str; 4] = ["leases", "leavings", "old_files", "uploads"];

/// Tables whose rows are numbered by the database.
const NUMBERED: [&str; 5] = ["repositories", "packages", "inventories", "advisories", "statements"];

/// Writes all that one database keeps into another, as it is at one moment: into a new file, or into a server, where it
/// makes the tables. Nobody sees a part of it. For a new store, with what is different there, and for a
/// server with what keys are hashed with.
pub(super) fn all(
    from: &Connection,
    to: &Connection,
    anew: Option<(&Resettling, Option<&[u8; 32]>)>,
) -> Result<()> {
    let (anew, secret) = anew.map_or((None, None), |(anew, secret)| (Some(anew), secret));
    let form = Connection::Sqlite(rusqlite::Connection::open_in_memory()?);
    convert::make(&form)?;
    let tables = tables(&form)?;
    let moment = from.moment()?;
    let change = to.begin()?;
    wait_long(&moment)?;
    wait_long(&change)?;
    // What keeps the sums right would count again what is counted already.
    let triggers = make_silent(&change, &tables)?;
    for table in &tables {
        let stays = anew.is_some() && OWN.contains(&table.name.as_str());
        let wrote = if stays { 0 } else { copy(&moment, &change, table, anew)? };
        let sql = format!("SELECT COUNT(*) FROM {}", table.name);
        let has: i64 = change.query_row(&sql, [], |row| row.get(0))?;
        if has != wrote {
            let cause = format!("{} rows of {} were written, and it has {has}", wrote, table.name);
            return Err(crate::sql::Error::column(0, cause));
        }
    }
    match change.dialect() {
        Dialect::Sqlite => triggers.iter().try_for_each(|sql| change.execute_batch(sql))?,
        Dialect::Postgres => {
            for Table { name, .. } in &tables {
                change.execute_batch(&format!("ALTER TABLE {name} ENABLE TRIGGER USER"))?;
            }
            for name in NUMBERED {
                change.execute_batch(&format!(
                    "SELECT setval(pg_get_serial_sequence('{name}', 'id'),
                       (SELECT COALESCE(MAX(id), 0) + 1 FROM {name}), false)"
                ))?;
            }
        }
    }
    if let Some(anew) = anew {
        freeze::note_arrival(&change, &anew.id)?;
        secret.map_or(Ok(()), |secret| super::server::note_secret(&change, secret))?;
    }
    change.commit()
}

/// A large table takes longer than any question: who asks for all waits for it, until the end of the transaction.
fn wait_long(connection: &Connection) -> Result<()> {
    match connection.dialect() {
        Dialect::Sqlite => Ok(()),
        Dialect::Postgres => connection.execute_batch(
            "SET LOCAL statement_timeout = 0; SET LOCAL idle_in_transaction_session_timeout = '10min'",
        ),
    }
}

/// Makes the tables where they are missing, and stops their triggers; gives those that must be made again.
fn make_silent(to: &Connection, tables: &[Table]) -> Result<Vec<String>> {
    match to.dialect() {
        Dialect::Sqlite => {
            convert::make(to)?;
            let triggers: Vec<(String, String)> = to
                .prepare("SELECT name, sql FROM sqlite_master WHERE type = 'trigger'")?
                .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
                .collect::<Result<_>>()?;
            for (name, _) in &triggers {
                to.execute_batch(&format!("DROP TRIGGER {name}"))?;
            }
            Ok(triggers.into_iter().map(|(_, sql)| sql).collect())
        }
        Dialect::Postgres => {
            // Now that nobody else writes: whoever was quicker is not written over.
            if super::server::has_form(to)? {
                return Err(crate::sql::Error::Occupied);
            }
            to.execute_batch(super::server::TABLES)?;
            for Table { name, .. } in tables {
                to.execute_batch(&format!("ALTER TABLE {name} DISABLE TRIGGER USER"))?;
            }
            Ok(Vec::new())
        }
    }
}

/// Rows, and bytes of them, that are written by one statement.
const ROWS: usize = 100;
const BYTES: usize = 256 * 1024;

/// Writes all rows of a table, and tells how many. What a new one holds already goes.
fn copy(
    from: &Connection,
    to: &Connection,
    table: &Table,
    anew: Option<&Resettling>,
) -> Result<i64> {
    let names: Vec<&str> = table.columns.iter().map(|(name, _)| name.as_str()).collect();
    let (name, width, list) = (&table.name, names.len(), names.join(", "));
    to.execute_batch(&format!("DELETE FROM {name}"))?;
    let write = |rows: Vec<Owned>| -> Result<()> {
        let groups: Vec<String> = (0..rows.len() / width)
            .map(|row| {
                let numbers: Vec<String> =
                    (1..=width).map(|at| format!("${}", row * width + at)).collect();
                format!("({})", numbers.join(", "))
            })
            .collect();
        let sql = format!("INSERT INTO {name} ({list}) VALUES {}", groups.join(", "));
        to.prepare_cached(&sql)?.execute(Many(rows)).map(drop)
    };
    let is_contents = name == "contents";
    let which = match (anew, name.as_str()) {
        // What no repository has is on its way out.
        (Some(_), "contents") => " WHERE links > 0",
        _ => "",
    };
    let mut read = from.prepare_cached(&format!("SELECT {list} FROM {name}{which}"))?;
    let mut rows = read.query([])?;
    let (mut waiting, mut bytes, mut count) = (Vec::new(), 0, 0);
    while let Some(row) = &rows.next()? {
        if anew.is_some() && name == "marks" && freeze::stays(&row.get::<String>(0)?) {
            continue;
        }
        let settled = anew.filter(|_| is_contents).map(|anew| settle(row, anew)).transpose()?;
        for (at, (column, kind)) in table.columns.iter().enumerate() {
            let value = match (column.as_str(), &settled) {
                ("place", Some((place, _))) => Owned::text(place),
                ("state", Some((_, state))) => Owned::text(state),
                _ => row.get::<Owned>(at)?.or_nothing_of(*kind),
            };
            bytes += value.size();
            waiting.push(value);
        }
        count += 1;
        if waiting.len() == ROWS * width || bytes >= BYTES {
            write(std::mem::take(&mut waiting))?;
            bytes = 0;
        }
    }
    if !waiting.is_empty() {
        write(waiting)?;
    }
    Ok(count)
}

/// Where a content lies in the other store, and how it is.
fn settle(row: &crate::sql::Row<'_>, anew: &Resettling) -> Result<(String, &'static str)> {
    let digest: Digest = super::checked(row, 0)?;
    let state = if anew.damaged.contains(&digest) { "damaged" } else { "here" };
    Ok(((anew.place)(&digest, &anew.id), state))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_has_the_tables_columns_and_triggers_of_a_file() {
        let file = Connection::Sqlite(rusqlite::Connection::open_in_memory().unwrap());
        convert::make(&file).unwrap();
        let server = super::super::server::TABLES;
        for Table { name, columns } in tables(&file).unwrap() {
            let begin = format!("CREATE TABLE {name} (");
            let at = server.find(&begin).unwrap_or_else(|| panic!("it lacks the table {name}"));
            let text = &server[at + begin.len()..];
            let mut text = text[..text.find(";\n").unwrap()].replace('\n', " ");
            let later = format!("ALTER TABLE {name} ADD COLUMN ");
            for column in server.lines().filter_map(|line| line.strip_prefix(&later)) {
                text.push_str(", ");
                text.push_str(column);
            }
            for (column, kind) in columns {
                let word = match kind {
                    Kind::Text => "TEXT COLLATE \"C\"",
                    Kind::Bytes => "BYTEA",
                    _ => "BIGINT",
                };
                let found = text.split(", ").any(|part| {
                    let part = part.trim();
                    part.starts_with(&format!("{column} {word}"))
                });
                assert!(found, "{name} lacks {column} {word}: {text}");
            }
        }
        let triggers: Vec<String> = file
            .prepare("SELECT name FROM sqlite_master WHERE type IN ('trigger', 'index') AND sql IS NOT NULL")
            .unwrap()
            .query_map([], |row| row.get(0))
            .unwrap()
            .collect::<Result<_>>()
            .unwrap();
        assert!(triggers.len() > 30);
        for Table { name, columns } in tables(&file).unwrap() {
            let is_numbered = columns.first().is_some_and(|(column, _)| column == "id")
                && server.contains(&format!("CREATE TABLE {name} ("))
                && server.contains("GENERATED BY DEFAULT");
            let kind = columns.first().map(|(_, kind)| *kind);
            let is_numbered = is_numbered && kind == Some(Kind::Integer);
            assert_eq!(is_numbered, NUMBERED.contains(&&*name), "{name}");
        }
        for name in triggers {
            let made = [format!("CREATE TRIGGER {name} "), format!("CREATE INDEX {name} ")];
            assert!(made.iter().any(|text| server.contains(text)), "it lacks {name}");
        }
        assert!(server.contains(&format!(
            "INSERT INTO form (version, works_with) VALUES ({}, {});",
            super::super::form::VERSION,
            super::super::form::WORKS_WITH
        )));
    }
}
