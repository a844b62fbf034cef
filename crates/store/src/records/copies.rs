//! Copies of all records: into a file, and into a database server.

use std::path::Path;

use rusqlite::OpenFlags;

use crate::error::StoreError;
use crate::sql::{Dialect, params};
use crate::store::Store;

impl Store {
    /// Writes all records, of one moment, into a database server that holds none yet. The bytes stay where they are.
    ///
    /// # Errors
    /// [`StoreError::Occupied`] when it holds some already.
    #[cfg(feature = "replicas")]
    pub async fn copy_records_to_server(
        &self,
        server: crate::sql::Server,
    ) -> Result<(), StoreError> {
        let records = super::blocking(move || super::Records::open_server(server)).await?;
        let has_some = records.read(|connection| {
            super::any(connection, "SELECT 1 FROM repositories UNION ALL SELECT 1 FROM record", [])
        });
        if has_some.await? {
            return Err(StoreError::Occupied);
        }
        let place = std::sync::Arc::clone(&records.place);
        self.records.read(move |file| super::transfer::into_server(file, &place.connect()?)).await
    }

    /// Writes a copy of all records, of one moment, to a new file; in it every blob lies under its digest alone, as a
    /// [`ContentFolder`](crate::ContentFolder) has it.
    pub async fn copy_records_to(&self, path: &Path) -> Result<(), StoreError> {
        let (to, path) = (path.to_string_lossy().into_owned(), path.to_owned());
        // The copy is for its owner alone, from its first byte on.
        super::make_private(&path)?;
        #[cfg(feature = "replicas")]
        let copied = path.clone();
        self.records
            .read(move |connection| match connection.dialect() {
                Dialect::Sqlite => connection.execute("VACUUM INTO $1", params![to]).map(drop),
                #[cfg(feature = "replicas")]
                Dialect::Postgres => {
                    let file = super::open_file(&copied, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
                    super::transfer::into_new_file(connection, &file)
                }
            })
            .await?;
        super::blocking(move || {
            let failed = StoreError::ledger;
            let copy = super::connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
            copy.execute_batch(
                "PRAGMA synchronous = FULL;
                 BEGIN;
                 UPDATE contents SET place =
                     'blobs/' || substr(digest, 1, instr(digest, ':') - 1) || '/'
                     || substr(digest, instr(digest, ':') + 1, 2) || '/' || substr(digest, instr(digest, ':') + 1);
                 DELETE FROM leavings; DELETE FROM old_files; DELETE FROM leases; DELETE FROM uploads;
                 DELETE FROM marks WHERE name = 'secret';
                 COMMIT;",
            )
            .map_err(failed("be copied"))?;
            drop(copy);
            let flushed = std::fs::File::open(&path).and_then(|file| file.sync_all());
            flushed.map_err(StoreError::io(format!("cannot flush {}", path.display())))
        })
        .await
    }
}
