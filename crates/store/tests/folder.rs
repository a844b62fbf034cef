//! What a content-addressed folder must hold, as a layout has it and as a backup has it.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_store::{ContentFolder, Purpose, StoreError};

async fn read(folder: &ContentFolder, digest: &Digest, range: std::ops::Range<u64>) -> Vec<u8> {
    let mut reader = folder.read(digest, range).await.unwrap();
    let mut bytes = Vec::new();
    while let Some(piece) = reader.next().await {
        bytes.extend_from_slice(&piece.unwrap());
    }
    bytes
}

/// `reopen` gives the same folder as another process would see it; `at` the path of some content in it.
async fn battery(
    folder: &ContentFolder,
    reopen: impl Fn() -> ContentFolder,
    at: impl Fn(&Digest) -> std::path::PathBuf,
    incoming: &Path,
) {
    let content: Vec<u8> = (0..2_000_000u32).map(|n| (n % 251) as u8).collect();
    let digest = Digest::of(&content);

    // Nothing is visible before the commit; ranges are exact after it.
    let mut writer = folder.write(Purpose::Keep).await.unwrap();
    for piece in content.chunks(70_000) {
        writer.write(Bytes::copy_from_slice(piece)).await.unwrap();
    }
    assert_eq!(folder.size(&digest).await.unwrap(), None);
    assert_eq!(folder.commit(&digest, writer).await.unwrap(), 2_000_000);
    assert_eq!(reopen().size(&digest).await.unwrap(), Some(2_000_000));
    assert_eq!(std::fs::read(at(&digest)).unwrap(), content);
    assert_eq!(read(folder, &digest, 0..2_000_000).await, content);
    assert_eq!(read(folder, &digest, 1_999_990..2_000_000).await, content[1_999_990..]);
    assert_eq!(read(folder, &digest, 5..5).await, b"");

    // Wrong content leaves nothing behind, nor does a writer that ends without a commit.
    let mut writer = folder.write(Purpose::Read).await.unwrap();
    writer.write(Bytes::from_static(b"other")).await.unwrap();
    let wrong = Digest::of(b"announced");
    let refused = folder.commit(&wrong, writer).await;
    assert!(matches!(refused, Err(StoreError::Mismatch { .. })));
    assert_eq!(folder.size(&wrong).await.unwrap(), None);
    let put = folder.put(&wrong, Bytes::from_static(b"other")).await;
    assert!(matches!(put, Err(StoreError::Mismatch { .. })));
    let mut given_up = folder.write(Purpose::Keep).await.unwrap();
    given_up.write(Bytes::from_static(b"lost")).await.unwrap();
    given_up.park().await.unwrap();
    assert_eq!(std::fs::read_dir(incoming).unwrap().count(), 0);

    // One that is being written stays; what a killed process has left goes, whatever its age.
    let mut kept = folder.write(Purpose::Keep).await.unwrap();
    kept.write(Bytes::from_static(b"kept")).await.unwrap();
    std::fs::write(incoming.join("0192.once"), b"half").unwrap();
    assert_eq!(reopen().remove_abandoned(Duration::from_secs(3600)).await.unwrap(), 1);
    folder.commit(&Digest::of(b"kept"), kept).await.unwrap();
    assert_eq!(read(folder, &Digest::of(b"kept"), 0..4).await, b"kept");

    // The other algorithm, empty content, content that is there already; damaged content is healed.
    let mut hasher = Hasher::new(Algorithm::Sha512);
    hasher.update(b"long");
    let long = hasher.finish();
    let mut writer = folder.write(Purpose::Read).await.unwrap();
    writer.write(Bytes::from_static(b"long")).await.unwrap();
    folder.commit(&long, writer).await.unwrap();
    assert_eq!(read(folder, &long, 0..4).await, b"long");
    for _ in 0..2 {
        let writer = folder.write(Purpose::Read).await.unwrap();
        assert_eq!(folder.commit(&Digest::of(b""), writer).await.unwrap(), 0);
        folder.put(&Digest::of(b"small"), Bytes::from_static(b"small")).await.unwrap();
    }
    std::fs::write(at(&long), b"bad!").unwrap();
    let mut writer = folder.write(Purpose::Read).await.unwrap();
    writer.write(Bytes::from_static(b"long")).await.unwrap();
    folder.commit(&long, writer).await.unwrap();
    assert_eq!(read(folder, &long, 0..4).await, b"long");

    // A reader that has begun gets all its bytes.
    let mut reader = folder.read(&digest, 0..2_000_000).await.unwrap();
    std::fs::remove_file(at(&digest)).unwrap();
    let mut rest = 0;
    while let Some(piece) = reader.next().await {
        rest += piece.unwrap().len();
    }
    assert_eq!(rest, 2_000_000);
    let gone = folder.read(&digest, 0..1).await;
    assert!(matches!(gone, Err(StoreError::NotFound(name)) if name == digest.to_string()));
}

#[tokio::test]
async fn a_layouts_folder_keeps_its_promises() {
    let root = tempfile::tempdir().unwrap();
    let folder = ContentFolder::make_layout(root.path()).unwrap();
    let at = |digest: &Digest| {
        root.path().join("blobs").join(digest.algorithm().name()).join(digest.hex())
    };
    let reopen = || ContentFolder::make_layout(root.path()).unwrap();
    battery(&folder, reopen, at, &root.path().join(".incoming")).await;
}

#[tokio::test]
async fn a_backups_folder_keeps_its_promises() {
    let root = tempfile::tempdir().unwrap();
    let folder = ContentFolder::make_backup(root.path()).unwrap();
    let at = |digest: &Digest| {
        let hex = digest.hex();
        root.path().join("blobs").join(digest.algorithm().name()).join(&hex[..2]).join(hex)
    };
    let reopen = || ContentFolder::make_backup(root.path()).unwrap();
    battery(&folder, reopen, at, &root.path().join("uploads")).await;
}

#[tokio::test]
async fn reading_a_layout_makes_nothing() {
    let root = tempfile::tempdir().unwrap();
    let folder = ContentFolder::of_layout(root.path());
    assert_eq!(folder.size(&Digest::of(b"none")).await.unwrap(), None);
    assert_eq!(std::fs::read_dir(root.path()).unwrap().count(), 0);
}
