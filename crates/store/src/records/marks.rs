//! What was done last of its kind, and figures over time.

use crate::sql::params;

use crate::clock::now;
use crate::error::StoreError;
use crate::store::Store;

/// What version 8 of the file has more than version 7, in part.
///
/// - `marks`: a text under a name, and since when.
/// - `samples`: figures over time; the older, the fewer.
pub(super) const TABLES: &str = "
    CREATE TABLE marks (name TEXT PRIMARY KEY, value TEXT NOT NULL, at BIGINT NOT NULL) WITHOUT ROWID;
    CREATE TABLE samples (
        kind TEXT NOT NULL, name TEXT NOT NULL, at BIGINT NOT NULL, value BIGINT NOT NULL,
        PRIMARY KEY (kind, name, at)
    ) WITHOUT ROWID;
";

/// Something that was noted under a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mark {
    pub name: String,
    pub value: String,
    /// In milliseconds since 1970.
    pub at: i64,
}

/// A figure at a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// What it is a figure of: a shelf, an upstream.
    pub name: String,
    /// In milliseconds since 1970.
    pub at: i64,
    pub value: u64,
}

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;
/// For so long there is a sample for each hour, and then one for each day.
const HOURLY: i64 = 7 * DAY;
/// For so long there is one for each day, and then none.
const DAILY: i64 = 800 * DAY;

impl Store {
    /// Notes something under a name, instead of what was noted before.
    pub async fn set_mark(&self, name: &str, value: &str) -> Result<(), StoreError> {
        self.set_mark_at(name, value, now()).await
    }

    /// The same with another time than now.
    pub async fn set_mark_at(&self, name: &str, value: &str, at: i64) -> Result<(), StoreError> {
        let (name, value) = (name.to_owned(), value.to_owned());
        self.records
            .note(move |connection| {
                connection
                    .prepare_cached(
                        "INSERT INTO marks (name, value, at) VALUES ($1, $2, $3)
                         ON CONFLICT (name) DO UPDATE SET value = excluded.value, at = excluded.at",
                    )
                    .and_then(|mut set| set.execute(params![name, value, at]))
                    .map(drop)
                    .map_err(StoreError::ledger("be written"))
            })
            .await
    }

    /// Forgets what was noted under a name. False: nothing was.
    pub async fn remove_mark(&self, name: &str) -> Result<bool, StoreError> {
        let name = name.to_owned();
        self.records
            .note(move |connection| {
                connection
                    .prepare_cached("DELETE FROM marks WHERE name = $1")
                    .and_then(|mut remove| remove.execute(params![name]))
                    .map(|gone| gone > 0)
                    .map_err(StoreError::ledger("be written"))
            })
            .await
    }

    /// What was noted under a name. None: nothing.
    pub async fn mark(&self, name: &str) -> Result<Option<Mark>, StoreError> {
        let all = self.records.rows(
            "SELECT name, value, at FROM marks WHERE name = $1",
            (name.to_owned(),),
            |row| Ok(Mark { name: row.get(0)?, value: row.get(1)?, at: row.get(2)? }),
        );
        Ok(all.await?.pop())
    }

    /// All that is noted under names that begin so, by name.
    pub async fn marks(&self, prefix: &str) -> Result<Vec<Mark>, StoreError> {
        self.records
            .rows(
                "SELECT name, value, at FROM marks WHERE substr(name, 1, length($1)) = $1 ORDER BY name",
                (prefix.to_owned(),),
                |row| Ok(Mark { name: row.get(0)?, value: row.get(1)?, at: row.get(2)? }),
            )
            .await
    }

    /// Notes the figures of this hour, instead of those that were noted in it before, and forgets some of the older
    /// ones: so many for each name stay at most as two years have days and a week has hours.
    pub async fn add_samples(
        &self,
        kind: &'static str,
        figures: Vec<(String, u64)>,
    ) -> Result<(), StoreError> {
        let at = now().div_euclid(HOUR) * HOUR;
        self.records
            .jot(move |connection| {
                let mut add = connection.prepare_cached(
                    "INSERT INTO samples (kind, name, at, value) VALUES ($1, $2, $3, $4)
                     ON CONFLICT (kind, name, at) DO UPDATE SET value = excluded.value",
                )?;
                for (name, value) in &figures {
                    add.execute(params![kind, name, at, super::signed(*value)])?;
                }
                connection
                    .prepare_cached(
                        "DELETE FROM samples WHERE kind = $1
                         AND (at < $2 OR (at < $3 AND at % $4 <> 0))",
                    )?
                    .execute(params![kind, at - DAILY, at - HOURLY, DAY])
                    .map(drop)
            })
            .await
    }

    /// The figures since a time, by name and time.
    pub async fn samples(&self, kind: &'static str, since: i64) -> Result<Vec<Sample>, StoreError> {
        self.records
            .rows(
                "SELECT name, at, value FROM samples WHERE kind = $1 AND at >= $2 ORDER BY name, at",
                (kind, since),
                |row| {
                    Ok(Sample {
                        name: row.get(0)?,
                        at: row.get(1)?,
                        value: super::unsigned(row, 2)?,
                    })
                },
            )
            .await
    }
}
