//! All records from one database to another of another kind.

use super::convert;
use crate::sql::{Connection, Kind, Many, Owned, Result, params};

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

/// Writes all that a server keeps into a new file, as it is at one moment.
pub(super) fn into_new_file(server: &Connection, file: &Connection) -> Result<()> {
    let moment = server.moment()?;
    convert::make(file)?;
    // What keeps the sums right would count again what is counted already.
    let triggers: Vec<(String, String)> = file
        .prepare("SELECT name, sql FROM sqlite_master WHERE type = 'trigger'")?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
        .collect::<Result<_>>()?;
    for (name, _) in &triggers {
        file.execute_batch(&format!("DROP TRIGGER {name}"))?;
    }
    file.execute_batch("BEGIN")?;
    for table in tables(file)? {
        copy(&moment, file, &table)?;
    }
    for (_, sql) in &triggers {
        file.execute_batch(sql)?;
    }
    file.execute_batch("COMMIT")
}

/// Writes all that a file keeps into a server, whose tables are there and hold nothing.
pub(super) fn into_server(file: &Connection, server: &Connection) -> Result<()> {
    let moment = file.moment()?;
    let change = server.begin()?;
    let tables = tables(file)?;
    for Table { name, .. } in &tables {
        change.execute_batch(&format!("ALTER TABLE {name} DISABLE TRIGGER USER"))?;
    }
    for table in &tables {
        copy(&moment, &change, table)?;
    }
    for Table { name, .. } in &tables {
        change.execute_batch(&format!("ALTER TABLE {name} ENABLE TRIGGER USER"))?;
    }
    change.execute_batch(
        "SELECT setval(pg_get_serial_sequence('repositories', 'id'),
           (SELECT COALESCE(MAX(id), 0) + 1 FROM repositories), false)",
    )?;
    change.commit()
}

/// Writes all rows of a table. What a new one holds already goes.
fn copy(from: &Connection, to: &Connection, table: &Table) -> Result<()> {
    let names: Vec<&str> = table.columns.iter().map(|(name, _)| name.as_str()).collect();
    let numbers: Vec<String> = (1..=names.len()).map(|at| format!("${at}")).collect();
    let (name, names, numbers) = (&table.name, names.join(", "), numbers.join(", "));
    to.execute_batch(&format!("DELETE FROM {name}"))?;
    let mut write =
        to.prepare_cached(&format!("INSERT INTO {name} ({names}) VALUES ({numbers})"))?;
    let mut read = from.prepare_cached(&format!("SELECT {names} FROM {name}"))?;
    let mut rows = read.query([])?;
    while let Some(row) = &rows.next()? {
        let values = table.columns.iter().enumerate();
        let values = values.map(|(at, (_, kind))| Ok(row.get::<Owned>(at)?.or_nothing_of(*kind)));
        write.execute(Many(values.collect::<Result<Vec<_>>>()?))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_has_the_tables_columns_and_triggers_of_a_file() {
        let file = Connection::Sqlite(rusqlite::Connection::open_in_memory().unwrap());
        convert::make(&file).unwrap();
        let server = include_str!("postgres.sql");
        for Table { name, columns } in tables(&file).unwrap() {
            let begin = format!("CREATE TABLE {name} (");
            let at = server.find(&begin).unwrap_or_else(|| panic!("it lacks the table {name}"));
            let text = &server[at + begin.len()..];
            let text = text[..text.find(";\n").unwrap()].replace('\n', " ");
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
        for name in triggers {
            let made = [format!("CREATE TRIGGER {name} "), format!("CREATE INDEX {name} ")];
            assert!(made.iter().any(|text| server.contains(text)), "it lacks {name}");
        }
        assert!(server.contains(&format!(
            "INSERT INTO form (version) VALUES ({});",
            super::super::form::VERSION
        )));
    }
}
