//! From an earlier form to this one: by the sole opener, in one transaction, so that a kill at any moment leaves a file
//! of the old form or of the new one.

use std::fs;
use std::path::Path;
use std::time::Instant;

use larder_core::digest::{Digest, Hasher};
use larder_core::document::Document;
use rusqlite::OpenFlags;

use crate::sql::{Connection, Optional as _, params};

use super::form::{self, FILLED, VERSION};
use super::ledger::measure;
use super::{checked, connect, keep_log};
use crate::error::StoreError;

/// What a conversion did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Conversion {
    /// The version that was found.
    pub from: i64,
    /// Manifests that are records now.
    pub manifests: u64,
    /// Manifests whose file is missing or not what its digest says.
    pub damaged: u64,
    /// Blobs, which stay where they lie.
    pub blobs: u64,
}

/// What SQLite says that the version is. 0: the file is new.
pub(super) fn version(connection: &Connection) -> Result<i64, StoreError> {
    let file = connection.file().map_err(StoreError::ledger("be opened"))?;
    file.pragma_query_value(None, "user_version", |row| row.get(0))
        .map_err(StoreError::ledger("be opened"))
}

/// The version of a file of an earlier form. None: it is new, or of this form or a later one.
pub(super) fn earlier(connection: &Connection) -> Result<Option<i64>, StoreError> {
    Ok(Some(version(connection)?).filter(|found| *found > 0 && *found < VERSION))
}

/// Makes the tables of a new file.
pub(super) fn make(connection: &Connection) -> crate::sql::Result<()> {
    for statements in form::steps(0) {
        connection.execute_batch(statements)?;
    }
    connection.execute_batch(form::INDEXES)?;
    connection.execute_batch(form::TRIGGERS)?;
    for statements in form::later_steps(0) {
        connection.execute_batch(statements)?;
    }
    Ok(connection.file()?.pragma_update(None, "user_version", VERSION)?)
}

/// How often it is told how far a conversion is.
const TELL_EACH: std::time::Duration = std::time::Duration::from_millis(500);
/// Bytes that a row of the new tables takes beside its content, generously.
const ROW: u64 = 600;

/// Converts the records in a store's folder, if they are of an earlier form, and tells what it did. `tell` is told
/// now and then how many manifests have been read, of how many.
///
/// # Errors
/// [`StoreError::InUse`] while another process has the file open, [`StoreError::NoRoomToConvert`] where the disk has too
/// little room.
pub fn convert(
    folder: &Path,
    path: &Path,
    room: Option<u64>,
    tell: &mut dyn FnMut(u64, u64),
) -> Result<Option<Conversion>, StoreError> {
    if !path.is_file() {
        return Ok(None);
    }
    let connection = connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
    if version(&connection)? > VERSION {
        return Err(StoreError::Version { found: version(&connection)?, known: VERSION });
    }
    if earlier(&connection)?.is_none() {
        return Ok(None);
    }
    become_sole_opener(&connection)?;
    // Somebody may have been quicker.
    let Some(from) = earlier(&connection)? else {
        keep_log(&connection).map_err(StoreError::ledger("be opened"))?;
        return Ok(None);
    };
    check_room(&connection, path, from, room)?;
    let failed = StoreError::ledger;
    let transaction = connection.begin().map_err(failed("be converted"))?;
    let converted = convert_within(folder, &transaction, from, tell)?;
    transaction.commit().map_err(failed("be converted"))?;
    let shared = || -> crate::sql::Result<()> {
        connection.file()?.pragma_update(None, "locking_mode", "NORMAL")?;
        keep_log(&connection)
    };
    shared().map_err(failed("be opened"))?;
    Ok(Some(converted))
}

/// Nobody else can open the file from here on, and nobody has it open: SQLite leaves its log only then.
fn become_sole_opener(connection: &Connection) -> Result<(), StoreError> {
    let left = || -> crate::sql::Result<bool> {
        connection.file()?.busy_timeout(std::time::Duration::from_secs(2))?;
        connection.file()?.pragma_update(None, "locking_mode", "EXCLUSIVE")?;
        let mode: String =
            connection.query_row("PRAGMA journal_mode = DELETE", [], |row| row.get(0))?;
        // Takes the lock now, and keeps it.
        connection.execute_batch("BEGIN EXCLUSIVE; COMMIT;")?;
        connection.file()?.pragma_update(None, "synchronous", "FULL")?;
        Ok(mode.eq_ignore_ascii_case("delete"))
    };
    match left() {
        Ok(true) => Ok(()),
        Ok(false) => Err(StoreError::InUse),
        Err(error) if error.is_busy() => Err(StoreError::InUse),
        Err(error) => Err(StoreError::ledger("be converted")(error)),
    }
}

/// Looks whether there is room for the new rows, for the bodies of the manifests, and for a copy of every page that
/// changes.
fn check_room(
    connection: &Connection,
    path: &Path,
    from: i64,
    room: Option<u64>,
) -> Result<(), StoreError> {
    let Some(left) = room else { return Ok(()) };
    let count = |sql: &str| connection.query_row(sql, [], |row| super::unsigned(row, 0));
    let rows = || -> crate::sql::Result<u64> {
        if from >= FILLED {
            return count("SELECT COUNT(*) FROM repositories").map(|rows| rows.saturating_mul(ROW));
        }
        let bodies = count("SELECT CAST(COALESCE(SUM(size), 0) AS BIGINT) FROM manifests")?;
        let mut rows = 0;
        for table in ["manifests", "blobs", "needs"] {
            rows += count(&format!("SELECT COUNT(*) FROM {table}"))?;
        }
        Ok(bodies.saturating_add(rows.saturating_mul(ROW)))
    };
    let rows = rows().map_err(StoreError::ledger("be read"))?;
    let size = fs::metadata(path).map_or(0, |file| file.len());
    let needed = rows.saturating_add(size);
    if left < needed { Err(StoreError::NoRoomToConvert { left, needed }) } else { Ok(()) }
}

fn convert_within(
    folder: &Path,
    connection: &Connection,
    from: i64,
    tell: &mut dyn FnMut(u64, u64),
) -> Result<Conversion, StoreError> {
    let failed = || StoreError::ledger("be converted");
    let mut converted = Conversion { from, ..Conversion::default() };
    if from < FILLED {
        for statements in form::steps(from) {
            connection.execute_batch(statements).map_err(failed())?;
        }
        take_in_bodies(folder, connection, &mut converted, tell)?;
        connection.execute_batch(form::FILL).map_err(failed())?;
        connection.execute_batch(form::INDEXES).map_err(failed())?;
        measure_indexes(connection).map_err(failed())?;
        connection.execute_batch(form::SUM).map_err(failed())?;
        connection.execute_batch(form::TRIGGERS).map_err(failed())?;
    } else {
        converted.manifests = connection
            .query_row("SELECT COUNT(*) FROM bodies", [], |row| super::unsigned(row, 0))
            .map_err(failed())?;
    }
    for statements in form::later_steps(from) {
        connection.execute_batch(statements).map_err(failed())?;
    }
    converted.blobs = connection
        .query_row("SELECT COUNT(*) FROM contents", [], |row| super::unsigned(row, 0))
        .map_err(failed())?;
    let numbered = || -> crate::sql::Result<()> {
        Ok(connection.file()?.pragma_update(None, "user_version", VERSION)?)
    };
    numbered().map_err(failed())?;
    Ok(converted)
}

/// Reads every manifest's file into the records. The files stay until all has been verified once.
fn take_in_bodies(
    folder: &Path,
    connection: &Connection,
    converted: &mut Conversion,
    tell: &mut dyn FnMut(u64, u64),
) -> Result<(), StoreError> {
    let failed = || StoreError::ledger("be converted");
    let all: u64 = connection
        .query_row("SELECT COUNT(DISTINCT digest) FROM manifests", [], |row| {
            super::unsigned(row, 0)
        })
        .map_err(failed())?;
    let mut told = Instant::now();
    let mut last = String::new();
    loop {
        let next: Option<(Digest, String, bool)> = connection
            .prepare_cached(
                "SELECT digest, media_type, MAX(subject IS NOT NULL) FROM manifests
                 WHERE digest > $1 GROUP BY digest ORDER BY digest LIMIT 1",
            )
            .and_then(|mut next| {
                next.query_row(params![last], |row| {
                    Ok((checked(row, 0)?, row.get(1)?, row.get(2)?))
                })
                .optional()
            })
            .map_err(failed())?;
        let Some((digest, media_type, refers)) = next else { return Ok(()) };
        last = digest.to_string();
        let (hex, name) = (digest.hex(), digest.algorithm().name());
        let place = format!("blobs/{name}/{}/{hex}", &hex[..2]);
        converted.manifests += 1;
        match read(&folder.join(&place), &digest)? {
            Some(body) => {
                connection
                    .prepare_cached("INSERT INTO bodies (digest, body) VALUES ($1, $2)")
                    .and_then(|mut add| add.execute(params![digest.as_str(), body]))
                    .map_err(failed())?;
                if refers {
                    describe(connection, &digest, &media_type, body).map_err(failed())?;
                }
            }
            None => converted.damaged += 1,
        }
        connection
            .prepare_cached("INSERT INTO old_files (place) VALUES ($1)")
            .and_then(|mut add| add.execute(params![place]))
            .map_err(failed())?;
        if told.elapsed() >= TELL_EACH {
            told = Instant::now();
            tell(converted.manifests, all);
        }
    }
}

/// A manifest's file. None: it is not there, or not what its digest says.
fn read(path: &Path, digest: &Digest) -> Result<Option<Vec<u8>>, StoreError> {
    let body = match fs::read(path) {
        Ok(body) => body,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(StoreError::io(format!("cannot read {}", path.display()))(error)),
    };
    let mut hasher = Hasher::new(digest.algorithm());
    hasher.update(&body);
    Ok((hasher.finish() == *digest).then_some(body))
}

/// Notes of a manifest that is about another what lists of referrers say of it.
fn describe(
    connection: &Connection,
    digest: &Digest,
    media_type: &str,
    body: Vec<u8>,
) -> crate::sql::Result<()> {
    let Ok(document) = Document::read(body.into(), Some(media_type)) else { return Ok(()) };
    let (kind, annotations) = super::ledger::described(&document);
    connection
        .prepare_cached(
            "UPDATE manifests SET artifact_type = $1, annotations = $2 WHERE digest = $3",
        )?
        .execute(params![kind, annotations, digest.as_str()])
        .map(drop)
}

/// What indexes take: their parts may share contents, so it is measured for each.
fn measure_indexes(connection: &Connection) -> crate::sql::Result<()> {
    let mut last = (i64::MIN, String::new());
    loop {
        let next: Option<(i64, Digest)> = connection
            .prepare_cached(
                "SELECT repository, manifest FROM needs
                 WHERE is_child = 1 AND (repository, manifest) > ($1, $2)
                 ORDER BY repository, manifest LIMIT 1",
            )?
            .query_row(params![last.0, last.1], |row| Ok((row.get(0)?, checked(row, 1)?)))
            .optional()?;
        let Some((repository, index)) = next else { return Ok(()) };
        measure(connection, repository, &index)?;
        last = (repository, index.to_string());
    }
}
