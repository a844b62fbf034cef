//! The record in the same file as the ledger.

use crate::sql::{Connection, Row, params};
use larder_core::name::RepositoryName;

use super::{signed, unsigned};
use crate::error::StoreError;
use crate::record::{Filter, Pulled, RecordEntry, RecordKind};
use crate::store::Store;

/// What version 5 of the file has more than version 4, with the keyring.
pub(super) const TABLES: &str = "
    CREATE TABLE record (
        number TEXT PRIMARY KEY, same TEXT UNIQUE, first BIGINT NOT NULL, last BIGINT NOT NULL,
        count BIGINT NOT NULL, kind TEXT NOT NULL, who TEXT NOT NULL, by TEXT, address TEXT,
        reference TEXT, line TEXT, text TEXT NOT NULL
    ) WITHOUT ROWID;
    CREATE INDEX record_by_last ON record (last);
";
/// What version 8 of the file has more than version 7, in part: where on this machine's command line something
/// was done, and in which order lines were written or added to.
pub(super) const ORIGIN: &str = "
    ALTER TABLE record ADD COLUMN origin TEXT;
    ALTER TABLE record ADD COLUMN change BIGINT NOT NULL DEFAULT 0;
    CREATE INDEX record_by_change ON record (change);
";
const COLUMNS: &str =
    "number, first, last, count, kind, who, by, address, reference, line, text, same, origin";

fn entry(row: &Row<'_>) -> crate::sql::Result<RecordEntry> {
    let word: String = row.get(4)?;
    let kind = RecordKind::of(&word).ok_or_else(|| {
        let error = format!("`{word}` is no kind of entry");
        crate::sql::Error::column(4, error)
    })?;
    Ok(RecordEntry {
        number: row.get(0)?,
        first: row.get(1)?,
        last: row.get(2)?,
        count: unsigned(row, 3)?,
        kind,
        who: row.get(5)?,
        by: row.get(6)?,
        address: row.get(7)?,
        reference: row.get(8)?,
        line: row.get(9)?,
        text: row.get(10)?,
        same: row.get(11)?,
        origin: row.get(12)?,
    })
}

/// Adds lines to the record.
pub(super) fn insert(connection: &Connection, entries: &[RecordEntry]) -> crate::sql::Result<()> {
    let mut more = connection.prepare_cached(
        "UPDATE record SET count = count + $1, address = $2, by = $3, text = $4, who = $5,
           last = CASE WHEN $6 > last THEN $6 ELSE last END,
           change = (SELECT COALESCE(MAX(change), 0) + 1 FROM record)
         WHERE same = $7",
    )?;
    let mut add = connection.prepare_cached(
        "INSERT INTO record
           (number, same, first, last, count, kind, who, by, address, reference, line, text, origin, change)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13,
           (SELECT COALESCE(MAX(change), 0) + 1 FROM record))
         ON CONFLICT (number) DO NOTHING",
    )?;
    for one in entries {
        let count = signed(one.count);
        let added = more.execute(params![
            count,
            one.address,
            one.by,
            one.text,
            one.who,
            one.last,
            one.same
        ])?;
        if added > 0 {
            continue;
        }
        add.execute(params![
            one.number,
            one.same,
            one.first,
            one.last,
            signed(one.count),
            one.kind.word(),
            one.who,
            one.by,
            one.address,
            one.reference,
            one.line,
            one.text,
            one.origin,
        ])?;
    }
    Ok(())
}

impl Store {
    /// Writes lines down, all together. One with the same `same` as one that is there is added to it.
    pub async fn write_down(&self, entries: Vec<RecordEntry>) -> Result<(), StoreError> {
        if entries.is_empty() {
            return Ok(());
        }
        self.records
            .note(move |connection| {
                insert(connection, &entries).map_err(StoreError::ledger("write the record"))
            })
            .await
    }

    /// Goes through what each user was recorded to pull since then, each content of a repository once; with a repository
    /// only what is of that one.
    pub async fn fold_pulled<T: Send + 'static>(
        &self,
        since: i64,
        repository: Option<RepositoryName>,
        mut state: T,
        mut fold: impl FnMut(&mut T, Pulled) + Send + 'static,
    ) -> Result<T, StoreError> {
        self.records
            .read(move |connection| {
                let mut rows = connection.prepare_cached(
                    "SELECT who, reference, text, MAX(last), MIN(first)
                     FROM record WHERE kind = 'pull' AND last >= $1 AND reference IS NOT NULL
                     AND ($2 IS NULL OR (substr(reference, 1, length($2)) = $2
                       AND substr(reference, length($2) + 1, 1) IN ('@', ':')))
                     GROUP BY 1, 2, 3",
                )?;
                let name = repository.as_ref().map(RepositoryName::as_str);
                let mut rows = rows.query(params![since, name])?;
                while let Some(row) = &rows.next()? {
                    let reference: String = row.get(1)?;
                    let end = reference.find(['@', ':']).unwrap_or(reference.len());
                    let pulled = Pulled {
                        by: row.get(0)?,
                        repository: reference[..end].into(),
                        digest: row.get(2)?,
                        first: row.get(4)?,
                        last: row.get(3)?,
                    };
                    fold(&mut state, pulled);
                }
                Ok(state)
            })
            .await
    }

    /// When each user was last recorded to pull anything since then.
    pub async fn pullers_since(&self, since: i64) -> Result<Vec<(String, i64)>, StoreError> {
        self.records
            .rows(
                "SELECT who, MAX(last) FROM record WHERE kind = 'pull' AND last >= $1 GROUP BY 1",
                (since,),
                |row| Ok((row.get(0)?, row.get(1)?)),
            )
            .await
    }

    /// The lines that are wanted, the oldest first.
    pub async fn entries(&self, filter: Filter) -> Result<Vec<RecordEntry>, StoreError> {
        self.records
            .read(move |connection| {
                let kinds: Vec<String> =
                    filter.kinds.iter().map(|kind| format!("'{}'", kind.word())).collect();
                let of_kind = match kinds.as_slice() {
                    [] => String::new(),
                    kinds => format!("AND kind IN ({})", kinds.join(", ")),
                };
                let sql = format!(
                    "SELECT {COLUMNS} FROM record
                 WHERE last >= $1 AND ($2 IS NULL OR who = $2 OR substr(who, 1, length($3)) = $3)
                   AND ($4 IS NULL OR LOWER(reference) LIKE LOWER($4) ESCAPE '\\') AND ($5 IS NULL OR number = $5)
                   {of_kind}
                 ORDER BY last DESC, number DESC LIMIT $6"
                );
                let like = |text: &String, before: &str, after: &str| {
                    let plain = text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
                    format!("{before}{plain}{after}")
                };
                let limit =
                    filter.limit.map_or(i64::MAX, |most| i64::try_from(most).unwrap_or(i64::MAX));
                let mut found: Vec<RecordEntry> = connection
                    .prepare_cached(&sql)?
                    .query_map(
                        params![
                            filter.since.unwrap_or(i64::MIN),
                            filter.who,
                            filter.who.as_ref().map(|who| format!("{who}/")),
                            filter.about.as_ref().map(|about| like(about, "%", "%")),
                            filter.number,
                            limit,
                        ],
                        entry,
                    )?
                    .collect::<crate::sql::Result<_>>()?;
                found.reverse();
                Ok(found)
            })
            .await
    }

    /// When something happened first that was written after a change, or happened at a time or later, and before another
    /// time. None: nothing did.
    pub async fn next_written(
        &self,
        from: i64,
        after: i64,
        before: i64,
    ) -> Result<Option<i64>, StoreError> {
        let found = self.records.rows(
            "SELECT MIN(last) FROM record WHERE (last >= $1 OR change > $2) AND last < $3",
            (from, after, before),
            |row| row.get::<Option<i64>>(0),
        );
        Ok(found.await?.into_iter().flatten().next())
    }

    /// The lines that were written after a change, or happened at a time or later, and before another time, the oldest
    /// first; and the last change up to now.
    pub async fn written(
        &self,
        from: i64,
        after: i64,
        before: i64,
    ) -> Result<(Vec<RecordEntry>, i64), StoreError> {
        self.records
            .read(move |connection| {
                // Both at one moment.
                let moment = connection.moment()?;
                let entries = moment
                    .prepare_cached(&format!(
                        "SELECT {COLUMNS} FROM record WHERE (last >= $1 OR change > $2) AND last < $3
                         ORDER BY last, number"
                    ))?
                    .query_map(params![from, after, before], entry)?
                    .collect::<crate::sql::Result<Vec<_>>>()?;
                let change = moment
                    .prepare_cached("SELECT COALESCE(MAX(change), 0) FROM record")?
                    .query_row([], |row| row.get(0))?;
                Ok((entries, change))
            })
            .await
    }

    /// At most `limit` lines of some kinds that were written or added to after a change, each with its own change, in
    /// that order.
    pub async fn written_after(
        &self,
        change: i64,
        kinds: &[RecordKind],
        limit: usize,
    ) -> Result<Vec<(i64, RecordEntry)>, StoreError> {
        let kinds: Vec<String> = kinds.iter().map(|kind| format!("'{}'", kind.word())).collect();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(&format!(
                        "SELECT {COLUMNS}, change FROM record
                         WHERE change > $1 AND kind IN ({}) ORDER BY change LIMIT $2",
                        kinds.join(", ")
                    ))?
                    .query_map(params![change, limit], |row| Ok((row.get(13)?, entry(row)?)))?
                    .collect()
            })
            .await
    }

    /// The last change of the record. 0: there was none.
    pub async fn last_change(&self) -> Result<i64, StoreError> {
        self.records
            .read(|connection| {
                connection
                    .prepare_cached("SELECT COALESCE(MAX(change), 0) FROM record")?
                    .query_row([], |row| row.get(0))
            })
            .await
    }

    /// Keeps so many lines of clients that did not sign in, the latest: failed sign-ins, and refusals of nobody in
    /// particular.
    pub async fn shorten_strangers(&self, most: u64) -> Result<(), StoreError> {
        self.records
            .note(move |connection| {
                connection
                    .prepare_cached(
                        "DELETE FROM record WHERE number IN
                       (SELECT number FROM record
                        WHERE kind = 'failed' OR (kind IN ('refused', 'probe') AND who = '')
                        ORDER BY last DESC LIMIT 9223372036854775807 OFFSET $1)",
                    )
                    .and_then(|mut delete| delete.execute(params![signed(most)]))
                    .map(drop)
                    .map_err(StoreError::ledger("shorten the record"))
            })
            .await
    }

    /// Forgets what happened last before a time; tells how many lines.
    pub async fn forget_before(&self, at: i64) -> Result<u64, StoreError> {
        self.records
            .note(move |connection| {
                connection
                    .prepare_cached("DELETE FROM record WHERE last < $1")
                    .and_then(|mut delete| delete.execute(params![at]))
                    .map(|gone| gone as u64)
                    .map_err(StoreError::ledger("shorten the record"))
            })
            .await
    }
}
