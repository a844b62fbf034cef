//! Figures over what is recorded, for reports.

use super::unsigned;
use crate::error::StoreError;
use crate::store::Store;

/// What one user pulled on one day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayPulls {
    /// Counted from 1970.
    pub day: i64,
    /// The account, or the cluster with its namespace. Empty, or `-`: nobody signed in.
    pub who: String,
    pub pulls: u64,
}

/// How often a manifest was pulled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PulledImage {
    pub repository: String,
    pub digest: String,
    /// The first of its tags. None: it has none.
    pub tag: Option<String>,
    pub pulls: u64,
    /// In milliseconds since 1970.
    pub last: i64,
}

/// What one line of the configuration refused, or warned of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineRefusals {
    /// None: no line decided it.
    pub line: Option<String>,
    /// The kind of the entries, in its word.
    pub kind: String,
    pub times: u64,
    /// In milliseconds since 1970.
    pub last: i64,
}

impl Store {
    /// What each user pulled on each day since a time.
    pub async fn pulls_by_day(&self, since: i64) -> Result<Vec<DayPulls>, StoreError> {
        self.records
            .rows(
                "SELECT last / 86400000, who, SUM(count) FROM record
                 WHERE kind = 'pull' AND last >= $1 GROUP BY 1, 2 ORDER BY 1, 2",
                (since,),
                |row| Ok(DayPulls { day: row.get(0)?, who: row.get(1)?, pulls: unsigned(row, 2)? }),
            )
            .await
    }

    /// The manifests that were pulled most since a day, the parts of indexes left out.
    pub async fn most_pulled(
        &self,
        from_day: i64,
        most: i64,
    ) -> Result<Vec<PulledImage>, StoreError> {
        self.records
            .rows(
                "SELECT r.name, u.digest,
                   (SELECT MIN(t.name) FROM tags t WHERE t.repository = u.repository AND t.digest = u.digest),
                   SUM(u.pulls), MAX(u.last)
                 FROM uses u JOIN repositories r ON r.id = u.repository WHERE u.day >= $1
                 AND NOT EXISTS (SELECT 1 FROM needs n
                   WHERE n.repository = u.repository AND n.target = u.digest AND n.is_child = 1)
                 GROUP BY u.repository, r.name, u.digest HAVING SUM(u.pulls) > 0
                 ORDER BY 4 DESC, 1, 2 LIMIT $2",
                (from_day, most),
                |row| {
                    Ok(PulledImage {
                        repository: row.get(0)?,
                        digest: row.get(1)?,
                        tag: row.get(2)?,
                        pulls: unsigned(row, 3)?,
                        last: row.get(4)?,
                    })
                },
            )
            .await
    }

    /// What lines of the configuration refused and warned of since a time, the most first.
    pub async fn refusals_by_line(
        &self,
        since: i64,
        most: i64,
    ) -> Result<Vec<LineRefusals>, StoreError> {
        self.records
            .rows(
                "SELECT line, kind, SUM(count), MAX(last) FROM record
                 WHERE kind IN ('refused', 'warned', 'failed') AND last >= $1
                 GROUP BY 1, 2 ORDER BY 3 DESC, 1, 2 LIMIT $2",
                (since, most),
                |row| {
                    Ok(LineRefusals {
                        line: row.get(0)?,
                        kind: row.get(1)?,
                        times: unsigned(row, 2)?,
                        last: row.get(3)?,
                    })
                },
            )
            .await
    }
}
