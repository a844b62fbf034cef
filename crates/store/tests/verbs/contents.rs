//! Contents: whole and verified, or not there.

use std::time::Duration;

use bytes::Bytes;
use larder_core::access::possession::Proof;
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_store::{Purpose, StoreError};

use super::{CONFIG, collect, files, image, index, manifest_of, name, pairs, push, read};

#[tokio::test]
async fn a_blob_is_there_whole_or_not_at_all() {
    for pair in pairs() {
        let content: Vec<u8> = (0..2_000_000u32).map(|n| (n % 251) as u8).collect();
        let digest = Digest::of(&content);
        let mut writer = pair.one.write_once(Purpose::Read).await.unwrap();
        for piece in content.chunks(70_000) {
            writer.write(Bytes::copy_from_slice(piece)).await.unwrap();
        }
        assert_eq!(pair.two.size(&digest).await.unwrap(), None);
        let size = pair.one.commit_blob(&pair.kettle, &digest, writer).await.unwrap();
        assert_eq!(size, 2_000_000);
        assert_eq!(pair.two.size(&digest).await.unwrap(), Some(2_000_000));
        assert_eq!(pair.two.blob(&pair.kettle, &digest).await.unwrap(), Some(2_000_000));
        assert_eq!(pair.two.blob(&name("vendor/other"), &digest).await.unwrap(), None);
        assert!(read(&pair.two, &digest, 0..2_000_000).await == content);
        assert_eq!(read(&pair.two, &digest, 1_999_990..2_000_000).await, content[1_999_990..]);
        assert_eq!(read(&pair.one, &digest, 5..5).await, b"");

        // Wrong content leaves nothing behind.
        let wrong = Digest::of(b"announced");
        let mut writer = pair.one.write_once(Purpose::Read).await.unwrap();
        writer.write(Bytes::from_static(b"other")).await.unwrap();
        let refused = pair.one.commit_blob(&pair.kettle, &wrong, writer).await;
        assert!(matches!(refused, Err(StoreError::Mismatch { .. })));
        let refused = pair.one.put_blob(&pair.kettle, &wrong, Bytes::from_static(b"other")).await;
        assert!(matches!(refused, Err(StoreError::Mismatch { .. })));
        assert_eq!(pair.two.size(&wrong).await.unwrap(), None);
        assert!(matches!(pair.two.read(&wrong, 0..1).await, Err(StoreError::NotFound(_))));
        assert_eq!(files(&pair.folder.path().join("uploads")).len(), 0);

        // The other algorithm, and nothing at all.
        let mut hasher = Hasher::new(Algorithm::Sha512);
        hasher.update(b"long");
        let long = hasher.finish();
        let mut writer = pair.one.write_once(Purpose::Keep).await.unwrap();
        writer.write(Bytes::from_static(b"long")).await.unwrap();
        pair.one.commit_blob(&pair.kettle, &long, writer).await.unwrap();
        assert_eq!(read(&pair.two, &long, 0..4).await, b"long");
        push(&pair.one, &pair.kettle, "").await;
        assert_eq!(pair.two.size(&Digest::of(b"")).await.unwrap(), Some(0));
    }
}

#[tokio::test]
async fn an_object_is_never_written_twice_and_the_last_one_counts() {
    for pair in pairs() {
        if pair.is_remote {
            // There are no files to look at.
            continue;
        }
        let digest = push(&pair.one, &pair.kettle, "content").await;
        let first = files(&pair.folder.path().join("content"));
        assert_eq!(first.len(), 1);
        // It is damaged on the disk; the same content is sent again.
        std::fs::write(&first[0], "damaged").unwrap();
        assert_eq!(read(&pair.two, &digest, 0..7).await, b"damaged");
        push(&pair.one, &pair.kettle, "content").await;
        assert_eq!(read(&pair.two, &digest, 0..7).await, b"content", "whole again, for everybody");
        let second = files(&pair.folder.path().join("content"));
        assert_eq!(second.len(), 1, "the old object is gone");
        assert_ne!(first, second);
    }
}

#[tokio::test]
async fn a_reader_that_has_begun_gets_all_its_bytes() {
    for pair in pairs() {
        let content = "0123456789".repeat(200_000);
        let digest = push(&pair.one, &pair.kettle, &content).await;
        let mut reader = pair.two.read(&digest, 0..2_000_000).await.unwrap();
        pair.one.unlink_blob(&pair.kettle, &digest).await.unwrap();
        assert_eq!(collect(&pair.one, i64::MAX).await, 1);
        let mut rest = 0;
        while let Some(piece) = reader.next().await {
            rest += piece.unwrap().len();
        }
        assert_eq!(rest, 2_000_000);
        // Also where its place is still remembered.
        assert!(matches!(pair.two.read(&digest, 0..1).await, Err(StoreError::NotFound(_))));
        assert!(files(&pair.folder.path().join("content")).is_empty());
    }
}

#[tokio::test]
async fn a_repository_gets_what_the_store_has_only_with_proof_of_its_size() {
    for pair in pairs() {
        let digest = push(&pair.one, &pair.kettle, "layer").await;
        let other = name("vendor/other");
        let wrong = pair.two.share_blob(&other, &digest, Some(6), Proof::Mount).await.unwrap();
        assert!(!wrong);
        assert!(pair.two.share_blob(&other, &digest, Some(5), Proof::Mount).await.unwrap());
        assert_eq!(pair.one.blob(&other, &digest).await.unwrap(), Some(5));
        assert_eq!(pair.one.anywhere(&digest).await.unwrap(), Some(5));
        let absent = Digest::of(b"absent");
        assert!(!pair.two.share_blob(&other, &absent, None, Proof::Mount).await.unwrap());
        assert_eq!(pair.one.anywhere(&absent).await.unwrap(), None);
    }
}

#[tokio::test]
async fn content_without_a_repository_waits_for_one_and_no_longer_than_its_grace() {
    for pair in pairs() {
        let digest = Digest::of(b"waits");
        let mut writer = pair.one.write_once(Purpose::Keep).await.unwrap();
        writer.write(Bytes::from_static(b"waits")).await.unwrap();
        assert_eq!(pair.one.keep_content(&digest, writer).await.unwrap(), 5);
        assert_eq!(pair.two.size(&digest).await.unwrap(), Some(5));
        assert_eq!(pair.two.anywhere(&digest).await.unwrap(), None);
        assert_eq!(collect(&pair.two, larder_store::now() - 60_000).await, 0, "it is young");
        assert_eq!(pair.two.unlinked(i64::MAX).await.unwrap(), (1, 5));
        assert_eq!(collect(&pair.two, i64::MAX).await, 1);
    }
}

#[tokio::test]
async fn what_is_condemned_comes_back_to_whoever_links_it() {
    for pair in pairs() {
        let digest = push(&pair.one, &pair.kettle, "layer").await;
        pair.one.unlink_blob(&pair.kettle, &digest).await.unwrap();
        let condemned = pair.one.condemn(i64::MAX, 10).await.unwrap();
        assert_eq!(condemned, std::slice::from_ref(&digest));
        let other = name("vendor/other");
        assert!(pair.two.share_blob(&other, &digest, None, Proof::Mount).await.unwrap());
        assert!(pair.one.free(condemned).await.unwrap().is_empty());
        assert_eq!(read(&pair.one, &digest, 0..5).await, b"layer");
        // Condemned for the second time, and freed: nobody can have it any more.
        pair.two.unlink_blob(&other, &digest).await.unwrap();
        assert_eq!(collect(&pair.two, i64::MAX).await, 1);
        assert!(!pair.one.share_blob(&other, &digest, None, Proof::Mount).await.unwrap());
    }
}

#[tokio::test]
async fn a_head_keeps_what_nobody_needs_yet() {
    for pair in pairs() {
        let digest = push(&pair.one, &pair.kettle, "layer").await;
        // As if it had come two hours ago.
        pair.run("UPDATE blobs SET idle = idle - 7200000");
        pair.run("UPDATE contents SET put_at = put_at - 7200000");
        let hour_ago = larder_store::now() - 3_600_000;
        assert_eq!(pair.two.idle(hour_ago).await.unwrap(), 1);
        pair.two.renew(&pair.kettle, &digest).await.unwrap();
        assert_eq!(pair.one.idle(hour_ago).await.unwrap(), 0);
        assert_eq!(collect(&pair.one, hour_ago).await, 0);
        assert_eq!(pair.one.blob(&pair.kettle, &digest).await.unwrap(), Some(5));
        // Of what is not here there is nothing to renew.
        pair.two.renew(&name("vendor/other"), &digest).await.unwrap();
        assert_eq!(pair.two.blob(&name("vendor/other"), &digest).await.unwrap(), None);
    }
}

#[tokio::test]
async fn what_is_damaged_is_taken_out_of_use_but_never_what_came_after_it_was_read() {
    for pair in pairs() {
        if pair.is_remote {
            // There are no files to look at.
            continue;
        }
        let digest = push(&pair.one, &pair.kettle, "content").await;
        let read_as = pair.one.stored_after(None, 10).await.unwrap().remove(0);
        // Sent again while somebody reads the old object: the new one stays.
        push(&pair.two, &pair.kettle, "content").await;
        assert!(!pair.one.is_still(&read_as).await.unwrap());
        assert!(!pair.one.condemn_damaged(&read_as).await.unwrap());
        assert_eq!(pair.one.set_aside(&read_as).await.unwrap(), None);
        assert_eq!(read(&pair.two, &digest, 0..7).await, b"content");
        // Nobody sent it again: it is out of use at once, for everybody.
        let read_as = pair.one.stored_after(None, 10).await.unwrap().remove(0);
        assert!(pair.one.condemn_damaged(&read_as).await.unwrap());
        assert_eq!(pair.two.size(&digest).await.unwrap(), None);
        let aside = pair.one.set_aside(&read_as).await.unwrap().unwrap();
        assert_eq!(std::fs::read(pair.folder.path().join(aside)).unwrap(), b"content");
        let gone = pair.two.share_blob(&pair.kettle, &digest, None, Proof::Mount).await.unwrap();
        assert!(!gone, "what is damaged is nobody's to have");
        // A push heals it.
        push(&pair.two, &pair.kettle, "content").await;
        assert_eq!(read(&pair.one, &digest, 0..7).await, b"content");
    }
}

#[tokio::test]
async fn objects_that_no_row_names_are_found_and_only_those() {
    for pair in pairs() {
        if pair.is_remote {
            // There are no files to look at.
            continue;
        }
        image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        let known = files(&pair.folder.path().join("content"));
        assert_eq!(known.len(), 2, "a config and a layer; manifests are records");
        let stray = known[0]
            .with_file_name(format!("{}.0192", known[0].file_stem().unwrap().to_str().unwrap()));
        std::fs::write(&stray, b"stray").unwrap();
        let strays = async |grace, dry| {
            let mut all = (0, 0);
            for part in 0..=u8::MAX {
                let (count, bytes) = pair.two.collect_strays(part, grace, dry).await.unwrap();
                all = (all.0 + count, all.1 + bytes);
            }
            all
        };
        assert_eq!(strays(Duration::from_secs(3600), true).await, (0, 0), "it is young");
        assert_eq!(strays(Duration::ZERO, true).await, (1, 5));
        assert!(stray.exists(), "it was only counted");
        assert_eq!(strays(Duration::ZERO, false).await, (1, 5));
        assert_eq!(files(&pair.folder.path().join("content")), known);
    }
}

#[tokio::test]
async fn what_was_about_to_be_removed_goes_after_a_kill() {
    for pair in pairs() {
        if pair.is_remote {
            // There are no files to look at.
            continue;
        }
        push(&pair.one, &pair.kettle, "layer").await;
        let known = files(&pair.folder.path().join("content"));
        let named = known[0].strip_prefix(pair.folder.path()).unwrap().to_str().unwrap().to_owned();
        let place = pair.folder.path().join("content/left");
        std::fs::write(&place, b"left").unwrap();
        let note = |place: &str, at: i64| {
            pair.run(&format!("INSERT INTO leavings VALUES ('{place}', {at})"));
        };
        note("content/left", 0);
        note("content/absent", 0);
        // What is recorded stays, and what somebody is about to write keeps its note.
        note(&named, 0);
        note("content/coming", larder_store::now());
        // What somebody has just written is that one's as long as it is locked.
        let held = std::fs::File::open(&place).unwrap();
        held.lock().unwrap();
        assert_eq!(pair.two.finish_removals().await.unwrap(), 0);
        drop(held);
        assert_eq!(pair.two.finish_removals().await.unwrap(), 1);
        assert_eq!(files(&pair.folder.path().join("content")), known);
        assert_eq!(pair.two.finish_removals().await.unwrap(), 0);
        let left: i64 = pair.number("SELECT COUNT(*) FROM leavings");
        assert_eq!(left, 1);
    }
}

#[tokio::test]
async fn digests_are_listed_each_once_page_by_page() {
    for pair in pairs() {
        let first = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        image(&pair.one, &name("vendor/other"), "layer", Some("2")).await;
        let top = index(&pair.one, &pair.kettle, &first, Some("3")).await;
        let mut all = pair.two.digests_after(None, 10).await.unwrap();
        let mut expected = vec![first, top];
        expected.extend([CONFIG, "layer"].map(|content| Digest::of(content.as_bytes())));
        expected.sort();
        assert_eq!(all, expected);
        let rest = pair.two.digests_after(Some(&all[0]), 2).await.unwrap();
        assert_eq!(rest, all.drain(1..3).collect::<Vec<_>>());
        let (count, bytes) = pair.two.extent().await.unwrap();
        assert_eq!(count, 4);
        assert_eq!(bytes, pair.two.totals().await.unwrap().bytes);
        let stored = pair.two.stored_after(None, 10).await.unwrap();
        assert_eq!(stored.len(), 2);
        for one in &stored {
            assert_eq!(pair.one.object_size(one).await.unwrap(), Some(one.size));
            let mut reader = pair.one.read_stored(one).await.unwrap();
            assert_eq!(Digest::of(&reader.next().await.unwrap().unwrap()), one.digest);
        }
    }
}

#[tokio::test]
async fn whoever_says_that_it_has_content_proves_it_by_pieces_that_nobody_can_tell() {
    for pair in pairs() {
        let content = "a layer that is here ".repeat(500);
        let digest = push(&pair.one, &pair.kettle, &content).await;
        let size = content.len() as u64;
        let proves = |theirs: Option<String>, size: u64| {
            let (store, digest) = (pair.two.clone(), digest.clone());
            async move {
                let piece = |range: std::ops::Range<u64>| {
                    let range =
                        usize::try_from(range.start).unwrap()..usize::try_from(range.end).unwrap();
                    let piece = theirs.as_ref().map(|theirs| {
                        let end = range.end.min(theirs.len());
                        Bytes::copy_from_slice(&theirs.as_bytes()[range.start.min(end)..end])
                    });
                    async { Ok::<_, StoreError>(piece) }
                };
                store.proves(&digest, size, piece).await.unwrap()
            }
        };
        assert!(proves(Some(content.clone()), size).await);
        assert!(!proves(None, size).await, "it cannot tell");
        assert!(!proves(Some(content.clone()), size + 1).await, "of another size");
        assert!(!proves(Some("a layer that is not ".repeat(520)), size).await);
        assert!(!proves(Some(String::new()), size).await);
        assert!(!proves(Some("a layer".into()), size).await);
    }
}

#[tokio::test]
async fn what_the_disk_has_is_told_apart_from_what_is_recorded() {
    for pair in pairs() {
        if pair.is_remote {
            // There are no files to look at.
            continue;
        }
        let digest = push(&pair.one, &pair.kettle, "content").await;
        assert_eq!(pair.two.size_on_disk(&digest).await.unwrap(), Some(7));
        assert_eq!(pair.two.read_all(&digest, 7).await.unwrap(), "content");
        let object = files(&pair.folder.path().join("content")).pop().unwrap();
        std::fs::write(&object, "con").unwrap();
        assert_eq!(pair.two.size(&digest).await.unwrap(), Some(7));
        assert_eq!(pair.two.size_on_disk(&digest).await.unwrap(), Some(3));
        let short = pair.two.read_all(&digest, 7).await;
        assert!(short.is_err(), "less than it says is no content: {short:?}");
        std::fs::remove_file(&object).unwrap();
        assert_eq!(pair.two.size_on_disk(&digest).await.unwrap(), None);
        assert!(pair.two.read_all(&digest, 7).await.is_err());
        let unknown = Digest::of(b"never seen");
        assert_eq!(pair.two.size_on_disk(&unknown).await.unwrap(), None);
        // A manifest is a record: its size is that of its bytes.
        let image = image(&pair.one, &pair.kettle, "layer", None).await;
        let size = manifest_of("layer").bytes.len() as u64;
        assert_eq!(pair.two.size_on_disk(&image).await.unwrap(), Some(size));
    }
}
