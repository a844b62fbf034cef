//! Uploads that several machines go on with: what one has parked lies in the object store until the upload ends.
//!
//! Each time an upload is parked, what came since the last time is put at `uploads/ID/START-END.HASH`, where HASH is the
//! SHA-256 of everything up to END. Whoever goes on with it fetches what its own folder lacks. One machine at a time writes
//! to an upload: it holds a lease of it.

use std::ops::Range;
use std::time::Duration;

use futures_util::TryStreamExt as _;
use larder_core::digest::Digest;

use super::bucket::{Bucket, age, said};
use crate::blobs::{Purpose, UploadId};
use crate::error::StoreError;
use crate::leases::Lease;
use crate::local::{BlobWriter, Folder};

/// A piece of an upload, as it was parked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ParkedPiece {
    pub range: Range<u64>,
    /// The SHA-256 of everything up to its end.
    pub so_far: Digest,
    pub place: String,
    /// How long ago it was parked.
    pub age: Duration,
}

/// An upload that others can go on with once its writer has parked it. One at a time has it.
pub(crate) struct Handover {
    folder: Folder,
    bucket: Bucket,
    id: UploadId,
    pieces: Vec<ParkedPiece>,
    _lease: Lease,
}

fn folder_of(id: UploadId) -> String {
    format!("uploads/{id}")
}

/// The pieces of an upload in their order, as far as each begins where the one before it ends.
pub(super) async fn pieces(bucket: &Bucket, id: UploadId) -> Result<Vec<ParkedPiece>, StoreError> {
    let folder = folder_of(id);
    let mut listed = bucket.list(&folder)?;
    let mut found = Vec::new();
    while let Some(one) = listed.try_next().await.map_err(said("be listed"))? {
        let name = one.location.filename().unwrap_or_default();
        found.extend(read_name(name).map(|(range, so_far)| ParkedPiece {
            range,
            so_far,
            place: format!("{folder}/{name}"),
            age: age(one.last_modified.into()),
        }));
    }
    found.sort_by_key(|piece| (piece.range.start, piece.range.end));
    let mut end = 0;
    found.retain(|piece| {
        let follows = piece.range.start == end;
        if follows {
            end = piece.range.end;
        }
        follows
    });
    Ok(found)
}

fn read_name(name: &str) -> Option<(Range<u64>, Digest)> {
    let (range, hex) = name.split_once('.')?;
    let (start, end) = range.split_once('-')?;
    let range = start.parse().ok()?..end.parse().ok()?;
    (range.start < range.end).then_some(())?;
    Some((range, format!("sha256:{hex}").parse().ok()?))
}

/// Up to where an upload has come.
pub(super) fn end(pieces: &[ParkedPiece]) -> u64 {
    pieces.last().map_or(0, |piece| piece.range.end)
}

/// Goes on with an upload, wherever it was parked.
pub(super) async fn resume(
    folder: &Folder,
    bucket: &Bucket,
    id: UploadId,
    purpose: Purpose,
    lease: Lease,
) -> Result<BlobWriter, StoreError> {
    let pieces = pieces(bucket, id).await?;
    let here = match folder.uploaded(id).await {
        Ok(bytes) => Some(bytes),
        Err(StoreError::NotFound(_)) => None,
        Err(error) => return Err(error),
    };
    // What this machine has beyond what was parked was never answered for, and another may have gone on elsewhere.
    let is_whole = here == Some(end(&pieces));
    if here.is_some() && !is_whole {
        folder.cancel(id).await?;
    }
    if !is_whole {
        folder.begin(id).await?;
    }
    let mut writer = folder.resume(id, purpose).await?;
    if !is_whole {
        for piece in &pieces {
            let length = piece.range.end - piece.range.start;
            let mut content = bucket.read(&piece.place, 0..length).await?;
            while let Some(bytes) = content.next().await {
                writer.write(bytes?).await?;
            }
        }
    }
    let (folder, bucket) = (folder.clone(), bucket.clone());
    Ok(writer.handing_over(Handover { folder, bucket, id, pieces, _lease: lease }))
}

/// Removes all that was parked of an upload.
pub(super) async fn forget(bucket: &Bucket, id: UploadId) -> Result<(), StoreError> {
    let mut listed = bucket.list(&folder_of(id))?;
    let mut places = Vec::new();
    while let Some(one) = listed.try_next().await.map_err(said("be listed"))? {
        let name = one.location.filename().unwrap_or_default();
        places.push(format!("{}/{name}", folder_of(id)));
    }
    if places.is_empty() { Ok(()) } else { bucket.remove(places).await }
}

impl Handover {
    /// Puts what came since the upload was last parked where others find it.
    pub async fn park(self, offset: u64, so_far: Digest) -> Result<(), StoreError> {
        let from = end(&self.pieces);
        if offset <= from {
            return Ok(());
        }
        let place = format!("{}/{from:020}-{offset:020}.{}", folder_of(self.id), so_far.hex());
        self.bucket.take_range(&self.folder, &folder_of(self.id), from..offset, &place).await
    }

    /// The only piece, if all of a content of this size lies in it.
    pub fn whole(&self, digest: &Digest, size: u64) -> Option<&str> {
        match self.pieces.as_slice() {
            [only] if only.range == (0..size) && only.so_far == *digest => Some(&only.place),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_pieces_say_what_they_are() {
        let digest = Digest::of(b"x");
        let name = format!("{:020}-{:020}.{}", 0, 17, digest.hex());
        assert_eq!(read_name(&name), Some((0..17, digest.clone())));
        for wrong in ["", "1-2", "2-1.00", &format!("5-5.{}", digest.hex()), "a-b.00", "../1-2.00"]
        {
            assert_eq!(read_name(wrong), None, "{wrong}");
        }
    }
}
