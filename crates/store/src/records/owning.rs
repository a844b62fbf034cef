//! Whose the objects in an object store are: a store removes what it does not know, so no two may share a place.

use std::sync::atomic::Ordering;

use crate::error::StoreError;
use crate::sql::{Connection, Optional as _, Result, params};
use crate::store::Store;

/// The mark under which a store keeps the name by which its objects know it.
const ID: &str = "store/id";

/// The name of a store, which it gets where it has none: this one, or one that nobody has.
pub(crate) fn store_id(connection: &Connection, fresh: Option<String>) -> Result<String> {
    let ask = || {
        let sql = "SELECT value FROM marks WHERE name = $1";
        connection.query_row(sql, params![ID], |row| row.get::<String>(0)).optional()
    };
    if let Some(known) = ask()? {
        return Ok(known);
    }
    let fresh = fresh.unwrap_or_else(|| uuid::Uuid::now_v7().simple().to_string());
    let sql =
        "INSERT INTO marks (name, value, at) VALUES ($1, $2, $3) ON CONFLICT (name) DO NOTHING";
    connection.execute(sql, params![ID, fresh, connection.now()?])?;
    Ok(ask()?.unwrap_or(fresh))
}

impl Store {
    /// Makes sure that the place in the object store is this store's, and nobody else's. Nothing is to be done for objects in a
    /// folder.
    ///
    /// # Errors
    /// [`StoreError::Foreign`] when it is another's.
    pub async fn own_objects(&self) -> std::result::Result<(), StoreError> {
        if !self.objects.are_elsewhere() || self.is_owner.load(Ordering::Acquire) {
            return Ok(());
        }
        let id = self.records.state(|connection| store_id(connection, None)).await?;
        self.objects.own(&id).await?;
        self.is_owner.store(true, Ordering::Release);
        Ok(())
    }
}
