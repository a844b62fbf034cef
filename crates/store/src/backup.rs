//! A copy of a store, and a store from a copy: every byte is verified on its way.
//!
//! A copy is a folder with the records and a content-addressed folder beside them, so that a larder can also serve it as it
//! is.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use larder_core::digest::{Digest, Hasher};
use rusqlite::OpenFlags;

use crate::sql::{Connection, params};

use crate::blobs::{BlobReader, Purpose};
use crate::error::StoreError;
use crate::folder::ContentFolder;
use crate::records::{checked, connect};
use crate::store::{LEDGER, Store, make_private};

/// What was copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct BackupCopy {
    /// Blobs that were copied now.
    pub copied: usize,
    /// Their sizes together, in bytes.
    pub bytes: u64,
    /// Blobs that were there already.
    pub there: usize,
    /// Manifests, which are among the records.
    pub manifests: usize,
}

/// The records while they are being copied; they take their place last of all.
const INCOMING: &str = "ledger.incoming";
/// Rows that are read at once.
const PAGE: usize = 1000;

/// What a folder may hold that is a copy of a store: anything else is somebody else's.
const OWN: [&str; 16] = [
    LEDGER,
    "ledger.sqlite-wal",
    "ledger.sqlite-shm",
    "ledger.moment",
    INCOMING,
    "ledger.incoming-wal",
    "ledger.incoming-shm",
    "ledger.incoming-journal",
    "access.secret",
    "blobs",
    "uploads",
    "lost+found",
    // A larder that was used to look at it has left these.
    "content",
    "running",
    "serve.lock",
    "spare",
];

/// What a folder holds that no copy of a store has. None: nothing. What a run that was killed has left is removed.
pub fn stranger_in(folder: &Path) -> io::Result<Option<String>> {
    let mut left_over = Vec::new();
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let name = entry.file_name();
        let name = name.to_string_lossy();
        // A run that was killed has left it, while it wrote the secret; nobody else writes here.
        if is_left_over(&name) {
            left_over.push(entry.path());
            continue;
        }
        // What was pushed there is no copy of anything.
        let used = name == "content" && has_files(&folder.join("content"))?;
        if used || !OWN.contains(&name.as_ref()) {
            return Ok(Some(name.into_owned()));
        }
    }
    // Only from a folder that is all ours.
    left_over.iter().try_for_each(fs::remove_file)?;
    Ok(None)
}

/// Whether a name is one of those under which the secret is written before it has its own.
fn is_left_over(name: &str) -> bool {
    let rest = name.strip_prefix(".tmp").unwrap_or_default();
    rest.len() == 6 && rest.bytes().all(|byte| byte.is_ascii_alphanumeric())
}

/// Whether there is a file in a folder of folders.
fn has_files(folder: &Path) -> io::Result<bool> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if !entry.file_type()?.is_dir() || has_files(&entry.path())? {
            return Ok(true);
        }
    }
    Ok(false)
}

fn remove_if_there(path: &Path) -> Result<(), StoreError> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            Err(StoreError::io(format!("cannot remove {}", path.display()))(error))
        }
        _ => Ok(()),
    }
}

/// Where records arrive, with nothing left there of a run before.
pub(crate) fn incoming(folder: &Path) -> Result<PathBuf, StoreError> {
    for left in ["", "-wal", "-shm", "-journal"] {
        remove_if_there(&folder.join(format!("{INCOMING}{left}")))?;
    }
    Ok(folder.join(INCOMING))
}

/// The records take their place: what they name is all there.
pub(crate) fn show(folder: &Path) -> Result<(), StoreError> {
    // An earlier copy's log belongs to its records, not to these.
    for beside in ["ledger.sqlite-wal", "ledger.sqlite-shm"] {
        remove_if_there(&folder.join(beside))?;
    }
    let failed = || StoreError::io(format!("cannot write {}", folder.join(LEDGER).display()));
    fs::rename(folder.join(INCOMING), folder.join(LEDGER)).map_err(failed())?;
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(failed())
}

/// Pours content into a folder; it is verified on its way.
async fn pour(
    mut content: BlobReader,
    to: &ContentFolder,
    digest: &Digest,
) -> Result<u64, StoreError> {
    let mut writer = to.write(Purpose::Keep).await?;
    while let Some(piece) = content.next().await {
        writer.write(piece?).await?;
    }
    to.commit(digest, writer).await
}

impl Store {
    /// Copies the whole store to a folder, while it is used: the records are of one moment, and every blob that they name
    /// is verified. A folder of an earlier copy gets only what is new. `tell` is told now and then what was copied.
    pub async fn export(
        &self,
        folder: &Path,
        tell: &(dyn Fn(BackupCopy) + Sync),
    ) -> Result<BackupCopy, StoreError> {
        let incoming = incoming(folder)?;
        self.copy_records_to(&incoming).await?;
        let target = ContentFolder::make_backup(folder)?;
        let mut copied = BackupCopy::default();
        let mut after: Option<Digest> = None;
        loop {
            let page = linked(&incoming, after.as_ref()).await?;
            let Some((last, _)) = page.last() else { break };
            after = Some(last.clone());
            for (digest, size) in page {
                if target.size(&digest).await? == Some(size) {
                    copied.there += 1;
                    continue;
                }
                copied.bytes += pour(self.read(&digest, 0..size).await?, &target, &digest).await?;
                copied.copied += 1;
                tell(copied);
            }
        }
        copied.manifests = bodies(&incoming).await?;
        target.remove_abandoned(crate::blobs::ABANDONED).await?;
        show(folder)?;
        Ok(copied)
    }

    /// Makes a store in a folder from a copy of one, which may be of an earlier form: every blob and every manifest is
    /// proved to be what its digest says before any of it can be seen. What a run before this one has brought is not
    /// brought again.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] and [`StoreError::NotFound`] when the copy is damaged: there is no store then.
    pub async fn import(
        from: &Path,
        folder: &Path,
        tell: &(dyn Fn(BackupCopy) + Sync),
    ) -> Result<BackupCopy, StoreError> {
        make_private(folder)?;
        let incoming = take_records(from, folder).await?;
        let (source, target) =
            (ContentFolder::of_backup(from), ContentFolder::make_backup(folder)?);
        let mut copied = BackupCopy::default();
        let mut after: Option<Digest> = None;
        loop {
            let page = linked(&incoming, after.as_ref()).await?;
            let Some((last, _)) = page.last() else { break };
            after = Some(last.clone());
            for (digest, size) in page {
                if target.size(&digest).await? == Some(size) {
                    copied.there += 1;
                    continue;
                }
                match source.size(&digest).await? {
                    None => return Err(StoreError::NotFound(digest.to_string())),
                    Some(found) => {
                        let content = source.read(&digest, 0..found).await?;
                        copied.bytes += pour(content, &target, &digest).await?;
                        copied.copied += 1;
                        tell(copied);
                    }
                }
            }
        }
        convert_records(folder, &incoming).await?;
        copied.manifests = bodies(&incoming).await?;
        show(folder)?;
        Ok(copied)
    }
}

/// Some digests after one, with their sizes, that the records in a file say some repository has: blobs, and in an earlier
/// form manifests.
async fn linked(path: &Path, after: Option<&Digest>) -> Result<Vec<(Digest, u64)>, StoreError> {
    let (path, after) = (path.to_owned(), after.map(ToString::to_string).unwrap_or_default());
    crate::records::blocking(move || {
        let records = connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let read = || -> crate::sql::Result<Vec<(Digest, u64)>> {
            let has_bodies = records
                .prepare("SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'bodies'")?
                .exists([])?;
            let manifests = match has_bodies {
                true => "",
                false => "UNION SELECT digest, size FROM manifests WHERE digest > $1",
            };
            records
                .prepare(&format!(
                    "SELECT digest, size FROM blobs WHERE digest > $1 {manifests}
                     GROUP BY digest ORDER BY digest LIMIT $2"
                ))?
                .query_map(params![after, i64::try_from(PAGE).unwrap_or(i64::MAX)], |row| {
                    Ok((checked(row, 0)?, crate::records::unsigned(row, 1)?))
                })?
                .collect()
        };
        read().map_err(StoreError::ledger("be read"))
    })
    .await
}

/// Takes a copy's records into a folder, where they arrive.
async fn take_records(from: &Path, folder: &Path) -> Result<PathBuf, StoreError> {
    let incoming = incoming(folder)?;
    let copy = (from.join(LEDGER), incoming.clone());
    crate::records::blocking(move || {
        let from = connect(&copy.0, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        crate::records::make_private(&copy.1)?;
        from.execute("VACUUM INTO $1", params![copy.1.to_string_lossy()])
            .map(drop)
            .map_err(StoreError::ledger("be copied"))
    })
    .await?;
    Ok(incoming)
}

/// Gives records that have arrived in a folder this program's form.
async fn convert_records(folder: &Path, incoming: &Path) -> Result<(), StoreError> {
    let (root, path) = (folder.to_owned(), incoming.to_owned());
    crate::records::blocking(move || {
        crate::records::convert(&root, &path, None, &mut |_, _| ()).map(drop)
    })
    .await
}

/// Takes a copy's records into a folder, in this program's form, for who brings them elsewhere. Only manifests of an
/// earlier form are read from the copy.
#[cfg(feature = "replicas")]
pub(crate) async fn bring_records(from: &Path, folder: &Path) -> Result<PathBuf, StoreError> {
    let incoming = take_records(from, folder).await?;
    convert_records(from, &incoming).await?;
    Ok(incoming)
}

/// Proves every manifest in the records to be what its digest says, and counts them.
async fn bodies(path: &Path) -> Result<usize, StoreError> {
    let path = path.to_owned();
    crate::records::blocking(move || {
        prove_bodies(&connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?)
    })
    .await
}

/// Proves every manifest in the records to be what its digest says, and counts them.
pub(crate) fn prove_bodies(records: &Connection) -> Result<usize, StoreError> {
    let failed = || StoreError::ledger("be read");
    let mut query = records
        .prepare(
            "SELECT DISTINCT m.digest, b.body FROM manifests m LEFT JOIN bodies b ON b.digest = m.digest",
        )
        .map_err(failed())?;
    let mut rows = query.query([]).map_err(failed())?;
    let mut count = 0;
    while let Some(row) = &rows.next().map_err(failed())? {
        let expected: Digest = checked(row, 0).map_err(failed())?;
        let Some(body) = row.get::<Option<Vec<u8>>>(1).map_err(failed())? else {
            return Err(StoreError::NotFound(expected.to_string()));
        };
        let mut hasher = Hasher::new(expected.algorithm());
        hasher.update(&body);
        let actual = hasher.finish();
        if actual != expected {
            return Err(StoreError::Mismatch { expected, actual });
        }
        count += 1;
    }
    Ok(count)
}
