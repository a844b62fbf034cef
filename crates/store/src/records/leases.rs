//! The records of leases.

use crate::sql::{Connection, Dialect, Optional as _, params};

use crate::clock::now;
use crate::error::StoreError;
use crate::leases::{Lease, TERM, is_alive};
use crate::store::Store;

fn term() -> i64 {
    i64::try_from(TERM.as_millis()).unwrap_or(i64::MAX)
}

/// Whether a lease is still its holder's: asked within each change that is made under it.
pub(super) fn holds(connection: &Connection, name: &str, fence: i64) -> crate::sql::Result<bool> {
    super::any(
        connection,
        "SELECT 1 FROM leases WHERE name = $1 AND fence = $2 AND until > 0",
        params![name, fence],
    )
}

/// Leases: names of what only one at a time does, whichever process that is in.
impl Store {
    /// Takes a lease. None: somebody else has it.
    pub async fn acquire(&self, name: &str) -> Result<Option<Lease>, StoreError> {
        let root = self.root.clone();
        let process = self.presence.name(&root)?;
        // An attempt holds it, not a process.
        let holder = format!("{process}/{}", uuid::Uuid::now_v7().simple());
        let asked = name.to_owned();
        let fence = self.records.jot(move |connection| {
            let held: Option<(String, i64)> = connection
                .prepare_cached("SELECT holder, until FROM leases WHERE name = $1")?
                .query_row(params![asked], |row| Ok((row.get(0)?, row.get(1)?)))
                .optional()?;
            let now = connection.now()?;
            let is_alive = |holder: &str| match connection.dialect() {
                // A process of this machine shows that it lives.
                Dialect::Sqlite => is_alive(&root, holder.split('/').next().unwrap_or_default()),
                #[cfg(feature = "replicas")]
                Dialect::Postgres => true,
            };
            if let Some((holder, until)) = held
                && until > now
                && is_alive(&holder)
            {
                return Ok(None);
            }
            connection
                .prepare_cached(
                    "INSERT INTO leases (name, holder, until, fence)
                     VALUES ($1, $2, $3, (SELECT COALESCE(MAX(fence), 0) + 1 FROM leases))
                     ON CONFLICT (name) DO UPDATE SET holder = excluded.holder,
                       until = excluded.until, fence = excluded.fence
                     RETURNING fence",
                )?
                .query_row(params![asked, holder, now + term()], |row| row.get::<i64>(0))
                .map(Some)
        });
        Ok(fence.await?.map(|fence| Lease::new(name.to_owned(), fence, self.clone())))
    }

    /// False: somebody else has it by now.
    pub(crate) async fn renew_lease(&self, name: &str, fence: i64) -> Result<bool, StoreError> {
        let name = name.to_owned();
        self.records
            .jot(move |connection| {
                connection
                    .prepare_cached(
                        "UPDATE leases SET until = $1 WHERE name = $2 AND fence = $3 AND until > 0",
                    )?
                    .execute(params![connection.now()? + term(), name, fence])
                    .map(|renewed| renewed > 0)
            })
            .await
    }

    pub(crate) async fn release_lease(&self, name: &str, fence: i64) -> Result<(), StoreError> {
        let name = name.to_owned();
        self.records.jot(move |connection| release(connection, &name, fence)).await
    }

    /// The same without waiting for it.
    pub(crate) fn post_release(&self, name: &str, fence: i64) {
        let name = name.to_owned();
        self.records.post(move |connection| release(connection, &name, fence));
    }

    /// How many jobs somebody has taken on that one alone may do.
    pub async fn leases_held(&self) -> Result<u64, StoreError> {
        self.records
            .read(|connection| {
                let now = connection.now()?;
                let mut ask =
                    connection.prepare_cached("SELECT COUNT(*) FROM leases WHERE until > $1")?;
                ask.query_row(params![now], |row| row.get::<i64>(0))
            })
            .await
            .map(|count| u64::try_from(count).unwrap_or(0))
    }

    /// Forgets leases that ended long ago. The youngest stays, so that fences go on to grow.
    pub async fn forget_leases(&self) -> Result<(), StoreError> {
        self.records
            .jot(move |connection| {
                connection
                    .prepare_cached(
                        "DELETE FROM leases WHERE until < $1
                           AND fence < (SELECT MAX(fence) FROM leases)",
                    )?
                    .execute(params![now() - 24 * 3_600_000])
                    .map(drop)
            })
            .await
    }
}

fn release(connection: &Connection, name: &str, fence: i64) -> crate::sql::Result<()> {
    connection
        .prepare_cached("UPDATE leases SET until = 0 WHERE name = $1 AND fence = $2")?
        .execute(params![name, fence])
        .map(drop)
}
