//! A store moves to another place: from a folder to servers, and back.
//!
//! Bytes go first, while the store is used as ever. Then nothing new is kept in it, the rest is brought, and the records
//! go last, in one change: at every moment one of the two places is the store, and nobody can push to the other.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use larder_core::digest::{Algorithm, Digest};
use rusqlite::OpenFlags;

use crate::backup::{BackupCopy, incoming, prove_bodies, show};
use crate::blobs::Purpose;
use crate::error::StoreError;
use crate::folder::ContentFolder;
use crate::local::{Folder, FolderForm};
use crate::objects::{BucketPlace, Objects};
use crate::records::{Arrived, MoveStage, MoveState, Resettling, blocking, checked, connect};
use crate::sql::{Connection, Server, params};
use crate::store::{LEDGER, Store, make_private};

/// Where a store moves to.
#[derive(Debug, Clone)]
pub enum MovePlace {
    /// Into a folder, records and bytes.
    Folder(PathBuf),
    /// Records into a database server, bytes into an object store.
    Servers {
        /// Where bytes lie on this machine until they are whole.
        folder: PathBuf,
        server: Server,
        bucket: Box<BucketPlace>,
    },
    /// Records into a database server, bytes into a folder that all who open it share.
    Shared { folder: PathBuf, server: Server },
}

impl MovePlace {
    fn folder(&self) -> &Path {
        match self {
            Self::Folder(folder) | Self::Servers { folder, .. } | Self::Shared { folder, .. } => {
                folder
            }
        }
    }

    fn objects(&self) -> Result<Objects, StoreError> {
        make_private(self.folder())?;
        let folder = Folder::make(self.folder(), FolderForm::Objects)?;
        match self {
            Self::Folder(_) | Self::Shared { .. } => Ok(Objects::Folder(folder)),
            Self::Servers { bucket, .. } => Objects::in_bucket(folder, bucket).map_err(|error| {
                StoreError::Objects { doing: "be spoken to", cause: error.to_string() }
            }),
        }
    }

    /// Does once all that is ever done to an object, where the bytes will be, and tells what is lacking that it can do
    /// without.
    pub async fn try_objects(&self) -> Result<Vec<&'static str>, StoreError> {
        self.objects()?.try_out().await
    }

    /// What stands there already.
    async fn found(&self) -> Result<Arrived, StoreError> {
        let place = self.clone();
        blocking(move || {
            let connection = match &place {
                Self::Folder(folder) if !Store::is_local(folder) => return Ok(Arrived::Nothing),
                Self::Folder(folder) => {
                    connect(&folder.join(LEDGER), OpenFlags::SQLITE_OPEN_READ_WRITE)?
                }
                Self::Servers { server, .. } | Self::Shared { server, .. } => {
                    let reached = server.connect().map(Connection::Postgres);
                    reached.map_err(StoreError::ledger("be reached"))?
                }
            };
            Arrived::at(&connection).map_err(StoreError::ledger("be read"))
        })
        .await
    }
}

/// What a move did.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Moved {
    /// What was copied.
    pub copy: BackupCopy,
    /// Contents that are not what their digests say, or not there. The store has moved only where they were to be left.
    pub damaged: Vec<Digest>,
    /// Whether the other place is the store now.
    pub has_moved: bool,
}

/// Contents that are copied at once.
const AT_ONCE: usize = 4;
/// Up to so many bytes a content is copied as a whole.
const WHOLE: u64 = 1024 * 1024;

impl Store {
    /// How far a move of this store to another place has come. None: it is not being moved.
    pub async fn move_state(&self) -> Result<Option<MoveState>, StoreError> {
        self.records.move_state().await
    }

    /// Moves the store to another place, or goes on with that. It is used as ever while bytes are copied, and only read
    /// while the last of them and the records are. `secret` is what its keys are hashed with. With `leave_damaged`,
    /// what cannot be read whole is recorded there as damaged; else the move stops at it, and the store goes on.
    ///
    /// # Errors
    /// [`StoreError::Occupied`] when another store is there, [`StoreError::Moving`] when it moves elsewhere already.
    pub async fn move_to(
        &self,
        place: &MovePlace,
        to: &str,
        secret: [u8; 32],
        leave_damaged: bool,
        tell: &(dyn Fn(BackupCopy, MoveStage) + Sync),
    ) -> Result<Moved, StoreError> {
        let begun = match self.move_state().await? {
            Some(other) if other.to != to && other.stage != MoveStage::Copying => {
                return Err(StoreError::Moving(other.to));
            }
            begun => begun.filter(|state| state.to == to),
        };
        let id = match &begun {
            Some(state) => state.id.clone(),
            None => uuid::Uuid::now_v7().simple().to_string(),
        };
        match place.found().await? {
            Arrived::Nothing => {}
            Arrived::ByMove(theirs) if theirs == id => {
                // All but the last word was said.
                self.records.set_move(&id, MoveStage::Moved, to).await?;
                return Ok(Moved { has_moved: true, ..Moved::default() });
            }
            Arrived::ByMove(_) | Arrived::Otherwise => return Err(StoreError::Occupied),
        }
        let objects = place.objects()?;
        let id_of_store = move |from: &Connection| own_id(from, &secret);
        objects.own(&self.records.transfer(id_of_store).await?).await?;
        let mover = Mover { bytes: Bytes::Store(self.clone()), objects, id: id.clone() };
        let mut first = BackupCopy::default();
        if begun.as_ref().is_none_or(|state| state.stage == MoveStage::Copying) {
            self.records.set_move(&id, MoveStage::Copying, to).await?;
            (first, _) = mover.bring_all(&|copied| tell(copied, MoveStage::Copying)).await?;
        }
        self.records.transfer(prove_bodies).await?;
        self.records.set_move(&id, MoveStage::Frozen, to).await?;
        let rest = mover.bring_all(&|copied| tell(copied, MoveStage::Frozen)).await;
        let (copy, damaged) = match rest {
            Ok((copy, damaged)) if damaged.is_empty() || leave_damaged => (copy, damaged),
            // The other place has no records yet, so that this one can go on.
            stopped => {
                self.records.set_move(&id, MoveStage::Copying, to).await?;
                let (copy, damaged) = stopped?;
                return Ok(Moved { copy, damaged, has_moved: false });
            }
        };
        let anew = Resettling {
            id: id.clone(),
            place: place_of,
            damaged: damaged.iter().cloned().collect::<HashSet<_>>(),
        };
        let manifests = self.records_to(place, anew, secret, to).await?;
        let copy = BackupCopy {
            copied: first.copied + copy.copied,
            bytes: first.bytes + copy.bytes,
            there: copy.there.saturating_sub(first.copied),
            manifests,
        };
        Ok(Moved { copy, damaged, has_moved: true })
    }

    /// Brings the records, and says then that the store is there.
    async fn records_to(
        &self,
        place: &MovePlace,
        anew: Resettling,
        secret: [u8; 32],
        to: &str,
    ) -> Result<usize, StoreError> {
        let id = anew.id.clone();
        let (target, writing) = (place.clone(), anew);
        let brought = self
            .records
            .transfer(move |from| settle_records(from, &target, &writing, &secret))
            .await;
        let manifests = match brought {
            Ok(manifests) => manifests,
            // The answer may have been lost: what stands there decides. Where nobody can tell, because it may still come to
            // stand there, nothing new is kept until the move is run again.
            Err(error) => match place.found().await? {
                Arrived::ByMove(theirs) if theirs == id => 0,
                _ if error.is_away() => return Err(error),
                _ => {
                    self.records.set_move(&id, MoveStage::Copying, to).await?;
                    return Err(error);
                }
            },
        };
        self.records.set_move(&id, MoveStage::Moved, to).await?;
        Ok(manifests)
    }

    /// Gives up a move to a place, so that the store is used as ever. False: there was none.
    ///
    /// # Errors
    /// [`StoreError::Occupied`] when the store has moved there already.
    pub async fn cancel_move(&self, place: &MovePlace) -> Result<bool, StoreError> {
        let Some(state) = self.move_state().await? else { return Ok(false) };
        if matches!(place.found().await?, Arrived::ByMove(id) if id == state.id) {
            return Err(StoreError::Occupied);
        }
        self.records.end_move().await?;
        Ok(true)
    }

    /// Makes a store at servers from a copy in a folder, which may be of an earlier form: every blob and every manifest is
    /// proved to be what its digest says before any of it can be seen. What a run before this one has brought is not
    /// brought again.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] and [`StoreError::NotFound`] when the copy is damaged, [`StoreError::Occupied`] when
    /// another store is there: there is no store then.
    pub async fn import_to(
        from: &Path,
        place: &MovePlace,
        secret: [u8; 32],
        tell: &(dyn Fn(BackupCopy) + Sync),
    ) -> Result<BackupCopy, StoreError> {
        // The same copy goes on where it was broken off.
        let ledger = from.join(LEDGER);
        let failed = || StoreError::io(format!("cannot read {}", ledger.display()));
        let about = std::fs::metadata(&ledger).map_err(failed())?;
        let written = about.modified().map_err(failed())?;
        let id =
            Digest::of(format!("{written:?} {}", about.len()).as_bytes()).hex()[..32].to_owned();
        match place.found().await? {
            Arrived::Nothing => {}
            Arrived::ByMove(_) | Arrived::Otherwise => return Err(StoreError::Occupied),
        }
        let objects = place.objects()?;
        let records = crate::backup::bring_records(from, place.folder()).await?;
        let path = records.clone();
        let name =
            blocking(move || own_id(&connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?, &secret));
        objects.own(&name.await?).await?;
        let bytes =
            Bytes::Copy { content: ContentFolder::of_backup(from), records: records.clone() };
        let mover = Mover { bytes, objects, id: id.clone() };
        let (mut copied, damaged) = mover.bring_all(tell).await?;
        if let Some(digest) = damaged.into_iter().next() {
            return Err(StoreError::NotFound(digest.to_string()));
        }
        let (target, path) = (place.clone(), records);
        let manifests = blocking(move || {
            let from = connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
            prove_bodies(&from)?;
            let anew = Resettling { id, place: place_of, damaged: HashSet::new() };
            settle_records(&from, &target, &anew, &secret)
        });
        copied.manifests = manifests.await?;
        incoming(place.folder())?;
        Ok(copied)
    }
}

/// The name by which a store's objects know it; it goes with the records. One that has none yet is known by its secret,
/// which all copies of it have.
fn own_id(connection: &Connection, secret: &[u8; 32]) -> Result<String, StoreError> {
    let known = [&b"whose objects: "[..], secret].concat();
    let known = Digest::of(&known).hex()[..32].to_owned();
    crate::records::store_id(connection, Some(known)).map_err(StoreError::ledger("be read"))
}

/// Writes the records, with what keys are hashed with, where they will be seen.
fn settle_records(
    from: &Connection,
    place: &MovePlace,
    anew: &Resettling,
    secret: &[u8; 32],
) -> Result<usize, StoreError> {
    match place {
        MovePlace::Folder(folder) => {
            let path = incoming(folder)?;
            crate::records::make_private(&path)?;
            let to = connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
            crate::records::transfer(from, &to, anew, None)?;
            drop(to);
            let flushed = std::fs::File::open(&path).and_then(|file| file.sync_all());
            flushed.map_err(StoreError::io(format!("cannot flush {}", path.display())))?;
            // Where the records are, it is too.
            crate::secret::set_local(folder, secret)?;
            show(folder)?;
        }
        MovePlace::Servers { server, .. } | MovePlace::Shared { server, .. } => {
            let reached = server.connect().map(Connection::Postgres);
            let to = reached.map_err(StoreError::ledger("be reached"))?;
            crate::records::transfer(from, &to, anew, Some(secret))?;
        }
    }
    let count = "SELECT COUNT(DISTINCT digest) FROM manifests";
    let count = from.query_row(count, [], |row| crate::records::unsigned(row, 0));
    let count = count.map_err(StoreError::ledger("be read"))?;
    Ok(usize::try_from(count).unwrap_or(usize::MAX))
}

/// Where a content lies that a move has brought: no other move ever writes there.
fn place_of(digest: &Digest, id: &str) -> String {
    let (name, hex) = (digest.algorithm().name(), digest.hex());
    format!("content/{name}/{}/{hex}.{id}", &hex[..2])
}

/// Where bytes come from.
enum Bytes {
    Store(Store),
    Copy { content: ContentFolder, records: PathBuf },
}

/// Brings bytes to another place.
struct Mover {
    bytes: Bytes,
    objects: Objects,
    id: String,
}

impl Mover {
    /// Brings every content that some repository has and that is not there yet; gives those that cannot be read whole.
    async fn bring_all(
        &self,
        tell: &(dyn Fn(BackupCopy) + Sync),
    ) -> Result<(BackupCopy, Vec<Digest>), StoreError> {
        let (mut copied, mut damaged) = (BackupCopy::default(), Vec::new());
        for part in 0..=u8::MAX {
            let mut wanted = self.linked(Algorithm::Sha256, part).await?;
            wanted.extend(self.linked(Algorithm::Sha512, part).await?);
            if wanted.is_empty() {
                continue;
            }
            let there = self.objects.objects(part, false).await?;
            let there: HashSet<(String, u64)> =
                there.into_iter().map(|object| (object.place, object.size)).collect();
            let (here, missing): (Vec<_>, Vec<_>) = wanted
                .into_iter()
                .partition(|(digest, size)| there.contains(&(place_of(digest, &self.id), *size)));
            copied.there += here.len();
            let mut coming = stream::iter(missing)
                .map(|(digest, size)| async move {
                    match self.bring(&digest, size).await {
                        Ok(()) => Ok((size, None)),
                        Err(StoreError::NotFound(_) | StoreError::Mismatch { .. }) => {
                            Ok((0, Some(digest)))
                        }
                        Err(error) => Err(error),
                    }
                })
                .buffer_unordered(AT_ONCE);
            while let Some((bytes, bad)) = coming.try_next().await? {
                match bad {
                    Some(digest) => damaged.push(digest),
                    None => {
                        copied.bytes += bytes;
                        copied.copied += 1;
                    }
                }
                tell(copied);
            }
        }
        damaged.sort();
        Ok((copied, damaged))
    }

    /// Brings one content; it is verified on its way.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] and [`StoreError::Mismatch`] where it cannot be read whole from where it is.
    async fn bring(&self, digest: &Digest, size: u64) -> Result<(), StoreError> {
        let unreadable = |error: StoreError| match error.is_away() {
            true => error,
            false => {
                tracing::warn!(%error, %digest, "a content cannot be read");
                StoreError::NotFound(digest.to_string())
            }
        };
        let content = match &self.bytes {
            Bytes::Store(store) => store.read(digest, 0..size).await,
            Bytes::Copy { content, .. } => match content.size(digest).await {
                Ok(Some(found)) if found == size => content.read(digest, 0..size).await,
                Ok(_) => Err(StoreError::NotFound(digest.to_string())),
                Err(error) => Err(error),
            },
        };
        let mut content = content.map_err(unreadable)?;
        let place = place_of(digest, &self.id);
        if size <= WHOLE {
            let mut whole = bytes::BytesMut::new();
            while let Some(piece) = content.next().await {
                whole.extend_from_slice(&piece.map_err(unreadable)?);
            }
            return self.objects.put(digest, whole.freeze(), place).await.map(drop);
        }
        let mut writer = self.objects.write_once(Purpose::Keep).await?;
        while let Some(piece) = content.next().await {
            writer.write(piece.map_err(unreadable)?).await?;
        }
        self.objects.seal(digest, writer, place).await.map(drop)
    }

    /// The contents that some repository has, whose digests begin with this byte.
    async fn linked(&self, of: Algorithm, part: u8) -> Result<Vec<(Digest, u64)>, StoreError> {
        let first = format!("{}:{part:02x}", of.name());
        // No digit comes after it.
        let end = format!("{first}g");
        let question = move |connection: &Connection| -> crate::sql::Result<Vec<(Digest, u64)>> {
            connection
                .prepare_cached(
                    "SELECT digest, MAX(size) FROM blobs WHERE digest >= $1 AND digest < $2
                     GROUP BY digest ORDER BY digest",
                )?
                .query_map(params![first, end], |row| {
                    Ok((checked(row, 0)?, crate::records::unsigned(row, 1)?))
                })?
                .collect()
        };
        match &self.bytes {
            Bytes::Store(store) => store.records.read(question).await,
            Bytes::Copy { records, .. } => {
                let path = records.clone();
                blocking(move || {
                    let records = connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
                    question(&records).map_err(StoreError::ledger("be read"))
                })
                .await
            }
        }
    }
}
