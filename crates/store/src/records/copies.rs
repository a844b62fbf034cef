//! Copies of all records.

use std::path::Path;

use rusqlite::OpenFlags;

use crate::error::StoreError;
use crate::sql::{Dialect, params};
use crate::store::Store;

impl Store {
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
                    super::transfer::all(connection, &file, None)
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
                 DELETE FROM marks WHERE name IN ('secret', 'move', 'move/came-by') OR substr(name, 1, 7) = 'serves/';
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
