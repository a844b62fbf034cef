//! Who else serves the same records, and by which configuration.

use std::time::Duration;

use crate::error::StoreError;
use crate::sql::{Connection, Dialect, params};
use crate::store::Store;

/// What the marks of larders that serve begin with.
pub(super) const SERVES: &str = "serves/";
/// Who has not spoken for so long does not serve any more.
const SILENT: i64 = 60_000;
/// Who has not spoken for so long is forgotten.
const GONE: i64 = 24 * 3_600_000;

/// A larder that serves the same records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Peer {
    /// Its machine and port.
    pub name: String,
    /// What of its configuration should be the same at all of them, in short.
    pub configuration: String,
    /// Its program's version.
    pub version: String,
    /// For how long it has not spoken.
    pub silent: Duration,
}

fn peers(connection: &Connection) -> crate::sql::Result<Vec<Peer>> {
    let now = connection.now()?;
    let found: Vec<(String, String, i64)> = connection
        .prepare_cached(
            "SELECT name, value, at FROM marks
             WHERE substr(name, 1, length($1)) = $1 AND at > $2 ORDER BY name",
        )?
        .query_map(params![SERVES, now - SILENT], |row| {
            Ok((row.get(0)?, row.get(1)?, row.get(2)?))
        })?
        .collect::<crate::sql::Result<_>>()?;
    let peer = |(name, value, at): (String, String, i64)| {
        let (configuration, version) = value.split_once(' ').unwrap_or((&value, ""));
        Peer {
            name: name.trim_start_matches(SERVES).to_owned(),
            configuration: configuration.to_owned(),
            version: version.to_owned(),
            silent: Duration::from_millis(u64::try_from(now - at).unwrap_or_default()),
        }
    };
    Ok(found.into_iter().map(peer).collect())
}

impl Store {
    /// Whether several larders can serve it at once.
    pub fn is_shared(&self) -> bool {
        self.records.is_watched()
    }

    /// Says that a larder serves, and by which configuration; gives all that do.
    pub async fn announce(
        &self,
        name: &str,
        configuration: &str,
        version: &str,
    ) -> Result<Vec<Peer>, StoreError> {
        let (name, value) = (format!("{SERVES}{name}"), format!("{configuration} {version}"));
        self.records
            .jot(move |connection| {
                let now = connection.now()?;
                connection.execute(
                    "INSERT INTO marks (name, value, at) VALUES ($1, $2, $3)
                     ON CONFLICT (name) DO UPDATE SET value = excluded.value, at = excluded.at",
                    params![name, value, now],
                )?;
                connection.execute(
                    "DELETE FROM marks WHERE substr(name, 1, length($1)) = $1 AND at < $2",
                    params![SERVES, now - GONE],
                )?;
                peers(connection)
            })
            .await
    }

    /// The larders that serve it.
    pub async fn peers(&self) -> Result<Vec<Peer>, StoreError> {
        self.records.read(peers).await
    }

    /// Says that a larder serves no more.
    pub async fn depart(&self, name: &str) -> Result<(), StoreError> {
        self.remove_mark(&format!("{SERVES}{name}")).await.map(drop)
    }

    /// By how many milliseconds the clock of this machine is ahead of the records', and their server's version. None: they
    /// are in a file.
    pub async fn records_server(&self) -> Result<Option<(i64, String)>, StoreError> {
        self.records
            .read(|connection| {
                if connection.dialect() == Dialect::Sqlite {
                    return Ok(None);
                }
                // The first question prepares the second.
                connection.now()?;
                let before = crate::clock::now();
                let theirs = connection.now()?;
                let ours = before + (crate::clock::now() - before) / 2;
                let version =
                    connection.query_row("SHOW server_version", [], |row| row.get::<String>(0))?;
                Ok(Some((ours - theirs, version)))
            })
            .await
    }
}
