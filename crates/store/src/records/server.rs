//! Records in a database server: how they are opened, and how what others change is heard of.

use std::fmt::Write as _;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

use tokio::sync::Semaphore;

use super::form::{SERVER_STEPS, VERSION, WORKS_WITH};
use super::moments::Moments;
use super::{Records, RecordsPlace, any};
use crate::error::StoreError;
use crate::sql::{Connection, Link, Optional as _, PATIENCE, Server, params};

impl Records {
    /// Opens the records in a database server, making its tables where they are missing. It waits, so it is not to be called
    /// where nobody may wait.
    ///
    /// # Errors
    /// [`StoreError::Earlier`] when they are of an earlier form, [`StoreError::Version`] when of a later one.
    pub fn open_server(server: Server) -> Result<Self, StoreError> {
        let watched = Watched::new(server);
        let watching = watched.connect_apart().map_err(StoreError::ledger("be opened"))?;
        let writer = watched.connect().map_err(StoreError::ledger("be opened"))?;
        prepare_server(&writer)?;
        let moments = Arc::new(Moments::in_memory());
        let told = Arc::downgrade(&moments);
        let (line, place) = (watched.clone(), RecordsPlace::Server(Box::new(watched)));
        let records = Self::start(place, writer, moments)?;
        std::thread::Builder::new()
            .name("moments".into())
            .spawn(move || watch(&line, watching, &told))
            .map_err(StoreError::io("cannot start the thread that hears of changes"))?;
        Ok(records)
    }

    /// For how long what is remembered is believed while the server does not answer.
    pub fn set_away(&self, span: Duration) {
        if let RecordsPlace::Server(server) = &*self.place {
            server
                .away
                .store(u64::try_from(span.as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
        }
    }

    /// For how long the server has not answered, and for how long that may last until nothing that is remembered is
    /// believed. None: it answers, or there is none.
    pub fn away(&self) -> Option<(Duration, Duration)> {
        let RecordsPlace::Server(server) = &*self.place else { return None };
        server.link.is_away().then(|| (server.silence(), server.believed()))
    }
}

/// A server that is asked again and again whether it answers.
#[derive(Clone)]
pub(super) struct Watched {
    server: Server,
    link: Link,
    /// Since when it is asked.
    begun: Instant,
    /// When it answered last, in milliseconds since then.
    heard: Arc<AtomicU64>,
    /// For how many milliseconds what is remembered is believed while it does not.
    away: Arc<AtomicU64>,
    /// Who may ask it now.
    turns: Arc<Semaphore>,
}

impl Watched {
    fn new(server: Server) -> Self {
        let (link, away, heard) = (Link::default(), Arc::default(), Arc::default());
        let turns = Arc::new(Semaphore::new(super::AT_ONCE));
        Self { server, link, begun: Instant::now(), heard, away, turns }
    }

    /// Who may ask it at once.
    pub fn turns(&self) -> &Arc<Semaphore> {
        &self.turns
    }

    /// Connects, for who is told at once when it does not answer.
    pub fn connect(&self) -> crate::sql::Result<Connection> {
        self.server.connect_by(self.link.clone(), PATIENCE).map(Connection::Postgres)
    }

    /// Connects, for who finds that out.
    fn connect_apart(&self) -> crate::sql::Result<Connection> {
        self.server.connect_by(Link::default(), SILENCE).map(Connection::Postgres)
    }

    /// It has answered.
    fn hears(&self) {
        let now = u64::try_from(self.begun.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.heard.store(now, Ordering::Release);
    }

    /// For how long it has not answered.
    fn silence(&self) -> Duration {
        self.begun
            .elapsed()
            .saturating_sub(Duration::from_millis(self.heard.load(Ordering::Acquire)))
    }

    /// Whether what is remembered is still true, as far as anybody can know: others' changes were heard of a moment ago, or
    /// the server is known to be away, and not for too long. Who was stopped for a while has heard nothing.
    pub fn is_believed(&self) -> bool {
        let silence = self.silence();
        silence < UNHEARD || (self.link.is_away() && silence < self.believed())
    }

    fn believed(&self) -> Duration {
        Duration::from_millis(self.away.load(Ordering::Relaxed)).max(SILENCE)
    }
}

/// Whether a server has the tables of a store. It waits.
pub(crate) fn has_records(server: &Server) -> Result<bool, StoreError> {
    let asked = || has_form(&Connection::Postgres(server.connect()?));
    asked().map_err(StoreError::ledger("be reached"))
}

/// The tables, as a server makes them.
pub(super) const TABLES: &str = concat!(
    include_str!("postgres.sql"),
    "\n",
    include_str!("postgres-9.sql"),
    "\n",
    include_str!("postgres-10.sql")
);

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

/// The form of the tables, and the earliest form whose programs can work with them.
fn form_of(connection: &Connection) -> crate::sql::Result<(i64, i64)> {
    // What was made before there was a second number works with its own.
    let has_second = "SELECT 1 FROM pg_attribute
         WHERE attrelid = to_regclass('form') AND attname = 'works_with' AND NOT attisdropped";
    if !any(connection, has_second, [])? {
        connection.execute_batch("ALTER TABLE form ADD COLUMN works_with BIGINT")?;
    }
    connection.query_row(
        "SELECT version, COALESCE(works_with, version) FROM form ORDER BY version DESC LIMIT 1",
        [],
        |row| Ok((row.get(0)?, row.get(1)?)),
    )
}

/// Adds what this form has more than an earlier one, where it only adds. Nobody else changes anything meanwhile.
fn add(transaction: &Connection, found: i64) -> Result<(), StoreError> {
    let steps = || SERVER_STEPS.iter().filter(|(from, _)| *from >= found);
    if i64::try_from(steps().count()) != Ok(VERSION - found) {
        return Err(StoreError::Earlier { found, known: VERSION });
    }
    let done = || -> crate::sql::Result<()> {
        steps().try_for_each(|(_, step)| transaction.execute_batch(step))?;
        let form = "UPDATE form SET version = $1, works_with = $2";
        transaction.execute(form, params![VERSION, WORKS_WITH]).map(drop)
    };
    done().map_err(StoreError::ledger("be converted"))
}

/// Makes the tables in a server that has none, and adds what is new to those of an earlier form.
///
/// Several versions of the program work on the same tables while one takes the other's place. So a form only ever adds to
/// the one before: columns with a default, tables, indexes; `works_with` stays at the earlier form, and what is needed no
/// more goes in a form after that. Statements name their columns, so that those that are new change nothing for them.
fn prepare_server(connection: &Connection) -> Result<(), StoreError> {
    let opened = StoreError::ledger;
    let transaction = connection.begin().map_err(opened("be opened"))?;
    if has_form(&transaction).map_err(opened("be opened"))? {
        let found = form_of(&transaction).map_err(opened("be opened"))?;
        match found {
            (VERSION, _) => {}
            // A later program has added to it what this one need not know.
            (found, works_with) if found > VERSION && works_with <= VERSION => {}
            (found, _) if found > VERSION => {
                return Err(StoreError::Version { found, known: VERSION });
            }
            (found, _) => add(&transaction, found)?,
        }
    } else {
        transaction.execute_batch(TABLES).map_err(opened("be made"))?;
    }
    transaction.commit().map_err(opened("be opened"))
}

/// How often a server is asked what others have changed.
const WATCHED_EACH: Duration = Duration::from_millis(250);
/// It is taken for away once it has not answered for so long.
const SILENCE: Duration = Duration::from_secs(3);
/// Nothing that is remembered is believed once nothing was heard for so long, and nobody has found that it is away: a
/// little longer than that takes.
const UNHEARD: Duration = Duration::from_millis(4500);

/// Hears of what others have changed, as long as somebody wants to know, and says whether the server answers. The numbers
/// of changes are given by one writer at a time, so that none appears later than a greater one.
fn watch(server: &Watched, first: Connection, moments: &Weak<Moments>) {
    let mut connection = Some(first);
    while let Some(moments) = moments.upgrade() {
        let was_away = server.link.is_away();
        let open = connection.take().filter(|connection| !connection.is_closed());
        let asked = open.map_or_else(|| server.connect_apart(), Ok).and_then(|connection| {
            // It may have come back as it was before: then its numbers begin again.
            let from = if was_away { 0 } else { moments.told() };
            let told = super::moments::since(&connection, from)?;
            Ok((connection, told))
        });
        match asked {
            Ok((open, (names, last))) => {
                connection = Some(open);
                if was_away {
                    tracing::info!("the database answers again");
                    moments.find_again();
                }
                moments.tell_others(&names, last);
                server.hears();
                server.link.set_away(false);
            }
            Err(error) => {
                let silence = server.silence();
                if silence >= SILENCE && !was_away {
                    tracing::error!(%error, "the database does not answer: what is known is still given");
                    server.link.set_away(true);
                }
                if silence >= server.believed() && moments.lose() {
                    tracing::error!(%error, "the database is away for too long: nothing is given any more");
                }
            }
        }
        drop(moments);
        std::thread::sleep(WATCHED_EACH);
    }
}
