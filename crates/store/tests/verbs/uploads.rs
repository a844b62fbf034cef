//! Uploads: each has an owner, and one writer at a time.

use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_store::{Purpose, StoreError, UploadId};

use super::{Pair, files, name, pairs, read};

async fn begin(pair: &Pair) -> UploadId {
    pair.one.begin_upload(&pair.kettle, "ci", 1000).await.unwrap().unwrap()
}

#[tokio::test]
async fn an_upload_has_one_writer_whoever_asks() {
    for pair in pairs() {
        let id = begin(&pair).await;
        let mut writer = pair.one.resume_upload(id).await.unwrap();
        writer.write(Bytes::from_static(b"half")).await.unwrap();
        for store in [&pair.one, &pair.two] {
            assert!(matches!(store.resume_upload(id).await, Err(StoreError::Busy(_))));
            assert!(matches!(store.cancel_upload(id).await, Err(StoreError::Busy(_))));
            // Nor is it taken for one that was left behind.
            assert_eq!(store.remove_abandoned(Duration::ZERO).await.unwrap().uploads, 0);
        }
        let digest = Digest::of(b"half");
        pair.one.commit_blob(&pair.kettle, &digest, writer).await.unwrap();
        assert!(matches!(pair.two.uploaded(id).await, Err(StoreError::NotFound(_))));
        assert!(!pair.two.is_upload_of(id, &pair.kettle, "ci").await.unwrap(), "it has ended");
    }
}

#[tokio::test]
async fn an_upload_goes_on_after_a_pause_after_a_drop_and_elsewhere() {
    for pair in pairs() {
        let id = begin(&pair).await;
        let mut writer = pair.one.resume_upload(id).await.unwrap();
        writer.write(Bytes::from_static(b"one ")).await.unwrap();
        assert_eq!(writer.park().await.unwrap(), 4);
        let mut writer = pair.one.resume_upload(id).await.unwrap();
        assert_eq!(writer.offset(), 4);
        writer.write(Bytes::from_static(b"two ")).await.unwrap();
        writer.advance().await.unwrap();
        match pair.is_remote {
            // What was not parked stays on its machine.
            true => drop(writer.park().await.unwrap()),
            false => drop(writer),
        }
        assert_eq!(pair.two.uploaded(id).await.unwrap(), 8);
        let mut writer = loop {
            match pair.two.resume_upload(id).await {
                // What was dropped is let go of by a thread of its own.
                Err(StoreError::Busy(_)) => tokio::time::sleep(Duration::from_millis(5)).await,
                writer => break writer.unwrap(),
            }
        };
        assert_eq!(writer.offset(), 8);
        writer.write(Bytes::from_static(b"three")).await.unwrap();
        let digest = Digest::of(b"one two three");
        pair.two.commit_blob(&pair.kettle, &digest, writer).await.unwrap();
        assert_eq!(read(&pair.one, &digest, 0..13).await, b"one two three");
    }
}

#[tokio::test]
async fn an_upload_is_its_owners_alone() {
    for pair in pairs() {
        let id = begin(&pair).await;
        assert!(pair.two.is_upload_of(id, &pair.kettle, "ci").await.unwrap());
        assert!(!pair.two.is_upload_of(id, &pair.kettle, "other").await.unwrap());
        assert!(!pair.two.is_upload_of(id, &name("vendor/other"), "ci").await.unwrap());
        // What is fetched is no client's.
        let digest = Digest::of(b"fetched");
        let fetched = pair.one.begin_fetch(&pair.kettle, &digest).await.unwrap();
        assert!(!pair.two.is_upload_of(fetched, &pair.kettle, "").await.unwrap());
        assert_eq!(pair.two.fetched_part(&pair.kettle, &digest).await.unwrap(), Some(fetched));
        let foreign = pair.two.fetched_part(&name("vendor/other"), &digest).await.unwrap();
        assert_eq!(foreign, None, "another repository's upstream gave nothing of it");
    }
}

#[tokio::test]
async fn one_account_has_so_many_uploads_open_and_the_old_ones_can_be_ended() {
    for pair in pairs() {
        let first = pair.one.begin_upload(&pair.kettle, "ci", 2).await.unwrap().unwrap();
        pair.two.begin_upload(&pair.kettle, "ci", 2).await.unwrap().unwrap();
        assert_eq!(pair.one.begin_upload(&pair.kettle, "ci", 2).await.unwrap(), None);
        assert!(pair.one.begin_upload(&pair.kettle, "other", 2).await.unwrap().is_some());
        let now = larder_store::now() + 1;
        let old = pair.two.uploads_before("ci", now).await.unwrap();
        assert_eq!((old.len(), old[0]), (2, first));
        pair.two.cancel_upload(first).await.unwrap();
        assert!(matches!(pair.one.cancel_upload(first).await, Err(StoreError::NotFound(_))));
        assert!(pair.one.begin_upload(&pair.kettle, "ci", 2).await.unwrap().is_some());
    }
}

#[tokio::test]
async fn a_wrong_digest_ends_an_upload() {
    for pair in pairs() {
        let id = begin(&pair).await;
        let mut writer = pair.one.resume_upload(id).await.unwrap();
        writer.write(Bytes::from_static(b"content")).await.unwrap();
        let wrong = pair.one.commit_blob(&pair.kettle, &Digest::of(b"other"), writer).await;
        assert!(matches!(wrong, Err(StoreError::Mismatch { .. })));
        assert!(matches!(pair.two.resume_upload(id).await, Err(StoreError::NotFound(_))));
        assert!(!pair.two.is_upload_of(id, &pair.kettle, "ci").await.unwrap());
        assert!(files(&pair.folder.path().join("uploads")).is_empty());
    }
}

#[tokio::test]
async fn what_nobody_goes_on_with_is_counted_and_freed() {
    for pair in pairs() {
        let id = begin(&pair).await;
        let mut writer = pair.one.resume_upload(id).await.unwrap();
        writer.write(Bytes::from_static(b"half")).await.unwrap();
        writer.park().await.unwrap();
        let hour = Duration::from_secs(3600);
        let (old, all) = pair.two.unfinished(hour).await.unwrap();
        assert_eq!((old.uploads, all.uploads, all.bytes), (0, 1, 4));
        assert_eq!(pair.two.remove_abandoned(hour).await.unwrap().uploads, 0);
        let (old, _) = pair.two.unfinished(Duration::ZERO).await.unwrap();
        assert_eq!((old.uploads, old.bytes), (1, 4));
        let gone = pair.two.remove_abandoned(Duration::ZERO).await.unwrap();
        assert_eq!((gone.uploads, gone.bytes), (1, 4));
        assert!(matches!(pair.one.resume_upload(id).await, Err(StoreError::NotFound(_))));
        assert!(!pair.one.is_upload_of(id, &pair.kettle, "ci").await.unwrap());
    }
}

#[tokio::test]
async fn what_nobody_can_go_on_with_leaves_nothing_however_its_writer_ends() {
    for pair in pairs() {
        let mut kept = pair.one.write_once(Purpose::Keep).await.unwrap();
        kept.write(Bytes::from_static(b"kept")).await.unwrap();
        let mut given_up = pair.one.write_once(Purpose::Keep).await.unwrap();
        given_up.write(Bytes::from_static(b"lost")).await.unwrap();
        given_up.park().await.unwrap();
        // What a killed process has left goes, whatever its age; what is being written stays.
        let left = pair.folder.path().join("uploads/0192.once");
        std::fs::write(&left, b"half").unwrap();
        // Files are seen by their own machine.
        let here = if pair.is_remote { &pair.one } else { &pair.two };
        let gone = here.remove_abandoned(Duration::from_secs(3600)).await.unwrap();
        assert_eq!((gone.uploads, left.exists()), (1, false));
        pair.one.commit_blob(&pair.kettle, &Digest::of(b"kept"), kept).await.unwrap();
        assert!(files(&pair.folder.path().join("uploads")).is_empty());
    }
}

#[tokio::test]
async fn what_a_machine_had_of_an_upload_that_ended_elsewhere_goes() {
    for pair in crate::pairs() {
        let (true, Some(_)) = (pair.server.is_some(), &pair.bucket) else { continue };
        let id = pair.one.begin_upload(&pair.kettle, "", 10).await.unwrap().unwrap();
        let mut writer = pair.one.resume_upload(id).await.unwrap();
        writer.write(bytes::Bytes::from(vec![7; 100_000])).await.unwrap();
        writer.park().await.unwrap();
        let open = pair.one.begin_upload(&pair.kettle, "", 10).await.unwrap().unwrap();
        let mut writer = pair.one.resume_upload(open).await.unwrap();
        writer.write(bytes::Bytes::from(vec![8; 1000])).await.unwrap();
        writer.park().await.unwrap();
        // The other machine brings the first to its end.
        let writer = pair.two.resume_upload(id).await.unwrap();
        let digest = larder_core::digest::Digest::of(&vec![7; 100_000]);
        pair.two.commit_blob(&pair.kettle, &digest, writer).await.unwrap();
        assert_eq!(pair.one.forget_copies().await.unwrap(), 0, "it may be fresh");
        // As if it had lain there for a while.
        let uploads = pair.folder.path().join("uploads");
        for entry in std::fs::read_dir(&uploads).unwrap() {
            let file = std::fs::File::options().write(true).open(entry.unwrap().path()).unwrap();
            let then = std::time::SystemTime::now() - std::time::Duration::from_secs(60);
            file.set_modified(then).unwrap();
        }
        assert_eq!(pair.one.forget_copies().await.unwrap(), 100_000);
        assert_eq!(pair.one.forget_copies().await.unwrap(), 0);
        // The one that is open goes on.
        let mut writer = pair.one.resume_upload(open).await.unwrap();
        assert_eq!(writer.offset(), 1000);
        writer.write(bytes::Bytes::from(vec![8; 1000])).await.unwrap();
        let digest = larder_core::digest::Digest::of(&vec![8; 2000]);
        pair.one.commit_blob(&pair.kettle, &digest, writer).await.unwrap();
    }
}
