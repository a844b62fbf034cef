//! Records in a database server: how they are opened, and how what others change is heard of.

use std::fmt::Write as _;
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

use super::form::VERSION;
use super::moments::Moments;
use super::{Records, RecordsPlace, any};
use crate::error::StoreError;
use crate::sql::{Connection, Optional as _, Server, params};

impl Records {
    /// Opens the records in a database server, making its tables where they are missing. It waits, so it is not to be called
    /// where nobody may wait.
    ///
    /// # Errors
    /// [`StoreError::Earlier`] when they are of an earlier form, [`StoreError::Version`] when of a later one.
    pub fn open_server(server: Server) -> Result<Self, StoreError> {
        let place = RecordsPlace::Server(Box::new(server));
        let writer = place.connect().map_err(StoreError::ledger("be opened"))?;
        prepare_server(&writer)?;
        let watching = place.connect().map_err(StoreError::ledger("be opened"))?;
        let moments = Arc::new(Moments::in_memory());
        let records = Self::start(place, writer, moments)?;
        let (place, moments) = (Arc::clone(&records.place), Arc::downgrade(&records.moments));
        std::thread::Builder::new()
            .name("moments".into())
            .spawn(move || watch(&place, watching, &moments))
            .map_err(StoreError::io("cannot start the thread that hears of changes"))?;
        Ok(records)
    }
}

/// Whether a server has the tables of a store. It waits.
pub(crate) fn has_records(server: &Server) -> Result<bool, StoreError> {
    let asked = || has_form(&Connection::Postgres(server.connect()?));
    asked().map_err(StoreError::ledger("be reached"))
}

/// The tables, as a server makes them.
pub(super) const TABLES: &str = include_str!("postgres.sql");

pub(super) fn has_form(connection: &Connection) -> crate::sql::Result<bool> {
    any(connection, "SELECT 1 WHERE to_regclass('form') IS NOT NULL", [])
}

/// What keys are hashed and tokens are signed with, the same for all who share the records; made where it is missing. It
/// waits.
pub(crate) fn shared_secret(server: &Server) -> Result<[u8; 32], StoreError> {
    const NAME: &str = super::SECRET;
    let found = || -> crate::sql::Result<Option<String>> {
        let connection = Connection::Postgres(server.connect()?);
        let read = || {
            let sql = "SELECT value FROM marks WHERE name = $1";
            connection.query_row(sql, params![NAME], |row| row.get::<String>(0)).optional()
        };
        if let Some(found) = read()? {
            return Ok(Some(found));
        }
        let Some(fresh) = larder_core::access::key::random::<32>() else { return Ok(None) };
        note_secret(&connection, &fresh)?;
        read()
    };
    let text = found().map_err(StoreError::ledger("be asked for the shared secret"))?;
    let bytes: Option<Vec<u8>> = text.and_then(|text| {
        let pairs = text.as_bytes().chunks(2).map(|pair| std::str::from_utf8(pair).ok());
        pairs.map(|pair| u8::from_str_radix(pair?, 16).ok()).collect()
    });
    let wrong = || std::io::Error::other("it is no secret of 32 bytes");
    let secret = bytes.and_then(|bytes| bytes.try_into().ok()).ok_or_else(wrong);
    secret.map_err(StoreError::io("cannot read the shared secret"))
}

/// Notes what keys are hashed with, unless that was noted before.
pub(super) fn note_secret(connection: &Connection, secret: &[u8; 32]) -> crate::sql::Result<()> {
    let text = secret.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    });
    let sql =
        "INSERT INTO marks (name, value, at) VALUES ($1, $2, $3) ON CONFLICT (name) DO NOTHING";
    connection.execute(sql, params![super::SECRET, text, connection.now()?]).map(drop)
}

/// Makes the tables in a server that has none.
fn prepare_server(connection: &Connection) -> Result<(), StoreError> {
    let opened = StoreError::ledger;
    let transaction = connection.begin().map_err(opened("be opened"))?;
    if has_form(&transaction).map_err(opened("be opened"))? {
        let found = transaction.query_row("SELECT MAX(version) FROM form", [], |row| row.get(0));
        match found.map_err(opened("be opened"))? {
            VERSION => {}
            found if found > VERSION => return Err(StoreError::Version { found, known: VERSION }),
            found => return Err(StoreError::Earlier { found, known: VERSION }),
        }
    } else {
        transaction.execute_batch(TABLES).map_err(opened("be made"))?;
    }
    transaction.commit().map_err(opened("be opened"))
}

/// How often a server is asked what others have changed.
const WATCHED_EACH: Duration = Duration::from_millis(250);
/// For how long what is remembered is believed while it cannot be asked.
const BELIEVED: Duration = Duration::from_secs(3);

/// Hears of what others have changed, as long as somebody wants to know. The numbers of changes are given by one writer at
/// a time, so that none appears later than a greater one.
fn watch(place: &RecordsPlace, first: Connection, moments: &Weak<Moments>) {
    let mut connection = Some(first);
    let mut heard = Instant::now();
    while let Some(moments) = moments.upgrade() {
        let open = connection.take().filter(|connection| !connection.is_closed());
        let asked = open.map_or_else(|| place.connect(), Ok).and_then(|connection| {
            let told = super::moments::since(&connection, moments.told())?;
            Ok((connection, told))
        });
        match asked {
            Ok((open, (names, last))) => {
                moments.tell_others(&names, last);
                if heard.elapsed() > BELIEVED {
                    moments.find_again();
                }
                (connection, heard) = (Some(open), Instant::now());
            }
            Err(error) => {
                tracing::warn!(%error, "the ledger cannot be asked what others have changed");
                if heard.elapsed() > BELIEVED {
                    moments.lose();
                }
            }
        }
        drop(moments);
        std::thread::sleep(WATCHED_EACH);
    }
}
