//! What was stopped by hand, and whose uploads there are, in the same file as the ledger.

use crate::sql::{Connection, Row, params};
use larder_core::access::stop::{Stop, Stopped};

/// What version 6 of the file has more than version 5.
pub(super) const TABLES: &str = "
    CREATE TABLE stops (
        kind TEXT NOT NULL, name TEXT NOT NULL, because TEXT NOT NULL, at BIGINT NOT NULL,
        lifted BIGINT, change BIGINT NOT NULL, PRIMARY KEY (kind, name)
    ) WITHOUT ROWID;
    CREATE TABLE uploads (
        id TEXT PRIMARY KEY, repository TEXT NOT NULL, account TEXT NOT NULL, begun BIGINT NOT NULL
    ) WITHOUT ROWID;
    CREATE INDEX uploads_by_account ON uploads (account);
    CREATE INDEX record_by_kind ON record (kind, last);
    ALTER TABLE parts ADD COLUMN repository TEXT NOT NULL DEFAULT '';
    INSERT INTO stops (kind, name, because, at, change)
        VALUES ('begun', 'ages', '', CAST(strftime('%s', 'now') AS BIGINT) * 1000, 0);
    CREATE TABLE parcels (
        whose TEXT PRIMARY KEY, sequence BIGINT NOT NULL, before BIGINT
    ) WITHOUT ROWID;
";

fn stop(row: &Row<'_>) -> crate::sql::Result<Option<Stop>> {
    let (kind, name): (String, String) = (row.get(0)?, row.get(1)?);
    let (because, at) = (row.get(2)?, row.get(3)?);
    Ok(Stopped::of(&kind, &name).map(|what| Stop { what, because, at }))
}

const NEXT: &str = "(SELECT COALESCE(MAX(change), 0) + 1 FROM stops)";

pub(super) fn add(connection: &Connection, all: &[Stop]) -> crate::sql::Result<()> {
    let mut add = connection.prepare_cached(&format!(
        "INSERT INTO stops (kind, name, because, at, change) VALUES ($1, $2, $3, $4, {NEXT})
         ON CONFLICT (kind, name) DO UPDATE SET
           because = excluded.because, at = excluded.at, lifted = NULL, change = excluded.change"
    ))?;
    for one in all {
        let (kind, name) = one.what.parts();
        add.execute(params![kind, name, one.because, one.at])?;
    }
    Ok(())
}

/// False: it was not stopped.
pub(super) fn lift(connection: &Connection, what: &Stopped, at: i64) -> crate::sql::Result<bool> {
    let (kind, name) = what.parts();
    let mut lift = connection.prepare_cached(&format!(
        "UPDATE stops SET lifted = $1, change = {NEXT}
         WHERE kind = $2 AND name = $3 AND lifted IS NULL"
    ))?;
    lift.execute(params![at, kind, name]).map(|changed| changed > 0)
}

pub(super) fn all(connection: &Connection) -> crate::sql::Result<Vec<Stop>> {
    let mut read = connection.prepare_cached(
        "SELECT kind, name, because, at FROM stops WHERE lifted IS NULL ORDER BY at, kind, name",
    )?;
    let read = read.query_map([], stop)?.collect::<crate::sql::Result<Vec<_>>>()?;
    Ok(read.into_iter().flatten().collect())
}
