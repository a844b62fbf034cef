//! What of the content may go: blobs that nothing needs, contents without a repository, objects without a row.

use std::time::Duration;

use crate::sql::{Optional as _, params};
use larder_core::digest::Digest;

use super::contents::{FREED_TOGETHER, StoredBlob, digest_of, stored};
use super::leavings::leave;
use super::{checked, unsigned};
use crate::clock::now;
use crate::error::StoreError;
use crate::local::{BLOBS, UploadHolder};
use crate::store::Store;

impl Store {
    /// Blobs that no repository has and that came before `before`, in milliseconds since 1970: how many, and their bytes
    /// together.
    pub async fn unlinked(&self, before: i64) -> Result<(u64, u64), StoreError> {
        self.records
            .read(move |connection| {
                connection.query_row(
                    "SELECT COUNT(*), CAST(COALESCE(SUM(size), 0) AS BIGINT) FROM contents
                     WHERE links = 0 AND put_at < $1",
                    params![before],
                    |row| Ok((unsigned(row, 0)?, unsigned(row, 1)?)),
                )
            })
            .await
    }

    /// What would be freed: blobs that no repository has, or that none has needed since `before`, in milliseconds since
    /// 1970; how many, and their bytes together.
    pub async fn collectable(&self, before: i64) -> Result<(u64, u64), StoreError> {
        self.records
            .read(move |connection| {
                let (mut blobs, mut bytes) = connection.query_row(
                    "SELECT COUNT(*), CAST(COALESCE(SUM(size), 0) AS BIGINT) FROM contents
                     WHERE links = 0 AND put_at < $1",
                    params![before],
                    |row| Ok((unsigned(row, 0)?, unsigned(row, 1)?)),
                )?;
                let mut idle = connection.prepare(
                    "SELECT c.size FROM contents c JOIN
                       (SELECT digest, COUNT(*) AS links FROM blobs WHERE users = 0 AND idle < $1
                        GROUP BY digest) i ON i.digest = c.digest
                     WHERE c.links = i.links AND c.put_at < $1",
                )?;
                let mut rows = idle.query(params![before])?;
                while let Some(row) = &rows.next()? {
                    blobs += 1;
                    bytes += unsigned(row, 0)?;
                }
                Ok((blobs, bytes))
            })
            .await
    }

    /// Takes blobs out of use that no repository has and that came before `before`, in milliseconds since 1970: at most
    /// `limit`. One that is linked before it is freed comes back.
    pub async fn condemn(&self, before: i64, limit: usize) -> Result<Vec<Digest>, StoreError> {
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .note(move |connection| {
                let condemn = || -> crate::sql::Result<Vec<Digest>> {
                    connection
                        .prepare_cached(
                            "UPDATE contents SET state = 'condemned' WHERE digest IN
                               (SELECT digest FROM contents WHERE links = 0 AND put_at < $1
                                ORDER BY put_at LIMIT $2)
                             RETURNING digest",
                        )?
                        .query_map(params![before, limit], |row| checked(row, 0))?
                        .collect()
                };
                condemn().map_err(StoreError::ledger("collect"))
            })
            .await
    }

    /// Removes those of some blobs that no repository has and that came before `before`, in milliseconds since 1970; gives
    /// them, sorted, with their sizes in bytes.
    pub async fn free_unused(
        &self,
        mut digests: Vec<Digest>,
        before: i64,
    ) -> Result<Vec<(Digest, u64)>, StoreError> {
        digests.sort();
        let mut freed = Vec::new();
        for together in digests.chunks(FREED_TOGETHER) {
            let together = together.to_vec();
            let condemned = self.records.note(move |connection| {
                let condemn = || -> crate::sql::Result<Vec<Digest>> {
                    let mut condemn = connection.prepare_cached(
                        "UPDATE contents SET state = 'condemned'
                         WHERE digest = $1 AND links = 0 AND put_at < $2",
                    )?;
                    let mut condemned = Vec::new();
                    for digest in together {
                        if condemn.execute(params![digest.as_str(), before])? > 0 {
                            condemned.push(digest);
                        }
                    }
                    Ok(condemned)
                };
                condemn().map_err(StoreError::ledger("collect"))
            });
            freed.extend(self.free(condemned.await?).await?);
        }
        Ok(freed)
    }

    /// Removes condemned blobs, unless somebody has linked them meanwhile; gives them with their sizes in bytes.
    pub async fn free(&self, condemned: Vec<Digest>) -> Result<Vec<(Digest, u64)>, StoreError> {
        let gone = self.records.note(move |connection| {
            let free = || -> crate::sql::Result<Vec<StoredBlob>> {
                let mut gone = Vec::new();
                let mut remove = connection.prepare_cached(
                    "DELETE FROM contents WHERE digest = $1 AND state = 'condemned' AND links = 0
                       AND NOT EXISTS (SELECT 1 FROM blobs b WHERE b.digest = $1)
                     RETURNING digest, size, place, state",
                )?;
                for digest in &condemned {
                    if let Some(one) =
                        remove.query_row(params![digest.as_str()], stored).optional()?
                    {
                        leave(connection, &one.place, now())?;
                        gone.push(one);
                    }
                }
                Ok(gone)
            };
            free().map_err(StoreError::ledger("collect"))
        });
        let gone = gone.await?;
        for one in &gone {
            self.places.forget(&one.digest);
        }
        self.remove_leavings(gone.iter().map(|one| one.place.clone()).collect()).await;
        Ok(gone.into_iter().map(|one| (one.digest, one.size)).collect())
    }

    /// Removes objects that no row names and that were written longer than `grace` ago: what a process left that was
    /// killed between writing and recording. With `dry` it only counts them. Tells how many, and their bytes.
    pub async fn collect_strays(
        &self,
        part: u8,
        grace: Duration,
        dry: bool,
    ) -> Result<(u64, u64), StoreError> {
        // What is another store's is no stray.
        #[cfg(feature = "replicas")]
        self.own_objects().await?;
        let objects = self.objects.objects(part, true).await?;
        if objects.is_empty() {
            return Ok((0, 0));
        }
        let known = self.records.read(move |connection| {
            let mut known = std::collections::HashSet::new();
            for algorithm in ["sha256", "sha512"] {
                // `g` comes right after every hexadecimal digit.
                let first = format!("{algorithm}:{part:02x}");
                let mut query = connection.prepare_cached(
                    "SELECT place FROM contents WHERE digest >= $1 AND digest < $2",
                )?;
                let mut rows = query.query(params![first, format!("{first}g")])?;
                while let Some(row) = &rows.next()? {
                    known.insert(row.get::<String>(0)?);
                }
                let mut query = connection.prepare_cached(
                    "SELECT place FROM old_files WHERE place >= $1 AND place < $2",
                )?;
                let folder = format!("{BLOBS}/{algorithm}/{part:02x}");
                // `0` comes right after the slash.
                let mut rows = query.query(params![format!("{folder}/"), format!("{folder}0")])?;
                while let Some(row) = &rows.next()? {
                    known.insert(row.get::<String>(0)?);
                }
            }
            Ok(known)
        });
        let known = known.await?;
        let (mut count, mut bytes) = (0, 0);
        for object in objects.into_iter().filter(|one| !known.contains(&one.place)) {
            // One that was just written may be recorded by now, or in a moment.
            let Some((age, size)) = self.objects.age_of(&object.place).await? else { continue };
            if age < grace {
                continue;
            }
            // Where nothing can be locked, what is about to be recorded, or to be removed, is noted.
            if self.objects.are_elsewhere() && self.is_left(&object.place).await? {
                continue;
            }
            // Its writer keeps it locked until it is recorded; asked while nobody has it, the answer is the last one.
            let held = self.objects.hold(&object.place).await?;
            if !matches!(held, UploadHolder::Ours(_))
                || self.is_named(&object.place, &object.digest).await?
            {
                continue;
            }
            (count, bytes) = (count + 1, bytes + size);
            if !dry {
                self.objects.remove(vec![object.place]).await?;
            }
        }
        Ok((count, bytes))
    }

    /// Whether a row names an object, or a file of the earlier form that stays for now.
    pub(super) async fn is_named(&self, place: &str, digest: &Digest) -> Result<bool, StoreError> {
        let (place, digest) = (place.to_owned(), digest.to_string());
        self.records
            .read(move |connection| {
                super::any(
                    connection,
                    "SELECT 1 FROM contents WHERE digest = $1 AND place = $2
                     UNION ALL SELECT 1 FROM old_files WHERE place = $2",
                    params![digest, place],
                )
            })
            .await
    }

    async fn is_left(&self, place: &str) -> Result<bool, StoreError> {
        let place = place.to_owned();
        self.records
            .read(move |connection| {
                super::any(connection, "SELECT 1 FROM leavings WHERE place = $1", params![place])
            })
            .await
    }

    /// Removes the files of manifests that an earlier form of the store had, because all of it has been verified in this
    /// one. Tells how many these were.
    pub async fn remove_old_files(&self) -> Result<usize, StoreError> {
        let mut removed = 0;
        loop {
            let places: Vec<String> = self
                .records
                .read(|connection| {
                    connection
                        .prepare_cached("SELECT place FROM old_files ORDER BY place LIMIT 1000")?
                        .query_map([], |row| row.get(0))?
                        .collect()
                })
                .await?;
            if places.is_empty() {
                return Ok(removed);
            }
            removed += places.len();
            // What a repository has as a blob too lies in the same file.
            let asked = places.clone();
            let loose: Vec<String> = self
                .records
                .read(move |connection| {
                    let mut named = connection.prepare_cached(
                        "SELECT 1 FROM contents WHERE place = $1 AND digest = $2",
                    )?;
                    let mut loose = Vec::new();
                    for place in asked {
                        let digest = digest_of(&place).map(|digest| digest.to_string());
                        if !named.exists(params![place, digest])? {
                            loose.push(place);
                        }
                    }
                    Ok(loose)
                })
                .await?;
            self.objects.remove(loose).await?;
            self.records
                .note(move |connection| {
                    let forget = || -> crate::sql::Result<()> {
                        let mut forget =
                            connection.prepare_cached("DELETE FROM old_files WHERE place = $1")?;
                        places.iter().try_for_each(|place| forget.execute(params![place]).map(drop))
                    };
                    forget().map_err(StoreError::ledger("forget files of the earlier form"))
                })
                .await?;
        }
    }
}
