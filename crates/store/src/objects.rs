//! Objects: bytes at places, each written once and never changed.

#[cfg(feature = "replicas")]
mod bucket;
#[cfg(feature = "replicas")]
mod handover;
#[cfg(feature = "replicas")]
mod parts;
#[cfg(feature = "replicas")]
mod told;

use std::ops::Range;
use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::Digest;

use crate::blobs::{BlobReader, Purpose, UploadId};
use crate::error::StoreError;
use crate::local::{BlobWriter, Folder, Object, SealedContent, UnfinishedUpload, UploadHolder};

#[cfg(feature = "replicas")]
use bucket::Bucket;
#[cfg(feature = "replicas")]
pub(crate) use handover::Handover;

#[cfg(feature = "replicas")]
pub use bucket::{BucketError, BucketKey, BucketPlace};

/// Where a store keeps its bytes.
#[derive(Clone)]
pub(crate) enum Objects {
    /// In a folder.
    Folder(Folder),
    /// In an object store; what is not finished lies in a folder of this machine.
    #[cfg(feature = "replicas")]
    Bucket { unfinished: Folder, bucket: Bucket },
}

impl Objects {
    /// In an object store.
    #[cfg(feature = "replicas")]
    pub fn in_bucket(unfinished: Folder, place: &BucketPlace) -> Result<Self, BucketError> {
        Ok(Self::Bucket { unfinished, bucket: Bucket::new(place)? })
    }

    /// The folder of this machine: of everything, or of what is not finished.
    fn here(&self) -> &Folder {
        match self {
            Self::Folder(folder) => folder,
            #[cfg(feature = "replicas")]
            Self::Bucket { unfinished, .. } => unfinished,
        }
    }

    /// A place that nothing ever had or has again.
    pub fn fresh_place(&self, digest: &Digest) -> String {
        self.here().fresh_place(digest)
    }

    /// The size in bytes of what lies at a place. None: nothing does.
    pub async fn size(&self, place: &str) -> Result<Option<u64>, StoreError> {
        Ok(self.age_of(place).await?.map(|(_, size)| size))
    }

    /// How long ago what lies at a place was written, and its size in bytes. None: nothing lies there.
    pub async fn age_of(&self, place: &str) -> Result<Option<(Duration, u64)>, StoreError> {
        match self {
            Self::Folder(folder) => folder.age_of(place).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.age_of(place).await,
        }
    }

    /// Opens a range of what lies at a place, which must lie within its size.
    pub async fn read(&self, place: &str, range: Range<u64>) -> Result<BlobReader, StoreError> {
        match self {
            Self::Folder(folder) => folder.read(place, range).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.read(place, range).await,
        }
    }

    /// Keeps content that is at hand whole, which must have this digest, at a place.
    pub async fn put(
        &self,
        digest: &Digest,
        content: Bytes,
        place: String,
    ) -> Result<SealedContent, StoreError> {
        match self {
            Self::Folder(folder) => folder.put(digest, content, place).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.put(digest, content, place).await,
        }
    }

    /// Verifies what was written and gives it its place.
    ///
    /// # Errors
    /// [`StoreError::Mismatch`] when it has another digest; nothing of it is kept.
    pub async fn seal(
        &self,
        digest: &Digest,
        writer: BlobWriter,
        place: String,
    ) -> Result<SealedContent, StoreError> {
        match self {
            Self::Folder(_) => writer.seal(digest, place).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { unfinished, bucket } => {
                let (upload, mut writer) = (writer.upload(), writer);
                // Held until it is sealed: nobody else goes on with it meanwhile.
                let handover = writer.hand_over();
                let sealed = writer.seal(digest, place).await?;
                let parked = handover.as_ref().and_then(|one| one.whole(digest, sealed.size));
                let moved = match parked {
                    Some(parked) => bucket.copy(parked, &sealed).await,
                    None => bucket.take(unfinished, &sealed).await,
                };
                if let (Some(upload), true) = (upload, moved.is_ok())
                    && let Err(error) = handover::forget(bucket, upload).await
                {
                    tracing::warn!(%error, "what was parked of an upload stays for now");
                }
                unfinished.remove(vec![sealed.place.clone()]).await?;
                moved.map(|()| sealed.taken())
            }
        }
    }

    /// Removes what lies at some places; what is gone already is none of them.
    pub async fn remove(&self, places: Vec<String>) -> Result<(), StoreError> {
        match self {
            Self::Folder(folder) => folder.remove(places).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.remove(places).await,
        }
    }

    /// The objects whose digests begin with this byte, sorted; without their sizes and ages where `bare`.
    pub async fn objects(&self, part: u8, bare: bool) -> Result<Vec<Object>, StoreError> {
        match self {
            Self::Folder(folder) => folder.objects(part, bare).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.objects(part).await,
        }
    }

    /// Takes hold of what lies at a place, unless somebody has just written it and is about to record it.
    pub async fn hold(&self, place: &str) -> Result<UploadHolder, StoreError> {
        match self {
            Self::Folder(folder) => folder.hold(place).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.hold(place).await,
        }
    }

    /// Keeps what lies at a place aside for somebody to look at, and tells where. None: nothing lay there.
    pub async fn set_aside(
        &self,
        digest: &Digest,
        place: &str,
    ) -> Result<Option<String>, StoreError> {
        match self {
            Self::Folder(folder) => folder.set_aside(digest, place).await,
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.set_aside(digest, place).await,
        }
    }

    /// Whether they are on another machine: then nothing can be locked there, and other machines go on with uploads.
    pub fn are_elsewhere(&self) -> bool {
        !matches!(self, Self::Folder(_))
    }

    /// Whether clients are sent there for what they ask.
    #[cfg(feature = "replicas")]
    pub fn gives_links(&self) -> bool {
        matches!(self, Self::Bucket { bucket, .. } if bucket.gives_links())
    }

    /// An address for what lies at a place, which holds for a while. None: clients are not sent there.
    #[cfg(feature = "replicas")]
    pub async fn link_to(&self, place: &str) -> Result<Option<String>, StoreError> {
        match self {
            Self::Folder(_) => Ok(None),
            Self::Bucket { bucket, .. } => bucket.link_to(place).await,
        }
    }

    /// Makes sure that the place belongs to a store of this name.
    ///
    /// # Errors
    /// [`StoreError::Foreign`] when it belongs to another.
    #[cfg(feature = "replicas")]
    pub async fn own(&self, id: &str) -> Result<(), StoreError> {
        match self {
            Self::Folder(_) => Ok(()),
            Self::Bucket { bucket, .. } => bucket.own(id).await,
        }
    }

    /// How many bytes there is room for in all. None: nobody knows.
    pub async fn capacity(&self) -> Result<Option<u64>, StoreError> {
        match self {
            Self::Folder(folder) => folder.capacity().await,
            #[cfg(feature = "replicas")]
            Self::Bucket { .. } => Ok(None),
        }
    }

    /// How many bytes can still be written. None: nobody knows.
    pub async fn room(&self) -> Result<Option<u64>, StoreError> {
        match self {
            Self::Folder(folder) => folder.room().await,
            #[cfg(feature = "replicas")]
            Self::Bucket { .. } => Ok(None),
        }
    }

    /// Does once all that is ever done to an object, and tells what is lacking that it can do without.
    ///
    /// # Errors
    /// At the first that cannot be done.
    pub async fn try_out(&self) -> Result<Vec<&'static str>, StoreError> {
        let content =
            Bytes::from_static(b"This object shows that the larder may write, read and remove.");
        let digest = Digest::of(&content);
        let place = self.fresh_place(&digest);
        let size = content.len() as u64;
        self.put(&digest, content.clone(), place.clone()).await?;
        let mut reader = self.read(&place, 0..size).await?;
        let mut found = Vec::new();
        while let Some(piece) = reader.next().await {
            found.extend_from_slice(&piece?);
        }
        let lacking = match self {
            Self::Folder(_) => Vec::new(),
            #[cfg(feature = "replicas")]
            Self::Bucket { bucket, .. } => bucket.try_out(&digest, &place).await?,
        };
        self.remove(vec![place.clone()]).await?;
        match (found == content, self.size(&place).await?) {
            (true, None) => Ok(lacking),
            (false, _) => Err(StoreError::NotFound(place)),
            (true, Some(_)) => Err(StoreError::Busy(place)),
        }
    }

    /// Removes files of this machine that are not the store's content.
    pub async fn remove_here(&self, places: Vec<String>) -> Result<(), StoreError> {
        self.here().remove(places).await
    }
}

/// Uploads that are not finished.
impl Objects {
    /// Opens one with nothing in it.
    pub async fn begin(&self, id: UploadId) -> Result<(), StoreError> {
        self.here().begin(id).await
    }

    /// Takes one up on this machine.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is none of that name, [`StoreError::Busy`] when somebody writes to it.
    pub async fn resume(&self, id: UploadId, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        self.here().resume(id, purpose).await
    }

    /// Takes one up, on whichever machine it was parked; who has the lease is the only one.
    #[cfg(feature = "replicas")]
    pub async fn resume_anywhere(
        &self,
        id: UploadId,
        purpose: Purpose,
        lease: crate::leases::Lease,
    ) -> Result<BlobWriter, StoreError> {
        match self {
            Self::Folder(folder) => folder.resume(id, purpose).await,
            Self::Bucket { unfinished, bucket } => {
                handover::resume(unfinished, bucket, id, purpose, lease).await
            }
        }
    }

    /// Up to where one has come that other machines may go on with, and how long ago it was parked; None: never.
    #[cfg(feature = "replicas")]
    pub async fn parked(&self, id: UploadId) -> Result<(u64, Option<Duration>), StoreError> {
        match self {
            Self::Folder(folder) => Ok((folder.uploaded(id).await?, None)),
            Self::Bucket { bucket, .. } => {
                let pieces = handover::pieces(bucket, id).await?;
                let last = pieces.iter().map(|piece| piece.age).min();
                Ok((handover::end(&pieces), last))
            }
        }
    }

    /// What was begun to be written in several parts this long ago, and is not whole, with its places.
    #[cfg(feature = "replicas")]
    pub async fn begun(
        &self,
        age: Duration,
    ) -> Result<Vec<(String, parts::BegunUpload)>, StoreError> {
        match self {
            Self::Folder(_) => Ok(Vec::new()),
            Self::Bucket { bucket, .. } => bucket.begun(age).await,
        }
    }

    /// Removes the parts of what was begun.
    #[cfg(feature = "replicas")]
    pub async fn give_up(&self, upload: &parts::BegunUpload) -> Result<(), StoreError> {
        match self {
            Self::Folder(_) => Ok(()),
            Self::Bucket { bucket, .. } => bucket.give_up(upload).await,
        }
    }

    /// Removes all that was parked of one.
    #[cfg(feature = "replicas")]
    pub async fn forget_parked(&self, id: UploadId) -> Result<(), StoreError> {
        match self {
            Self::Folder(_) => Ok(()),
            Self::Bucket { bucket, .. } => handover::forget(bucket, id).await,
        }
    }

    /// Opens one that nobody can take up again.
    pub async fn write_once(&self, purpose: Purpose) -> Result<BlobWriter, StoreError> {
        self.here().write_once(purpose).await
    }

    /// How many bytes one has.
    pub async fn uploaded(&self, id: UploadId) -> Result<u64, StoreError> {
        self.here().uploaded(id).await
    }

    /// Gives one up; nothing of it stays.
    pub async fn cancel(&self, id: UploadId) -> Result<(), StoreError> {
        self.here().cancel(id).await
    }

    /// Gives up those that nobody has written to for `age`.
    pub async fn remove_abandoned(
        &self,
        age: Duration,
    ) -> Result<Vec<UnfinishedUpload>, StoreError> {
        self.here().remove_abandoned(age).await
    }

    /// All of them.
    pub async fn unfinished(&self) -> Result<Vec<UnfinishedUpload>, StoreError> {
        self.here().unfinished().await
    }
}
