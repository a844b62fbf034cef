//! What clusters were seen to run, at their doors and in surveys.

use crate::sql::params;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;

use crate::clock::now;
use crate::error::StoreError;
use crate::store::Store;

/// What version 8 of the file has more than version 7, in part. A row without a repository says that something was
/// learned of the cluster.
pub(super) const TABLES: &str = "
    CREATE TABLE sightings (
        cluster TEXT NOT NULL, namespace TEXT NOT NULL, workload TEXT NOT NULL, repository TEXT NOT NULL,
        selector TEXT NOT NULL, digest TEXT NOT NULL, how TEXT NOT NULL, last BIGINT NOT NULL,
        PRIMARY KEY (cluster, namespace, workload, repository, selector, how)
    ) WITHOUT ROWID;
    CREATE INDEX sightings_by_repository ON sightings (repository);
    CREATE INDEX sightings_by_last ON sightings (last);
";

/// How it is known that a cluster runs something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SeenBy {
    /// It asked at its door whether it may run it.
    Door,
    /// A survey of the live cluster found it.
    Survey,
}

impl SeenBy {
    fn word(self) -> &'static str {
        match self {
            Self::Door => "door",
            Self::Survey => "survey",
        }
    }

    fn of(word: &str) -> Option<Self> {
        [Self::Door, Self::Survey].into_iter().find(|one| one.word() == word)
    }
}

/// A workload of a cluster that names an image of this larder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeenWorkload {
    pub cluster: String,
    /// Empty: it is in none.
    pub namespace: String,
    /// Its kind and name, such as `Deployment/turbine`. Empty: that is not known.
    pub workload: String,
    /// Empty: it is only known that the cluster was looked at.
    pub repository: String,
    /// The tag or digest by which it is named.
    pub selector: String,
    /// What that was when it was seen. Empty: that was not known.
    pub digest: String,
    pub how: SeenBy,
    /// When it was seen first with this content, in milliseconds since 1970. None: before that was counted. What is new
    /// begins when it was seen last.
    pub first: Option<i64>,
    /// When it was seen last, in milliseconds since 1970.
    pub last: i64,
}

const DAY: i64 = 24 * 3_600_000;
/// For so many days back it is looked for what was pulled: ten years.
const LONGEST: i64 = 3660;
/// Rows that one cluster may fill; then the oldest go.
const MOST: i64 = 200_000;

impl Store {
    /// Notes what was seen. It may be lost with the machine: it is seen again.
    pub async fn saw(&self, seen: Vec<SeenWorkload>) -> Result<(), StoreError> {
        self.records
            .jot(move |connection| {
                let mut add = connection.prepare_cached(
                    "INSERT INTO sightings
                       (cluster, namespace, workload, repository, selector, digest, how, last, first)
                     VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $8)
                     ON CONFLICT (cluster, namespace, workload, repository, selector, how) DO UPDATE SET
                       digest = CASE excluded.digest WHEN '' THEN sightings.digest ELSE excluded.digest END,
                       first = CASE WHEN excluded.digest IN ('', sightings.digest) THEN sightings.first
                         ELSE excluded.first END,
                       last = CASE WHEN sightings.last > excluded.last THEN sightings.last
                         ELSE excluded.last END",
                )?;
                let mut clusters = std::collections::BTreeSet::new();
                for one in &seen {
                    clusters.insert(one.cluster.as_str());
                    add.execute(params![
                        one.cluster,
                        one.namespace,
                        one.workload,
                        one.repository,
                        one.selector,
                        one.digest,
                        one.how.word(),
                        one.last,
                    ])?;
                }
                for cluster in clusters {
                    let held: i64 = connection
                        .prepare_cached("SELECT COUNT(*) FROM sightings WHERE cluster = $1")?
                        .query_row(params![cluster], |row| row.get(0))?;
                    if held > MOST {
                        connection
                            .prepare_cached(
                                "DELETE FROM sightings WHERE cluster = $1 AND last <=
                                   (SELECT last FROM sightings WHERE cluster = $1
                                    ORDER BY last LIMIT 1 OFFSET $2)",
                            )?
                            .execute(params![cluster, held - MOST])?;
                    }
                }
                Ok(())
            })
            .await
    }

    /// Goes through what was seen since a time; with a repository only through what is of that one, and when each cluster
    /// was looked at.
    pub async fn fold_sightings<T: Send + 'static>(
        &self,
        since: i64,
        repository: Option<RepositoryName>,
        mut state: T,
        mut fold: impl FnMut(&mut T, SeenWorkload) + Send + 'static,
    ) -> Result<T, StoreError> {
        self.records
            .read(move |connection| {
                let mut rows = connection.prepare_cached(
                    "SELECT cluster, namespace, workload, repository, selector, digest, how, last, first
                     FROM sightings WHERE last >= $1
                     AND ($2 IS NULL OR repository = $2 OR repository = '')",
                )?;
                let name = repository.as_ref().map(RepositoryName::as_str);
                let mut rows = rows.query(params![since, name])?;
                while let Some(row) = &rows.next()? {
                    let how: String = row.get(6)?;
                    let seen = SeenWorkload {
                        cluster: row.get(0)?,
                        namespace: row.get(1)?,
                        workload: row.get(2)?,
                        repository: row.get(3)?,
                        selector: row.get(4)?,
                        digest: row.get(5)?,
                        how: SeenBy::of(&how).unwrap_or(SeenBy::Door),
                        first: Some(row.get(8)?).filter(|first| *first > 0),
                        last: row.get(7)?,
                    };
                    fold(&mut state, seen);
                }
                Ok(state)
            })
            .await
    }

    /// Whether a cluster was recorded to pull one of these contents of a repository since then, or was seen to run it.
    pub async fn is_used_by(
        &self,
        cluster: &str,
        repository: &RepositoryName,
        contents: Vec<Digest>,
        since: i64,
    ) -> Result<bool, StoreError> {
        let (cluster, repository) = (cluster.to_owned(), repository.to_string());
        self.records
            .read(move |connection| {
                let mut seen = connection.prepare_cached(
                    "SELECT 1 FROM sightings
                     WHERE repository = $1 AND cluster = $2 AND digest = $3 AND last >= $4",
                )?;
                for content in &contents {
                    if seen.exists(params![repository, cluster, content.as_str(), since])? {
                        return Ok(true);
                    }
                }
                // A day's pulls of one who lie together by what makes them one line, so that no other's are read.
                let mut pulled = connection.prepare_cached(
                    "WITH RECURSIVE days (day) AS (
                       SELECT CAST($1 AS BIGINT) UNION ALL SELECT day + 1 FROM days WHERE day < $2)
                     SELECT DISTINCT r.text FROM days d JOIN record r
                       ON (r.same >= 'pull|' || CAST(d.day AS TEXT) || '|' || $3 || '/'
                         AND r.same < 'pull|' || CAST(d.day AS TEXT) || '|' || $3 || '}')
                     WHERE r.kind = 'pull' AND r.last >= $4
                       AND (r.who = $3 OR substr(r.who, 1, length($3) + 1) = $3 || '/')
                       AND substr(r.reference, 1, length($5)) = $5
                       AND substr(r.reference, length($5) + 1, 1) IN ('@', ':')",
                )?;
                let today = now().div_euclid(DAY);
                let first = since.div_euclid(DAY).max(today - LONGEST);
                let mut rows = pulled.query(params![first, today, cluster, since, repository])?;
                while let Some(row) = &rows.next()? {
                    let digest: String = row.get(0)?;
                    if contents.iter().any(|content| content.as_str() == digest) {
                        return Ok(true);
                    }
                }
                Ok(false)
            })
            .await
    }

    /// Forgets what was seen last before a time.
    pub async fn forget_sightings(&self, before: i64) -> Result<(), StoreError> {
        self.records
            .jot(move |connection| {
                connection
                    .prepare_cached("DELETE FROM sightings WHERE last < $1")?
                    .execute(params![before])
                    .map(drop)
            })
            .await
    }
}
