//! Contents: a digest names a row, the row names an object, and an object is never written twice.

use std::ops::Range;

use crate::sql::{Connection, Optional as _, Row, params};
use larder_core::access::possession::{Proof, may_have};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;

use super::leavings::leave;
use super::ledger::{link, link_of};
use super::{checked, signed, unsigned};
use crate::blobs::{BlobReader, UploadId};
use crate::clock::now;
use crate::error::StoreError;
use crate::leases::Lease;
use crate::local::{BlobWriter, SealedContent};
use crate::store::Store;

/// Blobs that are freed in one change: each holds up other writers.
pub(super) const FREED_TOGETHER: usize = 256;

/// A blob as its row tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredBlob {
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// Whether it was found damaged, and is not given out.
    pub damaged: bool,
    pub(crate) place: String,
}

pub(super) fn stored(row: &Row<'_>) -> crate::sql::Result<StoredBlob> {
    Ok(StoredBlob {
        digest: checked(row, 0)?,
        size: unsigned(row, 1)?,
        place: row.get(2)?,
        damaged: row.get::<String>(3)? == "damaged",
    })
}

/// Names the object of a content that has just been sealed. Gives the object that was its before, which nobody names
/// any more.
fn keep(
    connection: &Connection,
    sealed: &SealedContent,
    at: i64,
) -> crate::sql::Result<Option<String>> {
    let digest = sealed.digest.as_str();
    let before: Option<String> = connection
        .prepare_cached("SELECT place FROM contents WHERE digest = $1 AND place <> $2")?
        .query_row(params![digest, sealed.place], |row| row.get(0))
        .optional()?;
    connection
        .prepare_cached(
            "INSERT INTO contents (digest, size, place, put_at, state, links)
             VALUES ($1, $2, $3, $4, 'here', 0)
             ON CONFLICT (digest) DO UPDATE SET
               place = excluded.place, put_at = excluded.put_at, state = 'here'",
        )?
        .execute(params![digest, signed(sealed.size), sealed.place, at])?;
    let noted = connection
        .prepare_cached("DELETE FROM leavings WHERE place = $1")?
        .execute(params![sealed.place])?;
    if noted == 0 && !sealed.is_held() {
        // Somebody took it for what was left behind, because we were held up for so long: it has gone, or goes.
        return Err(crate::sql::Error::Lost);
    }
    if let Some(before) = &before {
        leave(connection, before, at)?;
    }
    Ok(before)
}

/// The digest that the name of a place says. None: it says none.
pub(super) fn digest_of(place: &str) -> Option<Digest> {
    let mut parts = place.split('/').skip(1);
    let (algorithm, name) = (parts.next()?, parts.nth(1)?);
    format!("{algorithm}:{}", name.split('.').next()?).parse().ok()
}

/// Contents: what the store has of bytes, whichever repositories have it.
///
/// - A blob is there whole and verified, or it is not there: nobody reads a part of one.
/// - What was answered for survives the end of the process and of the machine.
/// - Writing the same content twice, also at the same time, is fine and gives one blob, which is that of the last of
///   them.
/// - A reader that has begun gets all its bytes, even when the blob is removed meanwhile.
impl Store {
    /// The size in bytes of a blob or manifest, whichever repository has it. None: it is not there.
    pub async fn size(&self, digest: &Digest) -> Result<Option<u64>, StoreError> {
        let digest = digest.clone();
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT size FROM contents WHERE digest = $1 AND state <> 'damaged'
                         UNION ALL SELECT length(body) FROM bodies WHERE digest = $1 LIMIT 1",
                    )?
                    .query_row(params![digest.as_str()], |row| unsigned(row, 0))
                    .optional()
            })
            .await
    }

    /// The same, as the disk has it: for callers that have reason to doubt what is recorded.
    pub async fn size_on_disk(&self, digest: &Digest) -> Result<Option<u64>, StoreError> {
        match self.found(digest).await? {
            Some(found) => self.objects.size(&found.place).await,
            None => Ok(self.body(digest).await?.map(|body| body.len() as u64)),
        }
    }

    async fn found(&self, digest: &Digest) -> Result<Option<StoredBlob>, StoreError> {
        let digest = digest.clone();
        self.records
            .read(move |connection| {
                connection
                    .prepare_cached(
                        "SELECT digest, size, place, state FROM contents
                         WHERE digest = $1 AND state <> 'damaged'",
                    )?
                    .query_row(params![digest.as_str()], stored)
                    .optional()
            })
            .await
    }

    /// Opens a range of a blob or manifest, which must lie within its size.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when it is not there.
    pub async fn read(&self, digest: &Digest, range: Range<u64>) -> Result<BlobReader, StoreError> {
        let absent = || StoreError::NotFound(digest.to_string());
        if let Some(place) = self.places.get(digest) {
            match self.objects.read(&place, range.clone()).await {
                // It has another object by now, or none.
                Err(StoreError::NotFound(_)) => self.places.forget(digest),
                read => return read,
            }
        }
        let mut tried = String::new();
        loop {
            let Some(found) = self.found(digest).await? else {
                let body = self.body(digest).await?.ok_or_else(absent)?;
                let end = usize::try_from(range.end).unwrap_or(usize::MAX).min(body.len());
                let start = usize::try_from(range.start).unwrap_or(usize::MAX).min(end);
                let piece = body.slice(start..end);
                return Ok(BlobReader::new(futures_util::stream::iter([Ok(piece)])));
            };
            match self.objects.read(&found.place, range.clone()).await {
                Err(StoreError::NotFound(_)) if found.place == tried => return Err(absent()),
                // Between the two it may have come to have another one.
                Err(StoreError::NotFound(_)) => tried = found.place,
                Err(error) => return Err(error),
                Ok(reader) => {
                    self.places.keep(digest, &found.place);
                    return Ok(reader);
                }
            }
        }
    }

    /// An address at which a client gets a blob straight from the object store, without asking us again; it holds for a
    /// while, in anybody's hands. None: clients are not sent there, or it has no blob of that digest.
    #[cfg(feature = "replicas")]
    pub async fn link_to(&self, digest: &Digest) -> Result<Option<String>, StoreError> {
        if !self.objects.gives_links() {
            return Ok(None);
        }
        let place = match self.places.get(digest) {
            Some(place) => place.to_string(),
            None => match self.found(digest).await? {
                Some(found) => found.place,
                None => return Ok(None),
            },
        };
        self.objects.link_to(&place).await
    }

    /// Makes a finished upload a blob of the repository and gives its size in bytes. The upload ends with it.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when the content has another digest; nothing of it is kept.
    pub async fn commit_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        writer: BlobWriter,
    ) -> Result<u64, StoreError> {
        self.commit(repository, digest, writer, None).await
    }

    /// The same for what was fetched under a lease.
    ///
    /// # Errors
    /// [`StoreError::Busy`] when somebody else has come to have the lease.
    pub async fn commit_fetched(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        writer: BlobWriter,
        lease: &Lease,
    ) -> Result<u64, StoreError> {
        self.commit(repository, digest, writer, Some((lease.name.clone(), lease.fence))).await
    }

    async fn commit(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        writer: BlobWriter,
        lease: Option<(String, i64)>,
    ) -> Result<u64, StoreError> {
        let upload = writer.upload();
        let sealed = match self.seal(digest, writer).await {
            Ok(sealed) => sealed,
            Err(error) => {
                if let Some(upload) = upload {
                    #[cfg(feature = "replicas")]
                    self.objects.forget_parked(upload).await?;
                    self.end_upload(upload).await?;
                }
                return Err(error);
            }
        };
        self.record_sealed(repository, sealed, upload, lease).await
    }

    async fn seal(&self, digest: &Digest, writer: BlobWriter) -> Result<SealedContent, StoreError> {
        let place = self.fresh_place(digest).await?;
        let sealing = Box::pin(self.objects.seal(digest, writer, place.clone()));
        let sealed = self.while_noted(&place, sealing).await;
        if sealed.is_err() {
            self.remove_leavings(vec![place]).await;
        }
        sealed
    }

    /// Records sealed content as a blob of the repository, and that its upload has ended.
    async fn record_sealed(
        &self,
        repository: &RepositoryName,
        sealed: SealedContent,
        upload: Option<UploadId>,
        lease: Option<(String, i64)>,
    ) -> Result<u64, StoreError> {
        let size = sealed.size;
        let (name, kept, bringer) = (repository.clone(), sealed.clone(), self.bringer());
        let recorded = self.records.note(move |connection| {
            let at = now();
            if let Some((name, fence)) = &lease
                && !super::leases::holds(connection, name, *fence)
                    .map_err(StoreError::ledger("record a blob"))?
            {
                return Err(StoreError::Busy(name.clone()));
            }
            let before =
                keep(connection, &kept, at).map_err(StoreError::ledger("record a blob"))?;
            link_of(connection, &name, (&kept.digest, kept.size), at, &bringer)?;
            if let Some(upload) = upload {
                super::uploads::end(connection, upload)
                    .map_err(StoreError::ledger("forget an upload"))?;
            }
            Ok(before)
        });
        let recorded = recorded.await;
        self.settle(sealed, recorded).await?;
        Ok(size)
    }

    /// Verifies finished content and keeps it without a repository: for callers that bring much that becomes visible all at
    /// once. It stays for the grace time of a collection.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when the content has another digest; nothing of it is kept.
    pub async fn keep_content(
        &self,
        digest: &Digest,
        writer: BlobWriter,
    ) -> Result<u64, StoreError> {
        let sealed = self.seal(digest, writer).await?;
        let (size, kept) = (sealed.size, sealed.clone());
        let recorded = self
            .records
            .note(move |connection| {
                keep(connection, &kept, now()).map_err(StoreError::ledger("record a blob"))
            })
            .await;
        self.settle(sealed, recorded).await?;
        Ok(size)
    }

    /// After content was recorded, removes the object that was its before; where it could not be recorded, its own.
    async fn settle(
        &self,
        sealed: SealedContent,
        recorded: Result<Option<String>, StoreError>,
    ) -> Result<(), StoreError> {
        match recorded {
            Ok(before) => {
                self.places.keep(&sealed.digest, &sealed.place);
                self.remove_leavings(before.into_iter().collect()).await;
                Ok(())
            }
            Err(error) => {
                // Nobody names it. Should that fail too, it is found with what is left over.
                self.remove_leavings(vec![sealed.place]).await;
                Err(error)
            }
        }
    }

    /// Keeps content that is at hand whole, and makes it a blob of the repository.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when it has another digest; nothing of it is kept.
    pub async fn put_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        content: bytes::Bytes,
    ) -> Result<(), StoreError> {
        let place = self.fresh_place(digest).await?;
        let put = Box::pin(self.objects.put(digest, content, place.clone()));
        let sealed = match self.while_noted(&place, put).await {
            Ok(sealed) => sealed,
            Err(error) => {
                self.remove_leavings(vec![place]).await;
                return Err(error);
            }
        };
        self.record_sealed(repository, sealed, None, None).await.map(drop)
    }

    /// Gives the repository a blob that the store holds already, and which is said to have so many bytes, if
    /// [`may_have`] says so. False: it does not, or the store does not hold it.
    pub async fn share_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
        said: Option<u64>,
        proof: Proof,
    ) -> Result<bool, StoreError> {
        let Some(size) = self.size(digest).await? else { return Ok(false) };
        if may_have(size, said, Some(proof)).is_err() {
            return Ok(false);
        }
        let (name, digest, bringer) = (repository.clone(), digest.clone(), self.bringer());
        let shared = self
            .records
            .note(move |connection| link(connection, &name, &digest, now(), &bringer))
            .await;
        match shared {
            Ok(_) => Ok(true),
            // It went away just now.
            Err(StoreError::Vanished(_)) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Keeps the blobs of a repository from being collected that no manifest needs yet, because somebody has just been
    /// told that they are here. Once an hour is enough.
    pub async fn renew(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<(), StoreError> {
        const EACH: i64 = 3_600_000;
        let (name, digest) = (repository.clone(), digest.clone());
        let before = now() - EACH;
        let asked = (name.clone(), digest.clone());
        let is_old = self.records.read(move |connection| {
            super::any(
                connection,
                "SELECT 1 FROM blobs b JOIN repositories r ON r.id = b.repository
                 WHERE r.name = $1 AND b.digest = $2 AND b.users = 0 AND b.idle < $3",
                params![asked.0.as_str(), asked.1.as_str(), before],
            )
        });
        if !is_old.await? {
            return Ok(());
        }
        let bringer = self.bringer();
        self.records
            .note(move |connection| link(connection, &name, &digest, now(), &bringer).map(drop))
            .await
    }

    /// At most `limit` blobs after `after`, sorted by digest, the damaged too.
    pub async fn stored_after(
        &self,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<StoredBlob>, StoreError> {
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT digest, size, place, state FROM contents
                         WHERE digest > $1 ORDER BY digest LIMIT $2",
                (after, limit),
                stored,
            )
            .await
    }

    /// How many blobs and bodies of manifests there are, and their bytes together.
    pub async fn extent(&self) -> Result<(u64, u64), StoreError> {
        self.records
            .read(|connection| {
                connection.query_row(
                    "SELECT (SELECT COUNT(*) FROM contents) + t.manifests,
                       t.bytes + (SELECT COALESCE(SUM(size), 0) FROM contents WHERE links = 0)
                     FROM totals t WHERE t.shelf = ''",
                    [],
                    |row| Ok((unsigned(row, 0)?, unsigned(row, 1)?)),
                )
            })
            .await
    }

    /// Opens what a row named when it was read, whatever it names by now.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when nothing lies there.
    pub async fn read_stored(&self, stored: &StoredBlob) -> Result<BlobReader, StoreError> {
        self.objects.read(&stored.place, 0..stored.size).await
    }

    /// The size that an object has on the disk. None: it is not there.
    pub async fn object_size(&self, stored: &StoredBlob) -> Result<Option<u64>, StoreError> {
        self.objects.size(&stored.place).await
    }

    /// Whether a blob still has the object that its row named.
    pub async fn is_still(&self, stored: &StoredBlob) -> Result<bool, StoreError> {
        let (digest, place) = (stored.digest.to_string(), stored.place.clone());
        self.records
            .read(move |connection| {
                super::any(
                    connection,
                    "SELECT 1 FROM contents WHERE digest = $1 AND place = $2",
                    params![digest, place],
                )
            })
            .await
    }

    /// Takes a blob out of use because the object that its row named is not what its digest says, and keeps the bytes
    /// aside for somebody to look at. False: it has another object by now, and stays.
    pub async fn condemn_damaged(&self, stored: &StoredBlob) -> Result<bool, StoreError> {
        let (digest, place) = (stored.digest.to_string(), stored.place.clone());
        let marked = self.records.note(move |connection| {
            connection
                .prepare_cached(
                    "UPDATE contents SET state = 'damaged' WHERE digest = $1 AND place = $2",
                )
                .and_then(|mut mark| mark.execute(params![digest, place]))
                .map(|changed| changed > 0)
                .map_err(StoreError::ledger("record what is damaged"))
        });
        let marked = marked.await?;
        if marked {
            self.places.forget(&stored.digest);
        }
        Ok(marked)
    }

    /// Moves the bytes of a blob that was found damaged aside, and tells where. None: they are not there.
    pub async fn set_aside(&self, stored: &StoredBlob) -> Result<Option<String>, StoreError> {
        self.objects.set_aside(&stored.digest, &stored.place).await
    }

    /// Writes to the store and removes it again: whether it can be written.
    pub async fn probe(&self) -> Result<(), StoreError> {
        let mut writer = self.objects.write_once(crate::blobs::Purpose::Read).await?;
        writer.write(bytes::Bytes::from_static(b"ready?")).await?;
        // Nobody can take it up again, so nothing of it is kept.
        writer.park().await.map(drop)
    }

    /// How many bytes the whole disk has. None: nobody knows.
    pub async fn capacity(&self) -> Result<Option<u64>, StoreError> {
        self.objects.capacity().await
    }

    /// How many bytes can still be written. None: nobody knows.
    pub async fn room(&self) -> Result<Option<u64>, StoreError> {
        self.objects.room().await
    }
}
