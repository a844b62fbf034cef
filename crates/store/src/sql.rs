//! SQL in one dialect for every database that keeps records: what the verbs are written against.
//!
//! Statements keep to what all of them take: numbered parameters (`$1`), BIGINT, TEXT and bytes, times bound from
//! outside. Where one needs another text, the verb asks [`Connection::dialect`].

// Parameters are made where they are given.
#![allow(clippy::needless_pass_by_value)]

#[cfg(feature = "replicas")]
mod postgres;
mod value;

#[cfg(feature = "replicas")]
pub(crate) use postgres::{Link, PATIENCE};
#[cfg(feature = "replicas")]
pub use postgres::{Server, ServerError};
pub(crate) use value::{FromValue, ToValue, Value};
#[cfg(feature = "replicas")]
pub(crate) use value::{Kind, Owned};

/// What a statement came to, or why it failed.
pub(crate) type Result<T, E = Error> = std::result::Result<T, E>;

/// Why a statement failed.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(transparent)]
    /// The file could not be asked.
    Sqlite(rusqlite::Error),
    /// The server could not be asked.
    #[cfg(feature = "replicas")]
    #[error("{}", postgres::told(.0))]
    Postgres(tokio_postgres::Error),
    /// No answer came in time.
    #[error("the database did not answer in time")]
    Late,
    /// What was asked for is something that only files have.
    #[error("the records are in no file")]
    NoFile,
    /// What was to be recorded was taken away meanwhile.
    #[error("what was to be recorded was taken for abandoned; do it again")]
    Lost,
    /// What was to be written into holds something already.
    #[error("there are records already")]
    Occupied,
    /// A question for one row had none.
    #[error("no row")]
    NoRow,
    /// A column holds what cannot be there.
    #[error("column {column}: {source}")]
    Column {
        /// Which, counted from 0.
        column: usize,
        /// What is wrong with it.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
}

/// What a database says that refuses what is new, while its store is moved elsewhere.
pub(crate) const FROZEN: &str = "the store is moved elsewhere: nothing new is kept here";
/// The same as a code of its own.
#[cfg(feature = "replicas")]
pub(crate) const FROZEN_CODE: &str = "L0001";

impl Error {
    /// A column that holds what cannot be there.
    pub fn column(
        column: usize,
        source: impl Into<Box<dyn std::error::Error + Send + Sync>>,
    ) -> Self {
        Self::Column { column, source: source.into() }
    }

    /// Whether there is no room on the disk.
    pub fn is_full(&self) -> bool {
        #[cfg(feature = "replicas")]
        if let Self::Postgres(error) = self {
            return error.code() == Some(&tokio_postgres::error::SqlState::DISK_FULL);
        }
        self.code() == Some(rusqlite::ErrorCode::DiskFull)
    }

    /// Whether a server could not be reached, ends, or did not answer.
    pub fn is_away(&self) -> bool {
        match self {
            Self::Late => true,
            // What is no word of the server is one of the connection. Classes 08 and 57P: it ends, or begins.
            #[cfg(feature = "replicas")]
            Self::Postgres(error) => error.code().is_none_or(|code| {
                let code = code.code();
                code.starts_with("08") || code.starts_with("57P") || code.starts_with("53")
            }),
            _ => false,
        }
    }

    /// Whether a server refuses who asks: it knows no such user, password, database or schema, or the user may not do that.
    pub fn is_refused(&self) -> bool {
        #[cfg(feature = "replicas")]
        if let Self::Postgres(error) = self {
            let code = error.code().map(tokio_postgres::error::SqlState::code).unwrap_or_default();
            return code.starts_with("28") || ["42501", "3D000", "3F000"].contains(&code);
        }
        false
    }

    /// Whether the store is being moved elsewhere, so that nothing new is kept in it.
    pub fn is_frozen(&self) -> bool {
        match self {
            Self::Sqlite(error) => error.to_string() == FROZEN,
            #[cfg(feature = "replicas")]
            Self::Postgres(error) => error.code().is_some_and(|code| code.code() == FROZEN_CODE),
            _ => false,
        }
    }

    /// Whether somebody else has the file.
    pub fn is_busy(&self) -> bool {
        use rusqlite::ErrorCode::{DatabaseBusy, DatabaseLocked};
        matches!(self.code(), Some(DatabaseBusy | DatabaseLocked))
    }

    fn code(&self) -> Option<rusqlite::ErrorCode> {
        match self {
            Self::Sqlite(error) => error.sqlite_error_code(),
            _ => None,
        }
    }
}

impl From<rusqlite::Error> for Error {
    fn from(error: rusqlite::Error) -> Self {
        match error {
            rusqlite::Error::QueryReturnedNoRows => Self::NoRow,
            error => Self::Sqlite(error),
        }
    }
}

#[cfg(feature = "replicas")]
impl From<tokio_postgres::Error> for Error {
    fn from(error: tokio_postgres::Error) -> Self {
        Self::Postgres(error)
    }
}

/// Begins a change at the server, once nobody else is at one. What a writer leaves open ends with its connection, or
/// after the server's own patience.
#[cfg(feature = "replicas")]
const WRITER: &str = "BEGIN; SELECT pg_advisory_xact_lock(1818321764, hashtext(current_schema()))";

/// Parameters in the order of their numbers.
macro_rules! params {
    ($($one:expr),* $(,)?) => {
        &[$(&$one as &dyn $crate::sql::ToValue),*] as &[&dyn $crate::sql::ToValue]
    };
}
pub(crate) use params;

/// Something that parameters can be taken from.
pub(crate) trait Params {
    /// The values, in the order of their numbers.
    fn values(&self) -> Vec<Value<'_>>;
}

impl Params for &[&dyn ToValue] {
    fn values(&self) -> Vec<Value<'_>> {
        self.iter().map(|one| one.value()).collect()
    }
}

impl Params for [(); 0] {
    fn values(&self) -> Vec<Value<'_>> {
        Vec::new()
    }
}

macro_rules! params_of_tuples {
    ($($name:ident)+) => {
        impl<$($name: ToValue),+> Params for ($($name,)+) {
            #[allow(non_snake_case)]
            fn values(&self) -> Vec<Value<'_>> {
                let ($($name,)+) = self;
                vec![$($name.value()),+]
            }
        }
    };
}
params_of_tuples!(A);
params_of_tuples!(A B);
params_of_tuples!(A B C);
params_of_tuples!(A B C D);
params_of_tuples!(A B C D E);

impl Params for () {
    fn values(&self) -> Vec<Value<'_>> {
        Vec::new()
    }
}

/// Parameters of whose number only the program knows.
pub(crate) struct Many<T>(pub Vec<T>);

impl<T: ToValue> Params for Many<T> {
    fn values(&self) -> Vec<Value<'_>> {
        self.0.iter().map(ToValue::value).collect()
    }
}

/// Where one row or none is right.
pub(crate) trait Optional<T> {
    /// None where there was no row.
    fn optional(self) -> Result<Option<T>>;
}

impl<T> Optional<T> for Result<T> {
    fn optional(self) -> Result<Option<T>> {
        match self {
            Ok(found) => Ok(Some(found)),
            Err(Error::NoRow) => Ok(None),
            Err(error) => Err(error),
        }
    }
}

/// A connection to the database that keeps the records.
pub(crate) enum Connection {
    Sqlite(rusqlite::Connection),
    #[cfg(feature = "replicas")]
    Postgres(postgres::PostgresConnection),
}

/// Where a statement needs another text for another database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Dialect {
    Sqlite,
    #[cfg(feature = "replicas")]
    Postgres,
}

impl Connection {
    /// In which dialect it is spoken to.
    pub fn dialect(&self) -> Dialect {
        match self {
            Self::Sqlite(_) => Dialect::Sqlite,
            #[cfg(feature = "replicas")]
            Self::Postgres(_) => Dialect::Postgres,
        }
    }

    /// Whether nothing more can be asked of it.
    pub fn is_closed(&self) -> bool {
        match self {
            Self::Sqlite(_) => false,
            #[cfg(feature = "replicas")]
            Self::Postgres(connection) => connection.is_closed(),
        }
    }

    /// The time of the clock that all who share the records go by, in milliseconds since 1970.
    pub fn now(&self) -> Result<i64> {
        match self {
            Self::Sqlite(_) => Ok(crate::clock::now()),
            #[cfg(feature = "replicas")]
            Self::Postgres(_) => self.query_row(
                "SELECT CAST(EXTRACT(EPOCH FROM clock_timestamp()) * 1000 AS BIGINT)",
                [],
                |row| row.get(0),
            ),
        }
    }

    /// The same within a statement.
    pub fn now_text(&self) -> &'static str {
        match self {
            Self::Sqlite(_) => "CAST(unixepoch('subsec') * 1000 AS INTEGER)",
            #[cfg(feature = "replicas")]
            Self::Postgres(_) => "CAST(EXTRACT(EPOCH FROM clock_timestamp()) * 1000 AS BIGINT)",
        }
    }

    /// A statement, prepared once for this connection.
    pub fn prepare_cached(&self, sql: &str) -> Result<Statement<'_>> {
        match self {
            Self::Sqlite(connection) => Ok(Statement::Sqlite(connection.prepare_cached(sql)?)),
            #[cfg(feature = "replicas")]
            Self::Postgres(connection) => Ok(Statement::Postgres(connection, sql.to_owned())),
        }
    }

    /// A statement that is run once.
    pub fn prepare(&self, sql: &str) -> Result<Statement<'_>> {
        self.prepare_cached(sql)
    }

    /// Runs one statement, and tells how many rows it changed.
    pub fn execute(&self, sql: &str, given: impl Params) -> Result<usize> {
        self.prepare_cached(sql)?.execute(given)
    }

    /// Asks for one row.
    pub fn query_row<T>(
        &self,
        sql: &str,
        given: impl Params,
        read: impl FnOnce(&Row<'_>) -> Result<T>,
    ) -> Result<T> {
        self.prepare_cached(sql)?.query_row(given, read)
    }

    /// Runs statements without parameters, one after another.
    pub fn execute_batch(&self, sql: &str) -> Result<()> {
        match self {
            Self::Sqlite(connection) => Ok(connection.execute_batch(sql)?),
            #[cfg(feature = "replicas")]
            Self::Postgres(connection) => connection.batch(sql),
        }
    }

    /// Begins a change of several statements: nobody else changes anything meanwhile.
    pub fn begin(&self) -> Result<Transaction<'_>> {
        match self {
            Self::Sqlite(_) => self.execute_batch("BEGIN IMMEDIATE")?,
            // One writer at a time, as in a file: nothing can be judged by what another is about to change.
            #[cfg(feature = "replicas")]
            Self::Postgres(_) => self.execute_batch(WRITER)?,
        }
        Ok(Transaction { connection: self, open: true })
    }

    /// Until the answer is dropped, all questions see the records as they are at the first of them.
    pub fn moment(&self) -> Result<Transaction<'_>> {
        match self {
            Self::Sqlite(_) => self.execute_batch("BEGIN DEFERRED")?,
            #[cfg(feature = "replicas")]
            Self::Postgres(_) => {
                self.execute_batch("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")?;
            }
        }
        Ok(Transaction { connection: self, open: true })
    }

    /// The connection to a file, for what only files need.
    ///
    /// # Errors
    /// [`Error::NoFile`] where the records are in none.
    pub fn file(&self) -> Result<&rusqlite::Connection> {
        match self {
            Self::Sqlite(connection) => Ok(connection),
            #[cfg(feature = "replicas")]
            Self::Postgres(_) => Err(Error::NoFile),
        }
    }
}

/// A change of several statements. Dropped without [`commit`](Self::commit), nothing of it is kept.
pub(crate) struct Transaction<'c> {
    connection: &'c Connection,
    open: bool,
}

impl Transaction<'_> {
    /// Keeps what was changed.
    pub fn commit(mut self) -> Result<()> {
        // What could not be committed is rolled back.
        self.connection.execute_batch("COMMIT")?;
        self.open = false;
        Ok(())
    }
}

impl std::ops::Deref for Transaction<'_> {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        self.connection
    }
}

impl Drop for Transaction<'_> {
    fn drop(&mut self) {
        if self.open
            && let Err(error) = self.connection.execute_batch("ROLLBACK")
        {
            tracing::debug!(%error, "a change could not be rolled back");
        }
    }
}

/// A statement that is ready to run.
pub(crate) enum Statement<'c> {
    Sqlite(rusqlite::CachedStatement<'c>),
    /// It is prepared when the kinds of its parameters are known.
    #[cfg(feature = "replicas")]
    Postgres(&'c postgres::PostgresConnection, String),
}

impl Statement<'_> {
    /// Runs it, and tells how many rows it changed.
    pub fn execute(&mut self, given: impl Params) -> Result<usize> {
        match self {
            Self::Sqlite(statement) => {
                Ok(statement.execute(rusqlite::params_from_iter(given.values()))?)
            }
            #[cfg(feature = "replicas")]
            Self::Postgres(connection, sql) => connection.execute(sql, &given.values()),
        }
    }

    /// Its rows, one at a time.
    pub fn query(&mut self, given: impl Params) -> Result<Rows<'_>> {
        match self {
            Self::Sqlite(statement) => {
                Ok(Rows::Sqlite(statement.query(rusqlite::params_from_iter(given.values()))?))
            }
            #[cfg(feature = "replicas")]
            Self::Postgres(connection, sql) => {
                connection.query(sql, &given.values()).map(Rows::Postgres)
            }
        }
    }

    /// Its only row.
    ///
    /// # Errors
    /// [`Error::NoRow`] where there is none.
    pub fn query_row<T>(
        &mut self,
        given: impl Params,
        read: impl FnOnce(&Row<'_>) -> Result<T>,
    ) -> Result<T> {
        let mut rows = self.query(given)?;
        let row = rows.next()?.ok_or(Error::NoRow)?;
        read(&row)
    }

    /// What is made of each of its rows.
    pub fn query_map<T, F: FnMut(&Row<'_>) -> Result<T>>(
        &mut self,
        given: impl Params,
        read: F,
    ) -> Result<ReadRows<'_, F>> {
        Ok(ReadRows { rows: self.query(given)?, read })
    }

    /// Whether it has a row.
    pub fn exists(&mut self, given: impl Params) -> Result<bool> {
        Ok(self.query(given)?.next()?.is_some())
    }
}

/// The rows of a statement.
pub(crate) enum Rows<'s> {
    Sqlite(rusqlite::Rows<'s>),
    #[cfg(feature = "replicas")]
    Postgres(postgres::PostgresRows),
}

impl Rows<'_> {
    /// The next one. None: there are no more.
    pub fn next(&mut self) -> Result<Option<Row<'_>>> {
        match self {
            Self::Sqlite(rows) => Ok(rows.next()?.map(Row::Sqlite)),
            #[cfg(feature = "replicas")]
            Self::Postgres(rows) => Ok(rows.next()?.map(Row::Postgres)),
        }
    }
}

/// What is made of the rows of a statement.
pub(crate) struct ReadRows<'s, F> {
    rows: Rows<'s>,
    read: F,
}

impl<T, F: FnMut(&Row<'_>) -> Result<T>> Iterator for ReadRows<'_, F> {
    type Item = Result<T>;

    fn next(&mut self) -> Option<Result<T>> {
        match self.rows.next() {
            Ok(Some(row)) => Some((self.read)(&row)),
            Ok(None) => None,
            Err(error) => Some(Err(error)),
        }
    }
}

/// One row.
pub(crate) enum Row<'r> {
    Sqlite(&'r rusqlite::Row<'r>),
    #[cfg(feature = "replicas")]
    Postgres(tokio_postgres::Row),
}

impl Row<'_> {
    /// What a column holds; they are counted from 0.
    pub fn get<T: FromValue>(&self, column: usize) -> Result<T> {
        match self {
            Self::Sqlite(row) => {
                let value = Value::from(row.get_ref(column)?);
                T::from_value(value).map_err(|error| Error::column(column, error))
            }
            #[cfg(feature = "replicas")]
            Self::Postgres(row) => {
                let value: Value<'_> = row.try_get(column)?;
                T::from_value(value).map_err(|error| Error::column(column, error))
            }
        }
    }
}
