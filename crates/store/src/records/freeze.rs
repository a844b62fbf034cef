//! A store that is moved elsewhere: what is kept in it stays as it is, whoever asks, and is still read.
//!
//! The database itself refuses what would be lost with the old store, so that no handle and no other process has to be
//! told, and nothing is asked while no store is being moved. What only says how it is used is still noted.

use super::Records;
use crate::error::StoreError;
use crate::sql::{Connection, Dialect, FROZEN, Optional as _, Result, params};

/// What is refused of each table: an event, and when.
const REFUSED: [(&str, &str, &str); 20] = [
    ("repositories", "INSERT", ""),
    ("repositories", "DELETE", ""),
    ("blobs", "INSERT", ""),
    ("blobs", "DELETE", ""),
    ("manifests", "INSERT", ""),
    ("manifests", "DELETE", ""),
    ("tags", "INSERT", ""),
    ("tags", "DELETE", ""),
    ("tags", "UPDATE OF digest", "OLD.digest <> NEW.digest"),
    ("contents", "INSERT", ""),
    ("contents", "DELETE", ""),
    ("contents", "UPDATE OF place", "OLD.place <> NEW.place"),
    ("contents", "UPDATE OF state", "NEW.state = 'condemned'"),
    ("keys", "INSERT", ""),
    ("keys", "UPDATE OF revoked", ""),
    ("stops", "INSERT", ""),
    ("stops", "UPDATE", ""),
    ("stops", "DELETE", ""),
    ("uploads", "INSERT", ""),
    ("parcels", "INSERT", ""),
];

/// The mark under which a store notes that it is being moved.
const MARK: &str = "move";
/// The mark under which a store notes which move it came by.
const CAME_BY: &str = "move/came-by";

/// How far a move has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MoveStage {
    /// Bytes are being copied; the store is used as ever.
    Copying,
    /// The rest is being copied; nothing new is kept.
    Frozen,
    /// All is at the other place; nothing new is kept here.
    Moved,
}

impl MoveStage {
    fn word(self) -> &'static str {
        match self {
            Self::Copying => "copying",
            Self::Frozen => "frozen",
            Self::Moved => "moved",
        }
    }
}

/// A move of a store to another place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MoveState {
    /// What the names of the objects end with that it writes.
    pub id: String,
    pub stage: MoveStage,
    /// The other place.
    pub to: String,
    /// Since when, in milliseconds since 1970.
    pub at: i64,
}

impl Records {
    /// Whether the store is being moved, or was. None: neither.
    pub async fn move_state(&self) -> Result<Option<MoveState>, StoreError> {
        self.read(move_state).await
    }

    /// Notes how far a move has come; from then on the database refuses what is new, or takes it again.
    pub async fn set_move(&self, id: &str, stage: MoveStage, to: &str) -> Result<(), StoreError> {
        let value = format!("{} {id} {to}", stage.word());
        let change = move |connection: &Connection| {
            match stage {
                MoveStage::Copying => thaw(connection)?,
                MoveStage::Frozen | MoveStage::Moved => {
                    thaw(connection)?;
                    freeze(connection)?;
                }
            }
            let now = connection.now()?;
            set_mark(connection, MARK, &value, now)
        };
        self.note(move |connection| change(connection).map_err(StoreError::ledger("be written")))
            .await
    }

    /// Forgets a move.
    pub async fn end_move(&self) -> Result<(), StoreError> {
        let change = |connection: &Connection| {
            thaw(connection)?;
            connection.execute("DELETE FROM marks WHERE name = $1", params![MARK]).map(drop)
        };
        self.note(move |connection| change(connection).map_err(StoreError::ledger("be written")))
            .await
    }
}

fn set_mark(connection: &Connection, name: &str, value: &str, at: i64) -> Result<()> {
    let sql = "INSERT INTO marks (name, value, at) VALUES ($1, $2, $3)
         ON CONFLICT (name) DO UPDATE SET value = excluded.value, at = excluded.at";
    connection.execute(sql, params![name, value, at]).map(drop)
}

fn move_state(connection: &Connection) -> Result<Option<MoveState>> {
    let sql = "SELECT value, at FROM marks WHERE name = $1";
    let found = connection
        .query_row(sql, params![MARK], |row| Ok((row.get::<String>(0)?, row.get::<i64>(1)?)))
        .optional()?;
    Ok(found.and_then(|(value, at)| {
        let mut parts = value.splitn(3, ' ');
        let stage = match parts.next()? {
            "copying" => MoveStage::Copying,
            "frozen" => MoveStage::Frozen,
            "moved" => MoveStage::Moved,
            _ => return None,
        };
        let (id, to) = (parts.next()?.to_owned(), parts.next()?.to_owned());
        Some(MoveState { id, stage, to, at })
    }))
}

/// Notes in a store's new records which move they came by.
pub(super) fn note_arrival(connection: &Connection, id: &str) -> Result<()> {
    set_mark(connection, CAME_BY, id, connection.now()?)
}

/// What stands at a place that a store may move to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Arrived {
    /// No records.
    Nothing,
    /// Records that came by a move.
    ByMove(String),
    /// Other records.
    Otherwise,
}

impl Arrived {
    /// What a database has.
    pub fn at(connection: &Connection) -> Result<Self> {
        if connection.dialect() == Dialect::Postgres && !super::server::has_form(connection)? {
            return Ok(Self::Nothing);
        }
        let sql = "SELECT value FROM marks WHERE name = $1";
        let by = connection.query_row(sql, params![CAME_BY], |row| row.get(0)).optional()?;
        Ok(by.map_or(Self::Otherwise, Self::ByMove))
    }
}

/// The names of marks that stay with their store.
pub(super) fn stays(name: &str) -> bool {
    [MARK, CAME_BY, super::SECRET].contains(&name) || name.starts_with(super::peers::SERVES)
}

fn freeze(connection: &Connection) -> Result<()> {
    for (number, (table, event, when)) in REFUSED.iter().enumerate() {
        let when = if when.is_empty() { String::new() } else { format!("WHEN ({when})") };
        let refuse = match connection.dialect() {
            Dialect::Sqlite => format!("BEGIN SELECT RAISE(ABORT, '{FROZEN}'); END"),
            Dialect::Postgres => "EXECUTE FUNCTION frozen()".to_owned(),
        };
        if number == 0 && connection.dialect() == Dialect::Postgres {
            connection.execute_batch(&format!(
                "CREATE OR REPLACE FUNCTION frozen() RETURNS trigger LANGUAGE plpgsql AS
                 $$ BEGIN RAISE EXCEPTION '{FROZEN}' USING ERRCODE = '{}'; END $$",
                crate::sql::FROZEN_CODE
            ))?;
        }
        // After it, not before it: what changes nothing is no change.
        connection.execute_batch(&format!(
            "CREATE TRIGGER frozen_{number} AFTER {event} ON {table} FOR EACH ROW {when} {refuse}"
        ))?;
    }
    Ok(())
}

fn thaw(connection: &Connection) -> Result<()> {
    for (number, (table, ..)) in REFUSED.iter().enumerate() {
        let on = match connection.dialect() {
            Dialect::Sqlite => String::new(),
            Dialect::Postgres => format!(" ON {table}"),
        };
        connection.execute_batch(&format!("DROP TRIGGER IF EXISTS frozen_{number}{on}"))?;
    }
    Ok(())
}
