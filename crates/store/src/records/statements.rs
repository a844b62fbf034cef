//! What is said of vulnerabilities, and what a feed has as a whole.

use std::collections::BTreeSet;

use larder_core::advisory::{Statement, write_openvex};

use super::advisories::inflated;
use super::rows::ask;
use crate::error::StoreError;
use crate::sql::params;
use crate::store::Store;

impl Store {
    /// Goes through what a feed has, by name: its advisories in the form of OSV, then its statements as OpenVEX, each as
    /// one line of JSON.
    pub async fn fold_feed<T: Send + 'static>(
        &self,
        feed: &str,
        mut state: T,
        mut fold: impl FnMut(&mut T, &[u8]) + Send + 'static,
    ) -> std::result::Result<T, StoreError> {
        let feed = feed.to_owned();
        self.records
            .read(move |connection| {
                let mut ask = connection
                    .prepare_cached("SELECT body FROM advisories WHERE feed = $1 ORDER BY name")?;
                let mut rows = ask.query(params![feed])?;
                while let Some(row) = &rows.next()? {
                    if let Some(json) = inflated(&row.get::<Vec<u8>>(0)?) {
                        fold(&mut state, &json);
                    }
                }
                let mut ask = connection.prepare_cached(
                    "SELECT DISTINCT vulnerability, body FROM statements WHERE feed = $1
                     ORDER BY vulnerability, body",
                )?;
                let mut rows = ask.query(params![feed])?;
                let mut seen = BTreeSet::new();
                while let Some(row) = &rows.next()? {
                    let body: Vec<u8> = row.get(1)?;
                    // It is there under each name of its vulnerability.
                    let Some(json) = inflated(&body).filter(|json| seen.insert(json.clone()))
                    else {
                        continue;
                    };
                    if let Ok(statement) = serde_json::from_slice::<Statement>(&json) {
                        fold(&mut state, write_openvex(&statement).to_string().as_bytes());
                    }
                }
                Ok(state)
            })
            .await
    }

    /// Whether any advisories were taken in.
    pub async fn has_advisories(&self) -> std::result::Result<bool, StoreError> {
        Ok(self.feeds().await?.iter().any(|feed| feed.advisories > 0))
    }

    /// Whether there are any statements.
    pub async fn has_statements(&self) -> std::result::Result<bool, StoreError> {
        let found: Vec<i64> =
            self.records.rows("SELECT 1 FROM statements LIMIT 1", (), |row| row.get(0)).await?;
        Ok(!found.is_empty())
    }

    /// Statements about vulnerabilities of these names, each with its feed and whether that is trusted, the latest last.
    pub async fn statements_about(
        &self,
        names: BTreeSet<String>,
    ) -> std::result::Result<Vec<(String, bool, Statement)>, StoreError> {
        self.records
            .read(move |connection| {
                let names: Vec<&str> = names.iter().map(String::as_str).collect();
                let sql = |places: &str| {
                    format!(
                        "SELECT s.feed, COALESCE(f.trusted, 0), s.body FROM statements s
                         LEFT JOIN feeds f ON f.name = s.feed
                         WHERE CAST($1 AS BIGINT) = 1 AND s.vulnerability IN ({places})"
                    )
                };
                let read = |row: &crate::sql::Row<'_>| {
                    Ok((row.get::<String>(0)?, row.get::<i64>(1)? != 0, row.get::<Vec<u8>>(2)?))
                };
                let found = ask(connection, sql, &1_i64, &names, read)?;
                let read = |(feed, trusted, body): (String, bool, Vec<u8>)| {
                    Some((
                        feed,
                        trusted,
                        serde_json::from_slice::<Statement>(&inflated(&body)?).ok()?,
                    ))
                };
                let mut all: Vec<(String, bool, Statement)> =
                    found.into_iter().filter_map(read).collect();
                all.sort_by(|a, b| a.2.at.cmp(&b.2.at).then_with(|| a.0.cmp(&b.0)));
                all.dedup();
                Ok(all)
            })
            .await
    }
}
