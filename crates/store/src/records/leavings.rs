//! Leavings: objects that no row names and that are to be removed, and those that are just being written.
//!
//! Who writes notes its place first, so that what it leaves behind when it is killed is found. Who records takes the note
//! away in the same change; who removes does so too: of the two only one can.

use std::future::Future;
use std::time::Duration;

use larder_core::digest::Digest;

#[cfg(feature = "replicas")]
use super::any;
use super::contents::digest_of;
use crate::error::StoreError;
use crate::local::UploadHolder;
use crate::sql::{Connection, params};
use crate::store::Store;

/// Who has noted a place within this time may be writing there, in milliseconds.
const MOMENT: i64 = 120_000;
/// How often it is noted again meanwhile.
const NOTED_EACH: Duration = Duration::from_secs(20);

/// Notes that an object is to be removed.
pub(super) fn leave(connection: &Connection, place: &str, at: i64) -> crate::sql::Result<()> {
    connection
        .prepare_cached(
            "INSERT INTO leavings (place, at) VALUES ($1, $2) ON CONFLICT (place) DO NOTHING",
        )?
        .execute(params![place, at])
        .map(drop)
}

impl Store {
    /// A place for new content. It is noted beforehand as one whose object is to be removed, and not any more once that is
    /// recorded: so nothing is left of a process that is killed in between.
    pub(super) async fn fresh_place(&self, digest: &Digest) -> Result<String, StoreError> {
        let place = self.objects.fresh_place(digest);
        let noted = place.clone();
        self.records
            .state(move |connection| {
                let now = connection.now_text();
                let sql = format!("INSERT INTO leavings (place, at) VALUES ($1, {now})");
                connection.execute(&sql, params![noted]).map(drop)
            })
            .await?;
        Ok(place)
    }

    /// Waits for something to be written to a place, which stays noted meanwhile: what is noted no more was taken for
    /// abandoned.
    pub(super) async fn while_noted<T>(
        &self,
        place: &str,
        writing: impl Future<Output = Result<T, StoreError>>,
    ) -> Result<T, StoreError> {
        let noting = async {
            loop {
                tokio::time::sleep(NOTED_EACH).await;
                let place = place.to_owned();
                let noted = self.records.state(move |connection| {
                    let now = connection.now_text();
                    let sql = format!("UPDATE leavings SET at = {now} WHERE place = $1");
                    connection.execute(&sql, params![place])
                });
                if let Err(error) = noted.await {
                    tracing::debug!(%error, "what is being written could not be noted again");
                }
            }
        };
        tokio::select! {
            written = writing => written,
            () = noting => Err(StoreError::Closed),
        }
    }

    /// Removes objects that no row names, and forgets that they were to be removed. What cannot be removed now is tried
    /// again later.
    pub(crate) async fn remove_leavings(&self, places: Vec<String>) {
        if places.is_empty() {
            return;
        }
        let removed = async {
            self.objects.remove(places.clone()).await?;
            self.remove_notes(places).await
        };
        if let Err(error) = removed.await {
            tracing::warn!(%error, "what nothing names could not be removed; it is tried again");
        }
    }

    /// Whether a place is noted by somebody who writes there now.
    #[cfg(feature = "replicas")]
    pub(super) async fn is_noted(&self, place: &str) -> Result<bool, StoreError> {
        let place = place.to_owned();
        self.records
            .read(move |connection| {
                let since = connection.now()? - MOMENT;
                let sql = "SELECT 1 FROM leavings WHERE place = $1 AND at > $2";
                any(connection, sql, params![place, since])
            })
            .await
    }

    /// Removes what an earlier process was about to remove, or wrote and could not record, and tells how many objects
    /// these were.
    pub async fn finish_removals(&self) -> Result<usize, StoreError> {
        // Whether it is so old that its writer, if it had one, is gone.
        let noted: Vec<(String, bool)> = self
            .records
            .read(|connection| {
                let before = connection.now()? - MOMENT;
                connection
                    .prepare_cached("SELECT place, at FROM leavings ORDER BY at LIMIT 10000")?
                    .query_map([], |row| Ok((row.get(0)?, row.get::<i64>(1)? <= before)))?
                    .collect()
            })
            .await?;
        let (mut gone, mut removed) = (Vec::new(), 0);
        for (place, is_old) in noted {
            match self.objects.hold(&place).await? {
                // Its next writer has noted it just now.
                UploadHolder::Nothing if !is_old => {}
                UploadHolder::Nothing => gone.push(place),
                UploadHolder::Theirs => {}
                UploadHolder::Ours(_) if self.objects.are_elsewhere() => {
                    // Whoever is about to record it finds its note gone, and does not.
                    if is_old && self.claim_leaving(&place).await? {
                        self.objects.remove(vec![place]).await?;
                        removed += 1;
                    }
                }
                UploadHolder::Ours(_held) => {
                    if !self.is_place_named(&place).await? {
                        self.objects.remove(vec![place.clone()]).await?;
                        removed += 1;
                    }
                    gone.push(place);
                }
            }
        }
        self.remove_notes(gone).await?;
        Ok(removed)
    }

    async fn remove_notes(&self, places: Vec<String>) -> Result<(), StoreError> {
        if places.is_empty() {
            return Ok(());
        }
        self.records
            .state(move |connection| {
                let gone = "DELETE FROM leavings WHERE place = $1";
                let mut gone = connection.prepare_cached(gone)?;
                places.iter().try_for_each(|place| gone.execute(params![place]).map(drop))
            })
            .await
    }

    /// Takes the note of an object that is to be removed, unless a row has come to name the object.
    async fn claim_leaving(&self, place: &str) -> Result<bool, StoreError> {
        let (place, digest) = (place.to_owned(), digest_of(place));
        let digest = digest.map(|digest| digest.to_string());
        self.records
            .note(move |connection| {
                let claim = "DELETE FROM leavings WHERE place = $1 AND NOT EXISTS
                    (SELECT 1 FROM contents WHERE digest = $2 AND place = $1)";
                let claimed = connection.prepare_cached(claim);
                claimed
                    .and_then(|mut claim| claim.execute(params![place, digest]))
                    .map(|claimed| claimed > 0)
                    .map_err(StoreError::ledger("note what is removed"))
            })
            .await
    }

    async fn is_place_named(&self, place: &str) -> Result<bool, StoreError> {
        match digest_of(place) {
            Some(digest) => self.is_named(place, &digest).await,
            None => Ok(false),
        }
    }
}
