//! Uploads that are not finished: whose they are, and what they are of.

#[cfg(feature = "replicas")]
use std::collections::HashSet;
use std::time::Duration;

use crate::sql::{Connection, Optional as _, params};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;

use super::{any, checked};
use crate::blobs::{Purpose, UploadId};
use crate::clock::now;
use crate::error::StoreError;
use crate::local::BlobWriter;
use crate::store::Store;

/// Uploads that were given up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AbandonedUploads {
    pub uploads: usize,
    /// Their bytes together.
    pub bytes: u64,
}

/// Who writes to an upload that several machines may go on with has this lease.
#[cfg(feature = "replicas")]
fn lease_of(id: UploadId) -> String {
    format!("upload/{id}")
}

/// Forgets an upload.
pub(super) fn end(connection: &Connection, id: UploadId) -> crate::sql::Result<()> {
    connection
        .prepare_cached("DELETE FROM uploads WHERE id = $1")?
        .execute(params![id.to_string()])
        .map(drop)
}

/// Uploads: each belongs to a repository and an account, and nobody else sees, continues, finishes or ends it. One has
/// one writer at a time, whichever process that is in. One that was parked, or whose process ended, can be taken up
/// again at the offset that [`BlobWriter::offset`] gives.
impl Store {
    /// Opens an upload of somebody with nothing in it. None: that one has `most` open already.
    pub async fn begin_upload(
        &self,
        repository: &RepositoryName,
        account: &str,
        most: usize,
    ) -> Result<Option<UploadId>, StoreError> {
        let id = UploadId::fresh();
        let (name, account) = (repository.clone(), account.to_owned());
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let added = self.records.note(move |connection| {
            connection
                .prepare_cached(
                    "INSERT INTO uploads (id, repository, account, begun)
                     SELECT $1, $2, $3, $4
                     WHERE (SELECT COUNT(*) FROM uploads WHERE account = $3) < $5",
                )
                .and_then(|mut add| {
                    add.execute(params![id.to_string(), name.as_str(), account, now(), most])
                })
                .map(|added| added > 0)
                .map_err(StoreError::ledger("record an upload"))
        });
        if !added.await? {
            return Ok(None);
        }
        if let Err(error) = self.objects.begin(id).await {
            self.end_upload(id).await?;
            return Err(error);
        }
        Ok(Some(id))
    }

    /// Opens an upload of a blob that is fetched for a repository, so that the next fetch can resume it.
    pub async fn begin_fetch(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<UploadId, StoreError> {
        let id = UploadId::fresh();
        self.objects.begin(id).await?;
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .jot(move |connection| {
                connection
                    .prepare_cached(
                        "INSERT INTO uploads (id, repository, account, begun, digest)
                         VALUES ($1, $2, '', $3, $4)",
                    )?
                    .execute(params![id.to_string(), name.as_str(), now(), digest.as_str()])
                    .map(drop)
            })
            .await?;
        Ok(id)
    }

    /// The upload that holds a part of a blob, as this repository of an upstream gave it: another one has not given it.
    /// None: there is none.
    pub async fn fetched_part(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Option<UploadId>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT id FROM uploads WHERE digest = $1 AND repository = $2
                         ORDER BY begun DESC LIMIT 1",
                    )?
                    .query_row(params![digest.as_str(), name.as_str()], |row| checked(row, 0))
                    .optional()
            })
            .await
    }

    /// Whether an upload is somebody's in a repository.
    pub async fn is_upload_of(
        &self,
        id: UploadId,
        repository: &RepositoryName,
        account: &str,
    ) -> Result<bool, StoreError> {
        let (name, account) = (repository.clone(), account.to_owned());
        self.records
            .read(move |connection| {
                any(
                    connection,
                    "SELECT 1 FROM uploads
                     WHERE id = $1 AND repository = $2 AND account = $3 AND digest IS NULL",
                    params![id.to_string(), name.as_str(), account],
                )
            })
            .await
    }

    /// The uploads of somebody that were begun before a time, in milliseconds since 1970, the oldest first.
    pub async fn uploads_before(
        &self,
        account: &str,
        at: i64,
    ) -> Result<Vec<UploadId>, StoreError> {
        let account = account.to_owned();
        self.records
            .rows(
                "SELECT id FROM uploads
                         WHERE account = $1 AND begun < $2 AND digest IS NULL ORDER BY begun",
                (account, at),
                |row| checked(row, 0),
            )
            .await
    }

    /// Takes up an upload.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn resume_upload(&self, id: UploadId) -> Result<BlobWriter, StoreError> {
        self.resume(id, Purpose::Read).await
    }

    /// The same for what comes with much else and is to be kept.
    pub async fn resume_kept(&self, id: UploadId) -> Result<BlobWriter, StoreError> {
        self.resume(id, Purpose::Keep).await
    }

    async fn resume(&self, id: UploadId, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        #[cfg(feature = "replicas")]
        if self.objects.are_elsewhere() {
            if !self.has_row(id).await? {
                return Err(StoreError::NotFound(format!("upload {id}")));
            }
            let lease = self.acquire(&lease_of(id)).await?;
            let lease = lease.ok_or_else(|| StoreError::Busy(id.to_string()))?;
            return self.objects.resume_anywhere(id, purpose, lease).await;
        }
        self.objects.resume(id, purpose).await
    }

    #[cfg(feature = "replicas")]
    async fn has_row(&self, id: UploadId) -> Result<bool, StoreError> {
        self.records
            .read(move |connection| {
                any(connection, "SELECT 1 FROM uploads WHERE id = $1", params![id.to_string()])
            })
            .await
    }

    /// Opens an upload that nobody can take up again: as soon as its writer has ended, by whatever means, without
    /// [`commit_blob`](Self::commit_blob), nothing of it is kept.
    pub async fn write_once(&self, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        self.objects.write_once(purpose).await
    }

    /// How many bytes an upload has.
    pub async fn uploaded(&self, id: UploadId) -> Result<u64, StoreError> {
        #[cfg(feature = "replicas")]
        if self.objects.are_elsewhere() {
            return match self.has_row(id).await? {
                true => Ok(self.objects.parked(id).await?.0),
                false => Err(StoreError::NotFound(format!("upload {id}"))),
            };
        }
        self.objects.uploaded(id).await
    }

    /// Gives an upload up; nothing of it stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn cancel_upload(&self, id: UploadId) -> Result<(), StoreError> {
        #[cfg(feature = "replicas")]
        if self.objects.are_elsewhere() {
            return self.cancel_anywhere(id).await;
        }
        let cancelled = self.objects.cancel(id).await;
        if !matches!(cancelled, Err(StoreError::Busy(_))) {
            self.end_upload(id).await?;
        }
        cancelled
    }

    /// Gives up an upload, on whichever machine it was parked.
    #[cfg(feature = "replicas")]
    async fn cancel_anywhere(&self, id: UploadId) -> Result<(), StoreError> {
        if !self.has_row(id).await? {
            return Err(StoreError::NotFound(format!("upload {id}")));
        }
        let lease = self.acquire(&lease_of(id)).await?;
        let lease = lease.ok_or_else(|| StoreError::Busy(id.to_string()))?;
        match self.objects.cancel(id).await {
            Ok(()) | Err(StoreError::NotFound(_)) => {}
            Err(error) => return Err(error),
        }
        self.objects.forget_parked(id).await?;
        self.end_upload(id).await?;
        lease.release().await
    }

    /// The uploads that nobody has parked for `age`, with the bytes of each: of all machines.
    #[cfg(feature = "replicas")]
    async fn parked_for(&self, age: Duration) -> Result<Vec<(UploadId, u64)>, StoreError> {
        let before = now().saturating_sub(i64::try_from(age.as_millis()).unwrap_or(i64::MAX));
        let begun = "SELECT id FROM uploads WHERE begun <= $1 ORDER BY begun LIMIT 10000";
        let begun: Vec<UploadId> =
            self.records.rows(begun, (before,), |row| checked(row, 0)).await?;
        let mut old = Vec::new();
        for id in begun {
            let (bytes, parked) = self.objects.parked(id).await?;
            if parked.is_none_or(|parked| parked >= age) {
                old.push((id, bytes));
            }
        }
        Ok(old)
    }

    /// Removes what lies on this machine of uploads that have ended, wherever that was, and of those that nobody has gone on
    /// with here for a while: other machines have all that was answered for. Tells how many bytes these were.
    #[cfg(feature = "replicas")]
    pub async fn forget_copies(&self) -> Result<u64, StoreError> {
        // One that has just been begun may not be recorded yet.
        const FRESH: Duration = Duration::from_secs(10);
        const IDLE: Duration = Duration::from_secs(10 * 60);
        if !self.objects.are_elsewhere() {
            return Ok(0);
        }
        let here = self.objects.unfinished().await?;
        let ids: Vec<UploadId> =
            here.iter().filter(|one| one.idle >= FRESH).filter_map(|one| one.id).collect();
        if ids.is_empty() {
            return Ok(0);
        }
        let asked = ids.clone();
        let known: HashSet<UploadId> = self
            .records
            .read(move |connection| {
                let mut ask = connection.prepare_cached("SELECT 1 FROM uploads WHERE id = $1")?;
                let mut known = HashSet::new();
                for id in asked {
                    if ask.exists(params![id.to_string()])? {
                        known.insert(id);
                    }
                }
                Ok(known)
            })
            .await?;
        let mut bytes = 0;
        for one in here.iter().filter(|one| one.idle >= FRESH) {
            let Some(id) = one.id.filter(|id| one.idle >= IDLE || !known.contains(id)) else {
                continue;
            };
            match self.objects.cancel(id).await {
                Ok(()) => bytes += one.bytes,
                // Somebody writes to it, or it has just ended.
                Err(StoreError::Busy(_) | StoreError::NotFound(_)) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(bytes)
    }

    /// Gives up what nobody goes on with, on whichever machine it was begun, and what this machine has left.
    #[cfg(feature = "replicas")]
    async fn remove_abandoned_anywhere(
        &self,
        age: Duration,
    ) -> Result<AbandonedUploads, StoreError> {
        self.own_objects().await?;
        let here = self.objects.remove_abandoned(age).await?;
        let mut gone = AbandonedUploads::default();
        // What has a name here is a copy of what was parked, or was never answered for.
        for one in here.iter().filter(|one| one.id.is_none()) {
            (gone.uploads, gone.bytes) = (gone.uploads + 1, gone.bytes + one.bytes);
        }
        for (id, bytes) in self.parked_for(age).await? {
            match self.cancel_anywhere(id).await {
                Ok(()) => (gone.uploads, gone.bytes) = (gone.uploads + 1, gone.bytes + bytes),
                // Somebody writes to it, or was quicker.
                Err(StoreError::Busy(_) | StoreError::NotFound(_)) => {}
                Err(error) => return Err(error),
            }
        }
        self.finish_removals().await?;
        self.give_up_parts(age).await?;
        Ok(gone)
    }

    /// Removes the parts of what nobody goes on writing to the object store, whoever began it.
    #[cfg(feature = "replicas")]
    async fn give_up_parts(&self, age: Duration) -> Result<(), StoreError> {
        for (place, begun) in self.objects.begun(age).await? {
            // Pieces of an upload are parked by who has its lease; everything else is noted while it is written.
            let mut parts = place.split('/');
            let upload = parts.next().filter(|first| *first == "uploads").and(parts.next());
            let lease = match upload.and_then(|id| id.parse::<UploadId>().ok()) {
                Some(id) => match self.acquire(&lease_of(id)).await? {
                    Some(lease) => Some(lease),
                    None => continue,
                },
                None if self.is_noted(&place).await? => continue,
                None => None,
            };
            if let Err(error) = self.objects.give_up(&begun).await {
                tracing::warn!(%error, "parts that nobody completes stay for now");
            }
            if let Some(lease) = lease {
                lease.release().await?;
            }
        }
        Ok(())
    }

    /// Forgets an upload: it has ended, in whichever way.
    pub(crate) async fn end_upload(&self, id: UploadId) -> Result<(), StoreError> {
        self.records.jot(move |connection| end(connection, id)).await
    }

    /// Gives up uploads that nobody has written to for `age`, whichever process began them, and those that nobody can
    /// take up again and whose process has ended, whatever their age; and removes what such a process wrote and could not
    /// record.
    pub async fn remove_abandoned(&self, age: Duration) -> Result<AbandonedUploads, StoreError> {
        #[cfg(feature = "replicas")]
        if self.objects.are_elsewhere() {
            return self.remove_abandoned_anywhere(age).await;
        }
        let gone = self.objects.remove_abandoned(age).await?;
        let ids: Vec<UploadId> = gone.iter().filter_map(|one| one.id).collect();
        self.records
            .jot(move |connection| ids.iter().try_for_each(|id| end(connection, *id)))
            .await?;
        self.forget_ended(age).await?;
        self.finish_removals().await?;
        Ok(AbandonedUploads { uploads: gone.len(), bytes: gone.iter().map(|one| one.bytes).sum() })
    }

    /// What [`remove_abandoned`](Self::remove_abandoned) would give up now, and what there is in all.
    pub async fn unfinished(
        &self,
        age: Duration,
    ) -> Result<(AbandonedUploads, AbandonedUploads), StoreError> {
        #[cfg(feature = "replicas")]
        if self.objects.are_elsewhere() {
            let sum = |all: Vec<(UploadId, u64)>| AbandonedUploads {
                uploads: all.len(),
                bytes: all.iter().map(|(_, bytes)| bytes).sum(),
            };
            let (old, all) = (self.parked_for(age).await?, self.parked_for(Duration::ZERO).await?);
            return Ok((sum(old), sum(all)));
        }
        let all = self.objects.unfinished().await?;
        let sum = |all: &mut dyn Iterator<Item = u64>| {
            all.fold(AbandonedUploads::default(), |sum, bytes| AbandonedUploads {
                uploads: sum.uploads + 1,
                bytes: sum.bytes + bytes,
            })
        };
        let old = all.iter().filter(|one| one.id.is_some() && one.idle >= age);
        Ok((sum(&mut old.map(|one| one.bytes)), sum(&mut all.iter().map(|one| one.bytes))))
    }

    /// Forgets the rows of uploads whose bytes are gone: what is older than this and not there has ended.
    async fn forget_ended(&self, age: Duration) -> Result<(), StoreError> {
        // One that is just being begun has no bytes yet.
        let age = age.max(Duration::from_secs(60));
        let before = now().saturating_sub(i64::try_from(age.as_millis()).unwrap_or(i64::MAX));
        let old: Vec<UploadId> = self
            .records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT id FROM uploads WHERE begun < $1 ORDER BY begun LIMIT 10000",
                    )?
                    .query_map(params![before], |row| checked(row, 0))?
                    .collect()
            })
            .await?;
        for id in old {
            if let Err(StoreError::NotFound(_)) = self.objects.uploaded(id).await {
                self.end_upload(id).await?;
            }
        }
        Ok(())
    }
}
