//! The keyring in the same file as the ledger.

use crate::sql::{Row, params};
use larder_core::access::key::KeyId;
use larder_core::access::stop::{Stop, Stopped};

use super::{TouchedNames, checked, stops};
use crate::error::StoreError;
use crate::keyring::KeyRecord;
use crate::store::Store;

/// What version 5 of the file has more than version 4, with the record.
pub(super) const TABLES: &str = "
    CREATE TABLE keys (
        id TEXT PRIMARY KEY, user_name TEXT NOT NULL, hash TEXT NOT NULL, issued BIGINT NOT NULL,
        expires BIGINT, revoked BIGINT, replaces TEXT, used BIGINT, used_from TEXT,
        change BIGINT NOT NULL
    ) WITHOUT ROWID;
";

fn record(row: &Row<'_>) -> crate::sql::Result<KeyRecord> {
    let replaces = match row.get::<Option<String>>(6)? {
        Some(_) => Some(checked(row, 6)?),
        None => None,
    };
    Ok(KeyRecord {
        id: checked(row, 0)?,
        user: row.get(1)?,
        hash: checked(row, 2)?,
        issued: row.get(3)?,
        expires: row.get(4)?,
        revoked: row.get(5)?,
        replaces,
        used: row.get(7)?,
        used_from: row.get(8)?,
    })
}

impl Store {
    /// Records a key that was just made.
    pub async fn add_key(&self, key: KeyRecord) -> Result<(), StoreError> {
        self.records.change(TouchedNames::Access, "record a key", move |connection| {
            connection
                .prepare_cached(
                    "INSERT INTO keys (id, user_name, hash, issued, expires, revoked, replaces, change)
                     VALUES ($1, $2, $3, $4, $5, $6, $7,
                       (SELECT COALESCE(MAX(change), 0) + 1 FROM keys))",
                )?
                .execute(params![
                    key.id.as_str(),
                    key.user,
                    key.hash.to_string(),
                    key.issued,
                    key.expires,
                    key.revoked,
                    key.replaces.as_ref().map(KeyId::as_str),
                ])
                .map(drop)
        })
        .await
    }

    /// All keys, also those that are revoked or have expired, in the order in which they were issued.
    pub async fn keys(&self) -> Result<Vec<KeyRecord>, StoreError> {
        self.records
            .read(|connection| {
                connection
                .prepare_cached(
                    "SELECT id, user_name, hash, issued, expires, revoked, replaces, used, used_from
                     FROM keys ORDER BY issued, id",
                )?
                .query_map([], record)?
                .collect()
            })
            .await
    }

    /// Revokes a key at a time. False: there is none of this name that is not revoked already.
    pub async fn revoke_key(&self, id: &KeyId, at: i64) -> Result<bool, StoreError> {
        let id = id.to_string();
        self.records
            .change(TouchedNames::Access, "revoke a key", move |connection| {
                connection
                    .prepare_cached(
                        "UPDATE keys SET revoked = $1,
                       change = (SELECT MAX(change) + 1 FROM keys)
                     WHERE id = $2 AND revoked IS NULL",
                    )?
                    .execute(params![at, id])
                    .map(|changed| changed > 0)
            })
            .await
    }

    /// Notes when keys were last used, and from where.
    pub async fn note_key_uses(&self, uses: Vec<(KeyId, i64, String)>) -> Result<(), StoreError> {
        self.records
            .note(move |connection| {
                let write = || -> crate::sql::Result<()> {
                    let mut note = connection.prepare_cached(
                        "UPDATE keys SET used = $1, used_from = $2
                     WHERE id = $3 AND (used IS NULL OR used <= $1)",
                    )?;
                    for (id, at, from) in &uses {
                        note.execute(params![at, from, id.as_str()])?;
                    }
                    Ok(())
                };
                write().map_err(StoreError::ledger("note the use of keys"))
            })
            .await
    }

    /// Stops things, all together. What was stopped before is stopped anew.
    pub async fn add_stops(&self, all: Vec<Stop>) -> Result<(), StoreError> {
        self.records
            .change(TouchedNames::Access, "stop something", move |connection| {
                stops::add(connection, &all)
            })
            .await
    }

    /// Lets something be used again at a time. False: it was not stopped.
    pub async fn lift_stop(&self, what: Stopped, at: i64) -> Result<bool, StoreError> {
        self.records
            .change(TouchedNames::Access, "lift a stop", move |connection| {
                stops::lift(connection, &what, at)
            })
            .await
    }

    /// All that is stopped, the oldest first.
    pub async fn stops(&self) -> Result<Vec<Stop>, StoreError> {
        self.records.read(stops::all).await
    }

    /// A number that is another one after each change of keys or stops.
    pub async fn keys_version(&self) -> Result<i64, StoreError> {
        self.records
            .read(|connection| {
                connection
                    .prepare_cached(
                        "SELECT (SELECT COALESCE(MAX(change), 0) FROM keys)
                       + (SELECT COALESCE(MAX(change), 0) FROM stops)",
                    )?
                    .query_row([], |row| row.get(0))
            })
            .await
    }
}
